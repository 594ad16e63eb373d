package folder

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// parquetForm is Parquet with the logical type of each column, its pages packed by Snappy. Every value that
// is written would be read as the very text that it is, or its row is refused.
type parquetForm struct {
	columns []domain.Column
	kinds   []kind
	schema  *parquet.Schema
}

// kind is how values of a column are stored.
type kind struct {
	node parquet.Node
	of   func(text []byte) (v parquet.Value, ok bool)
	text func(dst []byte, v parquet.Value) []byte
	sure bool // any value that is taken comes back as it was
}

func newParquet(columns []domain.Column) *parquetForm {
	f := &parquetForm{columns: columns}
	group := inOrder{Group: parquet.Group{}}
	for _, c := range columns {
		k := kindOf(c)
		f.kinds = append(f.kinds, k)
		group.Group[c.Name] = parquet.Optional(k.node)
		group.names = append(group.names, c.Name)
	}
	f.schema = parquet.NewSchema("rows", group)
	return f
}

// inOrder is a group whose columns are in the order of the table's.
type inOrder struct {
	parquet.Group
	names []string
}

// Fields are the columns.
func (g inOrder) Fields() []parquet.Field {
	out := g.Group.Fields()
	slices.SortFunc(out, func(a, b parquet.Field) int {
		return slices.Index(g.names, a.Name()) - slices.Index(g.names, b.Name())
	})
	return out
}

// Forms of times, as servers write them; a fraction is read as well, and comes back without zeros behind.
const (
	dayForm    = "2006-01-02"
	momentForm = "2006-01-02 15:04:05"
	zonedForm  = "2006-01-02 15:04:05-07"
	clockForm  = "15:04:05"
)

// mostDigits are those of a decimal number that 64 bits hold.
const mostDigits = 18

func kindOf(c domain.Column) kind {
	switch c.BaseType {
	case "boolean":
		return kind{node: parquet.Leaf(parquet.BooleanType), sure: true,
			of:   func(b []byte) (parquet.Value, bool) { return parquet.BooleanValue(truth(b) == "true"), true },
			text: func(dst []byte, v parquet.Value) []byte { return strconv.AppendBool(dst, v.Boolean()) }}
	case "smallint", "integer", "bigint":
		return whole(map[string]int{"smallint": 16, "integer": 32, "bigint": 64}[c.BaseType])
	case "real":
		return floating(32)
	case "double precision":
		return floating(64)
	case "numeric":
		var digits, scale int
		if n, _ := fmt.Sscanf(c.Type, "numeric(%d,%d)", &digits, &scale); n > 0 && digits <= mostDigits && scale >= 0 &&
			scale <= digits {
			return decimal(digits, scale)
		}
	case "date":
		return kind{node: parquet.Date(),
			of: func(b []byte) (parquet.Value, bool) {
				t, err := time.Parse(dayForm, string(b))
				return parquet.Int32Value(int32(t.Unix() / secondsOfADay)), err == nil
			},
			text: func(dst []byte, v parquet.Value) []byte {
				return time.Unix(int64(v.Int32())*secondsOfADay, 0).UTC().AppendFormat(dst, dayForm)
			}}
	case "timestamp without time zone":
		return moment(parquet.TimestampAdjusted(parquet.Microsecond, false), momentForm)
	case "timestamp with time zone":
		return moment(parquet.TimestampAdjusted(parquet.Microsecond, true), zonedForm)
	case "time without time zone":
		return moment(parquet.TimeAdjusted(parquet.Microsecond, false), clockForm)
	case "uuid":
		return kind{node: parquet.UUID(),
			of: func(b []byte) (parquet.Value, bool) {
				raw, err := hex.DecodeString(strings.ReplaceAll(string(b), "-", ""))
				return parquet.FixedLenByteArrayValue(raw), err == nil && len(raw) == 16
			},
			text: func(dst []byte, v parquet.Value) []byte {
				h := hex.EncodeToString(v.ByteArray())
				return append(dst, h[:8]+"-"+h[8:12]+"-"+h[12:16]+"-"+h[16:20]+"-"+h[20:]...)
			}}
	case "bytea":
		return kind{node: parquet.Leaf(parquet.ByteArrayType),
			of: func(b []byte) (parquet.Value, bool) {
				rest, ok := bytes.CutPrefix(b, []byte(`\x`))
				raw := make([]byte, hex.DecodedLen(len(rest)))
				_, err := hex.Decode(raw, rest)
				return parquet.ByteArrayValue(raw), ok && err == nil
			},
			text: func(dst []byte, v parquet.Value) []byte { return hex.AppendEncode(append(dst, `\x`...), v.ByteArray()) }}
	case "json", "jsonb":
		return letters(parquet.JSON())
	}
	return letters(parquet.String())
}

