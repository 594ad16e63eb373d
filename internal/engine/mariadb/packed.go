package mariadb

import (
	"encoding/binary"
	"slices"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/pgvalue"
	"dustyferry/internal/protocol/resultset"
)

// Rows for PostgreSQL in its binary form, which costs that server less than texts, and
// us too.

// Packs reports whether the plan's values can all be written in PostgreSQL's binary form.
func (r *reader) Packs(p *domain.TablePlan) bool {
	return p.TargetSide != nil && p.TargetSide.Engine == typemap.Postgres &&
		!slices.ContainsFunc(p.TargetSide.Columns, func(c domain.Column) bool { return pgvalue.OID(c.BaseType) == 0 })
}

// packing appends the binary form of a value as it came; not ok: it becomes NULL.
type packing func(dst, raw []byte) ([]byte, bool, error)

// packer turns rows as the server gives them into rows of COPY's binary format.
type packer struct {
	p    *domain.TablePlan
	conv []typemap.Convert
	pack []packing // once the first row has come with its columns
}

func newPacker(p *domain.TablePlan, conv []typemap.Convert) *packer { return &packer{p: p, conv: conv} }

// append adds the row that was cut.
func (k *packer) append(dst []byte, d *resultset.Decoder) ([]byte, error) {
	if k.pack == nil {
		for i := range d.Columns {
			k.pack = append(k.pack, pack(&d.Columns[i], k.p.Columns[i], k.p.TargetSide.Columns[i], k.conv[i]))
		}
	}
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(d.Raw)))
	for i, raw := range d.Raw {
		at := len(dst)
		dst = append(dst, 0xff, 0xff, 0xff, 0xff) // NULL, until there is a value
		if raw == nil {
			continue
		}
		out, ok, err := k.pack[i](dst, raw)
		if err != nil {
			return dst, domain.Conflict("column %s: %s", k.p.Columns[i].Name, err)
		}
		if ok {
			dst = out
			binary.BigEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
		}
	}
	return dst, nil
}

// pack chooses the way for a column. Any value can go by its text; where what comes and
// what is wanted are both bytes of the same meaning, it goes without.
func pack(c *resultset.Column, from, to domain.Column, conv typemap.Convert) packing {
	byText := throughText(c, to, conv)
	if !typemap.AsUsual(typemap.MariaDB, typemap.Postgres, from, to) {
		return byText
	}
	whole := map[string]int{"smallint": 2, "integer": 4, "bigint": 8}
	switch form, base := c.Form(), to.BaseType; {
	case form == resultset.Whole && whole[base] > 0:
		size := whole[base]
		return func(dst, raw []byte) ([]byte, bool, error) {
			n, ok := c.Int(raw)
			if !ok {
				return byText(dst, raw)
			}
			dst, err := pgvalue.Whole(dst, n, size)
			return dst, true, err
		}
	case form == resultset.Real && (base == "real" && c.Bits() == 32 || base == "double precision" && c.Bits() == 64):
		return func(dst, raw []byte) ([]byte, bool, error) {
			dst = append(dst, raw...)
			slices.Reverse(dst[len(dst)-len(raw):]) // the network's order
			return dst, true, nil
		}
	case form == resultset.Moment && (base == "date" || base == "timestamp without time zone" || base == "timestamp with time zone"):
		return func(dst, raw []byte) ([]byte, bool, error) {
			t, err := c.Clock(raw)
			if err != nil {
				return dst, false, err
			}
			day, ok := pgvalue.Day(t.Year, t.Month, t.Day)
			switch {
			case !ok: // it becomes NULL, or is refused
				return byText(dst, raw)
			case base == "date":
				return pgvalue.Date(dst, day), true, nil
			}
			return pgvalue.Timestamp(dst, day, pgvalue.Micros(t.Hours, t.Minutes, t.Seconds, t.Microseconds)), true, nil
		}
	case form == resultset.Span && base == "interval":
		return func(dst, raw []byte) ([]byte, bool, error) {
			t, err := c.Clock(raw)
			micros := pgvalue.Micros(t.Hours, t.Minutes, t.Seconds, t.Microseconds)
			if t.Below {
				micros = -micros
			}
			return pgvalue.Interval(dst, micros), true, err
		}
	case form == resultset.Plain && base == "bytea" && typemap.IsBytes(from.BaseType) && !typemap.IsGeometry(from.BaseType):
		return func(dst, raw []byte) ([]byte, bool, error) { return append(dst, raw...), true, nil }
	}
	return byText
}

// throughText writes a value as its text, converts that, and packs the outcome.
func throughText(c *resultset.Column, to domain.Column, conv typemap.Convert) packing {
	encode := pgvalue.Encoder(to.BaseType)
	var text, out []byte
	asText := pgvalue.IsText(to.BaseType)
	return func(dst, raw []byte) ([]byte, bool, error) {
		switch c.Form() {
		case resultset.Plain:
		case resultset.Real:
			text = typemap.AppendFloat(text[:0], c.Float(raw), c.Bits())
			raw = text
		default:
			var err error
			if text, err = c.AppendText(text[:0], raw); err != nil {
				return dst, false, err
			}
			raw = text
		}
		if asText { // the binary form of a text is the text
			return conv(dst, raw)
		}
		var ok bool
		var err error
		if out, ok, err = conv(out[:0], raw); err != nil || !ok {
			return dst, ok, err
		}
		dst, err = encode(dst, out)
		return dst, true, err
	}
}
