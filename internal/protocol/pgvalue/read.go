package pgvalue

import (
	"encoding/binary"
	"errors"
	"strconv"
)

// ErrForm says that bytes are not a value of their type in binary form.
var ErrForm = errors.New("pgvalue: not the binary form of its type")

// Signs of a numeric that is no number (numeric.c).
const (
	numericNegative = 0x4000
	numericNaN      = 0xc000
	numericInfinite = 0xd000
	numericBelow    = 0xf000 // minus infinity
)

// AppendNumeric adds the text of a numeric, as the server writes it: with as many digits behind
// the point as the value has a scale.
func AppendNumeric(dst, v []byte) ([]byte, error) {
	if len(v) < 8 {
		return dst, ErrForm
	}
	groups := int(binary.BigEndian.Uint16(v))
	weight := int(int16(binary.BigEndian.Uint16(v[2:])))
	scale := int(binary.BigEndian.Uint16(v[6:]))
	switch sign := binary.BigEndian.Uint16(v[4:]); {
	case len(v) != 8+2*groups:
		return dst, ErrForm
	case sign == numericNaN:
		return append(dst, "NaN"...), nil
	case sign == numericInfinite:
		return append(dst, "Infinity"...), nil
	case sign == numericBelow:
		return append(dst, "-Infinity"...), nil
	case sign == numericNegative:
		dst = append(dst, '-')
	case sign != 0:
		return dst, ErrForm
	}
	group := func(i int) uint16 { // of four digits
		if i < 0 || i >= groups {
			return 0
		}
		return binary.BigEndian.Uint16(v[8+2*i:])
	}
	if weight < 0 {
		dst = append(dst, '0')
	} else {
		dst = strconv.AppendUint(dst, uint64(group(0)), 10)
		for i := 1; i <= weight; i++ {
			g := group(i)
			dst = append(dst, byte('0'+g/1000), byte('0'+g/100%10), byte('0'+g/10%10), byte('0'+g%10))
		}
	}
	if scale == 0 {
		return dst, nil
	}
	dst = append(dst, '.')
	for i := weight + 1; scale > 0; i++ {
		g := group(i)
		four := [4]byte{byte('0' + g/1000), byte('0' + g/100%10), byte('0' + g/10%10), byte('0' + g%10)}
		n := min(scale, 4)
		dst = append(dst, four[:n]...)
		scale -= n
	}
	return dst, nil
}

// Civil is the day of the Gregorian calendar that Day counted. Source: H. Hinnant,
// "chrono-Compatible Low-Level Date Algorithms", civil_from_days.
func Civil(n int32) (year, month, day int) {
	z := int(n) + 730425
	era := z / 146097
	if z < 0 {
		era = (z - 146096) / 146097
	}
	ofEra := z - era*146097
	y := (ofEra - ofEra/1460 + ofEra/36524 - ofEra/146096) / 365
	ofYear := ofEra - (365*y + y/4 - y/100)
	m := (5*ofYear + 2) / 153
	day = ofYear - (153*m+2)/5 + 1
	year, month = y+era*400, m+3
	if month > 12 {
		year, month = year+1, month-12
	}
	return year, month, day
}

// Moment cuts a timestamp, microseconds from 1 January 2000, into its day and what there is
// of it.
func Moment(n int64) (day int32, micros int64) {
	d := n / dayMicros
	if n%dayMicros < 0 {
		d--
	}
	return int32(d), n - d*dayMicros
}
