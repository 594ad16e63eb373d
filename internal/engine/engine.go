// Package engine says what a database must be able to do to be a source or a
// target of a crossing. One package per engine stands behind these interfaces;
// none of them knows crossings, ledgers or queues.
package engine

import (
	"context"
	"time"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

// Endpoint is where a database is and how to sign in to it.
type Endpoint struct {
	Host     string
	Port     int
	Database string
	User     string
	Password string
	TLS      string // disable, prefer, require or verify-full
}

// Driver opens databases of one engine.
type Driver interface {
	Name() string
	Open(ctx context.Context, e Endpoint) (Database, error)
	FormatPosition(domain.Position) string
	ParsePosition(string) (domain.Position, error)
	// CheckPlace says what is wrong with a place in a log that a person gave, as a position
	// or as a waymark.
	CheckPlace(string) error
	// StopMethods are the ways in which a source of this engine can stop writes,
	// the best first.
	StopMethods() []domain.StopMethod
}

// Facts is what a check of a database found.
type Facts struct {
	Version   string
	Encrypted string // protocol and cipher, or "not encrypted"
	RoundTrip time.Duration
	User      string
	AsSource  []domain.Entry
	AsTarget  []domain.Entry
}

// Database is one open database. It is safe for use by several goroutines;
// readers, writers, captures and appliers opened from it are not.
type Database interface {
	Source
	Target
	Close()
	Check(ctx context.Context) (Facts, error)
	Catalog(ctx context.Context) (*domain.Catalog, error)
	// Plan says how a table of this source would be carried.
	Plan(t *domain.Table) (domain.TablePlan, error)
	// Describe returns the columns that a query would give, without running it.
	Describe(ctx context.Context, query string) ([]domain.Column, error)
	// Traces lists what crossings have left in the database.
	Traces(ctx context.Context) ([]Trace, error)
	// Preview returns the first rows of a table as text, at most limit, read in
	// a read-only transaction of at most five seconds; values are cut after 200
	// characters. A nil value is NULL.
	Preview(ctx context.Context, t *domain.Table, limit int) ([][]*string, error)
	// Doing says what the server does at this moment for one of our sessions, by the name that
	// its Session gave, and whether it is at work: not where it waits for us, for a lock or for
	// nothing, and not where it does not know the session any more.
	Doing(ctx context.Context, session string) (what string, works bool, err error)
	// Locked says which statements of ours have waited for a lock for so long, and for whose.
	Locked(ctx context.Context, since time.Duration) ([]string, error)
	// OpenView opens a consistent read-only view for comparing. With exact, the
	// view's log position is known and returned: it holds exactly the
	// transactions whose commit record begins before it.
	OpenView(ctx context.Context, exact bool, limit time.Duration) (View, domain.Position, error)
}

// Source is what a database can do as a source.
type Source interface {
	SurveySource(ctx context.Context, plans []domain.TablePlan, capture bool) ([]domain.Entry, error)
	// Sample returns about want keys of the table, sorted in the source's order.
	Sample(ctx context.Context, p *domain.TablePlan, want int) ([]domain.KeyValue, error)
	// Greatest returns the greatest value of a column of the plan's table as the engine's
	// text, empty when it has none.
	Greatest(ctx context.Context, p *domain.TablePlan, column string) (string, error)
	OpenReader(ctx context.Context) (Reader, error)
	// Scan reads rows to look at them: the columns that the plan carries, as the
	// texts that [typemap.Compile] takes, unread ones nil.
	Scan(ctx context.Context, p *domain.TablePlan, s Scope, visit func(fields [][]byte) error) error

	// CaptureUndo returns the statements that will restore what PrepareCapture
	// changes on tables; they are kept before anything is changed.
	CaptureUndo(plans []domain.TablePlan) []string
	// PrepareCapture makes what capture needs on the source, durable, and
	// returns the position from which nothing will be missed. It can be repeated.
	PrepareCapture(ctx context.Context, name string, plans []domain.TablePlan) (domain.Position, error)
	// Unfinished lists in words the transactions that have been writing on the source for at
	// least so long, the oldest first: where a server can begin to capture only when those
	// that are open have ended.
	Unfinished(ctx context.Context, least time.Duration) ([]string, error)
	DropCapture(ctx context.Context, name string, undo []string) error
	// Mind sees to what capture needs of tables that change under it, such as new
	// partitions, and returns the tables whose changes the log does not give any more. What
	// restores a change of it is handed to undo before it is made.
	Mind(ctx context.Context, name string, plans []domain.TablePlan, undo func(sql string) error) ([]domain.TableName, error)
	// OpenCapture reads the log from a place on. What our own transactions wrote here that
	// brought rows of the database except (see Origin) is passed over: it has them already.
	OpenCapture(ctx context.Context, name string, from domain.Position, tables []CaptureTable, except string) (Capture, error)
	// Origin names the database among all others. Every transaction that writes rows of it
	// to another one is marked there with this name.
	Origin(ctx context.Context) (string, error)
	// PlaceOf finds a waymark in this server's log: what comes after the place is what
	// came after it there. It is a conflict when this log does not lead on from it.
	PlaceOf(ctx context.Context, waymark string) (domain.Position, error)
	// Heartbeat writes a small transaction that capture will see, and returns a
	// position at or after its beginning.
	Heartbeat(ctx context.Context) (domain.Position, error)
	// Clock returns the source's own time.
	Clock(ctx context.Context) (time.Time, error)
	// Snapshot returns what a new read would see now.
	Snapshot(ctx context.Context) (domain.Snapshot, error)
	// Retained returns how much log the source keeps for the capture, or holds behind the
	// applied position where it keeps it by its own rules.
	Retained(ctx context.Context, name string, applied domain.Position) (Retained, error)
	// LogBytes returns how many bytes of log lie between two places, 0 when to is not
	// behind from.
	LogBytes(ctx context.Context, from, to domain.Position) (int64, error)
	// CheckCapture says from where changes can be read by what a person made on the
	// source under that name, or why they cannot.
	CheckCapture(ctx context.Context, name string, plans []domain.TablePlan) (domain.Position, error)
	// Prepared gives for each two-phase transaction that was prepared and waits for its end
	// the statement that would commit it: of those that concern the tables, or of all on
	// the server where it does not tell which they concern.
	Prepared(ctx context.Context, plans []domain.TablePlan) ([]string, error)
	// Undisturbed reports whether the statement at the place in the log was the last one that
	// altered the table, where the log carries statements.
	Undisturbed(ctx context.Context, t domain.TableName, at domain.Position) (bool, error)
	// Locate says for each key how many of the ascending bounds are at or below
	// it, in the source's own order.
	Locate(ctx context.Context, p *domain.TablePlan, bounds, keys []domain.KeyValue) ([]int, error)
	// FetchRow returns the row at the key as it is now, or nil.
	FetchRow(ctx context.Context, p *domain.TablePlan, key domain.KeyValue) (domain.Row, error)
	// MayStop says why the method cannot be used now: what it would set is set already, by
	// somebody else, and taking it back would open what they closed.
	MayStop(ctx context.Context, method domain.StopMethod) error
	// StopWrites makes the source accept no more writes to the tables.
	StopWrites(ctx context.Context, method domain.StopMethod, name string, plans []domain.TablePlan, wait time.Duration) (WriteStop, error)
	// Reopen undoes every trace of StopWrites and CloseWrites, also those left
	// by a process that died.
	Reopen(ctx context.Context, method domain.StopMethod, name string, plans []domain.TablePlan) error
	SequenceValues(ctx context.Context, seqs []domain.Sequence) ([]SequenceValue, error)
	// Identity is what the catalog says of the server: the places of a log mean
	// nothing in another's.
	Identity(ctx context.Context) (string, error)
	// Extras lists views, routines and triggers around the planned tables, of which
	// a target of the same engine could have them, in an order in which most can be
	// made. Names of tables in them are the source's.
	Extras(ctx context.Context, plans []domain.TablePlan, kinds []domain.Carried) ([]Object, error)
}

// Scope is how much of a table is looked at.
type Scope struct {
	Share    float64 // of its rows, above 0 and at most 1
	Extremes bool    // instead: least, greatest and longest value of each column
	First    int     // instead: so many rows, whichever come first
}

// WriteStop holds a source's writes back.
type WriteStop interface {
	// CloseWrites makes the stop durable: from now on writes fail with a
	// sentence that says the tables have moved, whatever becomes of us.
	CloseWrites(ctx context.Context, message string) error
	// Release lets waiting writes go on (after CloseWrites: into that failure).
	Release(ctx context.Context) error
	// Alive returns an error when the hold has been lost.
	Alive(ctx context.Context) error
}

// Left says that something of ours is still there which has no effect any more.
type Left struct{ What string }

func (l Left) Error() string { return l.What }

// SequenceValue is where a sequence stands.
type SequenceValue struct {
	Sequence domain.Sequence
	Last     int64
	Called   bool
}

// Reader reads chunks, each in a snapshot of its own.
type Reader interface {
	// Begin opens the snapshot and returns what it sees.
	Begin(ctx context.Context) (domain.Snapshot, error)
	// Packs reports whether Copy can give the rows of a plan packed: its target is of
	// another engine, and its values can be written in that engine's binary form.
	Packs(p *domain.TablePlan) bool
	// Copy hands the chunk's rows to sink, counting and hashing them. What sink gets is good
	// until it returns. Between engines that are alike it is in their wire form, cut
	// anywhere. For a plan whose sides are unlike it holds whole rows in the form of
	// [protocol/pgcopy.AppendFields]: the number of fields, and each field's length and text,
	// in the target's text form; or, where they are packed, in the target's binary form.
	Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, packed bool, sink func(block []byte) error) (rowhash.Sum, error)
	// Rows hands on the chunk's rows one by one, in the open snapshot, as texts in the
	// target's form. A row that cannot be brought into that form comes with the reason,
	// and as the source's texts. The fields are good until the next.
	Rows(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, take func(fields [][]byte, refused error) error) error
	// End closes the snapshot.
	End(ctx context.Context) error
	// Session names the connection on the server, see [Database].Doing.
	Session() string
	Close()
}

