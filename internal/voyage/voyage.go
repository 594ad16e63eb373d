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
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/queue"
	"dustyferry/internal/records"
	"dustyferry/internal/secret"
)

// System is the actor the journal names for what the service does by itself.
const System = "dusty ferry"

// Voyage is this process's part of the work.
type Voyage struct {
	Store   *records.Store
	Queue   *queue.Queue
	Box     *secret.Box
	Drivers []engine.Driver
	Log     *slog.Logger
	Worker  string // this process's name
	Labels  []string
	Lanes   int // chunks this process carries at once
	// StuckAfter is for how long nothing may move before it is asked what is waited for.
	StuckAfter time.Duration
	// Outdated is told when a newer program has changed the records.
	Outdated chan error
	Version  string

	mu       sync.Mutex
	open     map[int64]opened
	loops    sync.WaitGroup
	stop     context.CancelFunc
	clearing map[int64]bool
	carrying int                    // lanes that run here
	probes   map[string]*probe      // by database
	brakes   map[int64]*brakes      // by crossing
	catalogs map[string]readCatalog // by database
	doubts   map[int64]doubt        // tables whose rows the source wrote anew
	engines  map[string]string      // by database
}

type opened struct {
	db  engine.Database
	row records.Database
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

// Driver returns the engine of that name.
func (v *Voyage) Driver(name string) (engine.Driver, error) {
	for _, d := range v.Drivers {
		if d.Name() == name {
			return d, nil
		}
	}
	return nil, domain.Invalid("there is no engine %q; choose postgres or mariadb", name)
}

// CheckStopMethod says whether the source can stop writes that way.
func (v *Voyage) CheckStopMethod(ctx context.Context, source string, m domain.StopMethod) error {
	d, err := v.Store.Database(ctx, source)
	if err != nil {
		return err
	}
	drv, err := v.Driver(d.Engine)
	if err != nil {
		return err
	}
	if can := drv.StopMethods(); !slices.Contains(can, m) {
		return domain.Invalid("the stop method %s is not there for %s; choose from %q", m, d.Engine, can)
	}
	return nil
}

// Endpoint returns where a registered database is, with its password.
func (v *Voyage) Endpoint(d records.Database) (engine.Endpoint, error) {
	pw, err := v.Box.Open(d.Secret, d.Bound())
	if err != nil {
		return engine.Endpoint{}, domain.Unavailable(err, "database %s: %s", d.Name, err)
	}
	return engine.Endpoint{Host: d.Host, Port: d.Port, Database: d.DBName, User: d.Username, Password: pw, TLS: d.TLS}, nil
}

// Open returns the open database of that name; it stays open for this process.
func (v *Voyage) Open(ctx context.Context, name string) (engine.Database, error) {
	row, err := v.Store.Database(ctx, name)
	if err != nil {
		return nil, err
	}
	v.mu.Lock()
	have, ok := v.open[row.ID]
	v.mu.Unlock()
	if ok && have.row.SameWay(row) {
		return have.db, nil
	}
	db, err := v.Reach(ctx, row)
	if err != nil {
		return nil, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.open == nil {
		v.open = map[int64]opened{}
	}
	if have, ok := v.open[row.ID]; ok {
		if have.row.SameWay(row) {
			db.Close()
			return have.db, nil
		}
		go have.db.Close() // what still uses it fails, and is tried again the new way
	}
	v.open[row.ID] = opened{db, row}
	return db, nil
}

// Reach opens a database with what is written in its record.
func (v *Voyage) Reach(ctx context.Context, row records.Database) (engine.Database, error) {
	d, err := v.Driver(row.Engine)
	if err != nil {
		return nil, err
	}
	e, err := v.Endpoint(row)
	if err != nil {
		return nil, err
	}
	limit, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	return d.Open(limit, e)
}

// Forget closes a database that is no longer registered.
func (v *Voyage) Forget(id int64) {
	v.mu.Lock()
	defer v.mu.Unlock()
	clear(v.engines)
	clear(v.catalogs)
	if o, ok := v.open[id]; ok {
		go o.db.Close()
		delete(v.open, id)
	}
}

// Both opens a crossing's source and target.
func (v *Voyage) Both(ctx context.Context, c *domain.Crossing) (src, dst engine.Database, err error) {
	if src, err = v.Open(ctx, c.Source); err != nil {
		return nil, nil, fmt.Errorf("source: %w", err)
	}
	if dst, err = v.Open(ctx, c.Target); err != nil {
		return nil, nil, fmt.Errorf("target: %w", err)
	}
	return src, dst, nil
}

// Position writes a crossing's log position for people.
func (v *Voyage) Position(ctx context.Context, database string, p domain.Position) string {
	if p == 0 {
		return ""
	}
	v.mu.Lock()
	name, ok := v.engines[database]
	v.mu.Unlock()
	if !ok {
		d, err := v.Store.Database(ctx, database)
		if err != nil {
			return ""
		}
		name = d.Engine
		v.mu.Lock()
		if v.engines == nil {
			v.engines = map[string]string{}
		}
		v.engines[database] = name
		v.mu.Unlock()
	}
	drv, err := v.Driver(name)
	if err != nil {
		return ""
	}
	return drv.FormatPosition(p)
}

// Say appends to the journal and to the log.
func (v *Voyage) Say(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any) {
	v.Record(ctx, records.Entry{Actor: actor, Crossing: crossing, Subject: subject, Act: act, Severity: severity, Message: fmt.Sprintf(format, args...)})
}

// Record appends an entry to the journal, and its message to the log.
func (v *Voyage) Record(ctx context.Context, e records.Entry) {
	level := map[string]slog.Level{"warning": slog.LevelWarn, "error": slog.LevelError}[e.Severity]
	v.Log.Log(ctx, level, e.Message, "crossing", e.Crossing, "act", e.Act, "subject", e.Subject, "actor", e.Actor)
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := v.Store.Write(end, e); err != nil {
		v.Log.Error("the journal could not be written", "error", err)
	}
}

// Hold makes a crossing wait for a person. One that is paused stays so, and shows the reason
// beside its pause; one that is closed waits for nothing any more.
func (v *Voyage) Hold(ctx context.Context, c *domain.Crossing, subject, reason string) {
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	held, err := v.Store.Hold(end, c.ID, reason)
	if err == nil && !held {
		_, err = v.Store.SetTrouble(end, c.ID, reason)
	}
	if err != nil {
		v.Log.Error("the crossing could not be held", "crossing", c.Name, "error", err)
	}
	v.held(end, c, subject, reason)
}

// held tells of a crossing that waits for a person.
func (v *Voyage) held(ctx context.Context, c *domain.Crossing, subject, reason string) {
	v.Say(ctx, "error", System, c.Name, subject, "hold", "%s", reason)
	v.tell(ctx, c, EventHeld, reason)
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
	for _, loop := range []func(context.Context){v.keep, v.follow, v.report, v.deliver, v.watchBurden} {
		v.loops.Go(func() {
			for run.Err() == nil { // a loop that met a fault begins anew
				v.logFault(domain.Guarded("one of the service's loops", func() error { loop(run); return nil }))
				sleep(run, time.Second)
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
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, o := range v.open {
		o.db.Close()
	}
	v.open = nil
}

// every calls f at the given pace until the context ends.
func every(ctx context.Context, pace time.Duration, f func()) {
	t := time.NewTicker(pace)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			f()
		}
	}
}

// sleep waits, and reports whether the context is still alive.
func sleep(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
}

// allow checks an act against the lifecycle.
func allow(act lifecycle.Act, c *domain.Crossing) error {
	return lifecycle.Allow(act, c.Name, c.Kind, c.Phase, c.Condition)
}

// onTarget returns plans as the target's engine must know them.
func onTarget(plans []domain.TablePlan) []domain.TablePlan {
	out := make([]domain.TablePlan, len(plans))
	for i := range plans {
		out[i] = plans[i].OnTarget()
	}
	return out
}

// ownedThere is a sequence with its owner as the target knows it.
func ownedThere(q domain.Sequence, plans []domain.TablePlan) domain.Sequence {
	for i := range plans {
		p := &plans[i]
		if p.Source != q.OwnedBy || q.OwnedBy.Name == "" {
			continue
		}
		there := p.There()
		if q.Name.Schema == q.OwnedBy.Schema { // an owned one stands beside its table
			q.Name.Schema = p.Target.Schema
		}
		q.OwnedBy = p.Target
		for n, c := range p.Carried() {
			if c.Name == q.OwnedColumn {
				q.OwnedColumn = there[n].Name
				break
			}
		}
		break
	}
	return q
}

// catalogThere is the source's catalog with the owners of sequences as the target
// knows them.
func catalogThere(cat *domain.Catalog, plans []domain.TablePlan) *domain.Catalog {
	out := *cat
	out.Sequences = slices.Clone(cat.Sequences)
	for i := range out.Sequences {
		out.Sequences[i] = ownedThere(out.Sequences[i], plans)
	}
	return &out
}

// plansOf returns the table plans of a crossing.
func plansOf(tables []records.Table) []domain.TablePlan {
	out := make([]domain.TablePlan, len(tables))
	for i := range tables {
		out[i] = tables[i].Plan.V
	}
	return out
}

// sameSource returns an error when another server answers at the source's address
// than the one that the crossing began with.
func (v *Voyage) sameSource(ctx context.Context, c *domain.Crossing, src engine.Database) error {
	now, err := src.Identity(ctx)
	if err != nil || now == "" {
		return err
	}
	was, err := v.Store.ServerOf(ctx, c.ID)
	if err != nil || was == "" || was == now {
		return err
	}
	return domain.Conflict("another server answers for %s now (%s; it was %s): the places of its log mean something else. Point the address back; or, if it is a promoted replica of the first one and the load is complete, go on from it with 'dustyferry crossing take-up %s'; or restart the crossing to load from this one", c.Source, now, was, c.Name)
}
