// Package following follows the changes of a source and applies them to its target. What is to be
// done, and in which order, the machine of core/follow decides; here its questions are put to the
// source, the target and the records, and what it wants done is done. One process follows a
// crossing at a time, under an epoch that the target knows: who was replaced can commit nothing.
package following

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/gauge"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/stuck"
	"dustyferry/internal/voyage/waits"
)

// maxStreams is how many crossings one process follows at once.
const maxStreams = 32

// Streams are who follows which crossing, under leases.
type Streams interface {
	// ClaimStream takes up a stream that nobody holds, or returns nil.
	ClaimStream(ctx context.Context, worker string, labels []string) (*domain.StreamClaim, error)
	// RenewStream prolongs the lease and keeps the report.
	RenewStream(ctx context.Context, crossing, epoch int64, r domain.StreamReport) (domain.StreamWord, error)
	// DropStream gives the lease back; false: somebody else holds it by now.
	DropStream(ctx context.Context, crossing, epoch int64, wait time.Duration, cause, hold string) (bool, error)
	// Stand is where the applier stands, or nil where nobody follows.
	Stand(ctx context.Context, crossing int64) (*domain.Stand, error)
	Requested(ctx context.Context, crossing, epoch int64) (domain.Request, error)
	// Listen tells of crossings whose appliers are asked for something, until the connection ends;
	// first of crossing 0, which is none.
	Listen(ctx context.Context, heard func(crossing int64)) error
	Respond(ctx context.Context, crossing, epoch int64, was, now domain.Request, changes int64) error
	// MarkLag keeps since when the lag has been below the crossing's threshold.
	MarkLag(ctx context.Context, crossing int64, below bool) error
	// Notice keeps what was seen of the source's tables.
	Notice(ctx context.Context, crossing int64, list []domain.Entry) error
}

// Records are what is kept of a crossing, its tables and their chunks.
type Records interface {
	Streams
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	Database(ctx context.Context, name string) (domain.Database, error)
	SetCondition(ctx context.Context, id int64, from []domain.Condition, to domain.Condition, reason string,
		keepCapture bool) (bool, error)
	SaveUndo(ctx context.Context, id int64, undo []string) error
	// View is how far the load is.
	View(ctx context.Context, crossing int64) (lifecycle.View, error)
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	ResetTable(ctx context.Context, table int64) error
	// SetUnswept keeps whether there may be rows on the target that were removed.
	SetUnswept(ctx context.Context, crossing, epoch int64, yes bool) error
	// SetTouchedFrom keeps from which place on it is known which rows were touched, unless it is
	// known from an earlier one; zero: it is not.
	SetTouchedFrom(ctx context.Context, crossing, epoch int64, at domain.Position) error
	CountChanges(ctx context.Context, table, ins, upd, del, trunc int64) error
	NoteColumnChange(ctx context.Context, table int64, at domain.Position) error
	// Amend replaces a table's plan; again: tables that are loaded again with that.
	Amend(ctx context.Context, crossing, epoch, table int64, p domain.TablePlan, again []int64) error
	Chunks(ctx context.Context, table int64) ([]domain.Chunk, error)
	ChunkStates(ctx context.Context, table int64, only []int) ([]domain.Chunk, error)
	LandedChunks(ctx context.Context, crossing int64) ([]domain.LandedChunk, error)
}

// Databases opens registered databases.
type Databases interface {
	stuck.Databases
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	// SameSource is an error when another server answers at the source's address than the one
	// that the crossing began with.
	SameSource(ctx context.Context, c *domain.Crossing, source *engine.Opened) error
	Catalog(ctx context.Context, database string, fresh bool) (*domain.Catalog, error)
	Driver(name string) (engine.Driver, error)
	// Position writes a place of a database's log in its own way.
	Position(ctx context.Context, database string, p domain.Position) string
}

// Journal records what happens, and tells of it.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	// Held tells that a crossing is held, which the records know already.
	Held(ctx context.Context, c *domain.Crossing, subject, reason string)
	Notify(ctx context.Context, c *domain.Crossing, event, message string)
}

