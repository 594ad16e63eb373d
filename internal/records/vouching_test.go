package records_test

import (
	"errors"
	"maps"
	"slices"
	"testing"

	"dustyferry/internal/core/proof"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

// TestVouching: rounds are due where changes are followed and what they touch is known; what they
// find stays together until it is mended.
func TestVouching(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	c, table := loading(t, s, 1, 1)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	k, err := s.Claim(ctx, c.ID, "w", domain.BatchHint{})
	must(err)
	must(s.Landed(ctx, k.ID, k.Epoch, domain.Snapshot{Log: domain.PositionAt(100)}, rowhash.Sum{Rows: 1}))
	stream, err := s.ClaimStream(ctx, "w", nil)
	must(err)
	if stream == nil {
		t.Fatal("there is no stream")
	}
	_, err = s.SetPhase(ctx, c.ID, domain.PhaseLoading, domain.PhaseInStep)
	must(err)
	due := func() bool {
		t.Helper()
		list, err := s.VouchDue(ctx)
		must(err)
		return slices.Contains(list, c.ID)
	}
	back := func() {
		t.Helper()
		_, err := s.DB.ExecContext(ctx, `UPDATE streams SET round_at = now() - interval '61 s', reported_at = now()`)
		must(err)
	}
	back()
	if due() {
		t.Error("a round is due, and nobody knows what was touched")
	}
	if err := s.SetTouchedFrom(ctx, c.ID, stream.Epoch-1, domain.PositionAt(5)); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("an old holder said what is known: %v", err)
	}
	for _, x := range []struct{ say, want uint64 }{{150, 150}, {170, 150}, {0, 0}, {180, 180}} {
		must(s.SetTouchedFrom(ctx, c.ID, stream.Epoch, domain.PositionAt(x.say)))
		if v, err := s.Vouching(ctx, c.ID); err != nil || v.From != domain.PositionAt(x.want) {
			t.Errorf("after %d it is known from %+v (%v)", x.say, v, err)
		}
	}
	if !due() {
		t.Error("no round is due after a minute")
	}
	_, err = s.DB.ExecContext(ctx, `UPDATE streams SET lag_seconds = 3000`)
	must(err)
	if due() {
		t.Error("a round is due while changes wait")
	}
	_, err = s.DB.ExecContext(ctx, `UPDATE streams SET lag_seconds = 0`)
	must(err)
	must(s.VouchLater(ctx, c.ID))
	if due() {
		t.Error("a round is due that was put off")
	}
	if v, err := s.Vouching(ctx, c.ID); err != nil || v.At != nil {
		t.Errorf("a round that came to nothing was one at %v (%v)", v.At, err)
	}
	// A comparison of before what is known proves nothing, a later one does, unless something is open.
	whole := func() bool {
		t.Helper()
		list, err := s.ComparedWhole(ctx, c.ID)
		must(err)
		return list[table.ID]
	}
	compared := func(at uint64, findings int64) {
		t.Helper()
		id, err := s.AddComparison(ctx, c.ID, domain.DepthHashes)
		must(err)
		_, err = s.BeginReconciliation(ctx, id, domain.PositionAt(at), []int64{table.ID})
		must(err)
		must(s.SaveReconciledTable(ctx, domain.ReconciledTable{ReconciliationID: id, TableID: table.ID, State: "done",
			Findings: findings}))
		must(s.EndReconciliation(ctx, id, domain.ComparisonClean, ""))
	}
	for _, x := range []struct {
		at       uint64
		findings int64
		proves   bool
	}{{179, 0, false}, {180, 0, true}, {190, 1, false}, {200, 0, true}} {
		if compared(x.at, x.findings); whole() != x.proves {
			t.Errorf("compared at %d with %d findings: it proves %t", x.at, x.findings, !x.proves)
		}
	}
	found := func(rows int64, keys ...string) int64 {
		t.Helper()
		var list []domain.Finding
		for _, k := range keys {
			list = append(list, domain.Finding{Kind: domain.Differing, Key: domain.KeyValue{k}})
		}
		m := map[int64][]domain.Finding{}
		if len(list) > 0 {
			m[table.ID] = list
		}
		id, err := s.KeepVouched(ctx, c.ID, domain.PositionAt(300), rows, m)
		must(err)
		return id
	}
	if id := found(10); id != 0 {
		t.Errorf("nothing was found, and is kept as %d", id)
	}
	first := found(5, "7", "8")
	if again := found(5, "8", "9"); again != first {
		t.Errorf("what is open is kept apart: %d and %d", first, again)
	}
	kept, _, err := s.CountFindings(ctx, first, domain.FindingFilter{})
	must(err)
	v, err := s.Vouching(ctx, c.ID)
	must(err)
	if kept != 3 || v.Rows != 20 || v.To != domain.PositionAt(300) || v.At == nil {
		t.Errorf("%d are kept; %+v", kept, v)
	}
	list, err := s.Findings(ctx, first, domain.FindingFilter{Limit: 10})
	must(err)
	for _, f := range list {
		must(s.SetFindings(ctx, []int64{f.ID}, "equal"))
	}
	if id := found(1, "7"); id == first {
		t.Error("what is mended is kept with what is open")
	}
	compareds, err := s.Compared(ctx, c.ID)
	must(err)
	if !slices.ContainsFunc(compareds, func(x proof.Compared) bool {
		return x.Depth == domain.DepthVouched &&
			x.Open == 1
	}) {
		t.Errorf("what vouching found is not among what was compared: %+v", compareds)
	}
}

// TestAComparisonGoesOnWhereItWas: tables that were done stay so with what was found of them, at the place
// of the first beginning; what had not come to its end begins anew.
func TestAComparisonGoesOnWhereItWas(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	c, table := loading(t, s, 4, 2)
	id, err := s.AddComparison(ctx, c.ID, domain.DepthHashes)
	if err != nil {
		t.Fatal(err)
	}
	begin := func(at uint64, want map[int64]int64) {
		t.Helper()
		done, err := s.BeginReconciliation(ctx, id, domain.PositionAt(at), []int64{table.ID})
		if err != nil || !maps.Equal(done, want) {
			t.Errorf("done are %v, %v, not %v", done, err, want)
		}
		list, err := s.ReconciledTables(ctx, id)
		if err != nil || len(list) != 1 {
			t.Errorf("%+v, %v", list, err)
		}
	}
	at := func() uint64 {
		t.Helper()
		r, err := s.Reconciliation(ctx, c.ID, id)
		if err != nil {
			t.Fatal(err)
		}
		return r.Position.Number()
	}
	found := []domain.Finding{{Kind: domain.Differing, Key: []string{"1"}}}
	begin(100, nil)
	if err := s.AddFindings(ctx, id, table.ID, found); err != nil { // and the process dies
		t.Fatal(err)
	}
	begin(200, nil)
	if at() != 200 {
		t.Errorf("at %d", at())
	}
	if err := s.AddFindings(ctx, id, table.ID, found); err != nil {
		t.Fatal(err)
	}
	if err := s.SaveReconciledTable(ctx, domain.ReconciledTable{ReconciliationID: id, TableID: table.ID, State: "done",
		Findings: 1}); err != nil {
		t.Fatal(err)
	}
	begin(300, map[int64]int64{table.ID: 1})
	var n int
	if err := s.DB.Get(&n, `SELECT count(*) FROM findings WHERE reconciliation_id = $1`, id); err != nil || n != 1 ||
		at() != 200 {
		t.Errorf("%d findings at %d, %v", n, at(), err)
	}
}
