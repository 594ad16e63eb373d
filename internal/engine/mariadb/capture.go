package mariadb

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/binlog"
)

// maxQueued bounds what is read ahead of the applier, bytes.
const maxQueued = 32 << 20

type capture struct {
	d      *database
	mu     sync.Mutex // guards that c becomes another
	c      *wire
	events chan domain.Event
	cancel context.CancelFunc
	done   chan struct{}
	err    error

	received atomic.Uint64
	queued   atomic.Int64
	whole    atomic.Int64 // transactions queued
	once     sync.Once

	marks  gtids
	reader binlog.Reader
	tables map[domain.TableName]*captured
	file   uint64
	number uint32 // by which the server tells its readers apart
	tx     domain.Tx
	gtid   gtid // of tx
	inTx   bool
	except string // the origin whose rows are passed over
	passed bool   // the transaction brings them
	begun  bool   // the transaction's begin was handed on
	group  int

	preparing  *preparing           // the group that is being read ends with a prepare
	completing *binlog.XID          // it is the end of a two-phase transaction
	waiting    map[binlog.XID]*kept // what was prepared and has not ended
	mend       *mending             // what is read is carried out once more, or turned back
	saved      *preparing           // what came after the transaction's first savepoint
	alone      bool                 // the group is one statement, which ends it
	last       uint32               // where the last event of this file ended
	folds      bool                 // the server tells names of tables apart by their letters, not by their case

	partial bool   // new sessions log parts of rows
	ran     string // the statement whose rows come; empty: it is not known
	maps    int    // how many tables it writes

	before []binlog.Value
	after  []binlog.Value
	text   []byte
}

// captured is how a table's rows in the log become rows of its plan.
type captured struct {
	table engine.CaptureTable
	shape []*normal // of the table's columns, as they are in the log
	names []string
	at    []int // where each stands in the plan, -1: left out
	conv  []typemap.Convert
	width int
	key   []int

	defaults domain.Row // of the plan's columns, once needed
}

// OpenCapture starts reading the log from a place.
func (d *database) OpenCapture(ctx context.Context, name string, from domain.Position, tables []engine.CaptureTable,
	except string) (engine.Capture, error) {
	file, err := d.logFile(ctx, from.Number()>>fileBits)
	if err != nil {
		return nil, err
	}
	c := &capture{d: d, events: make(chan domain.Event, 8192), done: make(chan struct{}),
		tables: map[domain.TableName]*captured{}, waiting: map[binlog.XID]*kept{}, except: except,
		file: from.Number() >> fileBits, last: uint32(from.Number() & (1<<fileBits - 1))}
	charsets := d.charsets(ctx)
	for _, t := range tables {
		k := &captured{table: t, conv: converters(t.Plan), width: len(t.Plan.Columns), key: t.Plan.KeyIndexes(t.Plan.Columns)}
		for _, col := range t.Plan.Table.Columns {
			at := slices.IndexFunc(t.Plan.Columns, func(c domain.Column) bool { return c.Name == col.Name })
			n := &normal{}
			if at >= 0 { // not left out
				if n, err = newNormal(col, charsets); engine.Away(err) {
					return nil, err
				} else if err != nil {
					return nil, domain.Conflict("%s.%s: %s", t.Plan.Source, col.Name, err)
				}
			}
			k.shape, k.names, k.at = append(k.shape, n), append(k.names, col.Name), append(k.at, at)
		}
		c.tables[t.Plan.Source] = k
	}
	c.received.Store(from.Number())
	if c.c, err = d.dial(ctx); err != nil {
		return nil, err
	}
	// What comes before the log's own format event is summed as the server is set.
	var sums string
	if err := d.pool.QueryRowContext(ctx, "SELECT @@global.binlog_checksum, @@global.lower_case_table_names <> 0, "+
		"@@global.binlog_row_image <> 'FULL'").Scan(&sums, &c.folds, &c.partial); err != nil {
		c.c.close()
		return nil, d.explain(err)
	}
	c.reader.Checksums = sums == "CRC32"
	// The server ends an older stream of the same number, as of a process of
	// ours that was cut off.
	h := fnv.New32a()
	_, _ = h.Write([]byte(name))
	c.number = h.Sum32() | 1<<31
	if err := c.c.start(file, uint32(from.Number()&(1<<fileBits-1)), c.number, c.partial); err != nil {
		c.c.close()
		return nil, fmt.Errorf("starting the replication stream: %w", d.explain(err))
	}
	if c.marks.at, err = d.gtidsAt(ctx, file, from.Number()&(1<<fileBits-1)); err != nil {
		c.c.close()
		return nil, err
	}
	run, cancel := context.WithCancel(context.Background())
	c.cancel = cancel
	go c.run(run)
	return c, nil
}