// Planner plans changes of columns.
type Planner interface {
	PlanSchemaChange(ctx context.Context, c *domain.Crossing, src, dst *engine.Opened, all []domain.TablePlan,
		was *domain.TablePlan, ch *domain.Change, at domain.Position) (*planning.SchemaChange, error)
}

// Config says how this process follows.
type Config struct {
	Worker     string   // this process's name
	Labels     []string // what it is good for
	StuckAfter time.Duration
	Renew      time.Duration    // how often an applier is asked for signs of life
	Fault      func(error) bool // told of faults
	Log        *slog.Logger
	// Prove has what a look at the tables found shown in the readiness list.
	Prove func(ctx context.Context, c *domain.Crossing, cat *domain.Catalog, tables []domain.CrossingTable)
	// Add begins to add a table to a crossing.
	Add func(ctx context.Context, c *domain.Crossing, table, actor string) error
}

// Following is this process's part in following.
type Following struct {
	records   Records
	databases Databases
	planner   Planner
	journal   Journal
	asker     stuck.Asker
	set       Config

	mu    sync.Mutex
	heard map[int64]chan struct{} // by crossing that is followed here: it is asked for something

	listens atomic.Bool // what is asked for is heard
}

// New returns the following of this process.
func New(r Records, d Databases, p Planner, j Journal, set Config) *Following {
	return &Following{records: r, databases: d, planner: p, journal: j, set: set, heard: map[int64]chan struct{}{},
		asker: stuck.Asker{Databases: d, Limit: set.StuckAfter}}
}

