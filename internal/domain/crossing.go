package domain

import (
	"regexp"
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

// Copies reports whether the rows that are there are copied.
func (k Kind) Copies() bool { return k != KindCapture }

// Follows reports whether live changes are followed.
func (k Kind) Follows() bool { return k != KindLoad }

// KindOf is the kind of a crossing by the two questions that people are asked, each of which
// is a yes where nothing is said, or by the word that stood for both before.
func KindOf(copies, follows *bool, word Kind) (Kind, error) {
	yes := func(b *bool) bool { return b == nil || *b }
	switch {
	case word != "" && (copies != nil || follows != nil):
		return "", Invalid("kind says what copy_rows and follow_changes say too; give those two alone")
	case word != "":
		return word, nil
	case yes(copies) && yes(follows):
		return KindLoadCapture, nil
	case yes(copies):
		return KindLoad, nil
	case yes(follows):
		return KindCapture, nil
	}
	return "", Invalid("copy_rows and follow_changes are both off, so there is nothing to do; leave one of them on")
}

// PhaseLabel is a phase as people read it: a crossing that only loads is in step with
// nothing.
func (k Kind) PhaseLabel(p Phase) string {
	if k == KindLoad && p == PhaseInStep {
		return "loaded"
	}
	return string(p)
}

// PhaseText is the crossing's phase as people read it.
func (c *Crossing) PhaseText() string {
	if c.Phase == PhaseCutOver && c.ReturnBy != "" {
		return "cut over, return open"
	}
	return c.Kind.PhaseLabel(c.Phase)
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
	// DepthVouched compares the rows that changes have touched, and all rows of tables that were
	// not compared since they were loaded; and row counts.
	DepthVouched Depth = "vouched"
	DepthNone    Depth = "none" // only at cutover: do not reconcile in the pause
)

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
	ReturnOf    *int64   // the crossing whose cutover made this one, to bring back what is written since
	ReturnOfIs  string   // its name, or empty
	ReturnBy    string   // the name of the crossing that is this one's return path, or empty
	StartAt     Position // where capture begins; 0: it has not begun
	MaxRead     Position // of the latest snapshot that a chunk was read in
	Undo        []string // statements that give the source back what capture changed
	Built       bool     // what is made before cutover stands
	Trouble     string   // what keeps it from going on by itself
	OtherServer string   // that answers for the source, where it is not the one that it began with
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

// CrossingTable is one table of a crossing.
type CrossingTable struct {
	ID           int64
	CrossingID   int64
	Ordinal      int
	SourceName   string
	TargetName   string
	Plan         TablePlan
	State        TableState
	Reason       string
	EstRows      int64
	EstBytes     int64
	Chunks       int
	ChunksLanded int
	RowsLanded   int64
	BytesLanded  int64
	Inserts      int64
	Updates      int64
	Deletes      int64
	Truncates    int64
	StartedAt    *time.Time
	LandedAt     *time.Time
	Watermark    string
}

// Cutover is one cutover or rehearsal.
type Cutover struct {
	ID               int64
	CrossingID       int64
	TaskID           *int64
	Rehearsal        bool
	State            CutoverState
	Settings         Settings
	Readiness        []Entry
	EndPosition      Position // 0: none was taken
	PausedAt         *time.Time
	ReleasedAt       *time.Time
	ReconciliationID *int64
	AbortBy          string
	WordBy           string
	Error            string
	Actor            string
	GoneOn           map[string]string // hold point -> who let it go on
	CreatedAt        time.Time
	EndedAt          *time.Time
}

// CutoverStep is how one step of a cutover stands.
type CutoverStep struct {
	CutoverID int64
	Ordinal   int
	Name      StepName
	State     StepState
	Note      string
	Awaits    Awaits // of a person, while it runs
	StartedAt *time.Time
	EndedAt   *time.Time
}
