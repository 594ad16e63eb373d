package engine

import (
	"context"
	"slices"
	"time"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/domain"
)

// Database is one open database of any engine. It is safe for use by several goroutines;
// readers, writers, captures and appliers opened from it are not. What else it can do are the
// small interfaces below, of which it has those that fit its engine.
type Database interface {
	Close()
	Check(ctx context.Context) (Facts, error)
	Catalog(ctx context.Context) (*domain.Catalog, error)
	// Identity is what the catalog says of the server: the places of a log mean
	// nothing in another's.
	Identity(ctx context.Context) (string, error)
	// Origin names the database among all others. Every transaction that writes rows of it
	// to another one is marked there with this name.
	Origin(ctx context.Context) (string, error)
	// Plan says how a table of this source would be carried.
	Plan(t *domain.Table) (domain.TablePlan, error)
}

// Reads is what a load needs of its source: rows in chunks, each in a snapshot of its own.
type Reads interface {
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
	// Preview returns the first rows of a table as text, at most limit, read in
	// a read-only transaction of at most five seconds; values are cut after 200
	// characters. A nil value is NULL.
	Preview(ctx context.Context, t *domain.Table, limit int) ([][]*string, error)
}

// Queries is for sources whose rows can be chosen and computed by queries.
type Queries interface {
	// Describe returns the columns that a query would give, without running it.
	Describe(ctx context.Context, query string) ([]domain.Column, error)
}

// Captures is what following changes needs of its source: a log that gives them in the order of
// their commits, from a durable place on.
type Captures interface {
	// CaptureUndo returns the statements that will restore what PrepareCapture
	// changes on tables; they are kept before anything is changed.
	CaptureUndo(plans []domain.TablePlan) []string
	// PrepareCapture makes what capture needs on the source, durable, and
	// returns the position from which nothing will be missed. It can be repeated.
	PrepareCapture(ctx context.Context, name string, plans []domain.TablePlan) (domain.Position, error)
	// KeepsEarlier says whether the log can be read from before the place that PrepareCapture
	// returned, for as long as the server keeps it.
	KeepsEarlier() bool
	// OpenTransactions lists in words the transactions that have been writing on the source for at
	// least so long, the oldest first: where a server can begin to capture only when those
	// that are open have ended.
	OpenTransactions(ctx context.Context, least time.Duration) ([]string, error)
	DropCapture(ctx context.Context, name string, undo []string) error
	// Mind sees to what capture needs of tables that change under it, such as new
	// partitions, and returns the tables whose changes the log does not give any more. What
	// restores a change of it is handed to undo before it is made.
	Mind(ctx context.Context, name string, plans []domain.TablePlan, undo func(sql string) error) ([]domain.TableName,
		error)
	// OpenCapture reads the log from a place on. What our own transactions wrote here that
	// brought rows of the database except (see Origin) is passed over: it has them already.
	OpenCapture(ctx context.Context, name string, from domain.Position, tables []CaptureTable, except string) (Capture,
		error)
	// CheckCapture says from where changes can be read by what a person made on the
	// source under that name, or why they cannot.
	CheckCapture(ctx context.Context, name string, plans []domain.TablePlan) (domain.Position, error)
	// ResolveGTID finds a GTID in this server's log: what comes after the place is what
	// came after it there. It is a conflict when this log does not lead on from it.
	ResolveGTID(ctx context.Context, portable string) (domain.Position, error)
	// Heartbeat writes a small transaction that capture will see, and returns a
	// position at or after its beginning.
	Heartbeat(ctx context.Context) (domain.Position, error)
	// Snapshot returns what a new read would see now.
	Snapshot(ctx context.Context) (domain.Snapshot, error)
	// Locate says for each key how many of the ascending bounds are at or below
	// it, in the source's own order.
	Locate(ctx context.Context, p *domain.TablePlan, bounds, keys []domain.KeyValue) ([]int, error)
	// FetchRow returns the row at the key as it is now, or nil.
	FetchRow(ctx context.Context, p *domain.TablePlan, key domain.KeyValue) (domain.Row, error)
	// Retained returns how much log the source keeps for the capture, or holds behind the
	// applied position where it keeps it by its own rules.
	Retained(ctx context.Context, name string, applied domain.Position) (Retained, error)
	// LogBytes returns how many bytes of log lie between two places, 0 when to is not
	// behind from.
	LogBytes(ctx context.Context, from, to domain.Position) (int64, error)
	// Prepared gives for each two-phase transaction that was prepared and waits for its end
	// the statement that would commit it: of those that concern the tables, or of all on
	// the server where it does not tell which they concern.
	PreparedTransactions(ctx context.Context, plans []domain.TablePlan) ([]string, error)
	// IsLastDDL reports whether the statement at the place in the log was the last one that
	// altered the table, where the log carries statements.
	IsLastDDL(ctx context.Context, t domain.TableName, at domain.Position) (bool, error)
}

