package sqlite

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// apiary makes a file by statements and opens it.
func apiary(t testing.TB, statements ...string) (*engine.Opened, *sql.DB) {
	t.Helper()
	dir := t.TempDir()
	path := filepath.Join(dir, "apiary.db")
	w, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	w.SetMaxOpenConns(1)
	t.Cleanup(func() { _ = w.Close() })
	for _, s := range statements {
		if _, err := w.ExecContext(t.Context(), s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	db, err := engine.Open(t.Context(), Driver{}.Within([]string{dir}), engine.Endpoint{Database: path})
	if err != nil {
		t.Fatal(err)
	}
	return db, w
}

func tableOf(t testing.TB, db *engine.Opened, name string) *domain.Table {
	t.Helper()
	cat, err := db.Catalog(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	tab := cat.Table(domain.TableName{Schema: "main", Name: name})
	if tab == nil {
		t.Fatalf("there is no table %s in %+v", name, cat.Tables)
	}
	return tab
}

// TestWhatColumnsBecome: by what they hold, and by what they were declared as where that agrees.
func TestWhatColumnsBecome(t *testing.T) {
	for _, c := range []struct{ declared, values, want string }{
		{"INTEGER", "1, 2, NULL", "bigint"},
		{"INT", "1, 'two'", "text"},
		{"INTEGER", "1, 1.5", "numeric"},
		{"REAL", "1, 2", "double precision"},
		{"REAL", "1.5, 1e300", "double precision"},
		{"DECIMAL(10, 2)", "1, 2.25", "numeric(10,2)"},
		{"DECIMAL(10, 2)", "1, 2.255", "numeric"},
		{"NUMBER(5)", "12345, -1", "numeric(5,0)"},
		{"DECIMAL(10, 2)", "'a'", "text"},
		{"VARCHAR(10)", "'a', 'bc'", "character varying(10)"},
		{"VARCHAR(2)", "'abc'", "text"},
		{"TEXT", "'a', x'00'", "bytea"},
		{"", "1, 2", "bigint"},
		{"", "'a'", "text"},
		{"", "x'00ff'", "bytea"},
		{"BLOB", "NULL", "bytea"},
		{"BOOLEAN", "0, 1, NULL", "boolean"},
		{"BOOLEAN", "0, 2", "numeric"},
		{"DATE", "'2026-05-01'", "date"},
		{"DATE", "'2026-05-01', '2026-02-30'", "text"},
		{"DATETIME", "'2026-05-01 10:00:00', '2026-05-01T10:00:00.25', '2026-05-01'", "timestamp without time zone"},
		{"TIMESTAMP", "'2026-05-01 10:00:00Z', '2026-05-01 10:00:00+02:00', '2026-05-01 10:00:00.5+00'",
			"timestamp with time zone"},
		{"TIMESTAMP", "'2026-05-01 10:00:00Z', '2026-05-01 10:00:00'", "text"},
		{"TIMESTAMP", "1777629600", "bigint"},
		{"DATETIME", "2461161.5", "double precision"},
		{"TIME", "'10:30', '23:59:59.5'", "time without time zone"},
		{"TEXT", "'2026-05-01'", "text"},
	} {
		db, _ := apiary(t, "CREATE TABLE t (c "+c.declared+")", "INSERT INTO t VALUES ("+strings.Join(splitValues(c.values),
			"), (")+")")
		if got := tableOf(t, db, "t").Columns[0].Type; got != c.want {
			t.Errorf("%s of %s is %s, not %s", c.declared, c.values, got, c.want)
		}
	}
}

func splitValues(s string) []string { return strings.Split(s, ", ") }

// chunk reads chunks of a table, in the neutral form.
func chunk(t *testing.T, db *engine.Opened, p *domain.TablePlan, c domain.Chunk) (rows []string, refused []string) {
	t.Helper()
	r, err := db.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if _, err := r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := r.Rows(t.Context(), p, &c, func(fields [][]byte, no error) error {
		var line []string
		for _, f := range fields {
			if f == nil {
				line = append(line, "NULL")
				continue
			}
			line = append(line, string(f))
		}
		if no != nil {
			refused = append(refused, no.Error())
			return nil
		}
		rows = append(rows, strings.Join(line, "|"))
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if err := r.End(t.Context()); err != nil {
		t.Fatal(err)
	}
	return rows, refused
}

func TestValuesInTheNeutralForm(t *testing.T) {
	db, w := apiary(t, "CREATE TABLE t (id INTEGER PRIMARY KEY, r REAL, n DECIMAL, s TEXT, b BLOB, ok BOOLEAN, d DATE, "+
		"m DATETIME, z TIMESTAMPTZ, h TIME)",
		"INSERT INTO t VALUES (1, 0.1, 12345678901234567, 'hönig', x'00ff', 1, '2026-05-01', '2026-05-01T10:00:00.250', "+
			"'2026-05-01 10:00:00+02:00', '07:05')",
		"INSERT INTO t VALUES (2, 1e20, 0.25, '', x'', 0, NULL, '2026-05-01', NULL, '07:05:01.5')",
		"INSERT INTO t VALUES (3, -5, NULL, 'a|b', NULL, NULL, NULL, '2026-05-01 10:00', '2026-05-01 10:00Z', NULL)")
	p, err := db.Plan(tableOf(t, db, "t"))
	if err != nil || p.KeyOrder != "ours" || !slices.Equal(p.Key, []string{"id"}) {
		t.Fatalf("%+v, %v", p, err)
	}
	want := []string{
		`1|0.1|12345678901234567|hönig|\x00ff|true|2026-05-01|2026-05-01 10:00:00.25|2026-05-01 08:00:00+00|07:05:00`,
		`2|1e+20|0.25||\x|false|NULL|2026-05-01 00:00:00|NULL|07:05:01.5`,
		`3|-5|NULL|a|b|NULL|NULL|NULL|2026-05-01 10:00:00|2026-05-01 10:00:00+00|NULL`,
	}
	rows, refused := chunk(t, db, &p, domain.Chunk{})
	if !slices.Equal(rows, want) || refused != nil {
		t.Errorf("%s\n%q", strings.Join(rows, "\n"), refused)
	}
	// What comes later and does not fit is refused, with its column, and the others are not.
	if _, err := w.ExecContext(t.Context(), "INSERT INTO t (id, r, ok, d, s) VALUES (4, 'many', 2, NULL, NULL), "+
		"(5, NULL, 2, NULL, NULL), (6, NULL, NULL, 'May', NULL), (7, NULL, NULL, NULL, CAST(x'ff' AS TEXT)), "+
		"(8, NULL, NULL, NULL, 'well')"); err != nil {
		t.Fatal(err)
	}
	rows, refused = chunk(t, db, &p, domain.Chunk{Lower: domain.KeyValue{"4"}})
	for i, part := range []string{`column r holds the text "many"`, "column ok holds the whole number 2",
		`column d holds the text "May"`, "no UTF-8"} {
		if i >= len(refused) || !strings.Contains(refused[i], part) {
			t.Errorf("%q", refused)
		}
	}
	if len(rows) != 1 || !strings.HasPrefix(rows[0], "8|") {
		t.Errorf("%q", rows)
	}
	if rows, _ = chunk(t, db, &p, domain.Chunk{Lower: domain.KeyValue{"2"}, Upper: domain.KeyValue{"4"}}); len(rows) != 2 {
		t.Errorf("of a range: %q", rows)
	}
}

func TestTheCatalog(t *testing.T) {
	db, _ := apiary(t,
		"CREATE TABLE hives (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL UNIQUE, kg REAL DEFAULT 1.5, "+
			"made TEXT DEFAULT CURRENT_TIMESTAMP, twice REAL AS (kg * 2), CHECK (kg > 0))",
		"CREATE TABLE frames (hive INTEGER NOT NULL REFERENCES hives ON DELETE CASCADE, place INTEGER, wax "+
			"TEXT, PRIMARY KEY (hive, place)) "+
			"WITHOUT ROWID",
		"CREATE TABLE lots (code TEXT PRIMARY KEY, kg INTEGER)",
		"CREATE INDEX by_kg ON hives (kg)", "CREATE INDEX heavy ON hives (kg) WHERE kg > 10",
		"CREATE INDEX lower_name ON hives (lower(name))",
		"CREATE VIRTUAL TABLE words USING fts5 (w)", "CREATE VIEW v AS SELECT * FROM hives",
		"INSERT INTO lots VALUES (NULL, 1), ('a', 2)", "INSERT INTO hives (name) VALUES ('north'), ('south')",
		"INSERT INTO frames VALUES (1, 1, 'old')")
	cat, err := db.Catalog(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, x := range cat.Tables {
		names = append(names, x.Name)
	}
	if !slices.Equal(names, []string{"frames", "hives", "lots"}) {
		t.Errorf("tables %q", names)
	}
	h := tableOf(t, db, "hives")
	if h.Rows != 2 || len(h.Keys) != 2 || !h.Keys[0].Primary || h.Keys[1].Columns[0] != "name" ||
		h.Columns[2].Default != "1.5" ||
		h.Columns[3].Default != "" || h.Columns[4].Type != "double precision" || h.RowIdentity != "primary" {
		t.Errorf("%+v", h)
	}
	left := strings.Join(h.Left, "; ")
	for _, part := range []string{"default of made", "twice is computed", "AUTOINCREMENT", "checks"} {
		if !strings.Contains(left, part) {
			t.Errorf("nothing says %q: %s", part, left)
		}
	}
	kinds := map[string]string{}
	for _, x := range h.Indexes {
		kinds[x.Name] = strings.Join(x.Columns, ",") + x.Why
	}
	if kinds["by_kg"] != "kg" || !strings.Contains(kinds["heavy"], "part of the rows") ||
		!strings.Contains(kinds["lower_name"], "expression") {
		t.Errorf("indexes %q", kinds)
	}
	f := tableOf(t, db, "frames")
	if k := f.Constraints[0]; len(f.Keys) != 1 || strings.Join(f.Keys[0].Columns, ",") != "hive,place" ||
		!f.Columns[1].NotNull ||
		k.References.Name != "hives" || strings.Join(k.ReferenceColumns, ",") != "id" || k.Rules != " ON DELETE CASCADE" {
		t.Errorf("%+v", f)
	}
	if l := tableOf(t, db, "lots"); len(l.Keys) != 0 || !strings.Contains(strings.Join(l.Left, ""),
		"is NULL in some rows") {
		t.Errorf("a primary key that can hold NULL: %+v", l)
	}
	again, err := db.Catalog(t.Context())
	if err != nil || again != cat {
		t.Errorf("the catalog of a file that nobody wrote was read again: %v", err)
	}
}

// TestChunksAndViews: bounds cut a table into all of its rows, by every kind of key, and sums of parts
// are those of chunks.
func TestChunksAndViews(t *testing.T) {
	for _, n := range []int64{counts, 1000} { // as small tables, and as large ones
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			was := counts
			counts = n
			defer func() { counts = was }()
			chunksAndViews(t)
		})
	}
}

func chunksAndViews(t *testing.T) {
	db, w := apiary(t, "CREATE TABLE a (id INTEGER PRIMARY KEY, v TEXT)",
		"CREATE TABLE b (s TEXT NOT NULL, n INTEGER NOT NULL, v TEXT, PRIMARY KEY (s, n)) WITHOUT ROWID",
		"CREATE TABLE c (x REAL NOT NULL PRIMARY KEY, v TEXT)")
	tx, err := w.BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 3000 {
		for _, q := range []string{fmt.Sprintf("INSERT INTO a VALUES (%d, 'v%d')", i*3-1000, i),
			fmt.Sprintf("INSERT INTO b VALUES ('k%d', %d, 'v')", i%70, i), fmt.Sprintf("INSERT INTO c VALUES (%f, 'v')",
				float64(i)/7)} {
			if _, err := tx.ExecContext(t.Context(), q); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
	for name, order := range map[string]string{"a": "ours", "b": "ours", "c": "source"} {
		p, err := db.Plan(tableOf(t, db, name))
		if err != nil || p.KeyOrder != order {
			t.Errorf("%s: %+v, %v", name, p.KeyOrder, err)
		}
		bounds, err := db.Sample(t.Context(), &p, 20)
		if err != nil || len(bounds) < 10 || len(bounds) > 40 {
			t.Fatalf("%s: %d bounds, %v", name, len(bounds), err)
		}
		all := map[string]bool{}
		var total rowhash.Sum
		r, err := db.OpenReader(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i <= len(bounds); i++ {
			var ch domain.Chunk
			if i > 0 {
				ch.Lower = bounds[i-1]
			}
			if i < len(bounds) {
				ch.Upper = bounds[i]
			}
			rows, _ := chunk(t, db, &p, ch)
			for _, row := range rows {
				if all[row] {
					t.Fatalf("%s: the row %q is in two chunks", name, row)
				}
				all[row] = true
			}
			bytes := 0
			sum, err := r.Copy(t.Context(), &p, &ch, false, func(b []byte) error { bytes += len(b); return nil })
			if err != nil || sum.Rows != int64(len(rows)) || (bytes > 0) != (len(rows) > 0) {
				t.Fatalf("%s: %+v, %v", name, sum, err)
			}
			total.Merge(sum)
		}
		r.Close()
		if len(all) != 3000 {
			t.Errorf("%s: %d rows in all chunks", name, len(all))
		}
		v, _, err := db.OpenView(t.Context(), false, 0)
		if err != nil {
			t.Fatal(err)
		}
		n, err := v.Count(t.Context(), &p)
		if err != nil || n != 3000 {
			t.Errorf("%s: %d, %v", name, n, err)
		}
		sums, err := v.Sums(t.Context(), &p, engine.Part{Bounds: bounds}, func(int64) {})
		if err != nil {
			t.Fatal(err)
		}
		var whole rowhash.Sum
		for _, s := range sums {
			whole.Merge(s)
		}
		if whole != total {
			t.Errorf("%s: parts %+v, chunks %+v", name, whole, total)
		}
		var keys []string
		if err := v.Rows(t.Context(), &p, engine.Part{Buckets: 7}, []int{3}, func(k []byte, _ uint64) {
			keys = append(keys, string(k))
		}); err != nil || len(keys) == 0 {
			t.Fatalf("%s: %d keys, %v", name, len(keys), err)
		}
		found, err := v.Fetch(t.Context(), &p, engine.Part{Buckets: 7}, keys)
		if err != nil || len(found) != len(keys) {
			t.Errorf("%s: of %d keys %d were found, %v", name, len(keys), len(found), err)
		}
		v.Close()
	}
	if _, _, err := db.OpenView(t.Context(), true, 0); err == nil {
		t.Error("a file has a place in a log")
	}
}

func TestWhatCannotBeOpened(t *testing.T) {
	dir, elsewhere := t.TempDir(), t.TempDir()
	put := func(path, what string) string {
		if err := os.WriteFile(path, []byte(what), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	secret := put(filepath.Join(elsewhere, "secret.db"), "SQLite format 3\x00")
	link := filepath.Join(dir, "link.db")
	if err := os.Symlink(secret, link); err != nil {
		t.Fatal(err)
	}
	d := Driver{}.Within([]string{dir})
	for path, says := range map[string]string{
		secret:                                 "in none of the folders",
		link:                                   "in none of the folders",
		filepath.Join(dir, "..", "secret.db"):  "in none of the folders",
		filepath.Join(elsewhere, "nothing"):    "in none of the folders",
		filepath.Join(dir, "nothing.db"):       "there is no file",
		"apiary.db":                            "not whole",
		put(filepath.Join(dir, "t.db"), "a,b"): "no SQLite database",
		put(filepath.Join(dir, "cut.db"), "SQLite format 3\x00\x10\x00"): "no SQLite database",
		dir: "in none of the folders",
	} {
		if _, err := d.Open(t.Context(), engine.Endpoint{Database: path}); err == nil || !strings.Contains(err.Error(),
			says) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if _, err := (Driver{}).Open(t.Context(), engine.Endpoint{Database: secret}); err == nil ||
		!strings.Contains(err.Error(), "serve --files") {
		t.Errorf("without folders: %v", err)
	}
}

// TestBesideAWriter: in WAL mode a reader sees the file as it was at its first read, and keeps nobody
// from writing; in the other mode a writer waits for a chunk and no longer.
func TestBesideAWriter(t *testing.T) {
	for _, mode := range []string{"WAL", "DELETE"} {
		db, w := apiary(t, "PRAGMA journal_mode = "+mode, "PRAGMA busy_timeout = 5000",
			"CREATE TABLE t (id INTEGER PRIMARY KEY)",
			"INSERT INTO t VALUES (1), (2)")
		p, err := db.Plan(tableOf(t, db, "t"))
		if err != nil {
			t.Fatal(err)
		}
		r, err := db.OpenReader(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := r.Begin(t.Context()); err != nil {
			t.Fatal(err)
		}
		count := func() (n int) {
			if err := r.Rows(t.Context(), &p, &domain.Chunk{}, func([][]byte, error) error { n++; return nil }); err != nil {
				t.Fatal(err)
			}
			return n
		}
		if n := count(); n != 2 {
			t.Errorf("%s: %d rows", mode, n)
		}
		written := make(chan error, 1)
		go func() {
			_, err := w.ExecContext(t.Context(), "INSERT INTO t VALUES (3)")
			written <- err
		}()
		if mode == "WAL" {
			if err := <-written; err != nil {
				t.Error(err)
			}
		}
		if n := count(); n != 2 {
			t.Errorf("%s: within a chunk there are %d rows", mode, n)
		}
		if err := r.End(t.Context()); err != nil {
			t.Fatal(err)
		}
		if mode != "WAL" {
			if err := <-written; err != nil {
				t.Error(err)
			}
		}
		if _, err := r.Begin(t.Context()); err != nil {
			t.Fatal(err)
		}
		if n := count(); n != 3 {
			t.Errorf("%s: then there are %d rows", mode, n)
		}
		r.Close()
	}
}

// TestActsOfAFile: what a standing table does by itself neither drops rows nor takes their place.
func TestActsOfAFile(t *testing.T) {
	db, w := apiary(t, "CREATE TABLE t (id INTEGER PRIMARY KEY ON CONFLICT REPLACE, v TEXT UNIQUE ON CONFLICT IGNORE)")
	p, err := db.Plan(tableOf(t, db, "t"))
	if err != nil {
		t.Fatal(err)
	}
	prepare := func() error {
		return db.PrepareTarget(t.Context(), "c0ffee", nil, []domain.TablePlan{p}, domain.DefaultSettings(),
			func(engine.Object, error) {})
	}
	if err := prepare(); err != nil {
		t.Fatal(err)
	}
	land := func(rows ...string) error {
		wr, err := db.OpenWriter(t.Context(), "")
		if err != nil {
			return err
		}
		defer wr.Close()
		if err := wr.Begin(t.Context(), &p, false, nil); err != nil {
			return err
		}
		for i, v := range rows {
			if err := wr.Write(t.Context(), engine.Row([][]byte{[]byte(fmt.Sprint(i / 2)), []byte(v)})); err != nil {
				return err
			}
		}
		return nil
	}
	for _, rows := range [][]string{{"a", "b"}, {"a", "x", "a"}} { // the first two have one key, then one value twice
		if err := land(rows...); engine.ClassOf(err) != engine.OfRows {
			t.Errorf("%q: %v", rows, err)
		}
	}
	if _, err := w.ExecContext(t.Context(), "CREATE TRIGGER drops BEFORE INSERT ON t BEGIN SELECT "+
		"RAISE(IGNORE); END"); err != nil {
		t.Fatal(err)
	}
	if err := land("a"); err == nil || !strings.Contains(err.Error(), "drops or doubles rows") {
		t.Errorf("a row that a trigger drops: %v", err)
	}
	if err := prepare(); err == nil || !strings.Contains(err.Error(), "triggers (drops)") {
		t.Errorf("a table with a trigger is taken: %v", err)
	}
	list, err := db.SurveyTarget(t.Context(), nil, []domain.TablePlan{p}, domain.DefaultSettings())
	if err != nil || !slices.ContainsFunc(list, func(e domain.Entry) bool {
		return e.Verdict == domain.Blocker && e.Topic == engine.TopicActs
	}) {
		t.Errorf("the survey says %+v, %v", list, err)
	}
}
