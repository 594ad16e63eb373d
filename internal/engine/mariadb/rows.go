package mariadb

import (
	"context"
	"database/sql/driver"
	"encoding/binary"
	"fmt"
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
	if err := d.Texts(); err != nil {
		return dst, err
	}
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
	s, err := r.d.begin(ctx, r.c, false)
	return s, r.d.explain(err)
}

// blockSize is how much row data is handed on at a time.
const blockSize = engine.GatherSize

var blocks = sync.Pool{New: func() any { b := make([]byte, 0, blockSize+(16<<10)); return &b }}

// Copy reads the chunk's rows and hands them on in blocks of whole rows.
func (r *reader) Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, packed bool, sink func(engine.Block) error) (rowhash.Sum, error) {
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
	add := newShaper(p, converters(p)).append
	if packed {
		add = newPacker(p, converters(p)).append
	}
	err := r.c.values(ctx, statement(p, keyRange(p, c.Lower, c.Upper)), func(d *resultset.Decoder) (err error) {
		from := len(*buf)
		if *buf, err = add(*buf, d); err != nil {
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
