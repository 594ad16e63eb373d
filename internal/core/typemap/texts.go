package typemap

import (
	"bytes"
	"cmp"
	"dustyferry/internal/domain"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Limits of MariaDB's texts (its documentation, "Data types" and "InnoDB limitations").
const (
	rowBytes   = 65_535 // of a row without its large objects
	textKey    = 700    // characters that a text in a key gets, if it is alone there
	maxNesting = 32     // how deep it reads a JSON document
)

// A text of one length, or of any.
var mariaTexts = map[string]*mariaType{
	"char": {kind: "text", limit: ofCharacters, neutral: func(_ domain.Column, a, _ int) becomes {
		return becomes{fmt.Sprintf("character varying(%d)", max(a, 1)), Exact, ""}
	}},
	"varchar": {kind: "text", limit: ofCharacters, neutral: func(_ domain.Column, a, _ int) becomes {
		if a < 1 { // varchar(0)
			return becomes{"text", Wider, ""}
		}
		return becomes{fmt.Sprintf("character varying(%d)", a), Exact, ""}
	}},
	"tinytext": longText(1<<8-1, Wider), "text": longText(1<<16-1, Exact), "mediumtext": longText(1<<24-1, Wider),
	"longtext": longText(0, Wider),
	"json": {limit: ofJSONThere, neutral: neutrally("json", Lossy,
		"a document with a number such as 1. or an escape such "+
			"as \\x, which PostgreSQL does not take, stops the load")},
	"enum": {limit: ofLabels,
		neutral: neutrally("text", Wider,
			"kept as text; a check holds the allowed values, and the server's mark of a wrong one")},
	"set": {neutral: neutrally("text", Wider,
		"kept as its values with commas between them; in another order they are the same set")},
	"uuid":  {neutral: neutrally("uuid", Exact, "")},
	"inet4": {neutral: neutrally("text", Wider, "kept as text")},
	"inet6": {neutral: neutrally("text", Wider, "kept as text")},
}

// neutrally is a type that becomes one other, whatever it is like.
func neutrally(typ string, v Verdict, note string) func(domain.Column, int, int) becomes {
	return func(domain.Column, int, int) becomes { return becomes{typ, v, note} }
}

// longText is a type of texts of so many bytes; 0: of 4 GB.
func longText(most int, v Verdict) *mariaType {
	return &mariaType{kind: "text", limit: ofBytes(most), neutral: neutrally("text", v, "")}
}

var neutralTexts = map[string]*neutralType{
	"character varying": {kind: "text", limit: ofNeutralCharacters, there: func(_ domain.Column, in place, a,
		_ int) becomes {
		if a > 0 && a*4 <= rowBytes/2 && (in.keyed == 0 || a*4 <= in.room) {
			return becomes{fmt.Sprintf("varchar(%d)", a), Exact, ""}
		}
		return anyText(in, Wider, "")
	}},
	"character": {kind: "text", limit: ofNeutralCharacters, there: func(_ domain.Column, in place, a, _ int) becomes {
		if a = max(a, 1); a <= 255 {
			return becomes{fmt.Sprintf("char(%d)", a), Exact, ""}
		}
		return anyText(in, Wider, "")
	}},
	"text": {kind: "text", limit: heldTo(unlikeText), there: textThere}, "name": {there: textThere},
	"xml": {there: textThere},
	"citext": {there: func(c domain.Column, in place, a, b int) becomes {
		t := anyText(in, Wider, "")
		return becomes{t.typ, Wider, strings.TrimPrefix(t.note+"; capital and small letters are no longer the same", "; ")}
	}},
	"json": jsonThere, "jsonb": jsonThere,
	"uuid": {there: plainly("char(36)", Wider,
		"kept as its text: the type uuid there refuses values whose version is none that is known")},
	"inet": address, "cidr": address, "macaddr": address, "macaddr8": address,
}

var (
	jsonThere = &neutralType{limit: heldTo(func(v []byte) error { return cmp.Or(unlikeText(v), strictJSON(v)) }),
		there: plainly("json", Lossy,
			"a document nested more than 32 levels deep, or with half of a surrogate pair, stops the load")}
	address = &neutralType{there: plainly("varchar(50)", Wider, "kept as text")}
)

func textThere(_ domain.Column, in place, _, _ int) becomes { return anyText(in, Wider, "") }

// anyText is a text of any length, but in a primary key.
func anyText(in place, v Verdict, note string) becomes {
	if in.keyed == 0 {
		return becomes{"longtext", v, note}
	}
	return keyed("varchar", min(textKey/in.keyed, in.room/4), "characters")
}

// keyed is a text or binary of a primary key, which cannot be of any length.
func keyed(typ string, n int, what string) becomes {
	return becomes{fmt.Sprintf("%s(%d)", typ, n), Lossy,
		fmt.Sprintf("a key there holds %d %s of it: a longer value stops the load", n, what)}
}

// heldTo limits in one way, whatever the column is like.
func heldTo(f Limit) func(domain.Column) Limit { return func(domain.Column) Limit { return f } }

// ofCharacters holds texts to the number of their characters.
func ofCharacters(c domain.Column) Limit {
	a, _ := args(c.Type)
	if a < 0 {
		return nil
	}
	return func(v []byte) error {
		if len(v) > a {
			if n := utf8.RuneCount(v); n > a {
				return fmt.Errorf("it has %d characters, %s holds %d", n, c.Type, a)
			}
		}
		return nil
	}
}

func ofNeutralCharacters(c domain.Column) Limit {
	f := ofCharacters(c)
	if f == nil {
		return nil
	}
	return func(v []byte) error { return cmp.Or(f(v), unlikeText(v)) }
}

func ofLabels(c domain.Column) Limit {
	labels := Labels(c.Type)
	return func(v []byte) error {
		if !slices.Contains(labels, string(v)) {
			return fmt.Errorf("it is none of the values of %s", c.Type)
		}
		return nil
	}
}

// ofBytes holds texts to the number of their bytes; 0: to none.
func ofBytes(most int) func(domain.Column) Limit {
	if most == 0 {
		return nil
	}
	return func(c domain.Column) Limit {
		return func(v []byte) error {
			if len(v) > most {
				return fmt.Errorf("it has %d bytes, %s holds %d", len(v), c.Type, most)
			}
			return nil
		}
	}
}

func ofJSONThere(domain.Column) Limit {
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
}

// text refuses what PostgreSQL cannot keep in a text.
func text(dst, v []byte) ([]byte, bool, error) {
	if i := bytes.IndexByte(v, 0); i >= 0 {
		return dst, false, fmt.Errorf("the text has a NUL byte at place %d, which PostgreSQL cannot keep; change it on the "+
			"source, or carry the column as binary", i+1)
	}
	return append(dst, v...), true, nil
}

// unblanked takes away what fills a text of fixed width.
func unblanked(dst, v []byte) ([]byte, bool, error) {
	return append(dst, bytes.TrimRight(v, " ")...), true, nil
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

func quotedLabels(labels []string) []string {
	out := make([]string, len(labels))
	for i, l := range labels {
		out[i] = "'" + strings.ReplaceAll(l, "'", "''") + "'"
	}
	return out
}
