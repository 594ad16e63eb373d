package test

import (
	"strings"
	"testing"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/engine/enginetest"
	"dustyferry/internal/service"
)

// TestAnEngineThatCanOnlyBeRead: an engine without log, SQL and sequences is one folder and one
// line where engines are listed. What it cannot do is said before a start, and the rest works.
func TestAnEngineThatCanOnlyBeRead(t *testing.T) {
	f := start(t)
	f.svc.Stop()
	f.set.Engines = append(f.set.Engines, append(service.Engines, enginetest.Boxes(5000))...)
	f.again()
	f.signIn()
	p := newPair(t)
	exec1(t, dbURL(servers.source, p.source), "CREATE TABLE lots (id int PRIMARY KEY)")
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	add := contract.NewDatabase{Name: "toys", Engine: "toy", Host: "nowhere", Port: 1, Database: "box", User: "anybody",
		Password: "none"}
	if _, err := client.Do[contract.Database](f.API.AddDatabaseWithResponse(t.Context(), add)); err != nil {
		t.Fatal(err)
	}
	facts, err := client.Do[contract.Facts](f.API.CheckDatabaseWithResponse(t.Context(), "toys"))
	if err != nil || strings.Join(facts.Can, ", ") != "read rows" {
		t.Fatalf("a check says that it can %v, %v", facts.Can, err)
	}
	draft := func(source, target string, copies, follows bool) []contract.Entry {
		t.Helper()
		if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(), contract.NewCrossing{
			Name: "spring", Source: source, Target: target, CopyRows: &copies, FollowChanges: &follows})); err != nil {
			t.Fatal(err)
		}
		list, err := client.Do[[]contract.Entry](f.API.SurveyCrossingWithResponse(t.Context(), "spring"))
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	remove := func() {
		t.Helper()
		f.must("crossing", "remove", "spring", "--confirm", "spring")
	}
	says := func(list []contract.Entry, verdict contract.Verdict, text string) {
		t.Helper()
		for _, e := range list {
			if e.Verdict == verdict && strings.Contains(e.Measured, text) {
				return
			}
		}
		t.Errorf("nothing of %q says %q: %+v", verdict, text, list)
	}
	says(draft("toys", "new", true, true), contract.Blocker, "toys cannot capture changes")
	remove()
	says(draft("old", "toys", true, false), contract.Blocker, "toys cannot take rows")
	remove()
	list := draft("toys", "new", true, false)
	says(list, contract.Notice, "toys cannot be compared")
	for _, e := range list {
		if e.Verdict == contract.Blocker {
			t.Errorf("it is blocked: %+v", e)
		}
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if got := one[string](t, dbURL(servers.target, p.target),
		`SELECT format('%s %s %s %s', count(*), sum(id), count(*) FILTER (WHERE calm), count(DISTINCT name)) FROM box.hives`); got != "5000 12497500 2500 3" {
		t.Errorf("on the target is %s", got)
	}
	if n := f.show().Progress.Chunks; n < 1 {
		t.Errorf("it was loaded in %d chunks", n)
	}
	if out := f.cli("reconcile", "spring"); !strings.Contains(out.err, "cannot be compared") {
		t.Errorf("a comparison says %q", out.err)
	}
	f.must("crossing", "close", "spring", "--confirm", "spring")
}
