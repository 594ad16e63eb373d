package load

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

// tables is a crossing of so many small tables of ten rows.
func tables(n int) (*Loader, *ledger, *pair) {
	l, b, s := scene()
	b.small, b.waiting = true, nil
	for i := range int64(n) {
		b.waiting = append(b.waiting, &domain.Chunk{ID: i + 1, TableID: 100 + i, Run: 1,
			Lower: domain.KeyValue{fmt.Sprint(i * 10)}, Upper: domain.KeyValue{fmt.Sprint(i*10 + 10)}})
	}
	return l, b, s
}

// allLanded says what is wrong unless each of n tables landed once.
func allLanded(b *ledger, s *pair, n int) string {
	rows := slices.Sorted(slices.Values(s.rows))
	if len(b.landed) != n || len(rows) != 10*n || len(slices.Compact(rows)) != 10*n || s.open != 0 {
		return fmt.Sprintf("%d landed, %d rows, %d connections are open, given back %q", len(b.landed), len(s.rows), s.open,
			b.back)
	}
	for id, sum := range b.landed {
		if sum.Rows != 10 || sum.Hash == 0 {
			return fmt.Sprintf("table %d landed with %+v", id, sum)
		}
	}
	return ""
}

// TestSmallTablesAreCarriedTogether: eight at first, more when it is known that they take no time.
func TestSmallTablesAreCarriedTogether(t *testing.T) {
	l, b, s := tables(60)
	if err := l.Run(t.Context(), 1, 4); err != nil {
		t.Fatal(err)
	}
	if wrong := allLanded(b, s, 60); wrong != "" || len(b.back) > 0 || b.seen != 60 {
		t.Errorf("%s; given back %q; the snapshot of %d is known", wrong, b.back, b.seen)
	}
	if !slices.Equal(b.together, []int{8, 32, 20}) {
		t.Errorf("landed together: %v", b.together)
	}
}

// TestOneSmallTableFailsAlone: what is wrong with one is no other's matter, and nothing lands twice.
func TestOneSmallTableFailsAlone(t *testing.T) {
	for name, c := range map[string]struct {
		do   func(s *pair)
		n    int
		said string
	}{
		"rows are refused": {func(s *pair) { s.refused = bad("33") }, 19,
			"held hive.jars: chunk 1 of hive.jars (id from 30 to below 40): 1 row cannot land"},
		"the commit fails": {func(s *pair) { s.landing = errors.New("a constraint that was deferred") }, 20,
			"failed (try 1 of 3) and will be tried again: a constraint that was deferred"},
		"one is taken over":  {func(s *pair) { s.lost = 5 }, 19, ""},
		"the last is, first": {func(s *pair) { s.lost = 8 }, 19, ""},
	} {
		t.Run(name, func(t *testing.T) {
			l, b, s := tables(20)
			c.do(s)
			if err := l.Run(t.Context(), 1, 4); err != nil {
				t.Fatal(err)
			}
			if wrong := allLanded(b, s, c.n); wrong != "" {
				t.Error(wrong)
			}
			if said := strings.Join(b.said, "; "); !strings.Contains(said, c.said) {
				t.Errorf("said %q, want %q", said, c.said)
			}
		})
	}
	l, b, s := tables(20)
	s.panics = true
	if err := l.Run(t.Context(), 1, 4); err != nil || len(b.landed) != 0 || s.open != 0 {
		t.Errorf("our own code fails: %v, landed %v, %d connections open", err, b.landed, s.open)
	}
}
