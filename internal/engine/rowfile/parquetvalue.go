package rowfile

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"time"
	"unicode/utf8"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/deprecated"
	"github.com/parquet-go/parquet-go/format"
)

// leaf is how the values of a column of a Parquet file are written in their neutral form. Source: the
// format's documentation, "LogicalTypes".
type leaf struct {
	full, base string // the neutral type
	write      func(dst []byte, v parquet.Value) ([]byte, error)
	bare       bool // also in JSON
}

// The neutral types of moments.
const (
	day      = "date"
	moment   = "timestamp without time zone"
	zoned    = "timestamp with time zone"
	ofTheDay = "time without time zone"
)

func of(typ string, write func(dst []byte, v parquet.Value) ([]byte, error)) leaf {
	return leaf{full: typ, base: typ, write: write}
}

func number(typ string, write func(dst []byte, v parquet.Value) ([]byte, error)) leaf {
	return leaf{full: typ, base: typ, write: write, bare: true}
}

// leafOf is the leaf of a node.
func leafOf(n parquet.Node) leaf {
	t := n.Type()
	if l := t.LogicalType(); l != nil {
		switch x := l.Value.(type) {
		case *format.StringType, *format.EnumType:
			return of("text", writeText)
		case *format.JsonType:
			return leaf{full: "json", base: "json", write: writeJSON, bare: true}
		case *format.UUIDType:
			return of("uuid", writeUUID)
		case *format.DateType:
			return of(day, func(dst []byte, v parquet.Value) ([]byte, error) {
				return appendDay(dst, time.Unix(0, 0).UTC().AddDate(0, 0, int(v.Int32())))
			})
		case *format.TimeType:
			per := perSecond(x.Unit)
			return of(ofTheDay, func(dst []byte, v parquet.Value) ([]byte, error) { return appendTime(dst, wide(v), per) })
		case *format.TimestampType:
			per, typ := perSecond(x.Unit), moment
			if x.IsAdjustedToUTC {
				typ = zoned
			}
			return of(typ, func(dst []byte, v parquet.Value) ([]byte, error) {
				return appendMoment(dst, v.Int64(), per, typ == zoned)
			})
		case *format.DecimalType:
			scale := int(x.Scale)
			l := number("numeric", func(dst []byte, v parquet.Value) ([]byte, error) {
				return appendDecimal(dst, v, scale), nil
			})
			l.full = fmt.Sprintf("numeric(%d,%d)", x.Precision, x.Scale)
			return l
		case *format.IntType:
			if !x.IsSigned {
				return unsigned(int(x.BitWidth))
			}
			return signed(int(x.BitWidth))
		case *format.Float16Type:
			return number("real", func(dst []byte, v parquet.Value) ([]byte, error) {
				return appendFloat(dst, half(v.ByteArray()), 32), nil
			})
		}
	}
	if c := t.ConvertedType(); c != nil && *c == deprecated.Interval {
		return of("text", writeInterval)
	}
	switch t.Kind() {
	case parquet.Boolean:
		return number("boolean", func(dst []byte, v parquet.Value) ([]byte, error) {
			return strconv.AppendBool(dst, v.Boolean()), nil
		})
	case parquet.Int32:
		return signed(32)
	case parquet.Int64:
		return signed(64)
	case parquet.Int96:
		return of(moment, writeInt96)
	case parquet.Float:
		return number("real", func(dst []byte, v parquet.Value) ([]byte, error) {
			return appendFloat(dst, float64(v.Float()), 32), nil
		})
	case parquet.Double:
		return number("double precision", func(dst []byte, v parquet.Value) ([]byte, error) {
			return appendFloat(dst, v.Double(), 64), nil
		})
	}
	return of("bytea", func(dst []byte, v parquet.Value) ([]byte, error) {
		return fmt.Appendf(dst, "\\x%x", v.ByteArray()), nil
	})
}

// wide is a whole number of either width.
func wide(v parquet.Value) int64 {
	if v.Kind() == parquet.Int32 {
		return int64(v.Int32())
	}
	return v.Int64()
}

