package test

import (
	"strings"
	"testing"

	"dustyferry/internal/contract"
)

// TestThePolicy lets an admin say once what holds for all crossings, and holds
// crossings to it.
func TestThePolicy(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.hives (id integer PRIMARY KEY); INSERT INTO public.hives
  SELECT generate_series(1, 500); CREATE TABLE public.scratch (id integer)`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	policy := `
tables: ["public.*", "-public.scratch"]
rules:
  - {tables: "*.*", schema: honey}
checks: [comparison, rehearsal]
locked: [pause_budget, tables, rules]
`
	for what, wrong := range map[string]string{
		"line 5, column":  strings.Replace(policy, "checks:", "check:", 1),
		"locked names":    strings.Replace(policy, "tables, rules]", "table]", 1),
		"checks names":    strings.Replace(policy, "comparison", "luck", 1),
		"changes nothing": strings.Replace(policy, ", schema: honey", "", 1),
	} {
		if a := f.cli("policy", "--file", write(t, wrong)); a.code == 0 || !strings.Contains(a.err, what) {
			t.Errorf("%s: exit %d, %s%s", what, a.code, a.out, a.err)
		}
	}
	if a := f.cli("policy", "--file", write(t, policy)); a.code != 0 || !strings.Contains(a.out,
		"comparison, rehearsal") ||
		!strings.Contains(a.out, "schema honey") {
		t.Fatalf("exit %d, %s%s", a.code, a.out, a.err)
	}
	if a := f.cli("crossing", "create", "spring", "--source", "old", "--target", "new", "--pause-budget",
		"3m"); a.code == 0 || !strings.Contains(a.err, "pause_budget is locked") {
		t.Errorf("exit %d, %s%s", a.code, a.out, a.err)
	}
	if a := f.cli("crossing", "create", "spring", "--source", "old", "--target", "new", "--table",
		"public.*"); a.code == 0 || !strings.Contains(a.err, "tables of crossings are locked") {
		t.Errorf("exit %d, %s%s", a.code, a.out, a.err)
	}
	if a := f.cli("crossing", "create", "spring", "--source", "old", "--target", "new"); a.code != 0 {
		t.Fatal(a.err)
	}
	for _, args := range [][]string{{"crossing", "set", "spring", "--pause-budget", "1m"}, {"crossing", "planning",
		"spring", "--file", write(t, "tables: [public.scratch]\n")}} {
		if a := f.cli(args...); a.code == 0 || !strings.Contains(a.err, "locked") {
			t.Errorf("%v: exit %d, %s%s", args, a.code, a.out, a.err)
		}
	}
	// A rule of the crossing's own does not win over one that is locked.
	if a := f.cli("crossing", "rules", "spring", "--file",
		write(t, `[{tables: public.hives, schema: elsewhere, name: skeps}]`)); a.code != 0 {
		t.Fatal(a.err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if n := one[int](t, p.targetURL(), `SELECT count(*) FROM honey.skeps`); n != 500 {
		t.Errorf("%d rows", n)
	}
	if a := f.cli("cutover", "start", "spring", "--confirm", "spring"); a.code == 0 ||
		!strings.Contains(a.err, "wants a comparison first") || !strings.Contains(a.err, "1 point more") {
		t.Errorf("exit %d, %s%s", a.code, a.out, a.err)
	}
	if a := f.cli("cutover", "ready", "spring"); a.code != 4 || !strings.Contains(a.out, "wants a comparison first") ||
		!strings.Contains(a.out, "wants a rehearsal first") {
		t.Errorf("exit %d, %s%s", a.code, a.out, a.err)
	}
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		t.Errorf("%+v", r)
	}
	if k := f.cutOver(true, contract.Settings{}); k.State != "done" {
		t.Fatalf("the rehearsal: %+v", k)
	}
	if k := f.cutOver(false, contract.Settings{}); k.State != "done" {
		t.Fatalf("the cutover: %+v", k)
	}
}
