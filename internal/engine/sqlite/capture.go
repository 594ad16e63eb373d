package sqlite

import (
	"context"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

const (
	// looksEvery is how often it is looked whether somebody has written.
	looksEvery = 50 * time.Millisecond
	// marksEvery is how often a mark is written behind changes, at most.
	marksEvery = 200 * time.Millisecond
	// readAtOnce is how many rows of the log one read transaction reads: a long one keeps what is written
	// meanwhile from going into the file itself.
	readAtOnce = 5000
	// maxQueued bounds what is read ahead of the applier, bytes.
	maxQueued = 32 << 20
	// forgetsEvery is how often rows of the log are removed that all have applied, forgetsAtOnce how many in one
	// transaction, for which applications wait, and forgetsInRow how many of these follow one another.
	forgetsEvery  = 2 * time.Second
	forgetsAtOnce = 20_000
	forgetsInRow  = 10
)

// capture reads the log.
type capture struct {
	d      *database
	name   string
	c      *conn
	file   os.FileInfo
	tables map[string]*captured
	events chan domain.Event
	cancel context.CancelFunc
	done   chan struct{}
	err    error
	once   sync.Once

	received, confirmed atomic.Uint64
	queued, whole       atomic.Int64

	next    int64 // the first number that was not read
	end     int64 // what is before it was committed when it was looked; 0: it has to be looked
	open    *domain.Tx
	version int64 // of the file, as this connection counts
	schema  int64 // of its tables
	marked  time.Time
	forgot  time.Time
	width   [2]int // old and new values of the log's rows
}

// captured is how rows of the log become rows of a plan.
type captured struct {
	table    engine.CaptureTable
	recorded recorded
	lines    *lines
	cols     []domain.Column
	news     []int // where a column of the plan stands among new values
	olds     []int // and among old ones, -1 where it does not
	keyed    bool
	keys     []keyColumn
	values   []driver.Value
}

// keyColumn is a column of the key: its place, and the storage classes that it may have.
type keyColumn struct {
	at      int
	classes []string
}

// OpenCapture reads the log from a place on.
func (d *database) OpenCapture(ctx context.Context, name string, from domain.Position, tables []engine.CaptureTable,
	_ string) (_ engine.Capture, err error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			c.close()
		}
	}()
	out := &capture{d: d, name: name, c: c, tables: map[string]*captured{}, events: make(chan domain.Event, 4096),
		done: make(chan struct{}), next: int64(min(from.Number(), math.MaxInt64)), version: -1, schema: -1}
	if out.file, err = os.Stat(d.path); err != nil {
		return nil, domain.Unavailable(err, "the file %s cannot be read: %s", d.path, err)
	}
	if has, err := c.recording(ctx); err != nil || !has {
		return nil, d.explain(cmpOr(err, func() error { return out.gone("it has no log") }))
	}
	upto, err := c.number(ctx, "SELECT max(upto) FROM "+readTable+" WHERE name = ?", name)
	if err != nil {
		return nil, d.explain(err)
	}
	newest, err := c.newest(ctx)
	switch {
	case err != nil:
		return nil, d.explain(err)
	case upto == 0:
		return nil, out.gone("it records nothing for this crossing")
	case upto >= out.next:
		return nil, out.gone(fmt.Sprintf("its log begins at %d", upto+1))
	case newest < out.next-1:
		return nil, out.gone(fmt.Sprintf("its log ends at %d", newest))
	}
	for _, t := range tables {
		if err := out.take(ctx, t); err != nil {
			return nil, d.explain(err)
		}
	}
	out.received.Store(from.Number())
	out.confirmed.Store(from.Number())
	run, cancel := context.WithCancel(context.Background())
	out.cancel = cancel
	go out.run(run)
	return out, nil
}

// gone says that changes are missing from where capture stands.
func (c *capture) gone(why string) error {
	return domain.Conflict("%s is not the file any more that changes were recorded in, or was set back (%s, and capture "+
		"stands at %d): load again: dustyferry crossing restart NAME --all", c.d.path, why, c.next)
}

