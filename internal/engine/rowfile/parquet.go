package rowfile

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/parquet-go/parquet-go"

	"dustyferry/internal/core/filekind"
	"dustyferry/internal/core/textrows"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Parquet is the driver of Parquet files.
func Parquet() Driver {
	return Driver{form: form{name: "parquet", rows: "columns of Parquet", kind: filekind.Parquet,
		understand: func(path, _ string) (layout, error) {
			f, end, err := openParquet(path)
			if err != nil {
				return nil, err
			}
			defer end()
			return newColumnar(f)
		}}}
}

// columnar is the layout of a Parquet file.
type columnar struct {
	fields []field
	made   string // by which program
	groups int
	n      int64
}

// field is a column: a plain value, or what is written as JSON.
type field struct {
	parquet.Field
	column domain.Column
	plain  *leaf
	leaves int // how many columns of values it has in the file
}

func newColumnar(f *parquet.File) (columnar, error) {
	out := columnar{n: f.NumRows(), groups: len(f.RowGroups()), made: f.Metadata().CreatedBy}
	for _, node := range f.Schema().Fields() {
		c := field{Field: node, leaves: leavesOf(node)}
		c.column = domain.Column{Name: node.Name(), Wire: "portable", NotNull: node.Required()}
		if node.Leaf() && !node.Repeated() {
			l := leafOf(node)
			c.plain, c.column.Type, c.column.BaseType = &l, l.full, l.base
		} else {
			c.column.Type, c.column.BaseType, c.column.NotNull = "json", "json", !node.Optional()
		}
		out.fields = append(out.fields, c)
	}
	if len(out.fields) == 0 {
		return out, domain.Invalid("it has no column")
	}
	return out, nil
}

func leavesOf(n parquet.Node) (sum int) {
	if n.Leaf() {
		return 1
	}
	for _, f := range n.Fields() {
		sum += leavesOf(f)
	}
	return sum
}

func (c columnar) String() string {
	out := fmt.Sprintf("Parquet, %s in %s", domain.Counted(len(c.fields), "column", "columns"),
		domain.Counted(c.groups, "group of rows", "groups of rows"))
	if c.made != "" {
		out += ", written by " + c.made
	}
	var nested []string
	for _, f := range c.fields {
		if f.plain == nil {
			nested = append(nested, f.Name())
		}
	}
	if len(nested) > 0 {
		out += "; what is nested becomes JSON: " + strings.Join(nested, ", ")
	}
	return out
}

func (c columnar) columns() []string {
	out := make([]string, len(c.fields))
	for i := range c.fields {
		out[i] = c.fields[i].Name()
	}
	return out
}

func (c columnar) types() []domain.Column {
	out := make([]domain.Column, len(c.fields))
	for i := range c.fields {
		out[i] = c.fields[i].column
	}
	return out
}

func (c columnar) rows() int64 { return c.n }

// openParquet opens a file, whose end says where everything is; so it cannot be packed as a whole.
func openParquet(path string) (_ *parquet.File, end func(), err error) {
	kind, err := engine.KindOfFile(path)
	if err != nil {
		return nil, nil, err
	}
	if kind.Name != filekind.Parquet || kind.Packed != "" || kind.Detail != "" {
		return nil, nil, domain.Invalid("%s is a %s: %s", path, kind, kind.Advice)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, domain.Unavailable(err, "the file %s cannot be read: %s", path, errors.Unwrap(err))
	}
	defer func() {
		if err != nil {
			_ = f.Close()
		}
	}()
	s, err := f.Stat()
	if err != nil {
		return nil, nil, domain.Unavailable(err, "the file %s cannot be read: %s", path, err)
	}
	var out *parquet.File
	err = engine.Carefully(func() (err error) {
		out, err = parquet.OpenFile(f, s.Size(), parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
		return err
	})
	if err != nil {
		return nil, nil, domain.Invalid("%s is damaged, or was cut off: %s", path, err)
	}
	return out, func() { _ = f.Close() }, nil
}

// atOnce is how many rows are decoded at once.
const atOnce = 64

func (c columnar) open(path string) (records, func(), error) {
	f, end, err := openParquet(path)
	if err != nil {
		return nil, nil, err
	}
	now, err := newColumnar(f)
	if err == nil {
		err = alike(path, now, path, c)
	}
	if err != nil {
		end()
		return nil, nil, err
	}
	out := &columnRecords{columnar: c, groups: f.RowGroups(), buf: make([]parquet.Row, atOnce),
		values: make([]textrows.Value, len(c.fields)), of: make([][]parquet.Value, 0, 16)}
	return out, func() { out.close(); end() }, nil
}

type columnRecords struct {
	columnar
	groups []parquet.RowGroup
	rows   parquet.Rows // of the group that is read
	buf    []parquet.Row
	read   int // rows in buf
	at     int // of them
	number int64
	values []textrows.Value
	of     [][]parquet.Value // the values of each column of a row
	text   []byte
}

func (r *columnRecords) close() {
	if r.rows != nil {
		_ = r.rows.Close()
		r.rows = nil
	}
}

func (r *columnRecords) next() (values []textrows.Value, refused, err error) {
	for r.at == r.read {
		if err := engine.Carefully(r.fill); err != nil {
			return nil, nil, err
		}
	}
	row := r.buf[r.at]
	r.at++
	r.number++
	err = engine.Carefully(func() error {
		refused = r.take(row)
		return nil
	})
	if err == nil && refused != nil {
		refused = domain.Conflict("row %d: %s", r.number, refused)
	}
	return r.values, refused, err
}

// fill decodes the next rows.
func (r *columnRecords) fill() error {
	if r.rows == nil {
		if len(r.groups) == 0 {
			return io.EOF
		}
		r.rows, r.groups = r.groups[0].Rows(), r.groups[1:]
	}
	var err error
	r.at = 0
	r.read, err = r.rows.ReadRows(r.buf)
	if errors.Is(err, io.EOF) {
		r.close()
		err = nil
	}
	return err
}

// take brings a row's values into the forms of their columns.
func (r *columnRecords) take(row parquet.Row) error {
	r.of = r.of[:0]
	row.Range(func(_ int, v []parquet.Value) bool {
		r.of = append(r.of, v)
		return true
	})
	var refused error
	r.text = r.text[:0]
	at := 0
	for i := range r.fields {
		f := &r.fields[i]
		of := r.of[at : at+f.leaves]
		at += f.leaves
		begin := len(r.text)
		var err error
		switch {
		case f.plain != nil && of[0][0].IsNull(), f.plain == nil && f.Optional() && nothing(of):
			r.values[i] = textrows.Value{As: textrows.Null}
			continue
		case f.plain != nil:
			r.text, err = f.plain.write(r.text, of[0][0])
		default:
			r.text, err = appendNested(r.text, f, of, 0, 0)
		}
		r.values[i] = textrows.Value{Text: string(r.text[begin:]), As: textrows.Exact}
		if err != nil && refused == nil {
			refused = fmt.Errorf("%s: %w", f.Name(), err)
		}
	}
	return refused
}

// nothing reports whether the values of a field that may be missing say that it is.
func nothing(of [][]parquet.Value) bool { return len(of[0]) == 1 && of[0][0].DefinitionLevel() == 0 }
