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
	c.charset, c.length, c.kind, c.flags = binary.LittleEndian.Uint16(b[1:]), binary.LittleEndian.Uint32(b[3:]), b[7], binary.LittleEndian.Uint16(b[8:])
	c.unsigned, c.scale, c.decimals = c.flags&flagUnsigned != 0, int(b[10]), int(b[10])
	if c.decimals > 6 {
		c.decimals = 0
	}
	return c, nil
}

// NotNull reports whether the server rules out NULL.
func (c Column) NotNull() bool { return c.flags&flagNotNull != 0 }

// Text reports whether the values are texts.
func (c Column) Text() bool {
	switch c.kind {
	case typeTiny, typeShort, typeLong, typeInt24, typeLongLong, typeFloat, typeDouble, typeDecimal, typeDate, typeDateTime, typeTimestamp, typeTime, typeYear, typeBit, typeGeometry, typeNull:
		return false
	}
	return c.charset != binaryCharset
}

// longestVarchar is how many characters of four bytes a varchar is spelled with.
const longestVarchar = 16_000

// Spelled is the column's type in the server's words, as far as an answer tells:
// the values of an enum are a varchar, and json is a longtext.
func (c Column) Spelled() string {
	whole := map[byte]string{typeTiny: "tinyint", typeShort: "smallint", typeInt24: "mediumint", typeLong: "int", typeLongLong: "bigint", typeFloat: "float", typeDouble: "double"}
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

// Decoder reads rows of the binary form.
type Decoder struct {
	Columns []Column
	Fields  [][]byte  // of the row that was read, nil for NULL; good until the next
	Floats  []float64 // in place of the text, where the column is a float
	room    []byte
	ends    []int
}

// IsFloat reports whether a column's values are in Floats.
func (c Column) IsFloat() bool { return c.kind == typeFloat || c.kind == typeDouble }

// Bits is how wide a float is.
func (c Column) Bits() int {
	if c.kind == typeFloat {
		return 32
	}
	return 64
}

// notNull stands in Fields for a float.
var notNull = []byte{}

// Row reads a row.
func (d *Decoder) Row(b []byte) error {
	n := len(d.Columns)
	if d.Fields == nil {
		d.Fields, d.Floats, d.ends = make([][]byte, n), make([]float64, n), make([]int, n)
	}
	nulls := (n + 9) / 8
	if len(b) < 1+nulls {
		return ErrShort
	}
	bits := b[1 : 1+nulls]
	b = b[1+nulls:]
	d.room = d.room[:0]
	for i := range d.Columns {
		c := &d.Columns[i]
		d.ends[i] = -1
		if at := i + 2; bits[at/8]>>(at%8)&1 == 1 {
			d.Fields[i] = nil
			continue
		}
		size := 0
		switch c.kind {
		case typeTiny:
			size = 1
		case typeShort, typeYear:
			size = 2
		case typeLong, typeInt24, typeFloat:
			size = 4
		case typeLongLong, typeDouble:
			size = 8
		case typeDate, typeDateTime, typeTimestamp, typeTime:
			if len(b) == 0 {
				return ErrShort
			}
			size, b = int(b[0]), b[1:]
		case typeNull:
			d.Fields[i] = nil
			continue
		default:
			var ok bool
			if d.Fields[i], b, ok = text(b); !ok {
				return ErrShort
			}
			continue
		}
		if len(b) < size {
			return ErrShort
		}
		if err := d.fixed(i, c, b[:size]); err != nil {
			return err
		}
		b = b[size:]
	}
	// The room may have moved while it grew.
	from := 0
	for i, end := range d.ends {
		if end >= 0 {
			d.Fields[i] = d.room[from:end:end]
			from = end
		}
	}
	return nil
}

// fixed writes a value that does not come as text.
func (d *Decoder) fixed(i int, c *Column, v []byte) error {
	switch c.kind {
	case typeFloat:
		d.Floats[i], d.Fields[i] = float64(math.Float32frombits(binary.LittleEndian.Uint32(v))), notNull
		return nil
	case typeDouble:
		d.Floats[i], d.Fields[i] = math.Float64frombits(binary.LittleEndian.Uint64(v)), notNull
		return nil
	case typeTiny:
		d.whole(c, int64(int8(v[0])), uint64(v[0]))
	case typeShort, typeYear:
		x := binary.LittleEndian.Uint16(v)
		d.whole(c, int64(int16(x)), uint64(x))
	case typeLong, typeInt24:
		x := binary.LittleEndian.Uint32(v)
		d.whole(c, int64(int32(x)), uint64(x))
	case typeLongLong:
		x := binary.LittleEndian.Uint64(v)
		d.whole(c, int64(x), x)
	case typeTime:
		if err := d.time(v, c.decimals); err != nil {
			return err
		}
	default:
		if err := d.date(v, c.kind == typeDate, c.decimals); err != nil {
			return err
		}
	}
	d.ends[i] = len(d.room)
	return nil
}

func (d *Decoder) whole(c *Column, signed int64, unsigned uint64) {
	if c.unsigned {
		d.room = strconv.AppendUint(d.room, unsigned, 10)
	} else {
		d.room = strconv.AppendInt(d.room, signed, 10)
	}
}

// digits writes n in at least so many digits.
func (d *Decoder) digits(n uint32, width int) {
	var b [10]byte
	at := len(b)
	for n > 0 || width > 0 {
		at--
		b[at] = byte('0' + n%10)
		n /= 10
		width--
	}
	d.room = append(d.room, b[at:]...)
}

// date writes 0, 4, 7 or 11 bytes: year, month, day; hour, minute, second;
// microseconds.
func (d *Decoder) date(v []byte, only bool, decimals int) error {
	var full [11]byte
	switch len(v) {
	case 0, 4, 7, 11:
		copy(full[:], v)
	default:
		return fmt.Errorf("the server sent a date of %d bytes", len(v))
	}
	d.digits(uint32(binary.LittleEndian.Uint16(full[:])), 4)
	d.room = append(d.room, '-')
	d.digits(uint32(full[2]), 2)
	d.room = append(d.room, '-')
	d.digits(uint32(full[3]), 2)
	if only {
		return nil
	}
	d.room = append(d.room, ' ')
	d.clock(uint32(full[4]), full[5], full[6], binary.LittleEndian.Uint32(full[7:]), decimals)
	return nil
}

// time writes 0, 8 or 12 bytes: sign, days, hour, minute, second; microseconds.
func (d *Decoder) time(v []byte, decimals int) error {
	var full [12]byte
	switch len(v) {
	case 0, 8, 12:
		copy(full[:], v)
	default:
		return fmt.Errorf("the server sent a time of %d bytes", len(v))
	}
	if full[0] == 1 {
		d.room = append(d.room, '-')
	}
	d.clock(binary.LittleEndian.Uint32(full[1:])*24+uint32(full[5]), full[6], full[7], binary.LittleEndian.Uint32(full[8:]), decimals)
	return nil
}

func (d *Decoder) clock(hours uint32, minutes, seconds byte, micros uint32, decimals int) {
	d.digits(hours, 2)
	d.room = append(d.room, ':')
	d.digits(uint32(minutes), 2)
	d.room = append(d.room, ':')
	d.digits(uint32(seconds), 2)
	if decimals > 0 {
		for range 6 - decimals {
			micros /= 10
		}
		d.room = append(d.room, '.')
		d.digits(micros, decimals)
	}
}
