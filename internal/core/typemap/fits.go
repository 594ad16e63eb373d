package typemap

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"dustyferry/internal/domain"
)

// maxNesting is how deep MariaDB reads a JSON document.
const maxNesting = 32

// Fits says why a value, given in the target's text form, does not fit a column
// of that engine; nil when nothing is known against it. It knows lengths, ranges
// and lists, not what rules of the table say.
func Fits(engine string, c domain.Column, v []byte) error {
	a, b := args(c.Type)
	switch base := strings.TrimSuffix(c.BaseType, " unsigned"); base {
	case "tinyint", "smallint", "mediumint", "int", "integer", "bigint":
		low, high := span(base, strings.HasSuffix(c.BaseType, " unsigned"))
		if !between(string(v), low, high) {
			return fmt.Errorf("it is not between %s and %s", low, high)
		}
	case "decimal", "numeric":
		if a < 0 {
			return nil
		}
		whole, part, _ := strings.Cut(strings.TrimPrefix(string(v), "-"), ".")
		if n := len(strings.TrimLeft(whole, "0")); n > a-max(b, 0) {
			return fmt.Errorf("it has %d digits before the point, %s holds %d", n, c.Type, a-max(b, 0))
		}
		if n := len(strings.TrimRight(part, "0")); n > max(b, 0) {
			return fmt.Errorf("it has %d digits behind the point, %s holds %d", n, c.Type, max(b, 0))
		}
	case "varchar", "char", "character varying", "character":
		if a >= 0 && len(v) > a {
			if n := utf8.RuneCount(v); n > a {
				return fmt.Errorf("it has %d characters, %s holds %d", n, c.Type, a)
			}
		}
	case "varbinary", "binary":
		if n := (len(v) - 2) / 2; a >= 0 && n > a {
			return fmt.Errorf("it has %d bytes, %s holds %d", n, c.Type, a)
		}
	case "enum":
		if labels := Labels(c.Type); !slices.Contains(labels, string(v)) {
			return fmt.Errorf("it is none of the values of %s", c.Type)
		}
	case "json":
		if n := nesting(v); engine == MariaDB && n > maxNesting {
			return fmt.Errorf("the document is nested %d levels deep, MariaDB reads %d", n, maxNesting)
		}
	}
	if limit := mostBytes[c.BaseType]; limit > 0 && len(v) > limit {
		return fmt.Errorf("it has %d bytes, %s holds %d", len(v), c.Type, limit)
	}
	return nil
}

// mostBytes are what MariaDB's texts hold.
var mostBytes = map[string]int{"tinytext": 255, "text": 0, "mediumtext": 1<<24 - 1}

// span is the range of a whole number.
func span(base string, unsigned bool) (low, high string) {
	bits := map[string]uint{"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "integer": 32, "bigint": 64}[base]
	if unsigned {
		return "0", fmt.Sprint(^uint64(0) >> (64 - bits))
	}
	return fmt.Sprint(int64(-1) << (bits - 1)), fmt.Sprint(int64(^uint64(0) >> (65 - bits)))
}

// between compares whole numbers of any length.
func between(v, low, high string) bool { return !less(v, low) && !less(high, v) }

func less(a, b string) bool {
	na, nb := strings.HasPrefix(a, "-"), strings.HasPrefix(b, "-")
	if na != nb {
		return na
	}
	a, b = strings.TrimLeft(strings.TrimPrefix(a, "-"), "0"), strings.TrimLeft(strings.TrimPrefix(b, "-"), "0")
	if na {
		a, b = b, a
	}
	if len(a) != len(b) {
		return len(a) < len(b)
	}
	return a < b
}

// nesting is how deep a JSON document is.
func nesting(v []byte) int {
	depth, deepest, quoted := 0, 0, false
	for i := 0; i < len(v); i++ {
		switch c := v[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			depth++
			deepest = max(deepest, depth)
		case c == '}' || c == ']':
			depth--
		}
	}
	return deepest
}

// Labels takes the values out of MariaDB's enum('a','b') or set('a','b').
func Labels(typ string) []string {
	var out []string
	rest := typ[strings.IndexByte(typ, '(')+1:]
	for strings.HasPrefix(rest, "'") {
		var b strings.Builder
		i := 1
		for ; i < len(rest); i++ {
			if rest[i] == '\'' {
				if i+1 >= len(rest) || rest[i+1] != '\'' {
					break
				}
				i++
			}
			b.WriteByte(rest[i])
		}
		out = append(out, b.String())
		rest = strings.TrimPrefix(rest[min(i+1, len(rest)):], ",")
	}
	return out
}
