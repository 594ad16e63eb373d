package domain

import (
	"regexp"
	"slices"
	"strings"
	"time"
)

// Kind says which of the two halves of the work a crossing does.
type Kind string

// The kinds of crossing.
const (
	KindLoad        Kind = "load"         // bulk load only
	KindLoadCapture Kind = "load+capture" // bulk load while changes are followed
	KindCapture     Kind = "capture"      // changes only, from a given log position
)

// Phase is how far a crossing has come.
type Phase string

// The phases, in the order a crossing goes through them.
const (
	PhaseDraft       Phase = "draft"
	PhaseSurveyed    Phase = "surveyed"
	PhasePrepared    Phase = "prepared"
	PhaseLoading     Phase = "loading"
	PhaseCatchingUp  Phase = "catching up"
	PhaseInStep      Phase = "in step"
	PhaseCuttingOver Phase = "cutting over"
	PhaseCutOver     Phase = "cut over"
	PhaseClosed      Phase = "closed"
)

// PhaseLabel is a phase as people read it: a crossing that only loads is in step with
// nothing.
func (k Kind) PhaseLabel(p Phase) string {
	if k == KindLoad && p == PhaseInStep {
		return "loaded"
	}
	return string(p)
}

// Condition stands beside the phase and says whether work goes on.
type Condition string

// The conditions of a crossing.
const (
	ConditionRunning Condition = "running"
	ConditionHeld    Condition = "held"   // something waits for a person
	ConditionPaused  Condition = "paused" // a person stopped it
	ConditionFailed  Condition = "failed" // it cannot go on as it is
)

// StopMethod is how writes at the source are stopped during cutover.
type StopMethod string

// The ways to stop writes.
const (
	StopLock     StopMethod = "lock"      // hold the tables' locks
	StopReadOnly StopMethod = "read-only" // make the whole database read-only
	StopWord     StopMethod = "word"      // a person says that writes have stopped
)

// Depth is how far a reconciliation looks.
type Depth string

// The depths of a reconciliation.
const (
	DepthCounts Depth = "counts" // row counts per table and key range
	DepthHashes Depth = "hashes" // hashes per key range, narrowed to rows and columns
	DepthNone   Depth = "none"   // only at cutover: do not reconcile in the pause
)

