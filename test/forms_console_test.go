package test

import (
	"net/http"
	"reflect"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestFormsChangeWhatWasEditedAndNothingElse edits one thing of a plan whose statements
// hold blank lines, whose key columns hold spaces and whose rules stand in an order that
// matters, and finds the rest as it was, to the byte.
func TestFormsChangeWhatWasEditedAndNothingElse(t *testing.T) {
	f := start(t)
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY, v text);
  CREATE TABLE public.b (id integer PRIMARY KEY)`)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	function := "CREATE FUNCTION twice(n integer) RETURNS integer LANGUAGE plpgsql AS $$\nBEGIN\n\n  RETURN n * " +
		"2;\n\nEND $$"
	planning := contract.Planning{
		Queries: &[]contract.Query{{Table: "public.sums", Query: " SELECT 1 AS \"two words\", 2 AS b\n\n",
			Key: &[]string{"two words", "b"}}},
		Parameters: &map[string]string{"since": " today - 7 days "},
		Before:     &[]string{function, "  SELECT 1\n\n\n;"}, After: &[]string{"SELECT 2\n\n-- and more\n"},
	}
	where := "id > 1  AND\n id < 9"
	rules := []contract.Rule{{Tables: "public.a", Name: ptr("first"), Where: &where, Note: ptr(" as it was ")},
		{Tables: "public.*", Schema: ptr("public")}, {Tables: "public.a", Schema: ptr("later")}}
	kind := contract.Load
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Kind: &kind, Source: "old", Target: "new",
			Tables: &[]string{"public.*"}, Rules: &rules, Planning: &planning})); err != nil {
		t.Fatal(err)
	}
	ctx := browser(t)
	signIn(t, ctx, f.url, f.token)
	shows(t, ctx, "spring")
	visit(t, ctx, f.url+"/crossings/spring/plan/beside")
	shows(t, ctx, "Parameters")
	press(t, ctx, "Add a parameter")
	fill(t, ctx, "Name", "since") // of the first
	eval[bool](t, ctx,
		`(() => {`+find+
			` const all = [...document.querySelectorAll('label')].filter(l => l.querySelector('span')?.innerText === 'Name'); set(all[1].querySelector('input'), 'until'); const v = [...document.querySelectorAll('label')].filter(l => l.querySelector('span')?.innerText === 'Value'); set(v[1].querySelector('input'), 'today'); return true })()`)
	press(t, ctx, "Save")
	eventually(t, 20*time.Second, func() bool { return len(deref(f.show().Planning.Parameters)) == 2 })
	got := f.show().Planning
	if !reflect.DeepEqual(got.Queries, planning.Queries) || !reflect.DeepEqual(got.Before, planning.Before) ||
		!reflect.DeepEqual(got.After, planning.After) {
		t.Errorf("a parameter was added, and this was changed:\n%+v\n%q\n%q", deref(got.Queries), deref(got.Before),
			deref(got.After))
	}
	if v := deref(got.Parameters); v["since"] != " today - 7 days " || v["until"] != "today" {
		t.Errorf("parameters: %q", v)
	}
	if !reflect.DeepEqual(f.show().Rules, rules) {
		t.Errorf("the rules were touched: %+v", f.show().Rules)
	}
	// One attribute of a table's own rule, which stands before others.
	visit(t, ctx, f.url+"/crossings/spring/plan?table=public.a")
	shows(t, ctx, "Plan of public.a")
	press(t, ctx, "Edit plan")
	fill(t, ctx, "Table name on the target", "renamed")
	fill(t, ctx, "Most bytes of a value of v", "eight")
	shows(t, ctx, "“eight” is not a number")
	if ok, why := offered(t, ctx, "Save"); ok || !strings.Contains(why, "is not a number") {
		t.Errorf("a plan with a number that is none can be saved: %s", why)
	}
	fill(t, ctx, "Most bytes of a value of v", "800")
	press(t, ctx, "Save")
	eventually(t, 20*time.Second, func() bool { return deref(f.show().Rules[0].Name) == "renamed" })
	longest := int64(800)
	want := append([]contract.Rule{}, rules...)
	want[0].Name, want[0].Columns = ptr("renamed"), &map[string]contract.ColumnRule{"v": {Longest: &longest}}
	if now := f.show().Rules; !reflect.DeepEqual(now, want) {
		t.Errorf("the rules are\n%+v, want\n%+v", now, want)
	}
	// Numbers are numbers.
	visit(t, ctx, f.url+"/crossings/spring/plan/settings")
	shows(t, ctx, "Lanes")
	for _, c := range []struct{ field, typed, says string }{
		{"Lanes", "eight", "“eight” is not a number"}, {"Lanes", "0", "Give at least 1"},
		{"Lanes", "2.5", "Give a whole number"}, {"Lanes", "", "Give a number"},
		{"Speed limit, MB/s", "12 MB", "is not a number"}, {"Pause budget, seconds", "-3", "Give at least 1"},
	} {
		fill(t, ctx, c.field, c.typed)
		shows(t, ctx, c.says)
		if ok, _ := offered(t, ctx, "Save"); ok {
			t.Errorf("%s %q can be saved", c.field, c.typed)
		}
		fill(t, ctx, c.field, "7")
	}
	axe(t, ctx, "a form with errors")
	fill(t, ctx, "Speed limit, MB/s", "0,5")
	press(t, ctx, "Save")
	eventually(t, 20*time.Second, func() bool { return deref(f.show().Settings.SpeedLimit) == 500_000 })
	if s := f.show().Settings; deref(s.Lanes) != 7 || deref(s.ChunkBytes) != 16_000_000 {
		t.Errorf("settings: %d lanes, chunks of %d", deref(s.Lanes), deref(s.ChunkBytes))
	}

	// A typed confirmation is empty the next time.
	visit(t, ctx, f.url+"/crossings/spring")
	shows(t, ctx, "spring")
	press(t, ctx, "Close")
	shows(t, ctx, "Type spring to confirm")
	fill(t, ctx, "Type spring to confirm", "spring")
	press(t, ctx, "Cancel")
	press(t, ctx, "Close")
	shows(t, ctx, "Type spring to confirm")
	if v := eval[string](t, ctx, `document.querySelector('[role=dialog] input').value`); v != "" {
		t.Errorf("the confirmation is typed already: %q", v)
	}
	press(t, ctx, "Cancel")

	// What breaks is said, and the page stays.
	for path, want := range map[string]string{"/journal?since=abc": "“abc” is no time", "/?page=abc": "spring",
		"/crossings/spring?zoom=a~b": "The charts cannot be read"} {
		visit(t, ctx, f.url+path)
		shows(t, ctx, want, "Dusty Ferry")
	}
	exec1(t, f.set.ControlURL, `INSERT INTO journal (actor, act, message, at)
  VALUES ('wren', 'change', 'just after midnight', date_trunc('day', now()) + interval '5 minutes 9 seconds')`)
	visit(t, ctx, f.url+"/journal?search=midnight")
	shows(t, ctx, "just after midnight", "00:05:09")
}

func deref[T any](p *T) T {
	var none T
	if p == nil {
		return none
	}
	return *p
}

// TestTheContractIsHeld: unknown fields, nulls, words and numbers that may not be are
// refused with the name of the field.
func TestTheContractIsHeld(t *testing.T) {
	f := start(t)
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY)`)
	f.cross(p, contract.Settings{}, "public.*")
	auth := []string{"Authorization", "Bearer " + f.token, "Content-Type", "application/json"}
	for _, c := range []struct {
		method, path, body string
		status             int
		says               []string
	}{
		{"PATCH", "/api/crossings/spring", `{"lane": 3}`, 400, []string{"lane is no field"}},
		{"PATCH", "/api/crossings/spring", `{"lanes": null}`, 400, []string{"lanes is null"}},
		{"PATCH", "/api/crossings/spring", `{"lanes": "eight"}`, 400, []string{"lanes must be a whole number"}},
		{"PATCH", "/api/crossings/spring", `{"lanes": 1.5}`, 400, []string{"lanes must be a whole number"}},
		{"PATCH", "/api/crossings/spring", `{"stop_method": "please"}`, 400, []string{"stop_method", "please", "read-only"}},
		{"PATCH", "/api/crossings/spring", `{"lanes": 3`, 400, []string{"body"}},
		{"PATCH", "/api/crossings/spring", `[]`, 400, []string{"object"}},
		{"POST", "/api/crossings", `{"name": "x", "source": "old", "target": "new", "settings": {"bad_rows": "drop"}}`, 400,
			[]string{"settings.bad_rows", "set aside"}},
		{"POST", "/api/crossings", `{"name": "x", "source": "old"}`, 400, []string{"target is missing"}},
		{"POST", "/api/crossings",
			`{"name": "x", "source": "old", "target": "new", "rules": [{"tables": "a.b", "colums": {}}]}`, 400,
			[]string{"rules.0.colums is no field"}},
		{"POST", "/api/crossings/spring/restart", `{"table": ""}`, 400, []string{"table"}},
		{"POST", "/api/crossings/spring/restart", `{}`, 400, []string{"all: true"}},
		{"POST", "/api/crossings/spring/restart", `{"all": true}`, 400, []string{"cannot be undone", "spring"}},
		{"POST", "/api/crossings/spring/restart", `{"table": "public.a", "confirm": "spring"}`, 400,
			[]string{"wanted is public.a"}},
		{"POST", "/api/crossings/spring/close", `{"reopen": false}`, 400, []string{"cannot be undone"}},
		{"POST", "/api/crossings/spring/leave-out", `{"table": "public.a"}`, 400, []string{"cannot be undone"}},
		{"DELETE", "/api/crossings/spring", ``, 400, []string{"cannot be undone"}},
		{"DELETE", "/api/tokens/admin", ``, 400, []string{"cannot be undone"}},
		{"DELETE", "/api/databases/old/traces/abc", ``, 400, []string{"cannot be undone"}},
		{"POST", "/api/crossings/spring/pause", ``, 400, []string{"needs a body"}},
		{"GET", "/api/crossings?limt=3", ``, 400, []string{`"limt" is no parameter`, "limit"}},
		{"GET", "/api/journal?since=abc", ``, 400, []string{"since"}},
		{"GET", "/api/journal?limit=many", ``, 400, []string{"limit"}},
		{"GET", "/api/journal?severity=bad", ``, 400, []string{"severity", "warning"}},
	} {
		res, text := f.call(c.method, c.path, c.body, auth...)
		if res.StatusCode != c.status {
			t.Errorf("%s %s %s: %d, want %d: %s", c.method, c.path, c.body, res.StatusCode, c.status, text)
		}
		for _, w := range c.says {
			if !strings.Contains(text, strings.ReplaceAll(w, `"`, `\"`)) {
				t.Errorf("%s %s %s: %s lacks %q", c.method, c.path, c.body, text, w)
			}
		}
	}
	if c := f.show(); c.Phase != contract.PhaseDraft || *c.Settings.Lanes != 2 {
		t.Errorf("something was done: %s, %d lanes", c.Phase, *c.Settings.Lanes)
	}
	if res, text := f.call(http.MethodDelete, "/api/crossings/spring?confirm=spring", "", auth...); res.StatusCode != 204 {
		t.Errorf("with its name: %d %s", res.StatusCode, text)
	}
}

