package fold

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"dustyferry/internal/domain"
)

func bagRow(a string, b int) domain.Row {
	v := domain.Value{Kind: domain.Null}
	if b > 0 {
		v = domain.Value{Kind: domain.Present, Data: fmt.Append(nil, b)}
	}
	return domain.Row{{Kind: domain.Present, Data: []byte(a)}, v}
}

// TestABagIsItsChanges: histories of a table without a key, whose rows are often alike, end
// in the same rows whether they are written one by one or by their net effect, and nothing
// is removed that was not there before.
func TestABagIsItsChanges(t *testing.T) {
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		some := func() domain.Row { return bagRow(string('a'+rune(r.IntN(3))), r.IntN(3)) }
		name := func(row domain.Row) string { return domain.KeyText(row, []int{0, 1}) }
		before, after := map[string]int{}, map[string]int{}
		var there []domain.Row
		for range r.IntN(6) {
			row := some()
			there = append(there, row)
			before[name(row)]++
		}
		var changes []domain.Change
		for range r.IntN(20) {
			at := 0
			if len(there) > 0 {
				at = r.IntN(len(there))
			}
			switch kind := r.IntN(3); {
			case kind == 0 || len(there) == 0:
				row := some()
				there = append(there, row)
				changes = append(changes, domain.Change{Kind: domain.Insert, New: row})
			case kind == 1:
				row := some()
				changes = append(changes, domain.Change{Kind: domain.Update, Old: there[at], New: row})
				there[at] = row
			default:
				changes = append(changes, domain.Change{Kind: domain.Delete, Old: there[at]})
				there = append(there[:at], there[at+1:]...)
			}
		}
		for _, row := range there {
			after[name(row)]++
		}
		b, err := BagOf(changes)
		if err != nil {
			t.Fatal(err)
		}
		seen := map[string]bool{}
		for _, c := range b.Removes {
			k := name(c.Row)
			if before[k] -= c.N; before[k] < 0 || c.N < 1 || seen[k] {
				t.Fatalf("seed %d: %d of %q are removed, %d more than were there", seed, c.N, k, -before[k])
			}
			seen[k] = true
		}
		for _, row := range b.Puts {
			before[name(row)]++
		}
		for k := range before {
			if before[k] != after[k] {
				t.Fatalf("seed %d: %q %d times, want %d", seed, k, before[k], after[k])
			}
		}
		for k := range after {
			if before[k] != after[k] {
				t.Fatalf("seed %d: %q %d times, want %d", seed, k, before[k], after[k])
			}
		}
	}
}

// TestARowThatWasNotThereIsStillSought: a row that was changed into itself must have been
// there, which only looking for it tells; nothing and an empty text are two things.
func TestARowThatWasNotThereIsStillSought(t *testing.T) {
	same := bagRow("a", 1)
	b, _ := BagOf([]domain.Change{{Kind: domain.Update, Old: same, New: same}, {Kind: domain.Update, Old: same,
		New: same}})
	if len(b.Removes) != 1 || b.Removes[0].N != 1 || len(b.Puts) != 1 {
		t.Errorf("%+v", b)
	}
	nothing := domain.Row{{Kind: domain.Null}, {Kind: domain.Present}}
	empty := domain.Row{{Kind: domain.Present}, {Kind: domain.Null}}
	b, _ = BagOf([]domain.Change{{Kind: domain.Insert, New: nothing}, {Kind: domain.Delete, Old: empty}})
	if len(b.Puts) != 1 || len(b.Removes) != 1 {
		t.Errorf("%+v", b)
	}
	if _, err := BagOf([]domain.Change{{Kind: domain.Truncate}}); err == nil {
		t.Error("a table that was emptied was taken for a row")
	}
}
