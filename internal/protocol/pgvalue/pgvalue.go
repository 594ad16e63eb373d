// Package pgvalue writes values in PostgreSQL's binary form, as COPY takes them.
// Sources: the PostgreSQL documentation, "COPY", "Binary Format", which leaves the
// values to each type's receive function; numeric_recv (numeric.c), timestamp_recv
// (timestamp.c), date_recv (date.c), interval_recv, uuid_recv and bit_recv of its
// source code.
package pgvalue

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"strconv"
)

// Encode appends the binary form of a value to dst, without its length. The text is
// what the server itself gives of the value.
type Encode func(dst, text []byte) ([]byte, error)

// OID is the number that every server gives a type, by its name without brackets; 0
// where values of the type are not written here.
func OID(base string) uint32 { return types[base].oid }

// IsText reports whether the binary form of a type's values is their text.
func IsText(base string) bool {
	return base == "text" || base == "character varying" || base == "json"
}

// Encoder is nil where OID is 0.
func Encoder(base string) Encode { return types[base].encode }

var types = map[string]struct {
	oid    uint32
	encode Encode
}{
	"boolean":                     {16, boolean},
	"bytea":                       {17, bytea},
	"bigint":                      {20, whole(8)},
	"smallint":                    {21, whole(2)},
	"integer":                     {23, whole(4)},
	"text":                        {25, text},
	"json":                        {114, text},
	"real":                        {700, single},
	"double precision":            {701, double},
	"character varying":           {1043, text},
	"date":                        {1082, date},
	"timestamp without time zone": {1114, timestamp},
	"timestamp with time zone":    {1184, timestamp},
	"interval":                    {1186, interval},
	"bit":                         {1560, bits},
	"numeric":                     {1700, Numeric},
	"uuid":                        {2950, uuid},
}

// errText says that a text is not one of the type's.
var errText = errors.New("no value of the type")

func refused(v []byte, typ string) error { return fmt.Errorf("%q is no %s", v, typ) }

func text(dst, v []byte) ([]byte, error) { return append(dst, v...), nil }

func boolean(dst, v []byte) ([]byte, error) {
	switch string(v) {
	case "true", "t":
		return append(dst, 1), nil
	case "false", "f":
		return append(dst, 0), nil
	}
	return dst, refused(v, "boolean")
}

func bytea(dst, v []byte) ([]byte, error) {
	if len(v) < 2 || v[0] != '\\' || v[1] != 'x' {
		return dst, refused(v, "bytea")
	}
	return hex.AppendDecode(dst, v[2:])
}

// Whole writes a whole number of 2, 4 or 8 bytes; an error says that it has no room.
func Whole(dst []byte, n int64, size int) ([]byte, error) {
	switch {
	case size == 2 && n == int64(int16(n)):
		return binary.BigEndian.AppendUint16(dst, uint16(n)), nil
	case size == 4 && n == int64(int32(n)):
		return binary.BigEndian.AppendUint32(dst, uint32(n)), nil
	case size == 8:
		return binary.BigEndian.AppendUint64(dst, uint64(n)), nil
	}
	return dst, fmt.Errorf("%d does not fit a whole number of %d bytes", n, size)
}

func whole(size int) Encode {
	return func(dst, v []byte) ([]byte, error) {
		n, err := strconv.ParseInt(string(v), 10, 64)
		if err != nil {
			return dst, refused(v, "whole number that fits")
		}
		return Whole(dst, n, size)
	}
}

func single(dst, v []byte) ([]byte, error) {
	f, err := strconv.ParseFloat(string(v), 32)
	if err != nil {
		return dst, refused(v, "real")
	}
	return binary.BigEndian.AppendUint32(dst, math.Float32bits(float32(f))), nil
}

func double(dst, v []byte) ([]byte, error) {
	f, err := strconv.ParseFloat(string(v), 64)
	if err != nil {
		return dst, refused(v, "double precision")
	}
	return binary.BigEndian.AppendUint64(dst, math.Float64bits(f)), nil
}

