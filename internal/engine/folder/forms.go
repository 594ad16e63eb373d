package folder

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// form is how rows of a table are written. Their fields are in the neutral form, nil for NULL.
type form interface {
	// encoder writes rows.
	encoder(out io.Writer) encoder
	// rows reads what was written.
	rows(in *os.File, packed string) (r rowReader, end func(), err error)
}

// encoder writes rows of one file.
type encoder interface {
	// add takes a row into what waits; an error is of that row, which is left out.
	add(fields [][]byte) error
	// waiting is how many rows wait, and cut leaves out all but so many.
	waiting() int
	cut(rows int)
	// full reports whether enough waits to be written.
	full() bool
	flush() error
	close() error
}

// rowReader gives rows, io.EOF at the end; fields are good until the next.
type rowReader interface{ next() ([][]byte, error) }

// formOf is a form by its name, which files have as their ending, and what they are packed by.
func formOf(as string, columns []domain.Column) (f form, packed string, err error) {
	name, end, _ := strings.Cut(as, ".")
	packed, known := map[string]string{"": "", "gz": "gzip", "zst": "zstd"}[end]
	switch {
	case !known:
	case name == "csv":
		return textForm{newCSV(columns)}, packed, nil
	case name == "jsonl":
		return textForm{newLines(columns)}, packed, nil
	case as == "parquet":
		return newParquet(columns), "", nil
	}
	return nil, "", domain.Invalid("no file is written as %q", as)
}

// text is a form in which a row is a text that stands by itself.
type text interface {
	// head is what comes before the first row.
	head(dst []byte) []byte
	// append writes a row; an error is of that row.
	append(dst []byte, fields [][]byte) ([]byte, error)
	read(in *bufio.Reader) (rowReader, error)
}

// textForm writes and reads texts.
type textForm struct{ text }

func (f textForm) rows(in *os.File, packed string) (rowReader, func(), error) {
	r, end, err := engine.Unpacked(in, packed)
	if err != nil {
		return nil, nil, err
	}
	rows, err := f.read(bufio.NewReaderSize(r, 256<<10))
	if err != nil {
		end()
	}
	return rows, end, err
}

func (f textForm) encoder(out io.Writer) encoder {
	return &textEncoder{text: f.text, out: out, buf: f.head(nil)}
}

type textEncoder struct {
	text
	out    io.Writer
	buf    []byte
	begins []int // of each row that waits
}

func (e *textEncoder) add(fields [][]byte) (err error) {
	before := len(e.buf)
	if e.buf, err = e.append(e.buf, fields); err != nil {
		e.buf = e.buf[:before]
		return err
	}
	e.begins = append(e.begins, before)
	return nil
}

func (e *textEncoder) waiting() int { return len(e.begins) }

func (e *textEncoder) cut(rows int) {
	if rows < len(e.begins) {
		e.buf, e.begins = e.buf[:e.begins[rows]], e.begins[:rows]
	}
}

func (e *textEncoder) full() bool { return len(e.buf) >= blockSize }

func (e *textEncoder) flush() error {
	_, err := e.out.Write(e.buf)
	e.buf, e.begins = e.buf[:0], e.begins[:0]
	return err
}

func (e *textEncoder) close() error { return e.flush() }

// way is how a column's values are written.
type way int

const (
	asText way = iota
	asNumber
	asTruth
	asDocument
	asPlain // it has no sign in it that would be read otherwise
)

// ways are those of columns.
func ways(columns []domain.Column) (out []way) {
	for _, c := range columns {
		switch c.BaseType {
		case "boolean":
			out = append(out, asTruth)
		case "smallint", "integer", "bigint", "numeric", "real", "double precision":
			out = append(out, asNumber)
		case "json", "jsonb":
			out = append(out, asDocument)
		case "date", "timestamp without time zone", "timestamp with time zone", "time without time zone", "uuid":
			out = append(out, asPlain)
		default:
			out = append(out, asText)
		}
	}
	return out
}

// truth is one that is written so, or by its first letter.
func truth(neutral []byte) string {
	if len(neutral) > 0 && neutral[0] == 't' {
		return "true"
	}
	return "false"
}

// csvForm is RFC 4180, with lines that end by a line feed, and names in the first. NULL is nothing; a text
// that is empty stands between quotes.
type csvForm struct {
	columns []domain.Column
	ways    []way
}

