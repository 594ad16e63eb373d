package test

import (
	"fmt"
	"strings"
	"testing"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// people is the same small scene for either engine; %s is the type of a number
// that numbers itself.
const people = `
CREATE TABLE keepers (id integer PRIMARY KEY, name varchar(40) NOT NULL, email varchar(60) NOT NULL UNIQUE,
  phone bigint, born date);
CREATE TABLE readings (id integer PRIMARY KEY, keeper integer NOT NULL REFERENCES keepers (id), read_at date NOT NULL,
  grams integer, note varchar(200));
CREATE INDEX readings_keeper ON readings (keeper);
CREATE INDEX readings_read_at ON readings (read_at);
INSERT INTO keepers VALUES (1, 'Ada', 'ada@saltmarsh.example', 5551, '1970-01-02'), (2, 'O''Hara',
  'ohara@saltmarsh.example', NULL, NULL), (3, 'Bede', 'bede@saltmarsh.example', 5553, '1999-12-31');`

// planned is what the test plans, in the file's form; the number of marsh's
// database stands for the schema.
const planned = `
tables: ["%[1]s.*"]
rules:
%[3]s
  - tables: "%[1]s.keepers"
    note: people, masked
    columns:
      email: {mask: people}
      phone: {mask: people}
      name: {expression: "upper(name)", type: "varchar(80)"}
      decade: {expression: "extract(year from born) - :base", type: "numeric(6,0)"}
      region: {value: "north 'n west"}
  - tables: "%[1]s.readings"
    where: read_at >= :since
    statements: {"index %[4]s": "", "index gone": ""}
queries:
  - table: "%[1]s.heavy"
    query: |
      SELECT k.id AS keeper, k.name, sum(r.grams) AS grams, count(*) AS times
        FROM %[1]s.keepers k JOIN %[1]s.readings r ON r.keeper = k.id WHERE r.read_at >= :since GROUP BY k.id, k.name;
    key: [keeper]
parameters: {since: "today - 7 days", base: "1900"}
before: ["CREATE TABLE %[2]slog (what varchar(20))"]
after: ["INSERT INTO %[2]slog VALUES ('loaded')"]
`

// TestQueriesAndColumnsOfOnesOwn loads with masks, expressions, fixed values, a
// condition and a query, on all four ways, and says what came of every object.
func TestQueriesAndColumnsOfOnesOwn(t *testing.T) {
	for _, way := range [][2]string{{"postgres", "postgres"}, {"mariadb", "postgres"}, {"postgres", "mariadb"},
		{"mariadb", "mariadb"}} {
		t.Run(way[0]+" to "+way[1], func(t *testing.T) { ownColumns(t, way[0], way[1]) })
	}
}

// side is a database of a test, of either engine.
type side struct {
	schema string
	exec   func(statements string)
	texts  func(query string) []string
}

// sideOf makes a database and registers it.
func (f *ferry) sideOf(engine, name string) side {
	t := f.t
	t.Helper()
	if engine == "mariadb" {
		schema, db := newMaria(t)
		rights := targetRights(schema)
		if name == "old" {
			rights = append(sourceRights(schema), "SHOW VIEW ON "+schema+".*", "TRIGGER ON "+schema+".*", "EXECUTE ON "+schema+
				".*", "SELECT ON mysql.proc")
		} else {
			rights = append(rights, "CREATE VIEW ON "+schema+".*", "TRIGGER ON "+schema+".*", "CREATE ROUTINE ON "+schema+".*",
				"ALTER ROUTINE ON "+schema+".*", "EXECUTE ON "+schema+".*", "SUPER ON *.*")
		}
		f.registerMaria(name, schema, db, rights...)
		return side{schema, func(s string) {
			maria(t, db, strings.Split(strings.TrimSuffix(strings.TrimSpace(s), ";"), ";\n")...)
		}, func(q string) []string { return texts(t, db, q) }}
	}
	p := newPair(t)
	url, server, database := p.sourceURL(), servers.source, p.source
	if name == "new" {
		url, server, database = p.targetURL(), servers.target, p.target
	}
	f.register(name, server, database)
	return side{"public", func(s string) { exec1(t, url, s) }, func(q string) []string {
		c := connect(t, url)
		defer func() { _ = c.Close(t.Context()) }() // some ask many times
		return collect(t, c, q)
	}}
}

// toSchema is a rule that brings tables of a MariaDB database to the schema public.
func toSchema(from, to, schema string) string {
	if from == "mariadb" && to == "postgres" {
		return `  - {tables: "` + schema + `.*", schema: public}`
	}
	return ""
}

func ownColumns(t *testing.T, from, to string) {
	f := start(t)
	source, target := f.sideOf(from, "old"), f.sideOf(to, "new")
	source.exec(people)
	ago := func(days int) string { return fmt.Sprintf("CURRENT_DATE - INTERVAL '%d' DAY", days) }
	for i := range 40 {
		source.exec(fmt.Sprintf("INSERT INTO readings VALUES (%d, %d, %s, %d, 'n%d')", i+1, 1+i%3, ago(i%14), i*10, i))
	}
	kind := contract.Load
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new", Kind: &kind})); err != nil {
		t.Fatal(err)
	}
	in := ""
	if to == "mariadb" {
		in = target.schema + "."
	}
	text := fmt.Sprintf(planned, source.schema, in, toSchema(from, to, source.schema),
		map[bool]string{true: "readings_readings_read_at", false: "readings_read_at"}[from == "mariadb" && to == "postgres"])
	for what, wrong := range map[string]string{
		`there is no parameter "since"`:   strings.Replace(text, "since: ", "until: ", 1),
		"column 5: unknown field":         strings.Replace(text, "note: people", "notes: people", 1),
		"names column keeperr as its key": strings.Replace(text, "key: [keeper]", "key: [keeperr]", 1),
		"cannot be masked":                strings.Replace(text, "phone: {mask", "id: {mask", 1),
		"cannot hold a hash":              strings.Replace(text, "phone: {mask", "born: {mask", 1),
	} {
		a := f.cli("crossing", "planning", "spring", "--file", write(t, wrong))
		if a.code == 0 {
			a = f.cli("survey", "spring")
		}
		if a.code == 0 || !strings.Contains(a.err, what) {
			t.Errorf("%s: exit %d, %s%s", what, a.code, a.out, a.err)
		}
	}
	if a := f.cli("crossing", "planning", "spring", "--file", write(t, text)); a.code != 0 ||
		!strings.Contains(a.out, ":since") || !strings.Contains(a.out, "heavy") {
		t.Fatalf("exit %d: %s%s", a.code, a.out, a.err)
	}
	a := f.cli("survey", "spring")
	if a.code != 0 || !strings.Contains(a.out, "masked by the key people") ||
		!strings.Contains(a.out, `"index gone" is none of its objects`) {
		t.Errorf("exit %d: %s%s", a.code, a.out, a.err)
	}
	if a := f.cli("crossing", "preview", "spring", source.schema+".keepers"); a.code != 0 ||
		!strings.Contains(a.out, "O'HARA") || !strings.Contains(a.out, "north 'n west") ||
		strings.Contains(a.out, "@saltmarsh") {
		t.Errorf("exit %d: %s%s", a.code, a.out, a.err)
	}
	if a := f.cli("crossing", "preview", "spring", source.schema+".heavy", "--limit", "1"); a.code != 0 ||
		!strings.Contains(a.out, "keeper") || !strings.Contains(a.out, "There are more") {
		t.Errorf("exit %d: %s%s", a.code, a.out, a.err)
	}
	f.startCrossing()
	f.await(60e9, "loaded and built", func(c contract.Crossing) bool {
		if c.Condition == contract.ConditionHeld {
			f.story()
			t.Fatal(c.Reason)
		}
		return c.Phase == contract.PhaseCatchingUp || c.Phase == contract.PhaseInStep ||
			c.Progress.ChunksLanded == c.Progress.Chunks && c.Progress.Chunks > 0 && c.Progress.Work == nil
	})
	eventually(t, 20e9, func() bool { return len(target.texts("SELECT what FROM "+in+"log")) == 1 })

	keepers := source.texts("SELECT concat_ws('|', id, upper(name), extract(year from born) - 1900, 'north ''n west') " +
		"FROM keepers ORDER BY id")
	sameTexts(t, "keepers", keepers, target.texts("SELECT concat_ws('|', id, name, decade, region) FROM "+target.schema+
		".keepers ORDER BY id"))
	masked := strings.Join(target.texts("SELECT concat_ws('|', email, CASE WHEN phone IS NULL THEN 'NULL' ELSE "+
		"concat(phone, '') END) FROM "+target.schema+".keepers ORDER BY id"), "\n")
	if strings.Contains(masked, "saltmarsh") || strings.Contains(masked+"\n", "|5551\n") ||
		strings.Contains(masked+"\n", "|5553\n") || strings.Count(masked, "\n") != 2 || !strings.Contains(masked, "NULL") {
		t.Errorf("masked:\n%s", masked)
	}
	since := " WHERE read_at >= " + ago(7)
	sameTexts(t, "readings", source.texts("SELECT concat_ws('|', id, keeper, grams, note) FROM readings"+since+
		" ORDER BY id"), target.texts("SELECT concat_ws('|', id, keeper, grams, note) FROM "+target.schema+
		".readings ORDER BY id"))
	sameTexts(t, "heavy", source.texts("SELECT concat_ws('|', keeper, k.name, sum(grams), count(*)) FROM readings r "+
		"JOIN keepers k ON k.id = keeper"+since+" GROUP BY keeper, k.name ORDER BY 1"),
		target.texts("SELECT concat_ws('|', keeper, name, grams, times) FROM "+target.schema+".heavy ORDER BY keeper"))
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" || r.Tables != 3 {
		f.findings(r.Id)
		t.Errorf("%+v", r)
	}
	target.exec("UPDATE " + target.schema + ".keepers SET email = 'x', name = 'y' WHERE id = 2;\nDELETE FROM " +
		target.schema + ".heavy WHERE keeper = 3")
	r := f.reconcile(contract.NewReconciliationDepthHashes)
	if r.Findings != 2 {
		f.findings(r.Id)
		t.Errorf("%d findings", r.Findings)
	}
	if a := f.cli("repair", "spring", "--confirm", "spring"); a.code != 0 {
		t.Errorf("repair: %s%s", a.out, a.err)
	}
	if now := strings.Join(target.texts("SELECT concat_ws('|', email, CASE WHEN phone IS NULL THEN 'NULL' ELSE "+
		"concat(phone, '') END) FROM "+target.schema+".keepers ORDER BY id"), "\n"); now != masked {
		t.Errorf("repaired otherwise than loaded:\n%s\n%s", masked, now)
	}
	sameTexts(t, "keepers again", keepers, target.texts("SELECT concat_ws('|', id, name, decade, region) FROM "+
		target.schema+".keepers ORDER BY id"))
	a = f.cli("crossing", "objects", "spring")
	if a.code != 0 || strings.Contains(a.out, "failed") || strings.Contains(a.out, "waiting") ||
		strings.Contains(a.out, "readings_read_at") || !strings.Contains(a.out, "readings_keeper") ||
		!strings.Contains(a.out, "statement  after 1") {
		t.Errorf("exit %d:\n%s%s", a.code, a.out, a.err)
	}
	exported := f.cli("crossing", "export", "spring").out
	if a := f.cli("crossing", "copy", "spring", "summer"); a.code != 0 {
		t.Error(a.err)
	}
	if again := f.cli("crossing", "export", "summer").out; again != strings.Replace(exported, "name: spring",
		"name: summer", 1) {
		t.Errorf("a copy is planned otherwise:\n%s\n%s", exported, again)
	}
}