// Numeric writes a decimal number without an exponent: groups of four digits that
// count from the point, without the zero groups at either end.
func Numeric(dst, v []byte) ([]byte, error) {
	sign := uint16(0)
	s := v
	if len(s) > 0 && s[0] == '-' {
		sign, s = 0x4000, s[1:]
	}
	point := len(s)
	for i, c := range s {
		if c == '.' && point == len(s) {
			point = i
		} else if c < '0' || c > '9' {
			return dst, refused(v, "number")
		}
	}
	scale := max(len(s)-point-1, 0)
	if len(s) == 0 || point == 0 || len(s) == point+1 || scale > 16383 || point > 131072 {
		return dst, refused(v, "number")
	}
	at := len(dst)
	dst = append(dst, 0, 0, 0, 0, 0, 0, 0, 0)
	groups, weight := 0, (point+3)/4-1
	begun := false
	add := func(group uint16) {
		if group == 0 && !begun {
			weight--
			return
		}
		begun = true
		dst = binary.BigEndian.AppendUint16(dst, group)
		groups++
	}
	group := uint16(0)
	for i := range point {
		if group = group*10 + uint16(s[i]-'0'); (point-i)%4 == 1 {
			add(group)
			group = 0
		}
	}
	for i := 0; i < scale; {
		for range 4 {
			group *= 10
			if i < scale {
				group += uint16(s[point+1+i] - '0')
			}
			i++
		}
		add(group)
		group = 0
	}
	for groups > 0 && dst[len(dst)-1] == 0 && dst[len(dst)-2] == 0 {
		dst = dst[:len(dst)-2]
		groups--
	}
	if groups == 0 { // there is no zero below zero
		weight, sign = 0, 0
	}
	head := dst[at:]
	binary.BigEndian.PutUint16(head, uint16(groups))
	binary.BigEndian.PutUint16(head[2:], uint16(int16(weight)))
	binary.BigEndian.PutUint16(head[4:], sign)
	binary.BigEndian.PutUint16(head[6:], uint16(scale))
	return dst, nil
}