func newCSV(columns []domain.Column) csvForm { return csvForm{columns, ways(columns)} }

func (f csvForm) head(dst []byte) []byte {
	for i, c := range f.columns {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendQuoted(dst, []byte(c.Name))
	}
	return append(dst, '\n')
}

func (f csvForm) append(dst []byte, fields [][]byte) ([]byte, error) {
	for i, v := range fields {
		if i > 0 {
			dst = append(dst, ',')
		}
		if v == nil {
			continue
		}
		switch f.ways[i] {
		case asTruth:
			dst = append(dst, truth(v)...)
		case asNumber, asPlain:
			dst = append(dst, v...)
		default:
			dst = appendQuoted(dst, v)
		}
	}
	return append(dst, '\n'), nil
}

// quotedFor are the signs for which a text stands between quotes.
var quotedFor = [256]bool{',': true, '"': true, '\r': true, '\n': true}

// appendQuoted puts a text between quotes where it would be read otherwise without.
func appendQuoted(dst, v []byte) []byte {
	plain := len(v) > 0 && v[0] != ' ' && v[len(v)-1] != ' '
	for _, c := range v {
		if quotedFor[c] {
			plain = false
			break
		}
	}
	if plain {
		return append(dst, v...)
	}
	dst = append(dst, '"')
	for {
		at := bytes.IndexByte(v, '"')
		if at < 0 {
			return append(append(dst, v...), '"')
		}
		dst = append(append(dst, v[:at+1]...), '"')
		v = v[at+1:]
	}
}

func (f csvForm) read(in *bufio.Reader) (rowReader, error) {
	r := &csvRows{csvForm: f, in: in, fields: make([][]byte, len(f.columns))}
	_, err := r.line() // the names
	if errors.Is(err, io.EOF) {
		err = errors.New("it has no first line")
	}
	return r, err
}

type csvRows struct {
	csvForm
	in     *bufio.Reader
	text   []byte
	fields [][]byte
}

// line reads up to a line feed that is between no quotes.
func (r *csvRows) line() ([]byte, error) {
	r.text = r.text[:0]
	quotes := 0
	for {
		piece, err := r.in.ReadSlice('\n')
		r.text = append(r.text, piece...)
		quotes += bytes.Count(piece, []byte{'"'})
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF) && len(r.text) > 0:
			return nil, io.ErrUnexpectedEOF
		case err != nil:
			return nil, err
		case quotes%2 == 0:
			return r.text[:len(r.text)-1], nil
		}
	}
}

func (r *csvRows) next() ([][]byte, error) {
	line, err := r.line()
	if err != nil {
		return nil, err
	}
	for i := range r.fields {
		if i > 0 {
			if len(line) == 0 || line[0] != ',' {
				return nil, fmt.Errorf("a row has %d values where there are %d columns", i, len(r.fields))
			}
			line = line[1:]
		}
		if r.fields[i], line, err = cutField(line); err != nil {
			return nil, err
		}
	}
	if len(line) > 0 {
		return nil, fmt.Errorf("a row has more than %d values", len(r.fields))
	}
	return r.fields, nil
}

// cutField takes the first field off a line. What was between quotes is written over them.
func cutField(line []byte) (field, rest []byte, err error) {
	if len(line) == 0 || line[0] != '"' {
		at := bytes.IndexByte(line, ',')
		if at < 0 {
			at = len(line)
		}
		if at == 0 {
			return nil, line, nil
		}
		return line[:at], line[at:], nil
	}
	out := line[1:1]
	for line = line[1:]; ; {
		at := bytes.IndexByte(line, '"')
		if at < 0 {
			return nil, nil, errors.New("a quote has no end")
		}
		out = append(out, line[:at]...)
		if line = line[at+1:]; len(line) == 0 || line[0] != '"' {
			return out, line, nil
		}
		out = append(out, '"')
		line = line[1:]
	}
}

// lineForm is an object of JSON on each line. Numbers and truths are JSON's; what JSON has no number for (NaN,
// infinity) is a text; documents stand as they are.
type lineForm struct {
	columns []domain.Column
	ways    []way
	names   [][]byte // with what stands before and behind them
	place   map[string]int
}

func newLines(columns []domain.Column) *lineForm {
	f := &lineForm{columns: columns, ways: ways(columns), place: map[string]int{}}
	for i, c := range columns {
		name, _ := jsontext.AppendQuote([]byte{"{,"[min(i, 1)]}, c.Name)
		f.names, f.place[c.Name] = append(f.names, append(name, ':')), i
	}
	return f
}

