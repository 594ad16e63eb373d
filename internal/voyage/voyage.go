// Package voyage puts the rooms of the work together: survey, prepare, load, follow, compare, cut
// over and close. Each room is a package below this one and says what it needs of others; here
// they are given it, and what runs by itself in this process is begun and ended.
//
// Nothing needed after a crash lives only in memory: every loop can die at any instruction and
// another process goes on from the records and from what stands on the target.
package voyage

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/queue"
	"dustyferry/internal/records"
	"dustyferry/internal/secret"
	"dustyferry/internal/voyage/build"
	"dustyferry/internal/voyage/closing"
	"dustyferry/internal/voyage/commands"
	"dustyferry/internal/voyage/compare"
	"dustyferry/internal/voyage/cutover"
	"dustyferry/internal/voyage/databases"
	"dustyferry/internal/voyage/drafts"
	"dustyferry/internal/voyage/following"
	"dustyferry/internal/voyage/gateways"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/keeper"
	"dustyferry/internal/voyage/load"
	"dustyferry/internal/voyage/notify"
	"dustyferry/internal/voyage/phases"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/prepare"
	"dustyferry/internal/voyage/readiness"
	"dustyferry/internal/voyage/refresh"
	"dustyferry/internal/voyage/returnpath"
	"dustyferry/internal/voyage/stuck"
	"dustyferry/internal/voyage/tables"
	"dustyferry/internal/voyage/tasks"
	"dustyferry/internal/voyage/waits"
)

// System is the actor the journal names for what the service does by itself.
const System = journal.System

// StuckAfter is for how long nothing may move where nobody says otherwise.
const StuckAfter = stuck.After

// Config is what this process is given.
type Config struct {
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
}

// Voyage is this process's part of the work.
type Voyage struct {
	Config
	*journal.Journal
	*databases.Databases
	*notify.Notifier
	*tasks.Runner
	*drafts.Drafts
	*commands.Commands

	Comparer  *compare.Comparer
	Planning  *planning.Planning
	Builder   *build.Builder
	Readiness *readiness.Readiness
	Cutovers  *cutover.Cutovers
	Closings  *closing.Closings
	Gateways  *gateways.Gateways

	desk      *desk
	loader    *load.Loader
	phases    *phases.Phases
	refreshes *refresh.Refreshes
	returns   *returnpath.Returns
	prepare   *prepare.Preparer
	tables    *tables.Tables
	following *following.Following
	lanes     *keeper.Lanes
	numbers   *keeper.LaneNumbers

	loops sync.WaitGroup
	stop  context.CancelFunc
}

// New returns a voyage that keeps what it does in the store.
func New(set Config, drivers []engine.Driver) *Voyage {
	v := &Voyage{Config: set}
	store := v.Store
	v.Journal = journal.New(store, v.Log)
	v.Databases = databases.New(store, v.Box, v.Journal, drivers, records.NewUID)
	v.Notifier = notify.New(store, v.Box, v.Journal, v.logFault)
	v.Drafts = drafts.New(store, v.Databases, v.Journal)

	watch := &stuck.Tasks{Databases: v.Databases, Limit: v.StuckAfter, Note: store.NoteTask, Recordf: v.Recordf}
	v.Runner = tasks.New(store, v.Journal, v.Queue, v.works(), tasks.Config{Worker: v.Worker, Renew: records.Renew,
		Lease: records.Lease, Fault: v.logFault, Mind: watch.Watch})
	v.desk = &desk{Runner: v.Runner, store: store, queue: v.Queue}
	v.lanes = &keeper.Lanes{Records: store.TaskStore, Add: v.desk.addLane}
	v.numbers = &keeper.LaneNumbers{Records: store.TaskStore, Databases: v.Databases, Journal: v.Journal}

	v.Planning = planning.New(store, v.Databases, v.Journal, v.Box.Derive)
	v.Builder = build.New(store, v.Databases, v.Journal, func(dst *engine.Opened, cat *domain.Catalog,
		tables []domain.CrossingTable) []domain.TargetObject {
		return planning.Deferred(dst, cat, planning.PlansOf(tables))
	})
	v.phases = phases.New(store, v.Journal, func(ctx context.Context, c *domain.Crossing) error {
		_, err := v.desk.AddTask(ctx, c, lifecycle.WorkBuild, struct{}{}, System)
		return err
	})
	v.prepare = prepare.New(store, v.Databases, v.Planning, v.Builder, v.Runner, v.Journal, v.lanes.Do)
	v.tables = tables.New(store, v.Databases, v.Planning, v.prepare, v.Runner, v.Journal,
		tables.Config{Lanes: v.lanes.Do, Fault: v.logFault, Troubled: v.Troubled, Log: v.Log})
	v.loader = load.New(store, v.Databases, v.Journal, v.Log, load.Config{Worker: v.Worker, Labels: v.Labels,
		Lanes: v.Lanes, StuckAfter: v.StuckAfter, Renew: records.Renew, NoneLeft: v.phases.MoveNow, Fault: v.logFault})
	v.Commands = commands.New(store, v.Databases, v.Drafts, v.Planning, v.tables, v.desk, v.Journal)

	v.Comparer = compare.New(store, v.Databases, v.Journal, v.desk, records.NewUID)
	v.returns = returnpath.New(store, v.Databases, v.Planning, v.prepare, records.NewCrossingUID)
	v.Gateways = gateways.New(store, v.Journal)
	v.Readiness = readiness.New(store, v.Databases, v.Comparer, v.returns, v.Gateways, v.Journal)
	v.following = following.New(store, v.Databases, v.Planning, v.Journal, following.Config{Worker: v.Worker,
		Labels: v.Labels, StuckAfter: v.StuckAfter, Renew: records.Renew, Fault: v.logFault, Log: v.Log,
		Prove: v.Readiness.Prove, Add: v.StartAdd})
	v.Cutovers = cutover.New(store, v.Databases, v.Readiness, v.Comparer, v.Builder, v.returns, v.Gateways, v.Journal,
		v.desk.addCutover)
	v.refreshes = refresh.New(store, v.Databases, v.Journal, v.tables.Restart)
	v.Closings = closing.New(store, v.Databases, v.Readiness, v.desk, v.prepare.Fence, v.Journal)
	return v
}

// RunLane carries chunk after chunk of a crossing until none is left.
func (v *Voyage) RunLane(ctx context.Context, crossing, lane int64) error {
	return v.loader.Run(ctx, crossing, lane)
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
	run, cancel := context.WithCancel(context.WithoutCancel(ctx))
	v.stop = cancel
	if err := v.Queue.Start(run, v); err != nil {
		cancel()
		return err
	}
	for _, loop := range []func(context.Context){v.keep, v.following.Run, v.deliver} {
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
	v.tables.Wait()
	v.numbers.Wait()
	v.Databases.Close()
}

// deliver sends webhooks what is due.
func (v *Voyage) deliver(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	v.Deliver(ctx, tick.C)
}
