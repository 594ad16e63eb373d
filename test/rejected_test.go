package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestRowsThatCannotLand plants rows among thousands that the target's table refuses:
// they are named, with column and value, and by choice set aside while all others land.
func TestRowsThatCannotLand(t *testing.T) {
	for _, from := range []string{"postgres", "mariadb"} {
		for _, to := range []string{"postgres", "mariadb"} {
			t.Run(from+" to "+to, func(t *testing.T) { rowsThatCannotLand(t, from, to) })
		}
	}
}

func rowsThatCannotLand(t *testing.T, from, to string) {
	f := start(t)
	source, target := f.sideOf(from, "old"), f.sideOf(to, "new")
	numbers := map[string]string{"postgres": "FROM generate_series(1, 20000) g(seq)",
		"mariadb": "FROM seq_1_to_20000"}[from]
	source.exec("CREATE TABLE hives (id int PRIMARY KEY, grams int NOT NULL, note varchar(40))")
	source.exec("INSERT INTO hives SELECT seq, 40000, 'calm' " + numbers)
	for _, id := range []int{7, 777, 778, 19999} {
		source.exec(fmt.Sprintf("UPDATE hives SET grams = -%d WHERE id = %d", id, id))
	}
	// The target's table has a rule of its own, which the survey cannot know to be broken.
	target.exec("CREATE TABLE hives (id int PRIMARY KEY, grams int NOT NULL, note varchar(40), CONSTRAINT weighed CHECK " +
		"(grams >= 0))")
	manifest := fmt.Sprintf(`dusty_ferry: 1
crossing:
  name: spring
  follow_changes: false
  source: old
  target: new
  tables: ["%s.hives"]
  rules:
  - {tables: "%s.hives", schema: %s}
  settings: {chunk_size: 256KB, lanes: 2, existing_rows: keep}
`, source.schema, source.schema, target.schema)
	if to == "mariadb" {
		manifest = strings.Replace(manifest, fmt.Sprintf("  rules:\n  - {tables: \"%s.hives\", schema: %s}\n", source.schema,
			target.schema), "", 1)
	}
	if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
		t.Fatal(a.err)
	}
	f.startCrossing()
	c := f.await(time.Minute, "held", func(c contract.Crossing) bool { return c.Condition == contract.ConditionHeld })
	if !strings.Contains(c.Reason, "cannot land: key ") || !strings.Contains(c.Reason, "set aside") {
		t.Errorf("held: %s", c.Reason)
	}
	if a := f.cli("crossing", "set", "spring", "--bad-rows", "set aside", "--bad-rows-limit", "3"); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("crossing", "resume", "spring"); a.code != 0 {
		t.Fatal(a.err)
	}
	c = f.await(time.Minute, "held at its limit", func(c contract.Crossing) bool {
		// by a chunk that was at its end
		if c.Condition == contract.ConditionHeld && !strings.Contains(c.Reason, "bad_rows_limit") {
			f.must("crossing", "resume", "spring")
		}
		return c.Condition == contract.ConditionHeld && strings.Contains(c.Reason, "bad_rows_limit")
	})
	if a := f.cli("crossing", "set", "spring", "--bad-rows-limit", "4"); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("crossing", "resume", "spring"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.awaitPhase(contract.PhaseInStep)
	sameTexts(t, "hives", source.texts("SELECT concat_ws('|', id, grams, note) FROM "+source.schema+".hives"+
		" WHERE grams >= 0"), target.texts("SELECT concat_ws('|', id, grams, note) FROM "+target.schema+".hives"))
	page, err := client.Do[contract.RejectedRowsPage](f.API.ListRejectedRowsWithResponse(t.Context(), "spring",
		&contract.ListRejectedRowsParams{}))
	if err != nil || page.Total != 4 {
		t.Fatalf("%+v, %v", page, err)
	}
	for _, r := range page.Rows {
		if grams := r.Row["grams"]; r.Key == nil || grams == nil || *grams != "-"+(*r.Key)[0] || r.Error == "" {
			t.Errorf("%+v", r)
		}
	}
	// The account of the crossing is honest about them.
	for _, c := range []struct{ want, say string }{{"", "crossing close spring --confirm spring --wait"},
		{"4 rows that the target could not take", "certificate spring"}} {
		if a := f.cli(strings.Fields(c.say)...); a.code != 0 || !strings.Contains(a.out, c.want) || c.want != "" &&
			!strings.Contains(a.out, "hives key (777)") {
			t.Errorf("%s: %+v", c.say, a)
		}
	}
	a := f.cli("crossing", "rejected", "spring")
	t.Log(a.out)
	if a.code != 0 || !strings.Contains(a.out, "19,999") && !strings.Contains(a.out, "19999") {
		t.Errorf("%+v", a)
	}
}

