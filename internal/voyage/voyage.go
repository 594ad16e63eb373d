// Package voyage does the work of a crossing: survey, prepare, load, capture,
// reconcile, cut over and close. It wires the pure computations of core, the
// engines and the records together; it knows neither HTTP nor terminals.
//
// Nothing needed after a crash lives only in memory: every loop here can die at
// any instruction and another process goes on from the records and from what
// stands on the target.
package voyage

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/queue"
	"dustyferry/internal/records"
	"dustyferry/internal/secret"
	"dustyferry/internal/voyage/build"
	"dustyferry/internal/voyage/closing"
	"dustyferry/internal/voyage/compare"
	"dustyferry/internal/voyage/cutover"
	"dustyferry/internal/voyage/databases"
	"dustyferry/internal/voyage/drafts"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/load"
	"dustyferry/internal/voyage/notify"
	"dustyferry/internal/voyage/phases"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/readiness"
	"dustyferry/internal/voyage/refresh"
	"dustyferry/internal/voyage/tasks"
	"dustyferry/internal/voyage/waits"
)

// System is the actor the journal names for what the service does by itself.
const System = journal.System

// Voyage is this process's part of the work.
type Voyage struct {
	*journal.Journal
	*databases.Databases
	*notify.Notifier
	*tasks.Runner
	*drafts.Drafts

	Comparer  *compare.Comparer
	Loader    *load.Loader
	Phases    *phases.Phases
	Builder   *build.Builder
	Planning  *planning.Planning
	Readiness *readiness.Readiness
	Cutovers  *cutover.Cutovers
	Closings  *closing.Closings
	Refreshes *refresh.Refreshes

	Store  *records.Store
	Queue  *queue.Queue
	Box    *secret.Box
	Log    *slog.Logger
	Worker string // this process's name
	Labels []string
	Lanes  int // chunks this process carries at once
	// StuckAfter is for how long nothing may move before it is asked what is waited for.
	StuckAfter time.Duration
	// Outdated is told when a newer program has changed the records.
	Outdated chan error
	Version  string

	mu       sync.Mutex
	loops    sync.WaitGroup
	stop     context.CancelFunc
	clearing map[int64]bool
	probes   map[string]*probe // by database
}

// New returns a voyage that keeps what it does in the store.
func New(v *Voyage, drivers []engine.Driver) *Voyage {
	v.Journal = journal.New(v.Store, v.Log)
	v.Databases = databases.New(v.Store, v.Box, v.Journal, drivers, records.NewUID)
	v.Notifier = notify.New(v.Store, v.Box, v.Journal, v.logFault)
	v.Comparer = compare.New(v.Store, v.Databases, v.Journal, v, records.NewUID)
	v.Planning = planning.New(v.Store, v.Databases, v.Journal, v.Box.Derive)
	v.Builder = build.New(v.Store, v.Databases, v.Journal, func(dst *engine.Opened, cat *domain.Catalog,
		tables []domain.CrossingTable) []domain.TargetObject {
		return planning.Deferred(dst, cat, planning.PlansOf(tables))
	})
	v.Readiness = readiness.New(v.Store, v.Databases, v.Comparer, v.Journal)
	v.Cutovers = cutover.New(v.Store, v.Databases, v.Readiness, v.Comparer, v.Builder, v.Journal, v.beginCutover)
	v.Phases = phases.New(v.Store, v.Journal, func(ctx context.Context, c *domain.Crossing) error {
		_, err := v.AddTask(ctx, c, TaskBuild, struct{}{}, System)
		return err
	})
	v.Loader = load.New(v.Store, v.Databases, v.Journal, v.Log, load.Config{Worker: v.Worker, Labels: v.Labels,
		Lanes: v.Lanes, StuckAfter: v.StuckAfter, Renew: records.Renew, NoneLeft: v.Phases.MoveNow, Fault: v.logFault})
	v.Drafts = drafts.New(v.Store, v.Databases, v.Journal, v.CheckCaptureSettings)
	v.Runner = tasks.New(v.Store, v.Journal, v.Queue, v.works(), tasks.Config{Worker: v.Worker, Renew: records.Renew,
		Lease: records.Lease, Fault: v.logFault, Mind: v.mindTask})
	v.Refreshes = refresh.New(v.Store, v.Databases, v.Journal, v.restartTable)
	v.Closings = closing.New(v.Store, v.Databases, v.Readiness, v.Runner, v.fenceTable, v.Journal)
	return v
}

// RunLane carries chunk after chunk of a crossing until none is left.
func (v *Voyage) RunLane(ctx context.Context, crossing, lane int64) error {
	return v.Loader.Run(ctx, crossing, lane)
}

// ValidLabels says what is wrong with what a process is good for, or nil.
func ValidLabels(labels []string) error {
	for _, l := range labels {
		if err := domain.ValidLabel(l); err != nil {
			return err
		}
	}
	return nil
}

// Start begins the loops of this process: the queue's jobs, the streams and the
// keeper. They end with Stop.
func (v *Voyage) Start(ctx context.Context) error {
	v.clearing = map[int64]bool{}
	run, cancel := context.WithCancel(context.WithoutCancel(ctx))
	v.stop = cancel
	if err := v.Queue.Start(run, v); err != nil {
		cancel()
		return err
	}
	for _, loop := range []func(context.Context){v.keep, v.follow, v.deliver} {
		v.loops.Go(func() {
			for run.Err() == nil { // a loop that met a fault begins anew
				v.logFault(domain.Guarded("one of the service's loops", func() error { loop(run); return nil }))
				waits.Sleep(run, time.Second)
			}
		})
	}
	return nil
}

// logFault writes a fault with its stack to the log, and reports whether err is one.
func (v *Voyage) logFault(err error) bool {
	var f *domain.Fault
	if !errors.As(err, &f) {
		return false
	}
	v.Log.Error("a fault", "while", f.What, "panic", f.Value, "stack", f.Stack)
	return true
}

// Stop ends the loops; what they held is given back before it returns.
func (v *Voyage) Stop() {
	if v.stop == nil {
		return
	}
	end, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	done := make(chan struct{})
	go func() {
		if err := v.Queue.Stop(end); err != nil {
			v.Log.Warn("jobs did not end in time", "error", err)
		}
		close(done)
	}()
	v.stop()
	<-done
	v.loops.Wait()
	v.Databases.Close()
}

// deliver sends webhooks what is due.
func (v *Voyage) deliver(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	v.Deliver(ctx, tick.C)
}
