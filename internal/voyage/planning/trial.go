package planning

import (
	"context"
	"errors"
	"fmt"
	"math/bits"
	"sync"
	"sync/atomic"
	"time"

	"dustyferry/internal/core/share"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// How long each step of a trial reads, and of which size a table is worth one.
const (
	trialStep  = 400 * time.Millisecond
	trialTable = 8 << 20
)

var errEnough = errors.New("enough was read")

// read is what one step of a trial gave.
type read struct {
	lanes int
	rate  float64 // bytes/s of all
}

// trial reads the largest table with one reader, then two and four, for a moment
// each, and throws away what it reads. It shows what the source can give, not what
// the target can take, as it must not write there.
func trial(ctx context.Context, src *engine.Opened, p *domain.TablePlan,
	most int) (steps []read, log float64, err error) {
	began := time.Now()
	first, err := position(ctx, src)
	if err != nil {
		return nil, 0, err
	}
	for lanes := 1; lanes <= max(most, 1) && lanes <= 4; lanes *= 2 {
		var n atomic.Int64
		var wg sync.WaitGroup
		errs := make([]error, lanes)
		step, cancel := context.WithTimeout(ctx, 20*time.Second)
		var from time.Time
		ready := make(chan struct{})
		var open sync.WaitGroup
		open.Add(lanes)
		for i := range lanes {
			wg.Go(func() {
				defer domain.Recover("reading for a moment", &errs[i])
				r, err := src.OpenReader(step)
				if err == nil {
					defer r.Close()
					_, err = r.Begin(step)
				}
				open.Done()
				if errs[i] = err; err != nil {
					return
				}
				<-ready
				_, err = r.Copy(step, p, &domain.Chunk{}, r.SupportsBinary(p), func(block []byte) error {
					n.Add(int64(len(block)))
					if time.Since(from) > trialStep {
						return errEnough
					}
					return nil
				})
				if !errors.Is(err, errEnough) {
					errs[i] = err
				}
			})
		}
		open.Wait()
		from = time.Now()
		close(ready)
		wg.Wait()
		took := time.Since(from)
		cancel()
		if err := errors.Join(errs...); err != nil {
			return nil, 0, err
		}
		steps = append(steps, read{lanes, float64(n.Load()) / took.Seconds()})
	}
	took := time.Since(began).Seconds()
	last, err := position(ctx, src)
	if err != nil || src.Captures == nil {
		return steps, 0, err
	}
	written, err := src.LogBytes(ctx, first, last)
	return steps, float64(written) / took, err
}

// position is where the source's log stands.
func position(ctx context.Context, src *engine.Opened) (domain.Position, error) {
	r, err := src.OpenReader(ctx)
	if err != nil {
		return domain.Position{}, err
	}
	defer r.Close()
	s, err := r.Begin(ctx)
	if err == nil {
		err = r.End(ctx)
	}
	return s.Log, err
}

// trialEntries say how long the load will take about, and with what.
func trialEntries(ctx context.Context, c *domain.Crossing, s *Surveyed) []domain.Entry {
	var bytes int64
	largest := &s.Plans[0]
	for i := range s.Plans {
		p := &s.Plans[i]
		bytes += p.Table.Bytes
		if p.Table.Bytes > largest.Table.Bytes {
			largest = p
		}
	}
	if largest.Table.Bytes < trialTable || c.Settings.SpeedLimit > 0 { // whoever sets a limit wants no more read at once
		return []domain.Entry{sizeEntry(s.Plans, c.Settings)}
	}
	steps, log, err := trial(ctx, s.Source, largest, c.Settings.Lanes*2)
	if err != nil {
		return []domain.Entry{sizeEntry(s.Plans, c.Settings), {Verdict: domain.Notice, Topic: topicTrial, Subject: "source",
			Measured: "a trial of reading did not come to its end: " + err.Error()}}
	}
	set := c.Settings
	// More readers are worth it while each gives a good part of what one gave.
	best := steps[0]
	for _, x := range steps[1:] {
		if x.rate > best.rate*1.25 {
			best = x
		}
	}
	with := steps[0]
	for _, x := range steps {
		if x.lanes <= set.Lanes {
			with = x
		}
	}
	took := max(time.Duration(float64(bytes)/with.rate*1e9).Round(time.Second), time.Second)
	var tried string
	for i, x := range steps {
		if i > 0 {
			tried += ", "
		}
		tried += fmt.Sprintf("%.0f MB/s with %d", x.rate/1e6, x.lanes)
	}
	out := []domain.Entry{sizes(s.Plans, fmt.Sprintf("a trial read of %s gave %s; with %s the load takes at least about "+
		"%s, longer if the target is slower than the source", largest.Source, tried, domain.Many(int64(set.Lanes), "lane"),
		took))}
	chunk := int64(1) << (bits.Len64(uint64(best.rate/float64(best.lanes)*share.ReadTime.Seconds())) - 1)
	// Several are carried in one read, so that it takes about that long: a chunk must only
	// not take longer by itself, and the largest table makes some for each lane.
	chunk = max(min(chunk, largest.Table.Bytes/int64(8*best.lanes), domain.DefaultSettings().ChunkBytes), 1<<20)
	why := "more readers gave no more"
	if best.lanes == steps[len(steps)-1].lanes {
		why = fmt.Sprintf("of up to %d readers that many gave most", best.lanes)
	}
	e := domain.Entry{Verdict: domain.OK, Topic: topicTrial, Subject: "source",
		Measured: fmt.Sprintf("%s and chunks of about %d MB suit it: %s; so many chunks are read at once that it "+
			"takes about %s", domain.Many(int64(best.lanes), "lane"), chunk>>20, why, share.ReadTime)}
	if best.lanes != set.Lanes || chunk < set.ChunkBytes/2 {
		e.Remedy = fmt.Sprintf("dustyferry crossing set %s --lanes %d --chunk-size %dMB", c.Name, best.lanes, chunk>>20)
	}
	out = append(out, e)
	if log > 0 {
		out = append(out, domain.Entry{Verdict: domain.OK, Topic: topicTrial, Subject: "source",
			Measured: fmt.Sprintf("its log grew by %.1f MB/h meanwhile; during the load that is about %.1f MB", log*3600/1e6,
				log*took.Seconds()/1e6)})
	}
	return out
}

// lastTrial repeats what an earlier survey measured of the load.
func (pl *Planning) lastTrial(ctx context.Context, c *domain.Crossing, s *Surveyed,
	out []domain.Entry) ([]domain.Entry, error) {
	if c.ReturnOf != nil {
		return out, nil // it carries no rows
	}
	kept, err := pl.records.SurveyOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	n := len(out)
	for _, e := range kept {
		if e.Topic == topicSize || e.Topic == topicTrial {
			out = append(out, e)
		}
	}
	if len(out) == n {
		out = append(out, sizeEntry(s.Plans, c.Settings))
	}
	return out, nil
}

// The topics of what a trial measures.
const (
	topicSize  = "size"
	topicTrial = "trial"
)

// clockEntry compares the two servers' clocks.
func clockEntry(ctx context.Context, s *Surveyed) ([]domain.Entry, error) {
	const alike = time.Second
	if s.Source.Tells == nil || s.Target.Tells == nil {
		return nil, nil
	}
	a, err := s.Source.Clock(ctx)
	if err != nil {
		return nil, err
	}
	b, err := s.Target.Clock(ctx)
	if err != nil {
		return nil, err
	}
	d := b.Sub(a).Abs().Round(time.Millisecond)
	e := domain.Entry{Verdict: domain.OK, Topic: "clocks", Subject: "both sides",
		Measured: fmt.Sprintf("they differ by %s", max(d, time.Millisecond))}
	if d > alike {
		e.Verdict, e.Remedy = domain.Notice, "set both machines' clocks by one time server"
		e.Measured += "; lag is told by the source's clock, and what the application writes after cutover carries " +
			"the target's"
	}
	return []domain.Entry{e}, nil
}