// take finds out how a table is recorded.
func (c *capture) take(ctx context.Context, t engine.CaptureTable) error {
	p := t.Plan
	k := &captured{table: t, cols: p.CopiedColumns(), keyed: len(p.Key) > 0}
	if err := c.c.rows(ctx, "SELECT columns, olds FROM "+capTable+" WHERE name = ? AND tbl = "+
		"?", func(r []driver.Value) error {
		k.recorded.Name = p.Source.Name
		if err := json.Unmarshal([]byte(r[0].(string)), &k.recorded.Columns); err != nil {
			return err
		}
		return json.Unmarshal([]byte(r[1].(string)), &k.recorded.Old)
	}, c.name, p.Source.Name); err != nil {
		return err
	}
	if k.recorded.Name == "" {
		return domain.Conflict("changes of %s are not recorded for this crossing: load it again: dustyferry crossing "+
			"restart NAME --table %[1]s", p.Source)
	}
	for i, col := range k.cols {
		if slices.Contains(p.Key, col.Name) {
			k.keys = append(k.keys, keyColumn{i, classes(writerOf(col).base)})
		}
		at := slices.Index(k.recorded.Columns, col.Name)
		if at < 0 {
			return domain.Conflict("column %s of %s was not recorded: load the table again: dustyferry crossing restart NAME "+
				"--table %[2]s", col.Name, p.Source)
		}
		k.news, k.olds = append(k.news, at), append(k.olds, slices.Index(k.recorded.Old, col.Name))
	}
	k.lines, k.values = newLines(p, k.cols, true), make([]driver.Value, len(k.cols))
	c.width = [2]int{max(c.width[0], len(k.recorded.Old)), max(c.width[1], len(k.recorded.Columns))}
	c.tables[p.Source.Name] = k
	return nil
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

// Confirm lets what lies before a place be forgotten.
func (c *capture) Confirm(at domain.Position) { c.confirmed.Store(at.Number()) }

func (c *capture) Received() domain.Position { return domain.PositionAt(c.received.Load()) }

// PortablePosition is none: no other file goes on with this one's log.
func (c *capture) PortablePosition(domain.Position) string { return "" }

// Close ends the reading.
func (c *capture) Close() {
	c.once.Do(c.cancel)
	<-c.done
}

func (c *capture) run(ctx context.Context) {
	defer close(c.done)
	defer close(c.events)
	defer c.c.close()
	defer domain.Recover("reading the file's log", &c.err)
	for ctx.Err() == nil {
		read, err := c.read(ctx)
		if err == nil {
			err = c.forget(ctx)
		}
		if err != nil {
			if ctx.Err() == nil {
				c.err = c.d.explain(err)
			}
			return
		}
		if read {
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(looksEvery):
		}
	}
}

// entry is a row of the log.
type entry struct {
	n     int64
	table string
	kind  string
	at    float64 // Julian day
	old   []driver.Value
	new   []driver.Value
}

// read reads the next rows of the log, and hands them on; false: there are none.
func (c *capture) read(ctx context.Context) (bool, error) {
	if c.end == 0 {
		if ready, err := c.look(ctx); err != nil || !ready {
			return false, err
		}
	}
	var rows []entry
	var gone map[int64]bool
	err := c.reading(ctx, func() (err error) {
		if rows, err = c.entries(ctx); err == nil {
			gone, err = c.replaced(ctx, rows)
		}
		return err
	})
	if err != nil {
		return false, err
	}
	for i := range rows {
		if err := c.hand(ctx, &rows[i], gone); err != nil {
			return false, err
		}
		c.next = rows[i].n + 1
	}
	if len(rows) < readAtOnce { // all that was committed then
		if err := c.commit(ctx); err != nil {
			return false, err
		}
		c.next, c.end = max(c.next, c.end), 0
	}
	return true, nil
}

// look sees whether something was committed since, and whether the file is still that file.
func (c *capture) look(ctx context.Context) (bool, error) {
	now, err := os.Stat(c.d.path)
	if err != nil {
		return false, domain.Unavailable(err, "the file %s cannot be read: %s", c.d.path, err)
	}
	if !os.SameFile(now, c.file) {
		return false, c.gone("another file has its name")
	}
	version, err := c.c.number(ctx, "PRAGMA data_version")
	if err != nil || version == c.version {
		return false, err
	}
	newest, isMark := int64(0), int64(0)
	if err := c.reading(ctx, func() (err error) {
		if err := c.sameTables(ctx); err != nil {
			return err
		}
		if newest, err = c.c.newest(ctx); err == nil {
			isMark, err = c.c.number(ctx, "SELECT kind = '"+logMark+"' FROM "+logTable+" WHERE n = ?", newest)
		}
		return err
	}); err != nil {
		return false, err
	}
	switch {
	case newest < c.next-1:
		return false, c.gone(fmt.Sprintf("its log ends at %d", newest))
	case newest < c.next:
		c.version = version // what was written between the two is looked for the next time
		return false, nil
	case isMark == 0 && time.Since(c.marked) < marksEvery:
		return false, nil
	case isMark == 0:
		// A mark is on the disk when it is committed, and all that was committed before with it, whatever the
		// application does without: what is handed on is there after a loss of power, too.
		at, err := c.d.Heartbeat(ctx)
		if engine.ClassOf(err) == engine.Collision { // somebody writes: soon
			return false, nil
		}
		if err != nil {
			return false, err
		}
		newest, c.marked = int64(at.Number()), time.Now()
	}
	c.version, c.end = version, newest+1
	return true, nil
}

// reading runs f in a read transaction.
func (c *capture) reading(ctx context.Context, f func() error) error {
	if err := c.c.begin(ctx); err != nil {
		return err
	}
	defer func() { _ = c.c.exec(context.WithoutCancel(ctx), "ROLLBACK") }()
	return f()
}

// sameTables makes sure that tables have the columns that are recorded, where any table was altered.
func (c *capture) sameTables(ctx context.Context) error {
	version, err := c.c.number(ctx, "PRAGMA schema_version")
	if err != nil || version == c.schema {
		return err
	}
	if has, err := c.c.recording(ctx); err != nil || !has {
		return cmpOr(err, func() error { return c.gone("it has no log") })
	}
	for name, k := range c.tables {
		var now []string
		if err := c.c.rows(ctx, "SELECT name FROM pragma_table_xinfo(?) ORDER BY cid", func(r []driver.Value) error {
			now = append(now, r[0].(string))
			return nil
		}, name); err != nil {
			return err
		}
		if len(now) > 0 && !slices.Equal(now, k.recorded.Columns) { // a table that is gone writes nothing
			return domain.Conflict("the columns of %s are %s now, and changes are recorded of %s: load the table again: "+
				"dustyferry crossing restart NAME --table %[1]s", k.table.Plan.Source, strings.Join(now, ", "),
				strings.Join(k.recorded.Columns, ", "))
		}
	}
	c.schema = version
	return nil
}

// entries are the next rows of the log before the end.
func (c *capture) entries(ctx context.Context) (out []entry, err error) {
	columns := ""
	if c.width[0] > 0 {
		columns = ", " + numbered("+o", c.width[0]) + ", " + numbered("+n", c.width[1])
	}
	err = c.c.rows(ctx, "SELECT n, tbl, kind, at"+columns+" FROM "+logTable+" WHERE n >= ? AND n < ? ORDER BY n LIMIT ?",
		func(r []driver.Value) error {
			e := entry{n: r[0].(int64)}
			e.table, _ = r[1].(string)
			e.kind, _ = r[2].(string)
			e.at, _ = r[3].(float64)
			if k := c.tables[e.table]; k != nil {
				values := make([]driver.Value, len(r)-4)
				for i, v := range r[4:] {
					if b, ok := v.([]byte); ok {
						v = slices.Clone(b)
					}
					values[i] = v
				}
				e.old, e.new = values[:c.width[0]], values[c.width[0]:]
			}
			out = append(out, e)
			return nil
		}, c.next, c.end, int64(readAtOnce))
	return out, err
}

// replaced are the numbers of those rows of the log that say that a row may have been replaced, and whose row
// was: it is not there, or was made again later.
func (c *capture) replaced(ctx context.Context, rows []entry) (map[int64]bool, error) {
	out := map[int64]bool{}
	there := map[*captured]map[string][]int64{} // rows of the log by the key of a row that is there now
	for i := range rows {
		e := &rows[i]
		k := c.tables[e.table]
		if e.kind != logCheck || k == nil {
			continue
		}
		here := make([]string, len(k.recorded.Old))
		for j, name := range k.recorded.Old {
			here[j] = quote(name) + " COLLATE BINARY IS ?"
		}
		n, err := c.c.number(ctx, "SELECT count(*) FROM "+quote(e.table)+" WHERE "+strings.Join(here, " AND "),
			e.old[:len(here)]...)
		if err != nil {
			return nil, err
		}
		if n == 0 {
			out[e.n] = true
			continue
		}
		if there[k] == nil {
			there[k] = map[string][]int64{}
		}
		key := keyText(e.old[:len(here)])
		there[k][key] = append(there[k][key], e.n)
	}
	for k, keys := range there {
		if err := c.madeAgain(ctx, k, keys, rows[0].n, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// ahead is how many rows of the log are looked through for a row that was made again.
const ahead = 100_000

// madeAgain adds the numbers of keys whose row was inserted again, or moved there, behind them.
func (c *capture) madeAgain(ctx context.Context, k *captured, keys map[string][]int64, from int64,
	out map[int64]bool) error {
	width := len(k.recorded.Old)
	news := make([]string, width)
	for i, name := range k.recorded.Old {
		news[i] = fmt.Sprintf("+n%d", slices.Index(k.recorded.Columns, name))
	}
	return c.c.rows(ctx, "SELECT n, kind, "+strings.Join(news, ", ")+", "+numbered("+o", width)+" FROM "+logTable+
		" WHERE n > ? AND n <= ? AND tbl = ? AND kind IN ('"+logInsert+"', '"+logUpdate+"')",
		func(r []driver.Value) error {
			key := keyText(r[2 : 2+width])
			if r[1] == logUpdate && keyText(r[2+width:]) == key {
				return nil // it was there
			}
			for _, n := range keys[key] {
				if n < r[0].(int64) {
					out[n] = true
				}
			}
			return nil
		}, from, from+ahead, k.recorded.Name)
}

// keyText is a key as one text, equal for equal ones.
func keyText(values []driver.Value) string {
	var out strings.Builder
	for _, v := range values {
		fmt.Fprintf(&out, "%T %q,", v, fmt.Sprint(v))
	}
	return out.String()
}

// hand hands a row of the log on.
func (c *capture) hand(ctx context.Context, e *entry, replaced map[int64]bool) error {
	if e.kind == logMark {
		if err := c.commit(ctx); err != nil {
			return err
		}
		at := domain.PositionAt(uint64(e.n) + 1)
		c.received.Store(at.Number())
		return c.emit(ctx, domain.Event{Kind: domain.EventProgress, Position: at})
	}
	k := c.tables[e.table]
	if k == nil || e.kind == logVoid || e.kind == logCheck && !replaced[e.n] {
		return nil
	}
	change, err := k.change(e)
	if err != nil {
		return fmt.Errorf("change %d of %s: %w; correct the row, or plan the column otherwise, and load the table again: "+
			"dustyferry crossing restart NAME --table %[2]s", e.n, k.table.Plan.Source, err)
	}
	if c.open == nil {
		if err := c.begin(ctx, e); err != nil {
			return err
		}
	}
	return c.emit(ctx, domain.Event{Kind: domain.EventChange, Tx: *c.open, Change: change, Size: sizeOf(&change)})
}

// begin begins a transaction with a row of the log: it goes up to the next mark, or to what was committed when
// it was looked last.
func (c *capture) begin(ctx context.Context, e *entry) error {
	end, err := c.c.number(ctx, "SELECT coalesce((SELECT n FROM "+logTable+" WHERE n > ? AND n < ? AND kind = '"+logMark+
		"' ORDER BY n LIMIT 1), ?)", e.n, c.end, c.end)
	if err != nil {
		return err
	}
	c.open = &domain.Tx{Commit: domain.PositionAt(uint64(end) - 1), End: domain.PositionAt(uint64(end)), At: micros(e.at)}
	return c.emit(ctx, domain.Event{Kind: domain.EventBegin, Tx: *c.open})
}

// commit ends the transaction that is open.
func (c *capture) commit(ctx context.Context) error {
	if c.open == nil {
		return nil
	}
	tx := *c.open
	c.open = nil
	c.received.Store(tx.End.Number())
	return c.emit(ctx, domain.Event{Kind: domain.EventCommit, Tx: tx})
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

// forget removes from the log what all crossings have applied, a part at a time.
func (c *capture) forget(ctx context.Context) error {
	if time.Since(c.forgot) < forgetsEvery {
		return nil
	}
	c.forgot = time.Now()
	upto := int64(min(c.confirmed.Load(), math.MaxInt64)) - 1
	known, err := c.c.number(ctx, "SELECT upto FROM "+readTable+" WHERE name = ?", c.name)
	if err != nil || upto <= known {
		return err
	}
	err = c.d.transaction(ctx, func(w *conn) error {
		return w.exec(ctx, "UPDATE "+readTable+" SET upto = ? WHERE name = ?", upto, c.name)
	})
	for removed, n := int64(forgetsAtOnce), 0; err == nil && removed >= forgetsAtOnce && n < forgetsInRow; n++ {
		err = c.d.transaction(ctx, func(w *conn) (err error) {
			removed, err = w.changes(ctx, fmt.Sprintf("DELETE FROM %s WHERE n <= min((SELECT min(upto) FROM %s), "+
				"(SELECT min(n) FROM %[1]s) + %[3]d)", logTable, readTable, forgetsAtOnce))
			return err
		})
	}
	if engine.ClassOf(err) == engine.Collision { // somebody writes: there is time
		return nil
	}
	return err
}
