package test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestForthAndBackAndForth: a cutover opens a way back; what is written on the new side comes to the
// old one, which takes nobody else's; going back is a cutover that loses nothing, and one goes forth
// again.
func TestForthAndBackAndForth(t *testing.T) {
	for _, pair := range [][2]string{{"postgres", "postgres"}, {"mariadb", "mariadb"}, {"postgres", "mariadb"},
		{"mariadb", "postgres"}} {
		t.Run(pair[0]+" to "+pair[1], func(t *testing.T) { forthAndBack(t, pair[0], pair[1]) })
	}
}

// shores are two databases that crossings go between.
type shores struct {
	*ferry
	old, new           side
	oldTable, newTable func(name string) string
}

// rows are all of both tables as one side has them.
func (s *shores) rows(at side, table func(string) string) []string {
	out := at.texts("SELECT concat_ws('|', id, name, frames, weight, CASE WHEN kept = '1' THEN 'yes' ELSE 'no' END, " +
		"seen) FROM " + table("hives") + " ORDER BY id")
	return append(out, at.texts("SELECT coalesce(note, 'none') AS note FROM "+table("notes")+" ORDER BY 1")...)
}

// equal waits until both sides have the same rows.
func (s *shores) equal(what string) {
	s.t.Helper()
	var a, b []string
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if a, b = s.rows(s.old, s.oldTable), s.rows(s.new, s.newTable); slices.Equal(a, b) {
			return
		}
	}
	s.t.Fatalf("%s: the old side has\n%s\nthe new one\n%s", what, strings.Join(a, "\n"), strings.Join(b, "\n"))
}

// phase waits for a crossing to come to a phase.
func (s *shores) phase(name string, want contract.Phase) {
	s.t.Helper()
	eventually(s.t, time.Minute, func() bool {
		c, err := client.Do[contract.Crossing](s.API.GetCrossingWithResponse(s.t.Context(), name))
		if err == nil && c.Condition == contract.ConditionHeld {
			s.story()
			s.t.Fatalf("%s is held: %s", name, c.Reason)
		}
		return err == nil && c.Phase == want
	})
}

// cut carries out the cutover of a crossing.
func (s *shores) cut(name string, word bool) {
	s.t.Helper()
	if a := s.cli("cutover", "start", name, "--confirm", name); a.code != 0 && !(word && strings.Contains(a.out+a.err,
		"confirm")) { // it ends where it waits for a person
		s.story()
		s.t.Fatalf("%+v", a)
	}
	if word {
		eventually(s.t, time.Minute, func() bool { return s.cli("cutover", "confirm", name).code == 0 })
	}
	s.phase(name, contract.PhaseCutOver)
}

// write is what an application does on the live side; n keeps one round's rows from another's.
func (s *shores) write(at side, table func(string) string, n int) {
	s.t.Helper()
	h, notes := table("hives"), table("notes")
	for _, q := range []string{
		fmt.Sprintf("INSERT INTO %s VALUES (%d, 'new ''n'' old', 5, 1.50, '1', '2026-05-01 10:00:00', "+
			"'queens,swarms')", h, 100*n+1),
		fmt.Sprintf("INSERT INTO %s VALUES (%d, '', 5, NULL, '0', NULL, 'wax')", h, 100*n+2),
		fmt.Sprintf("UPDATE %s SET frames = frames + 1, name = 'ümlaut 🐝' WHERE id = %d", h, n),
		fmt.Sprintf("DELETE FROM %s WHERE id = %d", h, 20+n),
		fmt.Sprintf("UPDATE %s SET id = %d WHERE id = %d", h, 100*n+3, 30+n),
		fmt.Sprintf("INSERT INTO %s VALUES ('round %d'), ('round %d'), (NULL)", notes, n, n),
		fmt.Sprintf("DELETE FROM %s WHERE note = 'old %d'", notes, n)} {
		at.exec(q)
	}
}

