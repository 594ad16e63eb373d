package test

import (
	"strings"
	"testing"

	"dustyferry/internal/contract"
)

// TestTracesOfALostCrossing: what a crossing made on both servers is listed by its name;
// when its records are lost, it is still found, and removed.
func TestTracesOfALostCrossing(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY); INSERT INTO public.a VALUES (1)`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	mine := f.cli("database", "traces", "old")
	for _, want := range []string{"spring", "in step, running", "replication slot", "publication"} {
		if !strings.Contains(mine.out, want) {
			t.Errorf("no %q in\n%s%s", want, mine.out, mine.err)
		}
	}
	uid := one[string](t, p.targetURL(), `SELECT crossing FROM dusty_ferry.stream`)
	if a := f.cli("database", "traces", "old", "--remove", uid, "--confirm", "old"); a.code == 0 ||
		!strings.Contains(a.err, "close it") {
		t.Errorf("of a crossing under way: %+v", a)
	}
	g := start(t) // another installation, whose records know nothing of it
	g.register("old", servers.source, p.source)
	g.register("new", servers.target, p.target)
	if a := g.cli("database", "traces", "old", "--remove", uid, "--confirm", "old"); a.code == 0 ||
		!strings.Contains(a.err, "alive") {
		t.Errorf("of a crossing of another installation that is under way: %+v", a)
	}
	f.svc.Stop()
	lost := g.cli("database", "traces", "old", "--statements")
	for _, want := range []string{"unknown", uid, "nobody reads it", "pg_drop_replication_slot", "DROP PUBLICATION"} {
		if !strings.Contains(lost.out, want) {
			t.Errorf("no %q in\n%s%s", want, lost.out, lost.err)
		}
	}
	t.Log("\n" + lost.out + g.cli("database", "traces", "new").out)
	for _, side := range []string{"old", "new"} {
		if a := g.cli("database", "traces", side, "--remove", uid, "--confirm", side); a.code != 0 {
			t.Fatal(a.err)
		}
		if a := g.cli("database", "traces", side); !strings.Contains(a.out, "No crossing has left anything") {
			t.Errorf("still there: %s", a.out)
		}
	}
	if n := one[int](t, p.sourceURL(), `SELECT count(*)::int FROM pg_publication`) + one[int](t, p.sourceURL(),
		`SELECT count(*)::int FROM pg_replication_slots WHERE database = current_database()`); n != 0 {
		t.Errorf("%d slots and publications stand on the source", n)
	}
	if one[bool](t, p.targetURL(), `SELECT to_regnamespace('dusty_ferry') IS NOT NULL`) {
		t.Error("the bookkeeping stands on the target")
	}
}
