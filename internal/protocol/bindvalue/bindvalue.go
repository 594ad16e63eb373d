// Package bindvalue writes values of parameters in the binary form of the MariaDB protocol
// (MariaDB documentation, "COM_STMT_EXECUTE", "Binary Parameter Encoding"), from the texts
// that the server itself would read. A value whose text is not plainly of its kind is left
// to others: a caller sends it as a text, and hears from the server what is wrong with it.
package bindvalue

import (
	"encoding/binary"
	"math"
	"strconv"
	"strings"
)

// Types of parameters.
const (
	typeLong     = 3
	typeFloat    = 4
	typeDouble   = 5
	typeLongLong = 8
	typeDateTime = 12
	typeBlob     = 252
	typeString   = 253
)

// Before each value of a row stands whether it follows.
const (
	Follows = 0
	Null    = 1
)

// Kind is how the values of a column go as parameters.
type Kind struct {
	Type     byte
	Unsigned bool
	// Append adds a value by its text; false when the text is none that it knows, with dst as
	// it was.
	Append func(dst, text []byte) ([]byte, bool)
}

// IsText reports whether the values go as texts, so that Append takes any.
func (k Kind) IsText() bool { return k.Type == typeString }

// Unsignedness is the byte that follows a parameter's type.
func (k Kind) Unsignedness() byte {
	if k.Unsigned {
		return 0x80
	}
	return 0
}

// Bytes is the kind of values that are bytes without a character set, which Append takes as
// they are.
var Bytes = Kind{Type: typeBlob, Append: text}

// Of returns the kind for a base type, such as "int unsigned"; false for a type whose values
// are not sent so.
func Of(base string) (Kind, bool) {
	base, unsigned := strings.CutSuffix(base, " unsigned")
	switch base {
	case "tinyint", "smallint", "mediumint", "int":
		return Kind{typeLong, unsigned, whole(4, unsigned)}, true
	case "bigint":
		return Kind{typeLongLong, unsigned, whole(8, unsigned)}, true
	case "float":
		return Kind{typeFloat, false, float32s}, true
	case "double":
		return Kind{typeDouble, false, float64s}, true
	case "date", "datetime", "timestamp":
		return Kind{typeDateTime, false, moment}, true
	case "decimal", "time", "year", "char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum", "set", "json",
		"uuid", "inet4", "inet6":
		return Kind{typeString, false, text}, true
	}
	return Kind{}, false
}

// Length adds a length as the protocol writes it.
func Length(dst []byte, n int) []byte {
	switch {
	case n < 251:
		return append(dst, byte(n))
	case n < 1<<16:
		return append(dst, 0xfc, byte(n), byte(n>>8))
	case n < 1<<24:
		return append(dst, 0xfd, byte(n), byte(n>>8), byte(n>>16))
	}
	return binary.LittleEndian.AppendUint64(append(dst, 0xfe), uint64(n))
}

func text(dst, v []byte) ([]byte, bool) { return append(Length(dst, len(v)), v...), true }

func whole(size int, unsigned bool) func(dst, v []byte) ([]byte, bool) {
	return func(dst, v []byte) ([]byte, bool) {
		var n uint64
		if unsigned {
			u, err := strconv.ParseUint(string(v), 10, 8*size)
			if err != nil {
				return dst, false
			}
			n = u
		} else {
			i, err := strconv.ParseInt(string(v), 10, 8*size)
			if err != nil {
				return dst, false
			}
			n = uint64(i)
		}
		if size == 4 {
			return binary.LittleEndian.AppendUint32(dst, uint32(n)), true
		}
		return binary.LittleEndian.AppendUint64(dst, n), true
	}
}

// numeric reports whether a text is a number as a server writes one: what Go alone reads
// (Inf, hexadecimal, underscores) is none.
func numeric(v []byte) bool {
	for _, c := range v {
		if (c < '0' || c > '9') && c != '.' && c != '-' && c != '+' && c != 'e' && c != 'E' {
			return false
		}
	}
	return len(v) > 0
}

func float32s(dst, v []byte) ([]byte, bool) {
	f, err := strconv.ParseFloat(string(v), 32)
	if err != nil || !numeric(v) {
		return dst, false
	}
	return binary.LittleEndian.AppendUint32(dst, math.Float32bits(float32(f))), true
}

func float64s(dst, v []byte) ([]byte, bool) {
	f, err := strconv.ParseFloat(string(v), 64)
	if err != nil || !numeric(v) {
		return dst, false
	}
	return binary.LittleEndian.AppendUint64(dst, math.Float64bits(f)), true
}

// number reads so many digits.
func number(v []byte, digits int) (n int, rest []byte, ok bool) {
	if len(v) < digits {
		return 0, v, false
	}
	for _, c := range v[:digits] {
		if c < '0' || c > '9' {
			return 0, v, false
		}
		n = n*10 + int(c-'0')
	}
	return n, v[digits:], true
}

// after reads a number behind a separator.
func after(v []byte, sep byte) (n int, rest []byte, ok bool) {
	if len(v) == 0 || v[0] != sep {
		return 0, v, false
	}
	return number(v[1:], 2)
}

// days in each month; of February in a leap year.
var days = [13]int{0, 31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

// moment takes YYYY-MM-DD and YYYY-MM-DD HH:MM:SS with at most six digits of a second, of a
// day that there was.
func moment(dst, v []byte) ([]byte, bool) {
	year, rest, ok := number(v, 4)
	month, rest, ok2 := after(rest, '-')
	day, rest, ok3 := after(rest, '-')
	if !ok || !ok2 || !ok3 || year == 0 || month < 1 || month > 12 || day < 1 || day > days[month] {
		return dst, false
	}
	if month == 2 && day == 29 && (year%4 != 0 || year%100 == 0 && year%400 != 0) {
		return dst, false
	}
	if len(rest) == 0 {
		return Date(dst, year, month, day), true
	}
	hour, rest, ok := after(rest, ' ')
	minute, rest, ok2 := after(rest, ':')
	second, rest, ok3 := after(rest, ':')
	if !ok || !ok2 || !ok3 || hour > 23 || minute > 59 || second > 59 {
		return dst, false
	}
	micros := 0
	if len(rest) > 0 {
		digits := len(rest) - 1
		if rest[0] != '.' || digits < 1 || digits > 6 {
			return dst, false
		}
		if micros, _, ok = number(rest[1:], digits); !ok {
			return dst, false
		}
		for range 6 - digits {
			micros *= 10
		}
	}
	return Moment(dst, year, month, day, int64(hour*3600+minute*60+second)*1_000_000+int64(micros)), true
}

// Date adds a day.
func Date(dst []byte, year, month, day int) []byte {
	return append(dst, 4, byte(year), byte(year>>8), byte(month), byte(day))
}

// Moment adds a day and the microseconds of it.
func Moment(dst []byte, year, month, day int, micros int64) []byte {
	seconds, part := int(micros/1_000_000), uint32(micros%1_000_000)
	size := byte(7)
	if part > 0 {
		size = 11
	}
	dst = append(dst, size, byte(year), byte(year>>8), byte(month), byte(day), byte(seconds/3600), byte(seconds/60%60),
		byte(seconds%60))
	if part > 0 {
		dst = binary.LittleEndian.AppendUint32(dst, part)
	}
	return dst
}
