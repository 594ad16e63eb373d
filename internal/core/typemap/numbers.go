package typemap

import (
	"bytes"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"

	"dustyferry/internal/domain"
)

// Limits of MariaDB's decimals (its documentation, "DECIMAL").
const (
	maxDigits   = 65 // of a decimal
	maxFraction = 38 // of them behind the point
)

const noNaN = "negative zero becomes zero; NaN and the infinities do not exist there: a row with one stops the load"

// wholeOf is a type of whole numbers that becomes another one.
func wholeOf(typ string, v Verdict) *mariaType {
	return &mariaType{kind: "integer", limit: ofSpan, value: number,
		neutral: func(domain.Column, int, int) becomes { return becomes{typ, v, ""} }}
}

var mariaNumbers = map[string]*mariaType{
	"tinyint": wholeOf("smallint", Wider), "tinyint unsigned": wholeOf("smallint", Wider),
	"smallint": wholeOf("smallint", Exact), "smallint unsigned": wholeOf("integer", Wider),
	"mediumint": wholeOf("integer", Wider), "mediumint unsigned": wholeOf("integer", Wider),
	"int": wholeOf("integer", Exact), "int unsigned": wholeOf("bigint", Wider),
	"bigint": wholeOf("bigint", Exact),
	"bigint unsigned": {kind: "integer", limit: ofSpan, value: number,
		neutral: func(c domain.Column, _, _ int) becomes {
			if c.Identity != "" { // what the target numbers must be a whole number of its own
				return becomes{"bigint", Lossy, "a number above 9223372036854775807 stops the load"}
			}
			return becomes{"numeric(20,0)", Wider, ""}
		}},
	"decimal": decimals, "decimal unsigned": decimals,
	"float": floats(32, "real"), "float unsigned": floats(32, "real"),
	"double": floats(64, "double precision"), "double unsigned": floats(64, "double precision"),
}

var decimals = &mariaType{kind: "decimal", limit: ofDigits, value: number,
	neutral: func(_ domain.Column, a, b int) becomes {
		return becomes{fmt.Sprintf("numeric(%d,%d)", max(a, 1), max(b, 0)), Exact, ""}
	}}

func floats(bits int, typ string) *mariaType {
	return &mariaType{kind: "float", unlike: true,
		neutral: func(domain.Column, int, int) becomes { return becomes{typ, Exact, ""} },
		value:   func(domain.Column, domain.Column) Convert { return floating(bits) },
		own:     func(domain.Column) Convert { return floating(bits) }}
}

// number is a whole number or a decimal, which may be filled up with zeros.
func number(c, _ domain.Column) Convert {
	if strings.Contains(c.Type, "zerofill") {
		return unpadded
	}
	return same
}

var neutralNumbers = map[string]*neutralType{
	"smallint": wholeThere("smallint"), "integer": wholeThere("int"), "bigint": wholeThere("bigint"),
	"oid": {kind: "integer", there: plainly("int unsigned", Exact, "")},
	"numeric": {kind: "decimal", limit: ofDigits,
		there: func(_ domain.Column, _ place, a, b int) becomes {
			if a > 0 && a <= maxDigits && max(b, 0) <= maxFraction {
				return becomes{fmt.Sprintf("decimal(%d,%d)", a, max(b, 0)), Lossy,
					"NaN does not exist there: a row with it stops the load"}
			}
			return becomes{"decimal(65,30)", Lossy, "a number with more than 35 digits before the point or 30 behind it, " +
				"NaN or an infinity stops the load"}
		},
		value: func(to domain.Column) Convert {
			_, b := args(to.Type)
			return decimal(max(b, 0))
		}},
	"real":             {kind: "float", there: plainly("float", Lossy, noNaN), value: always(unsignedZero)},
	"double precision": {kind: "float", there: plainly("double", Lossy, noNaN), value: always(unsignedZero)},
	"money": {there: plainly("decimal(19,2)", Wider, "kept as a number, without the currency's sign"),
		value: always(amount)},
	"boolean": {there: plainly("tinyint(1)", Wider, "kept as 1 and 0"), value: always(truth)},
}

func wholeThere(typ string) *neutralType {
	return &neutralType{kind: "integer", limit: ofSpan, there: plainly(typ, Exact, "")}
}

// plainly is a type that becomes one other, whatever it is like.
func plainly(typ string, v Verdict, note string) func(domain.Column, place, int, int) becomes {
	return func(domain.Column, place, int, int) becomes { return becomes{typ, v, note} }
}

// always converts in one way, whatever the target's column is like.
func always(f Convert) func(domain.Column) Convert {
	return func(domain.Column) Convert { return f }
}

// ofSpan holds whole numbers to what their type holds.
func ofSpan(c domain.Column) Limit {
	low, high := spanOf(c.BaseType)
	return func(v []byte) error {
		if s := string(v); less(s, low) || less(high, s) {
			return fmt.Errorf("it is not between %s and %s", low, high)
		}
		return nil
	}
}

// ofDigits holds decimals to their number of digits.
func ofDigits(c domain.Column) Limit {
	a, b := args(c.Type)
	if a < 0 {
		return nil
	}
	return func(v []byte) error {
		whole, part, _ := strings.Cut(strings.TrimPrefix(string(v), "-"), ".")
		if n := len(strings.TrimLeft(whole, "0")); n > a-max(b, 0) {
			return fmt.Errorf("it has %d digits before the point, %s holds %d", n, c.Type, a-max(b, 0))
		}
		if n := len(strings.TrimRight(part, "0")); n > max(b, 0) {
			return fmt.Errorf("it has %d digits behind the point, %s holds %d", n, c.Type, max(b, 0))
		}
		return nil
	}
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

// unsignedZero is for numbers of which the target knows one zero.
func unsignedZero(dst, v []byte) ([]byte, bool, error) {
	if string(v) == "-0" {
		v = v[1:]
	}
	return finite(dst, v)
}

func finite(dst, v []byte) ([]byte, bool, error) {
	if err := isFinite(v); err != nil {
		return dst, false, err
	}
	return append(dst, v...), true, nil
}

// isFinite refuses NaN and the infinities.
func isFinite(v []byte) error {
	switch v[len(v)-1] {
	case 'N', 'y':
		return fmt.Errorf("%s is no number there; change it on the source", v)
	}
	return nil
}

// decimal writes a number with so many digits behind the point.
func decimal(scale int) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		if err := isFinite(v); err != nil {
			return dst, false, err
		}
		whole, part := v, []byte(nil)
		if at := bytes.IndexByte(v, '.'); at >= 0 {
			whole, part = v[:at], v[at+1:]
		}
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

// spanOf is the range of a type of whole numbers.
func spanOf(base string) (low, high string) {
	base, unsigned := strings.CutSuffix(base, " unsigned")
	bits := map[string]uint{"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "integer": 32, "bigint": 64}[base]
	if unsigned {
		return "0", fmt.Sprint(^uint64(0) >> (64 - bits))
	}
	return fmt.Sprint(int64(-1) << (bits - 1)), fmt.Sprint(int64(^uint64(0) >> (65 - bits)))
}

// less compares whole numbers of any length.
func less(a, b string) bool {
	na, nb := strings.HasPrefix(a, "-"), strings.HasPrefix(b, "-")
	if na != nb {
		return na
	}
	a, b = strings.TrimLeft(strings.TrimPrefix(a, "-"), "0"), strings.TrimLeft(strings.TrimPrefix(b, "-"), "0")
	if na {
		a, b = b, a
	}
	if len(a) != len(b) {
		return len(a) < len(b)
	}
	return a < b
}
