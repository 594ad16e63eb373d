package records_test

import (
	"fmt"
	"slices"
	"testing"

	"dustyferry/internal/core/chunkplan"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
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

// TestSmallTablesAreClaimedTogether: the only chunks of small tables take up one lane, keep their
// lease while the first does, land at once, and go back one by one.
func TestSmallTablesAreClaimedTogether(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	c, _ := loading(t, s, 2, 1)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	// Twelve small tables; one that is large, one of two chunks, and one in the order of the disk.
	var plans []domain.TablePlan
	for i := range 15 {
		p := domain.TablePlan{Source: domain.TableName{Schema: "a", Name: fmt.Sprint("t", i)}}
		p.Target, p.Table.Bytes = p.Source, 8192
		switch i {
		case 0:
			p.Table.Bytes = 10 << 20
		case 2:
			p.ReadOrder = domain.ByDisk
		}
		plans = append(plans, p)
	}
	must(s.SavePlans(ctx, &c, plans))
	tables, err := s.Tables(ctx, c.ID)
	must(err)
	var cuts []domain.CutTable
	for i := range tables {
		var bounds []domain.KeyValue
		if tables[i].SourceName == "a.t1" {
			bounds = []domain.KeyValue{{"10"}}
		}
		cuts = append(cuts, domain.CutTable{Table: &tables[i], Chunks: chunkplan.Chunks(bounds)})
	}
	must(s.SaveChunks(ctx, cuts...))
	claim := func() *domain.Chunk {
		t.Helper()
		k, err := s.Claim(ctx, c.ID, "w", domain.BatchHint{Small: 50})
		if err != nil || k == nil {
			t.Fatalf("%+v, %v", k, err)
		}
		return k
	}
	snap := domain.Snapshot{Xmin: 1, Xmax: 2, Log: domain.PositionAt(500)}
	var first *domain.Chunk
	for alone := 0; first == nil; {
		k := claim()
		if len(k.Others) > 0 {
			if first = k; alone != 4 {
				t.Errorf("%d chunks were claimed alone", alone)
			}
			break
		}
		alone++
		must(s.Landed(ctx, k.ID, k.Epoch, snap, rowhash.Sum{Rows: 1}))
	}
	if len(first.Others) != 2 { // of twelve, two lanes leave one another two turns of three
		t.Fatalf("%d beside it", len(first.Others))
	}
	second := claim()
	if k, err := s.Claim(ctx, c.ID, "w", domain.BatchHint{Small: 50}); err != nil || k != nil {
		t.Errorf("two lanes are in use, and another was given %+v, %v", k, err)
	}
	if busy, err := s.CarryingNow(ctx, c.ID); err != nil || len(busy) != 2 {
		t.Errorf("%d are shown as being carried (%v)", len(busy), err)
	}
	list := func(k *domain.Chunk) (out []domain.Landing) {
		for _, x := range append([]domain.Chunk{*k}, k.Others...) {
			out = append(out, domain.Landing{ID: x.ID, Epoch: x.Epoch, Rows: 5, Bytes: 50, Hash: 7})
		}
		return out
	}
	must(s.SetReadSnapshots(ctx, list(first), snap))
	// The lease of all is that of the first.
	lapse(t, s, first.ID)
	for _, o := range first.Others {
		lapse(t, s, o.ID)
	}
	if _, mine, err := s.RenewChunk(ctx, first.ID, first.Epoch); err != nil || !mine {
		t.Fatal(mine, err)
	}
	if lost, err := s.Lost(ctx); err != nil || len(lost) != 0 {
		t.Errorf("%d were lost that are held (%v)", len(lost), err)
	}
	// One of them is taken back: it lands for nobody who held it before, the others do, once.
	taken := first.Others[0]
	if e, err := s.RaiseEpoch(ctx, taken.ID, taken.Epoch); err != nil || e != taken.Epoch+1 {
		t.Fatal(e, err)
	}
	for range 2 {
		must(s.LandedTogether(ctx, list(first), snap))
	}
	if v, err := s.View(ctx, c.ID); err != nil || v.Landed != 4+2 {
		t.Errorf("%d have landed (%v)", v.Landed, err)
	}
	if mine, err := s.GiveBack(ctx, &taken, taken.Epoch+1, 0, "no luck", true, ""); err != nil || !mine {
		t.Fatal(mine, err)
	}
	must(s.LandedTogether(ctx, list(second), snap))
	// What has been tried is carried alone.
	for {
		k := claim()
		if k.ID == taken.ID && len(k.Others) > 0 || slices.ContainsFunc(k.Others, func(o domain.Chunk) bool {
			return o.ID == taken.ID
		}) {
			t.Error("a chunk that failed is carried with others again")
		}
		if k.ID == taken.ID {
			return
		}
		must(s.LandedTogether(ctx, list(k), snap))
	}
}

// lapse has the lease of a chunk run out.
func lapse(t *testing.T, s *records.Store, chunk int64) {
	t.Helper()
	if _, err := s.DB.ExecContext(t.Context(), `UPDATE chunks SET lease_until = now() - interval '1 s' WHERE id = $1`,
		chunk); err != nil {
		t.Fatal(err)
	}
}
