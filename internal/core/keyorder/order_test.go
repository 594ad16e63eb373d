package keyorder_test

import (
	"testing"

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
		{"numbers compare as numbers", []string{"bigint"}, []domain.KeyValue{{"9"}, {"10"}, {"100"}}, domain.KeyValue{"99"}, 2, true},
		{"a bound belongs to the chunk it opens", []string{"integer"}, []domain.KeyValue{{"10"}}, domain.KeyValue{"10"}, 1, true},
		{"below every bound", []string{"integer"}, []domain.KeyValue{{"-5"}}, domain.KeyValue{"-6"}, 0, true},
		{"composite keys go column by column", []string{"integer", "text"}, []domain.KeyValue{{"1", "m"}, {"2", "a"}}, domain.KeyValue{"1", "z"}, 1, true},
		{"byte order, not alphabet", []string{"text"}, []domain.KeyValue{{"Z"}, {"a"}}, domain.KeyValue{"_"}, 1, true},
		{"a fraction is later than the full second", []string{"timestamp with time zone"}, []domain.KeyValue{{"2026-01-01 00:00:00.5+00"}}, domain.KeyValue{"2026-01-01 00:00:00+00"}, 0, true},
		{"infinity is last", []string{"timestamp without time zone"}, []domain.KeyValue{{"2026-01-01 00:00:00"}}, domain.KeyValue{"infinity"}, 1, true},
		{"a year before our era is not ours to decide", []string{"date"}, []domain.KeyValue{{"2026-01-01"}}, domain.KeyValue{"0044-03-15 BC"}, 0, false},
		{"a year of five digits is not ours to decide", []string{"date"}, []domain.KeyValue{{"2026-01-01"}}, domain.KeyValue{"12026-01-01"}, 0, false},
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
