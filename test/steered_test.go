package test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// holdTable keeps a table from being altered, by a transaction that has written to it and
// stays open until the function returned is called.
func holdTable(t *testing.T, url, statement string) func() {
	t.Helper()
	c, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Exec(t.Context(), "BEGIN; "+statement); err != nil {
		t.Fatal(err)
	}
	free := func() { _ = c.Close(t.Context()) }
	t.Cleanup(free)
	return free
}

// openTask is a task of a kind that has not ended, or the newest of that kind.
func (f *ferry) task(kind string) contract.Task {
	f.t.Helper()
	list, err := client.Do[[]contract.Task](f.API.ListTasksWithResponse(f.t.Context(), "spring"))
	if err != nil {
		f.t.Fatal(err)
	}
	for _, k := range list {
		if k.Kind == kind {
			return k
		}
	}
	return contract.Task{}
}

func (f *ferry) must(args ...string) answer {
	f.t.Helper()
	a := f.cli(args...)
	if a.code != 0 {
		f.story()
		f.t.Fatalf("%s: %+v", strings.Join(args, " "), a)
	}
	return a
}

// TestABuildBesideARestart: what is built while a table begins again is not said to stand. A
// table ended without its primary key so, and took a duplicate.
func TestABuildBesideARestart(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `
CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer, note text);
  CREATE UNIQUE INDEX lots_jars ON public.lots (jars);
CREATE TABLE public.visits (id integer PRIMARY KEY, hive integer); CREATE INDEX visits_hive ON public.visits (hive);
INSERT INTO public.lots SELECT g, g, repeat('x', 500) FROM generate_series(1, 12000) g; INSERT INTO public.visits
  SELECT g, g FROM generate_series(1, 1000) g; ANALYZE`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	f.must("crossing", "create", "spring", "--follow-changes=false", "--source", "old", "--target", "new", "--table",
		"public.*", "--speed-limit", "2MB")
	f.startCrossing()
	f.await(time.Minute, "loading", func(c contract.Crossing) bool { return c.Progress.Chunks > 0 && c.Progress.Rows > 0 })
	// A transaction of somebody else keeps the index from being built.
	free := holdTable(t, p.targetURL(), `INSERT INTO public.visits (id, hive) VALUES (-1, -1)`)
	eventually(t, time.Minute, func() bool { return f.task("build").State == contract.TaskStateRunning })
	if a := f.must("crossing", "restart", "spring", "--table", "public.lots", "--confirm", "public.lots"); a.code != 0 {
		t.Fatal(a.err)
	}
	eventually(t, 30*time.Second, func() bool { return f.task("build").State == contract.TaskStateCancelled })
	if k := f.task("build"); !strings.Contains(k.Error, "a table was restarted") {
		t.Errorf("the build ended: %+v", k)
	}
	free()
	f.awaitPhase(contract.PhaseInStep)
	for _, name := range []string{"lots_pkey", "lots_jars", "visits_pkey", "visits_hive"} {
		if n := one[int](t, p.targetURL(), `SELECT count(*)::int FROM pg_index
  WHERE indexrelid = to_regclass('public.' || $1) AND indisvalid`, name); n != 1 {
			t.Errorf("%s does not stand on the target", name)
		}
	}
	if list, err := client.Do[[]contract.MadeObject](f.API.ListObjectsWithResponse(t.Context(), "spring")); err != nil {
		t.Error(err)
	} else {
		for _, o := range list {
			if o.State != contract.MadeObjectStateMade {
				t.Errorf("%s %s is %s", o.Kind, o.Name, o.State)
			}
		}
	}
	sameEverywhere(t, p, "public")
}

