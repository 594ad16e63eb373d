package test

import (
	"fmt"
	"testing"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestRefreshInTheConsole: a load with a watermark is refreshed from its page of runs, and
// the settings of capture are set in the form; one that copies no rows says from where it begins.
func TestRefreshInTheConsole(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE SCHEMA saltmarsh; CREATE TABLE saltmarsh.inspections (id integer PRIMARY KEY,
  mites integer, changed_at timestamptz);
INSERT INTO saltmarsh.inspections SELECT g, g % 9, now() - interval '2 days' FROM generate_series(1, 4000) g; ANALYZE`)
	f := start(t)
	f.register("old-barn", servers.source, p.source)
	f.register("new-barn", servers.target, p.target)
	manifest := "dusty_ferry: 1\ncrossing:\n  name: %s\n  kind: %s\n  source: old-barn\n  target: new-barn\n  tables: " +
		"[saltmarsh.*]\n%s"
	for _, m := range []string{fmt.Sprintf(manifest, "spring", "load", "  rules: [{tables: saltmarsh.inspections, "+
		"watermark: changed_at, overlap: 5m}]\n  settings: {repeat: in place}\n"), fmt.Sprintf(manifest, "autumn",
		"load+capture", "")} {
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
	shows(t, ctx, "All rows of tables without a watermark are replaced in place")
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
	press(t, ctx, "Save")
	shows(t, ctx, "a time such as")
	fill(t, ctx, "Stop at", "2036-12-01T02:00:00Z")
	press(t, ctx, "Save")
	axe(t, ctx, "settings of capture")
	fits(t, ctx, "settings of capture")
	j.looked("capture-settings")
	// One that only follows changes says from where.
	j.at("/")
	follow(t, ctx, "Plan a crossing")
	shows(t, ctx, "From where to where")
	fill(t, ctx, "Name", "winter")
	tick(t, ctx, "Copy the rows that are there")
	fill(t, ctx, "Source", "old-barn")
	fill(t, ctx, "Target", "new-barn")
	shows(t, ctx, "Changes from", "Replication slot")
	fill(t, ctx, "Changes from", "yesterday")
	press(t, ctx, "Make the draft and choose tables")
	shows(t, ctx, "write it like 0/16B3748")
	fill(t, ctx, "Changes from", "0/16B3748")
	fill(t, ctx, "Replication slot", "winter_hives")
	axe(t, ctx, "plan a crossing that only follows changes")
	fits(t, ctx, "plan a crossing that only follows changes")
	j.looked("plan-capture")
	press(t, ctx, "Make the draft and choose tables")
	shows(t, ctx, "Tables of old-barn")
	j.at("/crossings/winter/plan/settings")
	shows(t, ctx, "Replication slot")
	c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), "winter"))
	if err != nil || c.CopyRows || !c.FollowChanges || *c.Settings.StartFrom != "0/16B3748" ||
		*c.Settings.Slot != "winter_hives" {
		t.Errorf("%+v, %v", c, err)
	}
	j.looked("plan-capture-settings")
}
