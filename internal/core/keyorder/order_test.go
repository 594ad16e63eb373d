package keyorder_test

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"testing"
	"time"

	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/domain"
)

func cols(types ...string) []domain.Column {
	var out []domain.Column
	for _, t := range types {
		out = append(out, domain.Column{BaseType: t, ByteOrder: true})
	}
	return out
}

func TestLocate(t *testing.T) {
	for _, c := range []struct {
		name   string
		types  []string
		bounds []domain.KeyValue
		key    domain.KeyValue
		want   int
		known  bool
	}{
		{"numbers compare as numbers", []string{"bigint"}, []domain.KeyValue{{"9"}, {"10"}, {"100"}}, domain.KeyValue{"99"},
			2, true},
		{"a bound belongs to the chunk it opens", []string{"integer"}, []domain.KeyValue{{"10"}}, domain.KeyValue{"10"}, 1,
			true},
		{"below every bound", []string{"integer"}, []domain.KeyValue{{"-5"}}, domain.KeyValue{"-6"}, 0, true},
		{"composite keys go column by column", []string{"integer", "text"}, []domain.KeyValue{{"1", "m"}, {"2", "a"}},
			domain.KeyValue{"1", "z"}, 1, true},
		{"byte order, not alphabet", []string{"text"}, []domain.KeyValue{{"Z"}, {"a"}}, domain.KeyValue{"_"}, 1, true},
		{"a fraction is later than the full second", []string{"timestamp with time zone"},
			[]domain.KeyValue{{"2026-01-01 00:00:00.5+00"}}, domain.KeyValue{"2026-01-01 00:00:00+00"}, 0, true},
		{"infinity is last", []string{"timestamp without time zone"}, []domain.KeyValue{{"2026-01-01 00:00:00"}},
			domain.KeyValue{"infinity"}, 1, true},
		{"a boolean of the log, among bounds that were cast to text", []string{"boolean", "bigint"},
			[]domain.KeyValue{{"false", "5"}, {"false", "9"}, {"true", "5"}}, domain.KeyValue{"f", "7"}, 1, true},
		{"and one that is true", []string{"boolean", "bigint"},
			[]domain.KeyValue{{"false", "5"}, {"true", "3"}, {"true", "5"}}, domain.KeyValue{"t", "4"}, 2, true},
		{"what is neither true nor false is not ours to decide", []string{"boolean"}, []domain.KeyValue{{"true"}},
			domain.KeyValue{"1"}, 0, false},
		{"a year before our era is not ours to decide", []string{"date"}, []domain.KeyValue{{"2026-01-01"}},
			domain.KeyValue{"0044-03-15 BC"}, 0, false},
		{"a year of five digits is not ours to decide", []string{"date"}, []domain.KeyValue{{"2026-01-01"}},
			domain.KeyValue{"12026-01-01"}, 0, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			o, _ := keyorder.New(cols(c.types...))
			got, known := o.Locate(c.bounds, c.key)
			if known != c.known || known && got != c.want {
				t.Errorf("chunk %d (known %t), want %d (known %t)", got, known, c.want, c.known)
			}
		})
	}
}

func TestOnlyProvableOrders(t *testing.T) {
	for _, c := range []struct {
		col domain.Column
		ok  bool
	}{
		{domain.Column{BaseType: "bigint"}, true},
		{domain.Column{BaseType: "text"}, false},
		{domain.Column{BaseType: "text", ByteOrder: true}, true},
		{domain.Column{BaseType: "numeric"}, false},
		{domain.Column{BaseType: "saltmarsh.colour"}, false},
		{domain.Column{BaseType: "character", ByteOrder: true}, false},
	} {
		if _, ok := keyorder.New([]domain.Column{c.col}); ok != c.ok {
			t.Errorf("%+v: ours to decide %t, want %t", c.col, ok, c.ok)
		}
	}
}

// TestWholeNumbersOfAnySize holds the order of whole numbers, of eight bytes with and
// without a sign, against that of big ones.
func TestWholeNumbersOfAnySize(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 11))
	values := []string{"0", "-1", "1", "9223372036854775807", "9223372036854775808", "-9223372036854775808",
		"18446744073709551615"}
	for range 60 {
		values = append(values, fmt.Sprint(r.Uint64()), fmt.Sprint(-int64(r.Uint64()>>1)), fmt.Sprint(r.IntN(100)-50))
	}
	o, ok := keyorder.New(cols("bigint unsigned"))
	if !ok || !keyorder.Whole(cols("bigint unsigned", "int")) || keyorder.Whole(cols("bigint", "text")) ||
		keyorder.Whole(nil) {
		t.Error("whole numbers are not known as such")
	}
	for _, a := range values {
		for _, b := range values {
			x, _ := new(big.Int).SetString(a, 10)
			y, _ := new(big.Int).SetString(b, 10)
			if got, known := o.Compare(domain.KeyValue{a}, domain.KeyValue{b}); !known || got != x.Cmp(y) {
				t.Errorf("%s beside %s: %d (known %t)", a, b, got, known)
			}
		}
	}
	for _, v := range []string{"", "x", "1.5", "18446744073709551616"} {
		if _, known := o.Compare(domain.KeyValue{"1"}, domain.KeyValue{v}); known {
			t.Errorf("%q was compared as a number", v)
		}
	}
}

// TestMoments holds the order of moments against the calendar's, and leaves alone what is
// not written in UTC.
func TestMoments(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	o, _ := keyorder.New(cols("timestamp with time zone"))
	moment := func() time.Time {
		return time.Date(2020+r.IntN(3), 1, 1, 0, 0, r.IntN(3), r.IntN(3)*r.IntN(1000)*1_000_000, time.UTC)
	}
	form := func(m time.Time) domain.KeyValue { return domain.KeyValue{m.Format("2006-01-02 15:04:05.999999-07")} }
	for range 2000 {
		a, b := moment(), moment()
		if got, known := o.Compare(form(a), form(b)); !known || got != a.Compare(b) {
			t.Fatalf("%s beside %s: %d (known %t)", form(a), form(b), got, known)
		}
	}
	now := form(moment())
	for v, want := range map[string]int{"-infinity": 1, "infinity": -1} {
		if got, known := o.Compare(now, domain.KeyValue{v}); !known || got != want && got != 2*want {
			t.Errorf("beside %s: %d (known %t)", v, got, known)
		}
	}
	if got, known := o.Compare(domain.KeyValue{"infinity"}, domain.KeyValue{"infinity"}); !known || got != 0 {
		t.Errorf("infinity beside itself: %d (known %t)", got, known)
	}
	for _, v := range []string{"2026-01-01 10:00:00+01", "10:00:00", ""} {
		if _, known := o.Compare(now, domain.KeyValue{v}); known {
			t.Errorf("%q was compared as a moment in UTC", v)
		}
	}
}