// TestATableIsBuiltThatWasAdded: an index of a table that is added while others are built is
// made as well.
func TestATableIsBuiltThatWasAdded(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `
CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); CREATE INDEX lots_jars ON public.lots (jars);
CREATE TABLE public.late (id integer PRIMARY KEY, code integer); CREATE UNIQUE INDEX late_code ON public.late (code);
INSERT INTO public.lots SELECT g, g FROM generate_series(1, 500) g; INSERT INTO public.late SELECT g, g
  FROM generate_series(1, 500) g; ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.lots")
	f.startCrossing()
	f.await(time.Minute, "loading", func(c contract.Crossing) bool { return c.Progress.Chunks > 0 })
	free := holdTable(t, p.targetURL(), `INSERT INTO public.lots (id, jars) VALUES (-1, -1)`)
	f.must("crossing", "add-table", "spring", "public.late")
	time.Sleep(2 * time.Second)
	free()
	f.await(time.Minute, "in step with both", func(c contract.Crossing) bool {
		return c.Phase == contract.PhaseInStep && c.Progress.TablesLanded == 2
	})
	for _, name := range []string{"lots_jars", "late_code"} {
		if n := one[int](t, p.targetURL(),
			`SELECT count(*)::int FROM pg_index WHERE indexrelid = to_regclass('public.' || $1)`, name); n != 1 {
			t.Errorf("%s does not stand on the target", name)
		}
	}
	settle(t, f)
	sameEverywhere(t, p, "public")
}

// TestLeavingOutWithQueries: in a crossing of queries alone no table is chosen, whatever is
// left out of it, and a query that is left out does not come back.
func TestLeavingOutWithQueries(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `
CREATE TABLE public.keepers (id integer PRIMARY KEY, passport text); INSERT INTO public.keepers SELECT g, 'P' || g
  FROM generate_series(1, 50) g;
CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots SELECT g, g
  FROM generate_series(1, 50) g; ANALYZE`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	f.must("crossing", "create", "--file", write(t, `
dusty_ferry: 1
crossing:
  name: spring
  follow_changes: false
  source: old
  target: new
  queries:
    - {table: public.full_lots, query: "SELECT id, jars FROM public.lots WHERE jars > 10", key: [id]}
    - {table: public.few_lots, query: "SELECT id, jars FROM public.lots WHERE jars <= 10", key: [id]}
`))
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	f.must("crossing", "leave-out", "spring", "public.few_lots", "--confirm", "public.few_lots")
	if c := f.show(); len(c.Tables) != 0 || len(deref(c.Planning.Queries)) != 1 ||
		deref(c.Planning.Queries)[0].Table != "public.full_lots" {
		t.Errorf("chosen are %v and %+v", c.Tables, c.Planning.Queries)
	}
	f.must("crossing", "restart", "spring", "--all", "--confirm", "spring")
	eventually(t, time.Minute, func() bool {
		return f.task("restart").State == contract.TaskStateDone && f.show().Phase == contract.PhaseInStep
	})
	tables, err := client.Do[contract.TablePage](f.API.ListTablesWithResponse(t.Context(), "spring",
		&contract.ListTablesParams{}))
	if err != nil || tables.Total != 1 {
		t.Errorf("%+v (%v)", tables, err)
	}
	if n := one[int](t, p.targetURL(), `SELECT count(*)::int FROM pg_class WHERE relname IN ('keepers', 'lots')`); n != 0 {
		t.Error("tables that nobody chose are on the target")
	}
}

// TestComparisonsTakeTurns: comparisons, comparisons of single rows and repairs at the same
// time, while the source is written to, find what is so and nothing else.
func TestComparisonsTakeTurns(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots
  SELECT g, g FROM generate_series(1, 2000) g; ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.targetURL(), `UPDATE public.lots SET jars = -1 WHERE id = 77`)
	stop := make(chan struct{})
	ended := make(chan error, 1)
	go func() {
		c, err := pgx.Connect(t.Context(), p.sourceURL())
		for n := 0; err == nil; n++ {
			select {
			case <-stop:
				ended <- c.Close(t.Context())
				return
			default:
				_, err = c.Exec(t.Context(), fmt.Sprintf(`UPDATE public.lots SET jars = jars + 1 WHERE id > 1000;
  INSERT INTO public.lots VALUES (%d, 0)`, 10_000+n))
			}
		}
		ended <- err
	}()
	first := f.reconcile(contract.NewReconciliationDepthHashes)
	if first.Findings != 1 {
		t.Errorf("the first comparison has %d findings", first.Findings)
	}
	for range 3 {
		r, err := client.Do[contract.Reconciliation](f.API.ReconcileWithResponse(t.Context(), "spring",
			contract.NewReconciliation{Depth: contract.NewReconciliationDepthHashes}))
		if err != nil {
			t.Fatal(err)
		}
		again := f.cli("recheck", "spring", "--reconciliation", fmt.Sprint(first.Id))
		if again.code != 3 && again.code != 0 {
			t.Fatalf("%+v", again)
		}
		eventually(t, 90*time.Second, func() bool {
			r, err = client.Do[contract.Reconciliation](f.API.GetReconciliationWithResponse(t.Context(), "spring", r.Id))
			return err == nil && r.EndedAt != nil
		})
		if r.State != contract.ReconciliationStateDiffering || r.Findings != 1 {
			f.story()
			t.Errorf("a comparison beside another: %s with %d findings, %s", r.State, r.Findings, r.Error)
		}
	}
	close(stop)
	if err := <-ended; err != nil {
		t.Error(err)
	}
}

// TestStatementsRunOnce: what has run before the load stays done over a resume, what a person
// wrote stays written over a restart, and a restart says what it runs again.
func TestStatementsRunOnce(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots
  SELECT g, g FROM generate_series(1, 100) g; ANALYZE`)
	exec1(t, p.targetURL(), `CREATE SCHEMA diary; CREATE TABLE diary.lines (what text)`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	f.must("crossing", "create", "--file", write(t, `
dusty_ferry: 1
crossing:
  name: spring
  follow_changes: false
  source: old
  target: new
  tables: ["public.*"]
  before: ["INSERT INTO diary.lines VALUES ('first')", "INSERT INTO diary.nowhere VALUES ('second')"]
`))
	f.startCrossing()
	f.await(time.Minute, "held", func(c contract.Crossing) bool { return c.Condition == contract.ConditionHeld })
	object := func(name string) contract.MadeObject {
		t.Helper()
		list, err := client.Do[[]contract.MadeObject](f.API.ListObjectsWithResponse(t.Context(), "spring"))
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range list {
			if o.Name == name {
				return o
			}
		}
		t.Fatalf("no object %s in %+v", name, list)
		return contract.MadeObject{}
	}
	lines := func(want string) {
		t.Helper()
		if got := one[string](t, p.targetURL(),
			`SELECT coalesce(string_agg(what, ', ' ORDER BY what), '') FROM diary.lines`); got != want {
			t.Errorf("the diary says %q, want %q", got, want)
		}
	}
	lines("first")
	f.must("crossing", "objects", "spring", "--id", fmt.Sprint(object("before 2").Id), "--file",
		write(t, `INSERT INTO diary.lines VALUES ('second')`))
	f.must("crossing", "resume", "spring")
	f.awaitPhase(contract.PhaseInStep)
	lines("first, second")
	f.must("crossing", "restart", "spring", "--all", "--confirm", "spring")
	eventually(t, time.Minute, func() bool {
		return f.task("restart").State == contract.TaskStateDone && f.show().Phase == contract.PhaseInStep
	})
	lines("first, first, second, second")
	if !told(f.journalOf("restart"), "statements that run again: before 1, before 2") {
		f.story()
		t.Error("the restart does not say what it runs again")
	}
	// A process that ended while a statement ran: nobody knows whether it took effect.
	exec1(t, f.set.ControlURL, `UPDATE objects SET state = 'running' WHERE name = 'before 1'; UPDATE crossings
  SET condition = 'held', phase = 'prepared'; UPDATE tasks SET kind = 'prepare' WHERE kind = 'restart'`)
	exec1(t, p.targetURL(), `TRUNCATE public.lots`)
	f.must("crossing", "resume", "spring")
	c := f.await(time.Minute, "held", func(c contract.Crossing) bool { return c.Condition == contract.ConditionHeld })
	if !strings.Contains(c.Reason, "whether it took effect is not known") {
		t.Errorf("%s", c.Reason)
	}
	lines("first, first, second, second")
	f.must("crossing", "objects", "spring", "--id", fmt.Sprint(object("before 1").Id), "--leave-out")
	f.must("crossing", "resume", "spring")
	f.await(time.Minute, "going on, or held for its rows", func(c contract.Crossing) bool {
		return c.Phase != contract.PhasePrepared || c.Condition == contract.ConditionHeld
	})
	lines("first, first, second, second")
}

