// Package compare compares source and target of a crossing at one shared log position while
// both are live, narrows differences down to rows, compares those again, and repairs them.
package compare

import (
	"context"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Records are where comparisons and their findings are kept, and where the applier of a
// crossing is asked to stand still.
type Records interface {
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	Table(ctx context.Context, id int64) (domain.CrossingTable, error)
	Chunks(ctx context.Context, table int64) ([]domain.Chunk, error)

	Reconciliation(ctx context.Context, crossing, id int64) (domain.Reconciliation, error)
	// BeginReconciliation begins one, or goes on with it: what it returns are the tables that are done,
	// with what was found of each.
	BeginReconciliation(ctx context.Context, id int64, at domain.Position, tables []int64) (map[int64]int64, error)
	EndReconciliation(ctx context.Context, id int64, state domain.ComparisonState, cause string) error
	ReconcileProgress(ctx context.Context, id, table, source, target int64) error
	SaveReconciledTable(ctx context.Context, r domain.ReconciledTable) error

	// KeepVouched keeps that what changes touched up to a place has been compared, and what was
	// found, by table; it returns the comparison with which it is kept.
	KeepVouched(ctx context.Context, crossing int64, at domain.Position, rows int64,
		found map[int64][]domain.Finding) (int64, error)
	// ComparedWhole lists the tables of which every row was equal at a place from which on it is known
	// what was touched.
	ComparedWhole(ctx context.Context, crossing int64) (map[int64]bool, error)

	AddFindings(ctx context.Context, reconciliation, table int64, found []domain.Finding) error
	Findings(ctx context.Context, reconciliation int64, f domain.FindingFilter) ([]domain.KeptFinding, error)
	CountFindings(ctx context.Context, reconciliation int64, f domain.FindingFilter) (int, map[string]int, error)
	SetFindings(ctx context.Context, ids []int64, state string) error
	SaveFinding(ctx context.Context, id int64, f domain.Finding) error

	// Stand is where the applier stands, nil where nobody follows.
	Stand(ctx context.Context, crossing int64) (*domain.Stand, error)
	// Ask asks it for something, unless it stands for somebody else; the request lapses unless
	// KeepAsking repeats it. Follow sends it on to a position, while it holds for by.
	Ask(ctx context.Context, crossing int64, by, sake, what string, at domain.Position) (bool, error)
	KeepAsking(ctx context.Context, crossing int64, by string) error
	Follow(ctx context.Context, crossing int64, by string, at domain.Position) (bool, error)
	LetGo(ctx context.Context, crossing int64, by string) error
}

// Databases are those of crossings.
type Databases interface {
	OpenPair(ctx context.Context, c *domain.Crossing) (src, dst *engine.Opened, err error)
}

// Journal keeps what is done, and tells those who want to know.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Notify(ctx context.Context, c *domain.Crossing, event, message string)
}

// Tasks are the longer work that is asked for.
type Tasks interface {
	// AddReconciliation keeps a comparison together with the task that makes it.
	AddReconciliation(ctx context.Context, c *domain.Crossing, depth domain.Depth, patterns []string, share float64,
		actor string) (int64, error)
	AddTask(ctx context.Context, c *domain.Crossing, kind lifecycle.Work, args any, actor string) (int64, error)
}

// Comparer compares.
type Comparer struct {
	records   Records
	databases Databases
	journal   Journal
	tasks     Tasks
	newUID    func() string
}

// New returns a comparer. newUID makes names for those who ask an applier for something.
func New(r Records, d Databases, j Journal, t Tasks, newUID func() string) *Comparer {
	return &Comparer{records: r, databases: d, journal: j, tasks: t, newUID: newUID}
}
