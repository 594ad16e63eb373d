package following

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
)

// TestWhatIsTouchedIsKeptWithIt: the keys of every row that a transaction of the target writes are
// kept in it; of what cannot be named, that the table was touched.
func TestWhatIsTouchedIsKeptWithIt(t *testing.T) {
	for name, c := range map[string]struct {
		do   func(*brook)
		want []string
		not  string
	}{
		"rows with a key": {nil, []string{"room for what is touched", `touched to 25: marsh.lots 3 ["1" "2" "7"]`,
			`touched to 25: marsh.hives 1 ["5"]` + "\ncommit 25"}, ""},
		"a table without one": {func(b *brook) { b.tables[0].Plan.Key = nil }, []string{"touched to 25: marsh.lots 0 []",
			`marsh.hives 1 ["5"]`}, ""},
		"rows that a condition chooses": {func(b *brook) { b.tables[0].Plan.Where = "honey > ''" },
			[]string{"touched to 25: marsh.lots 0 []"}, ""},
		"it is not wanted": {func(b *brook) { b.c.Settings.VouchEvery = 0 }, []string{"commit 25"}, "touched"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBrook(domain.KindCapture)
			if c.do != nil {
				c.do(b)
			}
			b.flows(t, 4, func() {
				b.logs(domain.PositionAt(20), insert(1, "1", "clover"), insert(2, "5", "old"),
					domain.Change{Kind: domain.Delete, Table: 1, Old: row("2", "heath")},
					domain.Change{Kind: domain.Update, Table: 1, Old: row("1", ""), New: row("7", "lime")})
			})
			writes := b.all(&b.writes)
			for _, want := range c.want {
				if !strings.Contains(writes, want) {
					t.Errorf("no %q in\n%s", want, writes)
				}
			}
			if c.not != "" && strings.Contains(writes, c.not) {
				t.Errorf("%q in\n%s", c.not, writes)
			}
			from := map[bool]string{true: "known from 5 on", false: "known from 0 on"}[b.c.Settings.VouchEvery > 0]
			if said := b.all(&b.said); !strings.Contains(said, from) {
				t.Errorf("said %s", said)
			}
		})
	}
	// What a large transaction touches is written before its end is known, and placed at it.
	b := newBrook(domain.KindCapture)
	b.flows(t, 4, func() {
		var list []domain.Change
		for i := range 5 {
			list = append(list, insert(1, fmt.Sprint(i)+strings.Repeat("x", 1<<20), "clover"))
		}
		b.logs(domain.PositionAt(20), list...)
	})
	far, end := "touched to "+fmt.Sprint(domain.FarAway)+": marsh.lots 5", "placed at 25\ncommit 25"
	if writes := b.all(&b.writes); !strings.Contains(writes, far) || !strings.Contains(writes, end) {
		t.Errorf("a large transaction wrote\n%s", writes)
	}
	if d := domain.DefaultSettings().VouchEvery; d != time.Minute {
		t.Errorf("rounds are made every %s", d)
	}
}