// Run takes up streams nobody holds and applies their changes, until the context ends.
func (v *Following) Run(ctx context.Context) {
	var running sync.WaitGroup
	running.Go(func() { v.listen(ctx) })
	slots := make(chan struct{}, maxStreams)
	waits.Every(ctx, 400*time.Millisecond, func() {
		select {
		case slots <- struct{}{}:
		default:
			return
		}
		st, err := v.records.ClaimStream(ctx, v.set.Worker, v.set.Labels)
		if err != nil || st == nil {
			if err != nil && ctx.Err() == nil {
				v.set.Log.Warn("streams cannot be claimed", "error", err)
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
func (v *Following) runStream(ctx context.Context, st *domain.StreamClaim) {
	c, err := v.records.CrossingByID(ctx, st.CrossingID)
	if err != nil {
		return
	}
	run, cancel := context.WithCancelCause(ctx)
	f := &follower{of: v, c: &c, epoch: st.Epoch, counts: map[int64]follow.Counts{}, told: map[string]bool{}}
	f.applied, f.received, f.committed = st.Applied, st.Received, st.Committed
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
	v.set.Fault(err)
	if cause := context.Cause(run); cause != nil {
		err = cause
	}
	cancel(nil)
	side.Wait()
	end, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer done()
	over := false // the crossing needs no capture any more
	if now, err := v.records.CrossingByID(end, c.ID); err == nil {
		over = now.Phase == domain.PhaseCutOver || now.Phase == domain.PhaseClosed
	}
	switch {
	case over, ctx.Err() != nil, errors.Is(err, domain.ErrTakenOver), errors.Is(err, errToldToStop),
		errors.Is(err, errAnew):
		_, _ = v.records.DropStream(end, c.ID, st.Epoch, 0, "", "")
	case domain.IsKind(err, domain.ProblemConflict):
		v.holdStream(end, &c, st, err, "capture is held: "+err.Error())
	case engine.Lasting(err) && st.Failures >= 3:
		v.holdStream(end, &c, st, err, fmt.Sprintf("capture is held, as the target refuses a change again and again: %s. "+
			"Correct the row or the table there and resume, or restart the table", err))
	default:
		wait := waits.BackOff(st.Failures)
		if mine, _ := v.records.DropStream(end, c.ID, st.Epoch, wait, err.Error(), ""); mine {
			v.journal.Recordf(end, "warning", journal.System, c.Name, "capture", "capture",
				"capture stopped and goes on in %s: %s",
				wait.Round(time.Second), err)
		}
	}
}

// holdStream gives a stream back, whose crossing waits for a person. Who was replaced
// meanwhile, as by a restart, has nothing to say any more.
func (v *Following) holdStream(ctx context.Context, c *domain.Crossing, st *domain.StreamClaim, cause error,
	reason string) {
	mine, err := v.records.DropStream(ctx, c.ID, st.Epoch, 0, cause.Error(), reason)
	if err != nil {
		v.set.Log.Error("capture could not be held", "crossing", c.Name, "error", err)
		return
	}
	if mine {
		v.journal.Held(ctx, c, "capture", reason)
	}
}

// listen hears at once what appliers are asked for; they ask by themselves now and then, so that
// nothing is missed while no connection listens.
func (v *Following) listen(ctx context.Context) {
	for told := false; ctx.Err() == nil; {
		err := domain.Guarded("listening for requests", func() error {
			return v.records.Listen(ctx, func(crossing int64) {
				v.listens.Store(true)
				v.mu.Lock()
				defer v.mu.Unlock()
				select {
				case v.heard[crossing] <- struct{}{}:
				default: // not followed here, or told already
				}
			})
		})
		if v.listens.Swap(false) {
			told = false
		}
		if err != nil && ctx.Err() == nil && !told { // not every second, while the control database is away
			told = true
			v.set.Log.Warn("requests to appliers are not heard at once", "error", err)
		}
		waits.Sleep(ctx, time.Second)
	}
}

// hears says where it is told that a crossing's applier is asked for something; deaf ends that.
func (v *Following) hears(crossing int64) (heard <-chan struct{}, deaf func()) {
	c := make(chan struct{}, 1)
	v.mu.Lock()
	defer v.mu.Unlock()
	v.heard[crossing] = c
	return c, func() {
		v.mu.Lock()
		defer v.mu.Unlock()
		if v.heard[crossing] == c {
			delete(v.heard, crossing)
		}
	}
}

var (
	errToldToStop = errors.New("capture was told to stop")
	errAnew       = errors.New("capture begins anew, as its tables have changed")
)

// follower is one stream at work.
type follower struct {
	of      *Following
	c       *domain.Crossing
	epoch   int64
	src     *engine.Opened
	dst     *engine.Opened
	apply   *watched
	begun   bool    // a transaction of the applier is open
	noted   []*side // tables that the open transaction touches
	vouches bool    // what transactions touch is kept with them
	early   bool    // some of what the open one touches was kept before its place was known
	cap     engine.Capture
	machine *follow.Machine
	tables  map[int64]*side
	order   []int64
	aim     struct { // what the machine was aimed at last
		request domain.Request
		stop    *stopping
		asked   time.Time // when the records were asked for it
	}
	heard <-chan struct{} // something is asked of it
	poked bool            // it was heard, and the records are not asked yet

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

func (f *follower) run(ctx context.Context, cut context.CancelCauseFunc) error {
	src, dst, err := f.of.databases.OpenPair(ctx, f.c)
	if err != nil {
		return err
	}
	f.dst = dst
	if err := f.of.databases.SameSource(ctx, f.c, src); err != nil {
		return err
	}
	at, err := dst.TakeStream(ctx, f.c.UID, f.epoch, f.c.StartAt)
	if err != nil {
		return err
	}
	tables, err := f.of.records.Tables(ctx, f.c.ID)
	if err != nil {
		return err
	}
	if err := f.durable(ctx); err != nil {
		return err
	}
	f.plans = planning.PlansOf(tables)
	f.guardNew(ctx)
	heard, deaf := f.of.hears(f.c.ID)
	f.heard = heard
	defer deaf()
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
		f.tables[t.ID] = newSide(t)
		f.order = append(f.order, t.ID)
	}
	if err := f.keepsTouched(ctx, at); err != nil {
		return err
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
	f.of.journal.Recordf(ctx, "info", journal.System, f.c.Name, "capture", "capture",
		"capture runs on %s from log position %s", f.of.set.Worker, f.of.databases.Position(ctx, f.c.Source, at))
	f.beside.Go(func() { f.mindApplier(ctx, watch, cut) })
	f.mindStop(ctx)
	return f.drive(ctx)
}
