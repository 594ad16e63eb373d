package mariadb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/bindvalue"
	"dustyferry/internal/protocol/pgcopy"
)

// writer lands chunks as parameters of an INSERT (bulk.go), or through LOAD DATA LOCAL INFILE,
// whose file is what comes from the source, as it comes.
type writer struct {
	d      *database
	conn   *sql.Conn
	origin string

	session string // its name on the server
	inside  bool   // the transaction of a chunk before is open, see Next

	plan    *domain.TablePlan
	table   domain.TableName
	columns []loaded
	load    *loading
	rows    int64
	fields  [][]byte
	raw     []byte
	binary  bool // rows come as parameters, not as texts
	kinds   []*bindvalue.Kind
	texts   []byte

	bulk      *bulk
	wire      *wire  // the session's socket
	limit     *int   // bytes of a command of bulk's; nil: not asked yet
	prepared  string // what statement is
	statement []byte // by its number on the server
}

// OpenWriter opens a session for landing chunks.
func (d *database) OpenWriter(ctx context.Context, origin string) (engine.Writer, error) {
	conn, err := d.session(ctx, landing...)
	if err != nil {
		return nil, err
	}
	id, err := sessionOf(ctx, conn)
	if err != nil {
		drop(conn)
		return nil, d.explain(err)
	}
	return &writer{d: d, conn: conn, origin: origin, session: id}, nil
}

// loaded is how a column's values go into the file.
type loaded byte

const (
	asText  loaded = iota
	asBytes        // given as \x and hexadecimal digits
	asFloat        // of four bytes
	unsaid         // the target computes it
)

// The largest number of four bytes: its fewest digits lie above it, and the server
// reads them with eight bytes first and then finds them out of range.
const (
	largest     = "3.4028235e+38"
	largestTold = "3.4028234663852886e+38"
)

// told writes a number of four bytes so that the server takes it.
func told(v string) string {
	if strings.TrimPrefix(v, "-") == largest {
		return strings.TrimSuffix(v, largest) + largestTold
	}
	return v
}

// loading is one LOAD DATA under way: buffers go to the server on a goroutine of
// their own, and come back to be filled again.
type loading struct {
	name   string
	full   chan []byte
	free   chan []byte
	now    []byte // what is being sent
	rest   []byte
	failed error // why no more will come; set before full is closed
	done   chan struct{}
	result sql.Result
	err    error
	cancel context.CancelFunc
}

// Read gives the driver what to send.
func (l *loading) Read(b []byte) (int, error) {
	for len(l.rest) == 0 {
		if l.now != nil {
			l.free <- l.now
			l.now = nil
		}
		next, ok := <-l.full
		if !ok {
			if l.failed != nil {
				return 0, l.failed
			}
			return 0, io.EOF
		}
		l.now, l.rest = next, next
	}
	n := copy(b, l.rest)
	l.rest = l.rest[n:]
	return n, nil
}

// fileBuffer is how much of the file is made at a time.
const fileBuffer = 256 << 10

var fileBuffers = sync.Pool{New: func() any { b := make([]byte, 0, fileBuffer*2); return &b }}

// SupportsBinary reports whether rows of the plan go as parameters, in whose form they can come then.
func (w *writer) SupportsBinary(ctx context.Context, p *domain.TablePlan) (bool, error) {
	if bulkKinds(p) == nil {
		return false, nil
	}
	limit, err := w.bulkLimit(ctx)
	return limit > 0 && w.socket() != nil, err
}

// Begin opens the transaction and the load into the table.
func (w *writer) Begin(ctx context.Context, p *domain.TablePlan, binary bool, over *domain.Chunk) error {
	if err := w.Careful(ctx, p, over); err != nil {
		return err
	}
	w.binary = binary
	if bulk, err := w.startBulk(ctx); bulk || err != nil {
		return err
	}
	w.start(ctx)
	return nil
}

