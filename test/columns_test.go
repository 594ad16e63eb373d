package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/contract"
)

// TestColumnsChangeUnderWay alters tables on the source while they are followed and
// written to. What is surely the same on both sides is carried over at its place in the
// log; the rest holds the crossing with what would mend it; no row is wrong.
func TestColumnsChangeUnderWay(t *testing.T) {
	// Both engines as source and as target; the hunter alters tables on all four ways.
	for _, way := range [][2]string{{"postgres", "postgres"}, {"mariadb", "mariadb"}} {
		t.Run(way[0]+" to "+way[1], func(t *testing.T) { columnsChange(t, way[0], way[1]) })
	}
}

func columnsChange(t *testing.T, from, to string) {
	f := start(t)
	source, target := f.sideOf(from, "old"), f.sideOf(to, "new")
	source.exec("CREATE TABLE hives (id int PRIMARY KEY, name varchar(20), frames smallint NOT NULL)")
	source.exec("INSERT INTO hives VALUES (1, 'dyke-1', 10), (2, 'dyke-2', 12)")
	manifest := fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  target: new\n  tables: "+
		"[\"%s.*\"]\n  rules:\n%s\n  settings: {column_changes: carry}\n", source.schema, toSchema(from, to, source.schema))
	if toSchema(from, to, source.schema) == "" {
		manifest = strings.Replace(manifest, "  rules:\n", "", 1)
	}
	if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
		t.Fatal(a.err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	same := func(columns string) {
		t.Helper()
		settle(t, f)
		sameTexts(t, columns, hives(source, columns), hives(target, columns))
	}
	inStepBy := func(command ...string) {
		t.Helper()
		if a := f.cli(command...); a.code != 0 {
			t.Fatal(a.err)
		}
		f.await(time.Minute, "in step again", func(c contract.Crossing) bool {
			return c.Phase == contract.PhaseInStep && c.Condition == contract.ConditionRunning && c.Progress.Capture != "waiting"
		})
	}
	fresh := 10
	insert := func(values string) {
		fresh++
		source.exec(fmt.Sprintf("INSERT INTO hives VALUES (%d, %s)", fresh, values))
	}
	insert("'before', 8")
	// Rows before and after each change, without a pause between them.
	source.exec("ALTER TABLE hives ADD COLUMN mites int")
	insert("'mites', 9, 3")
	source.exec("UPDATE hives SET mites = 7 WHERE id = 1")
	same("name, frames, coalesce(mites, -1)")
	rename := "ALTER TABLE hives RENAME COLUMN mites TO varroa"
	source.exec(rename)
	insert("'varroa', 9, 4")
	same("name, frames, coalesce(varroa, -1)")
	widen := "ALTER TABLE hives ALTER COLUMN name TYPE varchar(40)"
	if from == "mariadb" {
		widen = "ALTER TABLE hives MODIFY COLUMN name varchar(40)"
	}
	source.exec(widen)
	insert("'a name that takes more than twenty', 9, 4")
	same("name, frames, coalesce(varroa, -1)")
	source.exec("ALTER TABLE hives DROP COLUMN varroa")
	insert("'dropped', 11")
	same("name, frames")
	if n := target.texts("SELECT concat('', count(*)) FROM information_schema.columns WHERE table_name = 'hives' AND " +
		"column_name = 'varroa' AND table_schema = '" + target.schema + "'"); n[0] != "0" {
		t.Error("the dropped column still stands on the target")
	}
	if from == "postgres" && to == "postgres" {
		source.exec("ALTER TABLE hives ADD COLUMN site text NOT NULL DEFAULT 'the dyke'")
		insert("'filled', 11, 'the marsh'")
		same("name, frames, site")
		source.exec("ALTER TABLE hives DROP COLUMN site")
		insert("'dropped', 11")
	}
	if from == "mariadb" { // which says of the last statement what it did, also to the rows that were there
		source.exec("ALTER TABLE hives ADD COLUMN site varchar(30) NOT NULL DEFAULT 'the dyke' AFTER id")
		source.exec("INSERT INTO hives VALUES (30, 'the marsh', 'filled', 11)")
		same("name, frames, site")
		source.exec("ALTER TABLE hives ADD COLUMN combs decimal(6,2) DEFAULT 1.5 FIRST, MODIFY COLUMN frames int AFTER id")
		source.exec("INSERT INTO hives VALUES (2.25, 31, 70000, 'the marsh', 'first')")
		same("name, frames, site, combs")
		source.exec("ALTER TABLE hives MODIFY COLUMN site varchar(30) NOT NULL DEFAULT 'the dyke' AFTER combs")
		source.exec("INSERT INTO hives VALUES (2.5, 'the weir', 32, 7, 'moved')")
		same("name, frames, site, combs")
		source.exec("ALTER TABLE hives DROP COLUMN site, DROP COLUMN combs, MODIFY COLUMN frames int AFTER name")
		insert("'dropped', 11")
		same("name, frames")
		// A column with another name and type at once may look like one that went and one that
		// came.
		source.exec("ALTER TABLE hives ADD COLUMN weight int")
		insert("'weight', 11, 3")
		same("name, frames, coalesce(weight, -1)")
		source.exec("ALTER TABLE hives CHANGE COLUMN weight grams bigint")
		insert("'grams', 11, 4")
		c := f.await(30*time.Second, "held by the new name", func(c contract.Crossing) bool {
			return c.Condition == contract.ConditionHeld
		})
		if !strings.Contains(c.Reason, "may be another one that has a new name") {
			t.Error(c.Reason)
		}
		rename := "ALTER TABLE " + target.schema + ".hives RENAME COLUMN weight TO grams"
		target.exec(rename)
		target.exec(map[string]string{"postgres": "ALTER TABLE public.hives ALTER COLUMN grams TYPE bigint",
			"mariadb": "ALTER TABLE " + target.schema + ".hives MODIFY COLUMN grams bigint"}[to])
		inStepBy("crossing", "resume", "spring")
		same("name, frames, coalesce(grams, -1)")
		// Two that change names with each other look like two that change places.
		source.exec("ALTER TABLE hives ADD COLUMN eggs bigint")
		insert("'eggs', 11, 4, 5")
		same("name, frames, coalesce(eggs, -1)")
		source.exec("ALTER TABLE hives RENAME COLUMN grams TO eggs, RENAME COLUMN eggs TO grams")
		insert("'swapped', 11, 6, 7")
		c = f.await(30*time.Second, "held by the swap", func(c contract.Crossing) bool {
			return c.Condition == contract.ConditionHeld
		})
		if !strings.Contains(c.Reason, "restart") {
			t.Error(c.Reason)
		}
		inStepBy("crossing", "restart", "spring", "--table", source.schema+".hives", "--confirm", source.schema+".hives")
		same("name, frames, coalesce(grams, -1), coalesce(eggs, -1)")
		source.exec("ALTER TABLE hives DROP COLUMN grams, DROP COLUMN eggs")
		insert("'dropped', 11")
		same("name, frames")
	}

	// A value of which the log says nothing: it must be held, with what mends it.
	unknown := "ALTER TABLE hives ADD COLUMN weighed double precision DEFAULT random()"
	if from == "mariadb" {
		unknown = "ALTER TABLE hives ADD COLUMN weighed double DEFAULT (rand())"
	}
	source.exec(unknown)
	insert("'unknown', 11, 0.5")
	c := f.await(30*time.Second, "held", func(c contract.Crossing) bool { return c.Condition == contract.ConditionHeld })
	for _, want := range []string{"weighed", "ADD COLUMN", "restart", "resume"} {
		if !strings.Contains(c.Reason, want) {
			t.Errorf("the reason lacks %q: %s", want, c.Reason)
		}
	}
	t.Log(c.Reason)
	mend := "ALTER TABLE " + target.schema + ".hives ADD COLUMN weighed double precision"
	if to == "mariadb" {
		mend = "ALTER TABLE " + target.schema + ".hives ADD COLUMN weighed double"
	}
	target.exec(mend)
	inStepBy("crossing", "resume", "spring")
	insert("'after', 12, 0.25")
	settle(t, f)
	sameTexts(t, "all but what only the source can know", hives(source, "name, frames"), hives(target, "name, frames"))

	// A type whose values the log does not say either, and a column in another place: the
	// table is restarted, and its plan is made anew.
	change := "ALTER TABLE hives ALTER COLUMN frames TYPE bigint USING frames * 2"
	if from == "mariadb" {
		change = "ALTER TABLE hives MODIFY COLUMN frames bigint FIRST"
	}
	if from == "mariadb" { // what one of two statements did, the catalog does not say any more
		if a := f.cli("crossing", "pause", "spring"); a.code != 0 {
			t.Fatal(a.err)
		}
	}
	source.exec(change)
	switch from {
	case "mariadb":
		source.exec("ALTER TABLE hives MODIFY COLUMN frames bigint FIRST, COMMENT 'in another place'")
		if a := f.cli("crossing", "resume", "spring"); a.code != 0 {
			t.Fatal(a.err)
		}
		source.exec("INSERT INTO hives VALUES (22, 100, 'wider', 0.5)")
	default:
		source.exec("INSERT INTO hives VALUES (100, 'wider', 22, 0.5)")
	}
	c = f.await(30*time.Second, "held again", func(c contract.Crossing) bool {
		return c.Condition == contract.ConditionHeld
	})
	t.Log(c.Reason)
	source.exec("UPDATE hives SET frames = 5000000000 WHERE id = 100")
	inStepBy("crossing", "restart", "spring", "--table", source.schema+".hives", "--confirm", source.schema+".hives")
	source.exec("UPDATE hives SET name = 'at the end' WHERE id = 2")
	settle(t, f)
	sameTexts(t, "everything", hives(source, "name, frames, coalesce(weighed, -1)"),
		hives(target, "name, frames, coalesce(weighed, -1)"))
	if testing.Verbose() {
		t.Log("\n" + f.cli("journal", "--crossing", "spring").out)
	}
}

