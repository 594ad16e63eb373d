package postgres

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/bindvalue"
	"dustyferry/internal/protocol/pgcopy"
	"dustyferry/internal/protocol/pgvalue"
)

// Rows for MariaDB in its binary form, as parameters of a statement, from COPY's binary format: no
// number and no time becomes a text between, which costs the source less, and us.

// packing writes a value, which is not NULL, as a parameter; false when it becomes NULL.
type packing func(dst, raw []byte) ([]byte, bool, error)

// packings are the ways of a plan's columns; nil when not all of them have one.
func packings(p *domain.TablePlan) []packing {
	if !p.CrossEngine || p.TargetSide == nil || p.TargetSide.Engine != typemap.MariaDB {
		return nil
	}
	there := p.TargetColumns()
	if len(p.ComparedColumns()) != len(p.CopiedColumns()) || len(there) != len(p.CopiedColumns()) {
		return nil
	}
	out := make([]packing, len(there))
	for i, c := range p.CopiedColumns() {
		if out[i] = packingOf(c, there[i], typemap.Compile(typemap.Postgres, typemap.MariaDB, c, there[i],
			p.Runtime)); out[i] == nil {
			return nil
		}
	}
	return out
}

// SupportsBinary reports whether the plan's rows can go to MariaDB as parameters. Between two of
// this engine they travel as they are.
func (r *reader) SupportsBinary(p *domain.TablePlan) bool { return packings(p) != nil }

// direct reports whether a column's own binary form is read, and not that of its text.
func direct(c, to domain.Column) bool {
	if c.Expression != "" || !typemap.AsUsual(typemap.Postgres, typemap.MariaDB, c, to) {
		return false
	}
	switch c.BaseType {
	case "smallint", "integer", "bigint", "real", "double precision", "numeric", "boolean", "date",
		"timestamp without time zone", "timestamp with time zone", "bytea", "uuid", "text", "character varying":
		return true
	}
	return false
}

// packedList is columns for COPY's binary format.
func packedList(p *domain.TablePlan) string {
	there := p.TargetColumns()
	var out []byte
	for i, c := range p.CopiedColumns() {
		if i > 0 {
			out = append(out, ", "...)
		}
		if direct(c, there[i]) {
			out = append(out, read(c)...)
		} else {
			out = append(out, textList([]domain.Column{c})...)
		}
	}
	return string(out)
}

// packingOf is the way of a column; nil when it has none.
func packingOf(c, to domain.Column, conv typemap.Convert) packing {
	kind, ok := bindvalue.Of(to.BaseType)
	ofBytes := typemap.IsBytes(to.BaseType) && !typemap.IsGeometry(to.BaseType)
	if !direct(c, to) {
		if !ok || !kind.IsText() {
			return nil
		}
		return throughText(kind, conv)
	}
	switch c.BaseType {
	case "smallint", "integer", "bigint", "boolean":
		return whole(c.BaseType)
	case "real":
		return real32
	case "double precision":
		return real64
	case "date", "timestamp without time zone", "timestamp with time zone":
		return moment(c.BaseType == "date")
	case "numeric":
		return packNumeric(kind, conv)
	case "uuid":
		return packUUID(kind, conv)
	case "bytea":
		if !ofBytes {
			return nil
		}
		return func(dst, raw []byte) ([]byte, bool, error) {
			dst, _ = bindvalue.Bytes.Append(dst, raw)
			return dst, true, nil
		}
	}
	if !ok || !kind.IsText() {
		return nil
	}
	return throughText(kind, conv)
}

// throughText is for values that come as texts and go as such.
func throughText(kind bindvalue.Kind, conv typemap.Convert) packing {
	var text []byte
	return func(dst, raw []byte) (out []byte, ok bool, err error) {
		if text, ok, err = conv(text[:0], raw); err != nil || !ok {
			return dst, ok, err
		}
		dst, _ = kind.Append(dst, text)
		return dst, true, nil
	}
}

// errSize says that a value has another size than its type.
func errSize(raw []byte) error {
	return fmt.Errorf("the source sent a value of %d bytes, which its type does not have", len(raw))
}

// whole is for whole numbers and truths.
func whole(base string) packing {
	return func(dst, raw []byte) ([]byte, bool, error) {
		switch {
		case base == "boolean" && len(raw) == 1:
			return append(dst, raw[0], 0, 0, 0), true, nil
		case base == "smallint" && len(raw) == 2:
			return binary.LittleEndian.AppendUint32(dst, uint32(int32(int16(binary.BigEndian.Uint16(raw))))), true, nil
		case base == "integer" && len(raw) == 4:
			return append(dst, raw[3], raw[2], raw[1], raw[0]), true, nil
		case base == "bigint" && len(raw) == 8:
			return binary.LittleEndian.AppendUint64(dst, binary.BigEndian.Uint64(raw)), true, nil
		}
		return dst, false, errSize(raw)
	}
}

