package mariadb

import (
	"context"
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
	"dustyferry/internal/protocol/resultset"
)

// reading is how sessions that read are set. Under READ COMMITTED a snapshot would
// silently not hold; and reading must outlast a target that is slow for a while.
var reading = []string{"time_zone = '+00:00'", "net_write_timeout = 3600", "TRANSACTION ISOLATION LEVEL REPEATABLE READ"}

// snapshot opens a consistent read on a connection of its own and returns where
// in the binary log it stands: it sees exactly the transactions before.
func (d *database) snapshot(ctx context.Context) (*wire, domain.Position, error) {
	c, err := d.dial(ctx, reading...)
	if err != nil {
		return nil, 0, err
	}
	at, err := c.begin(ctx)
	if err != nil {
		c.close()
		return nil, 0, d.explain(err)
	}
	return c, at, nil
}

func (c *wire) begin(ctx context.Context) (domain.Position, error) {
	if err := c.rows(ctx, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY", nil); err != nil {
		return 0, err
	}
	status := map[string]string{}
	err := c.rows(ctx, "SHOW STATUS LIKE 'binlog_snapshot_%'", func(f [][]byte) error {
		status[strings.ToLower(string(f[0]))] = string(f[1])
		return nil
	})
	if err != nil {
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

// shaper turns rows as the server gives them into rows in the form of the plan.
type shaper struct {
	conv   []typemap.Convert
	floats []int // bits of a float that is written as it is; 0: by its converter
	names  []string
	fields [][]byte
	values []byte
	number []byte
}

func newShaper(p *domain.TablePlan, conv []typemap.Convert) *shaper {
	s := &shaper{conv: conv, fields: make([][]byte, len(conv)), floats: make([]int, len(conv))}
	for i, c := range p.Columns {
		s.names = append(s.names, c.Name)
		if p.TargetSide == nil {
			s.floats[i] = typemap.FloatBits(c, c)
		} else {
			s.floats[i] = typemap.FloatBits(c, p.TargetSide.Columns[i])
		}
	}
	return s
}

// shape converts the row that was read; the fields are good until the next.
func (s *shaper) shape(d *resultset.Decoder) error {
	s.values = s.values[:0]
	for i, text := range d.Fields {
		s.fields[i] = nil
		if text == nil {
			continue
		}
		from := len(s.values)
		if d.Columns[i].IsFloat() {
			if bits := s.floats[i]; bits != 0 {
				s.values = typemap.AppendFloat(s.values, d.Floats[i], bits)
				s.fields[i] = s.values[from:len(s.values):len(s.values)]
				continue
			}
			s.number = typemap.AppendFloat(s.number[:0], d.Floats[i], d.Columns[i].Bits())
			text = s.number
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
	d *database
	c *wire
}

// OpenReader opens a connection for reading chunks.
func (d *database) OpenReader(ctx context.Context) (engine.Reader, error) {
	c, err := d.dial(ctx, reading...)
	return &reader{d, c}, err
}

// Begin opens the snapshot.
func (r *reader) Begin(ctx context.Context) (domain.Snapshot, error) {
	at, err := r.c.begin(ctx)
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
	err := r.c.read(ctx, p, keyRange(p, c.Lower, c.Upper), func(fields [][]byte) error {
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
	return r.d.explain(r.c.rows(ctx, "COMMIT", nil))
}

// Close drops what is still being read with the connection.
func (r *reader) Close() { r.c.close() }

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