func (c *capture) Events() <-chan domain.Event { return c.events }
func (c *capture) Err() error                  { return c.err }
func (c *capture) Waiting() int64              { return c.whole.Load() }

// Took frees what an event held.
func (c *capture) Took(e *domain.Event) {
	c.queued.Add(-int64(e.Size))
	if e.Kind == domain.EventCommit {
		c.whole.Add(-1)
	}
}

func (c *capture) Received() domain.Position { return domain.PositionAt(c.received.Load()) }

// PortablePosition names a place by the last transaction of every domain before it.
func (c *capture) PortablePosition(at domain.Position) string { return c.marks.upTo(at) }

// Confirm has nothing to tell the server: it keeps its log by its own settings.
func (c *capture) Confirm(domain.Position) {}

func (c *capture) Close() {
	c.once.Do(func() {
		c.cancel()
		c.mu.Lock()
		defer c.mu.Unlock()
		c.c.close()
	})
	<-c.done
}

func (c *capture) run(ctx context.Context) {
	defer close(c.done)
	defer close(c.events)
	defer func() {
		for _, rows := range c.waiting {
			rows.Close()
		}
	}()
	defer domain.Recover("reading the source's log", &c.err)
	for ctx.Err() == nil {
		b, err := c.c.event()
		if err == nil {
			err = c.take(ctx, b)
		}
		if err != nil {
			var se *mysql.MySQLError
			ours := errors.As(err, &se) && se.Number == 1236
			if ours && strings.Contains(se.Message, "truncated in the middle of event") {
				if c.skip(ctx) == nil {
					continue
				}
			}
			if ours {
				err = domain.Conflict("the source cannot give its log from where capture stands (%s): restart the crossing "+
					"to load again", se.Message)
			}
			if ctx.Err() == nil {
				c.err = c.d.explain(err)
			}
			return
		}
	}
}

// skip goes on behind a log file that ends within an event: its server died while it wrote
// there. What is incomplete was never committed, and the server has gone on in the next
// file, without which there is nothing to skip.
func (c *capture) skip(ctx context.Context) error {
	file, err := c.d.logFile(ctx, c.file+1)
	if err != nil {
		return err
	}
	if err := c.void(ctx); err != nil {
		return err
	}
	fresh, err := c.d.dial(ctx)
	if err != nil {
		return err
	}
	c.mu.Lock()
	c.c.close()
	c.c, c.file, c.last = fresh, c.file+1, 0
	if ctx.Err() != nil { // closed meanwhile
		fresh.close()
	}
	c.mu.Unlock()
	return fresh.start(file, 4, c.number, c.partial)
}

// void calls a transaction off that was not committed.
func (c *capture) void(ctx context.Context) error {
	began := c.inTx && c.begun
	if c.saved != nil {
		c.saved.rows.Close()
		c.saved = nil
	}
	c.inTx, c.begun, c.preparing, c.completing = false, false, nil, nil
	if !began {
		return nil
	}
	return c.emit(ctx, domain.Event{Kind: domain.EventVoid})
}