// finite refuses what is no number there, and takes the sign of a zero away.
func finite(f float64) (float64, error) {
	switch {
	case math.IsNaN(f):
		return 0, errors.New("NaN is no number there; change it on the source")
	case math.IsInf(f, 0):
		return 0, errors.New("an infinity is no number there; change it on the source")
	case f == 0:
		return 0, nil
	}
	return f, nil
}

func real32(dst, raw []byte) ([]byte, bool, error) {
	if len(raw) != 4 {
		return dst, false, errSize(raw)
	}
	f, err := finite(float64(math.Float32frombits(binary.BigEndian.Uint32(raw))))
	return binary.LittleEndian.AppendUint32(dst, math.Float32bits(float32(f))), true, err
}

func real64(dst, raw []byte) ([]byte, bool, error) {
	if len(raw) != 8 {
		return dst, false, errSize(raw)
	}
	f, err := finite(math.Float64frombits(binary.BigEndian.Uint64(raw)))
	return binary.LittleEndian.AppendUint64(dst, math.Float64bits(f)), true, err
}

// moment is for dates, and for dates with a time, which comes in UTC.
func moment(date bool) packing {
	return func(dst, raw []byte) ([]byte, bool, error) {
		var of int32
		var micros int64
		var endless bool
		switch {
		case date && len(raw) == 4:
			of = int32(binary.BigEndian.Uint32(raw))
			endless = of == math.MaxInt32 || of == math.MinInt32
		case !date && len(raw) == 8:
			n := int64(binary.BigEndian.Uint64(raw))
			endless = n == math.MaxInt64 || n == math.MinInt64
			of, micros = pgvalue.Moment(n)
		default:
			return dst, false, errSize(raw)
		}
		year, month, day := pgvalue.Civil(of)
		switch {
		case endless:
			return dst, false, errors.New("MariaDB has no infinite date; change it on the source")
		case year < 1:
			return dst, false, fmt.Errorf("MariaDB has no date of the year %d BC; change it on the source", 1-year)
		case year > 9999:
			return dst, false, fmt.Errorf("MariaDB has no date of the year %d; change it on the source", year)
		case date:
			return bindvalue.Date(dst, year, month, day), true, nil
		}
		return bindvalue.Moment(dst, year, month, day, micros), true, nil
	}
}

func packNumeric(kind bindvalue.Kind, conv typemap.Convert) packing {
	next := throughText(kind, conv)
	var text []byte
	return func(dst, raw []byte) (out []byte, ok bool, err error) {
		if text, err = pgvalue.AppendNumeric(text[:0], raw); err != nil {
			return dst, false, err
		}
		return next(dst, text)
	}
}

func packUUID(kind bindvalue.Kind, conv typemap.Convert) packing {
	next := throughText(kind, conv)
	var text []byte
	return func(dst, raw []byte) ([]byte, bool, error) {
		if len(raw) != 16 {
			return dst, false, errSize(raw)
		}
		text = text[:0]
		for i, part := range [][]byte{raw[:4], raw[4:6], raw[6:8], raw[8:10], raw[10:]} {
			if i > 0 {
				text = append(text, '-')
			}
			text = hex.AppendEncode(text, part)
		}
		return next(dst, text)
	}
}

// copyPacked reads a chunk for MariaDB, as parameters.
func (r *reader) copyPacked(ctx context.Context, p *domain.TablePlan, c *domain.Chunk,
	sink func([]byte) error) (rowhash.Sum, error) {
	pack, cols := packings(p), p.CopiedColumns()
	out := r.gather(sink)
	var fields [][]byte
	rows := &rowSink{row: func(row []byte) (err error) {
		if fields, err = pgcopy.Fields(fields[:0], row); err != nil {
			return err
		}
		if len(fields) != len(pack) {
			return fmt.Errorf("the source sent a row of %d values, not of %d", len(fields), len(pack))
		}
		size := 2
		for _, f := range fields {
			size += 4 + 32 + len(f)
		}
		b, err := out.room(size)
		if err != nil {
			return err
		}
		b = binary.BigEndian.AppendUint16(b, uint16(len(fields)))
		for i, f := range fields {
			at := len(b)
			b = append(b, 0xff, 0xff, 0xff, 0xff)
			if f == nil {
				continue
			}
			var ok bool
			if b, ok, err = pack[i](b, f); err != nil {
				return domain.Conflict("column %s: %s", cols[i].Name, err)
			}
			if ok {
				binary.BigEndian.PutUint32(b[at:], uint32(len(b)-at-4))
			}
		}
		return out.took(b)
	}}
	return r.copyRows(ctx, p, fmt.Sprintf("SELECT %s FROM %s%s", packedList(p), from(p), keyRange(p, c.Lower, c.Upper)),
		"binary", rows.Write, out)
}