// TestCommandsSayWhatIsWrong: exit 2 for what is no command, 4 for what waits or blocks;
// findings come in pages; waiting has an end.
func TestCommandsSayWhatIsWrong(t *testing.T) {
	f := start(t)
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY, v text); INSERT INTO public.a SELECT g, 'v'
  FROM generate_series(1, 3000) g; ANALYZE`)
	f.cross(p, contract.Settings{HoldPoints: &[]contract.SettingsHoldPoints{contract.StopWrites}}, "public.*")
	expect := func(code int, want string, args ...string) answer {
		t.Helper()
		a := f.cli(args...)
		if a.code != code || !strings.Contains(a.out+a.err, want) {
			t.Errorf("%v: exit %d, want %d; lacks %q:\n%s%s", args, a.code, code, want, a.out, a.err)
		}
		return a
	}
	for _, group := range []string{"crossing", "database", "cutover", "schedule", "webhook", "token"} {
		expect(2, "has no command \"bogus\"", group, "bogus")
	}
	expect(2, "did you mean", "crossing", "shwo")
	expect(2, "bogus", "bogus")
	expect(2, "unexpected argument \"b\"", "crossing", "show", "spring", "b")
	expect(2, "unexpected argument", "database", "list", "x")
	expect(2, "TABLE", "crossing", "plan", "spring")
	expect(2, "unknown flag", "crossing", "list", "--limt", "3")
	expect(2, "invalid argument", "crossing", "list", "--limit", "many")
	expect(2, "cannot stand beside it", "crossing", "create", "--file", write(t, "dusty_ferry: 1\n"), "--lanes", "3")
	expect(2, "the name summer", "crossing", "create", "summer", "--file", write(t, "dusty_ferry: 1\n"))
	expect(2, "--confirm spring", "crossing", "close", "spring")
	expect(2, "64MiB", "crossing", "set", "spring", "--chunk-size", "sixteen")

	expect(4, "stands in the way", "cutover", "ready", "spring")
	waited := expect(0, `"phase": "in step"`, "crossing", "start", "spring", "--wait", "-o", "json")
	if !strings.HasPrefix(strings.TrimSpace(waited.out), "{") {
		t.Errorf("with -o json the output is not JSON alone:\n%s", waited.out)
	}
	expect(0, "readiness checks pass", "cutover", "ready", "spring")
	// At a hold point the command says how to go on.
	expect(4, "dustyferry cutover confirm spring", "cutover", "rehearse", "spring")
	expect(0, "The cutover goes on", "cutover", "confirm", "spring")
	f.cutOverEnd()

	// Findings: of what, how many, a page at a time; by counts, what is known.
	exec1(t, p.targetURL(), `DELETE FROM public.a WHERE id > 2099`)
	expect(3, "901 findings", "reconcile", "spring", "--depth", "counts")
	expect(0, "counted 901 rows more", "findings", "spring")
	expect(1, "by counts", "repair", "spring", "--confirm", "spring")
	expect(4, "901 rows more on one side", "cutover", "ready", "spring")
	expect(3, "901 findings", "reconcile", "spring")
	a := expect(0, "Findings 1 to 100 of 901.", "findings", "spring")
	if !strings.Contains(a.out, "(hashes, all tables") ||
		!strings.Contains(a.out, "801 more: dustyferry findings spring --offset 100") ||
		strings.Count(a.out, "missing on target") != 100 {
		t.Errorf("a page of findings:\n%.600s", a.out)
	}
	expect(0, "Findings 901 to 901 of 901.", "findings", "spring", "--offset", "900")
	expect(0, "901 repaired", "repair", "spring", "--confirm", "spring")
	expect(1, "wanted is spring", "repair", "spring", "--confirm", "autumn")

	// Waiting ends when nothing more comes: by a pause, or by its time.
	exec1(t, p.sourceURL(), `CREATE TABLE public.slow (id integer PRIMARY KEY, v text); INSERT INTO public.slow
  SELECT g, repeat('x', 500) FROM generate_series(1, 40000) g;
CREATE TABLE public.idle (LIKE public.slow INCLUDING ALL); INSERT INTO public.idle SELECT * FROM public.slow; ANALYZE`)
	kind, limit, chunk := contract.Load, int64(300_000), int64(100_000)
	for _, name := range []string{"slow", "idle"} {
		if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(), contract.NewCrossing{Name: name,
			Kind: &kind, Source: "old", Target: "new", Tables: &[]string{"public." + name},
			Settings: &contract.Settings{SpeedLimit: &limit, ChunkBytes: &chunk}})); err != nil {
			t.Fatal(err)
		}
	}
	expect(1, "goes on", "crossing", "start", "slow", "--wait", "--timeout", "3s")
	paused := make(chan answer, 1)
	go func() {
		time.Sleep(3 * time.Second)
		paused <- f.cli("crossing", "pause", "idle")
	}()
	expect(4, "was paused before it was in step", "crossing", "start", "idle", "--wait")
	if a := <-paused; a.code != 0 {
		t.Errorf("pausing: %s", a.err)
	}
}
