package test

import (
	"compress/gzip"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

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
		"WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000) INSERT INTO sales "+
			"(stall, kg, price, "+
			"at, photo, note) SELECT 1 + i % 3, i / 8.0, i % 100 + 0.25, datetime('2026-05-01', '+' || i || ' "+
			"minutes'), CASE WHEN "+
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
			if _, err := file.ExecContext(t.Context(),
				"INSERT INTO sales (stall, at) VALUES (1, '2026-06-01 10:00:00')"); err != nil {
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
		"WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 250000) INSERT INTO "+
			"weights SELECT i, i FROM n",
		"UPDATE weights SET kg = 'heavy' WHERE id = 120000")
	f.must("database", "add", "old", "--file", path)
	f.sideOf("postgres", "new")
	f.must("crossing", "create", "look", "--source", "old", "--target", "new", "--follow-changes=false")
	if a := f.cli("fit", "look"); a.code != 3 || !strings.Contains(a.out, `rowid 120000: column kg holds the text "heavy"`) ||
		!strings.Contains(a.out, "key (120000)") {
		t.Errorf("a fit check: %+v", a)
	}
	f.must("crossing", "remove", "look", "--confirm", "look")
	f.must("crossing", "create", "--file", write(t,
		"dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  target: new\n"+
			"  copy_rows: true\n  follow_changes: false\n  tables: [\"main.*\"]\n  settings: {bad_rows: set aside}\n"))
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if out := f.must("crossing", "rejected", "spring").out; !strings.Contains(out, `"heavy"`) || !strings.Contains(out,
		"kg") {
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
		"a.csv":     {"\xe9,b\n", "save it as UTF-8"},
		"b.sqlite":  {"\x00\x01\x00\x00Standard ACE DB\x00", "office program"},
		"c.db":      {"PK\x03\x04", "zip archive (damaged"},
		"d.parquet": {"PAR1", "is damaged"},
		"g.csv":     {"a,b\n\xe9,x\n", "save it as UTF-8"},
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
	if list, err := client.Do[[]contract.Database](f.API.ListDatabasesWithResponse(t.Context())); err != nil ||
		len(list) > 0 {
		t.Errorf("%+v, %v", list, err)
	}
	set := f.set
	set.Files, set.DataDir = []string{"/nowhere"}, t.TempDir()
	if _, err := service.Start(t.Context(), set); err == nil || !strings.Contains(err.Error(),
		"--files /nowhere is no folder") {
		t.Error(err)
	}
}

// TestAFileAsATarget: rows of all engines land in a file that is made, a killed load goes on and lands
// each row once, and the file is as its own shell would want it.
func TestAFileAsATarget(t *testing.T) {
	for _, from := range []string{"postgres", "mariadb", "sqlite"} {
		t.Run(from, func(t *testing.T) {
			f := start(t)
			dir := f.files()
			path := filepath.Join(dir, "copy.db")
			schema := "main"
			if from == "sqlite" {
				shop := filepath.Join(dir, "shop.db")
				shopFile(t, shop)
				f.must("database", "add", "old", "--file", shop)
			} else {
				source := f.sideOf(from, "old")
				schema = source.schema
				for _, q := range map[string][]string{"postgres": {
					"CREATE TABLE stalls (id int PRIMARY KEY, name varchar(40) NOT NULL UNIQUE, opened date, covered boolean)",
					"CREATE TABLE sales (id bigint PRIMARY KEY, stall int NOT NULL REFERENCES stalls, kg double precision, price " +
						"numeric(8, 2), exact numeric(30, 10), at timestamp NOT NULL, zoned timestamptz, photo bytea, " +
						"note text, tags text[], " +
						"doc jsonb, small real, ref uuid)",
					"INSERT INTO stalls VALUES (1, 'Quay', '2024-04-01', true), (2, 'Mühle', '2025-05-02', false), (3, " +
						"'Tower', NULL, NULL)",
					"INSERT INTO sales SELECT i, 1 + i % 3, i / 7.0, i % 100 + 0.10, 12345678901234567890.0123456789, " +
						"timestamp '2026-05-01' + i * interval '1.5 minutes', '2026-05-01 10:00+02', CASE WHEN i % 50 = 0 THEN " +
						"sha256(i::text::bytea) END, CASE WHEN i % 3 = 0 THEN 'honey '' ' || i || ' ☼' END, ARRAY['a', i::text], " +
						"jsonb_build_object('i', i), i * 1e5, md5(i::text)::uuid FROM generate_series(1, 20000) i",
				}, "mariadb": {
					"CREATE TABLE stalls (id int PRIMARY KEY, name varchar(40) NOT NULL UNIQUE, opened date, covered boolean)",
					"CREATE TABLE sales (id bigint PRIMARY KEY, stall int NOT NULL, kg double, price decimal(8, 2), at " +
						"datetime(3) NOT NULL, " +
						"photo blob, note text, kind enum('jar', 'comb'), FOREIGN KEY (stall) REFERENCES stalls (id))",
					"INSERT INTO stalls VALUES (1, 'Quay', '2024-04-01', true), (2, 'Mühle', '2025-05-02', false), (3, " +
						"'Tower', NULL, NULL)",
					"INSERT INTO sales SELECT seq, 1 + seq % 3, seq / 7e0, seq % 100 + 0.10, '2026-05-01' + INTERVAL seq MINUTE, " +
						"IF(seq % 50 = 0, unhex(sha1(seq)), NULL), IF(seq % 3 = 0, concat('honey '' ', seq, ' ☼'), NULL), " +
						"'comb' FROM seq_1_to_20000",
				}}[from] {
					source.exec(q)
				}
			}
			f.must("database", "add", "new", "--file", path, "--engine", "sqlite")
			if out := f.must("database", "check", "new").out; !strings.Contains(out, "one writer at a time") {
				t.Errorf("%s", out)
			}
			f.must("crossing", "create", "--file", write(t,
				fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  "+
					"target: new\n  copy_rows: true\n  follow_changes: false\n  tables: [\"%s.*\"]\n  settings: "+
					"{chunk_bytes: 65536}\n",
					schema)))
			f.startCrossing()
			eventually(t, time.Minute, func() bool {
				p := f.show().Progress
				return p.ChunksLanded > 1 || p.ChunksLanded == p.Chunks && p.Chunks > 0
			})
			f.svc.Stop() // and another process goes on
			f.again()
			f.signIn()
			f.awaitPhase(contract.PhaseInStep)
			if a := f.cli("reconcile", "spring"); !strings.Contains(a.out, "clean") {
				t.Fatalf("%s%.3000s", a.out, f.cli("findings", "spring").out)
			}
			made, err := sql.Open("sqlite", path)
			if err != nil {
				t.Fatal(err)
			}
			defer func() { _ = made.Close() }()
			for q, want := range map[string]string{
				"SELECT count(*) FROM sales":                                                             "20000",
				"SELECT count(*) FROM sales JOIN stalls ON stalls.id = stall":                            "20000",
				"SELECT group_concat(typeof(id) || typeof(price) || typeof(kg)) FROM sales WHERE id = 7": "integerrealreal",
				"SELECT CAST(round(sum(price) * 100) AS INTEGER) FROM " +
					"sales": map[bool]string{true: "99500000", false: "99200000"}[from == "sqlite"],
				"SELECT name FROM stalls WHERE opened = '2025-05-02' AND NOT covered": "Mühle",
				"PRAGMA integrity_check": "ok",
			} {
				var got string
				if err := made.QueryRowContext(t.Context(), q).Scan(&got); err != nil || strings.TrimSuffix(got, ".0") != want {
					t.Errorf("%s: %q, not %q, %v", q, got, want, err)
				}
			}
			if _, err := made.ExecContext(t.Context(), "UPDATE sales SET note = 'changed' WHERE id = 99"); err != nil {
				t.Fatal(err)
			}
			if _, err := made.ExecContext(t.Context(), "DELETE FROM sales WHERE id IN (5, 6)"); err != nil {
				t.Fatal(err)
			}
			if a := f.cli("reconcile", "spring"); a.code != 3 || !strings.Contains(a.out, "3") {
				t.Errorf("changed rows were not found: %+v", a)
			}
			f.must("repair", "spring", "--confirm", "spring")
			if a := f.cli("reconcile", "spring"); !strings.Contains(a.out, "clean") {
				t.Errorf("after repairing: %s%.3000s", a.out, f.cli("findings", "spring").out)
			}
			f.must("crossing", "close", "spring", "--wait", "--confirm", "spring")
			var left int
			if err := made.QueryRowContext(t.Context(),
				"SELECT count(*) FROM sqlite_schema WHERE name LIKE 'dusty%'").Scan(&left); err != nil ||
				left != 0 {
				t.Errorf("%d tables of ours are left in the file, %v", left, err)
			}
		})
	}
}

