package rowhash_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"dustyferry/internal/core/rowhash"
)

func TestSumsDoNotDependOnOrderOrParts(t *testing.T) {
	var rows [][]byte
	for i := range 500 {
		rows = append(rows, fmt.Append(nil, "hive ", i))
	}
	var whole, a, b rowhash.Sum
	for _, r := range rows {
		whole.Add(r)
	}
	rand.Shuffle(len(rows), func(i, j int) { rows[i], rows[j] = rows[j], rows[i] })
	for i, r := range rows {
		if i%3 == 0 {
			a.Add(r)
		} else {
			b.Add(r)
		}
	}
	a.Merge(b)
	if a != whole {
		t.Errorf("%+v, want %+v", a, whole)
	}
}

// What an exclusive or, a plain sum of values or a count alone would miss.
func TestSumsTellNearlyEqualSetsApart(t *testing.T) {
	sum := func(rows ...string) rowhash.Sum {
		var s rowhash.Sum
		for _, r := range rows {
			s.Add([]byte(r))
		}
		return s
	}
	for name, pair := range map[string][2]rowhash.Sum{
		"a pair of duplicates instead of another": {sum("a", "a", "c"), sum("b", "b", "c")},
		"values swapped between two rows":         {sum("1|x", "2|y"), sum("1|y", "2|x")},
		"a row twice instead of two rows":         {sum("a", "b"), sum("a", "a")},
		"a space at the end":                      {sum("oak"), sum("oak ")},
		"an empty row against none":               {sum("a", ""), sum("a")},
	} {
		if pair[0].SameAs(pair[1]) {
			t.Errorf("%s is not told apart", name)
		}
	}
	if !sum("a", "b").SameAs(sum("b", "a")) {
		t.Error("order does not matter")
	}
}

func BenchmarkSum(b *testing.B) {
	row := make([]byte, 205)
	b.Run("hash and sum", func(b *testing.B) {
		b.SetBytes(int64(len(row)))
		var s rowhash.Sum
		for b.Loop() {
			s.Add(row)
		}
	})
	b.Run("limit: copy", func(b *testing.B) {
		to := make([]byte, len(row))
		b.SetBytes(int64(len(row)))
		for b.Loop() {
			copy(to, row)
		}
	})
}
