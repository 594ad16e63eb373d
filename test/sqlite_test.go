package test

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	_ "modernc.org/sqlite" // files that tests make

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/service"
)

// files has the service open files of a folder, and returns it.
func (f *ferry) files() string {
	f.t.Helper()
	dir := f.t.TempDir()
	f.svc.Stop()
	f.set.Files = []string{dir}
	f.again()
	f.signIn()
	return dir
}

// liteFile makes a SQLite file by statements.
func liteFile(t *testing.T, path string, statements ...string) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { _ = db.Close() })
	for _, s := range statements {
		if _, err := db.ExecContext(t.Context(), s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	return db
}

// shopFile is what an application of the Saltmarsh Apiaries keeps in a file.
func shopFile(t *testing.T, path string) *sql.DB {
	return liteFile(t, path, "PRAGMA journal_mode = WAL",
		"CREATE TABLE stalls (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE, opened DATE, covered BOOLEAN)",
		"CREATE TABLE sales (id INTEGER PRIMARY KEY AUTOINCREMENT, stall INTEGER NOT NULL REFERENCES stalls (id), kg REAL, "+
			"price DECIMAL(8, 2), at DATETIME NOT NULL, photo BLOB, note TEXT)",
		"CREATE INDEX by_stall ON sales (stall)",
		"CREATE TABLE notes (line TEXT)",
		"INSERT INTO stalls VALUES (1, 'Quay', '2024-04-01', 1), (2, 'Mühle', '2025-05-02', 0), (3, 'Tower', NULL, NULL)",
		"WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000) INSERT INTO sales (stall, kg, price, "+
			"at, photo, note) SELECT 1 + i % 3, i / 8.0, i % 100 + 0.25, datetime('2026-05-01', '+' || i || ' minutes'), CASE WHEN "+
			"i % 50 = 0 THEN randomblob(20) END, CASE WHEN i % 3 = 0 THEN 'honey '' ' || i || ' ☼' END FROM n",
		"INSERT INTO notes VALUES ('twice'), ('twice'), (NULL), ('')")
}

// TestAFileBecomesADatabase: a SQLite file, recognised by what is in it, is planned by what its columns
// hold, loaded and compared, into both engines; damage on the target is found and mended from the file.
func TestAFileBecomesADatabase(t *testing.T) {
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			f := start(t)
			path := filepath.Join(f.files(), "shop.of-1999")
			file := shopFile(t, path)
			f.must("database", "add", "shop", "--file", path)
			if out := f.must("database", "show", "shop").out; !strings.Contains(out, "sqlite") || !strings.Contains(out, path) {
				t.Errorf("%s", out)
			}
			if out := f.must("database", "check", "shop").out; !strings.Contains(out, "quick check finds nothing") {
				t.Errorf("%s", out)
			}
			target := f.sideOf(engine, "new")
			schema := "main"
			args := []string{"crossing", "create", "spring", "--source", "shop", "--target", "new", "--copy-rows",
				"--follow-changes=false"}
			if engine == "mariadb" {
				schema = target.schema
			}
			f.must(args...)
			if out := f.must("survey", "spring").out; !strings.Contains(out, "AUTOINCREMENT") {
				t.Errorf("%s", out)
			}
			f.startCrossing()
			f.awaitPhase(contract.PhaseInStep)
			one := func(q string) string { return strings.Join(target.texts(q), ",") }
			for q, want := range map[string]string{
				"SELECT concat(count(*), '') AS n FROM %s.sales":                                         "20000",
				"SELECT concat(sum(price), '') AS n FROM %s.sales":                                       "995000",
				"SELECT concat(sum(kg), '') AS n FROM %s.sales":                                          "25001250",
				"SELECT concat(count(photo), '') AS n FROM %s.sales":                                     "400",
				"SELECT note AS n FROM %s.sales WHERE id = 3":                                            "honey ' 3 ☼",
				"SELECT concat(count(*), '') AS n FROM %s.notes WHERE line = 'twice'":                    "2",
				"SELECT name AS n FROM %s.stalls WHERE opened = '2025-05-02'":                            "Mühle",
				"SELECT concat(id, '') AS n FROM %s.sales WHERE at = '2026-05-01 00:07:00'":              "7",
				"SELECT concat(count(*), '') AS n FROM %s.sales s JOIN %[1]s.stalls t ON t.id = s.stall": "20000",
				"SELECT concat(count(*), '') AS n FROM %s.stalls WHERE covered":                          "1",
			} {
				got := one(fmt.Sprintf(q, schema))
				if a, err := strconv.ParseFloat(got, 64); err == nil { // engines write sums with more zeros or fewer
					got = strconv.FormatFloat(a, 'f', -1, 64)
				}
				if got != want {
					t.Errorf("%s: %q, not %q", q, got, want)
				}
			}
			f.must("reconcile", "spring")
			target.exec(fmt.Sprintf("UPDATE %s.sales SET note = 'changed' WHERE id = 99", schema))
			target.exec(fmt.Sprintf("DELETE FROM %s.sales WHERE id = 100", schema))
			if a := f.cli("reconcile", "spring"); a.code != 3 {
				t.Fatalf("damage was not found: %+v", a)
			}
			f.must("repair", "spring", "--confirm", "spring")
			if out := f.must("reconcile", "spring").out; !strings.Contains(out, "clean") {
				t.Errorf("%s", out)
			}
			// What was written since is found by the next comparison.
			if _, err := file.ExecContext(t.Context(), "INSERT INTO sales (stall, at) VALUES (1, '2026-06-01 10:00:00')"); err != nil {
				t.Fatal(err)
			}
			if a := f.cli("reconcile", "spring"); a.code != 3 {
				t.Errorf("a row that the load has not seen: %+v", a)
			}
		})
	}
}

