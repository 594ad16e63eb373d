package domain

import (
	"slices"
	"time"
)

// TablePlan is what will happen to one table.
type TablePlan struct {
	Source  TableName `json:"source"`
	Target  TableName `json:"target"`
	Columns []Column  `json:"columns"` // of the source, in its order
	Key     []string  `json:"key"`     // empty: rows are matched whole
	// KeyOrder says who decides which chunk a key belongs to: "ours" when our
	// comparison is provably the source's, "source" when it must be asked, "none"
	// when the table is not cut.
	KeyOrder string `json:"key_order"`
	// Watermark is the column past whose greatest value a repeated load reads, and
	// Overlap what it reads again before that; empty: it loads anew.
	Watermark string `json:"watermark,omitempty"`
	Overlap   string `json:"overlap,omitempty"`
	// Binary: rows travel in the engine's binary form; otherwise as its text.
	Binary bool `json:"binary"`
	// SetIdentity is what the source's log must say about old rows and does not
	// yet: "full" or "default"; empty when it is right as it is.
	SetIdentity string `json:"set_identity,omitempty"`
	// Where keeps only rows that fulfil it; a condition in the source's SQL.
	Where string `json:"where,omitempty"`
	// From is what is read in place of a table: a query in the source's SQL.
	From string `json:"from,omitempty"`
	// ReplaceRange: rows of each chunk take the place of those that stand in its range.
	ReplaceRange bool `json:"in_place,omitempty"`
	// ReadOrder is what the chunks of the table are ranges of: empty for its key, or "disk" for
	// the pages in which its rows lie. Of such a table no key says which chunk its row is in.
	ReadOrder string `json:"read_order,omitempty"`
	// SingleChunk: the table is one chunk, whatever its key.
	SingleChunk bool `json:"uncut,omitempty"`
	// DeferPrimaryKey: the target's table may get its primary key after its rows; its engine
	// decides.
	DeferPrimaryKey bool `json:"key_later,omitempty"`
	// After names tables of the source that must have landed before this one begins.
	After []TableName `json:"after,omitempty"`
	// Added are columns that only the target has, with the same value in every row;
	// on a target's side.
	Added []Column `json:"added,omitempty"`
	// ExistingRows says what becomes of a target table that exists; see [ExistingRowsWays].
	ExistingRows string `json:"standing,omitempty"`
	// Statements are written by hand, by the object that they make: table, index NAME
	// and so on.
	Statements map[string]string `json:"statements,omitempty"`
	Note       string            `json:"note,omitempty"` // a person's, for people
	Table      Table             `json:"table"`          // the source's catalog entry, for deferred objects
	// TargetSide is the same table as the target's engine must know it, with its
	// own types and statements; nil when rows travel in the engine's own form. Captured and
	// fetched values are then in the target's text form on both sides.
	// Its columns are those that this plan carries, one for one.
	TargetSide *TablePlan `json:"target_side,omitempty"`
	// Engine is the engine of a TargetSide.
	Engine string `json:"engine,omitempty"`
	// CrossEngine marks both sides of such a pair: rows are compared as text.
	CrossEngine bool `json:"unlike,omitempty"`
	// Runtime is what a process adds to the plan while it works by it; nil where that is nothing.
	Runtime *Runtime `json:"-"`
}

// Runtime is what no record of a plan holds.
type Runtime struct {
	MaskKeys  map[string][]byte // by the name that a column's Mask gives
	Truncated func()            // is told of every value that is cut; nil: nobody is
}

// MaskKey is the key of that name, nil where it was not given.
func (r *Runtime) MaskKey(name string) []byte {
	if r == nil {
		return nil
	}
	return r.MaskKeys[name]
}

// WithTruncated is the same runtime, but for who is told of values that are cut.
func (r *Runtime) WithTruncated(f func()) *Runtime {
	out := &Runtime{Truncated: f}
	if r != nil {
		out.MaskKeys = r.MaskKeys
	}
	return out
}

// TargetPlan returns the plan as the target's engine must know it: its own names
// in front, its own types.
func (p TablePlan) TargetPlan() TablePlan {
	if p.TargetSide != nil {
		return *p.TargetSide
	}
	p.Source = p.Target
	return p
}

// Splittable reports whether the table can be cut into chunks by its key.
func (p *TablePlan) Splittable() bool {
	return len(p.Key) > 0 && p.KeyOrder != "none" && !p.SingleChunk
}

// ByDisk is the ReadOrder of a table that is cut by the pages in which its rows lie.
const ByDisk = "disk"

// Ways of the setting read_order, beside "auto".
const (
	ReadByKey  = "key"
	ReadByDisk = ByDisk
)

// ReadByDisk reports whether the table's chunks are ranges of pages.
func (p *TablePlan) ReadByDisk() bool { return p.ReadOrder == ByDisk }

// DiskOrder is what a source knows of the pages of a table.
type DiskOrder struct {
	Pages, Cache int64    // of the table, and of the server's own cache
	File         string   // another one once all rows were written anew
	Correlation  *float64 // of the order of its key and that of its rows, -1 to 1; nil: not known
}