// TestMasksWhileRowsChange follows a live table whose columns are masked.
func TestMasksWhileRowsChange(t *testing.T) {
	for _, way := range [][2]string{{"postgres", "postgres"}, {"mariadb", "postgres"}} {
		t.Run(way[0]+" to "+way[1], func(t *testing.T) {
			f := start(t)
			source, target := f.sideOf(way[0], "old"), f.sideOf(way[1], "new")
			source.exec(people)
			if a := f.cli("crossing", "create", "spring", "--source", "old", "--target", "new", "--table",
				source.schema+".*"); a.code != 0 {
				t.Fatal(a.err)
			}
			plan := fmt.Sprintf("tables: [\"%[1]s.*\"]\nrules:\n%[2]s\n  - tables: \"%[1]s.keepers\"\n    columns: {email: "+
				"{mask: people}, region: {value: marsh}, name: {expression: upper(name)}}\n", source.schema,
				toSchema(way[0], way[1], source.schema))
			if a := f.cli("crossing", "planning", "spring", "--file", write(t, plan)); a.code != 0 {
				t.Fatal(a.err)
			}
			if a := f.cli("survey", "spring"); !strings.Contains(a.out, "which the source's log does not tell") || a.code == 0 {
				t.Errorf("an expression with capture: exit %d, %s%s", a.code, a.out, a.err)
			}
			plan = strings.Replace(plan, ", name: {expression: upper(name)}", "", 1)
			if a := f.cli("crossing", "planning", "spring", "--file", write(t, plan)); a.code != 0 {
				t.Fatal(a.err)
			}
			f.startCrossing()
			f.awaitPhase(contract.PhaseInStep)
			source.exec("INSERT INTO keepers VALUES (4, 'Cuth', 'cuth@saltmarsh.example', 1, NULL);\nUPDATE keepers SET email " +
				"= 'ada2@saltmarsh.example' WHERE id = 1;\nUPDATE keepers SET name = 'Beda' WHERE id = 3;\nDELETE FROM keepers " +
				"WHERE id = 2")
			eventually(t, 20e9, func() bool {
				return len(target.texts("SELECT 1 FROM "+target.schema+".keepers WHERE name IN ('Cuth', 'Beda')")) == 2
			})
			if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
				f.findings(r.Id)
				t.Errorf("%+v", r)
			}
			got := strings.Join(target.texts("SELECT concat_ws('|', id, name, region, length(email)) FROM "+target.schema+
				".keepers WHERE email NOT LIKE '%@%' ORDER BY id"), "\n")
			if strings.Count(got, "marsh") != 3 || strings.Count(got, "32") != 3 {
				t.Errorf("masked:\n%s", got)
			}
			// The same value by the same key is the same, wherever it stands.
			was := target.texts("SELECT email FROM " + target.schema + ".keepers WHERE id = 1")
			source.exec("UPDATE keepers SET email = 'swap' WHERE id = 1;\nUPDATE keepers SET email = 'ada2@saltmarsh.example' " +
				"WHERE id = 4")
			eventually(t, 20e9, func() bool {
				now := target.texts("SELECT email FROM " + target.schema + ".keepers WHERE id = 4")
				return len(now) == 1 && now[0] == was[0]
			})
			if way[0] == "mariadb" { // whose cutover is tested elsewhere
				return
			}
			if k := f.cutOver(false, contract.Settings{}); k.State != "done" {
				t.Errorf("%+v", k)
			}
		})
	}
}