func signed(bits int) leaf {
	typ := "bigint"
	switch {
	case bits <= 16:
		typ = "smallint"
	case bits <= 32:
		typ = "integer"
	}
	return number(typ, func(dst []byte, v parquet.Value) ([]byte, error) {
		return strconv.AppendInt(dst, wide(v), 10), nil
	})
}

func unsigned(bits int) leaf {
	full, base := "numeric(20,0)", "numeric"
	switch {
	case bits <= 8:
		full, base = "smallint", "smallint"
	case bits <= 16:
		full, base = "integer", "integer"
	case bits <= 32:
		full, base = "bigint", "bigint"
	}
	return leaf{full: full, base: base, bare: true, write: func(dst []byte, v parquet.Value) ([]byte, error) {
		if v.Kind() == parquet.Int32 {
			return strconv.AppendUint(dst, uint64(uint32(v.Int32())), 10), nil
		}
		return strconv.AppendUint(dst, uint64(v.Int64()), 10), nil
	}}
}

func perSecond(u format.TimeUnit) int64 {
	switch u.Value.(type) {
	case *format.MilliSeconds:
		return 1e3
	case *format.MicroSeconds:
		return 1e6
	}
	return 1e9
}

var errFine = errors.New("it is finer than a microsecond, which no target keeps")

// split is a count of units as seconds and microseconds.
func split(n, per int64) (seconds, micros int64, err error) {
	seconds, rest := n/per, n%per
	if rest < 0 {
		seconds, rest = seconds-1, rest+per
	}
	if per > 1e6 {
		if rest%(per/1e6) != 0 {
			err = errFine
		}
		return seconds, rest / (per / 1e6), err
	}
	return seconds, rest * (1e6 / per), nil
}

// withParts appends parts of a second as PostgreSQL does, which leaves zeros at their end out.
func withParts(dst []byte, micros int64) []byte {
	if micros == 0 {
		return dst
	}
	dst = fmt.Appendf(dst, ".%06d", micros)
	for dst[len(dst)-1] == '0' {
		dst = dst[:len(dst)-1]
	}
	return dst
}

// years that are written with four digits or more, and no word behind.
func ofThisEra(t time.Time) error {
	if t.Year() < 1 || t.Year() > 9999 {
		return fmt.Errorf("the year %d is none from 1 to 9999", t.Year())
	}
	return nil
}

func appendDay(dst []byte, t time.Time) ([]byte, error) {
	return t.AppendFormat(dst, time.DateOnly), ofThisEra(t)
}

func appendMoment(dst []byte, n, per int64, utc bool) ([]byte, error) {
	seconds, micros, err := split(n, per)
	t := time.Unix(seconds, 0).UTC()
	if err == nil {
		err = ofThisEra(t)
	}
	dst = withParts(t.AppendFormat(dst, time.DateTime), micros)
	if utc {
		dst = append(dst, "+00"...)
	}
	return dst, err
}

func appendTime(dst []byte, n, per int64) ([]byte, error) {
	seconds, micros, err := split(n, per)
	if seconds < 0 || seconds >= 86400 {
		return strconv.AppendInt(dst, n, 10), errors.New("it is no time of a day")
	}
	return withParts(time.Unix(seconds, 0).UTC().AppendFormat(dst, time.TimeOnly), micros), err
}

// writeInt96 writes a moment as nanoseconds of a day and the day's number in the Julian calendar's count.
func writeInt96(dst []byte, v parquet.Value) ([]byte, error) {
	const epoch = 2_440_588 // 1970-01-01
	x := v.Int96()
	nanos := int64(uint64(x[1])<<32 | uint64(x[0]))
	if nanos < 0 || nanos >= 86400*1e9 {
		return strconv.AppendInt(dst, nanos, 10), errors.New("it is no time of a day")
	}
	days := int64(x[2]) - epoch
	seconds, micros, err := split(nanos, 1e9)
	t := time.Unix(days*86400+seconds, 0).UTC()
	if err == nil {
		err = ofThisEra(t)
	}
	return withParts(t.AppendFormat(dst, time.DateTime), micros), err
}

