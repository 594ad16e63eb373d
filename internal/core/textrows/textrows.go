// Package textrows finds out how a file of rows as texts is written (RFC 4180 and its relatives), and what
// its columns hold. It is given bytes and values, and reads nothing itself.
package textrows

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"dustyferry/internal/domain"
)

// Dialect is how a file is written.
type Dialect struct {
	Delimiter rune
	Header    bool // its first row names the columns
	Columns   []string
	Mark      bool // it begins with a mark of UTF-8
	Wide      bool // it is written in UTF-16
}

func (d Dialect) String() string {
	out := map[rune]string{',': "commas", ';': "semicolons", '\t': "tabs", '|': "bars"}[d.Delimiter] + " between " +
		domain.Many(len(d.Columns), "column")
	if !d.Header {
		out += ", no names in the first row"
	}
	if d.Wide {
		out += ", in UTF-16"
	}
	return out
}

// ByteOrderMark is UTF-8's, with which some programs begin a file.
var ByteOrderMark = []byte{0xef, 0xbb, 0xbf}

// UTF16 reads what begins with a mark of UTF-16. What is none becomes [Unreadable].
func UTF16() transform.Transformer {
	return unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder()
}

// Unreadable stands for what is no character of UTF-16.
const Unreadable = utf8.RuneError

// delimiters are those that are tried.
var delimiters = []rune{',', ';', '\t', '|'}

// tried is how many rows decide.
const tried = 50

// Guess finds out how a file is written that begins so; whole says that this is all of it.
func Guess(head []byte, whole bool) (Dialect, error) {
	var d Dialect
	if bytes.HasPrefix(head, []byte{0xff, 0xfe}) || bytes.HasPrefix(head, []byte{0xfe, 0xff}) {
		d.Wide = true
		head, _, _ = transform.Bytes(UTF16(), head) // its last character may be cut off
	}
	head, d.Mark = bytes.CutPrefix(head, ByteOrderMark)
	if !whole { // the last line may be cut off
		if end := bytes.LastIndexByte(head, '\n'); end >= 0 {
			head = head[:end+1]
		}
	}
	if !utf8.Valid(head) {
		return d, domain.Invalid("the file is no UTF-8; save it as UTF-8")
	}
	best := [][]string(nil)
	for _, by := range delimiters {
		rows := parsed(head, by)
		if len(rows) > 0 && (best == nil || len(rows[0]) > 1 && (len(best[0]) == 1 || len(rows) > len(best))) {
			best, d.Delimiter = rows, by
		}
	}
	if best == nil {
		return d, domain.Invalid("there are no rows in the file")
	}
	d.Header = header(best)
	for i, name := range best[0] {
		if !d.Header {
			name = fmt.Sprintf("c%d", i+1)
		}
		d.Columns = append(d.Columns, strings.TrimSpace(name))
	}
	return d, nil
}

// parsed are the first rows, by a delimiter, up to one that has another number of values.
func parsed(head []byte, by rune) (rows [][]string) {
	r := csv.NewReader(bytes.NewReader(head))
	r.Comma = by
	for len(rows) < tried {
		row, err := r.Read()
		if err != nil {
			return rows
		}
		rows = append(rows, row)
	}
	return rows
}

// header reports whether the first row names the columns: each value is there, differs from the others and
// is of no kind but text.
func header(rows [][]string) bool {
	seen := map[string]bool{}
	for _, name := range rows[0] {
		name = strings.ToLower(strings.TrimSpace(name))
		if name == "" || seen[name] || (Value{Text: name}).kind() != text {
			return false
		}
		seen[name] = true
	}
	if len(rows) == 1 {
		return true
	}
	for i := range rows[0] { // a value of another kind below one, or of a text that none is like
		for _, row := range rows[1:] {
			if row[i] == rows[0][i] {
				return false
			}
		}
	}
	return true
}