// Careful opens the transaction alone; rows come by Put.
func (w *writer) Careful(ctx context.Context, p *domain.TablePlan, over *domain.Chunk) error {
	w.plan, w.table, w.columns, w.binary = p, p.Target, w.columns[:0], false
	w.kinds = nil
	for _, c := range p.Columns {
		switch {
		case c.Generated:
			w.columns = append(w.columns, unsaid)
		case typemap.IsBytes(c.BaseType):
			w.columns = append(w.columns, asBytes)
		case strings.HasPrefix(c.BaseType, "float"):
			w.columns = append(w.columns, asFloat)
		default:
			w.columns = append(w.columns, asText)
		}
	}
	if !w.inside {
		if err := beginMarked(ctx, w.conn, w.origin); err != nil {
			return w.d.explain(err)
		}
	}
	if over == nil {
		return nil
	}
	all := *p
	all.Where = "" // it chooses rows of the source
	_, err := w.conn.ExecContext(ctx, "DELETE FROM "+qualified(p.Target)+keyRange(&all, over.Lower, over.Upper))
	return w.d.explain(err)
}

// Put loads rows behind a savepoint.
func (w *writer) InsertRows(ctx context.Context, rows [][]byte) error {
	if _, err := w.conn.ExecContext(ctx, "SAVEPOINT rows_put"); err != nil {
		return w.d.explain(err)
	}
	w.start(ctx)
	var err error
	for _, row := range rows {
		if err = w.Write(ctx, row); err != nil {
			break
		}
	}
	if err == nil {
		err = w.taken(ctx)
	} else if l := w.load; l != nil { // let go of the connection
		w.load = nil
		l.failed = errAborted
		close(l.full)
		<-l.done
	}
	if err == nil {
		return nil
	}
	if _, lost := w.conn.ExecContext(ctx, "ROLLBACK TO SAVEPOINT rows_put"); lost != nil {
		return w.d.explain(lost)
	}
	return err
}

// start begins the load of a file into the table.
func (w *writer) start(ctx context.Context) {
	run, cancel := context.WithCancel(ctx)
	// Random: a server may ask for any name that is registered, another crossing's too.
	l := &loading{name: rand.Text(), full: make(chan []byte, 1), free: make(chan []byte, 3), done: make(chan struct{}),
		cancel: cancel}
	for range 2 {
		l.free <- (*fileBuffers.Get().(*[]byte))[:0]
	}
	w.load, w.rows = l, 0
	mysql.RegisterReaderHandler(l.name, func() io.Reader { return l })
	text := loadStatement(l.name, w.plan)
	go func() {
		defer close(l.done)
		defer cancel()
		defer mysql.DeregisterReaderHandler(l.name)
		defer domain.Recover("writing a chunk to the target", &l.err)
		l.result, l.err = w.conn.ExecContext(run, text)
	}()
}

// loadStatement reads the file as bytes. Texts of other character sets than the
// file's, which is UTF-8, and what is not understood as bytes, go through a
// variable. So does the numbered column then: with a SET clause the server takes
// the zero of a column that is not in it for a wish to be numbered.
func loadStatement(name string, p *domain.TablePlan) string {
	var list, set []string
	numbered := -1
	for i, c := range p.Columns {
		v := fmt.Sprintf("@v%d", i)
		switch {
		case c.Generated:
			continue
		case c.Identity != "":
			numbered = len(list)
			list = append(list, quote(c.Name))
		case c.BaseType == "bit":
			list, set = append(list, v), append(set, quote(c.Name)+" = CAST(CONV("+v+", 2, 10) AS UNSIGNED)")
		case c.Charset != "" && c.Charset != "utf8mb4" && c.Charset != "utf8mb3" && c.Charset != "utf8" &&
			c.Charset != "ascii",
			c.BaseType == "enum", c.BaseType == "set", c.BaseType == "uuid", c.BaseType == "inet4", c.BaseType == "inet6":
			list, set = append(list, v), append(set, quote(c.Name)+" = CONVERT("+v+" USING utf8mb4)")
		default:
			list = append(list, quote(c.Name))
		}
	}
	if len(set) > 0 && numbered >= 0 {
		set = append(set, list[numbered]+" = @n")
		list[numbered] = "@n"
	}
	s := "LOAD DATA LOCAL INFILE 'Reader::" + name + "' INTO TABLE " + qualified(p.Target) +
		` CHARACTER SET binary FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' (` + strings.Join(list,
		", ") + ")"
	if len(set) > 0 {
		s += " SET " + strings.Join(set, ", ")
	}
	return s
}

