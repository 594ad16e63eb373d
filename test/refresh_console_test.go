package test

import (
	"fmt"
	"testing"

	"dustyferry/internal/contract"
)

// TestRefreshInTheConsole: a load with a watermark is refreshed from its page of runs, and
// the settings of capture are set in the form.
func TestRefreshInTheConsole(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE SCHEMA saltmarsh; CREATE TABLE saltmarsh.inspections (id integer PRIMARY KEY, mites integer, changed_at timestamptz);
INSERT INTO saltmarsh.inspections SELECT g, g % 9, now() - interval '2 days' FROM generate_series(1, 4000) g; ANALYZE`)
	f := start(t)
	f.register("old-barn", servers.source, p.source)
	f.register("new-barn", servers.target, p.target)
	manifest := "dusty_ferry: 1\ncrossing:\n  name: %s\n  kind: %s\n  source: old-barn\n  target: new-barn\n  tables: [saltmarsh.*]\n%s"
	for _, m := range []string{fmt.Sprintf(manifest, "spring", "load", "  rules: [{tables: saltmarsh.inspections, watermark: changed_at, overlap: 5m}]\n"), fmt.Sprintf(manifest, "autumn", "load+capture", "")} {
		if a := f.cli("crossing", "create", "--file", write(t, m)); a.code != 0 {
			t.Fatal(a.err)
		}
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.sourceURL(), `UPDATE saltmarsh.inspections SET mites = 20, changed_at = now() WHERE id <= 12`)
	ctx := browser(t)
	j := &journey{t: t, ctx: ctx, f: f, p: p}
	signIn(t, ctx, f.url, f.token)
	shows(t, ctx, "spring")
	j.at("/crossings/spring/runs")
	press(t, ctx, "Refresh now")
	shows(t, ctx, "Rows past the watermarks replace those with the same keys")
	press(t, ctx, "Refresh now")
	shows(t, ctx, "rows past the watermarks of 1 table")
	axe(t, ctx, "runs that refresh")
	fits(t, ctx, "runs that refresh")
	j.looked("refresh")
	if n := one[int](t, p.targetURL(), `SELECT count(*)::int FROM saltmarsh.inspections WHERE mites = 20`); n != 12 {
		t.Errorf("%d rows were refreshed", n)
	}
	j.at("/crossings/autumn/plan/settings")
	shows(t, ctx, "Changes of columns on the source", "Log kept by the source, MB")
	fill(t, ctx, "Log kept by the source, MB", "5000")
	fill(t, ctx, "Stop at", "soon")
	press(t, ctx, "Save these settings")
	shows(t, ctx, "a time such as")
	fill(t, ctx, "Stop at", "2036-12-01T02:00:00Z")
	press(t, ctx, "Save these settings")
	axe(t, ctx, "settings of capture")
	fits(t, ctx, "settings of capture")
	j.looked("capture-settings")
}
