package typemap

import (
	"bytes"
	"dustyferry/internal/domain"
	"fmt"
	"strings"
)

const noDate = "infinity, and years before 1 and after 9999, do not exist there: a row with one stops the load"

// Dates, moments and spans of time.
var mariaTimes = map[string]*mariaType{
	"year": {kind: "integer", unlike: true, neutral: neutrally("smallint", Wider, "a year is kept as a number"),
		value: func(domain.Column, domain.Column) Convert { return unpadded },
		own:   func(domain.Column) Convert { return fourDigits }},
	"date": {neutral: neutrally("date", Lossy, "dates with a zero month or day become NULL"),
		value: func(_, to domain.Column) Convert { return dated(to.NotNull, "") }},
	"datetime": {kind: "moment", value: moment, neutral: func(_ domain.Column, a, _ int) becomes {
		return becomes{fmt.Sprintf("timestamp(%d) without time zone", max(a, 0)), Lossy,
			"dates with a zero month or day become NULL"}
	}},
	"timestamp": {kind: "moment", value: moment, neutral: func(_ domain.Column, a, _ int) becomes {
		return becomes{fmt.Sprintf("timestamp(%d) with time zone", max(a, 0)), Lossy, "the zero timestamp becomes NULL"}
	}},
	"time": {kind: "time", neutral: neutrally("interval", Wider, "up to 838 hours, as an interval"),
		value: func(domain.Column, domain.Column) Convert { return interval }},
}

// moment writes a date with a time, in UTC where the target knows zones.
func moment(_, to domain.Column) Convert {
	zone := ""
	if to.BaseType == "timestamp with time zone" {
		zone = "+00"
	}
	return dated(to.NotNull, zone)
}

// fourDigits writes a year: 0 as a text would be the year 2000.
func fourDigits(dst, v []byte) ([]byte, bool, error) {
	return append(append(dst, "0000"[min(len(v), 4):]...), v...), true, nil
}

var neutralTimes = map[string]*neutralType{
	"date": {there: plainly("date", Lossy, noDate), value: always(calendar(-1))},
	"timestamp without time zone": {kind: "moment", value: digitsOf, there: func(c domain.Column, _ place, _,
		_ int) becomes {
		return becomes{timed("datetime", c.Type), Lossy, noDate}
	}},
	"timestamp with time zone": {kind: "moment", value: digitsOf, there: func(c domain.Column, _ place, _, _ int) becomes {
		return becomes{timed("datetime", c.Type), Lossy, "kept as the moment in UTC; " + noDate}
	}},
	"time without time zone": {kind: "time",
		there: func(c domain.Column, _ place, _, _ int) becomes { return becomes{timed("time", c.Type), Wider, ""} },
		value: func(to domain.Column) Convert {
			n, _ := args(to.Type)
			return func(dst, v []byte) ([]byte, bool, error) { return padded(dst, v, n), true, nil }
		}},
	"time with time zone": {there: plainly("varchar(24)", Wider, "kept as text")},
	"interval":            {there: plainly("varchar(120)", Wider, "kept as text, such as 1 mon 2 days 03:00:00")},
}

// digitsOf writes a moment with as many digits behind its seconds as the target's column has.
func digitsOf(to domain.Column) Convert {
	n, _ := args(to.Type)
	return calendar(max(n, 0))
}

// dated writes dates and moments: trailing zeros of a fraction go, as
// PostgreSQL writes them. What has a zero month or day is NULL.
func dated(notNull bool, zone string) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		if len(v) < 10 || bytes.HasPrefix(v, []byte("0000")) || string(v[5:7]) == "00" || string(v[8:10]) == "00" {
			if notNull {
				return dst, false, fmt.Errorf("the date %s does not exist on the target, and the column does not take NULL; "+
					"change it on the source, or let the column take NULL", v)
			}
			return dst, false, nil
		}
		return append(append(dst, trimmed(v)...), zone...), true, nil
	}
}

// trimmed takes the trailing zeros of a fraction away, and its point.
func trimmed(v []byte) []byte {
	if bytes.IndexByte(v, '.') < 0 {
		return v
	}
	return bytes.TrimSuffix(bytes.TrimRight(v, "0"), []byte("."))
}

// interval writes a span of time as PostgreSQL does; below zero the sign stands
// in front of the hours.
func interval(dst, v []byte) ([]byte, bool, error) {
	v = trimmed(v)
	if string(v) == "-00:00:00" {
		v = v[1:]
	}
	return append(dst, v...), true, nil
}

// calendar writes dates and moments, moments with so many digits behind the
// seconds and without a zone, which is UTC.
func calendar(digits int) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		if len(v) < 10 || v[4] != '-' || v[len(v)-1] == 'C' || v[len(v)-1] == 'y' {
			return dst, false, fmt.Errorf("MariaDB has no date %s; change it on the source", v)
		}
		if digits < 0 {
			return append(dst, v...), true, nil
		}
		return padded(dst, bytes.TrimSuffix(v, []byte("+00")), digits), true, nil
	}
}

// padded writes a time with exactly so many digits behind its seconds.
func padded(dst, v []byte, digits int) []byte {
	dst = append(dst, v...)
	have := 0
	if i := bytes.IndexByte(v, '.'); i >= 0 {
		have = len(v) - i - 1
	} else if digits > 0 {
		dst = append(dst, '.')
	}
	for ; have < digits; have++ {
		dst = append(dst, '0')
	}
	return dst
}

// timed is a type of times with as many digits as a PostgreSQL type.
func timed(base, of string) string {
	if n := fraction(of); n > 0 {
		return fmt.Sprintf("%s(%d)", base, n)
	}
	return base
}

// fraction is how many digits a PostgreSQL time has behind the seconds.
func fraction(typ string) int {
	if _, rest, ok := strings.Cut(typ, "("); ok && rest[0] >= '0' && rest[0] <= '6' {
		return int(rest[0] - '0')
	}
	return 6
}
