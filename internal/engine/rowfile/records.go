package rowfile

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"slices"
	"strings"

	"golang.org/x/text/transform"

	"dustyferry/internal/core/textrows"
	"dustyferry/internal/domain"
)

// texts is the layout of a file of texts with signs between them.
type texts struct{ textrows.Dialect }

func (t texts) columns() []string { return t.Columns }

func (t texts) open(path string) (records, func(), error) { return unpacked(path, t.read) }

// unpacked reads what is in a file, from its beginning on.
func unpacked(path string, read func(io.Reader) (records, error)) (records, func(), error) {
	r, end, err := open(path)
	if err != nil {
		return nil, nil, err
	}
	in, err := read(r)
	if err != nil {
		end()
		return nil, nil, domain.Unavailable(err, "the file %s cannot be read: %s", path, err)
	}
	return in, end, nil
}

func (t texts) read(r io.Reader) (records, error) {
	if t.Wide {
		r = transform.NewReader(r, textrows.UTF16())
	}
	if t.Mark {
		if _, err := io.ReadFull(r, make([]byte, len(textrows.ByteOrderMark))); err != nil {
			return nil, err
		}
	}
	out := &textRecords{csv: csv.NewReader(r), width: len(t.Columns), first: t.Header, wide: t.Wide}
	out.csv.Comma, out.csv.ReuseRecord, out.csv.FieldsPerRecord = t.Delimiter, true, -1
	return out, nil
}

type textRecords struct {
	csv    *csv.Reader
	width  int
	first  bool
	wide   bool
	values []textrows.Value
}

func (r *textRecords) next() ([]textrows.Value, error, error) {
	if r.first {
		r.first = false
		if _, err := r.csv.Read(); err != nil {
			return nil, nil, err
		}
	}
	record, err := r.csv.Read()
	var bad *csv.ParseError
	if errors.As(err, &bad) {
		return nil, domain.Conflict("line %d: %s", bad.StartLine, bad.Err), nil
	}
	if err != nil {
		return nil, nil, err
	}
	r.values = r.values[:0]
	unreadable := false
	for _, v := range record {
		r.values = append(r.values, textrows.Value{Text: v})
		unreadable = unreadable || r.wide && strings.ContainsRune(v, textrows.Unreadable)
	}
	if unreadable {
		line, _ := r.csv.FieldPos(0)
		return r.values, domain.Conflict("line %d has something in it that is no character of UTF-16", line), nil
	}
	if len(record) != r.width {
		line, _ := r.csv.FieldPos(0)
		return r.values, domain.Conflict("line %d has %s, and the first row %d", line,
			domain.Many(int64(len(record)), "value"), r.width), nil
	}
	return r.values, nil, nil
}

// objects is the layout of a file of objects, one a line.
type objects struct {
	textrows.JSONLines
	visit func(name string) // is told of each name instead of having values
}

func (o objects) columns() []string { return o.Names }

func (o objects) open(path string) (records, func(), error) { return unpacked(path, o.read) }

func (o objects) read(r io.Reader) (records, error) {
	out := &lineRecords{objects: o, in: bufio.NewReaderSize(r, 64<<10), place: map[string]int{},
		values: make([]textrows.Value, len(o.Names))}
	for i, name := range o.Names {
		out.place[name] = i
	}
	if start, err := out.in.Peek(len(textrows.ByteOrderMark)); err == nil && bytes.Equal(start, textrows.ByteOrderMark) {
		_, _ = out.in.Discard(len(start))
	}
	return out, nil
}

type lineRecords struct {
	objects
	in     *bufio.Reader
	number int
	place  map[string]int
	parser textrows.Parser
	line   []byte
	values []textrows.Value
}

// longestLine is how long a line may be.
const longestLine = 64 << 20

func (r *lineRecords) next() ([]textrows.Value, error, error) {
	for {
		long, err := r.readLine()
		if err != nil {
			return nil, nil, err
		}
		if long {
			return nil, domain.Conflict("line %d is longer than %d MiB", r.number, longestLine>>20), nil
		}
		if len(bytes.TrimSpace(r.line)) > 0 {
			break
		}
	}
	for i := range r.values {
		r.values[i] = textrows.Value{As: textrows.Null}
	}
	unknown := ""
	var names []string
	err := r.parser.Object(r.line, func(name string, v textrows.Value) {
		switch i, ok := r.place[name]; {
		case r.visit != nil:
			names = append(names, name)
		case ok:
			r.values[i] = v
		case unknown == "":
			unknown = name
		}
	})
	if err != nil {
		return nil, domain.Conflict("line %d: %s", r.number, err), nil
	}
	for _, name := range names { // of a line that is whole
		r.visit(name)
	}
	if unknown != "" {
		return slices.Clone(r.values), domain.Conflict("line %d has the name %q, for which there is no column; plan the "+
			"table anew", r.number, unknown), nil
	}
	return r.values, nil, nil
}

// readLine reads the next line; long says that it was too long, and is passed.
func (r *lineRecords) readLine() (long bool, err error) {
	r.number++
	r.line = r.line[:0]
	for {
		piece, err := r.in.ReadSlice('\n')
		if !long {
			r.line = append(r.line, piece...)
		}
		if len(r.line) > longestLine {
			long, r.line = true, r.line[:0]
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF) && (len(r.line) > 0 || long): // the last line has no end
			return long, nil
		default:
			return long, err
		}
	}
}