func appendDecimal(dst []byte, v parquet.Value, scale int) []byte {
	n := new(big.Int)
	switch v.Kind() {
	case parquet.Int32, parquet.Int64:
		n.SetInt64(wide(v))
	default: // two's complement, its greatest byte first
		b := v.ByteArray()
		n.SetBytes(b)
		if len(b) > 0 && b[0] >= 0x80 {
			n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(8*len(b))))
		}
	}
	digits := new(big.Int).Abs(n).String()
	for len(digits) <= scale {
		digits = "0" + digits
	}
	if n.Sign() < 0 {
		dst = append(dst, '-')
	}
	dst = append(dst, digits[:len(digits)-scale]...)
	if scale > 0 {
		dst = append(append(dst, '.'), digits[len(digits)-scale:]...)
	}
	return dst
}

// half is a float of 16 bits (IEEE 754), its least byte first.
func half(b []byte) float64 {
	if len(b) != 2 {
		return math.NaN()
	}
	x := binary.LittleEndian.Uint16(b)
	sign, exp, frac := 1.0, int(x>>10&31), float64(x&1023)
	if x>>15 == 1 {
		sign = -1
	}
	switch exp {
	case 0:
		return sign * math.Ldexp(frac, -24)
	case 31:
		if frac != 0 {
			return math.NaN()
		}
		return math.Inf(int(sign))
	}
	return sign * math.Ldexp(1024+frac, exp-25)
}

func appendFloat(dst []byte, f float64, bits int) []byte {
	switch {
	case math.IsInf(f, 1):
		return append(dst, "Infinity"...)
	case math.IsInf(f, -1):
		return append(dst, "-Infinity"...)
	}
	return strconv.AppendFloat(dst, f, 'g', -1, bits)
}

func writeText(dst []byte, v parquet.Value) ([]byte, error) {
	b := v.ByteArray()
	if !utf8.Valid(b) {
		return append(dst, b...), errors.New("a text that is not UTF-8")
	}
	for _, c := range b {
		if c == 0 {
			return append(dst, b...), errors.New("a text that has a zero byte in it")
		}
	}
	return append(dst, b...), nil
}

func writeJSON(dst []byte, v parquet.Value) ([]byte, error) {
	if !json.Valid(v.ByteArray()) {
		return append(dst, v.ByteArray()...), errors.New("a text that is no JSON")
	}
	return append(dst, v.ByteArray()...), nil
}

func writeUUID(dst []byte, v parquet.Value) ([]byte, error) {
	b := v.ByteArray()
	if len(b) != 16 {
		return fmt.Appendf(dst, "%x", b), errors.New("it has not 16 bytes")
	}
	return fmt.Appendf(dst, "%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:]), nil
}

// writeInterval writes months, days and milliseconds as ISO 8601 does.
func writeInterval(dst []byte, v parquet.Value) ([]byte, error) {
	b := v.ByteArray()
	if len(b) != 12 {
		return fmt.Appendf(dst, "%x", b), errors.New("it has not 12 bytes")
	}
	months, days, ms := binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:]), binary.LittleEndian.Uint32(b[8:])
	return fmt.Appendf(dst, "P%dM%dDT%d.%03dS", months, days, ms/1000, ms%1000), nil
}

// appendNested writes what is nested as JSON. of are the values of each of the node's columns, as they stand:
// with how much of their path is there (definition), and at which list of it a new entry begins (repetition).
// Source: S. Melnik and others, "Dremel: Interactive Analysis of Web-Scale Datasets", VLDB 2010.
func appendNested(dst []byte, n parquet.Node, of [][]parquet.Value, definition, repetition int) ([]byte, error) {
	first := of[0][0]
	switch {
	case n.Repeated():
		if first.DefinitionLevel() == definition {
			return append(dst, "[]"...), nil
		}
		return appendList(dst, parquet.Required(n), of, definition+1, repetition+1)
	case n.Optional():
		if first.DefinitionLevel() == definition {
			return append(dst, "null"...), nil
		}
		definition++
	}
	if n.Leaf() {
		return appendLeaf(dst, leafOf(n), first)
	}
	fields := n.Fields()
	inner, list, isMap := collection(n)
	if inner == nil {
		return appendObject(dst, fields, of, definition, repetition)
	}
	if first.DefinitionLevel() == definition {
		return append(dst, map[bool]string{true: "{}", false: "[]"}[isMap]...), nil
	}
	if isMap {
		return appendMap(dst, list, of, definition+1, repetition+1)
	}
	return appendList(dst, inner, of, definition+1, repetition+1)
}