// Mark is what is kept on the target for a landed chunk.
type Mark struct {
	Crossing string
	Chunk    int64
	Epoch    int64
	Snapshot domain.Snapshot
	Sum      rowhash.Sum
}

// Writer lands chunks.
type Writer interface {
	// Session names the connection on the server, see [Database].Doing.
	Session() string
	// Packs reports whether the writer can take packed rows: its table has the very
	// types that the plan says, since bytes meant for one type could be read as another.
	Packs(ctx context.Context, p *domain.TablePlan) (bool, error)
	// Begin opens the transaction. With over, the rows of that chunk's range are removed in
	// it first.
	Begin(ctx context.Context, p *domain.TablePlan, packed bool, over *domain.Chunk) error
	Write(ctx context.Context, data []byte) error
	// Careful opens the transaction as Begin does, for rows that come by Put.
	Careful(ctx context.Context, p *domain.TablePlan, over *domain.Chunk) error
	// Put writes rows, each in the form of [protocol/pgcopy.AppendFields], all or none:
	// after the server's refusal the transaction stands as it stood before.
	Put(ctx context.Context, rows [][]byte) error
	// Land commits the rows and the mark together. It returns
	// [domain.ErrTakenOver] and leaves nothing when the chunk has a newer epoch.
	Land(ctx context.Context, m Mark) error
	// Abort drops everything since Begin.
	Abort()
	Close()
}

