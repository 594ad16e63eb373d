package test

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// TestRunsInTheConsole: a load whose target refuses some rows, run again by a schedule,
// with another system that is told; all of it steered and seen on the pages.
func TestRunsInTheConsole(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 20_000); err != nil {
		t.Fatal(err)
	}
	exec1(t, p.sourceURL(), "CREATE TABLE saltmarsh.sheds (id integer PRIMARY KEY, roof text)")
	exec1(t, p.targetURL(), "CREATE SCHEMA saltmarsh; CREATE TABLE saltmarsh.sheds (id integer PRIMARY KEY, roof text "+
		"CHECK (roof <> 'tin'))")
	exec1(t, p.sourceURL(), "INSERT INTO saltmarsh.sheds SELECT g, CASE WHEN g IN (17, 40) THEN 'tin' ELSE 'reed' END "+
		"FROM generate_series(1, 60) g; ANALYZE")
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusOK)
	}))
	defer hook.Close()
	f := start(t)
	f.register("old-barn", servers.source, p.source)
	f.register("new-barn", servers.target, p.target)
	if a := f.cli("crossing", "create", "spring", "--follow-changes=false", "--source", "old-barn", "--target", "new-barn",
		"--table", "saltmarsh.*", "--bad-rows", "set aside"); a.code != 0 {
		t.Fatal(a.err)
	}
	ctx := browser(t)
	j := &journey{t: t, ctx: ctx, f: f, p: p}
	signIn(t, ctx, f.url, f.token)
	shows(t, ctx, "spring")
	j.at("/settings")
	shows(t, ctx, "No other system is told yet")
	fill(t, ctx, "Name", "pager")
	fill(t, ctx, "Address", hook.URL)
	fill(t, ctx, "Secret", "too short")
	press(t, ctx, "Add it")
	shows(t, ctx, "give at least 16")
	fill(t, ctx, "Secret", "reeds and sea lavender")
	press(t, ctx, "Add it")
	shows(t, ctx, "all events")
	axe(t, ctx, "webhooks")
	j.looked("webhooks")

	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	j.at("/crossings/spring")
	shows(t, ctx, "2 rejected rows, which the target could not take", "sheds_roof_check", "roof tin")
	axe(t, ctx, "rejected rows")
	fits(t, ctx, "rejected rows")
	j.looked("rejected-rows")
	j.at("/crossings/spring/runs")
	shows(t, ctx, "Runs of the load", "None: it starts by a person")
	fill(t, ctx, "Load anew by", "0 2 * *")
	press(t, ctx, "Schedule it")
	fill(t, ctx, "Type new-barn to confirm", "new-barn")
	press(t, ctx, "Schedule it")
	shows(t, ctx, "write five fields")
	press(t, ctx, "Cancel")
	fill(t, ctx, "Load anew by", "0 2 * * *")
	press(t, ctx, "Schedule it")
	fill(t, ctx, "Type new-barn to confirm", "new-barn")
	press(t, ctx, "Schedule it")
	shows(t, ctx, "by the clock of", "set by admin")
	exec1(t, f.set.ControlURL, "UPDATE schedules SET next_at = now()")
	shows(t, ctx, "its schedule")
	f.awaitPhase(contract.PhaseInStep)
	shows(t, ctx, "done")
	axe(t, ctx, "runs")
	fits(t, ctx, "runs")
	j.looked("runs")

	j.at("/crossings/spring")
	shows(t, ctx, "Add a table")
	eval[bool](t, ctx,
		`(() => { [...document.querySelectorAll('summary')].find((s) => s.innerText === 'Add a table').click(); return true })()`)
	fill(t, ctx, "Table of the source", "saltmarsh.queens")
	press(t, ctx, "Add it")
	shows(t, ctx, "the source has no table saltmarsh.queens")
}