const secondsOfADay = 24 * 60 * 60

// letters is text that stands as it is.
func letters(node parquet.Node) kind {
	return kind{node: node, sure: true,
		of:   func(b []byte) (parquet.Value, bool) { return parquet.ByteArrayValue(bytes.Clone(b)), true },
		text: func(dst []byte, v parquet.Value) []byte { return append(dst, v.ByteArray()...) }}
}

func whole(bits int) kind {
	return kind{node: parquet.Int(bits),
		of: func(b []byte) (parquet.Value, bool) {
			n, err := strconv.ParseInt(string(b), 10, bits)
			if bits < 64 {
				return parquet.Int32Value(int32(n)), err == nil
			}
			return parquet.Int64Value(n), err == nil
		},
		text: func(dst []byte, v parquet.Value) []byte {
			if bits < 64 {
				return strconv.AppendInt(dst, int64(v.Int32()), 10)
			}
			return strconv.AppendInt(dst, v.Int64(), 10)
		}}
}

func floating(bits int) kind {
	typ := map[int]parquet.Type{32: parquet.FloatType, 64: parquet.DoubleType}[bits]
	return kind{node: parquet.Leaf(typ),
		of: func(b []byte) (parquet.Value, bool) {
			f, err := strconv.ParseFloat(string(b), bits)
			if bits == 32 {
				return parquet.FloatValue(float32(f)), err == nil
			}
			return parquet.DoubleValue(f), err == nil
		},
		text: func(dst []byte, v parquet.Value) []byte {
			f := v.Double()
			if bits == 32 {
				f = float64(v.Float())
			}
			switch {
			case math.IsNaN(f):
				return append(dst, "NaN"...)
			case math.IsInf(f, 1):
				return append(dst, "Infinity"...)
			case math.IsInf(f, -1):
				return append(dst, "-Infinity"...)
			}
			return typemap.AppendFloat(dst, f, bits)
		}}
}

// decimal is a number whose digits behind the point are as many in every value.
func decimal(digits, scale int) kind {
	return kind{node: parquet.Decimal(scale, digits, parquet.Int64Type),
		of: func(b []byte) (parquet.Value, bool) {
			n, err := strconv.ParseInt(strings.Replace(string(b), ".", "", 1), 10, 64)
			return parquet.Int64Value(n), err == nil
		},
		text: func(dst []byte, v parquet.Value) []byte {
			n := v.Int64()
			if n < 0 {
				dst, n = append(dst, '-'), -n
			}
			s := fmt.Sprintf("%0*d", scale+1, n)
			dst = append(dst, s[:len(s)-scale]...)
			if scale > 0 {
				dst = append(append(dst, '.'), s[len(s)-scale:]...)
			}
			return dst
		}}
}

// moment is a time in microseconds, of the day or since 1970.
func moment(node parquet.Node, form string) kind {
	ofDay := form == clockForm
	return kind{node: node,
		of: func(b []byte) (parquet.Value, bool) {
			t, err := time.Parse(form, string(b))
			if ofDay {
				t = t.AddDate(1970, 0, 0)
			}
			return parquet.Int64Value(t.UnixMicro()), err == nil
		},
		text: func(dst []byte, v parquet.Value) []byte {
			t := time.UnixMicro(v.Int64()).UTC()
			with := form
			if t.Nanosecond() != 0 {
				with = strings.Replace(form, "05", "05.999999", 1)
			}
			return t.AppendFormat(dst, with)
		}}
}

// atOnce is how many rows are written, and read, at a time.
const atOnce = 1024

// groupBytes is about how much is a group of rows, which is in memory while it is written.
const groupBytes = 32 << 20

func (f *parquetForm) encoder(out io.Writer) encoder {
	return &parquetEncoder{parquetForm: f,
		w: parquet.NewGenericWriter[any](out, f.schema, parquet.Compression(&parquet.Snappy))}
}

