package sqlite

import (
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"dustyferry/internal/core/isotime"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// A column has no type of its values, only a preference ("affinity") that comes of what it was declared
// as. What becomes of it is decided by what it holds, and by what it was declared as where that agrees.
// Source: SQLite documentation, "Datatypes In SQLite".

// affinity is what SQLite prefers for values of a column declared so.
func affinity(declared string) string {
	d := strings.ToUpper(declared)
	has := func(parts ...string) bool {
		for _, p := range parts {
			if strings.Contains(d, p) {
				return true
			}
		}
		return false
	}
	switch {
	case has("INT"):
		return "integer"
	case has("CHAR", "CLOB", "TEXT"):
		return "text"
	case d == "" || has("BLOB"):
		return "blob"
	case has("REAL", "FLOA", "DOUB"):
		return "real"
	}
	return "numeric"
}

// held is what the values of a column are, as far as they were looked at.
type held struct {
	Integers, Reals, Texts, Blobs, Nulls int64
	Longest                              int64 // characters of a text
	Truths                               int64 // integers that are 0 or 1
	Digits, Behind                       int   // most digits of a number before the point, and behind it
	// Texts in ISO 8601 form: days, moments without and with a zone, times of day.
	Dates, Moments, Zoned, Times int64
	Whole                        bool // all rows were looked at
}

func (h *held) values() int64 { return h.Integers + h.Reals + h.Texts + h.Blobs }

// look takes a value into account.
func (h *held) look(v driver.Value) {
	switch x := v.(type) {
	case nil:
		h.Nulls++
	case int64:
		h.Integers++
		h.Digits = max(h.Digits, len(strings.TrimLeft(strconv.FormatInt(x, 10), "-0")))
		if x == 0 || x == 1 {
			h.Truths++
		}
	case float64:
		h.Reals++
		whole, part, _ := strings.Cut(strconv.FormatFloat(math.Abs(x), 'f', -1, 64), ".")
		h.Digits, h.Behind = max(h.Digits, len(strings.TrimLeft(whole, "0"))), max(h.Behind, len(part))
	case string:
		h.Texts++
		h.Longest = max(h.Longest, int64(utf8.RuneCountInString(x)))
		switch {
		case len(x) > 35:
		case isotime.IsDate(x):
			h.Dates++
		case isotime.IsMoment(x):
			h.Moments++
		case isotime.IsZoned(x):
			h.Zoned++
		case isotime.IsTime(x):
			h.Times++
		}
	case []byte:
		h.Blobs++
	}
}

// Neutral types.
const (
	bigint    = "bigint"
	double    = "double precision"
	numeric   = "numeric"
	text      = "text"
	varchar   = "character varying"
	bytea     = "bytea"
	boolean   = "boolean"
	date      = "date"
	moment    = "timestamp without time zone"
	zoned     = "timestamp with time zone"
	timeOfDay = "time without time zone"
)

var (
	lengthOf = regexp.MustCompile(`(?i)^(?:n?var|n|native )?char(?:acter)?(?: varying)?(?:acter)?\s*\(\s*(\d+)\s*\)`)
	digitsOf = regexp.MustCompile(`\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\)`)
	isBool   = regexp.MustCompile(`(?i)^bool`)
	isTimely = regexp.MustCompile(`(?i)^(date|datetime|timestamp|timestamptz|time)\b`)
)

// typed is the neutral type of a column declared so that holds such values, and what is to be told of
// that; full is its full spelling.
func typed(declared string, h *held) (base, full, note string) {
	n := h.values()
	only := func(some int64) bool { return some == n }
	a := affinity(declared)
	plain := func(t string) (string, string, string) { return t, t, "" }
	switch {
	case n == 0:
		switch a {
		case "integer":
			return plain(bigint)
		case "real":
			return plain(double)
		case "blob":
			if declared != "" {
				return plain(bytea)
			}
		case "numeric":
			if isBool.MatchString(declared) {
				return plain(boolean)
			}
			if !isTimely.MatchString(declared) {
				return plain(numeric)
			}
		}
		return plain(text)
	case isBool.MatchString(declared) && only(h.Truths):
		return plain(boolean)
	case only(h.Integers):
		if isTimely.MatchString(declared) {
			return bigint, bigint, "it is declared " + declared + " and holds numbers, such as seconds since 1970: they stay " +
				"numbers"
		}
		if a == "numeric" && declared != "" {
			return decimal(declared, h)
		}
		if a == "real" { // stored as whole numbers to save room, and read as others
			return plain(double)
		}
		return plain(bigint)
	case only(h.Integers + h.Reals):
		if isTimely.MatchString(declared) {
			return double, double, "it is declared " + declared + " and holds numbers, such as Julian days: they stay numbers"
		}
		if a == "numeric" && declared != "" {
			return decimal(declared, h)
		}
		if h.Integers > 0 && a != "real" {
			return numeric, numeric, "it holds whole numbers and others"
		}
		return plain(double)
	case only(h.Texts):
		if isTimely.MatchString(declared) || a == "numeric" {
			switch {
			case only(h.Dates):
				return plain(date)
			case only(h.Moments), only(h.Dates + h.Moments):
				return plain(moment)
			case only(h.Zoned):
				return plain(zoned)
			case only(h.Times):
				return plain(timeOfDay)
			}
		}
		if m := lengthOf.FindStringSubmatch(declared); m != nil && h.Whole {
			if most, err := strconv.ParseInt(m[1], 10, 32); err == nil && h.Longest <= most && most > 0 && most <= 10_000 {
				return varchar, fmt.Sprintf("%s(%d)", varchar, most), ""
			}
		}
		return plain(text)
	case only(h.Blobs):
		return plain(bytea)
	case h.Blobs == 0:
		return text, text, fmt.Sprintf("it holds texts (%d), whole numbers (%d) and others (%d): all become texts", h.Texts,
			h.Integers, h.Reals)
	}
	return bytea, bytea, fmt.Sprintf("it holds binary values (%d) beside others (%d), which will be refused", h.Blobs,
		n-h.Blobs)
}

// decimal is the type of a column of decimal numbers: with the digits that it was declared with, where
// all of its values have no more.
func decimal(declared string, h *held) (base, full, note string) {
	if m := digitsOf.FindStringSubmatch(declared); m != nil && h.Whole {
		most, err := strconv.Atoi(m[1])
		behind, e := strconv.Atoi(m[2] + map[bool]string{true: "0"}[m[2] == ""])
		if err == nil && e == nil && most <= 60 && behind <= 30 && h.Behind <= behind && h.Digits <= most-behind {
			return numeric, fmt.Sprintf("numeric(%d,%d)", most, behind), ""
		}
	}
	return numeric, numeric, ""
}

// writer writes values of a column in the neutral form.
type writer struct {
	name  string
	base  string  // one of the neutral types that are told apart here
	full  string  // as the plan says it
	scale int     // digits behind the point that a decimal number is written with; -1: as many as it has
	asIs  bool    // texts are those of another engine
	exp   float64 // from which number on a floating-point one is written with an exponent
}

// writerOf is for a column of a plan.
func writerOf(c domain.Column) writer {
	w := writer{name: c.Name, base: c.BaseType, full: c.Type, scale: -1, exp: 1e15}
	switch c.BaseType {
	case "smallint", "integer":
		w.base = bigint
	case "real":
		w.base, w.exp = double, 1e6
	case bigint, double, boolean, bytea, date, moment, zoned, timeOfDay, varchar:
	case numeric:
		if m := digitsOf.FindStringSubmatch(c.Type); m != nil {
			w.scale, _ = strconv.Atoi("0" + m[2])
		}
	default:
		w.base = text // whatever it is, it is kept as its text
	}
	return w
}

// decimal appends a number, given as its fewest digits, with those behind the point that its column has.
func (w writer) decimal(dst []byte, s string) ([]byte, bool, error) {
	whole, part, _ := strings.Cut(s, ".")
	switch {
	case w.scale < 0:
		return append(dst, s...), true, nil
	case len(part) > w.scale:
		return dst, true, w.refused("%s, which has more digits behind the point", s)
	case w.scale == 0:
		return append(dst, whole...), true, nil
	}
	dst = append(append(append(dst, whole...), '.'), part...)
	for range w.scale - len(part) {
		dst = append(dst, '0')
	}
	return dst, true, nil
}

// append appends a value; false is NULL.
func (w writer) append(dst []byte, v driver.Value) ([]byte, bool, error) {
	switch x := v.(type) {
	case nil:
		return dst, false, nil
	case int64:
		switch w.base {
		case numeric:
			return w.decimal(dst, strconv.FormatInt(x, 10))
		case bigint, text, varchar:
			return strconv.AppendInt(dst, x, 10), true, nil
		case double:
			if x > 1<<53 || x < -1<<53 {
				return dst, true, w.refused("the whole number %d, which a floating-point number cannot hold", x)
			}
			return strconv.AppendInt(dst, x, 10), true, nil
		case boolean:
			if x == 0 || x == 1 {
				return append(dst, map[bool]string{true: "true", false: "false"}[x == 1]...), true, nil // as a cast writes it
			}
		}
		return dst, true, w.refused("the whole number %d", x)
	case float64:
		switch {
		case w.base == double && math.IsInf(x, 0):
			return append(dst, map[bool]string{true: "Infinity", false: "-Infinity"}[x > 0]...), true, nil
		case math.IsInf(x, 0):
		case w.base == double:
			return appendDouble(dst, x, w.exp), true, nil
		case w.base == numeric:
			return w.decimal(dst, strconv.FormatFloat(x, 'f', -1, 64))
		case w.base == text, w.base == varchar:
			return strconv.AppendFloat(dst, x, 'f', -1, 64), true, nil
		}
		return dst, true, w.refused("the number %v", x)
	case string:
		if w.asIs && w.base != bytea {
			return append(dst, x...), true, nil
		}
		if w.base == numeric && isNumber.MatchString(x) { // kept as a text, for its digits
			return append(dst, x...), true, nil
		}
		ok := w.base == text || w.base == varchar || w.base == date && isotime.IsDate(x) ||
			w.base == timeOfDay && isotime.IsTime(x) || w.base == zoned && isotime.IsZoned(x)
		if w.base == moment && (isotime.IsMoment(x) || isotime.IsDate(x)) {
			return isotime.AppendMoment(dst, x), true, nil
		}
		switch {
		case !ok:
			return dst, true, w.refused("the text %.40q", x)
		case !utf8.ValidString(x):
			return dst, true, w.refused("a text that is no UTF-8: %.40q", x)
		case strings.IndexByte(x, 0) >= 0:
			return dst, true, w.refused("a text with a zero byte in it: %.40q", x)
		case w.base == zoned:
			return isotime.AppendZoned(dst, x), true, nil
		case w.base == timeOfDay:
			return isotime.AppendTime(dst, x), true, nil
		}
		return append(dst, x...), true, nil
	case []byte:
		if w.base == bytea {
			return hex.AppendEncode(append(dst, `\x`...), x), true, nil
		}
		return dst, true, w.refused("a binary value of %d bytes", len(x))
	}
	return dst, true, w.refused("a value of kind %T", v)
}

func (w writer) refused(format string, args ...any) error {
	return &engine.Unfit{Column: w.name, Why: fmt.Sprintf(format, args...) + ", and is planned as " + w.full}
}

// appendDouble writes a number in the fewest digits that give it back, as PostgreSQL does: with an exponent
// from some number on.
func appendDouble(dst []byte, x, exp float64) []byte {
	if a := math.Abs(x); a != 0 && (a < 1e-4 || a >= exp) {
		return strconv.AppendFloat(dst, x, 'e', -1, 64)
	}
	return strconv.AppendFloat(dst, x, 'f', -1, 64)
}

// value is a neutral text of a key as SQLite compares it.
func value(base, s string) driver.Value {
	switch base {
	case bigint:
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return n
		}
	case double, numeric:
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return n
		}
		if f, err := strconv.ParseFloat(s, 64); err == nil {
			return f
		}
	case boolean:
		return map[string]int64{"t": 1, "true": 1, "1": 1}[s]
	case bytea:
		if b, err := hex.DecodeString(strings.TrimPrefix(s, `\x`)); err == nil {
			return b
		}
	}
	return s
}