// StopsWrites is what a cutover needs of its source.
type StopsWrites interface {
	// MayStop says why the method cannot be used now: what it would set is set already, by
	// somebody else, and taking it back would open what they closed.
	MayStop(ctx context.Context, method domain.StopMethod) error
	// Settle drives away what would keep writes from being stopped quickly and that nobody misses, such as
	// an automatic vacuum. No writer waits for it.
	Settle(ctx context.Context, plans []domain.TablePlan) error
	// StopWrites makes the source accept no more writes to the tables.
	StopWrites(ctx context.Context, method domain.StopMethod, name string, plans []domain.TablePlan, wait time.Duration) (
		WriteStop, error)
	// Reopen undoes every trace of StopWrites and CloseWrites, also those left
	// by a process that died.
	Reopen(ctx context.Context, method domain.StopMethod, name string, plans []domain.TablePlan) error
}

// Lands is what a load needs of its target: rows and the mark of their chunk in one
// transaction.
type Lands interface {
	// Holds counts the rows of the planned target tables that stand, up to a
	// million and one each.
	Holds(ctx context.Context, plans []domain.TablePlan) (map[domain.TableName]int64, error)
	SurveyTarget(ctx context.Context, cat *domain.Catalog, plans []domain.TablePlan, s domain.Settings) ([]domain.Entry,
		error)
	// PrepareTarget makes the bookkeeping and the tables; what becomes of those that
	// stand, plans and settings say. Every table is tried, and told of with what
	// came of it.
	PrepareTarget(ctx context.Context, crossing string, cat *domain.Catalog, plans []domain.TablePlan, s domain.Settings,
		told func(Object, error)) error
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
	// Forget removes all of the crossing's bookkeeping.
	Forget(ctx context.Context, crossing string) error
}

// Applies is what following changes needs of its target: changes and the place that they bring
// it to in one transaction, under an epoch.
type Applies interface {
	// TakeStream makes epoch the only one that may apply, and returns the
	// position applied so far (start when there is none).
	TakeStream(ctx context.Context, crossing string, epoch int64, start domain.Position) (domain.Position, error)
	// StreamAt says how far changes are applied, and the GTID of that place, where the server has them.
	StreamAt(ctx context.Context, crossing string) (domain.Position, string, error)
	// MoveStream says the applied place anew, as another server of the same history
	// counts it; only under the newest epoch.
	MoveStream(ctx context.Context, crossing string, epoch int64, to domain.Position) error
	OpenApplier(ctx context.Context, crossing, origin string, epoch int64) (Applier, error)
	// ForgetStream removes the applied position, so that a stream can begin
	// anew; the chunks' fences stay.
	ForgetStream(ctx context.Context, crossing string) error
}