// CaptureTable tells a capture which table of the crossing a source table is.
type CaptureTable struct {
	ID   int64
	Plan *domain.TablePlan
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
	Tx       domain.Tx
	Change   domain.Change
	Position domain.Position
	Size     int
}

// Retained is log that a source keeps.
type Retained struct {
	Bytes int64
	From  domain.Position // where it begins
	Held  bool            // for the capture's sake, and not by the server's own rules
}

// Capture is a stream of committed changes in the order of their commits.
type Capture interface {
	// Events ends when the stream does; Err says why.
	Events() <-chan Event
	Err() error
	// Took says that an event has been taken and its memory is free again; the stream
	// waits when too much is queued.
	Took(e *Event)
	// Waiting is how many whole transactions were read and not taken yet.
	Waiting() int64
	// Confirm says that everything before the position is durable on the
	// target; the source may forget it.
	Confirm(domain.Position)
	// Waymark names a place of this log, at which a transaction ended, as every server
	// knows it that goes on with this one's history; empty where an engine has no such
	// names. It is asked for ever later places.
	Waymark(at domain.Position) string
	// Received is how far the stream has been read.
	Received() domain.Position
	Close()
}

// Object is something made on the target.
type Object struct {
	Kind  string           `json:"kind"` // table; after the load: primary key, index, unique, exclude, foreign
	Name  string           `json:"name"`
	Table domain.TableName `json:"table"`
	SQL   string           `json:"sql"`
}

