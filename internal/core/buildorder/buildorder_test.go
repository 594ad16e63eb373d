package buildorder_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/core/buildorder"
)

// sizes are those of the tables' rows.
var sizes = map[string]int64{"a": 10, "b": 500}

func of(s string) buildorder.Object {
	kind, name, _ := strings.Cut(s, " ")
	table, _, _ := strings.Cut(name, ".")
	return buildorder.Object{Table: table, Foreign: kind == "foreign", Beside: kind == "index", Size: sizes[table]}
}

// TestWhatIsBuiltAtOnce: a key has its table for itself and comes before the table's indexes,
// which stand beside each other; larger tables come first; foreign keys wait for everything.
func TestWhatIsBuiltAtOnce(t *testing.T) {
	list := []string{"index a.i1", "primary a.k", "index a.i2", "foreign b.f", "index b.i3", "primary b.k", "unique b.u",
		"foreign a.g"}
	for most := 1; most <= 6; most++ {
		q := buildorder.New(list, of)
		var order []string
		for {
			for s, ok := q.Next(most); ok; s, ok = q.Next(most) {
				order = append(order, s)
				for _, r := range q.Running() {
					x, y := of(r), of(s)
					if r != s && (x.Table == y.Table && !(x.Beside && y.Beside) || y.Foreign) {
						t.Errorf("with %d at once, %s began beside %s", most, s, r)
					}
				}
			}
			running := q.Running()
			if len(running) == 0 {
				break
			}
			if len(running) > most {
				t.Errorf("%d at once, not %d", len(running), most)
			}
			ends := running[rand.IntN(len(running))]
			q.Ended(func(s string) bool { return s == ends })
		}
		at := func(s string) int { return slices.Index(order, s) }
		if len(order) != len(list) || order[0] != "primary b.k" || at("primary a.k") > at("index a.i1") ||
			at("unique b.u") > at("index b.i3") ||
			!of(order[6]).Foreign || !of(order[7]).Foreign {
			t.Errorf("with %d at once: %v", most, order)
		}
	}
}

// TestNothingIsForgotten: whatever is to be made is made once, whoever ends first.
func TestNothingIsForgotten(t *testing.T) {
	for seed := range uint64(500) {
		rng := rand.New(rand.NewPCG(seed, 3))
		var list []string
		for n := range rng.IntN(20) {
			list = append(list, fmt.Sprintf("%s %s.%d", []string{"index", "index", "unique", "foreign"}[rng.IntN(4)],
				[]string{"a", "b", "c"}[rng.IntN(3)], n))
		}
		q, most := buildorder.New(list, of), 1+rng.IntN(4)
		var order []string
		for {
			if s, ok := q.Next(most); ok {
				order = append(order, s)
				continue
			}
			running := q.Running()
			if len(running) == 0 {
				break
			}
			ends := running[rng.IntN(len(running))]
			q.Ended(func(s string) bool { return s == ends })
		}
		slices.Sort(order)
		slices.Sort(list)
		if !slices.Equal(order, list) {
			t.Fatalf("seed %d: of %v came %v", seed, list, order)
		}
	}
}