// Settings are a crossing's own choices. Zero values are replaced by
// [DefaultSettings] when a crossing is created.
type Settings struct {
	Lanes           int           `json:"lanes" yaml:"lanes"`                       // parallel paths for chunks
	ChunkBytes      int64         `json:"chunk_bytes" yaml:"chunk_bytes"`           // aimed size of a chunk, bytes; neighbours are carried together for some seconds
	MaxAttempts     int           `json:"max_attempts" yaml:"max_attempts"`         // tries of a chunk before its table is held
	SpeedLimit      int64         `json:"speed_limit" yaml:"speed_limit"`           // bytes/s over all lanes of a process, 0 = none
	BatchChanges    int           `json:"batch_changes" yaml:"batch_changes"`       // changes folded into one apply
	InStepLag       time.Duration `json:"in_step_lag" yaml:"in_step_lag"`           // lag below which capture counts as in step
	InStepDwell     time.Duration `json:"in_step_dwell" yaml:"in_step_dwell"`       // how long it must stay there
	PauseBudget     time.Duration `json:"pause_budget" yaml:"pause_budget"`         // longest write pause at cutover
	StopMethod      StopMethod    `json:"stop_method" yaml:"stop_method"`           // how writes are stopped
	CutoverDepth    Depth         `json:"cutover_depth" yaml:"cutover_depth"`       // reconciliation inside the write pause
	HandoverURL     string        `json:"handover_url" yaml:"handover_url"`         // webhook called at hand-over
	HandoverCommand string        `json:"handover_command" yaml:"handover_command"` // command run at hand-over
	NonEmptyTarget  string        `json:"non_empty_target" yaml:"non_empty_target"` // see [StandingWays]
	HoldPoints      []StepName    `json:"hold_points" yaml:"hold_points"`           // steps of a cutover before which it waits for a person

	LeastLanes   int           `json:"least_lanes" yaml:"least_lanes"`       // the number of lanes is found between this and Lanes; 0: always Lanes
	RowLimit     int64         `json:"row_limit" yaml:"row_limit"`           // rows/s over all lanes of a process, 0 = none
	SourceShare  float64       `json:"source_share" yaml:"source_share"`     // of the time a lane may be reading, above 0; 0 or 1 = all of it
	QuietHours   []string      `json:"quiet_hours" yaml:"quiet_hours"`       // when the load holds back, see [ParseHours]
	QuietZone    string        `json:"quiet_zone" yaml:"quiet_zone"`         // time zone of QuietHours, by its IANA name; empty: UTC
	QuietSpeed   int64         `json:"quiet_speed" yaml:"quiet_speed"`       // bytes/s in quiet hours; 0: no chunk begins in them
	BadRows      string        `json:"bad_rows" yaml:"bad_rows"`             // see [BadRowsWays]
	BadRowsLimit int           `json:"bad_rows_limit" yaml:"bad_rows_limit"` // rows of a table set aside before it is held
	BuildLanes   int           `json:"build_lanes" yaml:"build_lanes"`       // keys and indexes built at once on the target
	LagLimit     time.Duration `json:"lag_limit" yaml:"lag_limit"`           // above it people are told; 0: never
	WorkerLabel  string        `json:"worker_label" yaml:"worker_label"`     // only workers started with this label carry its chunks; empty: any

	Repeat        string `json:"repeat" yaml:"repeat"`                 // see [RepeatWays]
	ColumnChanges string `json:"column_changes" yaml:"column_changes"` // see [ColumnChangesWays]
	RetainedLimit int64  `json:"retained_limit" yaml:"retained_limit"` // bytes of log that the source may keep for the crossing; 0: any
	RetainedOver  string `json:"retained_over" yaml:"retained_over"`   // see [RetainedOverWays]
	StopAt        string `json:"stop_at" yaml:"stop_at"`               // capture stops before what was committed at this time (RFC 3339) or log position; empty: it goes on
	StartFrom     string `json:"start_from" yaml:"start_from"`         // kind capture: log position or GTID from which changes are wanted; empty: from now
	Slot          string `json:"slot" yaml:"slot"`                     // kind capture: a replication slot that a person made on a PostgreSQL source
}

// ColumnChangesWays are what becomes of a change of a table's columns on the source: the
// crossing waits for a person, or what is surely safe is carried over to the target.
var ColumnChangesWays = []string{"hold", "carry"}

// RetainedOverWays are what becomes of a crossing for which the source keeps more log than
// RetainedLimit: capture goes on and people are told, or the log is released and the
// crossing held, to be loaded again.
var RetainedOverWays = []string{"go on", "release"}

// RepeatWays are how a load that is done again brings its rows: its tables are emptied
// first and their keys and indexes built anew, or the rows of each chunk take the place of
// those of its range in one transaction, so that nobody who reads the target misses any.
var RepeatWays = []string{"empty first", "in place"}

// BadRowsWays are what can become of a row that the target cannot take: its table
// waits for a person, or the row is set aside with its error and the rest lands.
var BadRowsWays = []string{"hold", "set aside"}

// DefaultSettings returns the choices used where a person made none.
func DefaultSettings() Settings {
	return Settings{
		Lanes:          2,
		ChunkBytes:     16 << 20,
		MaxAttempts:    6,
		BatchChanges:   10_000,
		InStepLag:      5 * time.Second,
		InStepDwell:    3 * time.Second,
		PauseBudget:    2 * time.Minute,
		StopMethod:     StopLock,
		CutoverDepth:   DepthHashes,
		NonEmptyTarget: "refuse",
		BadRows:        "hold",
		BadRowsLimit:   1000,
		BuildLanes:     2,
		Repeat:         "empty first",
		ColumnChanges:  "hold",
		RetainedOver:   "go on",
	}
}

