package test

import (
	"database/sql"
	"testing"

	"dustyferry/internal/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// TestPlanningInTheConsole plans the cooperative's move from MariaDB: what becomes
// of each column, a fit check that finds what cannot be, and a plan that holds it.
func TestPlanningInTheConsole(t *testing.T) {
	p := newPair(t)
	m := mariaDB(t)
	if err := demo.FillMariaDB(t.Context(), m.DSN(""), 20_000); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", m.DSN("saltmarsh"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Close() })
	maria(t, db, "SET STATEMENT sql_mode = '' FOR UPDATE keepers SET joined = '0000-00-00' WHERE id = 7", "SET STATEMENT sql_mode = '' FOR UPDATE harvest_lots SET pressed_on = '2026-00-00' WHERE id IN (3, 4)")
	f := start(t)
	f.registerMaria("old-barn", "saltmarsh", db, sourceRights("saltmarsh")...)
	f.register("new-barn", servers.target, p.target)
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(), contract.NewCrossing{Name: "spring", Source: "old-barn", Target: "new-barn"})); err != nil {
		t.Fatal(err)
	}
	ctx := browser(t)
	j := &journey{t: t, ctx: ctx, f: f, p: p}
	signIn(t, ctx, f.url, f.token)
	shows(t, ctx, "spring")
	j.at("/crossings/spring/plan/survey")
	shows(t, ctx, "Nobody has looked at the data yet")
	press(t, ctx, "Check the data")
	shows(t, ctx, "1 value would stop the load", "Blocks (1)", "0000-00-00", "plan the column as text", "it becomes NULL")
	j.looked("fit-check")

	j.at("/crossings/spring/plan?table=saltmarsh.keepers")
	shows(t, ctx, "Plan of saltmarsh.keepers", "lossy", "kept as its values with commas between them")
	press(t, ctx, "Plan it otherwise")
	fill(t, ctx, "Type of joined on the target", "text")
	fill(t, ctx, "Name of name on the target", "full_name")
	fill(t, ctx, "Table name on the target", "members")
	eval[bool](t, ctx, `(() => { document.querySelector('[aria-label="Leave portrait out"]').click(); return true })()`)
	axe(t, ctx, "planning a table otherwise")
	press(t, ctx, "Keep this plan")
	shows(t, ctx, "saltmarsh.members", "planned by a rule", "full_name", "a rule leaves it out", "Rules, of which a later one wins", "index keepers_email")
	j.looked("planned-otherwise")
	j.at("/crossings/spring/plan/survey")
	shows(t, ctx, "Nobody has looked at the data yet") // the old one no longer counts
	press(t, ctx, "Check the data")
	shows(t, ctx, "No value would stop the load, but some are lost")
	press(t, ctx, "Survey both sides")
	shows(t, ctx, "2 values of pressed_on", "joined: date becomes text; planned by a rule")
	j.at("/crossings/spring/plan?table=saltmarsh.keepers")
	press(t, ctx, "Take it away")
	shows(t, ctx, "saltmarsh.keepers", "lossy")
}
