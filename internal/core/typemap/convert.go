package typemap

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"

	"dustyferry/internal/domain"
)

// Convert writes one value over: it appends the target's text to dst. The second
// result is false when the value becomes NULL. It is for one goroutine.
type Convert func(dst, value []byte) ([]byte, bool, error)

// Compile returns how values of a column are written for the column of another
// engine. From PostgreSQL they come as its texts; from MariaDB as a SELECT gives
// them, bits as a number.
//
// A masked column's values are replaced by hashes of what they would be.
func Compile(from, to string, column, target domain.Column, rt *domain.Runtime) Convert {
	from, to = form(from), form(to)
	if column.Mask != "" {
		return masked(from, column, target, rt)
	}
	f := compile(from, to, column, target)
	if target.Type != usual(from, to, column) {
		f = coerce(f, to, column, target)
	}
	if column.Longest > 0 {
		return limited(from, column, f, rt)
	}
	return f
}

// AsUsual reports whether values of a column go over as a column of their type does where
// nobody has said anything of it: not hidden, not cut, and into the usual type.
func AsUsual(from, to string, column, target domain.Column) bool {
	return column.Mask == "" && column.Longest == 0 && target.Type == usual(from, to, column)
}

// Told is what becomes of a value that a default of a MariaDB source gives, where rows that
// stand on the target can be given the same; nil otherwise.
func (w Mapping) Told(column, target domain.Column, value string, rt *domain.Runtime) *string {
	switch {
	case w.From != MariaDB:
		return nil
	case w.To == MariaDB && target.Default == column.Default && column.Mask == "":
		return &value // the target's default gives it by itself
	case w.To == MariaDB:
		return nil
	}
	out, ok, err := Compile(w.From, w.To, column, target, rt)(nil, []byte(value))
	if !ok || err != nil {
		return nil
	}
	text := string(out)
	return &text
}

func compile(from, to string, column, target domain.Column) Convert {
	switch {
	case from == to && from == MariaDB:
		return mariaText(column)
	case from == Postgres && column.BaseType == "character": // a cast and the log write it unlike
		return unblanked
	case from == to:
		return same
	case isText(target.BaseType) && from == Postgres && column.BaseType != "boolean":
		return same
	case isText(target.BaseType) && plainText(column.BaseType):
		return text
	case from == MariaDB && to == Postgres:
		return mariaToPostgres(column, target)
	case from == Postgres && to == MariaDB:
		return postgresToMaria(column, target)
	}
	return same
}

// isText reports whether a column takes any text.
func isText(base string) bool {
	switch base {
	case "text", "character varying", "varchar", "char", "tinytext", "mediumtext", "longtext":
		return true
	}
	return false
}

// plainText reports whether what MariaDB gives of a type is text as it is.
func plainText(base string) bool {
	switch strings.TrimSuffix(base, " unsigned") {
	case "bit", "float", "double", "year":
		return false
	}
	return !IsBytes(base)
}

// mariaText brings a value to MariaDB's text form.
func mariaText(c domain.Column) Convert {
	switch c.BaseType {
	case "float", "float unsigned":
		return floating(32)
	case "double", "double unsigned":
		return floating(64)
	case "bit":
		n, _ := args(c.Type)
		return bitString(max(n, 1))
	case "year": // 0 as a text would be the year 2000
		return func(dst, v []byte) ([]byte, bool, error) {
			return append(append(dst, "0000"[min(len(v), 4):]...), v...), true, nil
		}
	}
	if IsBytes(c.BaseType) {
		return hexed(0)
	}
	return same
}

// IsBytes reports whether a MariaDB type holds bytes, which have no text of their
// own.
func IsBytes(base string) bool {
	switch base {
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob":
		return true
	}
	return IsGeometry(base)
}

// IsGeometry reports whether a MariaDB type holds shapes.
func IsGeometry(base string) bool {
	switch base {
	case "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
		"geometrycollection":
		return true
	}
	return false
}

func mariaToPostgres(from domain.Column, to domain.Column) Convert {
	zone := ""
	if to.BaseType == "timestamp with time zone" {
		zone = "+00"
	}
	if to.BaseType == "boolean" {
		return yesOrNo
	}
	switch from.BaseType {
	case "tinyint", "tinyint unsigned", "smallint", "smallint unsigned", "mediumint", "mediumint unsigned", "int",
		"int unsigned", "bigint", "bigint unsigned", "year":
		if strings.Contains(from.Type, "zerofill") || from.BaseType == "year" {
			return unpadded
		}
		return same
	case "decimal", "decimal unsigned":
		if strings.Contains(from.Type, "zerofill") {
			return unpadded
		}
		return same
	case "float", "float unsigned":
		return floating(32)
	case "double", "double unsigned":
		return floating(64)
	case "bit":
		n, _ := args(from.Type)
		return bitString(max(n, 1))
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob":
		return hexed(0)
	case "date":
		return dated(to.NotNull, "")
	case "datetime":
		return dated(to.NotNull, zone)
	case "timestamp":
		return dated(to.NotNull, zone)
	case "time":
		return interval
	}
	if IsGeometry(from.BaseType) {
		return hexed(4) // the number of the reference system stands in front
	}
	return text
}