// TestRejectedRowsAreTriedAgain: once the target takes them, starting the table anew
// leaves none of them behind, nor in the list.
func TestRejectedRowsAreTriedAgain(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.hives (id integer PRIMARY KEY, grams integer); INSERT INTO public.hives
  SELECT g, g - 3 FROM generate_series(1, 500) g; ANALYZE`)
	exec1(t, p.targetURL(), `CREATE TABLE public.hives (id integer PRIMARY KEY,
  grams integer CONSTRAINT weighed CHECK (grams >= 0))`)
	f := start(t)
	f.cross(p, contract.Settings{BadRows: ptr(contract.SettingsBadRowsSetAside)}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	rejected := func() int {
		t.Helper()
		page, err := client.Do[contract.RejectedRowsPage](f.API.ListRejectedRowsWithResponse(t.Context(), "spring",
			&contract.ListRejectedRowsParams{}))
		if err != nil {
			t.Fatal(err)
		}
		return page.Total
	}
	if n := rejected(); n != 2 {
		t.Fatalf("%d rows are set aside", n)
	}
	if a := f.cli("cutover", "ready", "spring"); !strings.Contains(a.out, "rejected rows") {
		t.Errorf("the readiness list says nothing of them:\n%s", a.out)
	}
	// Mended on the source, a row comes by capture; the target's rule gone, the rest does.
	exec1(t, p.sourceURL(), `UPDATE public.hives SET grams = 7 WHERE id = 1`)
	eventually(t, 20*time.Second, func() bool {
		return one[int](t, p.targetURL(), "SELECT count(*)::int FROM public.hives") == 499
	})
	exec1(t, p.targetURL(), `ALTER TABLE public.hives DROP CONSTRAINT weighed`)
	if a := f.cli("crossing", "restart", "spring", "--table", "public.hives", "--confirm", "public.hives"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.await(30*time.Second, "begun again", func(c contract.Crossing) bool { return c.Phase != contract.PhaseInStep })
	f.awaitPhase(contract.PhaseInStep)
	if n := rejected(); n != 0 {
		t.Errorf("%d rows are listed that have landed", n)
	}
	sameEverywhere(t, p, "public")
}

// TestDatesThatNoCalendarHas plants days that MariaDB can be told to keep: a binary form
// would take them for others without a word.
func TestDatesThatNoCalendarHas(t *testing.T) {
	f := start(t)
	source, target := f.sideOf("mariadb", "old"), f.sideOf("postgres", "new")
	source.exec("CREATE TABLE hives (id int PRIMARY KEY, queen date, weighed datetime(3), photo blob, kg decimal(9,3))")
	source.exec("SET STATEMENT sql_mode = 'ALLOW_INVALID_DATES' FOR INSERT INTO hives VALUES (1, '2026-02-28', " +
		"'2024-02-29 23:59:59.999', x'00ff', -1.5), (2, '2026-02-30', NULL, NULL, NULL), (3, NULL, '2026-04-31 10:00:00', " +
		"'', 0), (4, '0000-00-00', '2026-00-01 00:00:00', x'5c78', 12.345)")
	manifest := fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  follow_changes: false\n  source: old\n  "+
		"target: new\n  tables: [\"%s.*\"]\n  rules:\n%s\n  settings: {bad_rows: set aside}\n", source.schema,
		toSchema("mariadb", "postgres", source.schema))
	if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
		t.Fatal(a.err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	got := strings.Join(target.texts("SELECT concat_ws(' ', id, coalesce(queen::text, '~'), coalesce(weighed::text, "+
		"'~'), coalesce(photo::text, '~'), kg) FROM public.hives ORDER BY id"), "; ")
	if got != `1 2026-02-28 2024-02-29 23:59:59.999 \x00ff -1.500; 4 ~ ~ \x5c78 12.345` {
		t.Errorf("landed: %s", got)
	}
	a := f.cli("crossing", "rejected", "spring")
	for _, want := range []string{"2026-02-30", "2026-04-31"} {
		if !strings.Contains(a.out, want) {
			t.Errorf("%s is not shown among the rejected rows:\n%s", want, a.out)
		}
	}
}
