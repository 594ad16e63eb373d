package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestCaptureOntoRowsThatAreThere follows changes from a place that a person gives, onto
// a copy that was made at that place by other means, stops where a person says and goes
// on; source transactions before the place and after the stop are not applied.
func TestCaptureOntoRowsThatAreThere(t *testing.T) {
	for _, c := range []struct{ from, to, how string }{{"postgres", "postgres", "now"}, {"postgres", "postgres", "slot"},
		{"mariadb", "mariadb", "place"}, {"mariadb", "postgres", "gtid"}} {
		t.Run(c.from+" to "+c.to+" from "+c.how, func(t *testing.T) { capturesOnto(t, c.from, c.to, c.how) })
	}
}

func capturesOnto(t *testing.T, from, to, how string) {
	f := start(t)
	source, target := f.sideOf(from, "old"), f.sideOf(to, "new")
	source.exec("CREATE TABLE lots (id int PRIMARY KEY, grams int)")
	source.exec("INSERT INTO lots VALUES (1, 500), (2, 600)")
	set := "settings: {"
	switch how {
	case "slot":
		source.exec("CREATE PUBLICATION dusty FOR TABLE lots")
		source.exec("SELECT pg_create_logical_replication_slot('dusty', 'pgoutput')")
	}
	source.exec("INSERT INTO lots VALUES (3, 700)")
	place := func() string {
		if from == "postgres" {
			return source.texts("SELECT pg_current_wal_insert_lsn()::text")[0]
		}
		return source.texts("SELECT concat('saltmarsh.', lpad(variable_value, 6, '0')) " +
			"FROM (SELECT 1 AS variable_value) x")[0]
	}
	switch how {
	case "slot":
		set += "slot: dusty, start_from: " + place()
	case "place", "gtid":
		file, gtid := f.masterPlace(t)
		set += "start_from: " + map[string]string{"place": `"` + file + `"`, "gtid": `"` + gtid + `"`}[how]
	}
	// The copy, as it was at that place.
	target.exec("CREATE TABLE lots (id int PRIMARY KEY, grams int)")
	target.exec("INSERT INTO lots VALUES (1, 500), (2, 600), (3, 700)")
	if how != "now" {
		source.exec("UPDATE lots SET grams = grams + 1 WHERE id = 1")
		source.exec("INSERT INTO lots VALUES (4, 800)")
	}
	rules := ""
	if r := toSchema(from, to, source.schema); r != "" {
		rules = "  rules:\n" + r + "\n"
	}
	if a := f.cli("crossing", "create", "--file", write(t, fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  "+
		"copy_rows: false\n  source: old\n  target: new\n  tables: [\"%s.*\"]\n%s  %s}\n", source.schema, rules,
		set))); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("survey", "spring"); !strings.Contains(a.out, "onto rows that must be those of the source") {
		t.Errorf("survey: %s%s", a.out, a.err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	source.exec("UPDATE lots SET grams = grams * 2 WHERE id = 2")
	source.exec("DELETE FROM lots WHERE id = 3")
	rows := func(s side) []string {
		return s.texts("SELECT concat_ws('|', id, grams) FROM " + s.schema + ".lots ORDER BY id")
	}
	settle(t, f)
	sameTexts(t, "lots", rows(source), rows(target))
	if a := f.cli("crossing", "restart", "spring", "--all", "--confirm", "spring"); a.code == 0 ||
		!strings.Contains(a.err, "only follows changes") {
		t.Errorf("a restart, which would empty the tables: %+v", a)
	}

	// It stops at a time, before what is committed later, and says where.
	at := time.Now().Add(4 * time.Second).UTC().Truncate(time.Second)
	if a := f.cli("crossing", "set", "spring", "--stop-at", at.Format(time.RFC3339)); a.code != 0 {
		t.Fatal(a.err)
	}
	source.exec("INSERT INTO lots VALUES (10, 1)")
	time.Sleep(time.Until(at.Add(1200 * time.Millisecond)))
	source.exec("INSERT INTO lots VALUES (11, 1)")
	c := f.await(30*time.Second, "stopped", func(c contract.Crossing) bool {
		return c.Condition == contract.ConditionPaused
	})
	if !strings.Contains(c.Reason, "stop_at") || !strings.Contains(c.Reason, "log position") {
		t.Error(c.Reason)
	}
	before, after := rows(source), rows(target)
	if len(before) != len(after)+1 || after[len(after)-1] != "10|1" {
		t.Errorf("stopped with %v of %v", after, before)
	}
	// At a place, between two transactions that follow one another.
	var stop string
	if from == "postgres" {
		stop = place()
	} else {
		stop, _ = f.masterPlace(t)
	}
	source.exec("INSERT INTO lots VALUES (12, 1)")
	for _, step := range [][]string{{"crossing", "set", "spring", "--stop-at", stop}, {"crossing", "resume", "spring"}} {
		if a := f.cli(step...); a.code != 0 {
			t.Fatal(a.err)
		}
	}
	f.await(30*time.Second, "stopped again", func(c contract.Crossing) bool {
		return c.Condition == contract.ConditionPaused && strings.Contains(c.Reason, stop[len(stop)-5:])
	})
	if after := rows(target); after[len(after)-1] != "11|1" {
		t.Errorf("stopped at %s with %v", stop, after)
	}
	for _, step := range [][]string{{"crossing", "set", "spring", "--stop-at", ""}, {"crossing", "resume", "spring"}} {
		if a := f.cli(step...); a.code != 0 {
			t.Fatal(a.err)
		}
	}
	f.await(30*time.Second, "running", func(c contract.Crossing) bool {
		return c.Condition == contract.ConditionRunning && c.Progress.Capture != "waiting"
	})
	settle(t, f)
	sameTexts(t, "lots at the end", rows(source), rows(target))
	if a := f.cli("crossing", "set", "spring", "--stop-at", "noon"); a.code == 0 ||
		!strings.Contains(a.err, "a time such as") {
		t.Errorf("%+v", a)
	}
	if a := f.cli("crossing", "close", "spring", "--wait", "--confirm", "spring"); a.code != 0 {
		t.Fatal(a.err)
	}
	if how == "slot" {
		if n := source.texts("SELECT slot_name::text FROM pg_replication_slots WHERE slot_name = 'dusty'"); len(n) != 1 {
			t.Error("the person's slot was dropped")
		}
		eventually(t, 10*time.Second, func() bool { // whoever read from it is letting go
			return len(source.texts("SELECT pg_drop_replication_slot(slot_name)::text FROM pg_replication_slots WHERE "+
				"slot_name = 'dusty' AND NOT active")) == 1
		})
	}
}

// masterPlace is where MariaDB's log ends, as people copy it: file and offset, and GTID.
func (f *ferry) masterPlace(t *testing.T) (file, gtid string) {
	t.Helper()
	_, db := newMaria(t)
	var offset string
	var ignored any
	if err := db.QueryRowContext(t.Context(), "SHOW MASTER STATUS").Scan(&file, &offset, &ignored, &ignored); err != nil {
		t.Fatal(err)
	}
	if err := db.QueryRowContext(t.Context(), "SELECT @@gtid_binlog_pos").Scan(&gtid); err != nil {
		t.Fatal(err)
	}
	return file + ":" + offset, gtid
}

// TestTheSourcesLogIsBounded lets a source keep more log than a crossing allows: people
// are warned, and then it goes on, or the log is released and the crossing held.
func TestTheSourcesLogIsBounded(t *testing.T) {
	for _, over := range []string{"go on", "release"} {
		t.Run(over, func(t *testing.T) {
			p := newPair(t)
			exec1(t, p.sourceURL(), `CREATE TABLE public.readings (id integer PRIMARY KEY, note text);
  INSERT INTO public.readings VALUES (1, 'x')`)
			f := start(t)
			way := contract.SettingsRetainedOver(over)
			f.cross(p, contract.Settings{RetainedLimit: ptr(int64(20 << 20)), RetainedOver: &way}, "public.*")
			f.startCrossing()
			f.awaitPhase(contract.PhaseInStep)
			if _, err := client.Do[contract.Crossing](f.API.PauseCrossingWithResponse(t.Context(), "spring",
				contract.PauseCrossingJSONRequestBody{})); err != nil {
				t.Fatal(err)
			}
			fill := func(mb int) {
				exec1(t, p.sourceURL(), fmt.Sprintf(`INSERT INTO public.readings SELECT (SELECT max(id) FROM public.readings) + g,
  md5(g::text) || repeat('x', 1000) FROM generate_series(1, %d) g`, mb*900))
			}
			fill(18)
			said := func(text string) func() bool {
				return func() bool { return strings.Contains(f.cli("journal", "--crossing", "spring").out, text) }
			}
			eventually(t, 20*time.Second, said("are allowed (retained_limit)"))
			fill(12)
			if over == "go on" {
				eventually(t, 20*time.Second, said("capture goes on, as the crossing says"))
				c := f.show()
				if c.Progress.RetainedBytes < 20<<20 || c.Progress.RetainedSeconds == nil || *c.Progress.RetainedSeconds <= 0 {
					t.Errorf("log kept: %d bytes, %v", c.Progress.RetainedBytes, c.Progress.RetainedSeconds)
				}
				if _, err := client.Do[contract.Crossing](f.API.ResumeCrossingWithResponse(t.Context(), "spring")); err != nil {
					t.Fatal(err)
				}
				eventually(t, 60*time.Second, func() bool { // the server moves its own mark only now and then
					exec1(t, p.sourceURL(), "CHECKPOINT")
					return said("well below its limit again")()
				})
				settle(t, f)
				sameEverywhere(t, p, "public")
				return
			}
			// It stays paused, as a person wanted it, and says beside it what has happened.
			c := f.await(20*time.Second, "waiting for a person", func(c contract.Crossing) bool {
				return strings.Contains(c.WaitsFor, "released")
			})
			if c.Condition != contract.ConditionPaused || !strings.Contains(c.WaitsFor, "restart") {
				t.Errorf("%s, %s", c.Condition, c.WaitsFor)
			}
			eventually(t, 10*time.Second, func() bool {
				return one[int](t, p.sourceURL(), `SELECT count(*)::int FROM pg_replication_slots
  WHERE database = current_database()`) == 0
			})
			if a := f.cli("crossing", "restart", "spring", "--all", "--confirm", "spring"); a.code != 0 {
				t.Fatal(a.err)
			}
			f.await(20*time.Second, "prepared", func(c contract.Crossing) bool {
				return c.Phase == contract.PhaseLoading && c.Condition == contract.ConditionPaused && c.WaitsFor == ""
			})
			if a := f.cli("crossing", "resume", "spring"); a.code != 0 {
				t.Fatal(a.err)
			}
			eventually(t, time.Minute, func() bool { // once more: the phase may still be that of before
				return strings.Count(f.cli("journal", "--crossing", "spring").out, "spring is in step now") == 2
			})
			settle(t, f)
			sameEverywhere(t, p, "public")
		})
	}
}
