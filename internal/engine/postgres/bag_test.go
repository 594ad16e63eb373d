package postgres

import (
	"fmt"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// TestManyRowsWithoutAKey: rows of a table without a key are changed by the thousand in one
// transaction, each as often as the source has changed it, whatever types they have.
func TestManyRowsWithoutAKey(t *testing.T) {
	d := fresh(t, bookkeepingTables, `CREATE TABLE public.bag (v text, n double precision, c char(6), j json, b bytea,
  d numeric(12,2), a text[])`,
		`INSERT INTO public.bag SELECT CASE WHEN i % 7 > 0 THEN 'lot "' || i / 2 || '", (' END, CASE
  WHEN i % 2 = 0 THEN 0.1 END, 'x', '{"a":  1}', '\x00ff', i / 2, ARRAY['a,b', NULL] FROM generate_series(0, 19999) i`)
	if _, err := d.TakeStream(t.Context(), "x", 1, domain.PositionAt(100)); err != nil {
		t.Fatal(err)
	}
	bag := planned(t, d, "public.bag")
	of := func(i int, v string) domain.Row {
		n := "~"
		if i%2 == 0 {
			n = "0.1"
		}
		if i%7 == 0 {
			v = "~"
		}
		return row(v, n, "x", `{"a":  1}`, `\x00ff`, fmt.Sprintf("%d.00", i/2), `{"a,b",NULL}`)
	}
	was := func(i int) domain.Row { return of(i, fmt.Sprintf(`lot "%d", (`, i/2)) }
	var changes []domain.Change
	after, left, sum := 0, 0, 0
	for i := range 20_000 {
		if i >= 6000 || i%3 > 0 {
			left, sum = left+1, sum+i/2
		}
		if i < 6000 && i%3 == 1 && i%7 > 0 {
			after++
		}
		switch {
		case i >= 6000:
		case i%3 == 0:
			changes = append(changes, domain.Change{Kind: domain.Delete, Old: was(i)})
		case i%3 == 1: // twice, so that what was put is removed again
			changes = append(changes, domain.Change{Kind: domain.Update, Old: was(i), New: of(i, "between")},
				domain.Change{Kind: domain.Update, Old: of(i, "between"), New: of(i, "after")})
		}
	}
	want := fmt.Sprintf("%d after, %d in all, sum %d", after, left, sum)
	began := time.Now()
	if err := applyAll(t, d, 1, domain.PositionAt(200), func(a engine.Applier) error {
		return a.ApplyWhole(t.Context(), bag, changes)
	}); err != nil {
		t.Fatal(err)
	}
	t.Logf("%d changes in %s", len(changes), time.Since(began))
	if got := value[string](t, d,
		`SELECT count(*) FILTER (WHERE v = 'after') || ' after, ' || count(*) || ' in all, sum ' || sum(d)::bigint
  FROM public.bag`); got != want {
		t.Errorf("%s, want %s", got, want)
	}
	// One more of a kind than is there, among many that are: nothing is taken for done.
	var more []domain.Change
	for i := 6000; i < 6100; i++ {
		more = append(more, domain.Change{Kind: domain.Delete, Old: was(i)})
	}
	more = append(more, domain.Change{Kind: domain.Delete, Old: was(6002)})
	if err := applyAll(t, d, 1, domain.PositionAt(300), func(a engine.Applier) error {
		return a.ApplyWhole(t.Context(), bag, more)
	}); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("a row that is not there was removed in silence: %v", err)
	}
	if n := value[int](t, d, `SELECT count(*)::int FROM public.bag`); n != left {
		t.Errorf("%d rows after what was refused", n)
	}
}
