package domain

import "time"

// The stages at which objects are made on the target, in their order.
const (
	StageTable    = "table"
	StageBefore   = "before"
	StageDeferred = "deferred"
	StageAfter    = "after"
	StageCarried  = "carried"
)

// The states of an object.
const (
	ObjectWaiting = "waiting"
	ObjectRunning = "running"
	ObjectMade    = "made"
	ObjectFailed  = "failed"
	ObjectLeftOut = "left out"
)

// TargetObject is something that a crossing makes on the target, with what came of it.
type TargetObject struct {
	ID        int64      `db:"id"`
	Ordinal   int        `db:"ordinal"`
	Stage     string     `db:"stage"`
	Kind      string     `db:"kind"`
	Name      string     `db:"name"`
	Table     string     `db:"table_name"` // schema.table on the target, or empty
	Statement string     `db:"statement"`
	State     string     `db:"state"`
	Error     string     `db:"error"`
	Seconds   *float64   `db:"seconds"` // for which its making ran; nil: it did not
	EndedAt   *time.Time `db:"ended_at"`
	Planned   string     `db:"planned"` // the statement that was planned
	ByHand    bool       `db:"by_hand"` // a person wrote another, or left it out
	Late      bool       `db:"late"`    // made at cutover
	Try       int64      `db:"try"`
}

// Settled reports whether there is nothing to make any more.
func (o *TargetObject) Settled() bool { return o.State == ObjectMade || o.State == ObjectLeftOut }

// Listing says which part of what a crossing makes a list is of, and what becomes of what
// was made.
type Listing struct {
	Table string // of this table of the target: what is made after its load, but for foreign keys
	Adds  bool   // what is not in the list stays
	Anew  bool   // what was made is to be made again, but for what is carried along and stands already
}

// ObjectOutcome is what came of making an object of a table.
type ObjectOutcome struct {
	Kind, Table, Statement string
	Failure                error
}
