package following

import (
	"slices"
	"time"

	"dustyferry/internal/domain"
)

// recentKept is how many of the last transactions applied are shown.
const recentKept = 20

// recent remembers the last transactions of a stream that changed followed
// tables, at the cost of two additions a change.
type recent struct {
	ring [recentKept]struct {
		tx      domain.Tx
		applied time.Time
		kinds   [4]int64
		tables  []int64
	}
	next  int // the slot being filled; those before it are the past
	fresh int // committed on the source, not yet on the target
}

// begin clears the slot for a new transaction.
func (r *recent) begin() {
	s := &r.ring[r.next%recentKept]
	s.kinds, s.tables = [4]int64{}, s.tables[:0]
}

func (r *recent) change(table int64, kind domain.ChangeKind) {
	s := &r.ring[r.next%recentKept]
	if i := slices.Index([]domain.ChangeKind{domain.Insert, domain.Update, domain.Delete, domain.Truncate}, kind); i >= 0 {
		s.kinds[i]++
	}
	if n := len(s.tables); (n == 0 || s.tables[n-1] != table) && n < 8 && !slices.Contains(s.tables, table) {
		s.tables = append(s.tables, table)
	}
}

// commit keeps the transaction if it changed anything of ours.
func (r *recent) commit(tx domain.Tx) {
	s := &r.ring[r.next%recentKept]
	if s.kinds == ([4]int64{}) {
		return
	}
	s.tx = tx
	r.next++
	r.fresh = min(r.fresh+1, recentKept-1)
}

// take is called when everything so far is durable on the target: it returns
// the list, newest first, or nil when nothing has come since.
func (r *recent) take(name func(table int64) string) []domain.AppliedTx {
	if r.fresh == 0 {
		return nil
	}
	now := time.Now()
	for i := range r.fresh {
		r.ring[(r.next-1-i)%recentKept].applied = now
	}
	r.fresh = 0
	var out []domain.AppliedTx
	for i := r.next - 1; i >= 0 && i > r.next-recentKept; i-- {
		s := &r.ring[i%recentKept]
		x := domain.AppliedTx{Position: s.tx.End, Committed: time.UnixMicro(s.tx.At).UTC(), Applied: s.applied.UTC(),
			Kinds: s.kinds, Tables: []string{}}
		for _, id := range s.tables {
			if n := name(id); n != "" {
				x.Tables = append(x.Tables, n)
			}
		}
		out = append(out, x)
	}
	return out
}
