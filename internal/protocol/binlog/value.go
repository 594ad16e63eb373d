package binlog

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"time"
)

// appendText reads one value and appends it: numbers, dates and times in the
// server's text form (timestamps in UTC), enum as its index, set and bit as
// unsigned numbers, everything else as its bytes.
func (k Column) appendText(dst []byte, c *cursor) ([]byte, error) {
	switch k.Type {
	case ColTime2, ColDatetime2, ColTimestamp2:
		if k.Meta > mostFraction {
			return dst, fmt.Errorf("a fraction of a second of %d digits is not possible", k.Meta)
		}
	}
	switch k.Type {
	case ColTiny:
		return k.appendInt(dst, c, 1), c.err()
	case ColShort:
		return k.appendInt(dst, c, 2), c.err()
	case ColInt24:
		return k.appendInt(dst, c, 3), c.err()
	case ColLong:
		return k.appendInt(dst, c, 4), c.err()
	case ColLongLong:
		return k.appendInt(dst, c, 8), c.err()
	case ColFloat:
		return strconv.AppendFloat(dst, float64(math.Float32frombits(uint32(c.uint(4)))), 'g', -1, 32), c.err()
	case ColDouble:
		return strconv.AppendFloat(dst, math.Float64frombits(c.uint(8)), 'g', -1, 64), c.err()
	case ColNewDecimal:
		return appendDecimal(dst, c, int(k.Meta>>8), int(k.Meta&0xff))
	case ColYear:
		y := int(c.uint(1))
		if y > 0 {
			y += 1900
		}
		return pad(dst, y, 4), c.err()
	case ColDate:
		v := int(c.uint(3))
		return appendDate(dst, v>>9, v>>5&15, v&31), c.err()
	case ColTime:
		v := int64(c.uint(3))
		if v >= 1<<23 {
			v -= 1 << 24
		}
		if v < 0 {
			dst, v = append(dst, '-'), -v
		}
		return appendClock(dst, int(v/10000), int(v/100%100), int(v%100)), c.err()
	case ColTime2:
		return appendTime2(dst, c, int(k.Meta))
	case ColDatetime:
		v := c.uint(8)
		d, t := int(v/1_000_000), int(v%1_000_000)
		dst = append(appendDate(dst, d/10000, d/100%100, d%100), ' ')
		return appendClock(dst, t/10000, t/100%100, t%100), c.err()
	case ColDatetime2:
		return appendDatetime2(dst, c, int(k.Meta))
	case ColTimestamp:
		return appendUnix(dst, int64(c.uint(4)), 0, 0), c.err()
	case ColTimestamp2:
		s := int64(c.big(4))
		micros := fraction(c, int(k.Meta))
		return appendUnix(dst, s, micros, int(k.Meta)), c.err()
	case ColBit:
		n := (int(k.Meta&0xff) + int(k.Meta>>8)*8 + 7) / 8
		return strconv.AppendUint(dst, c.big(n), 10), c.err()
	case ColEnum, ColSet:
		return strconv.AppendUint(dst, c.uint(int(k.Meta)), 10), c.err()
	case ColVarchar, ColVarString, ColString:
		n := 1
		if k.Meta > 255 {
			n = 2
		}
		return append(dst, c.take(int(c.uint(n)))...), c.err()
	case ColBlob, ColGeometry:
		return append(dst, c.take(int(c.uint(int(k.Meta))))...), c.err()
	}
	return dst, fmt.Errorf("values of the log's type %d cannot be read", k.Type)
}

// mostFraction is how many digits of a second a value has at most.
const mostFraction = 6

func (k Column) appendInt(dst []byte, c *cursor, n int) []byte {
	v := c.uint(n)
	if k.Unsigned {
		return strconv.AppendUint(dst, v, 10)
	}
	shift := 64 - 8*n
	return strconv.AppendInt(dst, int64(v<<shift)>>shift, 10)
}

// digitBytes is how many bytes a group of so many decimal digits takes.
var digitBytes = [...]int{0, 1, 1, 2, 2, 3, 3, 4, 4, 4}

// appendDecimal reads the server's packed decimal: groups of nine digits in four
// bytes, big-endian, the first bit inverted, all bits inverted when negative.
func appendDecimal(dst []byte, c *cursor, precision, scale int) ([]byte, error) {
	whole := precision - scale
	if whole < 0 || precision > 81 {
		return dst, fmt.Errorf("decimal(%d,%d) is not possible", precision, scale)
	}
	size := whole/9*4 + digitBytes[whole%9] + scale/9*4 + digitBytes[scale%9]
	raw := c.take(size)
	if c.short {
		return dst, ErrShort
	}
	b := append([]byte(nil), raw...)
	if size == 0 {
		return append(dst, '0'), nil
	}
	negative := b[0]&0x80 == 0
	b[0] ^= 0x80
	if negative {
		for i := range b {
			b[i] ^= 0xff
		}
		dst = append(dst, '-')
	}
	d := cursor{b: b}
	from := len(dst)
	group := func(digits int) {
		if digits > 0 {
			dst = pad(dst, int(d.big(digitBytes[digits])), digits)
		}
	}
	group(whole % 9)
	for range whole / 9 {
		group(9)
	}
	// Leading zeros go, but for one.
	lead := from
	for lead < len(dst)-1 && dst[lead] == '0' {
		lead++
	}
	if whole == 0 {
		dst = append(dst, '0')
	} else {
		dst = append(dst[:from], dst[lead:]...)
	}
	if scale > 0 {
		dst = append(dst, '.')
		for range scale / 9 {
			group(9)
		}
		group(scale % 9)
	}
	return dst, d.err()
}

