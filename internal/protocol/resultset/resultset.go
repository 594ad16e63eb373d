// Package resultset reads the rows that a MariaDB server answers a prepared
// statement with: values in binary form, written as the texts that the server
// itself gives of them (MariaDB documentation, "Client/Server Protocol": "Result
// Set Packets", "Resultset row: Binary protocol").
package resultset

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strconv"
)

// ErrShort says that a packet ends too early.
var ErrShort = errors.New("the server's answer is cut short")

// The types of columns whose values do not come as text.
const (
	typeTiny      = 0x01
	typeShort     = 0x02
	typeLong      = 0x03
	typeFloat     = 0x04
	typeDouble    = 0x05
	typeNull      = 0x06
	typeTimestamp = 0x07
	typeLongLong  = 0x08
	typeInt24     = 0x09
	typeDate      = 0x0a
	typeTime      = 0x0b
	typeDateTime  = 0x0c
	typeYear      = 0x0d
	typeBit       = 0x10
	typeDecimal   = 0xf6
	typeGeometry  = 0xff
	flagNotNull   = 0x01
	flagUnsigned  = 0x20
	binaryCharset = 63
)

// Column is what the server says of a column.
type Column struct {
	Name     string
	kind     byte
	flags    uint16
	charset  uint16
	length   uint32
	unsigned bool
	scale    int // as the server says
	decimals int // digits of a second
}

// Length reads a length-encoded number and how many bytes it takes.
func Length(b []byte) (n, took int, ok bool) {
	if len(b) == 0 {
		return 0, 0, false
	}
	switch b[0] {
	case 0xfc:
		took = 3
	case 0xfd:
		took = 4
	case 0xfe:
		took = 9
	default:
		return int(b[0]), 1, b[0] < 0xfb
	}
	if len(b) < took {
		return 0, 0, false
	}
	for i := took - 1; i > 0; i-- {
		n = n<<8 | int(b[i])
	}
	return n, took, n >= 0
}

// text cuts a length-encoded string off b.
func text(b []byte) (s, rest []byte, ok bool) {
	n, took, ok := Length(b)
	if !ok || n > len(b)-took {
		return nil, nil, false
	}
	return b[took : took+n : took+n], b[took+n:], true
}

// ParseColumn reads a column definition packet.
func ParseColumn(b []byte) (Column, error) {
	var c Column
	for i := range 6 { // catalog, schema, table and name, as called and as they are
		s, rest, ok := text(b)
		if !ok {
			return c, ErrShort
		}
		if b = rest; i == 4 {
			c.Name = string(s)
		}
	}
	if len(b) < 11 {
		return c, ErrShort
	}
	c.charset, c.length, c.kind, c.flags = binary.LittleEndian.Uint16(b[1:]), binary.LittleEndian.Uint32(b[3:]), b[7],
		binary.LittleEndian.Uint16(b[8:])
	c.unsigned, c.scale, c.decimals = c.flags&flagUnsigned != 0, int(b[10]), int(b[10])
	if c.decimals > 6 {
		c.decimals = 0
	}
	return c, nil
}

// NotNull reports whether the server rules out NULL.
func (c *Column) NotNull() bool { return c.flags&flagNotNull != 0 }

// Text reports whether the values are texts.
func (c *Column) Text() bool {
	switch c.kind {
	case typeTiny, typeShort, typeLong, typeInt24, typeLongLong, typeFloat, typeDouble, typeDecimal, typeDate,
		typeDateTime, typeTimestamp, typeTime, typeYear, typeBit, typeGeometry, typeNull:
		return false
	}
	return c.charset != binaryCharset
}

// longestVarchar is how many characters of four bytes a varchar is spelled with.
const longestVarchar = 16_000

