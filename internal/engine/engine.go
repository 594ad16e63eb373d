// Package engine says what a database must be able to do to be a source or a
// target of a crossing. One package per engine stands behind these interfaces;
// none of them knows crossings, ledgers or queues.
package engine

import (
	"context"
	"errors"
	"time"

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
	// or as a GTID.
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

// Scope is how much of a table is looked at.
type Scope struct {
	Share    float64 // of its rows, above 0 and at most 1
	Extremes bool    // instead: least, greatest and longest value of each column
	First    int     // instead: so many rows, whichever come first
	// Refused is told, in place of the visit, of rows of which a value is not of the column's type, where
	// an engine's columns can hold such: their values as texts, and of which column that is and why.
	Refused func(fields [][]byte, column, why string)
}

// WriteStop holds a source's writes back.
type WriteStop interface {
	// CloseWrites makes the stop durable: from now on writes fail with a
	// sentence that says the tables have moved, whatever becomes of us; but those of the crossing
	// (its UID) except, if one is named.
	CloseWrites(ctx context.Context, message, except string) error
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

// ErrRewritten is of a chunk of a table whose rows were all written anew since it was cut, so that
// they lie in other pages.
var ErrRewritten = errors.New("all rows of the table were written anew on the source (TRUNCATE, VACUUM FULL, " +
	"CLUSTER, ALTER … TYPE) since it was cut by the pages in which they lie")

// Reader reads chunks, each in a snapshot of its own.
type Reader interface {
	// Begin opens the snapshot and returns what it sees.
	Begin(ctx context.Context) (domain.Snapshot, error)
	// SupportsBinary reports whether Copy can give the rows of a plan in binary form: its target is of
	// another engine, and its values can be written in that engine's binary form.
	SupportsBinary(p *domain.TablePlan) bool
	// Copy hands the chunk's rows to sink, counting and hashing them. What sink gets is good
	// until it returns. Between engines that are alike it is in their wire form, cut
	// anywhere. For a plan whose sides are unlike it holds whole rows in the form of
	// [protocol/pgcopy.AppendFields]: the number of fields, and each field's length and text,
	// in the target's text form; or, where binary is true, in the target's binary form.
	Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, binary bool, sink func(block []byte) error) (
		rowhash.Sum, error)
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
	// SupportsBinary reports whether the writer can take binary rows: its table has the very
	// types that the plan says, since bytes meant for one type could be read as another.
	SupportsBinary(ctx context.Context, p *domain.TablePlan) (bool, error)
	// Begin opens the transaction. With over, the rows of that chunk's range are removed in
	// it first.
	Begin(ctx context.Context, p *domain.TablePlan, binary bool, over *domain.Chunk) error
	Write(ctx context.Context, data []byte) error
	// Careful opens the transaction as Begin does, for rows that come by InsertRows.
	Careful(ctx context.Context, p *domain.TablePlan, over *domain.Chunk) error
	// Put writes rows, each in the form of [protocol/pgcopy.AppendFields], all or none:
	// after the server's refusal the transaction stands as it stood before.
	InsertRows(ctx context.Context, rows [][]byte) error
	// Next keeps the chunk's rows and its mark in the transaction, which stays open: Begin goes
	// on in it, and Land commits the chunks of all tables together. Its errors are those of Land.
	Next(ctx context.Context, m Mark) error
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

// Retained is log that a source keeps.
type Retained struct {
	Bytes int64
	From  domain.Position // where it begins
	To    domain.Position // where it ends now
	Held  bool            // for the capture's sake, and not by the server's own rules
}

// Capture is a stream of committed changes in the order of their commits.
type Capture interface {
	// Events ends when the stream does; Err says why.
	Events() <-chan domain.Event
	Err() error
	// Took says that an event has been taken and its memory is free again; the stream
	// waits when too much is queued.
	Took(e *domain.Event)
	// Waiting is how many whole transactions were read and not taken yet.
	Waiting() int64
	// Confirm says that everything before the position is durable on the
	// target; the source may forget it.
	Confirm(domain.Position)
	// PortablePosition names a place of this log, at which a transaction ended, as every server
	// knows it that goes on with this one's history; empty where an engine has no such
	// names. It is asked for ever later places.
	PortablePosition(at domain.Position) string
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
	// GTID. It returns [domain.ErrTakenOver] when the stream has a newer epoch.
	Commit(ctx context.Context, to domain.Position, portable string, at int64) error
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

// Unordered is a view whose rows lie in no order of their keys: it is read whole, and its parts are buckets.
type Unordered interface{ Unordered() }

// ReleasesLocks is a view that keeps others from emptying or altering the tables that it has read, until it
// releases their locks; it goes on then, and sees what it saw. A view that held one table while it waits for
// another could be waited for by who holds that one.
type ReleasesLocks interface {
	ReleaseLocks(ctx context.Context) error
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
