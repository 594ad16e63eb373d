package mariadb

import (
	"context"
	"database/sql/driver"
	"encoding/binary"
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

// shaper turns rows as the server gives them into rows in the neutral form.
type shaper struct {
	conv   []typemap.Convert
	floats []int // bits of a float that is written as it is; 0: by its converter
	names  []string
	number []byte
}

func newShaper(p *domain.TablePlan, conv []typemap.Convert) *shaper {
	s := &shaper{conv: conv, floats: make([]int, len(conv))}
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

// append adds the row that was read in the form of [pgcopy.AppendFields].
func (s *shaper) append(dst []byte, d *resultset.Decoder) ([]byte, error) {
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(d.Fields)))
	for i, text := range d.Fields {
		at := len(dst)
		dst = append(dst, 0xff, 0xff, 0xff, 0xff) // NULL, until there is a value
		if text == nil {
			continue
		}
		if d.Columns[i].IsFloat() {
			if bits := s.floats[i]; bits != 0 {
				dst = typemap.AppendFloat(dst, d.Floats[i], bits)
				binary.BigEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
				continue
			}
			s.number = typemap.AppendFloat(s.number[:0], d.Floats[i], d.Columns[i].Bits())
			text = s.number
		}
		out, ok, err := s.conv[i](dst, text)
		if err != nil {
			return dst, domain.Conflict("column %s: %s", s.names[i], err)
		}
		if ok {
			dst = out
			binary.BigEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
		}
	}
	return dst, nil
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
const blockSize = engine.GatherSize

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
	s := newShaper(p, converters(p))
	err := r.c.values(ctx, statement(p, keyRange(p, c.Lower, c.Upper)), func(d *resultset.Decoder) (err error) {
		from := len(*buf)
		if *buf, err = s.append(*buf, d); err != nil {
			return err
		}
		sum.Add((*buf)[from:])
		if len(*buf) >= blockSize {
			r.c.net.Gather() // there will be more
			refused = give()
		}
		return refused
	})
	r.c.net.Plain()
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

// Rows reads the chunk row by row.
func (r *reader) Rows(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, take func(fields [][]byte, refused error) error) error {
	s := newShaper(p, converters(p))
	var row []byte
	var fields [][]byte
	var stop error
	err := r.c.values(ctx, statement(p, keyRange(p, c.Lower, c.Upper)), func(d *resultset.Decoder) error {
		var refused error
		if row, refused = s.append(row[:0], d); refused != nil {
			stop = take(d.Fields, refused)
			return stop
		}
		if fields, stop = pgcopy.Fields(fields[:0], row); stop == nil {
			stop = take(fields, nil)
		}
		return stop
	})
	switch {
	case stop != nil:
		return stop
	case err != nil:
		return fmt.Errorf("reading %s: %w", p.Source, r.d.explain(err))
	}
	return nil
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
