package typemap

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"dustyferry/internal/domain"
)

// maxNesting is how deep MariaDB reads a JSON document.
const maxNesting = 32

// Limit says why a value, given in the target's text form, does not fit.
type Limit func(v []byte) error

// Limits compiles what is known against values of a column of an engine: lengths,
// ranges and lists, not what rules of the table say. It is nil where there is
// nothing.
func Limits(engine string, c domain.Column) Limit {
	a, b := args(c.Type)
	switch base := strings.TrimSuffix(c.BaseType, " unsigned"); base {
	case "tinyint", "smallint", "mediumint", "int", "integer", "bigint":
		low, high := spanOf(c.BaseType)
		return func(v []byte) error {
			if s := string(v); less(s, low) || less(high, s) {
				return fmt.Errorf("it is not between %s and %s", low, high)
			}
			return nil
		}
	case "decimal", "numeric":
		if a < 0 {
			return nil
		}
		return func(v []byte) error {
			whole, part, _ := strings.Cut(strings.TrimPrefix(string(v), "-"), ".")
			if n := len(strings.TrimLeft(whole, "0")); n > a-max(b, 0) {
				return fmt.Errorf("it has %d digits before the point, %s holds %d", n, c.Type, a-max(b, 0))
			}
			if n := len(strings.TrimRight(part, "0")); n > max(b, 0) {
				return fmt.Errorf("it has %d digits behind the point, %s holds %d", n, c.Type, max(b, 0))
			}
			return nil
		}
	case "varchar", "char", "character varying", "character":
		if a < 0 {
			return nil
		}
		return func(v []byte) error {
			if len(v) > a {
				if n := utf8.RuneCount(v); n > a {
					return fmt.Errorf("it has %d characters, %s holds %d", n, c.Type, a)
				}
			}
			if engine == Postgres {
				return unlikeText(v)
			}
			return nil
		}
	case "enum":
		labels := Labels(c.Type)
		return func(v []byte) error {
			if !slices.Contains(labels, string(v)) {
				return fmt.Errorf("it is none of the values of %s", c.Type)
			}
			return nil
		}
	}
	if engine == Postgres {
		switch c.BaseType {
		case "text":
			return unlikeText
		case "json", "jsonb":
			return func(v []byte) error { return cmp.Or(unlikeText(v), strictJSON(v)) }
		}
	}
	if engine != MariaDB {
		return nil
	}
	most, marks := mostBytes[c.BaseType], 0
	if IsBytes(c.BaseType) { // two digits a byte, behind a mark
		marks = 2
		if strings.HasSuffix(c.BaseType, "binary") {
			most = a
		}
	}
	switch {
	case c.BaseType == "json":
		return func(v []byte) error {
			if n := nesting(v); n > maxNesting {
				return fmt.Errorf("the document is nested %d levels deep, MariaDB reads %d", n, maxNesting)
			}
			if halfSurrogate(v) {
				return errors.New("the document holds half of a surrogate pair (\\ud800 to \\udfff alone), which MariaDB " +
					"does not take")
			}
			return nil
		}
	case most > 0:
		return func(v []byte) error {
			n := len(v)
			if marks > 0 {
				n = (n - marks) / 2
			}
			if n > most {
				return fmt.Errorf("it has %d bytes, %s holds %d", n, c.Type, most)
			}
			return nil
		}
	}
	return nil
}

// unlikeText says why a text cannot be one of PostgreSQL's: MariaDB keeps bytes of zero, and
// surrogates that stand alone, which are no UTF-8.
func unlikeText(v []byte) error {
	switch {
	case bytes.IndexByte(v, 0) >= 0:
		return errors.New("it holds a byte of zero, which no text of PostgreSQL does")
	case !utf8.Valid(v):
		return errors.New("it is no UTF-8 (a surrogate that stands alone)")
	}
	return nil
}

// strictJSON finds what MariaDB takes for JSON and PostgreSQL does not: numbers that end with
// a point, as 1. and 1.e5, and escapes that are none, as \x.
func strictJSON(v []byte) error {
	inside := false
	for i := 0; i < len(v); i++ {
		switch c := v[i]; {
		case inside && c == '\\':
			if i++; i < len(v) && strings.IndexByte(`"\/bfnrtu`, v[i]) < 0 {
				return fmt.Errorf("the document holds the escape \\%c, which PostgreSQL does not take", v[i])
			}
		case c == '"':
			inside = !inside
		case !inside && c == '.' && (i+1 == len(v) || v[i+1] < '0' || v[i+1] > '9'):
			return errors.New("the document holds a number that ends with its point, which PostgreSQL does not take")
		}
	}
	return nil
}

// halfSurrogate reports whether an escape of a document is half of a surrogate pair.
func halfSurrogate(v []byte) bool {
	high := -2 // where the escape behind a high one has to begin
	for i := 0; i+1 < len(v); i++ {
		if v[i] != '\\' {
			continue
		}
		if v[i+1] != 'u' || i+6 > len(v) {
			i++
			continue
		}
		n, err := strconv.ParseUint(string(v[i+2:i+6]), 16, 16)
		switch {
		case err != nil:
		case n >= 0xdc00 && n <= 0xdfff:
			if high != i {
				return true
			}
			high = -2
		case high >= 0: // the one before had no other half
			return true
		case n >= 0xd800 && n < 0xdc00:
			high = i + 6
		}
		i += 5
		if high >= 0 && (high >= len(v) || v[high] != '\\') {
			return true
		}
	}
	return high >= 0
}

// mostBytes are what MariaDB's texts and binaries hold, where that is little.
var mostBytes = map[string]int{"tinytext": 1<<8 - 1, "text": 1<<16 - 1, "mediumtext": 1<<24 - 1, "tinyblob": 1<<8 - 1,
	"blob": 1<<16 - 1, "mediumblob": 1<<24 - 1}

// spanOf is the range of a type of whole numbers.
func spanOf(base string) (low, high string) {
	base, unsigned := strings.CutSuffix(base, " unsigned")
	bits := map[string]uint{"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "integer": 32, "bigint": 64}[base]
	if unsigned {
		return "0", fmt.Sprint(^uint64(0) >> (64 - bits))
	}
	return fmt.Sprint(int64(-1) << (bits - 1)), fmt.Sprint(int64(^uint64(0) >> (65 - bits)))
}

// less compares whole numbers of any length.
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

// Labels takes the values out of MariaDB's enum('a','b') or set('a','b'), which the server
// writes with quotes doubled and with \\, \n, \r and \0 for what they stand for.
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
			if rest[i] == '\\' && i+1 < len(rest) {
				i++
				b.WriteByte(unescaped(rest[i]))
				continue
			}
			b.WriteByte(rest[i])
		}
		out = append(out, b.String())
		rest = strings.TrimPrefix(rest[min(i+1, len(rest)):], ",")
	}
	return out
}

func unescaped(c byte) byte {
	switch c {
	case 'n':
		return '\n'
	case 'r':
		return '\r'
	case '0':
		return 0
	}
	return c
}
