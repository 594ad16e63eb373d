package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestLongValues: values longer than a rule allows are refused by name, or cut with a
// record, in the load and in the changes that follow; and a comparison knows of it.
func TestLongValues(t *testing.T) {
	for _, from := range []string{"postgres", "mariadb"} {
		for _, to := range []string{"postgres", "mariadb"} {
			t.Run(from+" to "+to, func(t *testing.T) { longValues(t, from, to) })
		}
	}
}

func longValues(t *testing.T, from, to string) {
	f := start(t)
	source, target := f.sideOf(from, "old"), f.sideOf(to, "new")
	numbers := map[string]string{"postgres": "FROM generate_series(1, 3000) g(seq)", "mariadb": "FROM seq_1_to_3000"}[from]
	photo := map[string]string{"postgres": "bytea", "mariadb": "longblob"}
	bytesOf := map[string]string{"postgres": "convert_to('%s', 'UTF8')", "mariadb": "'%s'"}[from]
	schema := map[bool]string{true: "", false: fmt.Sprintf("    schema: %s\n", target.schema)}[to == "mariadb"]
	source.exec("CREATE TABLE visitor_notes (id int PRIMARY KEY, note text, photo " + photo[from] + ")")
	source.exec("INSERT INTO visitor_notes SELECT seq, 'kind', NULL " + numbers)
	long := strings.Repeat("é", 60) // 120 bytes
	change := func(id int, note, photo string) {
		source.exec(fmt.Sprintf("UPDATE visitor_notes SET note = '%s', photo = "+bytesOf+" WHERE id = %d", note, photo, id))
	}
	change(11, long, "tiny")
	change(2900, "kind", strings.Repeat("x", 300))
	columns := `      note: {longest: 51, cut: %v}
      "*": {longest: 100, cut: %v}
`
	manifest := `dusty_ferry: 1
crossing:
  name: spring
  follow_changes: true
  source: old
  target: new
  tables: ["` + source.schema + `.visitor_notes"]
  rules:
  - tables: "*.visitor_notes"
` + schema + `    columns:
` + fmt.Sprintf(columns, false, false) + `  settings: {chunk_size: 64KB, lanes: 2}
`
	if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("fit", "spring"); !strings.Contains(a.out, "51 that a rule allows") ||
		!strings.Contains(a.out, "100 that a rule allows") {
		t.Errorf("fit: %+v", a)
	}
	f.startCrossing()
	c := f.await(time.Minute, "held", func(c contract.Crossing) bool { return c.Condition == contract.ConditionHeld })
	// what it is, only those see who may see rows
	if !strings.Contains(c.Reason, "visitor_notes") || !strings.Contains(c.Reason, "1 value of") ||
		!strings.Contains(c.Reason, "does not fit") {
		t.Errorf("held: %s", c.Reason)
	}
	// The same again, cut.
	for _, say := range []string{"crossing close spring --confirm spring --wait",
		"crossing remove spring --confirm spring"} {
		if a := f.cli(strings.Fields(say)...); a.code != 0 {
			t.Fatalf("%s: %+v", say, a)
		}
	}
	target.exec("DROP TABLE IF EXISTS " + target.schema + ".visitor_notes")
	manifest = strings.Replace(manifest, fmt.Sprintf(columns, false, false), fmt.Sprintf(columns, true, true), 1)
	if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("fit", "spring"); !strings.Contains(a.out, "will be cut to 51 bytes") ||
		!strings.Contains(a.out, "will be cut to 100 bytes") {
		t.Errorf("fit: %+v", a)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	change(12, long, strings.Repeat("y", 101))
	change(13, "short", strings.Repeat("y", 100))
	there := map[string]string{"postgres": "SELECT concat_ws('|', id, note, convert_from(photo, 'UTF8')) FROM ",
		"mariadb": "SELECT concat_ws('|', id, note, convert(photo using utf8mb4)) FROM "}[to] + target.schema +
		".visitor_notes WHERE id IN (11, 12, 13, 2900)"
	cut := strings.Repeat("é", 25)
	want := []string{"11|" + cut + "|tiny", "12|" + cut + "|" + strings.Repeat("y", 100), "13|short|" + strings.Repeat("y",
		100), "2900|kind|" + strings.Repeat("x", 100)}
	eventually(t, 20*time.Second, func() bool {
		return strings.Contains(strings.Join(target.texts(there), "\n"), "13|short")
	})
	sameTexts(t, "visitor_notes", want, target.texts(there))
	yes := true
	page, err := client.Do[contract.RejectedRowsPage](f.API.ListRejectedRowsWithResponse(t.Context(), "spring",
		&contract.ListRejectedRowsParams{Cut: &yes}))
	if err != nil || page.Total != 2 || (*page.Rows[0].Key)[0] != "11" || page.Rows[0].Column != "note" ||
		(*page.Rows[1].Key)[0] != "2900" || page.Rows[1].Column != "photo" {
		t.Errorf("%+v, %v", page, err)
	}
	if a := f.cli("crossing", "rejected", "spring", "--cut"); !strings.Contains(a.out,
		"cut: it has 120 bytes, more than the 51 that a rule allows") {
		t.Errorf("%+v", a)
	} else {
		t.Log("\n" + a.out)
	}
	if a := f.cli("reconcile", "spring"); a.code != 0 || !strings.Contains(a.out, "clean") {
		t.Errorf("a comparison finds what was cut:\n%s%s", a.out, a.err)
	}
	eventually(t, 30*time.Second, func() bool {
		return strings.Contains(f.cli("journal", "--crossing", "spring").out, "2 values of "+source.schema+
			".visitor_notes brought by changes")
	})
	for _, c := range []struct{ say, want string }{{"crossing close spring --confirm spring --wait", ""},
		{"certificate spring", "CUT BY THE LOAD"}} {
		if a := f.cli(strings.Fields(c.say)...); a.code != 0 || !strings.Contains(a.out, c.want) {
			t.Errorf("%s: %+v", c.say, a)
		}
	}
}