func same(dst, v []byte) ([]byte, bool, error) { return append(dst, v...), true, nil }

// yesOrNo writes what a cast of PostgreSQL's boolean to text gives.
func yesOrNo(dst, v []byte) ([]byte, bool, error) {
	switch string(v) {
	case "0":
		return append(dst, "false"...), true, nil
	case "1":
		return append(dst, "true"...), true, nil
	}
	return dst, false, fmt.Errorf("%q is neither 0 nor 1", v)
}

// text refuses what PostgreSQL cannot keep in a text.
func text(dst, v []byte) ([]byte, bool, error) {
	if i := bytes.IndexByte(v, 0); i >= 0 {
		return dst, false, fmt.Errorf("the text has a NUL byte at place %d, which PostgreSQL cannot keep; change it on the "+
			"source, or carry the column as binary", i+1)
	}
	return append(dst, v...), true, nil
}

func unpadded(dst, v []byte) ([]byte, bool, error) {
	for len(v) > 1 && v[0] == '0' && v[1] != '.' {
		v = v[1:]
	}
	return append(dst, v...), true, nil
}

// floating reads a number from text and writes it as AppendFloat does.
func floating(bits int) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		f, err := strconv.ParseFloat(string(v), bits)
		if err != nil {
			return dst, false, fmt.Errorf("%q is no number", v)
		}
		return AppendFloat(dst, f, bits), true, nil
	}
}

// FloatBits is how wide the floats of a MariaDB column are, where [AppendFloat] of
// them is what the target's column takes; else 0.
func FloatBits(c, target domain.Column) int {
	from, to := strings.TrimSuffix(c.BaseType, " unsigned"), strings.TrimSuffix(target.BaseType, " unsigned")
	switch {
	case from == "float" && (to == "float" && !strings.Contains(target.Type, "(") || to == "real"):
		return 32
	case from == "double" && (to == "double" && !strings.Contains(target.Type, "(") || to == "double precision"):
		return 64
	}
	return 0
}

// AppendFloat writes a float of 32 or 64 bits as PostgreSQL does: the shortest
// digits that give the number back, with an exponent below 1e-4, and from 1e15
// (1e6 for 32 bits) on.
func AppendFloat(dst []byte, f float64, bits int) []byte {
	exponent := 15
	if bits == 32 {
		f, exponent = float64(float32(f)), 6
	}
	if f == 0 {
		if math.Signbit(f) {
			dst = append(dst, '-')
		}
		return append(dst, '0')
	}
	var room [32]byte
	sci := shortest(room[:0], f, bits)
	if sci[0] == '-' {
		dst, sci = append(dst, '-'), sci[1:]
	}
	at := bytes.IndexByte(sci, 'e')
	e, _ := strconv.Atoi(string(sci[at+1:]))
	if e < -4 || e >= exponent {
		return append(dst, sci...)
	}
	digits := sci[:at]
	if at > 1 {
		digits[1] = digits[0] // over the point
		digits = digits[1:]
	}
	switch {
	case e < 0:
		dst = append(dst, "0.0000"[:1-e]...)
		return append(dst, digits...)
	case e+1 >= len(digits):
		dst = append(dst, digits...)
		return append(dst, "000000000000000"[:e+1-len(digits)]...)
	}
	dst = append(append(dst, digits[:e+1]...), '.')
	return append(dst, digits[e+1:]...)
}

// shortest writes the fewest digits that PostgreSQL writes. A decimal that lies
// exactly between two numbers is read as the even one, and would do; PostgreSQL
// wants one that is strictly nearer to the number than to its neighbours. Such a
// decimal of at most 17 digits is a whole number, so only large numbers differ.
func shortest(dst []byte, f float64, bits int) []byte {
	s := strconv.AppendFloat(dst, f, 'e', -1, bits)
	mantissa := 53
	if bits == 32 {
		mantissa = 24
	}
	if math.Abs(f) < float64(uint64(1)<<mantissa) {
		return s
	}
	_, e := math.Frexp(f)
	half := new(big.Float).SetPrec(1200).SetMantExp(big.NewFloat(0.5), e-mantissa) // of the distance to the next number
	for digits := bytes.IndexByte(s, 'e'); ; digits++ {
		d, _, err := big.ParseFloat(string(s), 10, 1200, big.ToNearestEven)
		if err != nil {
			return s
		}
		d.Sub(d, big.NewFloat(f))
		if d.Abs(d).Cmp(half) < 0 || digits > 18 {
			return s
		}
		s = strconv.AppendFloat(dst, f, 'e', digits, 64)
	}
}

func bitString(n int) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		x, err := strconv.ParseUint(string(v), 10, 64)
		if err != nil {
			return dst, false, fmt.Errorf("%q is no bit value", v)
		}
		for i := n - 1; i >= 0; i-- {
			dst = append(dst, '0'+byte(x>>i&1))
		}
		return dst, true, nil
	}
}

