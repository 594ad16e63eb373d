package following

import (
	"testing"
	"time"

	"dustyferry/internal/domain"
)

// TestRecentTransactions: the newest come first, those that changed nothing of
// ours are left out, and more than are kept push out the oldest.
func TestRecentTransactions(t *testing.T) {
	name := func(id int64) string { return map[int64]string{1: "s.hives", 2: "s.lots"}[id] }
	var r recent
	if r.take(name) != nil {
		t.Error("something is recent before anything was")
	}
	for i := range 50 {
		r.begin()
		if i%2 == 0 { // the others are heartbeats
			r.change(1, domain.Insert)
			r.change(1, domain.Insert)
			r.change(2, domain.Delete)
			r.change(9, domain.Update) // a table that is not followed
		}
		r.commit(domain.Tx{End: domain.PositionAt(uint64(i)), At: time.Now().UnixMicro()})
	}
	list := r.take(name)
	if len(list) != recentKept-1 {
		t.Fatalf("%d are shown", len(list))
	}
	for i, x := range list {
		if x.Position != domain.PositionAt(uint64(48-2*i)) || x.Kinds != [4]int64{2, 1, 1, 0} || len(x.Tables) != 2 ||
			x.Applied.IsZero() {
			t.Errorf("%d: %+v", i, x)
		}
	}
	if r.take(name) != nil {
		t.Error("nothing has come since, and yet it is told again")
	}
}
