package follow

import (
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
)

// Ask is one thing that a machine needs, or wants done. What answers it stands with each;
// where nothing does, an empty Input says that it has been done.
type Ask interface{ asked() }

// Input answers an [Ask]; of the answers only the one that was asked for is set.
type Input struct {
	Now      time.Time // the present time, with every answer that is not an event's
	Load     lifecycle.View
	Snapshot domain.Snapshot
	Chunks   []domain.Chunk
	At       []int
	Row      domain.Row
	Rows     []domain.Row
	Keys     []domain.KeyValue
	Yes      bool
}

// Reached says whether the machine stands where it was aimed at.
type Reached int

// What was reached.
const (
	NotYet  Reached = iota
	Goal            // all that was committed before the goal is applied, and nothing after it
	Stopped         // the same for the place or time at which capture is to stop
)

type (
	// Between is the moment between two transactions of the target: here the machine may be
	// aimed elsewhere, left to stand, or closed.
	Between struct{ Reached Reached }
	// More wants the next event of the log ([Machine.Take]); where none has come after
	// Patience, an empty Input. No patience is needed once it is past Before, if that is set.
	More struct {
		Patience time.Duration
		Before   time.Time
	}
	// AskLoad wants to know how the load stands: Input.Load.
	AskLoad struct{}
	// AskSnapshot wants to know what a new read of the source would see: Input.Snapshot.
	AskSnapshot struct{}
	// AskChunks wants the ledger's chunks of a table in their order, all or some:
	// Input.Chunks.
	AskChunks struct {
		Table int64
		Only  []int // by ordinal; nil: all
	}
	// AskLocate wants the source to say how many of the ascending bounds are at or below each
	// key: Input.At.
	AskLocate struct {
		Table        int64
		Bounds, Keys []domain.KeyValue
	}
	// AskRow wants a row of the source as it is now: Input.Row, nil where it is gone.
	AskRow struct {
		Table int64
		Key   domain.KeyValue
	}
	// AskReferring wants the keys of the target's rows whose columns have these values, within
	// what is being written: Input.Keys.
	AskReferring struct {
		Table  int64
		Cols   []int // among those carried
		Values []domain.Value
	}
	// AskRemembered wants the keys that Remember has kept of a table, as far as the target has
	// committed it: Input.Keys.
	AskRemembered struct{ Table int64 }
	// Remember comes before each Write to such a table while it loads: it keeps on the target that
	// the rows at some keys were removed, and forgets it of others.
	Remember struct {
		Table        int64
		Keep, Forget []domain.KeyValue
	}
	// Unswept says that there may be rows on the target from now on which were removed, or that
	// there are none any more.
	Unswept struct{ Yes bool }
	// Write brings a net effect to the target: Input.Rows are the patches whose rows are not
	// there. With Replace, rows are removed and inserted instead of updated.
	Write struct {
		Table   int64
		Net     fold.Net
		Replace bool
	}
	// WriteWhole brings changes of a table without a key to the target, one by one.
	WriteWhole struct {
		Table   int64
		Changes []domain.Change
	}
	// Move changes a row's key on the target, keeping values the log left unsaid: Input.Yes
	// where the row was there.
	Move struct {
		Table  int64
		Change domain.Change
	}
	// Truncate empties tables of the target together.
	Truncate struct {
		Tables []int64
		Note   string
	}
	// Abort drops what was written since the last commit.
	Abort struct{}
	// Commit makes what was written durable, with the place after the last transaction.
	Commit struct {
		Last   domain.Tx
		Txs    int64 // transactions of the source that it holds
		Bytes  int64 // of their changes
		Counts map[int64]*Counts
	}
	// Passed says that everything before a place was delivered and concerns others.
	Passed struct{ At domain.Position }
	// Restart has tables loaded again, as Table was truncated while it was loaded.
	Restart struct {
		Table int64
		With  []int64 // it and those that had to wait for it
	}
	// NoteSchemaChange keeps that the columns of a table have changed at a place.
	NoteSchemaChange struct {
		Table int64
		At    domain.Position
	}
	// AskSchemaChange wants to know whether a change of a table's columns asks for nothing to be
	// done: Input.Yes. Reads: every read of the table has seen it, or will.
	AskSchemaChange struct {
		Tx     domain.Tx
		Change domain.Change
		Reads  bool
	}
	// ApplySchemaChange brings target and plan to the change that was asked about, now that what
	// comes before it is durable. A machine that asks for it is done with: its plans are those of
	// before.
	ApplySchemaChange struct {
		Change  domain.Change
		Loading bool
		With    []int64 // tables that are loaded again, where it is loading
	}
	// Hold stops for a person: rows of a table changed and the log does not say which. A
	// machine that asks for it is done with.
	Hold struct {
		Table int64
		Note  string
	}
	// Fail says that the log contradicts itself. A machine that asks for it is done with.
	Fail struct{ Text string }
	// Pause wants to be asked again after a moment; [Machine.Why] says what is waited for.
	Pause struct{ For time.Duration }
)

func (Between) asked()           {}
func (*More) asked()             {}
func (AskLoad) asked()           {}
func (AskSnapshot) asked()       {}
func (AskChunks) asked()         {}
func (AskLocate) asked()         {}
func (AskRow) asked()            {}
func (AskReferring) asked()      {}
func (AskRemembered) asked()     {}
func (Remember) asked()          {}
func (Unswept) asked()           {}
func (Write) asked()             {}
func (WriteWhole) asked()        {}
func (Move) asked()              {}
func (Truncate) asked()          {}
func (Abort) asked()             {}
func (Commit) asked()            {}
func (Passed) asked()            {}
func (Restart) asked()           {}
func (NoteSchemaChange) asked()  {}
func (AskSchemaChange) asked()   {}
func (ApplySchemaChange) asked() {}
func (Hold) asked()              {}
func (Fail) asked()              {}
func (Pause) asked()             {}