// WithDefaults fills zero fields from [DefaultSettings].
func (s Settings) WithDefaults() Settings {
	d := DefaultSettings()
	fill(&s.Lanes, d.Lanes)
	fill(&s.ChunkBytes, d.ChunkBytes)
	fill(&s.MaxAttempts, d.MaxAttempts)
	fill(&s.BatchChanges, d.BatchChanges)
	fill(&s.InStepLag, d.InStepLag)
	fill(&s.InStepDwell, d.InStepDwell)
	fill(&s.PauseBudget, d.PauseBudget)
	fill(&s.StopMethod, d.StopMethod)
	fill(&s.CutoverDepth, d.CutoverDepth)
	fill(&s.NonEmptyTarget, d.NonEmptyTarget)
	fill(&s.BadRows, d.BadRows)
	fill(&s.BadRowsLimit, d.BadRowsLimit)
	fill(&s.BuildLanes, d.BuildLanes)
	fill(&s.Repeat, d.Repeat)
	fill(&s.ColumnChanges, d.ColumnChanges)
	fill(&s.RetainedOver, d.RetainedOver)
	return s
}

func fill[T comparable](field *T, def T) {
	var zero T
	if *field == zero {
		*field = def
	}
}

// Validate says in one sentence what is wrong with the settings, or nil.
func (s Settings) Validate() error {
	switch {
	case s.Lanes < 1 || s.Lanes > 64:
		return Invalid("lanes is %d; give a number from 1 to 64", s.Lanes)
	case s.ChunkBytes < 64_000 || s.ChunkBytes > 4<<30:
		return Invalid("chunk_bytes is %d; give a size from 64 KB to 4 GiB", s.ChunkBytes)
	case s.MaxAttempts < 1 || s.MaxAttempts > 100:
		return Invalid("max_attempts is %d; give a number from 1 to 100", s.MaxAttempts)
	case s.BatchChanges < 1 || s.BatchChanges > 1_000_000:
		return Invalid("batch_changes is %d; give a number from 1 to 1000000", s.BatchChanges)
	case s.SpeedLimit < 0:
		return Invalid("speed_limit is %d; give bytes per second, or 0 for no limit", s.SpeedLimit)
	case s.PauseBudget < time.Second:
		return Invalid("pause_budget is %s; give at least 1s", s.PauseBudget)
	case s.InStepLag < 0 || s.InStepDwell < 0:
		return Invalid("in_step_lag and in_step_dwell cannot be negative")
	case s.StopMethod != StopLock && s.StopMethod != StopReadOnly && s.StopMethod != StopWord:
		return Invalid("stop_method is %q; choose lock, read-only or word", s.StopMethod)
	case s.CutoverDepth != DepthCounts && s.CutoverDepth != DepthHashes && s.CutoverDepth != DepthNone:
		return Invalid("cutover_depth is %q; choose hashes, counts or none", s.CutoverDepth)
	case !slices.Contains(StandingWays, s.NonEmptyTarget):
		return Invalid("non_empty_target is %q; choose refuse, keep, empty or replace", s.NonEmptyTarget)
	case s.LeastLanes < 0 || s.LeastLanes > s.Lanes:
		return Invalid("least_lanes is %d; give a number from 1 to lanes, which is %d, or 0 for always that many", s.LeastLanes, s.Lanes)
	case s.RowLimit < 0:
		return Invalid("row_limit is %d; give rows per second, or 0 for no limit", s.RowLimit)
	case s.SourceShare < 0 || s.SourceShare > 1:
		return Invalid("source_share is %g; give a share above 0 and at most 1, or 0 for no limit", s.SourceShare)
	case s.QuietSpeed < 0:
		return Invalid("quiet_speed is %d; give bytes per second, or 0 for nothing in quiet hours", s.QuietSpeed)
	case s.Repeat != "" && !slices.Contains(RepeatWays, s.Repeat): // crossings of before have none
		return Invalid("repeat is %q; choose empty first or in place", s.Repeat)
	case !slices.Contains(BadRowsWays, s.BadRows):
		return Invalid("bad_rows is %q; choose hold or set aside", s.BadRows)
	case s.LagLimit < 0:
		return Invalid("lag_limit is %s; give a duration, or 0 for no limit", s.LagLimit)
	case s.BadRowsLimit < 1 || s.BadRowsLimit > 1_000_000:
		return Invalid("bad_rows_limit is %d; give a number from 1 to 1000000", s.BadRowsLimit)
	case s.BuildLanes < 1 || s.BuildLanes > 32:
		return Invalid("build_lanes is %d; give a number from 1 to 32", s.BuildLanes)
	case !slices.Contains(ColumnChangesWays, s.ColumnChanges):
		return Invalid("column_changes is %q; choose hold or carry", s.ColumnChanges)
	case s.RetainedLimit < 0:
		return Invalid("retained_limit is %d; give bytes, or 0 for no limit", s.RetainedLimit)
	case !slices.Contains(RetainedOverWays, s.RetainedOver):
		return Invalid("retained_over is %q; choose go on or release", s.RetainedOver)
	case s.WorkerLabel != "" && ValidLabel(s.WorkerLabel) != nil:
		return Invalid("worker_label is not right: %s", ValidLabel(s.WorkerLabel))
	}
	if _, err := time.LoadLocation(s.QuietZone); err != nil {
		return Invalid("quiet_zone is %q; give a time zone by its IANA name, such as Europe/Amsterdam", s.QuietZone)
	}
	for _, h := range s.QuietHours {
		if _, err := ParseHours(h); err != nil {
			return err
		}
	}
	for _, h := range s.HoldPoints {
		if h != StepStopWrites && h != StepClose {
			return Invalid("hold_points names %q; choose from %q and %q", h, StepStopWrites, StepClose)
		}
	}
	return nil
}