func (f *lineForm) head(dst []byte) []byte { return dst }

func (f *lineForm) append(dst []byte, fields [][]byte) (_ []byte, err error) {
	for i, v := range fields {
		dst = append(dst, f.names[i]...)
		if v == nil {
			dst = append(dst, "null"...)
			continue
		}
		switch f.ways[i] {
		case asTruth:
			dst = append(dst, truth(v)...)
			continue
		case asNumber:
			if isNumber(v) { // no NaN, no infinity
				dst = append(dst, v...)
				continue
			}
		case asPlain:
			dst = append(append(append(dst, '"'), v...), '"')
			continue
		case asDocument:
			if why := unfitDocument(v); why != "" {
				return dst, &engine.Unfit{Column: f.columns[i].Name, Why: why}
			}
			dst = append(dst, v...)
			continue
		}
		if dst, err = jsontext.AppendQuote(dst, v); err != nil {
			return dst, &engine.Unfit{Column: f.columns[i].Name, Why: "a text that is no UTF-8"}
		}
	}
	return append(dst, '}', '\n'), nil
}

// unfitDocument says why a document of JSON cannot stand in a line as it is.
func unfitDocument(v []byte) string {
	switch raw := jsontext.Value(v); {
	case bytes.IndexByte(v, '\n') >= 0 || bytes.IndexByte(v, '\r') >= 0:
		return "a document of JSON that is written over several lines; load it as csv, or have it written in one"
	case len(v) == 0 || v[0] == '"' || v[0] == 'n' || !raw.IsValid(jsontext.AllowDuplicateNames(true)):
		// A document that is a text, or null, would be read as what it is not.
		return fmt.Sprintf("%.40q, which is no object, list, number or truth of JSON; load it as csv", v)
	}
	return ""
}

// isNumber reports whether a text is a number of JSON (RFC 8259).
func isNumber(v []byte) bool {
	digits := func() (n int) {
		for len(v) > 0 && v[0] >= '0' && v[0] <= '9' {
			v, n = v[1:], n+1
		}
		return n
	}
	v = bytes.TrimPrefix(v, []byte{'-'})
	zero := len(v) > 0 && v[0] == '0'
	if n := digits(); n == 0 || zero && n > 1 {
		return false
	}
	if len(v) > 0 && v[0] == '.' {
		if v = v[1:]; digits() == 0 {
			return false
		}
	}
	if len(v) > 0 && (v[0] == 'e' || v[0] == 'E') {
		if v = v[1:]; len(v) > 0 && (v[0] == '+' || v[0] == '-') {
			v = v[1:]
		}
		if digits() == 0 {
			return false
		}
	}
	return len(v) == 0
}

func (f *lineForm) read(in *bufio.Reader) (rowReader, error) {
	return &lineRows{lineForm: f, in: jsontext.NewDecoder(in, jsontext.AllowDuplicateNames(true)),
		fields: make([][]byte, len(f.columns)), own: make([][]byte, len(f.columns))}, nil
}

type lineRows struct {
	*lineForm
	in     *jsontext.Decoder
	fields [][]byte
	own    [][]byte // their room
}

func (r *lineRows) next() ([][]byte, error) {
	if _, err := r.in.ReadToken(); err != nil {
		return nil, err
	}
	clear(r.fields)
	for r.in.PeekKind() != '}' {
		name, err := r.in.ReadToken()
		if err != nil {
			return nil, unexpected(err)
		}
		i, known := r.place[name.String()]
		if !known {
			return nil, fmt.Errorf("a row has the name %.40q, which is no column", name.String())
		}
		raw, err := r.in.ReadValue()
		if err != nil {
			return nil, unexpected(err)
		}
		switch raw.Kind() {
		case 'n':
			continue
		case '"':
			if r.own[i], err = jsontext.AppendUnquote(r.own[i][:0], raw); err != nil {
				return nil, err
			}
		default:
			r.own[i] = append(r.own[i][:0], raw...)
		}
		if r.fields[i] = r.own[i]; r.fields[i] == nil {
			r.fields[i] = []byte{}
		}
	}
	_, err := r.in.ReadToken()
	return r.fields, unexpected(err)
}

// unexpected is an end that comes within a row.
func unexpected(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