// fileEscapes are the bytes that LOAD DATA wants behind a backslash (MariaDB
// documentation, "LOAD DATA INFILE").
var fileEscapes = [256]byte{'\\': '\\', '\t': 't', '\n': 'n', 0: '0'}

func appendFile(b, v []byte) []byte {
	for {
		n := pgcopy.Plain(v)
		b = append(b, v[:n]...)
		if n == len(v) {
			return b
		}
		if e := fileEscapes[v[n]]; e != 0 {
			b = append(b, '\\', e)
		} else {
			b = append(b, v[n])
		}
		v = v[n+1:]
	}
}

// unhexed makes bytes of \x and hexadecimal digits, good until the next.
func (w *writer) unhexed(f []byte) ([]byte, bool) {
	if len(f) < 2 {
		return nil, false
	}
	var err error
	w.raw, err = hex.AppendDecode(w.raw[:0], f[2:])
	return w.raw, err == nil
}

// line adds a row to the file.
func (w *writer) line(b []byte, fields [][]byte) ([]byte, error) {
	first := true
	for i, how := range w.columns {
		if how == unsaid {
			continue
		}
		if !first {
			b = append(b, '\t')
		}
		first = false
		f := fields[i]
		switch {
		case f == nil:
			b = append(b, '\\', 'N')
		case how == asBytes && w.binary:
			b = appendFile(b, f)
		case how == asBytes:
			raw, ok := w.unhexed(f)
			if !ok {
				return b, fmt.Errorf("a binary value of %s is not written as one", w.table)
			}
			b = appendFile(b, raw)
		case how == asFloat:
			b = append(b, told(string(f))...)
		default:
			b = appendFile(b, f)
		}
	}
	return append(b, '\n'), nil
}