// collection is what is in a list or a map: its repeated field, and the element of a list in it, or key and
// value of a map.
func collection(n parquet.Node) (inner, list parquet.Node, isMap bool) {
	fields := n.Fields()
	if l := n.Type().LogicalType(); l != nil && len(fields) == 1 && fields[0].Repeated() {
		list = parquet.Required(fields[0])
		switch l.Value.(type) {
		case *format.MapType:
			if kv := fields[0].Fields(); !fields[0].Leaf() && len(kv) == 2 && kv[0].Leaf() && kv[0].Required() {
				return list, list, true
			}
		case *format.ListType:
			// Older writers have the element itself repeated.
			if fields[0].Leaf() || len(fields[0].Fields()) != 1 {
				return list, list, false
			}
			return fields[0].Fields()[0], list, false
		}
	}
	return nil, nil, false
}

// entries calls each with the values of each entry of a list.
func entries(of [][]parquet.Value, repetition int, each func(of [][]parquet.Value) error) error {
	at := make([]int, len(of))
	for at[0] < len(of[0]) {
		one := make([][]parquet.Value, len(of))
		for i := range of {
			end := at[i] + 1
			for end < len(of[i]) && of[i][end].RepetitionLevel() > repetition {
				end++
			}
			if at[i] >= len(of[i]) {
				return errors.New("its columns have not the same number of entries")
			}
			one[i], at[i] = of[i][at[i]:end], end
		}
		if err := each(one); err != nil {
			return err
		}
	}
	return nil
}

func appendList(dst []byte, element parquet.Node, of [][]parquet.Value, definition, repetition int) ([]byte, error) {
	dst = append(dst, '[')
	n := 0
	err := entries(of, repetition, func(one [][]parquet.Value) (err error) {
		if n++; n > 1 {
			dst = append(dst, ',')
		}
		dst, err = appendNested(dst, element, one, definition, repetition)
		return err
	})
	return append(dst, ']'), err
}

// appendMap writes a map as an object; keys that are no texts are written as such.
func appendMap(dst []byte, n parquet.Node, of [][]parquet.Value, definition, repetition int) ([]byte, error) {
	key, value := leafOf(n.Fields()[0]), n.Fields()[1]
	dst = append(dst, '{')
	some := 0
	err := entries(of, repetition, func(one [][]parquet.Value) (err error) {
		if some++; some > 1 {
			dst = append(dst, ',')
		}
		key.bare = false
		if dst, err = appendLeaf(dst, key, one[0][0]); err != nil {
			return err
		}
		dst, err = appendNested(append(dst, ':'), value, one[1:], definition, repetition)
		return err
	})
	return append(dst, '}'), err
}

func appendObject(dst []byte, fields []parquet.Field, of [][]parquet.Value, definition, repetition int) ([]byte,
	error) {
	dst = append(dst, '{')
	at := 0
	for i, f := range fields {
		if i > 0 {
			dst = append(dst, ',')
		}
		name, _ := json.Marshal(f.Name())
		dst = append(append(dst, name...), ':')
		n := leavesOf(f)
		var err error
		if dst, err = appendNested(dst, f, of[at:at+n], definition, repetition); err != nil {
			return dst, fmt.Errorf("%s: %w", f.Name(), err)
		}
		at += n
	}
	return append(dst, '}'), nil
}

// appendLeaf writes a value as JSON: bytes in base 64, a number that JSON has not as a text.
func appendLeaf(dst []byte, l leaf, v parquet.Value) ([]byte, error) {
	if v.IsNull() {
		return append(dst, "null"...), nil
	}
	if l.base == "bytea" {
		return fmt.Appendf(dst, "%q", base64.StdEncoding.EncodeToString(v.ByteArray())), nil
	}
	text, err := l.write(nil, v)
	if l.bare && json.Valid(text) {
		return append(dst, text...), err
	}
	quoted, _ := json.Marshal(string(text))
	return append(dst, quoted...), err
}
