package mariadb

import (
	"context"
	"database/sql/driver"
	"encoding/binary"
	"fmt"
	"strings"
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
var reading = []string{"time_zone = '+00:00'", "net_write_timeout = 3600",
	"TRANSACTION ISOLATION LEVEL REPEATABLE READ"}

// writing appends a value, as it came, in the form in which it goes; not ok: it becomes
// NULL.
type writing func(dst, raw []byte) ([]byte, bool, error)

// rowEncoder turns rows as the server gives them into rows of the neutral form, or binary ones.
type rowEncoder struct {
	plan   *domain.TablePlan
	conv   []typemap.Convert
	binary bool
	ways   []writing // of each column, once the first row has come with its columns
}

func newRowEncoder(p *domain.TablePlan, conv []typemap.Convert, binary bool) *rowEncoder {
	return &rowEncoder{plan: p, conv: conv, binary: binary}
}

// append adds the row that was cut, in the form of [pgcopy.AppendFields].
func (s *rowEncoder) append(dst []byte, d *resultset.Decoder) ([]byte, error) {
	if s.ways == nil {
		for i := range d.Columns {
			s.ways = append(s.ways, s.way(i, &d.Columns[i]))
		}
	}
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(d.Raw)))
	for i, raw := range d.Raw {
		at := len(dst)
		dst = append(dst, 0xff, 0xff, 0xff, 0xff) // NULL, until there is a value
		if raw == nil {
			continue
		}
		out, ok, err := s.ways[i](dst, raw)
		if err != nil {
			return dst, domain.Conflict("column %s: %s", s.plan.Columns[i].Name, err)
		}
		if ok {
			dst = out
			binary.BigEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
		}
	}
	return dst, nil
}

// way chooses how a column's values are written.
func (s *rowEncoder) way(i int, c *resultset.Column) writing {
	from := s.plan.Columns[i]
	to := from
	if s.plan.TargetSide != nil {
		to = s.plan.TargetSide.Columns[i]
	}
	if s.binary {
		return pack(c, from, to, s.conv[i])
	}
	if bits := typemap.FloatBits(from, to); bits != 0 && c.Form() == resultset.Real {
		return func(dst, raw []byte) ([]byte, bool, error) {
			return typemap.AppendFloat(dst, c.Float(raw), bits), true, nil
		}
	}
	return textWay(c, s.conv[i])
}

// textWay converts the text that the server gives of a value.
func textWay(c *resultset.Column, conv typemap.Convert) writing {
	if c.Form() == resultset.Plain {
		return writing(conv)
	}
	var text []byte
	return func(dst, raw []byte) ([]byte, bool, error) {
		var err error
		if text, err = appendText(text[:0], c, raw); err != nil {
			return dst, false, err
		}
		return conv(dst, text)
	}
}

// appendText writes the text that the server gives of a value.
func appendText(dst []byte, c *resultset.Column, raw []byte) ([]byte, error) {
	if c.Form() == resultset.Real {
		return typemap.AppendFloat(dst, c.Float(raw), c.Bits()), nil
	}
	return c.AppendText(dst, raw)
}

// sourceTexts are the texts of the row that was cut, nil for NULL.
func sourceTexts(d *resultset.Decoder) ([][]byte, error) {
	out := make([][]byte, len(d.Raw))
	for i, raw := range d.Raw {
		if raw == nil {
			continue
		}
		var err error
		if out[i], err = appendText([]byte{}, &d.Columns[i], raw); err != nil {
			return nil, err
		}
	}
	return out, nil
}

type reader struct {
	d     *database
	c     *wire
	block []byte // what is handed on at a time, and as much as a row usually has
}

// OpenReader opens a connection for reading chunks.
func (d *database) OpenReader(ctx context.Context) (engine.Reader, error) {
	c, err := d.dial(ctx, reading...)
	return &reader{d: d, c: c, block: make([]byte, 0, blockSize+(16<<10))}, err
}

// Begin opens the snapshot.
func (r *reader) Begin(ctx context.Context) (domain.Snapshot, error) {
	s, err := r.d.begin(ctx, r.c, false)
	return s, r.d.explain(err)
}

// blockSize is how much row data is handed on at a time.
const blockSize = engine.GatherSize

// Copy reads the chunk's rows and hands them on in blocks of whole rows.
func (r *reader) Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, binary bool,
	sink func([]byte) error) (rowhash.Sum, error) {
	var sum rowhash.Sum
	buf := r.block[:0]
	var refused error
	s := newRowEncoder(p, converters(p), binary)
	err := r.c.values(ctx, selecting(p, keyRange(p, c.Lower, c.Upper)), func(d *resultset.Decoder) (err error) {
		from := len(buf)
		if buf, err = s.append(buf, d); err != nil {
			return err
		}
		sum.Add(buf[from:])
		if len(buf) >= blockSize {
			r.c.net.Gather() // there will be more
			refused = sink(buf)
			buf = buf[:0]
		}
		return refused
	})
	r.c.net.Plain()
	switch {
	case refused != nil: // what the taker said, not what reading did
		return sum, refused
	case err != nil:
		return sum, fmt.Errorf("reading %s: %w", p.Source, r.d.explain(err))
	case len(buf) > 0:
		return sum, sink(buf)
	}
	return sum, nil
}

// Rows reads the chunk row by row.
func (r *reader) Rows(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, take func(fields [][]byte,
	refused error) error) error {
	s := newRowEncoder(p, converters(p), false)
	var row []byte
	var fields [][]byte
	var stop error
	err := r.c.values(ctx, selecting(p, keyRange(p, c.Lower, c.Upper)), func(d *resultset.Decoder) error {
		var refused error
		if row, refused = s.append(row[:0], d); refused != nil {
			texts, err := sourceTexts(d)
			if stop = err; err == nil {
				stop = take(texts, refused)
			}
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
	rows, err := d.pool.QueryContext(limitTime, fmt.Sprintf("SELECT %s FROM %s LIMIT %d", strings.Join(cols, ", "),
		qualified(t.TableName), limit))
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
