package voyage

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/gauge"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/waits"
)

// maxStreams is how many crossings one process follows at once.
const maxStreams = 32

// follow takes up streams nobody holds and applies their changes.
func (v *Voyage) follow(ctx context.Context) {
	var running sync.WaitGroup
	slots := make(chan struct{}, maxStreams)
	waits.Every(ctx, 400*time.Millisecond, func() {
		select {
		case slots <- struct{}{}:
		default:
			return
		}
		st, err := v.Store.ClaimStream(ctx, v.Worker, v.Labels)
		if err != nil || st == nil {
			if err != nil && ctx.Err() == nil {
				v.Log.Warn("streams cannot be claimed", "error", err)
			}
			<-slots
			return
		}
		running.Go(func() {
			defer func() { <-slots }()
			v.runStream(ctx, st)
		})
	})
	running.Wait()
}

// runStream follows one crossing until it is taken over, told to stop, or fails.
func (v *Voyage) runStream(ctx context.Context, st *records.Stream) {
	c, err := v.Store.CrossingByID(ctx, st.CrossingID)
	if err != nil {
		return
	}
	run, cancel := context.WithCancelCause(ctx)
	f := &follower{v: v, c: &c, epoch: st.Epoch, counts: map[int64]follow.Counts{}, told: map[string]bool{}}
	f.applied, f.received, f.committed = domain.Position(st.Applied), domain.Position(st.Received), st.Committed
	var side sync.WaitGroup
	side.Go(func() {
		if err := domain.Guarded("reporting how far capture is", func() error {
			f.reportLoop(run, cancel)
			return nil
		}); err != nil {
			cancel(err)
		}
	})
	err = domain.Guarded("applying changes", func() error { return f.run(run, cancel) })
	v.logFault(err)
	if cause := context.Cause(run); cause != nil {
		err = cause
	}
	cancel(nil)
	side.Wait()
	end, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer done()
	over := false // the crossing needs no capture any more
	if now, err := v.Store.CrossingByID(end, c.ID); err == nil {
		over = now.Phase == domain.PhaseCutOver || now.Phase == domain.PhaseClosed
	}
	switch {
	case over, ctx.Err() != nil, errors.Is(err, domain.ErrTakenOver), errors.Is(err, errToldToStop),
		errors.Is(err, errAnew):
		_, _ = v.Store.DropStream(end, c.ID, st.Epoch, 0, "", "")
	case domain.IsKind(err, domain.ProblemConflict):
		v.holdStream(end, &c, st, err, "capture is held: "+err.Error())
	case engine.Lasting(err) && st.Failures >= 3:
		v.holdStream(end, &c, st, err, fmt.Sprintf("capture is held, as the target refuses a change again and again: %s. "+
			"Correct the row or the table there and resume, or restart the table", err))
	default:
		wait := waits.BackOff(st.Failures)
		if mine, _ := v.Store.DropStream(end, c.ID, st.Epoch, wait, err.Error(), ""); mine {
			v.Say(end, "warning", System, c.Name, "capture", "capture", "capture stopped and goes on in %s: %s",
				wait.Round(time.Second), err)
		}
	}
}

// holdStream gives a stream back, whose crossing waits for a person. Who was replaced
// meanwhile, as by a restart, has nothing to say any more.
func (v *Voyage) holdStream(ctx context.Context, c *domain.Crossing, st *records.Stream, cause error, reason string) {
	mine, err := v.Store.DropStream(ctx, c.ID, st.Epoch, 0, cause.Error(), reason)
	if err != nil {
		v.Log.Error("capture could not be held", "crossing", c.Name, "error", err)
		return
	}
	if mine {
		v.Held(ctx, c, "capture", reason)
	}
}

var (
	errToldToStop = errors.New("capture was told to stop")
	errAnew       = errors.New("capture begins anew, as its tables have changed")
)