// TestValuesThatAFileHolds: one that is not of its column's type holds the load, or is set aside, and
// is named.
func TestValuesThatAFileHolds(t *testing.T) {
	f := start(t)
	path := filepath.Join(f.files(), "odd.db")
	liteFile(t, path, "CREATE TABLE weights (id INTEGER PRIMARY KEY, kg INTEGER)",
		"WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 250000) INSERT INTO weights SELECT i, i FROM n",
		"UPDATE weights SET kg = 'heavy' WHERE id = 120000")
	f.must("database", "add", "old", "--file", path)
	f.sideOf("postgres", "new")
	f.must("crossing", "create", "look", "--source", "old", "--target", "new", "--follow-changes=false")
	if a := f.cli("fit", "look"); a.code != 3 || !strings.Contains(a.out, `the text "heavy", and is planned as bigint`) ||
		!strings.Contains(a.out, "key (120000)") {
		t.Errorf("a fit check: %+v", a)
	}
	f.must("crossing", "remove", "look", "--confirm", "look")
	f.must("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  target: new\n"+
		"  copy_rows: true\n  follow_changes: false\n  tables: [\"main.*\"]\n  settings: {bad_rows: set aside}\n"))
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if out := f.must("crossing", "rejected", "spring").out; !strings.Contains(out, `"heavy"`) || !strings.Contains(out, "kg") {
		t.Errorf("%s", out)
	}
	if a := f.cli("reconcile", "spring"); a.code != 3 || !strings.Contains(a.out+a.err, "1") {
		t.Errorf("the row that was set aside is not found: %+v", a)
	}
}

// TestFilesThatAreNoDatabases: each is called what it is, with what can be done.
func TestFilesThatAreNoDatabases(t *testing.T) {
	f := start(t)
	if a := f.cli("database", "add", "x", "--file", "/etc/passwd"); !strings.Contains(a.err, "serve --files") {
		t.Errorf("without folders: %+v", a)
	}
	dir := f.files()
	for name, c := range map[string]struct{ what, says string }{
		"a.db":      {"id,name\n1,kea\n", "text"},
		"b.sqlite":  {"\x00\x01\x00\x00Standard ACE DB\x00", "office program"},
		"c.db":      {"PK\x03\x04", "zip archive or workbook"},
		"d.parquet": {"PAR1", "Parquet"},
		"e":         {"", "empty file"},
		"f.db":      {strings.Repeat("\xa7\x11\x00", 2000), "unknown kind"},
	} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(c.what), 0o600); err != nil {
			t.Fatal(err)
		}
		if a := f.cli("database", "add", "x", "--file", path); a.code != 1 || !strings.Contains(a.err, c.says) {
			t.Errorf("%s: %+v", name, a)
		}
	}
	for _, path := range []string{"/etc/passwd", filepath.Join(dir, "..", "x"), "relative.db"} {
		if a := f.cli("database", "add", "x", "--file", path); a.code != 1 || strings.Contains(a.err, "root:") {
			t.Errorf("%s: %+v", path, a)
		}
	}
	if a := f.cli("database", "add", "x", "--file", "/a", "--host", "b"); a.code != 2 {
		t.Errorf("%+v", a)
	}
	if list, err := client.Do[[]contract.Database](f.API.ListDatabasesWithResponse(t.Context())); err != nil || len(list) > 0 {
		t.Errorf("%+v, %v", list, err)
	}
	set := f.set
	set.Files, set.DataDir = []string{"/nowhere"}, t.TempDir()
	if _, err := service.Start(t.Context(), set); err == nil || !strings.Contains(err.Error(), "--files /nowhere is no folder") {
		t.Error(err)
	}
}