// What is the name by which a person writes the object's statement by hand.
func (o Object) What() string {
	if o.Kind == "table" {
		return o.Kind
	}
	return o.Kind + " " + o.Name
}

// ByHand puts a person's statements in place of those that would make the objects
// of a plan, and leaves out what the person wants left out.
func ByHand(p *domain.TablePlan, objects []Object) []Object {
	if len(p.Statements) == 0 {
		return objects
	}
	var out []Object
	for _, o := range objects {
		sql, ok := p.Statements[o.What()]
		switch {
		case ok && sql == "":
			continue
		case ok:
			o.SQL = sql
		}
		out = append(out, o)
	}
	return out
}

// UnknownSession is what a server does that does not know a session: it has ended there, or a
// proxy gave us another number for it.
const UnknownSession = "the server does not know the session; it has ended there, or is behind a proxy"

// Target is what a database can do as a target.
type Target interface {
	// Holds counts the rows of the planned target tables that stand, up to a
	// million and one each.
	Holds(ctx context.Context, plans []domain.TablePlan) (map[domain.TableName]int64, error)
	SurveyTarget(ctx context.Context, cat *domain.Catalog, plans []domain.TablePlan, s domain.Settings) ([]domain.Entry, error)
	// PrepareTarget makes the bookkeeping and the tables; what becomes of those that
	// stand, plans and settings say. Every table is tried, and told of with what
	// came of it.
	PrepareTarget(ctx context.Context, crossing string, cat *domain.Catalog, plans []domain.TablePlan, s domain.Settings, told func(Object, error)) error
	// Unlike says in words how a table that stands is not what the plan needs; empty
	// when it is.
	Unlike(p *domain.TablePlan, t *domain.Table) string
	// Alters are the statements that bring the plan's table to changed columns, which are
	// in this engine's types and names. A new column's Fill is what rows get that stand.
	Alters(p *domain.TablePlan, changes []columns.Change) []string
	// Partitions are the statements that make partitions of a table that stands; none where
	// an engine does not tell its partitions apart.
	Partitions(parts []domain.Partition) []string
	// Run carries out a person's statement.
	Run(ctx context.Context, sql string) error
	// Creates lists what PrepareTarget runs for a table that does not stand.
	Creates(p *domain.TablePlan) []Object
	// OpenWriter opens a session for landing chunks. Here and below, origin is the source's
	// [Source.Origin].
	OpenWriter(ctx context.Context, origin string) (Writer, error)
	// Fence raises a chunk's epoch on the target, so that an older holder can
	// no longer land it, and returns its mark if it has landed.
	Fence(ctx context.Context, crossing string, chunk, epoch int64) (*Mark, error)
	// Marked lists the chunks of a crossing that have landed, as the target knows it.
	Marked(ctx context.Context, crossing string) (map[int64]bool, error)
	// ClearTable empties a table and forgets its chunks' marks, in one transaction.
	ClearTable(ctx context.Context, crossing, origin string, p *domain.TablePlan, chunks []int64) error
	// TakeStream makes epoch the only one that may apply, and returns the
	// position applied so far (start when there is none).
	TakeStream(ctx context.Context, crossing string, epoch int64, start domain.Position) (domain.Position, error)
	// StreamAt says how far changes are applied, and the waymark of that place.
	StreamAt(ctx context.Context, crossing string) (domain.Position, string, error)
	// MoveStream says the applied place anew, as another server of the same history
	// counts it; only under the newest epoch.
	MoveStream(ctx context.Context, crossing string, epoch int64, to domain.Position) error
	OpenApplier(ctx context.Context, crossing, origin string, epoch int64) (Applier, error)
	Deferred(cat *domain.Catalog, plans []domain.TablePlan) []Object
	// AppliesQuietly reports whether foreign keys can stand while changes are
	// applied; otherwise they wait for cutover.
	AppliesQuietly(ctx context.Context) bool
	// Build makes the object; it is no error when it stands already.
	Build(ctx context.Context, o Object) error
	// BuildsBeside reports whether the object can be built while others are on the same
	// table.
	BuildsBeside(o Object) bool
	// Unbuild drops deferred objects again, before tables are loaded anew; what
	// other objects need stays.
	Unbuild(ctx context.Context, objects []Object) error
	SetSequences(ctx context.Context, values []SequenceValue) error
	// Repair makes the rows at the keys equal to rows of a view of the source.
	Repair(ctx context.Context, crossing, origin string, at domain.Position, p *domain.TablePlan, fixes []Fix) error
	// ForgetStream removes the applied position, so that a stream can begin
	// anew; the chunks' fences stay.
	ForgetStream(ctx context.Context, crossing string) error
	// Forget removes all of the crossing's bookkeeping.
	Forget(ctx context.Context, crossing string) error
}