// FindsReferrers reports whether an index finds the rows that a foreign key changes by itself
// when what they refer to changes. Each such change is followed by looking for them, so it has to
// stand before the rows do.
func (p *TablePlan) FindsReferrers(x Index) bool {
	for _, k := range p.Table.Constraints {
		n := len(k.Columns)
		if k.Kind != "foreign" || !k.Unlogged || n == 0 || len(x.Columns) < n {
			continue
		}
		if !slices.ContainsFunc(k.Columns, func(c string) bool { return !slices.Contains(x.Columns[:n], c) }) {
			return true
		}
	}
	return false
}

// ExistingRowsPolicy says what becomes of the target table when it stands and holds rows.
func (p *TablePlan) ExistingRowsPolicy(s Settings) string {
	if p.ExistingRows != "" {
		return p.ExistingRows
	}
	return s.ExistingRows
}

// TargetTableColumns returns the columns that the target's table gets, of the plan's own side.
func (p *TablePlan) TargetTableColumns() []Column {
	return append(p.Columns[:len(p.Columns):len(p.Columns)], p.Added...)
}

// CopiedColumns returns the columns that are copied: all but generated ones.
func (p *TablePlan) CopiedColumns() []Column {
	out := make([]Column, 0, len(p.Columns))
	for _, c := range p.Columns {
		if !c.Generated {
			out = append(out, c)
		}
	}
	return out
}

// ComparedColumns returns the columns of rows that are compared with the other side: all, but
// where rows travel as texts not those that only a database of the same engine
// computes alike.
func (p *TablePlan) ComparedColumns() []Column {
	if !p.CrossEngine {
		return p.Columns
	}
	out := make([]Column, 0, len(p.Columns))
	for _, c := range p.Columns {
		if !c.Generated || c.Computed != "" {
			out = append(out, c)
		}
	}
	return out
}

// TargetColumns returns the target's columns, one for one with those carried.
func (p *TablePlan) TargetColumns() []Column {
	switch {
	case p.TargetSide == nil:
		return p.CopiedColumns()
	case len(p.TargetSide.Columns) == len(p.CopiedColumns()):
		return p.TargetSide.Columns
	}
	return p.TargetSide.CopiedColumns()
}

// KeyIndexes returns the positions of the key's columns among cols.
func (p *TablePlan) KeyIndexes(cols []Column) []int {
	var out []int
	for _, k := range p.Key {
		for i, c := range cols {
			if c.Name == k {
				out = append(out, i)
			}
		}
	}
	return out
}

// TableState is where one table of a crossing stands.
type TableState string

// The states of a table.
const (
	TablePlanned TableState = "planned"
	TableLoading TableState = "loading"
	TableLanded  TableState = "landed" // every chunk has landed
	TableHeld    TableState = "held"   // waits for a person; other tables go on
)

// ChunkState is where one chunk stands.
type ChunkState string

// The states of a chunk. Reading begins before the chunk's snapshot is taken.
const (
	ChunkPending ChunkState = "pending"
	ChunkReading ChunkState = "reading"
	ChunkLanded  ChunkState = "landed"
	ChunkHeld    ChunkState = "held"
)

// KeyValue is one key as the text forms of its columns.
type KeyValue []string

// CutTable is a table of a crossing with the chunks that it is cut into.
type CutTable struct {
	Table  *CrossingTable
	Chunks []Chunk
}

// Chunk is a key range of one table: Lower <= key < Upper in the source's
// order. A nil bound is open.
//
// Invariant: a table's chunks, by Ordinal, cover every possible key once.
type Chunk struct {
	ID       int64
	TableID  int64
	Ordinal  int
	Lower    KeyValue
	Upper    KeyValue
	State    ChunkState
	Epoch    int64 // raised at each claim and each return; what lands must carry it
	Attempts int
	Snapshot Snapshot // of the read that landed
	Rows     int64
	Bytes    int64
	Hash     uint64 // order-free sum of row hashes

	CrossingID int64
	Place      int // of its table in the order in which tables are carried
	Worker     string
	LeaseUntil *time.Time
	NotBefore  time.Time
	ReadBytes  int64
	Waits      string
	StartedAt  *time.Time
	EndedAt    *time.Time
	Error      string
	Run        int     // chunks that are carried with it, itself included
	Leader     *int64  // the chunk that it is carried with
	With       *int64  // that chunk's ordinal; only where chunks are listed for people
	Beside     *int64  // the chunk of another table that takes up the lane for this one too
	Others     []Chunk // those of which it does, where it is claimed
}

// Landing is a chunk that has landed beside others, and what it held.
type Landing struct {
	ID    int64
	Epoch int64
	Rows  int64
	Bytes int64
	Hash  uint64
}

// KeyColumns returns the key's columns.
func (p *TablePlan) KeyColumns() []Column {
	cols := p.CopiedColumns()
	var out []Column
	for _, i := range p.KeyIndexes(cols) {
		out = append(out, cols[i])
	}
	return out
}

// Truncates reports whether long values of the plan are cut.
func (p *TablePlan) Truncates() bool {
	return slices.ContainsFunc(p.Columns, func(c Column) bool { return c.Cut })
}
