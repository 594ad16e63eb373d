package test

import (
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// TestDamageIsFoundShownAndRepaired damages, removes and adds rows on the target
// behind our back, after a load and capture from a live source.
func TestDamageIsFoundShownAndRepaired(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 20_000); err != nil {
		t.Fatal(err)
	}
	f := start(t)
	app := demo.StartApp(t.Context(), demo.Postgres(p.sourceURL()), 2, 3*time.Millisecond)
	defer app.Stop()
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(256 << 10))}, "saltmarsh.*", "-saltmarsh.apiaries")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	app.Stop() // it would soon remove the very rows of the table without a key that are damaged here
	settle(t, f)
	exec1(t, p.targetURL(), `
SET session_replication_role = replica;
UPDATE saltmarsh.harvest_lots SET lot = 'LOT-7 ' WHERE lot = 'LOT-7';
DELETE FROM saltmarsh.lot_sources WHERE lot_id = 3;
INSERT INTO saltmarsh."Market Stalls" VALUES (900, 'Nowhere');
DELETE FROM saltmarsh.visitor_notes WHERE ctid IN (SELECT ctid FROM saltmarsh.visitor_notes WHERE visitor = 'visitor 1'
  LIMIT 2);
INSERT INTO saltmarsh.visitor_notes VALUES ('2001-01-01', 'ghost', 'boo')`)

	r := f.reconcile(contract.NewReconciliationDepthHashes)
	if r.State != "differing" {
		t.Fatalf("the damage was not found: %+v", r)
	}
	found, err := client.Do[contract.FindingPage](f.API.ListFindingsWithResponse(t.Context(), "spring", r.Id,
		&contract.ListFindingsParams{}))
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]int{}
	for _, x := range found.Findings {
		n := max(x.Copies, 1)
		kinds[x.Table+" "+string(x.Kind)] += n
		if x.Table == "saltmarsh.harvest_lots" {
			if len(x.Columns) != 1 || x.Columns[0] != "lot" || *x.Source["lot"] != "LOT-7" || *x.Target["lot"] != "LOT-7 " {
				t.Errorf("the differing column is not shown with both values: %+v", x)
			}
			if got := strings.Join(x.Order, " "); got != "id lot grade net_kg jars moisture pressed_on best_until" {
				t.Errorf("the columns are not in the table's order: %s", got)
			}
		}
	}
	for what, n := range map[string]int{
		"saltmarsh.harvest_lots differing": 1, "saltmarsh.lot_sources missing on target": 2,
		"saltmarsh.Market Stalls extra on target":   1,
		"saltmarsh.visitor_notes missing on target": 2, "saltmarsh.visitor_notes extra on target": 1,
	} {
		if kinds[what] != n {
			t.Errorf("%s: %d found, want %d (all: %v)", what, kinds[what], n, kinds)
		}
	}
	if _, err := client.Do[contract.Crossing](f.API.RepairWithResponse(t.Context(), "spring", r.Id,
		contract.RepairJSONRequestBody{Findings: []int64{}, Confirm: ptr("spring")})); err != nil {
		t.Fatal(err)
	}
	f.await(30*time.Second, "repaired", func(contract.Crossing) bool {
		left, err := client.Do[contract.FindingPage](f.API.ListFindingsWithResponse(t.Context(), "spring", r.Id,
			&contract.ListFindingsParams{}))
		for _, x := range left.Findings {
			if x.State != "repaired" {
				return false
			}
		}
		return err == nil
	})
	f.await(10*time.Second, "idle", func(c contract.Crossing) bool { return c.Progress.Work == nil })
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.story()
		t.Errorf("after the repair: %+v", r)
	}
}
