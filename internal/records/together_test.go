package records_test

import (
	"fmt"
	"testing"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

// TestNeighboursAreCarriedTogether: a lane takes chunks that follow one another as one,
// no more than leave the others a turn; they land together, and go back one by one.
func TestNeighboursAreCarriedTogether(t *testing.T) {
	s := open(t)
	c, table := loading(t, s, 2, 40)
	ctx := t.Context()
	claim := func(most int) *domain.Chunk {
		t.Helper()
		k, err := s.Claim(ctx, c.ID, "w", domain.BatchHint{Table: table.ID, Most: most})
		if err != nil || k == nil {
			t.Fatalf("%+v, %v", k, err)
		}
		return k
	}
	first := claim(5)
	if first.Run != 5 || first.Lower != nil || first.Upper[0] != "50" {
		t.Errorf("the first five: %+v", first)
	}
	// Of 40 chunks, two lanes leave one another two turns of ten.
	second := claim(1000)
	if second.Run != 10 || second.Lower[0] != "50" || second.Upper[0] != "150" {
		t.Errorf("a part of the rest: %+v", second)
	}
	if k, _ := s.Claim(ctx, c.ID, "w", domain.BatchHint{}); k != nil {
		t.Error("more was claimed than there are lanes")
	}
	if busy, err := s.CarryingNow(ctx, c.ID); err != nil || len(busy) != 2 {
		t.Errorf("%d are shown as being carried (%v)", len(busy), err)
	}
	snap := domain.Snapshot{Xmin: 1, Xmax: 2, Log: domain.PositionAt(500)}
	if err := s.Landed(ctx, first.ID, first.Epoch+1, snap, rowhash.Sum{Rows: 1}); err != nil {
		t.Fatal(err)
	}
	if v, _ := s.View(ctx, c.ID); v.Landed != 0 {
		t.Error("a chunk landed for somebody who does not hold it")
	}
	for range 2 { // twice is once
		if err := s.Landed(ctx, first.ID, first.Epoch, snap, rowhash.Sum{Rows: 50, Bytes: 500, Hash: 7}); err != nil {
			t.Fatal(err)
		}
	}
	states, err := s.ChunkStates(ctx, table.ID, []int{0, 2, 4, 5})
	if err != nil || len(states) != 4 {
		t.Fatal(err)
	}
	rows := int64(0)
	for _, k := range states {
		rows += k.Rows
		want := domain.ChunkLanded
		if k.Ordinal == 5 {
			want = domain.ChunkReading
		}
		if k.State != want || want == domain.ChunkLanded && k.Snapshot.Log != domain.PositionAt(500) {
			t.Errorf("chunk %d: %+v", k.Ordinal, k)
		}
	}
	if v, _ := s.View(ctx, c.ID); v.Landed != 5 || rows != 50 {
		t.Errorf("%d landed, with %d rows", v.Landed, rows)
	}
	// What the second's read sees is known of all its chunks, until they are read anew.
	seen := func() (known []int64) {
		t.Helper()
		states, err := s.ChunkStates(ctx, table.ID, []int{5, 14, 15})
		if err != nil {
			t.Fatal(err)
		}
		for _, k := range states {
			if k.Snapshot.Log == domain.PositionAt(600) {
				known = append(known, int64(k.Ordinal))
			}
		}
		return known
	}
	for _, tell := range []struct {
		epoch int64
		want  string
	}{{second.Epoch + 1, "[]"}, {second.Epoch, "[5 14]"}} {
		if err := s.SetReadSnapshot(ctx, second.ID, tell.epoch, domain.Snapshot{Xmin: 1, Xmax: 2,
			Log: domain.PositionAt(600)}); err != nil ||
			fmt.Sprint(seen()) != tell.want {
			t.Errorf("told under epoch %d: known of chunks %v (%v)", tell.epoch, seen(), err)
		}
	}
	// The second fails: each of its chunks is tried by itself then.
	epoch, err := s.RaiseEpoch(ctx, second.ID, second.Epoch)
	if err != nil {
		t.Fatal(err)
	}
	if mine, err := s.GiveBack(ctx, second, epoch, 0, "a row would not fit", true, ""); err != nil || !mine {
		t.Fatal(err)
	}
	for want := 5; want < 7; want++ {
		k := claim(1000)
		if k.Ordinal != want || k.Run != 1 || k.Attempts != 2 || k.Upper[0] != map[int]string{5: "60", 6: "70"}[want] {
			t.Errorf("after the failure: %+v", k)
		}
	}
	if got := fmt.Sprint(seen()); got != "[14]" {
		t.Errorf("after chunk 5 was claimed anew, a snapshot is known of %s", got)
	}
	// Handed back without fault, they may go together again.
	third, err := s.ChunkStates(ctx, table.ID, []int{15})
	if err != nil || third[0].Attempts != 0 {
		t.Errorf("%+v, %v", third, err)
	}
}
