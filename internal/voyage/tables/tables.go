// Package tables changes single tables of a crossing under way, while the others go on: one is
// added, left out, or loaded again with those that hang on it.
package tables

import (
	"context"
	"log/slog"
	"sync"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// Records are what is kept of a crossing's tables.
type Records interface {
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	CatalogOf(ctx context.Context, crossing int64) (*domain.Catalog, error)
	SetCondition(ctx context.Context, id int64, from []domain.Condition, to domain.Condition, reason string,
		keepCapture bool) (bool, error)
	// EditPlan changes which tables are chosen.
	EditPlan(ctx context.Context, id int64, edit func(patterns []string, plan *domain.Planning) []string) error
	SaveObjects(ctx context.Context, crossing int64, list []domain.TargetObject, l domain.Listing) error
	UnmakeForeignKeys(ctx context.Context, crossing int64) error

	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	Table(ctx context.Context, id int64) (domain.CrossingTable, error)
	AddTable(ctx context.Context, c *domain.Crossing, p domain.TablePlan, cat *domain.Catalog) (domain.CrossingTable,
		error)
	// ReleaseTable lets a table's chunks be claimed.
	ReleaseTable(ctx context.Context, table int64) error
	// StopTable keeps them from being claimed.
	StopTable(ctx context.Context, table int64, reason string) error
	DropTable(ctx context.Context, crossing int64, t *domain.CrossingTable, deferred []domain.TargetObject) error
	// ResetTable lets a table begin again, which [Tables.Clear] does.
	ResetTable(ctx context.Context, table int64) error
	// LoadInPlace has a table's rows stay until others take their place.
	LoadInPlace(ctx context.Context, table int64) error
	// ToClear lists tables that are to begin again.
	ToClear(ctx context.Context) ([]domain.CrossingTable, error)
	OpenTable(ctx context.Context, table int64) error
	Amend(ctx context.Context, crossing, epoch, table int64, p domain.TablePlan, again []int64) error
	Chunks(ctx context.Context, table int64) ([]domain.Chunk, error)

	// KickStream makes whoever follows an old one, and returns the epoch that the next is above.
	KickStream(ctx context.Context, crossing int64) (int64, error)
	// Stand is where the applier stands, or nil where nobody follows.
	Stand(ctx context.Context, crossing int64) (*domain.Stand, error)
	// Alone runs f when no other process does so under the lock, and reports whether it ran.
	Alone(ctx context.Context, lock int64, f func() error) (bool, error)
}

// Databases opens registered databases.
type Databases interface {
	Open(ctx context.Context, name string) (*engine.Opened, error)
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	Catalog(ctx context.Context, database string, fresh bool) (*domain.Catalog, error)
}

// Planner plans tables, and changes of their columns.
type Planner interface {
	Plan(ctx context.Context, c *domain.Crossing) (*planning.Surveyed, []domain.Entry, error)
	Objects(ctx context.Context, c *domain.Crossing, s *planning.Surveyed) ([]domain.TargetObject, error)
	PlanSchemaChange(ctx context.Context, c *domain.Crossing, src, dst *engine.Opened, all []domain.TablePlan,
		was *domain.TablePlan, ch *domain.Change, at domain.Position) (*planning.SchemaChange, error)
}

// Preparer makes what a table's load needs.
type Preparer interface {
	Cut(ctx context.Context, c *domain.Crossing, t *domain.CrossingTable) (int, error)
	MakeTables(ctx context.Context, c *domain.Crossing, s *planning.Surveyed, plans []domain.TablePlan) error
	MakeCapture(ctx context.Context, c *domain.Crossing, src *engine.Opened, plans []domain.TablePlan) (domain.Position,
		error)
	// Fence makes sure that nobody who still holds a chunk of a table can land it.
	Fence(ctx context.Context, dst *engine.Opened, c *domain.Crossing, table int64) error
}

// Work ends what is under way.
type Work interface {
	// EndIdle ends tasks, and returns those that have not ended yet.
	EndIdle(ctx context.Context, c *domain.Crossing, kinds []domain.Work, why string) ([]domain.Ending, error)
}

// Journal records what happens.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
}

// Config is what else the tables need of this process.
type Config struct {
	Lanes func(context.Context) error // gives loads their lanes at once
	Fault func(error) bool            // told of faults
	// Troubled keeps on a crossing what keeps it from going on by itself; nil: nothing does.
	Troubled func(ctx context.Context, c *domain.Crossing, doing string, err error) error
	Log      *slog.Logger
}

// Tables changes them.
type Tables struct {
	records   Records
	databases Databases
	planner   Planner
	prepare   Preparer
	work      Work
	journal   Journal
	set       Config

	mu       sync.Mutex
	loops    sync.WaitGroup
	clearing map[int64]bool // by crossing
}

// New returns the tables of this process.
func New(r Records, d Databases, p Planner, pr Preparer, w Work, j Journal, set Config) *Tables {
	return &Tables{records: r, databases: d, planner: p, prepare: pr, work: w, journal: j, set: set,
		clearing: map[int64]bool{}}
}

// Wait waits until nothing that [Tables.Clear] has begun is under way.
func (ts *Tables) Wait() { ts.loops.Wait() }
