package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestRulesRenameAndLeaveOut moves live tables to other names, columns too, and
// leaves some out, between two PostgreSQL databases.
func TestRulesRenameAndLeaveOut(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `
CREATE SCHEMA meadow;
CREATE TYPE meadow.mood AS ENUM ('calm', 'wild');
CREATE TABLE meadow.keepers (id serial PRIMARY KEY, name text NOT NULL, secret text, email varchar(60) UNIQUE,
  mood meadow.mood, weight integer CHECK (weight > 0), twice integer GENERATED ALWAYS AS (weight * 2) STORED);
CREATE TABLE meadow.hives ("Apiary" text, number integer,
  keeper integer NOT NULL REFERENCES meadow.keepers (id) ON DELETE CASCADE, note text, PRIMARY KEY ("Apiary", number));
CREATE INDEX hives_keeper ON meadow.hives (keeper, note);
CREATE INDEX hives_secret ON meadow.keepers (secret);
CREATE TABLE meadow.weather (on_day date, rain numeric, PRIMARY KEY (on_day)) PARTITION BY RANGE (on_day);
CREATE TABLE meadow.weather_old PARTITION OF meadow.weather FOR VALUES FROM ('2020-01-01') TO ('2026-01-01');
CREATE TABLE meadow.weather_new PARTITION OF meadow.weather DEFAULT;
INSERT INTO meadow.keepers (name, secret, email, mood, weight)
  SELECT 'k' || g, 'hush', 'k' || g || '@saltmarsh.example', 'calm', g FROM generate_series(1, 2000) g;
INSERT INTO meadow.hives SELECT 'dyke-' || g % 9, g, 1 + g % 2000, 'n' FROM generate_series(1, 4000) g;
INSERT INTO meadow.weather SELECT date '2025-01-01' + g, g FROM generate_series(1, 700) g;
ANALYZE`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	file := filepath.Join(t.TempDir(), "spring.yaml")
	text := `dusty_ferry: 1
crossing:
  name: spring
  source: old
  target: new
  tables: [meadow.*]
  rules:
  - tables: meadow.*
    schema: honey
    name: old_*
  - tables: meadow.keepers
    name: members
    columns:
      secret:
        leave_out: true
      email:
        name: mail
        type: text
  - tables: meadow.hives
    columns:
      Apiary:
        name: apiary
      keeper:
        name: member
  settings: {chunk_size: 64KB, lanes: 2}
`
	if err := os.WriteFile(file, []byte(strings.Replace(text, "leave_out", "leave", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	if a := f.cli("crossing", "create", "--file", file); a.code == 0 || !strings.Contains(a.err, "line 15, column 9") {
		t.Errorf("an unknown key: exit %d, %s", a.code, a.err)
	}
	// A computed column holds on to the name of its table's other columns.
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if a := f.cli("crossing", "create", "--file", file); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("survey", "spring"); a.code == 0 || !strings.Contains(a.err, "computed") {
		t.Errorf("renaming in a table with a computed column: exit %d, %s%s", a.code, a.out, a.err)
	}
	exec1(t, p.sourceURL(), `ALTER TABLE meadow.keepers DROP COLUMN twice`)
	if a := f.cli("survey", "spring"); a.code != 0 || !strings.Contains(a.out, "meadow.* matches 3 tables") ||
		!strings.Contains(a.out, "planned by a rule") {
		t.Errorf("exit %d:\n%s%s", a.code, a.out, a.err)
	}
	if a := f.cli("crossing", "rules", "spring"); a.code != 0 ||
		!strings.Contains(a.out, "column email becomes mail as text") ||
		!strings.Contains(a.out, "column secret is left out") {
		t.Errorf("exit %d:\n%s%s", a.code, a.out, a.err)
	}
	exported := f.cli("crossing", "export", "spring").out
	if again := f.cli("crossing", "remove", "spring", "--confirm", "spring"); again.code == 0 { // drafts can go
		if err := os.WriteFile(file, []byte(exported), 0o600); err != nil {
			t.Fatal(err)
		}
		if a := f.cli("crossing", "create", "--file", file); a.code != 0 {
			t.Fatal(a.err)
		}
	}
	if a := f.cli("crossing", "export", "spring"); a.out != exported {
		t.Errorf("export and import lose something:\n%s\n%s", exported, a.out)
	}
	f.startCrossing()
	for i := range 60 {
		exec1(t, p.sourceURL(), fmt.Sprintf(`
UPDATE meadow.keepers SET secret = 'x', email = 'late%[1]d', mood = 'wild' WHERE id = %[1]d;
INSERT INTO meadow.keepers (name, email, weight) VALUES ('late', 'l%[1]d', 7);
DELETE FROM meadow.keepers WHERE id = %[1]d + 900;
UPDATE meadow.hives SET "Apiary" = 'moved', note = 'm' WHERE number = %[1]d;
UPDATE meadow.weather SET on_day = on_day + 2000 WHERE on_day = date '2025-02-01' + %[1]d`, i+1))
	}
	f.awaitPhase(contract.PhaseInStep)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" || r.Tables != 3 {
		f.findings(r.Id)
		t.Fatalf("%+v", r)
	}
	exec1(t, p.targetURL(), `UPDATE honey.members SET mail = 'wrong' WHERE id = 77; DELETE FROM honey.old_hives
  WHERE number = 78`)
	r := f.reconcile(contract.NewReconciliationDepthHashes)
	if r.Findings != 2 {
		t.Errorf("%d findings", r.Findings)
	}
	if a := f.cli("repair", "spring", "--confirm", "spring"); a.code != 0 {
		t.Errorf("repair: %s%s", a.out, a.err)
	}
	if a := f.cli("recheck", "spring"); a.code != 0 {
		t.Errorf("compared again: %s%s", a.out, a.err)
	}
	if k := f.cutOver(false, contract.Settings{}); k.State != "done" {
		f.story()
		t.Fatalf("cutover: %+v", k)
	}
	for _, q := range [][2]string{
		{`SELECT string_agg(concat_ws('|', id, name, email, mood, weight), ',' ORDER BY id) FROM meadow.keepers`,
			`SELECT string_agg(concat_ws('|', id, name, mail, mood, weight), ',' ORDER BY id) FROM honey.members`},
		{`SELECT string_agg(concat_ws('|', "Apiary", number, keeper, note), ',' ORDER BY number) FROM meadow.hives`,
			`SELECT string_agg(concat_ws('|', apiary, number, member, note), ',' ORDER BY number) FROM honey.old_hives`},
		{`SELECT string_agg(concat_ws('|', on_day, rain), ',' ORDER BY on_day) FROM meadow.weather`,
			`SELECT string_agg(concat_ws('|', on_day, rain), ',' ORDER BY on_day) FROM honey.old_weather`},
	} {
		if a, b := one[string](t, p.sourceURL(), q[0]), one[string](t, p.targetURL(), q[1]); a != b {
			t.Errorf("%s\n%.300s\n%.300s", q[1], a, b)
		}
	}
	exec1(t, p.targetURL(), `INSERT INTO honey.members (name, mail, weight) VALUES ('new', 'new', 1)`)
	if got := one[string](t, p.targetURL(), `SELECT string_agg(pg_get_constraintdef(oid), '; ' ORDER BY conname)
  FROM pg_constraint WHERE conrelid = 'honey.old_hives'::regclass`); got != "FOREIGN KEY (member) REFERENCES "+
		"honey.members(id) ON DELETE CASCADE; PRIMARY KEY (apiary, number)" {
		t.Errorf("the constraints are %s", got)
	}
	if got := one[string](t, p.targetURL(), `SELECT string_agg(indexdef, '; ' ORDER BY indexname) FROM pg_indexes
  WHERE schemaname = 'honey' AND indexname LIKE 'hives%'`); !strings.Contains(got,
		"honey.old_hives USING btree (member, note)") || strings.Contains(got, "secret") {
		t.Errorf("the indexes are %s", got)
	}
}

// TestRulesBetweenEngines plans columns otherwise than the catalogue does, and
// loads only some rows.
func TestRulesBetweenEngines(t *testing.T) {
	p := newPair(t)
	name, db := newMaria(t)
	maria(t, db, "CREATE TABLE keepers (id int unsigned AUTO_INCREMENT PRIMARY KEY, active tinyint(1) NOT NULL, seen "+
		"datetime(3), joined date, secret blob, name varchar(60))",
		"CREATE TABLE hives (id int AUTO_INCREMENT PRIMARY KEY, keeper int unsigned NOT NULL, CONSTRAINT fk FOREIGN KEY "+
			"(keeper) REFERENCES keepers (id))",
		"INSERT INTO keepers (active, seen, joined, secret, name) SELECT seq % 2, '2026-01-01 00:00:00.5' + INTERVAL seq "+
			"HOUR, '2026-01-01', x'00', concat('k', seq) FROM seq_1_to_3000",
		"SET STATEMENT sql_mode = '' FOR UPDATE keepers SET joined = '0000-00-00' WHERE id = 9",
		"INSERT INTO hives (keeper) SELECT seq FROM seq_1_to_2000")
	f := start(t)
	f.registerMaria("old", name, db, sourceRights(name)...)
	f.register("new", servers.target, p.target)
	column := func(k contract.ColumnRule) contract.ColumnRule { return k }
	rules := []contract.Rule{{Tables: "*.*", Schema: ptr("honey")}, {Tables: name + ".keepers", Name: ptr("members"),
		Columns: &map[string]contract.ColumnRule{
			"active": column(contract.ColumnRule{Type: ptr("bool")}),
			"seen":   column(contract.ColumnRule{Type: ptr("timestamptz(3)"), Name: ptr("last seen")}),
			"joined": column(contract.ColumnRule{Type: ptr("text")}),
			"secret": column(contract.ColumnRule{LeaveOut: ptr(true)}), "id": column(contract.ColumnRule{Type: ptr("integer"),
				Name: ptr("member")})}}}
	add := func(name string, follows bool, rules []contract.Rule) error {
		_, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(), contract.NewCrossing{Name: name,
			Source: "old", Target: "new", FollowChanges: &follows, Rules: &rules}))
		return err
	}
	for want, bad := range map[string]contract.Rule{
		"tables is":         {Tables: "keepers", Name: ptr("x")},
		"changes nothing":   {Tables: "*.*"},
		"the same name":     {Tables: "*.*", Name: ptr("x")},
		"without a change":  {Tables: "*.*", Columns: &map[string]contract.ColumnRule{"a": {}}},
		"without a semicol": {Tables: "*.*", Where: ptr("true; DROP TABLE x")},
	} {
		if err := add("bad", false, []contract.Rule{bad}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if err := add("filtered", true, append(rules, contract.Rule{Tables: "*.keepers",
		Where: ptr("id <= 1000")})); err != nil {
		t.Fatal(err)
	}
	if a := f.cli("survey", "filtered"); a.code == 0 ||
		!strings.Contains(a.out, "changes cannot be held against a condition") {
		t.Errorf("a condition with capture: exit %d\n%s%s", a.code, a.out, a.err)
	}
	if err := add("odd", false, []contract.Rule{{Tables: "*.keepers", Columns: &map[string]contract.ColumnRule{
		"joined": {Type: ptr("uuid")}}}}); err != nil {
		t.Fatal(err)
	}
	if a := f.cli("survey", "odd"); a.code == 0 || !strings.Contains(a.err, "cannot be planned as uuid") {
		t.Errorf("a type that cannot be: exit %d\n%s%s", a.code, a.out, a.err)
	}
	if err := add("spring", true, rules); err != nil {
		t.Fatal(err)
	}
	if got := f.fitCheck(contract.NewFitCheck{}); got.Misfits != 0 {
		t.Errorf("the date is a text now: %+v", got.Entries)
	}
	f.startCrossing()
	maria(t, db, "UPDATE keepers SET active = 1 - active, seen = NULL WHERE id < 50",
		"DELETE FROM keepers WHERE id > 2900", "INSERT INTO keepers (active, name) VALUES (1, 'late')")
	f.awaitPhase(contract.PhaseInStep)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" || r.TargetRows != 4901 {
		f.findings(r.Id)
		t.Errorf("%+v", r)
	}
	if got := one[string](t, p.targetURL(), `SELECT concat_ws('|', pg_typeof(active), active, joined, extract(epoch
  FROM "last seen")) FROM honey.members WHERE member = 51`); got != "boolean|t|2026-01-01|1767409200.500000" {
		t.Errorf("the row is %s", got)
	}
	if got := one[string](t, p.targetURL(), `SELECT joined FROM honey.members WHERE member = 9`); got != "0000-00-00" {
		t.Errorf("the zero date is %s", got)
	}
	if got := one[string](t, p.targetURL(), `SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE contype = 'f'
  AND conrelid = 'honey.hives'::regclass`); got != "FOREIGN KEY (keeper) REFERENCES honey.members(member)" {
		t.Errorf("the foreign key is %s", got)
	}
}