// Spelled is the column's type in the server's words, as far as an answer tells:
// the values of an enum are a varchar, and json is a longtext.
func (c *Column) Spelled() string {
	whole := map[byte]string{typeTiny: "tinyint", typeShort: "smallint", typeInt24: "mediumint", typeLong: "int",
		typeLongLong: "bigint", typeFloat: "float", typeDouble: "double"}
	timed := map[byte]string{typeDateTime: "datetime", typeTimestamp: "timestamp", typeTime: "time"}
	name, sign := "", ""
	if c.unsigned {
		sign = " unsigned"
	}
	switch {
	case whole[c.kind] != "":
		return whole[c.kind] + sign
	case timed[c.kind] != "":
		if name = timed[c.kind]; c.decimals > 0 {
			name += fmt.Sprintf("(%d)", c.decimals)
		}
		return name
	case c.kind == typeDate:
		return "date"
	case c.kind == typeYear:
		return "year"
	case c.kind == typeBit:
		return fmt.Sprintf("bit(%d)", c.length)
	case c.kind == typeDecimal:
		digits := int(c.length)
		if c.scale > 0 {
			digits-- // the point
		}
		if !c.unsigned {
			digits-- // the sign
		}
		return fmt.Sprintf("decimal(%d,%d)", min(max(digits, 1), 65), min(c.scale, 38)) + sign
	case c.kind == typeGeometry:
		return "geometry"
	case c.charset == binaryCharset && c.length <= longestVarchar:
		return fmt.Sprintf("varbinary(%d)", c.length)
	case c.charset == binaryCharset:
		return "longblob"
	case c.length/4 <= longestVarchar:
		return fmt.Sprintf("varchar(%d)", max(c.length/4, 1))
	}
	return "longtext"
}

// Texts cuts a row of the text form into its fields; nil is NULL. They point into
// the packet.
func Texts(fields [][]byte, b []byte) error {
	for i := range fields {
		if len(b) > 0 && b[0] == 0xfb {
			fields[i], b = nil, b[1:]
			continue
		}
		var ok bool
		if fields[i], b, ok = text(b); !ok {
			return ErrShort
		}
	}
	return nil
}

// Decoder takes rows of the binary form apart.
type Decoder struct {
	Columns []Column
	Raw     [][]byte // the row's values as they came, nil for NULL; they point into the packet
	sizes   []int    // of each column's values
}

// Bits is how wide a float is.
func (c *Column) Bits() int {
	if c.kind == typeFloat {
		return 32
	}
	return 64
}

// Form is how values come that are not texts.
type Form byte

// The forms of values.
const (
	Plain  Form = iota // and bytes
	Whole              // a whole number, see [Column.Int]
	Real               // a float of 4 bytes, or of 8: little-endian
	Moment             // a date, or a moment: see [Clock]
	Span               // a time, which is a span: see [Clock]
)

// Form is how the column's values come.
func (c *Column) Form() Form {
	switch c.kind {
	case typeTiny, typeShort, typeYear, typeLong, typeInt24, typeLongLong:
		return Whole
	case typeFloat, typeDouble:
		return Real
	case typeDate, typeDateTime, typeTimestamp:
		return Moment
	case typeTime:
		return Span
	}
	return Plain
}

// always is the size of what is always NULL.
const always = -1

// size is how many bytes a value has, 0 where each says it itself.
func (c *Column) size() int {
	switch c.kind {
	case typeNull:
		return always
	case typeTiny:
		return 1
	case typeShort, typeYear:
		return 2
	case typeLong, typeInt24, typeFloat:
		return 4
	case typeLongLong, typeDouble:
		return 8
	}
	return 0
}

// Cut takes a row apart into Raw.
func (d *Decoder) Cut(b []byte) error {
	n := len(d.Columns)
	if d.Raw == nil {
		d.Raw = make([][]byte, n)
		for i := range d.Columns {
			d.sizes = append(d.sizes, d.Columns[i].size())
		}
	}
	nulls := (n + 9) / 8
	if len(b) < 1+nulls {
		return ErrShort
	}
	bits := b[1 : 1+nulls]
	b = b[1+nulls:]
	for i, size := range d.sizes {
		if at := i + 2; bits[at/8]>>(at%8)&1 == 1 || size == always {
			d.Raw[i] = nil
			continue
		}
		switch {
		case size > 0:
		case len(b) > 0 && b[0] < 0xfb:
			size, b = int(b[0]), b[1:]
		default:
			var took int
			var ok bool
			if size, took, ok = Length(b); !ok {
				return ErrShort
			}
			b = b[took:]
		}
		if size > len(b) {
			return ErrShort
		}
		d.Raw[i], b = b[:size:size], b[size:]
	}
	return nil
}

// Float is the value of a column of floats.
func (c *Column) Float(v []byte) float64 {
	if c.kind == typeFloat {
		return float64(math.Float32frombits(binary.LittleEndian.Uint32(v)))
	}
	return math.Float64frombits(binary.LittleEndian.Uint64(v))
}

