package touched

import (
	"fmt"
	"slices"
	"testing"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/domain"
)

// TestKeysComeBack: what is packed is unpacked, of any values.
func TestKeysComeBack(t *testing.T) {
	var r Rows
	var want []string
	for i := range 5000 {
		k := domain.KeyValue{fmt.Sprint(i), []string{"", "\x00", "wild \\ thyme", "蜂"}[i%4]}
		if i%2 == 0 {
			r.Add(k)
		} else {
			r.AddRow(domain.Row{{}, {Kind: domain.Present, Data: []byte(k[1])}, {Kind: domain.Present, Data: []byte(k[0])}},
				[]int{2, 1})
		}
		want = append(want, narrow.JoinKey(k))
	}
	if r.Len() != 5000 || r.Whole() {
		t.Errorf("%d, whole %t", r.Len(), r.Whole())
	}
	packed, err := r.Pack()
	if err != nil || len(packed) > 40_000 {
		t.Fatalf("%d bytes, %v", len(packed), err)
	}
	var got []string
	if err := Unpack(packed, 2, func(k string) { got = append(got, k) }); err != nil || !slices.Equal(got, want) {
		t.Errorf("%d of %d came back (%v)", len(got), len(want), err)
	}
	if r.Len() != 0 {
		t.Error("it did not begin anew")
	}
	r.AddTable()
	if !r.Whole() {
		t.Error("a table that was touched whole was not")
	}
}

// TestBrokenListsAreErrors: none is taken for a shorter list.
func TestBrokenListsAreErrors(t *testing.T) {
	var r Rows
	r.Add(domain.KeyValue{"7", "linden"})
	packed, err := r.Pack()
	if err != nil {
		t.Fatal(err)
	}
	for name, bad := range map[string]struct {
		packed  []byte
		columns int
	}{
		"cut":              {packed[:len(packed)-3], 2},
		"not packed":       {[]byte("honey"), 2},
		"of other columns": {packed, 3},
		"of no column":     {packed, 0},
		"empty":            {nil, 2},
	} {
		if err := Unpack(bad.packed, bad.columns, func(string) {}); err == nil {
			t.Errorf("a list that is %s was read", name)
		}
	}
}

func FuzzUnpack(f *testing.F) {
	var r Rows
	r.Add(domain.KeyValue{"7", "linden"})
	packed, _ := r.Pack()
	f.Add(packed, 2)
	f.Fuzz(func(t *testing.T, b []byte, columns int) { _ = Unpack(b, min(max(columns, 0), 32), func(string) {}) })
}
