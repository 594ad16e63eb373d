package domain

// ChangeKind is what a change does.
type ChangeKind byte

// The kinds of change.
const (
	Insert ChangeKind = iota + 1
	Update
	Delete
	Truncate
	Redefine // the table's columns are not those of the plan any more
	Unread   // rows changed, and the log does not say which: Note says by what
)

// ValueKind tells a NULL, a value and "the same as before" apart.
type ValueKind byte

// The kinds of value in a captured row.
const (
	Null ValueKind = iota
	Present
	Unchanged // a large value the log does not repeat
)

// Value is one column of a captured row, in the engine's text form.
type Value struct {
	Kind ValueKind
	Data []byte
}

// Row is a captured row: one value per carried column of the table's plan.
type Row []Value

// Change is one captured change of one table.
type Change struct {
	Kind  ChangeKind
	Table int64 // the crossing's table
	// Old is the row before: whole when the log carries whole rows, otherwise
	// only key columns are set; nil when the log carried none (the key stayed).
	Old Row
	New Row // nil for Delete and Truncate
	// OldWhole: Old holds every column.
	OldWhole bool
	// Note says, for Redefine, what differs; for Unread, what happened; for Truncate, how (cascade, restart).
	Note string
	// Columns are those of the log from a Redefine on, by name and type, where the log
	// says so, and Statement what was run, where it says that.
	Columns   []Column
	Statement string
	// Unchecked: foreign keys did nothing by themselves when it was made.
	Unchecked bool
	// Unsure: of an Update whose New leaves out values that may have changed all the same. The
	// row's key is known; the rest has to be read.
	Unsure bool
	// Group numbers the tables truncated by one statement alike.
	Group int
}

// OfRows reports whether the change is one of rows, all of which it says.
func (c *Change) OfRows() bool {
	return c.Kind == Insert || c.Kind == Update || c.Kind == Delete || c.Kind == Truncate
}

// KeyText is a row's key as one string that is equal for equal keys and
// different for different ones: each value with its length in front.
func KeyText(r Row, idx []int) string {
	n := 0
	for _, i := range idx {
		n += len(r[i].Data) + 5
	}
	b := make([]byte, 0, n)
	for _, i := range idx {
		v := r[i]
		l := uint32(len(v.Data))
		b = append(b, byte(v.Kind), byte(l>>24), byte(l>>16), byte(l>>8), byte(l))
		b = append(b, v.Data...)
	}
	return string(b)
}

// EventKind is the kind of a captured event.
type EventKind byte

// The kinds of event.
const (
	EventBegin EventKind = iota + 1
	EventChange
	EventCommit
	EventProgress // everything before Position has been delivered
	EventVoid     // the transaction that began was never committed: its server died
)

// Event is one step of the captured stream. Events of one transaction come
// together: begin, changes, commit; or, very rarely, begin, some changes, void.
type Event struct {
	Kind     EventKind
	Tx       Tx
	Change   Change
	Position Position
	Size     int
}
