// Package commands carries out what people ask of a crossing: each is allowed or refused by what
// the crossing is at, kept as work where it takes a while, and written into the journal.
package commands

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// Records are what is kept of crossings.
type Records interface {
	Policy(ctx context.Context) (domain.Policy, error)
	Defaults(ctx context.Context) (domain.Settings, error)
	SaveDefaults(ctx context.Context, set domain.Settings) error
	SaveSettings(ctx context.Context, c *domain.Crossing, set domain.Settings, planned bool) error
	SavePlanning(ctx context.Context, c *domain.Crossing, patterns []string, rules []domain.Rule,
		planning domain.Planning) error
	SurveyOf(ctx context.Context, id int64) ([]domain.Entry, error)
	SetCondition(ctx context.Context, id int64, from []domain.Condition, to domain.Condition, reason string,
		keepCapture bool) (bool, error)
	// Resume lets a crossing go on; false: its condition is another by now.
	Resume(ctx context.Context, crossing int64, from domain.Condition) (bool, error)
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	HasWatermark(ctx context.Context, crossing int64) (bool, error)
	// RunAgain are the statements that run again with a restart.
	RunAgain(ctx context.Context, crossing int64) ([]domain.TargetObject, error)
	// LastBegun is how a crossing was begun last: by a prepare or a restart; empty: not at all.
	LastBegun(ctx context.Context, crossing int64) (domain.Work, error)
	// NotBusy is an error where one of the kinds of work is under way.
	NotBusy(ctx context.Context, crossing int64, name string, kinds ...domain.Work) error
	CancelTask(ctx context.Context, crossing, id int64, why string) (domain.Task, error)

	SaveSchedule(ctx context.Context, s domain.Schedule) error
	RemoveSchedule(ctx context.Context, crossing int64) error
	// PauseSchedule keeps a schedule from starting anything, or with an empty by lets it again.
	PauseSchedule(ctx context.Context, crossing int64, by string) error

	// KickStream makes whoever follows an old one, and returns the epoch that the next is above.
	KickStream(ctx context.Context, crossing int64) (int64, error)
	// ServerOf is the server that a crossing began with.
	ServerOf(ctx context.Context, id int64) (string, error)
	// Rebase has a crossing go on from a place of another server.
	Rebase(ctx context.Context, id int64, at domain.Position, server string) error
}

// Databases opens registered databases.
type Databases interface {
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	Catalog(ctx context.Context, database string, fresh bool) (*domain.Catalog, error)
	CheckStopMethod(ctx context.Context, source string, m domain.StopMethod) error
	// Position writes a place of a database's log in its own way.
	Position(ctx context.Context, database string, p domain.Position) string
}

// Rules say what a crossing may have.
type Rules interface {
	CheckCaptureSettings(ctx context.Context, source string, kind domain.Kind, s domain.Settings) error
	CheckPolicy(ctx context.Context, policy domain.Policy, s domain.Settings, patterns []string) error
}

// Planner looks at what a start would do.
type Planner interface {
	Review(ctx context.Context, c *domain.Crossing) (planning.Review, error)
}

// Tables changes tables of a crossing under way.
type Tables interface {
	Restart(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable, table, actor string) error
	Drop(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable, at int) error
}

// Beginning says what belongs to work that begins a load, or repeats it: all of it comes about,
// or nothing.
type Beginning struct {
	Run      int64 // the due run that asked for it, or 0
	SamePlan bool  // only while the plan is still the one that was read
	GoesOn   bool  // the crossing goes on by it, unless it is paused
}

// Work is what is kept as tasks.
type Work interface {
	AddTask(ctx context.Context, c *domain.Crossing, kind domain.Work, args any, actor string) (int64, error)
	Begin(ctx context.Context, c *domain.Crossing, kind domain.Work, b Beginning, actor string) error
	// AddOwn adds a task that whoever adds it runs.
	AddOwn(ctx context.Context, c *domain.Crossing, kind domain.Work, actor string) (int64, error)
	// Run carries out a task. It returns what went wrong with the work, and apart from it whether
	// what came of it could not be kept.
	Run(ctx context.Context, id int64) (work, kept error)
}

// Journal records what people do.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Record(ctx context.Context, e domain.JournalEntry)
}

// Commands carries them out.
type Commands struct {
	records   Records
	databases Databases
	rules     Rules
	planner   Planner
	tables    Tables
	work      Work
	journal   Journal
}

// New returns the commands.
func New(r Records, d Databases, rules Rules, p Planner, t Tables, w Work, j Journal) *Commands {
	return &Commands{records: r, databases: d, rules: rules, planner: p, tables: t, work: w, journal: j}
}
