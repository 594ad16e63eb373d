// Package prepare makes everything ready for a load: the plan, the target's tables, a durable place
// in the source's log, and chunks; or all of it anew. Every part can be repeated, so that a process
// that dies is followed by one that goes on.
package prepare

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/waits"
)

// Records are what is kept of a crossing and its tables.
type Records interface {
	Database(ctx context.Context, name string) (domain.Database, error)
	SetPhase(ctx context.Context, id int64, from, to domain.Phase) (bool, error)
	SaveSurvey(ctx context.Context, c *domain.Crossing, entries []domain.Entry) error
	SavePlans(ctx context.Context, c *domain.Crossing, plans []domain.TablePlan) error
	SaveObjects(ctx context.Context, crossing int64, list []domain.TargetObject, l domain.Listing) error
	Objects(ctx context.Context, crossing int64) ([]domain.TargetObject, error)
	// TellTables keeps what came of making tables.
	TellTables(ctx context.Context, crossing int64, list []domain.ObjectOutcome) error
	SaveStart(ctx context.Context, id int64, at domain.Position, undo []string, cat *domain.Catalog) error
	SaveUndo(ctx context.Context, id int64, undo []string) error
	NothingToLoad(ctx context.Context, crossing int64) error
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	Chunks(ctx context.Context, table int64) ([]domain.Chunk, error)
	SaveChunks(ctx context.Context, cuts ...domain.CutTable) error
	SetWatermark(ctx context.Context, table int64, mark string) error
	ResetAll(ctx context.Context, crossing int64) error
	BeginRun(ctx context.Context, crossing, run int64, by string, anew bool) error
	// Begun keeps that the load has begun, for whoever takes the task over.
	Begun(ctx context.Context, task, epoch int64) error
}

// Databases opens registered databases.
type Databases interface {
	Open(ctx context.Context, name string) (*engine.Opened, error)
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	Driver(name string) (engine.Driver, error)
	// Position writes a place of a database's log in its own way.
	Position(ctx context.Context, database string, p domain.Position) string
}

// Planner surveys and plans.
type Planner interface {
	Survey(ctx context.Context, c *domain.Crossing, keep bool) (*planning.Surveyed, error)
	// Objects are everything that is made on the target.
	Objects(ctx context.Context, c *domain.Crossing, s *planning.Surveyed) ([]domain.TargetObject, error)
}

// Builder runs a person's statements.
type Builder interface {
	Statements(ctx context.Context, c *domain.Crossing, dst *engine.Opened, list []domain.TargetObject,
		stage string, note func(string)) error
}

// Work ends what is under way.
type Work interface {
	EndWork(ctx context.Context, c *domain.Crossing, kinds []domain.Work, why string) error
}

// Journal records what happens.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Hold(ctx context.Context, c *domain.Crossing, subject, reason string)
}

// Preparer prepares crossings.
type Preparer struct {
	records   Records
	databases Databases
	planner   Planner
	builder   Builder
	work      Work
	journal   Journal
	lanes     func(context.Context) error // gives loads their lanes at once
}

// New returns the preparer of this process.
func New(r Records, d Databases, p Planner, b Builder, w Work, j Journal,
	lanes func(context.Context) error) *Preparer {
	return &Preparer{records: r, databases: d, planner: p, builder: b, work: w, journal: j, lanes: lanes}
}

// Args are the arguments of tasks that begin a load.
type Args struct {
	Run int64 `json:"run,omitempty"` // the due run that a schedule asked for
}

// Begin carries out a prepare or a restart.
func (pr *Preparer) Begin(ctx context.Context, c *domain.Crossing, t *domain.Task, note func(string)) error {
	var a Args
	if err := json.Unmarshal(t.Args, &a); err != nil {
		return err
	}
	if t.Begun {
		// The process before us had done it, but for saying so.
		_, err := pr.records.SetPhase(ctx, c.ID, domain.PhasePrepared, domain.PhaseLoading)
		return err
	}
	if err := pr.records.BeginRun(ctx, c.ID, a.Run, t.Actor, t.Kind == lifecycle.WorkRestart && t.Epoch == 1); err != nil {
		return err
	}
	tell := telling{note, func() error {
		err := pr.records.Begun(ctx, t.ID, t.Epoch)
		t.Begun = t.Begun || err == nil // for whoever repeats it in this process
		return err
	}}
	var err error
	if t.Kind == lifecycle.WorkRestart {
		err = pr.restart(ctx, c, tell)
	} else {
		err = pr.prepare(ctx, c, false, tell)
	}
	if err != nil && ctx.Err() == nil && !engine.Away(err) { // that is waited for, see patiently
		pr.journal.Hold(ctx, c, "", fmt.Sprintf("%s could not be done: %s. Fix the cause, then resume", t.Kind, err))
	}
	return err
}