// TestALoadIntoAFileOutlivesKills: the process is killed amid transactions of a file, again and again;
// each row lands once.
func TestALoadIntoAFileOutlivesKills(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("DUSTYFERRY_FILES", dir)
	f := startFleet(t, 0)
	from := shopFile(t, filepath.Join(dir, "shop.db"))
	f.must("database", "add", "old", "--file", filepath.Join(dir, "shop.db"))
	f.must("database", "add", "new", "--file", filepath.Join(dir, "copy.db"), "--engine", "sqlite")
	f.must("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  source: "+
		"old\n  target: new\n"+
		"  copy_rows: true\n  follow_changes: false\n  tables: [\"main.*\"]\n"+
		"  settings: {chunk_bytes: 65536, speed_limit: 400000}\n"))
	f.startCrossing()
	kills := 0
	eventually(t, 2*time.Minute, func() bool {
		c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), "spring"))
		if err != nil {
			return false
		}
		if c.Phase == contract.PhaseInStep {
			return true
		}
		if c.Progress.ChunksLanded > 2*kills && kills < 4 {
			kills++
			f.strike(0)
		}
		return false
	})
	if kills < 2 {
		t.Errorf("it was killed %d times", kills)
	}
	to, err := sql.Open("sqlite", filepath.Join(dir, "copy.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = to.Close() }()
	for _, q := range []string{"SELECT count(*) || ' ' || sum(kg) || ' ' || sum(price) || ' ' || " +
		"group_concat(note) FROM sales",
		"SELECT count(*) || ' ' || group_concat(name || opened) FROM stalls", "SELECT count(*) || ' ' || " +
			"count(line) FROM notes"} {
		var a, b string
		if err := from.QueryRowContext(t.Context(), q).Scan(&a); err != nil {
			t.Fatal(err)
		}
		if err := to.QueryRowContext(t.Context(), q).Scan(&b); err != nil || a != b {
			t.Errorf("%s: %.100q, and in the copy %.100q, %v", q, a, b, err)
		}
	}
}

// TestAFileOfRows: a packed file of rows becomes a table by what it holds; one that was written since it
// was planned is another one.
func TestAFileOfRows(t *testing.T) {
	for _, engine := range []string{"postgres", "mariadb", "sqlite"} {
		t.Run(engine, func(t *testing.T) {
			f := start(t)
			dir := f.files()
			path := filepath.Join(dir, "readings.csv.gz")
			pack := func(rows int, more string) {
				t.Helper()
				file, err := os.Create(path)
				if err != nil {
					t.Fatal(err)
				}
				z := gzip.NewWriter(file)
				_, _ = io.WriteString(z, "hive;kg;taken;code;note\r\n")
				for i := range rows {
					_, _ = fmt.Fprintf(z, "%d;%d.50;2026-05-01T10:%02d:00;%04d;\"some \"\"honey\"\"; %d\"\r\n", i%40, i, i%60, i, i)
				}
				_, _ = io.WriteString(z, more)
				if err := errors.Join(z.Close(), file.Close()); err != nil {
					t.Fatal(err)
				}
			}
			pack(3000, ";;;;\r\n")
			f.must("database", "add", "old", "--file", path)
			if out := f.must("database", "check", "old").out; !strings.Contains(out, "semicolons between 5 columns") {
				t.Errorf("%s", out)
			}
			target, schema := side{}, "files"
			if engine == "sqlite" {
				schema = "main"
				f.must("database", "add", "new", "--file", filepath.Join(dir, "new.db"), "--engine", "sqlite")
				made, err := sql.Open("sqlite", filepath.Join(dir, "new.db"))
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() { _ = made.Close() })
				target.texts = func(q string) []string {
					var out string
					if err := made.QueryRowContext(t.Context(), q).Scan(&out); err != nil {
						t.Errorf("%s: %v", q, err)
					}
					return []string{out}
				}
			} else {
				if target = f.sideOf(engine, "new"); engine == "mariadb" {
					schema = target.schema
				}
			}
			f.must("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  "+
				"source: old\n  target: "+
				"new\n  copy_rows: true\n  follow_changes: false\n  settings: {bad_rows: set aside}\n"))
			f.startCrossing()
			f.awaitPhase(contract.PhaseInStep)
			for q, want := range map[string]string{
				"SELECT concat(count(*), '') AS n FROM %s.readings":                 "3001",
				"SELECT concat(count(kg), '') AS n FROM %s.readings":                "3000",
				"SELECT code AS n FROM %s.readings WHERE kg + 0 = 7.5":              "0007",
				"SELECT note AS n FROM %s.readings WHERE kg + 0 = 8.5":              `some "honey"; 8`,
				"SELECT concat(count(*), '') AS n FROM %s.readings WHERE note = ''": "1",
			} {
				if got := target.texts(fmt.Sprintf(q, schema)); len(got) != 1 || got[0] != want {
					t.Errorf("%s: %q, not %q", q, got, want)
				}
			}
			if out := f.must("reconcile", "spring").out; !strings.Contains(out, "clean") {
				t.Errorf("%s", out)
			}
			// Another file of the name is another one.
			pack(3100, "")
			if a := f.cli("reconcile", "spring"); a.code == 0 || !strings.Contains(a.out+a.err, "written since it was planned") {
				t.Errorf("a file that was written since: %+v", a)
			}
		})
	}
}