// Fix is one row to be made right: Row nil removes Copies rows, otherwise the
// row is put. For tables without a key Old is the whole row to remove.
type Fix struct {
	Key    domain.KeyValue
	Row    domain.Row
	Old    domain.Row
	Copies int
}

// Applier writes captured changes, each batch in one transaction with the
// position it brings the target to.
type Applier interface {
	// Session names the connection on the server, see [Database].Doing.
	Session() string
	Begin(ctx context.Context) error
	// Apply writes a net effect. With replace, rows are removed and inserted
	// instead of updated, so that unique values can change places. It returns the patches
	// whose rows are not there: nothing was written of them.
	Apply(ctx context.Context, p *domain.TablePlan, n fold.Net, replace bool) (missing []domain.Row, err error)
	// ApplyWhole applies changes of a table without a key, one by one.
	ApplyWhole(ctx context.Context, p *domain.TablePlan, changes []domain.Change) error
	// Find returns the keys of the rows whose columns have the values, within the
	// batch; values and keys are in the target's form.
	Find(ctx context.Context, p *domain.TablePlan, match []domain.Column, values []domain.Value) ([]domain.KeyValue, error)
	// Move changes a row's key in place, keeping values the log left unsaid, and reports
	// whether the row was there.
	Move(ctx context.Context, p *domain.TablePlan, c domain.Change) (bool, error)
	Truncate(ctx context.Context, plans []*domain.TablePlan, note string) error
	// Commit makes the batch durable with its position and, if it has one, its
	// waymark. It returns [domain.ErrTakenOver] when the stream has a newer epoch.
	Commit(ctx context.Context, to domain.Position, waymark string, at int64) error
	Abort()
	Close()
}

// Part says how a table is cut for comparing: by key range, or, when both
// servers need not order keys alike, into buckets of a hash of the key.
type Part struct {
	Bounds  []domain.KeyValue // ranges; nil: buckets
	Buckets int
}

// Range is where part i begins and ends, the end not included; nil: no bound.
func (p Part) Range(i int) (lower, upper domain.KeyValue) {
	if i > 0 {
		lower = p.Bounds[i-1]
	}
	if i < len(p.Bounds) {
		upper = p.Bounds[i]
	}
	return lower, upper
}

// View is a consistent read-only view.
type View interface {
	// Count returns the number of rows.
	Count(ctx context.Context, p *domain.TablePlan) (int64, error)
	// Sums returns one sum for each part.
	Sums(ctx context.Context, p *domain.TablePlan, part Part, progress func(rows int64)) ([]rowhash.Sum, error)
	// Rows gives key (see [narrow.AppendKey]) and hash of every row in the wanted
	// parts.
	Rows(ctx context.Context, p *domain.TablePlan, part Part, want []int, visit func(key []byte, hash uint64)) error
	// Fetch returns the rows at keys that [View.Rows] gave, by key, one entry
	// per copy. Columns are all of the plan's, in order, in text form.
	Fetch(ctx context.Context, p *domain.TablePlan, part Part, keys []string) (map[string][]domain.Row, error)
	Close()
}