func forthAndBack(t *testing.T, from, to string) {
	f := start(t)
	s := &shores{ferry: f, old: f.shore(from, "old"), new: f.shore(to, "new")}
	s.oldTable = func(n string) string { return s.old.schema + "." + n }
	s.newTable = func(n string) string { return s.new.schema + "." + n }
	word := from == "mariadb" && to == "mariadb" // both on one server, which is read-only as a whole
	if !word && (from == "mariadb" || to == "mariadb") {
		m := map[bool]side{true: s.old, false: s.new}[from == "mariadb"]
		defer m.exec("SET GLOBAL read_only = OFF") // as a cutover leaves it
	}
	s.old.exec("CREATE TABLE " + s.oldTable("hives") + " (id int PRIMARY KEY, name varchar(40), frames int NOT NULL, " +
		"weight decimal(8, 2), kept boolean, seen " + map[string]string{"postgres": "timestamp(0)",
		"mariadb": "datetime"}[from] + ", skills " + map[string]string{"postgres": "varchar(40)",
		"mariadb": "set('swarms', 'queens', 'wax')"}[from] + ")") // a set has an order of its own
	s.old.exec("CREATE TABLE " + s.oldTable("notes") + " (note varchar(40))")
	s.old.exec("CREATE INDEX by_name ON " + s.oldTable("hives") + " (name)")
	for i := 1; i <= 60; i++ {
		s.old.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, 'hive %d', %d, %d.25, '1', '2026-04-01 08:00:00', 'wax')",
			s.oldTable("hives"), i, i, i, i))
	}
	for i := range 9 {
		s.old.exec(fmt.Sprintf("INSERT INTO %s VALUES ('old %d')", s.oldTable("notes"), i))
	}
	method := map[bool]string{true: "word", false: map[string]string{"postgres": "lock",
		"mariadb": "read-only"}[from]}[word]
	rules := ""
	if s.old.schema != s.new.schema {
		rules = fmt.Sprintf("  rules: [{tables: \"%s.*\", schema: %s}]\n", s.old.schema, s.new.schema)
	}
	f.must("crossing", "create", "--file", write(t, fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  "+
		"source: old\n  target: new\n  tables: [\"%s.*\"]\n%s  settings: {return_path: open, stop_method: %s, "+
		"in_step_dwell: 200ms, vouch_every: 1s}\n", s.old.schema, rules, method)))
	f.must("crossing", "start", "spring")
	s.phase("spring", contract.PhaseInStep)
	s.write(s.old, s.oldTable, 1)
	indexes := len(s.old.texts(indexesOf(from, s.old.schema)))
	if !word {
		f.must("cutover", "rehearse", "spring")
	}
	if a := f.cli("crossing", "show", "spring-back"); a.code == 0 {
		t.Errorf("a rehearsal left a return path: %s", a.out)
	}
	s.cut("spring", word)
	s.phase("spring-back", contract.PhaseInStep)
	for i, step := range []struct {
		live      side
		table     func(string) string
		name      string // the crossing that goes the other way now
		next      string
		closed    side
		there     func(string) string
		closedHas string
	}{
		{s.new, s.newTable, "spring-back", "spring-forth", s.old, s.oldTable, from},
		{s.old, s.oldTable, "spring-forth", "spring-back-2", s.new, s.newTable, to},
		{s.new, s.newTable, "spring-back-2", "", s.old, s.oldTable, from},
	} {
		s.write(step.live, step.table, 2+i)
		s.equal(step.name)
		if step.closedHas == "postgres" { // to everybody but the return path
			step.closed.exec("DO $$ BEGIN INSERT INTO " + step.there("notes") + " VALUES ('lost'); RAISE 'it was taken'; " +
				"EXCEPTION WHEN read_only_sql_transaction THEN NULL; END $$")
		}
		f.must("reconcile", step.name)
		if a := f.cli("findings", step.name); !strings.Contains(a.out, "no findings") && strings.Contains(a.out, "hives") {
			t.Errorf("findings of %s: %s", step.name, a.out)
		}
		if step.next == "" {
			break
		}
		s.cut(step.name, word)
		s.phase(step.next, contract.PhaseInStep)
	}
	if n := len(s.old.texts(indexesOf(from, s.old.schema))); n != indexes {
		t.Errorf("the old side had %d indexes and has %d", indexes, n)
	}
	// Closing it ends the way back.
	f.must("crossing", "close", "spring-back-2", "--wait", "--confirm", "spring-back-2")
	for _, name := range []string{"spring-forth", "spring-back", "spring"} {
		f.must("crossing", "close", name, "--wait", "--confirm", name)
	}
	for _, side := range []side{s.old, s.new} {
		if side.schema == "public" {
			left := side.texts("SELECT slot_name::text FROM pg_replication_slots WHERE database = current_database()")
			if len(left) > 0 {
				t.Errorf("slots are left: %v", left)
			}
		}
	}
}

// indexesOf lists a schema's indexes.
func indexesOf(engine, schema string) string {
	if engine == "postgres" {
		return "SELECT indexname::text FROM pg_indexes WHERE schemaname = '" + schema + "'"
	}
	return "SELECT DISTINCT concat(table_name, '.', index_name) FROM information_schema.statistics WHERE " +
		"table_schema = '" + schema + "'"
}