// telling tells how a beginning goes: in words for people, and once the load has begun for
// whoever takes the task over, who must not begin again then.
type telling struct {
	say   func(string)
	begun func() error
}

// prepare plans, makes the target's tables and a durable place in the source's log, and cuts the
// tables into chunks; then the load begins. With anew, what was made on the target before is made
// again.
func (pr *Preparer) prepare(ctx context.Context, c *domain.Crossing, anew bool, t telling) error {
	s, err := pr.plan(ctx, c, t.say)
	if err != nil {
		return err
	}
	if err := pr.make(ctx, c, s, anew, t.say); err != nil {
		return err
	}
	start, err := pr.startCapture(ctx, c, s, t.say)
	if err != nil {
		return err
	}
	if err := pr.records.SaveStart(ctx, c.ID, start, c.Undo, s.Catalog); err != nil {
		return err
	}
	if err := pr.advance(ctx, c, c.Phase, domain.PhasePrepared); err != nil {
		return err
	}
	tables, err := pr.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	began := time.Now()
	chunks, err := pr.cutAll(ctx, c, tables, t.say)
	if err != nil {
		return err
	}
	cut := time.Since(began)
	if err := t.begun(); err != nil {
		return err
	}
	if err := pr.advance(ctx, c, domain.PhasePrepared, domain.PhaseLoading); err != nil {
		return err
	}
	if err := pr.lanes(ctx); err != nil {
		return err
	}
	count := domain.Counted(len(tables), "table", "tables")
	if c.Kind == domain.KindCapture {
		pr.journal.Recordf(ctx, "info", journal.System, c.Name, "", "capture",
			"changes of %s are followed from log position %s", count, pr.databases.Position(ctx, c.Source, start))
		return nil
	}
	from := ""
	if !start.IsZero() {
		from = "; changes are captured from log position " + pr.databases.Position(ctx, c.Source, start)
	}
	pr.journal.Recordf(ctx, "info", journal.System, c.Name, "", "load", "the load begins: %s in %s, cut in %s%s", count,
		domain.Counted(chunks, "chunk", "chunks"), cut.Round(time.Millisecond), from)
	return nil
}

// plan surveys both sides, and keeps the plan if nothing blocks it.
func (pr *Preparer) plan(ctx context.Context, c *domain.Crossing, note func(string)) (*planning.Surveyed, error) {
	note("surveying both sides")
	s, err := pr.planner.Survey(ctx, c, false)
	if err != nil {
		return nil, err
	}
	if err := pr.records.SaveSurvey(ctx, c, s.Entries); err != nil {
		return nil, err
	}
	if c.Phase == domain.PhaseDraft {
		c.Phase = domain.PhaseSurveyed // saving the survey moved it on
	}
	if block := domain.Blocking(s.Entries, "dustyferry survey "+c.Name); block != "" {
		return nil, domain.Conflict("the survey found what blocks: %s", block)
	}
	for i := range s.Plans {
		s.Plans[i].ReplaceRange = c.Settings.ExistingRows == engine.ReplaceRange
	}
	return s, pr.records.SavePlans(ctx, c, s.Plans)
}

// make makes the target's tables, and runs what a person wants run before the load.
func (pr *Preparer) make(ctx context.Context, c *domain.Crossing, s *planning.Surveyed, anew bool,
	note func(string)) error {
	note("making the tables on the target")
	list, err := pr.planner.Objects(ctx, c, s)
	if err != nil {
		return err
	}
	if err := pr.records.SaveObjects(ctx, c.ID, list, domain.Listing{Anew: anew}); err != nil {
		return err
	}
	if err := pr.MakeTables(ctx, c, s, s.Plans); err != nil {
		return err
	}
	if list, err = pr.records.Objects(ctx, c.ID); err != nil {
		return err
	}
	return pr.builder.Statements(ctx, c, s.Target, list, domain.StageBefore, note)
}