type parquetEncoder struct {
	*parquetForm
	w     *parquet.GenericWriter[any]
	rows  []parquet.Row
	sizes []int
	size  int // of the rows that wait
	group int // of the group that is open
	check []byte
}

func (e *parquetEncoder) add(fields [][]byte) error {
	row := make(parquet.Row, len(fields))
	size := 0
	for i, b := range fields {
		if b == nil {
			row[i] = parquet.NullValue().Level(0, 0, i)
			continue
		}
		k := &e.kinds[i]
		v, ok := k.of(b)
		if ok && !k.sure {
			e.check = k.text(e.check[:0], v)
			ok = bytes.Equal(e.check, b)
		}
		if !ok {
			return &engine.Unfit{Column: e.columns[i].Name, Why: fmt.Sprintf("%.40q, which is no %s of Parquet; load it as csv",
				b, e.columns[i].Type)}
		}
		row[i] = v.Level(0, 1, i)
		size += len(b) + 8
	}
	e.rows, e.sizes, e.size = append(e.rows, row), append(e.sizes, size), e.size+size
	return nil
}

func (e *parquetEncoder) waiting() int { return len(e.rows) }

func (e *parquetEncoder) cut(rows int) {
	for len(e.rows) > rows {
		last := len(e.rows) - 1
		e.rows, e.size, e.sizes = e.rows[:last], e.size-e.sizes[last], e.sizes[:last]
	}
}

func (e *parquetEncoder) full() bool { return len(e.rows) >= atOnce || e.size >= blockSize }

func (e *parquetEncoder) flush() error {
	_, err := e.w.WriteRows(e.rows)
	e.group += e.size
	e.rows, e.sizes, e.size = e.rows[:0], e.sizes[:0], 0
	if err == nil && e.group >= groupBytes {
		e.group, err = 0, e.w.Flush()
	}
	return err
}

func (e *parquetEncoder) close() error { return errors.Join(e.flush(), e.w.Close()) }

func (f *parquetForm) rows(in *os.File, _ string) (r rowReader, end func(), err error) {
	s, err := in.Stat()
	if err != nil {
		return nil, nil, err
	}
	out := &parquetRows{parquetForm: f, fields: make([][]byte, len(f.columns)), ends: make([]int, len(f.columns)),
		buf: make([]parquet.Row, 64), text: make([]byte, 0, 64)}
	err = engine.Carefully(func() error {
		file, err := parquet.OpenFile(in, s.Size(), parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
		if err != nil {
			return err
		}
		if file.Schema().String() != f.schema.String() {
			return errors.New("its columns are others")
		}
		out.groups = file.RowGroups()
		return nil
	})
	return out, out.close, err
}

type parquetRows struct {
	*parquetForm
	groups   []parquet.RowGroup
	open     parquet.Rows
	buf      []parquet.Row
	at, read int
	fields   [][]byte
	ends     []int
	text     []byte
}

func (r *parquetRows) close() {
	if r.open != nil {
		_ = r.open.Close()
		r.open = nil
	}
}

func (r *parquetRows) next() ([][]byte, error) {
	err := engine.Carefully(func() error {
		for r.at == r.read {
			if err := r.fill(); err != nil {
				return err
			}
		}
		return r.take(r.buf[r.at])
	})
	r.at++
	return r.fields, err
}

// fill reads the next rows.
func (r *parquetRows) fill() (err error) {
	if r.open == nil {
		if len(r.groups) == 0 {
			return io.EOF
		}
		r.open, r.groups = r.groups[0].Rows(), r.groups[1:]
	}
	r.at = 0
	if r.read, err = r.open.ReadRows(r.buf); errors.Is(err, io.EOF) {
		r.close()
		err = nil
	}
	return err
}

func (r *parquetRows) take(row parquet.Row) error {
	if len(row) != len(r.fields) {
		return fmt.Errorf("a row has %d values where there are %d columns", len(row), len(r.fields))
	}
	r.text = r.text[:0]
	for i, v := range row {
		if !v.IsNull() {
			r.text = r.kinds[i].text(r.text, v)
		}
		r.ends[i] = len(r.text)
	}
	from := 0
	for i, v := range row {
		r.fields[i] = r.text[from:r.ends[i]:r.ends[i]]
		if v.IsNull() {
			r.fields[i] = nil
		}
		from = r.ends[i]
	}
	return nil
}
