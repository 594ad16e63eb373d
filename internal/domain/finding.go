package domain

import "time"

// FindingKind says how source and target differ at one row.
type FindingKind string

// The kinds of finding.
const (
	MissingOnTarget FindingKind = "missing on target"
	ExtraOnTarget   FindingKind = "extra on target"
	Differing       FindingKind = "differing"
)

// Finding is one difference found by a reconciliation, with both rows in text
// form. A nil pointer is NULL.
type Finding struct {
	Kind    FindingKind        `json:"kind"`
	Key     KeyValue           `json:"key"` // empty for a table without a key
	Source  map[string]*string `json:"source,omitempty"`
	Target  map[string]*string `json:"target,omitempty"`
	Columns []string           `json:"columns,omitempty"` // the differing columns
	Copies  int                `json:"copies,omitempty"`  // tables without a key: how many too many or too few
	// tables without a key: the row's hash, by which it is found again
	Place string `json:"place,omitempty"`
}

// Reconciliation is one comparison of source and target.
type Reconciliation struct {
	ID         int64
	CrossingID int64
	TaskID     *int64
	Depth      Depth
	State      ComparisonState
	Position   Position // that both sides were seen at; 0: there was none to be shared
	Patterns   []string
	Error      string
	CreatedAt  time.Time
	StartedAt  *time.Time
	EndedAt    *time.Time
	Tables     int
	TablesDone int
	SourceRows int64
	TargetRows int64
	Findings   int64
	Open       int64
	Equal      int64
	Expected   int64 // about how many rows the source has
}

// ReconciledTable is one table's result.
type ReconciledTable struct {
	ReconciliationID int64
	TableID          int64
	Name             string
	State            string
	Parts            int
	DifferingParts   int
	SourceRows       int64
	TargetRows       int64
	SourceHash       string
	TargetHash       string
	Findings         int64
	Seconds          float64
	Expected         int64
}

// KeptFinding is a finding in the records.
type KeptFinding struct {
	ID               int64
	ReconciliationID int64
	TableID          int64
	TableName        string
	Kind             FindingKind
	Detail           Finding
	Order            []string // all columns, as in the table
	State            string
	ChangedAt        *time.Time
}

// FindingFilter chooses findings; empty fields choose all.
type FindingFilter struct {
	State  string
	Kind   string
	Table  string
	Search string // part of the key
	IDs    []int64
	Offset int
	Limit  int
}

// Request is what an applier is asked for, with the position it is about, and by whom.
type Request struct {
	What string
	At   Position
	By   string
}

// Stand is where the applier of a crossing stands, for those who ask it for something.
type Stand struct {
	Epoch    int64 // grows with each holder
	Live     bool  // somebody holds it
	Reading  bool  // and has opened the log
	Lag      time.Duration
	Changes  int64
	Answered int64 // changes that its holder had applied at its last answer
	Applied  Position
	Request  Request
	For      string // what the request is for
	Failures int    // below 0: it waits for a person
	Error    string // why nobody holds it, where it failed
	// Noticed is what was seen of the source's tables when they were last looked at.
	Noticed []Entry
}

// AppliedTx is a source transaction that was applied.
type AppliedTx struct {
	Position  Position  `json:"position"`
	Committed time.Time `json:"committed"` // by the source's clock
	Applied   time.Time `json:"applied"`
	Kinds     [4]int64  `json:"kinds"` // inserts, updates, deletes, truncates
	Tables    []string  `json:"tables"`
}

// TableComparison is what the newest comparison of a depth says of a table as it was
// loaded last.
type TableComparison struct {
	TableID          int64
	Name             string
	ReconciliationID int64
	Depth            Depth
	Position         Position `db:"-"`
	EndedAt          time.Time
	SourceRows       int64
	TargetRows       int64
	SourceHash       string
	TargetHash       string
	Findings         int64 // all that were counted; those that were kept are in one of three states
	Open             int64
	Repaired         int64
	Equal            int64
}