func hexed(skip int) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		v = v[min(skip, len(v)):]
		return hex.AppendEncode(append(dst, '\\', 'x'), v), true, nil
	}
}

// dated writes dates and moments: trailing zeros of a fraction go, as
// PostgreSQL writes them. What has a zero month or day is NULL.
func dated(notNull bool, zone string) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		if len(v) < 10 || bytes.HasPrefix(v, []byte("0000")) || string(v[5:7]) == "00" || string(v[8:10]) == "00" {
			if notNull {
				return dst, false, fmt.Errorf("the date %s does not exist on the target, and the column does not take NULL; "+
					"change it on the source, or let the column take NULL", v)
			}
			return dst, false, nil
		}
		return append(append(dst, trimmed(v)...), zone...), true, nil
	}
}

// trimmed takes the trailing zeros of a fraction away, and its point.
func trimmed(v []byte) []byte {
	if bytes.IndexByte(v, '.') < 0 {
		return v
	}
	return bytes.TrimSuffix(bytes.TrimRight(v, "0"), []byte("."))
}

// interval writes a span of time as PostgreSQL does; below zero the sign stands
// in front of the hours.
func interval(dst, v []byte) ([]byte, bool, error) {
	v = trimmed(v)
	if string(v) == "-00:00:00" {
		v = v[1:]
	}
	return append(dst, v...), true, nil
}

// postgresToMaria writes PostgreSQL's texts as MariaDB gives them back.
func postgresToMaria(from, to domain.Column) Convert {
	switch from.BaseType {
	case "real", "double precision":
		return unsignedZero
	case "numeric":
		_, b := args(to.Type)
		return decimal(max(b, 0))
	case "money":
		return amount
	case "boolean":
		return truth
	case "date":
		return calendar(-1)
	case "timestamp without time zone", "timestamp with time zone":
		n, _ := args(to.Type)
		return calendar(max(n, 0))
	case "time without time zone":
		n, _ := args(to.Type)
		return func(dst, v []byte) ([]byte, bool, error) { return padded(dst, v, n), true, nil }
	}
	return same
}

// unblanked takes away what fills a text of fixed width.
func unblanked(dst, v []byte) ([]byte, bool, error) {
	return append(dst, bytes.TrimRight(v, " ")...), true, nil
}

// unsignedZero is for numbers of which the target knows one zero.
func unsignedZero(dst, v []byte) ([]byte, bool, error) {
	if string(v) == "-0" {
		v = v[1:]
	}
	return finite(dst, v)
}

func finite(dst, v []byte) ([]byte, bool, error) {
	switch v[len(v)-1] {
	case 'N', 'y':
		return dst, false, fmt.Errorf("%s is no number there; change it on the source", v)
	}
	return append(dst, v...), true, nil
}

// decimal writes a number with so many digits behind the point.
func decimal(scale int) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		if _, _, err := finite(nil, v); err != nil {
			return dst, false, err
		}
		whole, part, _ := bytes.Cut(v, []byte("."))
		if cut := bytes.TrimRight(part, "0"); len(cut) > scale {
			return dst, false, fmt.Errorf("%s has more than %d digits behind the point, which the target's column does not hold",
				v, scale)
		}
		dst = append(dst, whole...)
		if scale == 0 {
			return dst, true, nil
		}
		dst = append(dst, '.')
		for i := range scale {
			if i < len(part) {
				dst = append(dst, part[i])
			} else {
				dst = append(dst, '0')
			}
		}
		return dst, true, nil
	}
}

func amount(dst, v []byte) ([]byte, bool, error) {
	for _, c := range v {
		if c != '$' && c != ',' {
			dst = append(dst, c)
		}
	}
	return dst, true, nil
}

func truth(dst, v []byte) ([]byte, bool, error) {
	if v[0] == 't' {
		return append(dst, '1'), true, nil
	}
	return append(dst, '0'), true, nil
}

// calendar writes dates and moments, moments with so many digits behind the
// seconds and without a zone, which is UTC.
func calendar(digits int) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		if len(v) < 10 || v[4] != '-' || v[len(v)-1] == 'C' || v[len(v)-1] == 'y' {
			return dst, false, fmt.Errorf("MariaDB has no date %s; change it on the source", v)
		}
		if digits < 0 {
			return append(dst, v...), true, nil
		}
		return padded(dst, bytes.TrimSuffix(v, []byte("+00")), digits), true, nil
	}
}

// padded writes a time with exactly so many digits behind its seconds.
func padded(dst, v []byte, digits int) []byte {
	dst = append(dst, v...)
	have := 0
	if i := bytes.IndexByte(v, '.'); i >= 0 {
		have = len(v) - i - 1
	} else if digits > 0 {
		dst = append(dst, '.')
	}
	for ; have < digits; have++ {
		dst = append(dst, '0')
	}
	return dst
}