// Repairs is for targets whose rows can be made right one by one.
type Repairs interface {
	// Repair makes the rows at the keys equal to rows of a view of the source, all or none. at is the
	// place up to which changes were applied, zero where none are.
	Repair(ctx context.Context, crossing, origin string, at domain.Position, p *domain.TablePlan, fixes []Fix) error
}

// ReadsByDisk is for sources whose tables can be read by ranges of the pages in which their rows lie.
// The bounds of such chunks are the number of a page, and behind it, of the first one, the table's
// file: a chunk is read only from that one ([ErrRewritten]).
type ReadsByDisk interface {
	// DiskOrders says how those of the tables lie on the disk that can be read so.
	DiskOrders(ctx context.Context, plans []*domain.TablePlan) (map[domain.TableName]domain.DiskOrder, error)
}

// Remembers is for targets on which rows of such tables can land: what stands at a row's key stays,
// and keys of removed rows are remembered, by appliers that are a [Rememberer].
type Remembers interface {
	Remembered(ctx context.Context, crossing string, p *domain.TablePlan) ([]domain.KeyValue, error)
}

// Rememberer is an applier to whose tables rows land that are read by the pages in which they lie.
type Rememberer interface {
	// Remember comes before changes of such a table while it loads. It keeps the keys of removed
	// rows, and forgets others, in the open transaction.
	Remember(ctx context.Context, p *domain.TablePlan, keep, forget []domain.KeyValue) error
}

// Vouches is for targets that keep, beside the changes that are applied, which rows these touched,
// by appliers that are a [Toucher].
type Vouches interface {
	// KeepTouched makes room for it on a target that a version before prepared.
	KeepTouched(ctx context.Context) error
	// Touched lists what was touched up to a place and is not forgotten yet, oldest first: what is
	// behind a number of such a list, and at most so many.
	Touched(ctx context.Context, crossing string, to domain.Position, behind int64, most int) ([]Touched, error)
	// ForgetTouched forgets what has been compared, by numbers.
	ForgetTouched(ctx context.Context, crossing string, ids []int64) error
}

// Touched are the rows of a table that one transaction of an applier touched.
type Touched struct {
	ID     int64  // a number that grows, given by the target
	Target string // the table there, [domain.TableName.String]
	Rows   int64  // how many keys there are; 0: any row of the table may have been touched
	Keys   []byte // packed by [core/touched]
}

// Toucher is an applier that keeps in its open transaction which rows it touches.
type Toucher interface {
	// Touch keeps them with the place that the transaction will bring the target to. Before that is
	// known, as in a large one, it is called with [domain.FarAway], and again when it is.
	Touch(ctx context.Context, at domain.Position, list []Touched) error
}

// Guards is for targets whose tables can refuse writes of everybody but us.
type Guards interface {
	// Guard makes the tables do so. It can be repeated.
	Guard(ctx context.Context, crossing string, plans []domain.TablePlan) error
	// GuardNew has partitions that came since do what their tables do, and returns those.
	GuardNew(ctx context.Context, crossing string, plans []domain.TablePlan) ([]string, error)
	// Guarded reports which of the tables do, they and all of their partitions.
	Guarded(ctx context.Context, crossing string, plans []domain.TablePlan) (map[domain.TableName]bool, error)
	// Closed reports which of the tables refuse writes of others since a cutover closed them under that name.
	Closed(ctx context.Context, name string, plans []domain.TablePlan) (map[domain.TableName]bool, error)
	// OpenGuard lets everybody write again at once, or, where open is false, nobody but us; where there is
	// no guard, it does nothing.
	OpenGuard(ctx context.Context, crossing string, open bool) error
	// Unguard removes every trace of it.
	Unguard(ctx context.Context, crossing string) error
}

// Forgets is for sources whose stop of writes does not outlive their server's process.
type Forgets interface {
	// TakesWrites reports whether the source takes writes, and for how long its server has been running.
	TakesWrites(ctx context.Context, method domain.StopMethod) (open bool, up time.Duration, err error)
	// CloseAgain closes it as the method had.
	CloseAgain(ctx context.Context, method domain.StopMethod) error
}