// emit hands an event on, waiting while too much is queued.
func (c *capture) emit(ctx context.Context, e domain.Event) error {
	for c.queued.Load() > maxQueued {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(5 * time.Millisecond):
		}
	}
	c.queued.Add(int64(e.Size))
	if e.Kind == domain.EventCommit {
		c.whole.Add(1)
	}
	select {
	case c.events <- e:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// take handles one event of the log.
func (c *capture) take(ctx context.Context, b []byte) error {
	h, body, err := c.reader.Event(b)
	if err != nil {
		return err
	}
	end := position(c.file, uint64(h.Next))
	if h.Next != 0 && !h.Artificial() {
		if h.Next < c.last && h.Type != binlog.TypeFormat && h.Type != binlog.TypeRotate {
			return domain.Conflict("a file of the source's log is larger than 4 GiB, and the server cannot say places in it: " +
				"restart the crossing to load again, and make smaller transactions")
		}
		c.last = h.Next
	}
	switch h.Type {
	case binlog.TypeFormat: // a file begins, and transactions never go over two
		if _, err := c.reader.Format(body); err != nil {
			return err
		}
		return c.void(ctx)
	case binlog.TypeRotate:
		r, err := binlog.DecodeRotate(body)
		if err != nil {
			return err
		}
		c.last = 0
		c.file, err = fileNumber(r.File)
		return err
	case binlog.TypeStartEncryption:
		return domain.Conflict("the source's binary log is encrypted in a way that is sent encrypted; it cannot be read")
	case binlog.TypeHeartbeat:
		// It names its file. One that comes between two files says nothing: what it means is
		// not where the next begins.
		if n, err := fileNumber(string(body)); c.inTx || h.Next == 0 || c.last == 0 || err != nil || n != c.file {
			return nil
		}
		c.received.Store(end.Number())
		return c.emit(ctx, domain.Event{Kind: domain.EventProgress, Position: end})
	case binlog.TypeGtid:
		g, err := binlog.DecodeGtid(body)
		if err != nil {
			return err
		}
		if c.inTx && (c.begun || c.saved != nil) {
			return domain.Conflict("a transaction in the source's log does not end before the next begins: restart the " +
				"crossing to load again")
		}
		c.inTx, c.begun, c.tx = true, false, domain.Tx{Commit: end, At: int64(h.At) * 1e6}
		c.ran, c.maps = "", 0
		c.preparing, c.completing, c.passed, c.alone = nil, nil, false, g.Standalone
		switch {
		case g.Prepared:
			c.preparing = newPreparing(g.XID)
		case g.Completed:
			c.completing, c.tx.ID = &g.XID, nameOf(g.XID)
		}
		c.gtid = gtid{g.Domain, h.ServerID, g.Sequence}
		if g.Standalone {
			c.group++
		}
		return nil
	case binlog.TypeQuery, binlog.TypeQueryCompressed, binlog.TypeExecuteLoad:
		return c.query(ctx, h, body, end)
	case binlog.TypeIncident:
		if !c.inTx {
			c.tx = domain.Tx{Commit: end, At: int64(h.At) * 1e6}
		}
		if err := c.unsaid(ctx, nil, "the server says that its log lacks events (an incident)"); err != nil || c.inTx {
			return err
		}
		return c.commit(ctx, h, end)
	case binlog.TypeAnnotate:
		if c.preparing == nil && c.saved == nil {
			c.ran, c.maps = string(body), 0
		}
		return nil
	case binlog.TypeCheckpoint, binlog.TypeGtidList, binlog.TypeStop:
		return nil // the server's own bookkeeping
	case binlog.TypeIntVar, binlog.TypeRand, binlog.TypeUserVar, binlog.TypeBeginLoad, binlog.TypeAppendBlock,
		binlog.TypeDeleteFile:
		return nil // they belong to a statement, which comes after them and is told of
	case binlog.TypeXid:
		return c.commit(ctx, h, end)
	case binlog.TypeXAPrepare:
		if c.preparing == nil {
			return nil
		}
		return c.prepared(ctx, end)
	}
	switch {
	case h.Type != binlog.TypeTableMap && !isRows(h.Type):
		if h.Ignorable() {
			return nil
		}
		return domain.Conflict("the source's log holds an event of type %d, which is not understood: restart the crossing "+
			"to load again", h.Type)
	case !c.inTx:
		return domain.Conflict("the source's log holds rows outside of any transaction: restart the crossing to load again")
	case c.preparing != nil:
		return c.preparing.keep(h, body, c.ours)
	case c.saved != nil:
		return c.saved.keep(h, body, c.ours)
	}
	return c.content(ctx, h.Type, body)
}

// content handles what a transaction did to rows.
func (c *capture) content(ctx context.Context, kind binlog.Type, body []byte) error {
	switch {
	case kind == binlog.TypeTableMap:
		t, err := c.reader.TableMap(body)
		c.maps++
		if err == nil {
			err = c.mapped(ctx, t)
		}
		return err
	case c.passed:
		return nil
	case isRows(kind):
		return c.rows(ctx, kind, body)
	}
	return nil
}

func (c *capture) begin(ctx context.Context) error {
	if c.begun {
		return nil
	}
	c.begun = true
	return c.emit(ctx, domain.Event{Kind: domain.EventBegin, Tx: c.tx})
}

// commit ends a transaction; one that concerns us not is only progress.
func (c *capture) commit(ctx context.Context, h binlog.Header, end domain.Position) error {
	if saved := c.saved; saved != nil {
		c.saved = nil
		defer saved.rows.Close()
		if err := c.replay(ctx, saved.rows); err != nil {
			return err
		}
	}
	c.inTx = false
	c.marks.ended(end, c.gtid)
	c.received.Store(end.Number())
	if !c.begun {
		return c.emit(ctx, domain.Event{Kind: domain.EventProgress, Position: end})
	}
	c.tx.End, c.tx.At = end, int64(h.At)*1e6
	return c.emit(ctx, domain.Event{Kind: domain.EventCommit, Tx: c.tx})
}

// mapped checks that a table still has the columns of its plan.
func (c *capture) mapped(ctx context.Context, t *binlog.Table) error {
	k := c.tables[domain.TableName{Schema: t.Database, Name: t.Name}]
	if k == nil {
		return nil
	}
	how, err := k.strange(t)
	if err != nil {
		return err
	}
	if t.Strange = how != ""; t.Strange {
		return c.redefined(ctx, k, how, "")
	}
	for i := range t.Columns {
		t.Columns[i].Unsigned = k.shape[i].unsigned
	}
	return nil
}

// rows hands on the rows of an event.
func (c *capture) rows(ctx context.Context, kind binlog.Type, body []byte) error {
	x, err := c.reader.Rows(kind, body)
	if err != nil {
		return err
	}
	if x.Last {
		defer func() { c.ran, c.maps = "", 0 }()
	}
	k := c.tables[domain.TableName{Schema: x.Table.Database, Name: x.Table.Name}]
	if k == nil && c.except != "" && x.Table.Database == bookkeeping && x.Table.Name == bringing {
		c.passed, err = c.brings(x)
		return err
	}
	if k == nil || x.Table.Strange {
		return nil
	}
	if err := c.begin(ctx); err != nil {
		return err
	}
	var held []domain.Event // while c.mend is set
	for {
		more, err := x.Next(&c.before, &c.after, &c.text)
		if err == nil && !more && c.mend != nil {
			err = c.mended(ctx, k, held)
		}
		if err != nil || !more {
			return err
		}
		e := domain.Event{Kind: domain.EventChange, Tx: c.tx, Size: len(c.text) + 64}
		e.Change.Table, e.Change.Unchecked = k.table.ID, x.Unchecked
		switch x.Kind {
		case binlog.TypeWriteRows:
			e.Change.Kind = domain.Insert
		case binlog.TypeUpdateRows:
			e.Change.Kind = domain.Update
		case binlog.TypeDeleteRows:
			e.Change.Kind = domain.Delete
		}
		if x.Before != nil {
			if e.Change.Old, err = k.row(c.before, domain.Value{}); err != nil {
				return err
			}
			for i, v := range c.before {
				if v.Absent && slices.Contains(k.key, k.at[i]) {
					return domain.Conflict("the source's log does not hold the key of a changed row of %s: let its sessions log "+
						"whole rows (SET GLOBAL binlog_row_image = 'FULL', and let them connect anew), then restart the table",
						k.table.Plan.Source)
				}
			}
			e.Change.OldWhole = !slices.ContainsFunc(c.before, func(v binlog.Value) bool { return v.Absent })
		}
		if x.After != nil {
			if e.Change.New, err = k.row(c.after, domain.Value{Kind: domain.Unchanged}); err != nil {
				return err
			}
			if err := c.complete(ctx, k, &e.Change); err != nil {
				return err
			}
		}
		if c.mend != nil {
			held = append(held, e)
			continue
		}
		if err := c.emit(ctx, e); err != nil {
			return err
		}
	}
}
