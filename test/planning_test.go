package test

import (
	"database/sql"
	"testing"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// TestPlanningInTheConsole plans the cooperative's move from MariaDB: what becomes
// of each column, a fit check that finds what cannot be, and a plan that holds it.
func TestPlanningInTheConsole(t *testing.T) {
	p := newPair(t)
	m := mariaDB(t)
	if err := demo.FillMariaDB(t.Context(), m.DSN(""), "thyme", 20_000); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", m.DSN("saltmarsh"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Close() })
	maria(t, db, "SET STATEMENT sql_mode = '' FOR UPDATE keepers SET joined = '0000-00-00' WHERE id = 7",
		"SET STATEMENT sql_mode = '' FOR UPDATE harvest_lots SET pressed_on = '2026-00-00' WHERE id IN (3, 4)")
	f := start(t)
	f.registerMaria("old-barn", "saltmarsh", db, sourceRights("saltmarsh")...)
	f.register("new-barn", servers.target, p.target)
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old-barn", Target: "new-barn"})); err != nil {
		t.Fatal(err)
	}
	ctx := browser(t)
	j := &journey{t: t, ctx: ctx, f: f, p: p}
	signIn(t, ctx, f.url, f.token)
	shows(t, ctx, "spring")
	j.at("/crossings/spring/plan/survey")
	shows(t, ctx, "Nobody has looked at the data yet")
	press(t, ctx, "Check the data")
	shows(t, ctx, "1 value would stop the load", "Blockers (1)", "0000-00-00", "plan the column as text",
		"it becomes NULL")
	j.looked("fit-check")

	j.at("/crossings/spring/plan?table=saltmarsh.keepers")
	shows(t, ctx, "Plan of saltmarsh.keepers", "lossy", "kept as its values with commas between them")
	press(t, ctx, "Edit plan")
	fill(t, ctx, "Type of joined on the target", "text")
	fill(t, ctx, "Name of name on the target", "full_name")
	fill(t, ctx, "Table name on the target", "members")
	eval[bool](t, ctx, `(() => { document.querySelector('[aria-label="Leave portrait out"]').click(); return true })()`)
	axe(t, ctx, "planning a table otherwise")
	press(t, ctx, "Save")
	shows(t, ctx, "saltmarsh.members", "planned by a rule", "full_name", "a rule leaves it out",
		"Rules, of which a later one wins", "index keepers_email")
	j.looked("planned-otherwise")
	j.at("/crossings/spring/plan/survey")
	shows(t, ctx, "Nobody has looked at the data yet") // the old one no longer counts
	press(t, ctx, "Check the data")
	shows(t, ctx, "No value would stop the load, but some are lost")
	press(t, ctx, "Survey both sides")
	shows(t, ctx, "2 values of pressed_on", "joined: date becomes text; planned by a rule")
	j.at("/crossings/spring/plan?table=saltmarsh.keepers")
	press(t, ctx, "Remove")
	shows(t, ctx, "saltmarsh.keepers", "lossy")
}