// Int is the value of a column of whole numbers; not ok where it is greater than an
// int64 holds.
func (c *Column) Int(v []byte) (n int64, ok bool) {
	switch len(v) {
	case 1:
		if n = int64(v[0]); !c.unsigned {
			n = int64(int8(v[0]))
		}
	case 2:
		x := binary.LittleEndian.Uint16(v)
		if n = int64(x); !c.unsigned {
			n = int64(int16(x))
		}
	case 4:
		x := binary.LittleEndian.Uint32(v)
		if n = int64(x); !c.unsigned {
			n = int64(int32(x))
		}
	case 8:
		n = int64(binary.LittleEndian.Uint64(v))
		return n, n >= 0 || !c.unsigned
	}
	return n, true
}

// AppendText writes the text that the server gives of a value; floats have none here.
func (c *Column) AppendText(dst, v []byte) ([]byte, error) {
	switch c.Form() {
	case Whole:
		n, ok := c.Int(v)
		if !ok {
			return strconv.AppendUint(dst, uint64(n), 10), nil
		}
		return strconv.AppendInt(dst, n, 10), nil
	case Span:
		return c.time(dst, v)
	case Moment:
		return c.date(dst, v)
	}
	return append(dst, v...), nil
}

// digits writes n in at least so many digits.
func digits(dst []byte, n, width int) []byte {
	var b [20]byte
	at := len(b)
	for n > 0 || width > 0 {
		at--
		b[at] = byte('0' + n%10)
		n /= 10
		width--
	}
	return append(dst, b[at:]...)
}

// Clock is a moment or a span, as far as a value has it. The hours of a span can be
// more than a day's.
type Clock struct {
	Below                                                   bool // the span is below zero
	Year, Month, Day, Hours, Minutes, Seconds, Microseconds int
}

// Clock reads a value of the forms Moment and Span. A moment has 0, 4, 7 or 11 bytes:
// year, month, day; hour, minute, second; microseconds. A span has 0, 8 or 12: sign,
// days, hour, minute, second; microseconds. Digits beyond those that the column has
// are left out.
func (c *Column) Clock(v []byte) (Clock, error) {
	var full [12]byte
	var t Clock
	var micros uint32
	copy(full[:], v)
	if c.kind == typeTime {
		if n := len(v); n != 0 && n != 8 && n != 12 {
			return t, fmt.Errorf("the server sent a time of %d bytes", n)
		}
		t.Below = full[0] == 1
		t.Hours, t.Minutes, t.Seconds = int(binary.LittleEndian.Uint32(full[1:]))*24+int(full[5]), int(full[6]), int(full[7])
		micros = binary.LittleEndian.Uint32(full[8:])
	} else {
		if n := len(v); n != 0 && n != 4 && n != 7 && n != 11 {
			return t, fmt.Errorf("the server sent a date of %d bytes", n)
		}
		t.Year, t.Month, t.Day = int(binary.LittleEndian.Uint16(full[:])), int(full[2]), int(full[3])
		t.Hours, t.Minutes, t.Seconds = int(full[4]), int(full[5]), int(full[6])
		micros = binary.LittleEndian.Uint32(full[7:])
	}
	if micros != 0 {
		unit := uint32(1)
		for range 6 - c.decimals {
			unit *= 10
		}
		t.Microseconds = int(micros - micros%unit)
	}
	return t, nil
}

func (c *Column) date(dst, v []byte) ([]byte, error) {
	t, err := c.Clock(v)
	if err != nil {
		return dst, err
	}
	dst = digits(dst, t.Year, 4)
	dst = digits(append(dst, '-'), t.Month, 2)
	dst = digits(append(dst, '-'), t.Day, 2)
	if c.kind == typeDate {
		return dst, nil
	}
	return c.clock(append(dst, ' '), t), nil
}

func (c *Column) time(dst, v []byte) ([]byte, error) {
	t, err := c.Clock(v)
	if t.Below {
		dst = append(dst, '-')
	}
	return c.clock(dst, t), err
}

func (c *Column) clock(dst []byte, t Clock) []byte {
	dst = digits(dst, t.Hours, 2)
	dst = digits(append(dst, ':'), t.Minutes, 2)
	dst = digits(append(dst, ':'), t.Seconds, 2)
	if c.decimals > 0 {
		micros := t.Microseconds
		for range 6 - c.decimals {
			micros /= 10
		}
		dst = digits(append(dst, '.'), micros, c.decimals)
	}
	return dst
}