// pad appends a number with leading zeros.
func pad(dst []byte, n, width int) []byte {
	s := strconv.Itoa(n)
	for range width - len(s) {
		dst = append(dst, '0')
	}
	return append(dst, s...)
}

func appendDate(dst []byte, y, m, d int) []byte {
	dst = append(pad(dst, y, 4), '-')
	dst = append(pad(dst, m, 2), '-')
	return pad(dst, d, 2)
}

func appendClock(dst []byte, h, m, s int) []byte {
	dst = append(pad(dst, h, 2), ':')
	dst = append(pad(dst, m, 2), ':')
	return pad(dst, s, 2)
}

// fraction reads a fraction of a second of so many digits, as microseconds.
func fraction(c *cursor, digits int) int {
	n := (digits + 1) / 2
	v := int(c.big(n))
	for range 3 - n {
		v *= 100
	}
	return v
}

func appendFraction(dst []byte, micros, digits int) []byte {
	if digits == 0 {
		return dst
	}
	dst = append(dst, '.')
	return append(dst, fmt.Sprintf("%06d", micros)[:digits]...)
}

// appendDatetime2 reads 40 bits, big-endian: a sign, years and months as one
// number, day, hour, minute, second.
func appendDatetime2(dst []byte, c *cursor, digits int) ([]byte, error) {
	v := int64(c.big(5)) - 1<<39
	micros := fraction(c, digits)
	if v < 0 {
		return dst, fmt.Errorf("a date and time below zero")
	}
	ym, t := int(v>>22), int(v&(1<<17-1))
	dst = append(appendDate(dst, ym/13, ym%13, int(v>>17&31)), ' ')
	dst = appendClock(dst, t>>12, t>>6&63, t&63)
	return appendFraction(dst, micros, digits), c.err()
}

// appendTime2 reads 24 bits, big-endian, with a sign, hours, minutes and seconds;
// a fraction counts upwards also below zero.
func appendTime2(dst []byte, c *cursor, digits int) ([]byte, error) {
	n := (digits + 1) / 2
	v := int64(c.big(3 + n))
	v -= 1 << (23 + 8*n)
	if v < 0 {
		dst, v = append(dst, '-'), -v
	}
	micros := int(v & (1<<(8*n) - 1))
	for range 3 - n {
		micros *= 100
	}
	t := int(v >> (8 * n))
	dst = appendClock(dst, t>>12&1023, t>>6&63, t&63)
	return appendFraction(dst, micros, digits), c.err()
}

// appendUnix writes a moment in UTC; zero is the server's zero date.
func appendUnix(dst []byte, s int64, micros, digits int) []byte {
	if s == 0 && micros == 0 {
		dst = append(dst, "0000-00-00 00:00:00"...)
		return appendFraction(dst, 0, digits)
	}
	dst = time.Unix(s, 0).UTC().AppendFormat(dst, "2006-01-02 15:04:05")
	return appendFraction(dst, micros, digits)
}

// AppendMap encodes a table map without optional metadata, for tests and for
// tools that make logs up. It is the counterpart of [Reader.TableMap].
func (t *Table) AppendMap(dst []byte) []byte {
	dst = append(dst, byte(t.ID), byte(t.ID>>8), byte(t.ID>>16), byte(t.ID>>24), byte(t.ID>>32), byte(t.ID>>40), 0, 0)
	dst = append(append(append(dst, byte(len(t.Database))), t.Database...), 0)
	dst = append(append(append(dst, byte(len(t.Name))), t.Name...), 0)
	dst = append(dst, byte(len(t.Columns)))
	var meta []byte
	nulls := make([]byte, (len(t.Columns)+7)/8)
	for i, k := range t.Columns {
		if k.Nullable {
			nulls[i/8] |= 1 << (i % 8)
		}
		switch k.Type {
		case ColEnum, ColSet, ColString:
			dst = append(dst, byte(ColString))
			meta = append(meta, byte(k.Type)&^0x30|byte((k.Meta>>4&0x30)^0x30), byte(k.Meta))
			continue
		case ColFloat, ColDouble, ColBlob, ColGeometry, ColTimestamp2, ColDatetime2, ColTime2:
			meta = append(meta, byte(k.Meta))
		case ColVarchar, ColVarString, ColBit:
			meta = binary.LittleEndian.AppendUint16(meta, k.Meta)
		case ColNewDecimal:
			meta = binary.BigEndian.AppendUint16(meta, k.Meta)
		}
		dst = append(dst, byte(k.Type))
	}
	dst = append(append(dst, byte(len(meta))), meta...)
	return append(dst, nulls...)
}