// TestQueriesInTheConsole plans a load with a query, a mask and statements, sees the
// rows as they will arrive, mends a statement that fails, and copies the plan.
func TestQueriesInTheConsole(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 20_000); err != nil {
		t.Fatal(err)
	}
	f := start(t)
	f.register("old-barn", servers.source, p.source)
	f.register("new-barn", servers.target, p.target)
	load := contract.Load
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "report", Source: "old-barn", Target: "new-barn", Kind: &load,
			Tables: &[]string{"saltmarsh.keepers", "saltmarsh.apiaries"}})); err != nil {
		t.Fatal(err)
	}
	ctx := browser(t)
	j := &journey{t: t, ctx: ctx, f: f, p: p}
	signIn(t, ctx, f.url, f.token)
	shows(t, ctx, "report")
	j.at("/crossings/report/plan/beside")
	shows(t, ctx, "No query is planned")
	press(t, ctx, "Add a query")
	fill(t, ctx, "Table that its rows become", "saltmarsh.heaviest")
	press(t, ctx, "Add a key column")
	fill(t, ctx, "Key column 1", "apiary")
	fill(t, ctx, "SELECT, in the source’s SQL", "SELECT apiary, count(*) AS readings, max(weight_kg) AS most\n  FROM "+
		"saltmarsh.scale_readings\n WHERE read_at >= :since GROUP BY apiary")
	press(t, ctx, "Add a parameter")
	fill(t, ctx, "Name", "since")
	fill(t, ctx, "Value", "today - 50 years")
	press(t, ctx, "Add a statement after the load")
	fill(t, ctx, "Statement after the load, 1", "ANALYZE saltmarsh.heaviest")
	press(t, ctx, "Add a statement after the load")
	fill(t, ctx, "Statement after the load, 2", "COMMENT ON TABLE saltmarsh.heavy IS 'for the annual report'")
	axe(t, ctx, "queries and statements")
	press(t, ctx, "Save")
	shows(t, ctx, "Its plan and first rows")
	j.looked("queries")
	j.at("/crossings/report/plan?table=saltmarsh.keepers")
	shows(t, ctx, "Plan of saltmarsh.keepers", "And the rows of queries")
	press(t, ctx, "Edit plan")
	fill(t, ctx, "Key that masks email", "people")
	fill(t, ctx, "One more column", "region")
	fill(t, ctx, "… with this value in every row", "marsh")
	axe(t, ctx, "masks and added columns")
	press(t, ctx, "Save")
	shows(t, ctx, "masked by the key people", "region is always “marsh”")
	press(t, ctx, "Look at 20 rows")
	shows(t, ctx, "as they will arrive", "region", "marsh")
	j.looked("as-they-will-arrive")
	eval[bool](t, ctx, `(() => { document.querySelectorAll('details').forEach(d => { d.open = true }); return true })()`)
	press(t, ctx, "Write table by hand")
	fill(t, ctx, "Statement of table", `CREATE TABLE "saltmarsh"."keepers" ("id" integer PRIMARY KEY)`)
	press(t, ctx, "Save")
	shows(t, ctx, "table is made by hand")
	eval[bool](t, ctx, `(() => { document.querySelectorAll('details').forEach(d => { d.open = true }); return true })()`)
	press(t, ctx, "As planned again")
	j.at("/crossings/report/plan?table=saltmarsh.heaviest")
	press(t, ctx, "Look at 20 rows")
	shows(t, ctx, "Plan of saltmarsh.heaviest", "most", "Key apiary")
	if a := f.cli("crossing", "start", "report"); a.code != 0 {
		t.Fatal(a.err)
	}
	j.at("/crossings/report/plan/objects")
	shows(t, ctx, "Objects on new-barn", "failed", "does not exist")
	axe(t, ctx, "what is made")
	j.looked("what-is-made")
	fill(t, ctx, "Statement after 2", "COMMENT ON TABLE saltmarsh.heaviest IS 'for the annual report'")
	press(t, ctx, "Save")
	shows(t, ctx, "waiting")
	if a := f.cli("crossing", "resume", "report"); a.code != 0 {
		t.Fatal(a.err)
	}
	eventually(t, 20e9, func() bool {
		return one[string](t, p.targetURL(),
			"SELECT coalesce(obj_description('saltmarsh.heaviest'::regclass), '')") == "for the annual report"
	})
	if n := one[int](t, p.targetURL(), "SELECT count(*) FROM saltmarsh.keepers WHERE region = 'marsh' AND email ~ "+
		"'^[0-9a-f]{32}$'"); n == 0 {
		t.Error("no keeper was masked")
	}
	j.at("/crossings/report/plan/settings")
	fill(t, ctx, "Its name", "report-2")
	press(t, ctx, "Copy the plan")
	shows(t, ctx, "report-2", "And the rows of queries")
}