// Binds is for sources whose stop of writes can bind their whole server, and the target with it where
// one server has both.
type Binds interface {
	// BindsTarget says what the method would keep the target from, and what to do about it; nothing where
	// it does not.
	BindsTarget(ctx context.Context, method domain.StopMethod, target Database) ([]domain.Entry, error)
}

// Defines is for targets whose tables and other objects are made by statements.
type Defines interface {
	// AppliesQuietly reports whether foreign keys can stand while changes are
	// applied; otherwise they wait for cutover.
	AppliesQuietly(ctx context.Context) bool
	// Creates lists what PrepareTarget runs for a table that does not stand.
	Creates(p *domain.TablePlan) []Object
	// DiffTable says in words how a table that stands is not what the plan needs; empty
	// when it is.
	DiffTable(p *domain.TablePlan, t *domain.Table) string
	// Alters are the statements that bring the plan's table to changed columns, which are
	// in this engine's types and names. A new column's Fill is what rows get that stand.
	Alters(p *domain.TablePlan, changes []columns.Change) []string
	// Partitions are the statements that make partitions of a table that stands; none where
	// an engine does not tell its partitions apart.
	Partitions(parts []domain.Partition) []string
	// Run carries out a person's statement.
	Run(ctx context.Context, sql string) error
	Deferred(cat *domain.Catalog, plans []domain.TablePlan) []Object
	// Build makes the object; it is no error when it stands already.
	Build(ctx context.Context, o Object) error
	// BuildsBeside reports whether the object can be built while others are on the same
	// table.
	BuildsBeside(o Object) bool
	// Unbuild drops deferred objects again, before tables are loaded anew; what
	// other objects need stays.
	Unbuild(ctx context.Context, objects []Object) error
}

// Compares is what a comparison needs of both sides.
type Compares interface {
	// OpenView opens a consistent read-only view for comparing. With exact, the
	// view's log position is known and returned: it holds exactly the
	// transactions whose commit record begins before it.
	OpenView(ctx context.Context, exact bool, limit time.Duration) (View, domain.Position, error)
}

// Sequences is for databases that number rows by counters of their own, which a cutover moves.
type Sequences interface {
	SequenceValues(ctx context.Context, seqs []domain.Sequence) ([]SequenceValue, error)
	SetSequences(ctx context.Context, values []SequenceValue) error
}

// Carries is for sources with views, routines and triggers.
type Carries interface {
	// Extras lists views, routines and triggers around the planned tables, of which
	// a target of the same engine could have them, in an order in which most can be
	// made. Names of tables in them are the source's.
	Extras(ctx context.Context, plans []domain.TablePlan, kinds []domain.Carried) ([]Object, error)
}

// Tells is for servers that say what goes on in them.
type Tells interface {
	// Clock returns the server's own time.
	Clock(ctx context.Context) (time.Time, error)
	// Traces lists what crossings have left in the database.
	Traces(ctx context.Context) ([]Trace, error)
	// Doing says what the server does at this moment for one of our sessions, by the name that
	// its Session gave, and whether it is at work: not where it waits for us, for a lock or for
	// nothing, and not where it does not know the session any more.
	Doing(ctx context.Context, session string) (what string, works bool, err error)
	// Locked says which statements of ours have waited for a lock for so long, and for whose.
	Locked(ctx context.Context, since time.Duration) ([]string, error)
}

// Opened is an open database with all that it can do: a capability that it has not is nil, and
// what belongs to it must not be called then. A survey says so before a crossing starts that
// would need it.
type Opened struct {
	Database
	Reads
	Queries
	Captures
	StopsWrites
	Lands
	Applies
	Repairs
	Defines
	Compares
	Sequences
	Carries
	Tells
	ReadsByDisk
	Remembers
	Vouches
	Guards
	Forgets
	Binds
}