// TestHistoryOutlivesARestart: what comparisons found stays found when all tables are planned
// anew, and does not count for the rows that come then.
func TestHistoryOutlivesARestart(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots
  SELECT g, g FROM generate_series(1, 300) g; ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.targetURL(), `UPDATE public.lots SET jars = -1 WHERE id IN (5, 6)`)
	found := f.reconcile(contract.NewReconciliationDepthHashes)
	f.must("crossing", "restart", "spring", "--all", "--confirm", "spring")
	eventually(t, time.Minute, func() bool {
		return f.task("restart").State == contract.TaskStateDone && f.show().Phase == contract.PhaseInStep
	})
	r, err := client.Do[contract.Reconciliation](f.API.GetReconciliationWithResponse(t.Context(), "spring", found.Id))
	if err != nil || r.State != contract.ReconciliationStateDiffering || r.Findings != 2 || len(deref(r.Results)) != 1 ||
		deref(r.Results)[0].Name != "public.lots" {
		t.Errorf("%+v (%v)", r, err)
	}
	a := f.must("findings", "spring", "--reconciliation", fmt.Sprint(found.Id))
	if strings.Count(a.out, "public.lots") != 2 || !strings.Contains(a.out, "jars") {
		t.Errorf("%s", a.out)
	}
	if ready := f.cli("cutover", "ready", "spring"); !strings.Contains(ready.out,
		"have not been compared since they were loaded") {
		t.Errorf("%+v", ready)
	}
}

