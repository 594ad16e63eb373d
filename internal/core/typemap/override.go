package typemap

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"

	"dustyferry/internal/domain"
)

// What a person may plan a column as, and what that does to its values.

// spelled brings a type as people write it to the engine's own words.
func spelled(engine, typ string) string {
	typ = strings.ToLower(strings.Join(strings.Fields(typ), " "))
	head, rest, brackets := strings.Cut(typ, "(")
	head = strings.TrimSpace(head)
	words := map[string]string{"int": "integer", "int2": "smallint", "int4": "integer", "int8": "bigint",
		"varchar": "character varying", "char": "character", "decimal": "numeric", "bool": "boolean",
		"float4": "real", "float8": "double precision", "timestamptz": "timestamp with time zone",
		"timestamp": "timestamp without time zone", "time": "time without time zone"}
	if engine == MariaDB {
		words = map[string]string{"integer": "int", "numeric": "decimal", "bool": "tinyint(1)", "boolean": "tinyint(1)",
			"double precision": "double", "real": "float", "character varying": "varchar"}
	}
	if to, ok := words[head]; ok {
		head = to
	}
	if !brackets {
		return head
	}
	rest = strings.ReplaceAll(rest, " ", "")
	if w, zone, two := strings.Cut(head, " with"); two && strings.HasPrefix(w, "time") { // the digits stand inside
		return w + "(" + strings.TrimSuffix(rest, ")") + ") with" + zone
	}
	return head + "(" + rest
}

var brackets = regexp.MustCompile(`\([^)]*\)`)

func baseOf(typ string) string {
	return strings.Join(strings.Fields(brackets.ReplaceAllString(typ, "")), " ")
}

// usual is the type that a column gets without a rule.
func usual(from, to string, c domain.Column) string {
	from, to = form(from), form(to)
	switch {
	case from == to:
		return c.Type
	case to == Postgres:
		return ToPostgres(c).Column.Type
	}
	return toMariaDB(c, place{}).Column.Type
}

// judge says what planning a column as another type means.
func (w Mapping) judge(c, to domain.Column) (Verdict, string) {
	const found = "a value that does not fit stops the load: the fit check finds them"
	if to.Type == usual(w.From, w.To, c) {
		switch {
		case w.From == w.To:
			return Exact, ""
		case w.To == Postgres:
			m := ToPostgres(c)
			return m.Verdict, m.Note
		}
		m := toMariaDB(c, place{})
		return m.Verdict, m.Note
	}
	a, b := family(c.BaseType), family(to.BaseType)
	switch {
	case to.BaseType == "char" || to.BaseType == "character" || to.BaseType == "binary":
		return Impossible, "a type of fixed width adds or takes what stands at the end of a value; choose the one of " +
			"variable width"
	case w.From == w.To && c.BaseType == "boolean", a == "text" && (b == "uuid" || b == "json"):
		return Impossible, "such a value can be written in several ways, so rows could not be compared; carry it as it is " +
			"and change the column afterwards"
	case w.From == MariaDB && w.To == Postgres && a == "integer" && b == "boolean":
		return Lossy, "0 is false and 1 is true; any other value stops the load"
	case a == "float" && b == "float" && single(c.BaseType) == single(to.BaseType), a == "float" && b == "float" &&
		single(c.BaseType):
		return Wider, ""
	case a == "float" && b == "float":
		return Impossible, "it has fewer digits, so rows could not be compared"
	case b == "text" && (to.BaseType == "text" && w.To == Postgres || to.BaseType == "longtext" ||
		to.BaseType == "character varying" && to.Type == to.BaseType):
		return Wider, "kept as text"
	case roomier(c, to), c.BaseType == "boolean" && b == "integer":
		return Wider, ""
	case b == "text", a == b, a == "integer" && b == "decimal", a == "text" && b == "enum":
		return Lossy, found
	}
	return Impossible, "values of the one are not values of the other"
}

// Holds reports whether a column that becomes another type surely keeps every value.
func (w Mapping) Holds(c, to domain.Column) bool {
	v, _ := w.judge(c, to)
	return v == Exact || v == Wider
}

// single reports whether a float has four bytes.
func single(base string) bool { return strings.HasPrefix(base, "float") || base == "real" }

// roomier reports whether a type of the same family surely holds every value.
func roomier(c, to domain.Column) bool {
	fa, fb := family(c.BaseType), family(to.BaseType)
	a1, b1 := args(c.Type)
	a2, b2 := args(to.Type)
	switch {
	case fa == "integer" && fb == "integer" && c.BaseType != "year" && c.BaseType != "oid" && to.BaseType != "year" &&
		to.BaseType != "oid":
		low, high := spanOf(c.BaseType)
		low2, high2 := spanOf(to.BaseType)
		return !less(low, low2) && !less(high2, high)
	case fa == "decimal" && fb == "decimal" && a1 > 0:
		return a2 < 0 && to.BaseType == "numeric" || a2-max(b2, 0) >= a1-max(b1, 0) && b2 >= b1
	case fa == "text" && fb == "text":
		return a1 > 0 && a2 >= a1
	}
	return false
}

// coerce brings values to the very form of a type that a person chose: as many
// digits as it has, and none that it would drop in silence.
func coerce(f Convert, to string, c, target domain.Column) Convert {
	a, b := args(target.Type)
	switch from, kind := family(c.BaseType), family(target.BaseType); {
	case kind == "decimal" && (from == "decimal" || from == "integer") && (a > 0 || to == MariaDB):
		return then(f, decimal(max(b, 0)))
	case kind == "float" && from == "float" && !single(target.BaseType):
		return then(f, floating(64))
	case kind == "moment" && from == "moment", kind == "time" && from == "time":
		digits := max(a, 0)
		if to == Postgres {
			digits = fraction(target.Type)
		}
		return then(f, clocked(digits, to == MariaDB))
	}
	return f
}

// then converts twice. The result keeps memory between calls: it is not for use by
// several goroutines at once.
func then(f, g Convert) Convert {
	var between []byte
	return func(dst, v []byte) ([]byte, bool, error) {
		b, ok, err := f(between[:0], v)
		if between = b; err != nil || !ok {
			return dst, ok, err
		}
		return g(dst, b)
	}
}

// clocked writes times with so many digits behind the seconds: with zeros up to
// there, or without those at the end.
func clocked(digits int, pad bool) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		v, zone := bytes.CutSuffix(v, []byte("+00"))
		v = trimmed(v)
		if i := bytes.IndexByte(v, '.'); i >= 0 && len(v)-i-1 > digits {
			return dst, false, fmt.Errorf("%s has more than %d digits behind the seconds, which the target's column "+
				"does not hold", v, digits)
		}
		if pad {
			dst = padded(dst, v, digits)
		} else {
			dst = append(dst, v...)
		}
		if zone {
			dst = append(dst, "+00"...)
		}
		return dst, true, nil
	}
}