// Write hands rows on.
func (w *writer) Write(ctx context.Context, data []byte) error {
	if w.bulk != nil {
		rest, err := w.writeBulk(ctx, data)
		if err != nil || len(rest) == 0 {
			return err
		}
		// A row that cannot go so: it goes as a file, and the rest of the chunk with it.
		if err := w.endBulk(); err != nil {
			return err
		}
		w.start(ctx)
		data = rest
	}
	var b []byte
	take := func() error {
		select {
		case b = <-w.load.free:
			b = b[:0]
			return nil
		case <-w.load.done:
			return w.ended()
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if err := take(); err != nil {
		return err
	}
	for len(data) > 0 {
		var err error
		if data, err = w.next(data); err == nil && w.binary {
			err = w.spell()
		}
		if err == nil {
			b, err = w.line(b, w.fields)
		}
		if err != nil {
			return err
		}
		w.rows++
	}
	select {
	case w.load.full <- b:
		return nil
	case <-w.load.done:
		return w.ended()
	case <-ctx.Done():
		return ctx.Err()
	}
}

// next cuts a row into its fields and returns what follows it.
func (w *writer) next(data []byte) (rest []byte, err error) {
	if w.fields, rest, err = pgcopy.Next(w.fields[:0], data); err == nil && len(w.fields) != len(w.columns) {
		err = fmt.Errorf("a row of %s has %d values, its plan %d", w.table, len(w.fields), len(w.columns))
	}
	return rest, err
}

// spell makes texts of a row that came as parameters, and bytes of bytes.
func (w *writer) spell() error {
	if w.kinds == nil {
		w.kinds = bulkKinds(w.plan)
	}
	size := 0
	for _, f := range w.fields {
		size += len(f) + 32 // no text of a number or a time is longer
	}
	b := w.texts[:0]
	if cap(b) < size {
		b = make([]byte, 0, size)
	}
	for i, f := range w.fields {
		if f == nil || w.kinds[i] == nil {
			continue
		}
		at := len(b)
		var err error
		if b, err = w.kinds[i].Text(b, f); err != nil {
			return fmt.Errorf("a row of %s: %w", w.table, err)
		}
		w.fields[i] = b[at:len(b):len(b)]
	}
	if w.texts = b; cap(b) > 4*fileBuffer {
		w.texts = nil
	}
	return nil
}

// writeBulk hands rows on as parameters, and returns those from the first on that cannot go so.
func (w *writer) writeBulk(ctx context.Context, data []byte) ([]byte, error) {
	b := w.bulk
	for len(data) > 0 {
		rest, err := w.next(data)
		if err != nil {
			return nil, err
		}
		if !b.add(w, w.fields) {
			return data, nil
		}
		data = rest
		if len(b.buf) < b.most {
			continue
		}
		if err := b.pass(ctx); err != nil {
			select {
			case <-b.done: // it is what the server said
				return nil, w.bulkFailed(err)
			default:
				return nil, err
			}
		}
	}
	return nil, nil
}

// ended is why a load has come to its end by itself.
func (w *writer) ended() error {
	if w.load.err != nil {
		return fmt.Errorf("loading into %s: %w", w.table, w.d.explain(w.load.err))
	}
	return fmt.Errorf("loading into %s ended before its rows did", w.table)
}

// Land ends the load and commits it together with the chunk's mark. The server
// turns what is wrong in a local file into warnings, so one warning, or one row
// that was not taken, lets nothing stand.
func (w *writer) Land(ctx context.Context, m engine.Mark) error {
	if err := w.Next(ctx, m); err != nil {
		return err
	}
	w.inside = false
	_, err := w.conn.ExecContext(ctx, "COMMIT")
	return w.d.explain(err)
}

// Next sees that every row was taken, and keeps the chunk's mark.
func (w *writer) Next(ctx context.Context, m engine.Mark) error {
	if w.bulk != nil {
		if err := w.endBulk(); err != nil {
			return err
		}
	}
	if w.load != nil { // not written carefully, where every file was seen to
		if err := w.taken(ctx); err != nil {
			return err
		}
	}
	w.inside = true
	return w.d.explain(mark(ctx, w.conn, m))
}

// taken ends the file and sees that every row of it was taken as it was.
func (w *writer) taken(ctx context.Context) error {
	l := w.load
	w.load = nil
	close(l.full)
	<-l.done
	if l.err != nil {
		return fmt.Errorf("loading into %s: %w", w.table, w.d.explain(l.err))
	}
	var warnings int64
	if err := w.conn.QueryRowContext(ctx, "SELECT @@warning_count").Scan(&warnings); err != nil {
		return w.d.explain(err)
	}
	if warnings > 0 {
		return w.warned(ctx)
	}
	if n, err := l.result.RowsAffected(); err != nil || n != w.rows {
		return errors.Join(err, domain.Conflict("%s took %d of the %d rows of a chunk; rows of the same key stand "+
			"there already", w.table, n, w.rows))
	}
	for range len(l.free) {
		b := <-l.free
		if cap(b) <= 4*fileBuffer {
			fileBuffers.Put(&b)
		}
	}
	return nil
}

// warned makes an error of the first warning.
func (w *writer) warned(ctx context.Context) error {
	var level, message string
	var code int
	if err := w.conn.QueryRowContext(ctx, "SHOW WARNINGS LIMIT 1").Scan(&level, &code, &message); err != nil {
		return w.d.explain(err)
	}
	return &engine.ServerError{Text: fmt.Sprintf("loading into %s: %s said: %s (%s %d); nothing of the chunk was kept",
		w.table, w.d.name, message, strings.ToLower(level), code), Class: engine.OfRows}
}

// Abort drops the connection, and with it the open transaction.
func (w *writer) Abort() { w.Close() }

// Close ends the session.
func (w *writer) Close() {
	if b := w.bulk; b != nil {
		w.bulk = nil
		b.stop()
		close(b.full)
		<-b.done
	}
	if l := w.load; l != nil {
		w.load = nil
		l.failed = errAborted
		l.cancel()
		close(l.full)
		<-l.done
	}
	if w.conn != nil {
		drop(w.conn)
		w.conn, w.wire = nil, nil
	}
}

var errAborted = errors.New("the load was given up")