// TestNamesAreJudgedAsTheServerWould: a name that a rule makes is refused by the survey where
// the server would cut it short or take it for another.
func TestNamesAreJudgedAsTheServerWould(t *testing.T) {
	long := strings.Repeat("l", 60)
	for _, way := range [][2]string{{"postgres", "postgres"}, {"mariadb", "postgres"}, {"postgres", "mariadb"},
		{"mariadb", "mariadb"}} {
		t.Run(way[0]+" to "+way[1], func(t *testing.T) {
			f := start(t)
			source := f.sideOf(way[0], "old")
			f.sideOf(way[1], "new")
			source.exec("CREATE TABLE lots (id int PRIMARY KEY, jars int)")
			source.exec("CREATE TABLE visits (id int PRIMARY KEY, jars int)")
			source.exec("CREATE TABLE " + long + "_a (id int PRIMARY KEY)")
			source.exec("CREATE TABLE " + long + "_b (id int PRIMARY KEY)")
			source.exec("CREATE INDEX by_jars ON lots (jars)")
			survey := func(rules string) string {
				t.Helper()
				f.must("crossing", "create", "spring", "--follow-changes=false", "--source", "old", "--target", "new", "--table",
					source.schema+".*")
				f.must("crossing", "rules", "spring", "--file", write(t, rules))
				a := f.cli("survey", "spring")
				f.must("crossing", "remove", "spring", "--confirm", "spring")
				return a.out + a.err
			}
			for _, c := range []struct{ rules, want string }{
				{`[{tables: "*.*", name: "of_the_marsh_*"}]`, "of_the_marsh_" + long},
				{`[{tables: "*.lots", columns: {jars: {name: "` + strings.Repeat("j", 65) + `"}}}]`, strings.Repeat("j", 65)},
				{`[{tables: "` + source.schema + `.lots", name: visits}]`, "both become"},
			} {
				if out := survey(c.rules); !strings.Contains(out, "[blocker]") || !strings.Contains(out, c.want) {
					t.Errorf("%s:\n%s", c.rules, out)
				}
			}
			if out := survey(`[{tables: "` + source.schema + `.lots", name: lots_of_honey}]`); strings.Contains(out,
				"[blocker]") {
				t.Errorf("fine names are refused:\n%s", out)
			}
		})
	}
}

