package test

import (
	"fmt"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// TestManyTablesAndChunks opens a crossing of 2,000 tables and 100,000 chunks:
// only what is in sight is drawn, the ledger comes put together, and every table
// and chunk can be reached.
func TestManyTablesAndChunks(t *testing.T) {
	p := newPair(t)
	f := start(t)
	f.cross(p, contract.Settings{}, "*.*")
	if err := demo.Large(t.Context(), f.set.ControlURL, "spring", 2000, 100_000); err != nil {
		t.Fatal(err)
	}
	ctx := browser(t)
	signIn(t, ctx, f.url, f.token)
	shows(t, ctx, "admin, admin")
	visit(t, ctx, f.url+"/crossings/spring")
	shows(t, ctx, "1 234 567 890", "1 held")
	rows := func() float64 { return eval[float64](t, ctx, `document.querySelectorAll('[role=row]').length`) }
	if n := rows(); n > 80 {
		t.Errorf("%v rows are drawn for a list in which ten are in sight", n)
	}
	fits(t, ctx, "a crossing of 2,000 tables")
	axe(t, ctx, "a crossing of 2,000 tables")
	// To the end of the list, and to one by its name.
	eval[bool](t, ctx,
		`(() => { const g = document.querySelector('[role=table]'); g.scrollTop = g.scrollHeight; return true })()`)
	shows(t, ctx, "that_somebody_gave_it_2000")
	if n := rows(); n > 80 {
		t.Errorf("%v rows are drawn at the end of the list", n)
	}
	fill(t, ctx, "Find tables", "قراءات")
	shows(t, ctx, "قراءات_الميزان_1957")
	fill(t, ctx, "Find tables", "")
	fill(t, ctx, "State", "held")
	shows(t, ctx, "gave_it_1000")
	visit(t, ctx, f.url+"/crossings/spring?sort=state")
	shows(t, ctx, "gave_it_1000")

	page, err := client.Do[contract.TablePage](f.API.ListTablesWithResponse(t.Context(), "spring",
		&contract.ListTablesParams{Limit: ptr(1)}))
	if err != nil || page.Total != 2000 || len(page.Tables) != 1 || page.States["held"] != 1 {
		t.Fatalf("%d tables, %v (%v)", page.Total, page.States, err)
	}
	huge := page.Tables[0]
	ledger, err := client.Do[contract.Ledger](f.API.GetLedgerWithResponse(t.Context(), "spring", huge.Id,
		&contract.GetLedgerParams{}))
	if err != nil || ledger.Chunks != 50_000 || len(ledger.Cells) > 1200 {
		t.Fatalf("a ledger of %d chunks in %d cells (%v)", ledger.Chunks, len(ledger.Cells), err)
	}
	sum, next := 0, 1
	for _, c := range ledger.Cells {
		if c.From != next || c.To < c.From {
			t.Fatalf("a cell from %d to %d where %d comes next", c.From, c.To, next)
		}
		sum, next = sum+c.Pending+c.Reading+c.Landed+c.Held, c.To+1
	}
	if sum != 50_000 || ledger.SlowestSeconds != 16 {
		t.Errorf("%d chunks are in the cells, the slowest took %v s", sum, ledger.SlowestSeconds)
	}
	visit(t, ctx, f.url+fmt.Sprintf("/crossings/spring/tables/%d", huge.Id))
	shows(t, ctx, "chunks 1 to 50 000 of 50 000", "slowest 16 s")
	axe(t, ctx, "a ledger of 50,000 chunks")
	press(t, ctx, "Closer")
	shows(t, ctx, "chunks 1 to 5")
	visit(t, ctx, f.url+fmt.Sprintf("/crossings/spring/tables/%d?chunk=4001&range=3900~4100", huge.Id))
	shows(t, ctx, "chunks 3 900 to 4 100", "held", "4001000")

	// Hundreds of crossings are paged, searched and ordered by the service.
	exec1(t, f.set.ControlURL, `
INSERT INTO crossings (uid, name, kind, source_id, target_id, patterns, settings, phase, condition, reason)
SELECT 'many' || n, 'season-' || n, kind, source_id, target_id, patterns, settings, CASE WHEN n % 5 = 0 THEN 'closed'
  ELSE 'draft' END, CASE WHEN n = 77 THEN 'held' ELSE 'running' END,
       CASE WHEN n = 77 THEN 'the honey has set' ELSE '' END
  FROM crossings, generate_series(1, 400) n WHERE name = 'spring'`)
	visit(t, ctx, f.url+"/")
	shows(t, ctx, "401 crossings", "one waits for a person", "the honey has set", "1 to 25 of 401 crossings")
	press(t, ctx, "After")
	shows(t, ctx, "26 to 50 of 401 crossings")
	fill(t, ctx, "Search names", "season-39")
	eventually(t, 20*time.Second, func() bool {
		return eval[float64](t, ctx, `document.querySelectorAll('main li').length`) == 11
	})
	fill(t, ctx, "Search names", "season-%")
	shows(t, ctx, "No crossings match these filters")
	visit(t, ctx, f.url+"/?condition=waiting")
	shows(t, ctx, "season-77")
	axe(t, ctx, "the overview of hundreds")
}
