package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgoutput"
	"dustyferry/internal/protocol/pgstream"
)

// statusEvery is how often the server hears from us even when nothing moves:
// well below its default timeout of a minute.
const statusEvery = 2 * time.Second

// maxQueued bounds what is read ahead of the applier, bytes; beyond it the
// server is kept waiting.
const maxQueued = 32 << 20

type capture struct {
	d         *database
	feed      *feed
	events    chan domain.Event
	cancel    context.CancelFunc
	done      chan struct{}
	err       error
	confirmed atomic.Uint64
	received  atomic.Uint64
	queued    atomic.Int64
	whole     atomic.Int64 // transactions queued

	byName map[domain.TableName]engine.CaptureTable
	rels   map[uint32]*relation
	tx     domain.Tx
	inTx   bool
	except string // the origin whose rows are passed over
	ours   bool   // the transaction brings them
	xid    uint64 // newest full transaction number seen
	group  int
	last   time.Time
	once   sync.Once
	spools spools // of transactions that are streamed while they are in progress
}

// OpenCapture starts streaming from the slot.
func (d *database) OpenCapture(ctx context.Context, name string, from domain.Position, tables []engine.CaptureTable,
	except string) (engine.Capture, error) {
	var xid uint64
	var status, confirmed string
	err := d.pool.QueryRow(ctx, `
SELECT `+d.nextTransaction()+`::text::bigint, coalesce(to_jsonb(s) ->> 'wal_status', ''), confirmed_flush_lsn::text
  FROM pg_replication_slots s WHERE slot_name = $1`, name).Scan(&xid, &status, &confirmed)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, domain.Conflict("the source has lost the replication slot %s: changes since then cannot be read any "+
			"more; restart the crossing to load again", name)
	}
	if err != nil {
		return nil, d.explain(err)
	}
	if status == "lost" {
		return nil, domain.Conflict("the source has removed log that the replication slot %s still needed: restart the "+
			"crossing to load again, with a larger max_slot_wal_keep_size", name)
	}
	// What was confirmed is durable on the target, or was. The server would pass it over in
	// silence.
	if told, err := parseLSN(confirmed); err != nil {
		return nil, err
	} else if told.After(from) {
		return nil, domain.Conflict("the target stands at log position %s, but had told the source that everything up to "+
			"%s was durable there: it has lost what it had committed (a failover, a restore, or fsync off), and the source "+
			"does not send it again. Load again: dustyferry crossing restart, for all tables", lsn(from), confirmed)
	}
	// Another process of ours that was cut off may still hold the slot.
	if _, err := d.pool.Exec(ctx, `SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE slot_name = $1
  AND active`, name); err != nil {
		return nil, d.explain(err)
	}
	c := &capture{
		d: d, events: make(chan domain.Event, 8192), done: make(chan struct{}),
		byName: map[domain.TableName]engine.CaptureTable{}, rels: map[uint32]*relation{}, xid: xid, last: time.Now(),
		except: except,
	}
	for _, t := range tables {
		c.byName[t.Plan.Source] = t
		for _, part := range d.published(t.Plan) {
			c.byName[part] = t
		}
	}
	c.confirmed.Store(from.Number())
	c.received.Store(from.Number())
	for try := 0; ; try++ {
		conn, err := d.connect(ctx, map[string]string{"replication": "database"})
		if err != nil {
			return nil, err
		}
		if c.feed, err = takeFeed(ctx, conn.PgConn()); err != nil {
			_ = conn.Close(ctx)
			return nil, d.explain(err)
		}
		if err = c.start(ctx, name, from); err == nil {
			break
		}
		c.feed.close()
		var pe *pgconn.PgError
		if !errors.As(err, &pe) || pe.Code != "55006" || try == 20 {
			return nil, fmt.Errorf("starting the replication stream: %w", d.explain(err))
		}
		time.Sleep(100 * time.Millisecond) // the ended session is still letting go of the slot
	}
	run, cancel := context.WithCancel(context.Background())
	c.cancel = cancel
	go c.run(run)
	return c, nil
}