// TestIndexNamesOfTwoSchemas: two schemas of the source have an index of one name, which one
// schema of the target cannot have, and which would be taken for made already.
func TestIndexNamesOfTwoSchemas(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `
CREATE SCHEMA north; CREATE SCHEMA south;
CREATE TABLE north.lots (id integer PRIMARY KEY, jars integer);
  CREATE TABLE south.visits (id integer CONSTRAINT visited PRIMARY KEY, jars integer);
CREATE INDEX by_jars ON north.lots (jars); CREATE UNIQUE INDEX by_jars ON south.visits (jars)`)
	exec1(t, p.targetURL(), `CREATE SCHEMA honey; CREATE TABLE honey.other (visited integer);
  CREATE INDEX visited ON honey.other (visited)`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	f.must("crossing", "create", "spring", "--follow-changes=false", "--source", "old", "--target", "new", "--table",
		"north.*", "--table", "south.*")
	f.must("crossing", "rules", "spring", "--file", write(t, `[{tables: "*.*", schema: honey}]`))
	a := f.cli("survey", "spring")
	for _, want := range []string{"index by_jars: PostgreSQL takes it and index by_jars of honey.lots for one",
		"visited: an index of that name stands on the target already, of honey.other"} {
		if !strings.Contains(strings.Join(strings.Fields(a.out), " "), want) {
			t.Errorf("the survey does not say %q:\n%s", want, a.out)
		}
	}
	f.must("crossing", "rules", "spring", "--file", write(t, `
- {tables: "*.*", schema: honey}
- {tables: south.visits, statements: {"index by_jars": "CREATE UNIQUE INDEX visits_by_jars ON honey.visits (jars)", "table": "CREATE TABLE honey.visits (id integer NOT NULL, jars integer, CONSTRAINT visits_key PRIMARY KEY (id))"}}`))
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	for _, name := range []string{"by_jars", "visits_by_jars", "visits_key"} {
		if n := one[int](t, p.targetURL(),
			`SELECT count(*)::int FROM pg_index WHERE indexrelid = to_regclass('honey.' || $1)`, name); n != 1 {
			t.Errorf("%s does not stand on the target", name)
		}
	}
}

