package pgvalue_test

import (
	"bytes"
	"encoding/binary"
	"math/big"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/protocol/pgvalue"
)

// TestDays holds the count of days against the standard library, over all days of a
// thousand years and at both ends, and refuses days that no calendar has.
func TestDays(t *testing.T) {
	origin := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, from := range []time.Time{time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(1500, 1, 1, 0, 0, 0, 0, time.UTC),
		time.Date(9900, 1, 1, 0, 0, 0, 0, time.UTC)} {
		for i := range 365_000 {
			day := from.AddDate(0, 0, i)
			if day.Year() > 9999 {
				break
			}
			y, m, d := day.Date()
			if n, ok := pgvalue.Day(y, int(m), d); !ok || int64(n) != (day.Unix()-origin.Unix())/86400 {
				t.Fatalf("%s is day %d (%t)", day.Format(time.DateOnly), n, ok)
			}
		}
	}
	for _, d := range [][3]int{{2025, 2, 29}, {1900, 2, 29}, {2024, 2, 30}, {2025, 4, 31}, {2025, 13, 1}, {2025, 0, 1},
		{2025, 1, 0}, {0, 1, 1}, {10000, 1, 1}, {2025, 1, 32}} {
		if n, ok := pgvalue.Day(d[0], d[1], d[2]); ok {
			t.Errorf("%v is day %d", d, n)
		}
	}
}

// TestWhatIsRefused asks for values that a type does not have.
func TestWhatIsRefused(t *testing.T) {
	for base, values := range map[string][]string{
		"boolean": {"", "1", "yes"}, "bytea": {"", "ff", `\xf`, `\xgg`}, "smallint": {"32768", "-32769", "", "1.0"},
		"integer": {"2147483648"}, "bigint": {"9223372036854775808", "x"},
		"real": {"honey"}, "double precision": {""}, "numeric": {"", "-", ".", "1.", ".5", "1e5", "NaN", "1.2.3", "--1"},
		"date": {"2025-02-30", "0000-00-00", "2025-1-1", "2025-01-01 ", "", "20x5-01-01"}, "timestamp without time zone": {
			"2025-01-01", "2025-01-01 24:00:00", "2025-01-01 10:60:00", "2025-01-01T10:00:00", "2025-01-01 10:00:00.1234567",
			"2025-01-01 10:00:00+01"},
		"interval": {"", "1 day", "10:00", "10:00:61", "10:00:00.", "--10:00:00", ":00:00"}, "bit": {"102"},
		"uuid": {"", "6ba7b8109dad11d180b400c04fd430c8", "6ba7b810-9dad-11d1-80b4-00c04fd430cg"},
	} {
		for _, v := range values {
			if got, err := pgvalue.Encoder(base)(nil, []byte(v)); err == nil {
				t.Errorf("%s took %q as %x", base, v, got)
			}
		}
	}
	if _, err := pgvalue.Whole(nil, 1<<31, 4); err == nil {
		t.Error("four bytes took five")
	}
	if pgvalue.OID("xml") != 0 || pgvalue.Encoder("xml") != nil || !pgvalue.IsText("json") || pgvalue.IsText("uuid") {
		t.Error("types are taken for others")
	}
}

// FuzzNumeric reads numbers back, digit by digit, from what was written.
func FuzzNumeric(f *testing.F) {
	for _, v := range []string{"0", "-12.500", "10000", "0.00001", "123456789012345678901234567890.000000000000000000001",
		"00012.3400"} {
		f.Add(v)
	}
	f.Fuzz(func(t *testing.T, v string) {
		b, err := pgvalue.Numeric(nil, []byte(v))
		if err != nil {
			return
		}
		groups, weight, scale := int(binary.BigEndian.Uint16(b)), int(int16(binary.BigEndian.Uint16(b[2:]))),
			int(binary.BigEndian.Uint16(b[6:]))
		if len(b) != 8+2*groups || groups > 0 && (b[8] == 0 && b[9] == 0 || bytes.Equal(b[len(b)-2:], []byte{0, 0})) {
			t.Fatalf("%q: %x is not in its shortest form", v, b)
		}
		got, base := new(big.Rat), big.NewRat(10000, 1)
		for i := range groups {
			g := big.NewRat(int64(binary.BigEndian.Uint16(b[8+2*i:])), 1)
			for range max(weight-i, 0) {
				g.Mul(g, base)
			}
			for range max(i-weight, 0) {
				g.Quo(g, base)
			}
			got.Add(got, g)
		}
		if b[4] == 0x40 {
			got.Neg(got)
		}
		want, ok := new(big.Rat).SetString(v)
		_, fraction, _ := strings.Cut(v, ".")
		if !ok || want.Cmp(got) != 0 || scale != len(fraction) {
			t.Fatalf("%q came back as %s with %d digits behind the point", v, got, scale)
		}
	})
}

// BenchmarkNumeric writes a weight; beside it the limit, its text only copied.
func BenchmarkNumeric(b *testing.B) {
	v := []byte("12345.678")
	var dst []byte
	b.Run("ours", func(b *testing.B) {
		for b.Loop() {
			dst, _ = pgvalue.Numeric(dst[:0], v)
		}
	})
	b.Run("limit: copy", func(b *testing.B) {
		for b.Loop() {
			dst = append(dst[:0], v...)
		}
	})
}
