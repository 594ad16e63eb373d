package mariadb

import (
	"slices"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/pgvalue"
	"dustyferry/internal/protocol/resultset"
)

// Rows for PostgreSQL in its binary form, which costs that server less than texts, and
// us too.

// SupportsBinary reports whether the plan's values can all be written in PostgreSQL's binary form.
func (r *reader) SupportsBinary(p *domain.TablePlan) bool {
	return p.TargetSide != nil && p.TargetSide.Engine == typemap.Postgres &&
		!slices.ContainsFunc(p.TargetSide.Columns, func(c domain.Column) bool { return pgvalue.OID(c.BaseType) == 0 })
}

// pack chooses the way for a column. Any value can go by its text; where what comes and
// what is wanted are both bytes of the same meaning, it goes without.
func pack(c *resultset.Column, from, to domain.Column, conv typemap.Convert) writing {
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
	case form == resultset.Moment && (base == "date" || base == "timestamp without time zone" ||
		base == "timestamp with time zone"):
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
	case form == resultset.Plain && base == "bytea" && typemap.IsBytes(from.BaseType) &&
		!typemap.IsGeometry(from.BaseType):
		return func(dst, raw []byte) ([]byte, bool, error) { return append(dst, raw...), true, nil }
	}
	return byText
}

// throughText writes a value as its text, converts that, and packs the outcome.
func throughText(c *resultset.Column, to domain.Column, conv typemap.Convert) writing {
	text := textWay(c, conv)
	if pgvalue.IsText(to.BaseType) { // the binary form of a text is the text
		return text
	}
	encode := pgvalue.Encoder(to.BaseType)
	var out []byte
	return func(dst, raw []byte) ([]byte, bool, error) {
		var ok bool
		var err error
		if out, ok, err = text(out[:0], raw); err != nil || !ok {
			return dst, ok, err
		}
		dst, err = encode(dst, out)
		return dst, true, err
	}
}