func (c *capture) start(ctx context.Context, name string, from domain.Position) error {
	protocol := "proto_version '1'"
	if c.d.major >= 14 {
		protocol = "proto_version '2', messages 'true'"
		if !c.d.plain.Load() { // large transactions come while they are in progress: the server need not keep them
			protocol += ", streaming 'on'"
		}
	}
	c.feed.under(ctx)
	err := c.feed.send(&pgproto3.Query{String: fmt.Sprintf("START_REPLICATION SLOT %s LOGICAL %s (%s, "+
		"publication_names %s)",
		quote(name), lsn(from), protocol, literal(quote(name)))})
	if err != nil {
		return err
	}
	c.spools = spools{}
	for {
		kind, b, err := c.next(ctx)
		switch {
		case err != nil:
			return err
		case kind == 'W': // both sides may send row data now
			return nil
		case kind != 0:
			return fmt.Errorf("the source answered START_REPLICATION with a message that is not understood, of the kind %q "+
				"and %d bytes", kind, len(b))
		}
	}
}

// next reads a message. Its kind is 0 where it ends nothing; an error of the server's is an
// error.
func (c *capture) next(ctx context.Context) (kind byte, b []byte, err error) {
	kind, size, err := c.feed.head(ctx)
	if err != nil {
		return 0, nil, err
	}
	if kind == 'd' && size >= spoolFrom && c.spools.open != nil {
		if kept, err := c.straight(ctx, size); kept || err != nil {
			return 0, nil, err
		}
	}
	if b, err = c.feed.body(ctx, size); err != nil {
		return 0, nil, err
	}
	switch kind {
	case 'E':
		var e pgproto3.ErrorResponse
		if err := e.Decode(b); err != nil {
			return 0, nil, err
		}
		return 0, nil, pgconn.ErrorResponseToPgError(&e)
	case 'N', 'S', 'A': // notices, settings and notifications end nothing
		return 0, nil, nil
	}
	return kind, b, nil
}

// spoolFrom is from how many bytes on a message of a transaction in progress goes into its
// file without having been in memory.
const spoolFrom = 64 << 20

// straight keeps such a message, unless it is of another kind after all.
func (c *capture) straight(ctx context.Context, size int) (bool, error) {
	const head, start = 25, 64 // of the frame, and enough of the message to be understood
	b, err := c.feed.peek(ctx, head+start)
	if err != nil || b[0] != 'w' || b[head] == 'E' {
		return false, err
	}
	begin := slices.Clone(b[head:])
	c.feed.skip = 0
	if _, err := c.feed.in.Discard(head + start); err != nil {
		return false, err
	}
	rest := size - head - start
	return true, c.spools.keep(begin, c.feed.reader(ctx, rest), rest)
}

// PortablePosition is empty: the places of this log are the same on a promoted standby, but
// the slot that keeps it is not there.
func (c *capture) PortablePosition(domain.Position) string { return "" }

func (c *capture) Events() <-chan domain.Event { return c.events }
func (c *capture) Err() error                  { return c.err }
func (c *capture) Waiting() int64              { return c.whole.Load() }
func (c *capture) Confirm(p domain.Position)   { c.confirmed.Store(p.Number()) }
func (c *capture) Received() domain.Position   { return domain.PositionAt(c.received.Load()) }

// Took frees what an event held.
func (c *capture) Took(e *domain.Event) {
	c.queued.Add(-int64(e.Size))
	if e.Kind == domain.EventCommit {
		c.whole.Add(-1)
	}
}

func (c *capture) Close() {
	c.once.Do(func() {
		c.cancel()
		for range c.events { // let the reader go
		}
		<-c.done
	})
}

func (c *capture) run(ctx context.Context) {
	defer close(c.done)
	defer close(c.events)
	defer func() { c.spools.close() }()
	defer c.feed.close()
	defer domain.Recover("reading the source's log", &c.err)
	c.feed.under(ctx)
	c.feed.idle = func() error { return c.statusIfDue(false) }
	for ctx.Err() == nil {
		if err := c.statusIfDue(false); err != nil {
			c.err = c.d.explain(err)
			return
		}
		kind, b, err := c.next(ctx)
		if err != nil {
			if ctx.Err() == nil {
				c.err = fmt.Errorf("the replication stream ended: %w", c.d.explain(err))
			}
			return
		}
		switch kind {
		case 0:
		case 'd':
			if err := c.frame(ctx, b); err != nil {
				c.err = err
				return
			}
		default:
			c.err = fmt.Errorf("the source sent a message amid the replication stream that is not understood, of the kind %q",
				kind)
			return
		}
	}
}