// follower is one stream at work.
type follower struct {
	v       *Voyage
	c       *domain.Crossing
	epoch   int64
	src     *engine.Opened
	dst     *engine.Opened
	apply   engine.Applier
	begun   bool // a transaction of the applier is open
	cap     engine.Capture
	machine *follow.Machine
	tables  map[int64]*side
	order   []int64
	aim     struct { // what the machine was aimed at last
		request domain.Request
		stop    *stopping
	}

	taken atomic.Int64 // transactions taken from the stream and not applied yet

	mu        sync.Mutex // guards what reportLoop reads
	applied   domain.Position
	received  domain.Position
	committed int64
	lags      gauge.Lags // from the source's commit to the target's
	asked     time.Time  // since when the source owes us an answer; zero: it does not
	since     time.Time  // when the stream began to run
	behind    int64      // bytes of log that are not applied, as last asked
	unread    int64      // of them, those that are not even read
	seen      int64      // transactions applied since the stream began, and the log they took
	seenBytes int64
	changes   int64                   // applied since the last report
	total     int64                   // since it follows
	counts    map[int64]follow.Counts // since the last report, by table
	beats     []beat                  // heartbeats sent and not applied yet
	clock     time.Duration           // the source's time minus ours
	sourceAt  domain.Position         // where the source's log stood at the last heartbeat
	read      int64                   // bytes of changes since the last report
	written   int64
	note      string             // what the applier waits for
	beside    sync.WaitGroup     // what runs as long as the stream
	applieds  []domain.AppliedTx // newest first; nil when none since the last report

	recent       recent
	stop         atomic.Pointer[stopping]
	told         map[string]bool // new tables that the journal has been told of
	plans        []domain.TablePlan
	schemaChange *planning.SchemaChange // what a change of columns that the machine asked about comes to
}

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
		r := records.Report{Received: f.received, Applied: f.applied, Committed: f.committed, LagSeconds: f.lagNow(),
			Changes:  f.changes,
			SourceAt: f.sourceAt, Read: f.read, Written: f.written, Recent: f.applieds, Note: f.note, Following: f.src != nil}
		if _, p50, p99, known := f.lags.Of(f.sourceTime()); known {
			r.LagP50, r.LagP99 = sql.NullFloat64{Float64: p50, Valid: true}, sql.NullFloat64{Float64: p99, Valid: true}
		}
		newest := f.applied
		if len(f.beats) > 0 {
			newest = f.beats[len(f.beats)-1].at
		}
		if f.cap != nil {
			r.LagTransactions = f.cap.Waiting() + f.taken.Load()
			r.Guessed = f.applied < newest && f.received < newest // some are not even read
		}
		if newest > f.applied {
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
		ok, err := f.v.Store.RenewStream(ctx, f.c.ID, f.epoch, r)
		if err != nil {
			return // the control database is away; the lease decides
		}
		if !ok {
			cancel(f.whyNot(ctx))
			return
		}
		if following {
			_ = f.v.Store.MarkLag(ctx, f.c.ID, r.LagSeconds <= f.c.Settings.InStepLag.Seconds())
		}
		for id, k := range counts {
			_ = f.v.Store.CountChanges(ctx, id, k[0], k[1], k[2], k[3])
		}
	})
}

func (f *follower) whyNot(ctx context.Context) error {
	st, err := f.v.Store.Stream(ctx, f.c.ID)
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
	for len(f.beats) > 0 && f.beats[0].at <= at {
		f.lags.Add(f.sourceTime(), time.Since(f.beats[0].sent).Seconds())
		f.beats = f.beats[1:]
	}
}

func (f *follower) counted() int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.total
}

func (f *follower) run(ctx context.Context, cut context.CancelCauseFunc) error {
	v := f.v
	src, dst, err := v.OpenPair(ctx, f.c)
	if err != nil {
		return err
	}
	f.dst = dst
	if err := v.SameSource(ctx, f.c, src); err != nil {
		return err
	}
	at, err := dst.TakeStream(ctx, f.c.UID, f.epoch, domain.Position(f.c.StartAt))
	if err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, f.c.ID)
	if err != nil {
		return err
	}
	if err := f.durable(ctx); err != nil {
		return err
	}
	f.plans = planning.PlansOf(tables)
	defer f.beside.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	origin, err := src.Origin(ctx)
	if err != nil {
		return err
	}
	applier, err := dst.OpenApplier(ctx, f.c.UID, origin, f.epoch)
	if err != nil {
		return err
	}
	watch := &watched{Applier: applier}
	f.apply = watch
	defer f.apply.Close()
	defer f.apply.Abort()
	if now, err := src.Clock(ctx); err == nil {
		f.mu.Lock()
		f.clock = time.Until(now)
		f.mu.Unlock()
	}
	var list []engine.CaptureTable
	var followed []follow.Table
	f.tables = map[int64]*side{}
	for i := range tables {
		t := &tables[i]
		f.tellCuts(ctx, t)
		list = append(list, engine.CaptureTable{ID: t.ID, Plan: &t.Plan})
		followed = append(followed, follow.Table{ID: t.ID, Plan: &t.Plan})
		f.tables[t.ID] = &side{row: t, there: t.Plan.TargetPlan()}
		f.order = append(f.order, t.ID)
	}
	f.machine = follow.New(followed, follow.Options{Applied: at, AppliedAt: f.committed,
		Copies: f.c.Kind != domain.KindCapture, BatchChanges: f.c.Settings.BatchChanges})
	defer f.machine.Close()
	except, err := dst.Origin(ctx)
	if err != nil {
		return err
	}
	capture, err := src.OpenCapture(ctx, f.c.CaptureName(), at, list, except)
	if err != nil {
		return err
	}
	defer capture.Close()
	f.mu.Lock()
	f.applied = at
	f.src, f.cap, f.since = src, capture, time.Now()
	f.mu.Unlock()
	v.Say(ctx, "info", System, f.c.Name, "capture", "capture", "capture runs on %s from log position %s", v.Worker,
		v.Position(ctx, f.c.Source, at))
	f.beside.Go(func() { f.mindApplier(ctx, watch, cut) })
	f.mindStop(ctx)
	return f.drive(ctx)
}