// Crossing is the one thing a person creates: a set of tables taken from one
// database to another, with its settings and its state.
type Crossing struct {
	ID          int64
	UID         string // unique over all control databases; names what is left on servers
	Name        string
	Kind        Kind
	SourceID    int64
	TargetID    int64
	Source      string // name of the registered source database
	Target      string
	Phase       Phase
	Condition   Condition
	Reason      string   // why the condition is not running, with what to do
	KeepCapture bool     // of a pause: changes are captured all the same
	Patterns    []string // that choose the tables
	Rules       []Rule
	Planning    Planning
	Settings    Settings
	PlanVersion int64    // of patterns, rules and planning
	StartAt     Position // where capture begins; 0: it has not begun
	MaxRead     Position // of the latest snapshot that a chunk was read in
	Undo        []string // statements that give the source back what capture changed
	Built       bool     // what is made before cutover stands
	Trouble     string   // what keeps it from going on by itself
	LagTold     bool     // that it is over its limit
	LanesNow    *int     // what the load may use now; nil: its setting
	CreatedAt   time.Time
	SurveyedAt  *time.Time
	StartedAt   *time.Time
	LandedAt    *time.Time
	BelowSince  *time.Time // the lag is below its threshold
	InStepAt    *time.Time
	CutOverAt   *time.Time
	ClosedAt    *time.Time
}

// CaptureName is the name of the slot that changes are read from: the crossing's own, or
// one that a person made.
func (c *Crossing) CaptureName() string {
	if c.Settings.Slot != "" {
		return c.Settings.Slot
	}
	return c.ObjectName()
}

// ObjectName is the name of what the crossing leaves on a server: replication
// slot, publication. It is a plain lower-case identifier.
func (c *Crossing) ObjectName() string { return "dusty_ferry_" + c.UID }

var labelForm = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// ValidLabel reports whether s can say what a worker is good for.
func ValidLabel(s string) error {
	if len(s) > 40 || !labelForm.MatchString(s) {
		return Invalid("the label %q must have small letters, digits and dashes between them, at most 40", s)
	}
	return nil
}

// ValidName reports whether s can name a crossing or a database: it appears in
// addresses and command lines, so it is letters, digits, dash, dot, underscore.
func ValidName(s string) error {
	if s == "" || len(s) > 63 {
		return Invalid("a name must have 1 to 63 characters; %q has %d", s, len(s))
	}
	for _, r := range s {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_.", r)) {
			return Invalid("the name %q contains %q; use letters, digits, '-', '_' and '.'", s, string(r))
		}
	}
	return nil
}

// Between is how long it was from one moment to another; 0 where one of them is not known.
func Between(from, to *time.Time) time.Duration {
	if from == nil || to == nil {
		return 0
	}
	return to.Sub(*from)
}