func hives(s side, columns string) []string {
	return s.texts("SELECT concat_ws('|', id, " + columns + ") FROM " + s.schema + ".hives ORDER BY id")
}

// TestAColumnShowsInALargeTransaction: the change shows in the middle of a transaction that
// is larger than a batch, behind others of the same batch, and the transaction itself may
// alter the table that it writes.
func TestAColumnShowsInALargeTransaction(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY, v integer);
  CREATE TABLE public.b (id integer PRIMARY KEY); CREATE TABLE public.c (id integer PRIMARY KEY)`)
	f := start(t)
	way := contract.SettingsColumnChanges("carry")
	f.cross(p, contract.Settings{BatchChanges: ptr(20), ColumnChanges: &way}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	for _, q := range []string{
		`INSERT INTO public.a SELECT g, g FROM generate_series(1, 5) g`,
		`ALTER TABLE public.b ADD COLUMN note text; ALTER TABLE public.c ADD COLUMN note text`,
		`INSERT INTO public.a SELECT g, g FROM generate_series(6, 9) g`,
		`BEGIN; INSERT INTO public.a SELECT g, g FROM generate_series(100, 160) g; INSERT INTO public.b VALUES (1, 'shows');
  INSERT INTO public.a SELECT g, g FROM generate_series(200, 260) g; INSERT INTO public.c VALUES (1, 'shows too');
  UPDATE public.a SET v = v + 1; COMMIT`,
		`BEGIN; INSERT INTO public.a VALUES (300, 1); ALTER TABLE public.b ADD COLUMN more integer; INSERT INTO public.b
  VALUES (2, 'and', 3); INSERT INTO public.a VALUES (301, 1); COMMIT`,
		`INSERT INTO public.a VALUES (400, 1)`,
	} {
		exec1(t, p.sourceURL(), q)
	}
	f.await(time.Minute, "applied", func(c contract.Crossing) bool {
		if c.Condition == contract.ConditionHeld {
			t.Fatal(c.Reason)
		}
		return c.Progress.LagSeconds < 1 && c.Progress.Capture != "waiting" &&
			one[int](t, p.targetURL(), `SELECT count(*)::int FROM public.a WHERE id = 400`) == 1
	})
	settle(t, f)
	sameEverywhere(t, p, "public")
}
