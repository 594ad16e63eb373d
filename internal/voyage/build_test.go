package voyage

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"dustyferry/internal/records"
)

// TestWhatIsBuiltAtOnce: a key has its table for itself and comes before the table's
// indexes, which stand beside each other; larger tables come first; foreign keys wait
// for everything.
func TestWhatIsBuiltAtOnce(t *testing.T) {
	var list []*records.Object
	for _, s := range []string{"index a.i1", "primary key a.k", "index a.i2", "foreign b.f", "index b.i3", "primary key b.k", "unique b.u", "foreign a.g"} {
		at := strings.LastIndexByte(s, ' ')
		table, name, _ := strings.Cut(s[at+1:], ".")
		list = append(list, &records.Object{Kind: s[:at], Table: table, Name: name})
	}
	sizes := map[string]int64{"a": 10, "b": 500}
	beside := func(o *records.Object) bool { return o.Kind == "index" }
	for most := 1; most <= 6; most++ {
		q := newBuildQueue(list, sizes, beside)
		var order []string
		for {
			for o := q.next(most); o != nil; o = q.next(most) {
				order = append(order, o.Table+"."+o.Name)
				for _, r := range q.running {
					if r != o && r.Table == o.Table && (!beside(r) || !beside(o)) || r != o && o.Kind == "foreign" {
						t.Errorf("with %d at once, %s %s began beside %s %s", most, o.Kind, o.Name, r.Kind, r.Name)
					}
				}
			}
			if len(q.running) == 0 {
				break
			}
			if len(q.running) > most {
				t.Errorf("%d at once, not %d", len(q.running), most)
			}
			q.ended(q.running[rand.IntN(len(q.running))])
		}
		text := fmt.Sprint(order)
		if len(order) != len(list) || !strings.HasPrefix(text, "[b.k ") || !strings.HasSuffix(order[6]+order[7], "g") && !strings.HasSuffix(order[6]+order[7], "f") ||
			strings.Index(text, "a.k") > strings.Index(text, "a.i1") || strings.Index(text, "b.u") > strings.Index(text, "b.i3") {
			t.Errorf("with %d at once: %v", most, order)
		}
	}
}