// startCapture makes capture durable where changes are followed, saying what it waits for.
func (pr *Preparer) startCapture(ctx context.Context, c *domain.Crossing, s *planning.Surveyed,
	note func(string)) (domain.Position, error) {
	if c.Kind == domain.KindLoad {
		return domain.Position{}, nil
	}
	note("making capture durable on the source")
	waiting, begun := context.WithCancel(ctx)
	var beside sync.WaitGroup
	beside.Go(func() {
		waits.Every(waiting, 2*time.Second, func() {
			if list, err := s.Source.OpenTransactions(waiting, time.Second); err == nil && len(list) > 0 &&
				waiting.Err() == nil {
				note("capture can begin when what is open on the source now has ended: " + list[0] + domain.More(len(list)-1))
			}
		})
	})
	defer beside.Wait() // nothing is noted of it later
	defer begun()
	return pr.captureFrom(ctx, c, s)
}

// savedAtOnce is how many chunks are kept in one statement.
const savedAtOnce = 1000

// cutAll cuts the tables, where there are rows to load, and returns the number of chunks.
func (pr *Preparer) cutAll(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable,
	note func(string)) (int, error) {
	if c.Kind == domain.KindCapture {
		return 0, pr.records.NothingToLoad(ctx, c.ID)
	}
	// Tables are cut one by one, which may take a while, and kept many at once: there may be
	// thousands of small ones.
	chunks, waiting, noted := 0, 0, time.Time{}
	var cuts []domain.CutTable
	for i := range tables {
		if time.Since(noted) > time.Second {
			note("cutting " + tables[i].SourceName + " into chunks")
			noted = time.Now()
		}
		cut, err := pr.cut(ctx, c, &tables[i])
		if err != nil {
			return 0, err
		}
		cuts, waiting = append(cuts, cut), waiting+len(cut.Chunks)
		chunks += len(cut.Chunks)
		if waiting < savedAtOnce && i < len(tables)-1 {
			continue
		}
		if err := pr.records.SaveChunks(ctx, cuts...); err != nil {
			return 0, err
		}
		cuts, waiting = nil, 0
	}
	return chunks, nil
}

// MakeTables makes the target's tables of the plans and keeps what came of each.
func (pr *Preparer) MakeTables(ctx context.Context, c *domain.Crossing, s *planning.Surveyed,
	plans []domain.TablePlan) error {
	var told []domain.ObjectOutcome
	err := s.Target.PrepareTarget(ctx, c.UID, planning.CatalogOnTarget(s.Catalog, plans), planning.OnTarget(plans),
		c.Settings, func(o engine.Object, failure error) {
			told = append(told, domain.ObjectOutcome{Kind: o.Kind, Table: o.Table.String(), Statement: o.SQL, Failure: failure})
		})
	if err := cmp.Or(err, pr.records.TellTables(ctx, c.ID, told)); err != nil {
		return err
	}
	return pr.guard(ctx, c, s.Target, planning.OnTarget(plans))
}

// guard has the target's tables refuse writes of others, where the crossing wants it and the target
// can. Tables that keep rows of their own have an application of their own.
func (pr *Preparer) guard(ctx context.Context, c *domain.Crossing, dst *engine.Opened, plans []domain.TablePlan) error {
	if c.Settings.GuardTarget != domain.GuardRefuse || dst.Guards == nil || c.Kind == domain.KindLoad {
		return nil
	}
	plans = slices.DeleteFunc(slices.Clone(plans), func(p domain.TablePlan) bool {
		return p.ExistingRowsPolicy(c.Settings) == "keep"
	})
	if err := dst.Guard(ctx, c.UID, plans); err == nil || ctx.Err() != nil || engine.Away(err) {
		return err
	}
	for i := range plans { // what cannot be guarded by itself is told
		err := dst.Guard(ctx, c.UID, plans[i:i+1])
		if err == nil {
			continue
		}
		if ctx.Err() != nil || engine.Away(err) {
			return err
		}
		pr.journal.Recordf(ctx, "warning", journal.System, c.Name, plans[i].Source.String(), "guard", "%s takes writes of "+
			"others on the target, as it cannot be made to refuse them: %s; a cutover compares how many rows there are",
			plans[i].Target, err)
	}
	return nil
}

// advance moves the phase on, or says that somebody else did meanwhile.
func (pr *Preparer) advance(ctx context.Context, c *domain.Crossing, from, to domain.Phase) error {
	moved, err := pr.records.SetPhase(ctx, c.ID, from, to)
	if err == nil && !moved {
		return domain.Conflict("crossing %s is not %s any more; look at it again", c.Name, from)
	}
	return err
}