// TestTheDemoOfFiles: files become databases, their rows a server's, and nothing differs.
func TestTheDemoOfFiles(t *testing.T) {
	f := &ferry{t: t}
	a := f.cli("demo", "--source", "file", "--unattended", "--rows", "20000")
	if a.code != 0 || strings.Count(a.out, "clean, 0 findings") != 3 || !strings.Contains(a.out, "of the engine csv") ||
		!strings.Contains(a.out, "of the engine workbook") {
		t.Errorf("%+v", a)
	}
}

// TestAFolderOfObjects: files of JSON lines in one folder are one table on the target, and equal to it.
func TestAFolderOfObjects(t *testing.T) {
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			f := start(t)
			dir := filepath.Join(f.files(), "stalls")
			if err := os.Mkdir(dir, 0o700); err != nil {
				t.Fatal(err)
			}
			for day := range 3 {
				file, err := os.Create(filepath.Join(dir, fmt.Sprintf("%d.jsonl.gz", day)))
				if err != nil {
					t.Fatal(err)
				}
				z := gzip.NewWriter(file)
				for i := range 500 {
					_, _ = fmt.Fprintf(z, `{"sale": %d, "jars": %d, "price": %d.5e0, "label": "%04d", "of": {"day": %d, "tags": ["é"]},`+
						` "paid": %v, "note": %s}`+"\n", day*500+i, i%9, i%40, i, day, i%2 == 0, []string{"null", `""`, `"🐝"`}[i%3])
				}
				if day == 1 {
					_, _ = io.WriteString(z, "{\"sale\": 9\n")
				}
				if err := errors.Join(z.Close(), file.Close()); err != nil {
					t.Fatal(err)
				}
			}
			f.must("database", "add", "old", "--file", filepath.Join(dir, "*.jsonl.gz"))
			if out := f.must("database", "check", "old").out; !strings.Contains(out, "one object of JSON a line") ||
				!strings.Contains(out, "3 files") {
				t.Errorf("%s", out)
			}
			target, schema := f.sideOf(engine, "new"), "files"
			if engine == "mariadb" {
				schema = target.schema
			}
			f.must("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  "+
				"source: old\n  target: new\n  copy_rows: true\n  follow_changes: false\n  settings: {bad_rows: set aside}\n"))
			f.startCrossing()
			f.awaitPhase(contract.PhaseInStep)
			for q, want := range map[string]string{
				"SELECT concat(count(*), '') AS n FROM %s.stalls":                           "1500",
				"SELECT concat(count(note), '') AS n FROM %s.stalls":                        "999",
				"SELECT label AS n FROM %s.stalls WHERE sale = 507":                         "0007",
				"SELECT concat(price, '') AS n FROM %s.stalls WHERE sale = 507":             "7.5",
				`SELECT concat("of", '') AS n FROM %s.stalls WHERE sale = 1000`:             `{"day": 2, "tags": ["é"]}`,
				"SELECT concat(count(*), '') AS n FROM %s.stalls WHERE note = '🐝' AND paid": "249",
			} {
				if engine == "mariadb" {
					q = strings.ReplaceAll(q, `"of"`, "`of`")
				}
				got := target.texts(fmt.Sprintf(q, schema))
				if len(got) == 1 && engine == "mariadb" { // decimal numbers of a file have no digits of their own
					got[0] = strings.TrimRight(got[0], "0")
					want = strings.TrimRight(want, "0")
				}
				if len(got) != 1 || got[0] != want {
					t.Errorf("%s: %q, not %q", q, got, want)
				}
			}
			if out := f.must("crossing", "rejected", "spring").out; !strings.Contains(out, "1.jsonl.gz, line 501") {
				t.Errorf("%s", out)
			}
			if a := f.cli("reconcile", "spring"); a.code == 0 || !strings.Contains(a.out+a.err, "differ: 1 finding") {
				t.Errorf("with a row set aside: %+v", a)
			}
		})
	}
}
