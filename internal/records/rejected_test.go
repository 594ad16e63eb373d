package records_test

import (
	"testing"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

// TestRejectedRowsStay: who lost a chunk cannot add to what was set aside for it,
// who claims it begins anew, and the limit counts all chunks of the table.
func TestRejectedRowsStay(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 3, 3)
	ctx := t.Context()
	claim := func() *domain.Chunk {
		t.Helper()
		k, err := s.Claim(ctx, c.ID, "w", domain.BatchHint{})
		if err != nil || k == nil {
			t.Fatal(k, err)
		}
		return k
	}
	row := func(key string) domain.BadRow {
		return domain.BadRow{Key: domain.KeyValue{key}, Row: map[string]*string{"roof": nil}, Column: "roof",
			Error: "it leaks"}
	}
	set := func(k *domain.Chunk, epoch int64, limit int, keys ...string) bool {
		t.Helper()
		var rows []domain.BadRow
		for _, key := range keys {
			rows = append(rows, row(key))
		}
		ok, err := s.KeepRejected(ctx, k.ID, epoch, rows, limit)
		if err != nil {
			t.Fatal(err)
		}
		return ok
	}
	total := func() int {
		t.Helper()
		_, n, err := s.RejectedRows(ctx, c.ID, "", false, 0, 10)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	a, b := claim(), claim()
	if !set(a, a.Epoch, 3, "1", "2") || !set(a, a.Epoch, 3, "1") || total() != 1 {
		t.Errorf("a second try replaces what the first kept: %d rows", total())
	}
	if set(b, b.Epoch, 3, "11", "12", "13") || total() != 1 {
		t.Errorf("beyond the limit: %d rows", total())
	}
	if !set(b, b.Epoch, 3, "11", "12") || total() != 3 {
		t.Errorf("up to the limit: %d rows", total())
	}
	if err := s.Landed(ctx, a.ID, a.Epoch, domain.Snapshot{Log: domain.PositionAt(1)}, rowhash.Sum{}); err != nil {
		t.Fatal(err)
	}
	for _, epoch := range []int64{a.Epoch, a.Epoch - 1} {
		if set(a, epoch, 10, "7") {
			t.Error("a chunk that has landed got more rejected rows")
		}
	}
	// What a try left behind that did not land is tried again, whoever claims the chunk.
	epoch, err := s.RaiseEpoch(ctx, b.ID, b.Epoch)
	if err != nil {
		t.Fatal(err)
	}
	if mine, err := s.GiveBack(ctx, b, epoch, 0, "", false, ""); err != nil || !mine || total() != 3 {
		t.Errorf("given back: %d rows, %v", total(), err)
	}
	if k := claim(); k.ID != b.ID || k.Attempts != 1 || total() != 1 {
		t.Errorf("claimed anew: %+v, %d rows", k, total())
	}
	if set(b, b.Epoch, 10, "12") {
		t.Error("who lost a chunk set rows of it aside")
	}
}
