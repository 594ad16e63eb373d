package voyage

import (
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

// TestRecentTransactions: the newest come first, those that changed nothing of
// ours are left out, and more than are kept push out the oldest.
func TestRecentTransactions(t *testing.T) {
	set := &tableSet{tables: map[int64]*followed{1: {row: &records.Table{SourceName: "s.hives"}}, 2: {row: &records.Table{SourceName: "s.lots"}}}}
	var r recent
	if r.take(set) != nil {
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
		r.commit(domain.Tx{End: domain.Position(i), At: time.Now().UnixMicro()})
	}
	list := r.take(set)
	if len(list) != recentKept-1 {
		t.Fatalf("%d are shown", len(list))
	}
	for i, x := range list {
		if x.Position != domain.Position(48-2*i) || x.Kinds != [4]int64{2, 1, 1, 0} || len(x.Tables) != 2 || x.Applied.IsZero() {
			t.Errorf("%d: %+v", i, x)
		}
	}
	if r.take(set) != nil {
		t.Error("nothing has come since, and yet it is told again")
	}
}