// Open opens a database, and finds once what it can do.
func Open(ctx context.Context, d Driver, e Endpoint) (*Opened, error) {
	db, err := d.Open(ctx, e)
	if err != nil {
		return nil, err
	}
	return of(db), nil
}

func of(db Database) *Opened {
	o := &Opened{Database: db}
	o.Reads, _ = db.(Reads)
	o.Queries, _ = db.(Queries)
	o.Captures, _ = db.(Captures)
	o.StopsWrites, _ = db.(StopsWrites)
	o.Lands, _ = db.(Lands)
	o.Applies, _ = db.(Applies)
	o.Repairs, _ = db.(Repairs)
	o.Defines, _ = db.(Defines)
	o.Compares, _ = db.(Compares)
	o.Sequences, _ = db.(Sequences)
	o.Carries, _ = db.(Carries)
	o.Tells, _ = db.(Tells)
	o.ReadsByDisk, _ = db.(ReadsByDisk)
	o.Remembers, _ = db.(Remembers)
	o.Vouches, _ = db.(Vouches)
	o.Guards, _ = db.(Guards)
	o.Forgets, _ = db.(Forgets)
	o.Binds, _ = db.(Binds)
	return o
}

// Capability is one of the things that a database can do, as people are told of it.
type Capability string

// The capabilities.
const (
	CanRead     Capability = "read rows"
	CanQuery    Capability = "read by queries"
	CanCapture  Capability = "capture changes"
	CanStop     Capability = "stop writes"
	CanLand     Capability = "take rows"
	CanApply    Capability = "take changes"
	CanRepair   Capability = "be repaired"
	CanDefine   Capability = "make objects"
	CanCompare  Capability = "be compared"
	CanSequence Capability = "move sequences"
	CanCarry    Capability = "give views, routines and triggers"
	CanTell     Capability = "tell what it does"
	CanByDisk   Capability = "be read in the order of the disk"
	CanRemember Capability = "take rows beside changes of unknown chunks"
	CanVouch    Capability = "keep which rows changes touched"
	CanGuard    Capability = "refuse writes of others"
)

// Can lists what a database can do.
func (o *Opened) Can() []Capability {
	var out []Capability
	for _, k := range []struct {
		name Capability
		has  bool
	}{{CanRead, o.Reads != nil}, {CanQuery, o.Queries != nil}, {CanCapture, o.Captures != nil},
		{CanStop, o.StopsWrites != nil},
		{CanLand, o.Lands != nil}, {CanApply, o.Applies != nil},
		{CanRepair, o.Repairs != nil}, {CanDefine, o.Defines != nil},
		{CanCompare, o.Compares != nil},
		{CanSequence, o.Sequences != nil}, {CanCarry, o.Carries != nil}, {CanTell, o.Tells != nil},
		{CanByDisk, o.ReadsByDisk != nil}, {CanRemember, o.Remembers != nil},
		{CanVouch, o.Vouches != nil}, {CanGuard, o.Guards != nil}} {
		if k.has {
			out = append(out, k.name)
		}
	}
	return out
}

// Lacks lists what a database cannot do of what is needed.
func (o *Opened) Lacks(needed ...Capability) []Capability {
	can := o.Can()
	return slices.DeleteFunc(slices.Clone(needed), func(k Capability) bool { return slices.Contains(can, k) })
}

// Need says that a database, by the name it is registered under, lacks what is needed; nil when
// it does not.
func (o *Opened) Need(name string, needed ...Capability) error {
	if lacks := o.Lacks(needed...); len(lacks) > 0 {
		return domain.Conflict("database %s cannot %s: its engine has no way to", name, lacks[0])
	}
	return nil
}

// Whole is what an engine asserts that can do everything.
type Whole interface {
	Database
	Reads
	Queries
	Captures
	StopsWrites
	Lands
	Applies
	Repairs
	Defines
	Compares
	Sequences
	Carries
	Tells
}