// TestNamesWithDotsAndStars: schemas with a dot can be chosen, left out and added back, and a
// table whose name has a star can be named exactly.
func TestNamesWithDotsAndStars(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `
CREATE SCHEMA "salt.marsh"; CREATE SCHEMA salt;
CREATE TABLE "salt.marsh".lots (id integer PRIMARY KEY); INSERT INTO "salt.marsh".lots SELECT generate_series(1, 10);
CREATE TABLE "salt.marsh".jars (id integer PRIMARY KEY); INSERT INTO "salt.marsh".jars SELECT generate_series(1, 10);
CREATE TABLE salt."marsh.lots" (id integer PRIMARY KEY); INSERT INTO salt."marsh.lots" SELECT generate_series(1, 20);
CREATE TABLE salt."all*" (id integer PRIMARY KEY); INSERT INTO salt."all*" SELECT generate_series(1, 30);
CREATE TABLE salt."all_of_it" (id integer PRIMARY KEY); INSERT INTO salt."all_of_it" SELECT generate_series(1, 30);
CREATE INDEX all_ids ON "salt.marsh".lots (id); ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{}, `"salt.marsh".*`, `salt.all\*`)
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	names := func() string {
		t.Helper()
		page, err := client.Do[contract.TablePage](f.API.ListTablesWithResponse(t.Context(), "spring",
			&contract.ListTablesParams{Sort: ptr(contract.ListTablesParamsSortName)}))
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, x := range page.Tables {
			out = append(out, x.Name)
		}
		return strings.Join(out, " ")
	}
	if got := names(); got != `"salt.marsh".jars "salt.marsh".lots salt.all*` {
		t.Errorf("chosen are %s", got)
	}
	f.must("crossing", "leave-out", "spring", `"salt.marsh".jars`, "--confirm", `"salt.marsh".jars`)
	f.must("crossing", "leave-out", "spring", "salt.all*", "--confirm", "salt.all*")
	if got := names(); got != `"salt.marsh".lots` {
		t.Errorf("chosen are %s", got)
	}
	exec1(t, p.targetURL(), `DROP TABLE "salt.marsh".jars, salt."all*"`)
	for _, name := range []string{`"salt.marsh".jars`, "salt.all*", `salt."marsh.lots"`} {
		f.must("crossing", "add-table", "spring", name)
		f.await(time.Minute, "in step with "+name, func(c contract.Crossing) bool {
			return f.task("add a table").State == contract.TaskStateDone && c.Phase == contract.PhaseInStep
		})
	}
	if a := f.cli("crossing", "add-table", "spring", "salt.marsh.lots"); a.code == 0 ||
		!strings.Contains(a.err, "quotation marks") {
		t.Errorf("%+v", a)
	}
	if got := names(); got != `"salt.marsh".jars "salt.marsh".lots salt."marsh.lots" salt.all*` {
		t.Errorf("chosen are %s", got)
	}
	exec1(t, p.sourceURL(), `INSERT INTO "salt.marsh".lots VALUES (100); INSERT INTO "salt.marsh".jars VALUES (100);
  INSERT INTO salt."all*" VALUES (100); INSERT INTO salt."marsh.lots" VALUES (100); DROP TABLE salt."all_of_it"`)
	settle(t, f)
	sameEverywhere(t, p, "salt.marsh")
	sameEverywhere(t, p, "salt")
	f.must("crossing", "restart", "spring", "--table", `"salt.marsh".lots`, "--confirm", `"salt.marsh".lots`)
	eventually(t, time.Minute, func() bool {
		return told(f.journalOf("restart"), `"salt.marsh".lots has been emptied`) && f.show().Phase == contract.PhaseInStep
	})
	if n := one[int](t, p.targetURL(), `SELECT count(*)::int FROM pg_index
  WHERE indexrelid = to_regclass('"salt.marsh".all_ids')`); n != 1 {
		t.Error("the index was not built again")
	}
	sameEverywhere(t, p, "salt.marsh")
}

// TestAPersonsComparisonComesFirst: one that the service makes of itself, of rows that were written
// anew, ends for it.
func TestAPersonsComparisonComesFirst(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots
  SELECT g, g FROM generate_series(1, 2000) g; ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	lock, err := pgx.Connect(t.Context(), p.targetURL())
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = lock.Close(context.WithoutCancel(t.Context())) }()
	if _, err := lock.Exec(t.Context(), "BEGIN; LOCK TABLE public.lots IN ACCESS EXCLUSIVE MODE"); err != nil {
		t.Fatal(err)
	}
	exec1(t, p.sourceURL(), "VACUUM FULL public.lots")
	comparing := func(actor string) bool {
		list, err := client.Do[[]contract.Task](f.API.ListTasksWithResponse(t.Context(), "spring"))
		if err != nil {
			t.Fatal(err)
		}
		return slices.ContainsFunc(list, func(k contract.Task) bool {
			return k.Kind == "reconcile" && k.Actor == actor && k.State == "running"
		})
	}
	eventually(t, 120*time.Second, func() bool {
		if _, err := client.Do[[]contract.Entry](f.API.GetReadinessWithResponse(t.Context(), "spring")); err != nil {
			t.Fatal(err)
		}
		return comparing("dusty ferry")
	})
	r, err := client.Do[contract.Reconciliation](f.API.ReconcileWithResponse(t.Context(), "spring",
		contract.NewReconciliation{Depth: contract.NewReconciliationDepthHashes}))
	if err != nil {
		t.Fatalf("a person's comparison is refused: %v", err)
	}
	if comparing("dusty ferry") {
		t.Error("both go on")
	}
	if _, err := lock.Exec(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	eventually(t, 120*time.Second, func() bool {
		r, err = client.Do[contract.Reconciliation](f.API.GetReconciliationWithResponse(t.Context(), "spring", r.Id))
		return err != nil || r.EndedAt != nil
	})
	if err != nil || r.State != "clean" {
		t.Errorf("%+v (%v)", r, err)
	}
}