// The calendar's days before each month of a year that is not a leap year.
var daysIn = [...]int{0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

// Day counts the days from 1 January 2000 to a day of the Gregorian calendar, years 1
// to 9999. Not ok where the calendar has no such day. Source of the count: H. Hinnant,
// "chrono-Compatible Low-Level Date Algorithms", days_from_civil.
func Day(year, month, day int) (n int32, ok bool) {
	if year < 1 || year > 9999 || month < 1 || month > 12 || day < 1 {
		return 0, false
	}
	if most := daysIn[month]; day > most && (month != 2 || day != 29 || year%4 != 0 || year%100 == 0 && year%400 != 0) {
		return 0, false
	}
	y, m := year, month-3 // a year begins in March
	if month < 3 {
		y, m = y-1, month+9
	}
	era := y / 400
	ofEra := y - era*400
	ofYear := (153*m+2)/5 + day - 1
	return int32(era*146097 + ofEra*365 + ofEra/4 - ofEra/100 + ofYear - 730425), true
}

// Date writes a day that Day counted.
func Date(dst []byte, day int32) []byte { return binary.BigEndian.AppendUint32(dst, uint32(day)) }

const dayMicros = 24 * 60 * 60 * 1_000_000

// Micros is a time of day, or a span, in microseconds.
func Micros(hours, minutes, seconds, micros int) int64 {
	return int64(hours*3600+minutes*60+seconds)*1_000_000 + int64(micros)
}

// Timestamp writes a moment: a day that Day counted, and microseconds of it.
func Timestamp(dst []byte, day int32, micros int64) []byte {
	return binary.BigEndian.AppendUint64(dst, uint64(int64(day)*dayMicros+micros))
}

// Interval writes a span of microseconds that has neither days nor months of its own.
func Interval(dst []byte, micros int64) []byte {
	return append(binary.BigEndian.AppendUint64(dst, uint64(micros)), 0, 0, 0, 0, 0, 0, 0, 0)
}

// number reads so many digits, all of v where n is -1.
func number(v []byte, n int) (int, error) {
	if n < 0 {
		n = len(v)
	}
	if n == 0 || n > len(v) || n > 9 {
		return 0, errText
	}
	out := 0
	for _, c := range v[:n] {
		if c < '0' || c > '9' {
			return 0, errText
		}
		out = out*10 + int(c-'0')
	}
	return out, nil
}

// dayOf reads YYYY-MM-DD.
func dayOf(v []byte) (int32, error) {
	if len(v) != 10 || v[4] != '-' || v[7] != '-' {
		return 0, errText
	}
	y, err1 := number(v, 4)
	m, err2 := number(v[5:], 2)
	d, err3 := number(v[8:], 2)
	n, ok := Day(y, m, d)
	if !ok {
		err1 = errText
	}
	return n, errors.Join(err1, err2, err3)
}

// clockOf reads H…:MM:SS, and a fraction of up to six digits.
func clockOf(v []byte) (int64, error) {
	var parts [3]int
	for i := range 3 {
		n := 0
		for n < len(v) && v[n] != ':' && v[n] != '.' {
			n++
		}
		var err error
		if parts[i], err = number(v[:n], -1); err != nil {
			return 0, err
		}
		if v = v[n:]; i < 2 {
			if len(v) == 0 || v[0] != ':' {
				return 0, errText
			}
			v = v[1:]
		}
	}
	micros := 0
	if len(v) > 0 {
		fraction := v[1:]
		n, err := number(fraction, -1)
		if err != nil || v[0] != '.' || len(fraction) > 6 {
			return 0, errText
		}
		for range 6 - len(fraction) {
			n *= 10
		}
		micros = n
	}
	if parts[1] > 59 || parts[2] > 59 {
		return 0, errText
	}
	return Micros(parts[0], parts[1], parts[2], micros), nil
}

func date(dst, v []byte) ([]byte, error) {
	n, err := dayOf(v)
	if err != nil {
		return dst, refused(v, "date")
	}
	return Date(dst, n), nil
}

// timestamp reads a moment, with a zone only where that is +00.
func timestamp(dst, v []byte) ([]byte, error) {
	s := v
	if n := len(s) - 3; n > 0 && string(s[n:]) == "+00" {
		s = s[:n]
	}
	if len(s) < 19 || s[10] != ' ' {
		return dst, refused(v, "timestamp")
	}
	day, err := dayOf(s[:10])
	micros, err2 := clockOf(s[11:])
	if err != nil || err2 != nil || micros >= dayMicros {
		return dst, refused(v, "timestamp")
	}
	return Timestamp(dst, day, micros), nil
}

func interval(dst, v []byte) ([]byte, error) {
	s := v
	below := len(s) > 0 && s[0] == '-'
	if below {
		s = s[1:]
	}
	n, err := clockOf(s)
	if err != nil {
		return dst, refused(v, "span of time")
	}
	if below {
		n = -n
	}
	return Interval(dst, n), nil
}

func bits(dst, v []byte) ([]byte, error) {
	dst = binary.BigEndian.AppendUint32(dst, uint32(len(v)))
	for i, c := range v {
		if c != '0' && c != '1' {
			return dst, refused(v, "row of bits")
		}
		if i%8 == 0 {
			dst = append(dst, 0)
		}
		dst[len(dst)-1] |= (c - '0') << (7 - i%8)
	}
	return dst, nil
}

func uuid(dst, v []byte) ([]byte, error) {
	if len(v) != 36 || v[8] != '-' || v[13] != '-' || v[18] != '-' || v[23] != '-' {
		return dst, refused(v, "uuid")
	}
	from := len(dst)
	for _, part := range [][2]int{{0, 8}, {9, 13}, {14, 18}, {19, 23}, {24, 36}} {
		var err error
		if dst, err = hex.AppendDecode(dst, v[part[0]:part[1]]); err != nil {
			return dst[:from], refused(v, "uuid")
		}
	}
	return dst, nil
}