func (c *capture) statusIfDue(now bool) error {
	if !now && time.Since(c.last) < statusEvery/2 {
		return nil
	}
	c.last = time.Now()
	at := c.confirmed.Load()
	return c.feed.send(&pgproto3.CopyData{Data: pgstream.Status{
		Written: at, Flushed: at, Applied: at, At: pgstream.ServerTime(c.last)}.Append(nil)})
}

func (c *capture) frame(ctx context.Context, b []byte) error {
	f, err := pgstream.Decode(b)
	if err != nil {
		return err
	}
	switch f := f.(type) {
	case pgstream.Keepalive:
		if !c.inTx && f.End > c.received.Load() {
			c.received.Store(f.End)
			if err := c.send(ctx, domain.Event{Kind: domain.EventProgress, Position: domain.PositionAt(f.End)}); err != nil {
				return err
			}
		}
		return c.statusIfDue(f.Reply)
	case pgstream.Data:
		if c.spools.open != nil && f.Payload[0] != 'E' {
			return c.spools.keep(f.Payload, nil, 0)
		}
		m, err := pgoutput.Decode(f.Payload)
		if err != nil {
			return err
		}
		return c.message(ctx, m, len(f.Payload))
	}
	return nil
}

// send hands an event on. While the applier is busy the server keeps hearing
// from us, so that it does not take us for dead.
func (c *capture) send(ctx context.Context, e domain.Event) error {
	if e.Kind == domain.EventCommit {
		c.whole.Add(1)
	}
	if c.queued.Add(int64(e.Size)) < maxQueued {
		select {
		case c.events <- e:
			return nil
		default:
		}
	}
	tick := time.NewTicker(statusEvery / 2)
	defer tick.Stop()
	for {
		events := c.events
		if c.queued.Load()-int64(e.Size) >= maxQueued {
			events = nil // too much is waiting: look again shortly
		}
		short := time.NewTimer(5 * time.Millisecond)
		select {
		case events <- e:
			short.Stop()
			return nil
		case <-ctx.Done():
			short.Stop()
			return ctx.Err()
		case <-short.C:
		case <-tick.C:
			short.Stop()
			if err := c.statusIfDue(false); err != nil {
				return err
			}
		}
	}
}

func (c *capture) message(ctx context.Context, m pgoutput.Message, size int) error {
	switch m := m.(type) {
	case pgoutput.StreamStart:
		c.spools.begin(m.XID)
	case pgoutput.StreamStop:
		c.spools.open = nil
	case pgoutput.StreamAbort:
		c.spools.abort(m.XID, m.Sub)
	case pgoutput.StreamCommit:
		return c.streamed(ctx, m)
	case pgoutput.Begin:
		c.tx = domain.Tx{ID: c.fullXID(m.XID), Commit: domain.PositionAt(m.FinalLSN), At: pgstream.Micros(m.At)}
		c.inTx, c.ours = true, false
		return c.send(ctx, domain.Event{Kind: domain.EventBegin, Tx: c.tx})
	case pgoutput.Commit:
		c.tx.End, c.inTx = domain.PositionAt(m.EndLSN), false
		c.received.Store(m.EndLSN)
		return c.send(ctx, domain.Event{Kind: domain.EventCommit, Tx: c.tx, Position: c.tx.End})
	case pgoutput.Relation:
		r, err := c.relate(ctx, m)
		if err != nil {
			return err
		}
		c.rels[m.ID] = r
	case pgoutput.Logical:
		if c.inTx && m.Prefix == originPrefix && string(m.Content) == c.except {
			c.ours = true
		}
	case pgoutput.Insert:
		return c.change(ctx, m.Relation, domain.Insert, 0, nil, m.New, size)
	case pgoutput.Update:
		return c.change(ctx, m.Relation, domain.Update, m.OldKind, m.Old, m.New, size)
	case pgoutput.Delete:
		return c.change(ctx, m.Relation, domain.Delete, m.OldKind, m.Old, nil, size)
	case pgoutput.Truncate:
		var note []string
		if m.Options&1 != 0 {
			note = append(note, "CASCADE")
		}
		if m.Options&2 != 0 {
			note = append(note, "RESTART IDENTITY")
		}
		return c.truncated(ctx, m.Relations, strings.Join(note, " "))
	case pgoutput.Origin, pgoutput.Type: // whose transaction it was, and a type's name, both known otherwise
	default:
		return domain.Conflict("the source's log holds a message that is not understood (%T): restart the crossing "+
			"to load again", m)
	}
	return nil
}

