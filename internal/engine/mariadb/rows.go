package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
)

// snapshot opens a consistent read on a connection of its own and returns where
// in the binary log it stands: it sees exactly the transactions before.
func (d *database) snapshot(ctx context.Context) (*sql.Conn, domain.Position, error) {
	conn, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, 0, d.explain(err)
	}
	at, err := begin(ctx, conn)
	if err != nil {
		_ = conn.Close()
		return nil, 0, d.explain(err)
	}
	return conn, at, nil
}

func begin(ctx context.Context, conn *sql.Conn) (domain.Position, error) {
	// Under READ COMMITTED the snapshot would silently not hold.
	for _, q := range []string{"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"} {
		if _, err := conn.ExecContext(ctx, q); err != nil {
			return 0, err
		}
	}
	rows, err := conn.QueryContext(ctx, "SHOW STATUS LIKE 'binlog_snapshot_%'")
	if err != nil {
		return 0, err
	}
	defer func() { _ = rows.Close() }()
	status := map[string]string{}
	for rows.Next() {
		var k, v string
		if err := rows.Scan(&k, &v); err != nil {
			return 0, err
		}
		status[strings.ToLower(k)] = v
	}
	if err := rows.Err(); err != nil {
		return 0, err
	}
	file, err := fileNumber(status["binlog_snapshot_file"])
	if err != nil {
		return 0, domain.Conflict("the server writes no binary log, so the place of a snapshot in it is not known; set log_bin and restart the server")
	}
	offset, err := strconv.ParseUint(status["binlog_snapshot_position"], 10, 64)
	return position(file, offset), err
}

// fileNumber is the number behind the last dot of a log file's name.
func fileNumber(name string) (uint64, error) {
	return strconv.ParseUint(name[strings.LastIndexByte(name, '.')+1:], 10, 32)
}

// shaper turns rows as the driver gives them into rows in the neutral form.
type shaper struct {
	conv   []typemap.Convert
	widens []bool // a float of four bytes that is planned as one of eight
	names  []string
	raw    []driver.Value
	fields [][]byte
	values []byte
	number []byte
}

func newShaper(p *domain.TablePlan, conv []typemap.Convert) *shaper {
	s := &shaper{conv: conv}
	s.raw, s.fields = make([]driver.Value, len(s.conv)), make([][]byte, len(s.conv))
	for i, c := range p.Columns {
		s.names = append(s.names, c.Name)
		s.widens = append(s.widens, p.TargetSide != nil && strings.HasPrefix(p.TargetSide.Columns[i].BaseType, "double"))
	}
	return s
}

// shape converts the row that was read; the fields are good until the next.
func (s *shaper) shape() error {
	s.values = s.values[:0]
	for i, v := range s.raw {
		s.fields[i] = nil
		from := len(s.values)
		text := s.number[:0]
		switch v := v.(type) {
		case nil:
			continue
		case []byte:
			text = v
		case string:
			text = append(text, v...)
		case int64:
			text = strconv.AppendInt(text, v, 10)
		case uint64:
			text = strconv.AppendUint(text, v, 10)
		case float32:
			if s.widens[i] {
				text = typemap.AppendFloat(text, float64(v), 32)
				break
			}
			s.values = typemap.AppendFloat(s.values, float64(v), 32)
			s.fields[i] = s.values[from:len(s.values):len(s.values)]
			continue
		case float64:
			s.values = typemap.AppendFloat(s.values, v, 64)
			s.fields[i] = s.values[from:len(s.values):len(s.values)]
			continue
		default:
			return domain.Conflict("column %s: a value came as %T, which cannot be carried", s.names[i], v)
		}
		out, ok, err := s.conv[i](s.values, text)
		if err != nil {
			return domain.Conflict("column %s: %s", s.names[i], err)
		}
		s.values = out
		if ok {
			s.fields[i] = out[from:len(out):len(out)]
		}
	}
	return nil
}

type reader struct {
	d    *database
	conn *sql.Conn
}

// OpenReader opens a connection for reading chunks.
func (d *database) OpenReader(ctx context.Context) (engine.Reader, error) {
	conn, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, d.explain(err)
	}
	return &reader{d: d, conn: conn}, nil
}

// Begin opens the snapshot.
func (r *reader) Begin(ctx context.Context) (domain.Snapshot, error) {
	at, err := begin(ctx, r.conn)
	return domain.Snapshot{Log: at}, r.d.explain(err)
}

// blockSize is how much row data is handed on at a time.
const blockSize = 256 << 10

var blocks = sync.Pool{New: func() any { b := make([]byte, 0, blockSize+(16<<10)); return &b }}

// Copy reads the chunk's rows and hands them on in blocks of whole rows.
func (r *reader) Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, sink func(engine.Block) error) (rowhash.Sum, error) {
	var sum rowhash.Sum
	buf := blocks.Get().(*[]byte)
	*buf = (*buf)[:0]
	give := func() error {
		full := buf
		buf = blocks.Get().(*[]byte)
		*buf = (*buf)[:0]
		return sink(engine.Block{Data: *full, Release: func() { blocks.Put(full) }})
	}
	var refused error
	err := query(ctx, r.conn, p, keyRange(p, c.Lower, c.Upper), func(fields [][]byte) error {
		from := len(*buf)
		*buf = pgcopy.AppendFields(*buf, fields)
		sum.Add((*buf)[from:])
		if len(*buf) >= blockSize {
			refused = give()
		}
		return refused
	})
	switch {
	case refused != nil: // what the taker said, not what reading did
		return sum, refused
	case err != nil:
		return sum, fmt.Errorf("reading %s: %w", p.Source, r.d.explain(err))
	case len(*buf) > 0:
		return sum, give()
	}
	return sum, nil
}

// End closes the snapshot.
func (r *reader) End(ctx context.Context) error {
	_, err := r.conn.ExecContext(ctx, "COMMIT")
	return r.d.explain(err)
}

func (r *reader) Close() {
	// What is still being read is dropped with the connection.
	_ = r.conn.Raw(func(any) error { return errDrop })
	_ = r.conn.Close()
}

// errDrop makes the pool forget a connection.
var errDrop = driver.ErrBadConn

// Preview reads the first rows.
func (d *database) Preview(ctx context.Context, t *domain.Table, limit int) ([][]*string, error) {
	limitTime, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	cols := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		cols[i] = "left(" + quote(c.Name) + ", 201)"
	}
	rows, err := d.pool.QueryContext(limitTime, fmt.Sprintf("SELECT %s FROM %s LIMIT %d", strings.Join(cols, ", "), qualified(t.TableName), limit))
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	var out [][]*string
	for rows.Next() {
		row := make([]*string, len(cols))
		to := make([]any, len(cols))
		for i := range row {
			to[i] = &row[i]
		}
		if err := rows.Scan(to...); err != nil {
			return nil, d.explain(err)
		}
		for _, v := range row {
			if v != nil {
				*v = strings.ToValidUTF8(*v, "\ufffd")
			}
		}
		out = append(out, row)
	}
	return out, d.explain(rows.Err())
}
