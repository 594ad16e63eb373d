package voyage

import (
	"context"
	"testing"
	"time"

	"golang.org/x/time/rate"

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

// TestTheBrakeFollowsTheSetting: a crossing's lanes share one brake, whose speed
// changes while they hold it.
func TestTheBrakeFollowsTheSetting(t *testing.T) {
	v := &Voyage{}
	l := v.limiter(1, 5<<20)
	if v.limiter(1, 5<<20) != l || v.limiter(2, 5<<20) == l {
		t.Error("the brake is not the crossing's own")
	}
	if v.limiter(1, 0); l.Limit() != rate.Inf {
		t.Errorf("without a limit it still brakes: %v", l.Limit())
	}
	if v.limiter(1, 1000); l.Limit() != 1000 || l.Burst() < 1<<20 {
		t.Errorf("limit %v, burst %d", l.Limit(), l.Burst())
	}
}

// TestLiftingALimitEndsTheWait: a block that waits under a tiny limit goes on as
// soon as the limit is lifted, not when its turn under the old one would have come.
func TestLiftingALimitEndsTheWait(t *testing.T) {
	v := &Voyage{}
	l := v.limiter(1, 1000)
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	begun, ended := make(chan bool), make(chan error, 1)
	go func() {
		close(begun)
		ended <- brake(ctx, l, 3<<20) // the better part of an hour
	}()
	<-begun
	for l.Tokens() > 0 { // until it waits
		time.Sleep(time.Millisecond)
	}
	v.limiter(1, 0)
	if err := <-ended; err != nil {
		t.Error(err)
	}
}
