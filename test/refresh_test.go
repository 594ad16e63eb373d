package test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestRefreshPastWatermarks repeats a load of sources whose log is not read: by their
// watermarks only new and changed rows travel, with an overlap for what was under way; a
// comparison finds what was deleted.
func TestRefreshPastWatermarks(t *testing.T) {
	for _, way := range [][3]string{{"postgres", "postgres"}, {"mariadb", "postgres", "in place"}, {"postgres", "mariadb"},
		{"postgres", "postgres", "in place"}} {
		t.Run(strings.TrimSpace(way[0]+" to "+way[1]+" "+way[2]), func(t *testing.T) {
			refreshes(t, way[0], way[1], way[2] != "")
		})
	}
}

// refreshes repeats a load; a table without a watermark is emptied for it, or, in place,
// has its rows at every moment.
func refreshes(t *testing.T, from, to string, inPlace bool) {
	f := start(t)
	source, target := f.sideOf(from, "old"), f.sideOf(to, "new")
	stamp := map[string]string{"postgres": "timestamptz", "mariadb": "timestamp(6)"}[from]
	numbers := map[string]string{"postgres": "FROM generate_series(1, 5000) g(seq)", "mariadb": "FROM seq_1_to_5000"}[from]
	ago := func(minutes int) string {
		return map[string]string{"postgres": fmt.Sprintf("now() - interval '%d minutes'", minutes),
			"mariadb": fmt.Sprintf("now(6) - interval %d minute", minutes)}[from]
	}
	source.exec("CREATE TABLE inspections (id int PRIMARY KEY, mites int, changed_at " + stamp + " NULL)")
	source.exec("INSERT INTO inspections SELECT seq, 0, " + ago(600) + " " + numbers)
	source.exec("CREATE TABLE scale_readings (id bigint PRIMARY KEY, grams int)")
	source.exec("INSERT INTO scale_readings SELECT seq, 40000 " + numbers)
	source.exec("CREATE TABLE lots (id int PRIMARY KEY, grams int)")
	source.exec("INSERT INTO lots VALUES (1, 500), (2, 300)")
	schema := ""
	if to == "postgres" {
		schema = ", schema: " + target.schema
	}
	manifest := fmt.Sprintf(`dusty_ferry: 1
crossing:
  name: spring
  follow_changes: false
  source: old
  target: new
  tables: ["%[1]s.*"]
  rules:
  - {tables: "%[1]s.inspections", watermark: changed_at, overlap: 5m%[2]s}
  - {tables: "%[1]s.scale_readings", watermark: id, overlap: "10"%[2]s}
  - {tables: "%[1]s.lots"%[3]s}
  settings: {repeat: %[4]s}
`, source.schema, schema, map[bool]string{true: schema, false: ", note: small"}[schema != ""],
		map[bool]string{true: "in place", false: "empty first"}[inPlace])
	if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("survey", "spring"); !strings.Contains(a.out, "no index begins with changed_at") ||
		strings.Contains(a.out, "no index begins with id") {
		t.Errorf("survey:\n%s%s", a.out, a.err)
	}
	if a := f.cli("crossing", "refresh", "spring"); a.code == 0 ||
		!strings.Contains(a.err, "when the load before has ended") {
		t.Errorf("a refresh before the load: %+v", a)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)

	// A new row, a changed one, one written late within the overlap, one before it (which
	// no watermark can see), one without a value, and a deleted one.
	source.exec("INSERT INTO inspections VALUES (5001, 1, " + ago(0) + ")")
	source.exec("UPDATE inspections SET mites = 2, changed_at = " + ago(0) + " WHERE id = 7")
	source.exec("UPDATE inspections SET mites = 3, changed_at = " + ago(602) + " WHERE id = 8")
	source.exec("UPDATE inspections SET mites = 4, changed_at = " + ago(660) + " WHERE id = 9")
	source.exec("UPDATE inspections SET mites = 5, changed_at = NULL WHERE id = 10")
	source.exec("DELETE FROM inspections WHERE id = 11")
	source.exec("INSERT INTO scale_readings VALUES (5001, 41000)")
	source.exec("UPDATE lots SET grams = 501 WHERE id = 1")
	source.exec("INSERT INTO lots VALUES (3, 200)")
	does := map[bool]string{true: "replaces all rows", false: "empties"}[inPlace]
	if a := f.cli("crossing", "refresh", "spring"); a.code == 0 || !strings.Contains(a.err, "confirm") ||
		!strings.Contains(a.err, does) {
		t.Errorf("lots would be loaded anew: %+v", a)
	}
	done := make(chan struct{})
	var reading sync.WaitGroup
	reading.Go(func() {
		for first := ""; ; time.Sleep(3 * time.Millisecond) {
			select {
			case <-done:
				if inPlace == (first != "") {
					t.Errorf("in place: %t, and somebody who reads the target saw %q lots", inPlace, first)
				}
				return
			default:
				if got := target.texts("SELECT concat('', count(*)) FROM " + target.schema + ".lots"); got[0] == "0" {
					first = got[0]
				}
			}
		}
	})
	if a := f.cli("crossing", "refresh", "spring", "--confirm", "new"); a.code != 0 {
		t.Fatal(a.err)
	}
	runs := func() []contract.Run {
		t.Helper()
		list, err := client.Do[[]contract.Run](f.API.ListRunsWithResponse(t.Context(), "spring"))
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	eventually(t, 30*time.Second, func() bool { r := runs(); return len(r) == 2 && r[0].State == "done" })
	close(done)
	reading.Wait()
	// Every inspection of the first load is within five minutes of the watermark.
	if r := runs()[0]; !strings.HasPrefix(r.Note, "5\u2009011 rows past the watermarks of 2 tables") {
		t.Errorf("the run: %+v", r)
	}
	rows := func(s side, from string) []string {
		return s.texts("SELECT concat_ws('|', id, mites) FROM " + s.schema + ".inspections WHERE " + from)
	}
	sameTexts(t, "inspections", rows(source, "id NOT IN (9)"), rows(target, "id NOT IN (9, 11)"))
	if got := rows(target, "id IN (9, 11)"); len(got) != 2 {
		t.Errorf("what no watermark can see: %v", got)
	}
	sameTexts(t, "lots", []string{"501", "300", "200"}, target.texts("SELECT concat('', grams) FROM "+target.schema+
		".lots"))
	source.exec("DELETE FROM lots WHERE id = 2")

	// The second time only what is past the new watermark travels: now and its overlap.
	source.exec("UPDATE inspections SET mites = 6, changed_at = " + ago(0) + " WHERE id = 12")
	if a := f.cli("crossing", "refresh", "spring", "--confirm", "new"); a.code != 0 {
		t.Fatal(a.err)
	}
	eventually(t, 30*time.Second, func() bool { r := runs(); return len(r) == 3 && r[0].State == "done" })
	t.Log(f.cli("runs", "spring").out)
	// 7, 12, 5001, and 10 without a value; readings from 4991 on
	if r := runs()[0]; !strings.HasPrefix(r.Note, "15 rows past") {
		t.Errorf("the second run: %+v", r)
	} else if r.Rows != 17 || r.Tables != 3 { // and the lots that were loaded anew
		t.Errorf("the second run's figures: %+v", r)
	}
	sameTexts(t, "inspections", rows(source, "id = 12"), rows(target, "id = 12"))
	sameTexts(t, "lots", []string{"501", "200"}, target.texts("SELECT concat('', grams) FROM "+target.schema+".lots"))

	// A comparison finds the two that differ, and a repair mends them.
	if a := f.cli("reconcile", "spring"); a.code != 3 {
		t.Errorf("%+v", a)
	}
	if a := f.cli("repair", "spring", "--confirm", "spring"); a.code != 0 {
		t.Errorf("%+v", a)
	}
	sameTexts(t, "inspections, mended", rows(source, "true"), rows(target, "true"))
}
