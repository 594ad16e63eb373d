package following

import (
	"context"
	"sync"
	"time"

	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/gauge"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/waits"
)

// How far a stream is, as its holder reports once a second.

type beat struct {
	at   domain.Position
	sent time.Time
}

// reportLoop renews the lease and reports, once a second, by what is known at that moment. What
// has to be asked of the source is asked beside it: a source that is slow to answer must not
// cost a healthy stream its lease.
func (f *follower) reportLoop(ctx context.Context, cancel context.CancelCauseFunc) {
	var beside sync.WaitGroup
	defer beside.Wait()
	beside.Go(func() {
		if err := domain.Guarded("looking at the source", func() error {
			f.watchSource(ctx, cancel)
			return nil
		}); err != nil {
			cancel(err)
		}
	})
	var trend gauge.Trend
	waits.Every(ctx, time.Second, func() {
		f.mu.Lock()
		r := domain.StreamReport{Received: f.received, Applied: f.applied, Committed: f.committed, LagSeconds: f.lagNow(),
			Changes:  f.changes,
			SourceAt: f.sourceAt, Read: f.read, Written: f.written, Recent: f.applieds, Note: f.note, Following: f.src != nil}
		if _, p50, p99, known := f.lags.Of(f.sourceTime()); known {
			r.LagP50, r.LagP99 = &p50, &p99
		}
		newest := f.applied
		if len(f.beats) > 0 {
			newest = f.beats[len(f.beats)-1].at
		}
		if f.cap != nil {
			r.LagTransactions = f.cap.Waiting() + f.taken.Load()
			r.Guessed = f.applied.Before(newest) && f.received.Before(newest) // some are not even read
		}
		if newest.After(f.applied) {
			r.LagBytes = f.behind
		}
		unread := f.unread
		following := f.src != nil
		counts := f.counts
		f.changes, f.counts = 0, map[int64]follow.Counts{}
		f.read, f.written, f.applieds = 0, 0, nil
		f.mu.Unlock()
		if r.Guessed {
			r.LagTransactions += f.guess(unread)
		}
		trend.Add(time.Now(), float64(r.LagBytes))
		r.CatchUp = trend.Zero()
		word, err := f.of.records.RenewStream(ctx, f.c.ID, f.epoch, r)
		if err != nil { // the control database is away; the lease decides
			f.putBack(r, counts)
			return
		}
		if !word.Mine {
			cancel(f.whyNot(ctx))
			return
		}
		if below := r.LagSeconds <= f.c.Settings.InStepLag.Seconds(); following && below != word.Below {
			_ = f.of.records.MarkLag(ctx, f.c.ID, below)
		}
		if following && (word.StopAt != "" || f.stop.Load() != nil) {
			f.mindStop(ctx)
		}
		for id, k := range counts {
			if err := f.of.records.CountChanges(ctx, id, k[0], k[1], k[2], k[3]); err != nil {
				f.putBack(domain.StreamReport{}, map[int64]follow.Counts{id: k})
			}
		}
	})
}

// putBack has the next report say what could not be kept of one.
func (f *follower) putBack(r domain.StreamReport, counts map[int64]follow.Counts) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.changes, f.read, f.written = f.changes+r.Changes, f.read+r.Read, f.written+r.Written
	if f.applieds == nil {
		f.applieds = r.Recent
	}
	for id, k := range counts {
		sum := f.counts[id]
		for kind, n := range k {
			sum[kind] += n
		}
		f.counts[id] = sum
	}
}

func (f *follower) whyNot(ctx context.Context) error {
	st, err := f.of.records.Stand(ctx, f.c.ID)
	if err != nil || st == nil || st.Epoch != f.epoch {
		return domain.ErrTakenOver
	}
	return errToldToStop
}

// sourceTime is what the source's clock says now. The caller holds mu.
func (f *follower) sourceTime() time.Time { return time.Now().Add(f.clock) }

// lagNow is how far the target is behind: what the newest transaction took from the source's
// commit to the target's, or for how long one waits that takes longer. The caller holds mu.
func (f *follower) lagNow() float64 {
	lag, _, _, known := f.lags.Of(f.sourceTime())
	if !known && !f.since.IsZero() {
		lag = time.Since(f.since).Seconds() // nothing was measured yet: not more than this is known
	}
	if len(f.beats) > 0 {
		lag = max(lag, time.Since(f.beats[0].sent).Seconds())
	}
	if !f.asked.IsZero() { // what it has committed since then is not known either
		lag = max(lag, time.Since(f.asked).Seconds())
	}
	return lag
}

// past takes the heartbeats that are over: everything before the position was
// delivered, and applied. The caller holds mu.
func (f *follower) past(at domain.Position) {
	for len(f.beats) > 0 && !f.beats[0].at.After(at) {
		f.lags.Add(f.sourceTime(), time.Since(f.beats[0].sent).Seconds())
		f.beats = f.beats[1:]
	}
}

func (f *follower) counted() int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.total
}

// guess is about how many transactions so many bytes of log are.
func (f *follower) guess(unread int64) int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.seen == 0 || f.seenBytes == 0 {
		return 0
	}
	return int64(float64(unread) / (float64(f.seenBytes) / float64(f.seen)))
}

// reached keeps what is durable on the target now.
func (f *follower) reached(a *follow.Commit) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if a.Last.At > f.committed && a.Txs > 0 {
		f.lags.Add(f.sourceTime(), f.sourceTime().Sub(time.UnixMicro(a.Last.At)).Seconds())
	}
	f.applied = f.applied.Later(a.Last.End)
	f.committed = max(f.committed, a.Last.At)
	f.received = f.received.Later(f.cap.Received())
	f.past(f.applied)
	f.cap.Confirm(f.applied)
	f.read, f.written = f.read+a.Bytes, f.written+a.Bytes
	f.seen, f.seenBytes = f.seen+a.Txs, f.seenBytes+a.Bytes
	f.taken.Store(0)
	for id, k := range a.Counts {
		sum := f.counts[id]
		for kind, n := range k {
			sum[kind] += n
			f.changes += n
			f.total += n
		}
		f.counts[id] = sum
	}
	if list := f.recent.take(f.nameOf); list != nil {
		f.applieds = list
	}
}

// passed notes that everything before the position was delivered, and applied, where the
// log concerns other databases or tables only. The source is not told: it is once the
// target's own position has moved there, which it does every second, so that what was
// confirmed is never beyond what a target knows that was set back.
func (f *follower) passed(at domain.Position) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.received = f.received.Later(at)
	f.past(at)
}