// fullXID widens a 32-bit transaction number to the one nearest to those seen.
func (c *capture) fullXID(x uint32) uint64 {
	full := c.xid&^0xffffffff | uint64(x)
	if full > c.xid+1<<31 && full >= 1<<32 {
		full -= 1 << 32
	} else if full+1<<31 < c.xid {
		full += 1 << 32
	}
	c.xid = max(c.xid, full)
	return full
}

func (c *capture) change(ctx context.Context, rel uint32, kind domain.ChangeKind, oldKind byte, old,
	fresh pgoutput.Tuple, size int) error {
	r := c.rels[rel]
	switch {
	case r == nil, c.ours:
		return nil
	case r.note != "" && (!r.told || r.toldIn != c.tx.ID):
		// Each transaction is told of: of one the rows may not matter, of the next they may.
		r.told, r.toldIn = true, c.tx.ID
		return c.send(ctx, domain.Event{Kind: domain.EventChange, Tx: c.tx,
			Change: domain.Change{Kind: domain.Redefine, Table: r.table.ID, Note: r.note, Columns: r.now}})
	case r.note != "":
		return nil
	}
	// One copy of the message's values, as the buffer they lie in is used again; a large
	// message is ours.
	total := 0
	for _, t := range [2]pgoutput.Tuple{old, fresh} {
		for i := range t {
			total += len(t[i].Data)
		}
	}
	var mem []byte
	if size < engine.OwnFrom {
		mem = make([]byte, 0, total)
	}
	row := func(t pgoutput.Tuple) (domain.Row, error) {
		if t == nil {
			return nil, nil
		}
		out := make(domain.Row, r.width)
		for i := range t {
			if i >= len(r.at) || r.at[i] < 0 {
				continue
			}
			switch t[i].Kind {
			case 'u':
				out[r.at[i]].Kind = domain.Unchanged
			case 't':
				if size >= engine.OwnFrom {
					out[r.at[i]] = domain.Value{Kind: domain.Present, Data: t[i].Data}
					continue
				}
				n := len(mem)
				mem = append(mem, t[i].Data...)
				out[r.at[i]] = domain.Value{Kind: domain.Present, Data: mem[n:len(mem):len(mem)]}
			}
		}
		return r.writing.rowOf(out)
	}
	ch := domain.Change{Kind: kind, Table: r.table.ID, OldWhole: oldKind == 'O'}
	var err error
	if ch.Old, err = row(old); err != nil {
		return fmt.Errorf("a change of %s in the log: %w", r.table.Plan.Source, err)
	}
	if ch.New, err = row(fresh); err != nil {
		return fmt.Errorf("a change of %s in the log: %w", r.table.Plan.Source, err)
	}
	if !fold.Complete(&ch, r.key) {
		return domain.Conflict("the source's log does not say which row of %s an update changed, as the key's value lies "+
			"out of line and this server repeats it only where the whole row is logged: ALTER TABLE %s REPLICA IDENTITY FULL "+
			"there, then restart the table",
			r.table.Plan.Source, qualified(r.table.Plan.Source))
	}
	return c.send(ctx, domain.Event{Kind: domain.EventChange, Tx: c.tx, Change: ch, Size: total + 64})
}

// IsLastDDL is never known: the log carries no statements. The catalog says by itself what
// became of rows, see [domain.Table.Written].
func (d *database) IsLastDDL(context.Context, domain.TableName, domain.Position) (bool, error) {
	return false, nil
}

// Identity is not needed: what stands for a crossing on a server is its slot, which
// another server lacks.
func (d *database) Identity(context.Context) (string, error) { return "", nil }
