package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// followed is a file whose tables are recorded, and what came of their changes.
type followed struct {
	t     *testing.T
	db    *engine.Opened
	app   *sql.DB
	plans []domain.TablePlan
	from  domain.Position
	cap   engine.Capture
	rows  map[string]bool // by table, key and values
	txs   int
	last  domain.Position
}

const follower = "dusty_ferry_test"

func follow(t *testing.T, statements ...string) *followed {
	t.Helper()
	f := &followed{t: t, rows: map[string]bool{}}
	f.db, f.app = apiary(t, append([]string{"PRAGMA journal_mode = WAL", "PRAGMA busy_timeout = 20000"}, statements...)...)
	cat, err := f.db.Catalog(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for i := range cat.Tables {
		p, err := f.db.Plan(&cat.Tables[i])
		if err != nil {
			t.Fatal(err)
		}
		f.plans = append(f.plans, p)
	}
	if f.from, err = f.db.PrepareCapture(t.Context(), follower, f.plans); err != nil {
		t.Fatal(err)
	}
	return f
}

func (f *followed) open() {
	f.t.Helper()
	var tables []engine.CaptureTable
	for i := range f.plans {
		tables = append(tables, engine.CaptureTable{ID: int64(i), Plan: &f.plans[i]})
	}
	c, err := f.db.OpenCapture(f.t.Context(), follower, f.from, tables, "")
	if err != nil {
		f.t.Fatal(err)
	}
	f.cap = c
	f.t.Cleanup(c.Close)
}

func (f *followed) run(statements ...string) {
	f.t.Helper()
	for _, s := range statements {
		if _, err := f.app.ExecContext(f.t.Context(), s); err != nil {
			f.t.Fatalf("%s: %v", s, err)
		}
	}
}

func words(r domain.Row) string {
	out := make([]string, len(r))
	for i, v := range r {
		out[i] = "-"
		if v.Kind == domain.Present {
			out[i] = string(v.Data)
		}
	}
	return strings.Join(out, "|")
}

// apply carries a change out upon rows that are known by their first column.
func (f *followed) apply(c *domain.Change) {
	name := f.plans[c.Table].Source.Name + " "
	remove := func(r domain.Row) {
		for have := range f.rows {
			if strings.HasPrefix(have, name+string(r[0].Data)+"|") {
				delete(f.rows, have)
			}
		}
	}
	if c.Old != nil {
		remove(c.Old)
	}
	if c.New != nil {
		remove(c.New)
		f.rows[name+words(c.New)] = true
	}
}

// upTo applies what comes before a place.
func (f *followed) upTo(at domain.Position) {
	f.t.Helper()
	end := time.After(time.Minute)
	for f.last.Before(at) {
		select {
		case e, more := <-f.cap.Events():
			if !more {
				f.t.Fatalf("it ended: %v", f.cap.Err())
			}
			f.cap.Took(&e)
			switch e.Kind {
			case domain.EventChange:
				f.apply(&e.Change)
			case domain.EventCommit:
				f.txs++
				f.last, f.from = e.Tx.End, e.Tx.End
			case domain.EventProgress:
				f.last, f.from = e.Position, e.Position
			}
		case <-end:
			f.t.Fatalf("a minute is over, and it is at %s, not %s", f.last, at)
		}
	}
}

// equal compares with a view at its place.
func (f *followed) equal() {
	f.t.Helper()
	v, at, err := f.db.OpenView(f.t.Context(), true, time.Minute)
	if err != nil {
		f.t.Fatal(err)
	}
	defer v.Close()
	f.upTo(at)
	want := map[string]bool{}
	for i := range f.plans {
		if err := v.(*view).Range(f.t.Context(), &f.plans[i], nil, nil, func(_ []byte, fields [][]byte) error {
			want[f.plans[i].Source.Name+" "+words(engine.TextRow(fields))] = true
			return nil
		}); err != nil {
			f.t.Fatal(err)
		}
	}
	for r := range want {
		if !f.rows[r] {
			f.t.Errorf("it lacks %s", r)
		}
	}
	for r := range f.rows {
		if !want[r] {
			f.t.Errorf("it has %s", r)
		}
	}
	if f.t.Failed() {
		f.t.FailNow()
	}
}

// TestRandomWritesAreFollowed: whatever applications write, in one statement or many, by REPLACE and IGNORE,
// over unique keys, called off or not, is known exactly at every place that is compared; also when the reading
// begins anew.
func TestRandomWritesAreFollowed(t *testing.T) {
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 21))
			f := follow(t, "CREATE TABLE hives (id INTEGER PRIMARY KEY, name TEXT COLLATE NOCASE UNIQUE, place INT, kg REAL, "+
				"UNIQUE (place, name))", "CREATE TABLE lots (code TEXT PRIMARY KEY, hive INT REFERENCES hives ON DELETE "+
				"CASCADE ON UPDATE CASCADE, raw BLOB) WITHOUT ROWID", "PRAGMA foreign_keys = ON")
			f.open()
			id := func() int { return r.IntN(12) }
			name := func() string {
				return []string{"NULL", "'kea'", "'KEA'", "'tui'", "'moa'", "'ou''zel'", "'rail'"}[r.IntN(7)]
			}
			value := func() string { return []string{"NULL", "x''", "x'00ff'"}[r.IntN(3)] }
			or := func() string {
				return []string{"", "", " OR REPLACE", " OR IGNORE", " OR FAIL", " OR ROLLBACK"}[r.IntN(6)]
			}
			in := false
			for range 400 {
				q := ""
				switch r.IntN(12) {
				case 0, 1, 2:
					q = fmt.Sprintf("INSERT%s INTO hives VALUES (%d, %s, %d, %g)", or(), id(), name(), r.IntN(3), float64(r.IntN(9))/7)
				case 3:
					q = fmt.Sprintf("UPDATE%s hives SET name = %s, kg = %d WHERE id = %d", or(), name(), r.IntN(9), id())
				case 4:
					q = fmt.Sprintf("UPDATE%s hives SET id = %d WHERE id = %d", or(), id(), id())
				case 5:
					q = fmt.Sprintf("DELETE FROM hives WHERE id > %d", 6+r.IntN(8))
				case 6:
					q = fmt.Sprintf("INSERT OR REPLACE INTO lots VALUES ('L%d', (SELECT max(id) FROM hives), %s)", id(), value())
				case 7:
					q = fmt.Sprintf("INSERT INTO hives (id, name, place, kg) VALUES (%d, %s, 1, 1) ON CONFLICT DO UPDATE SET kg = 99",
						id(), name())
				case 8:
					q = "BEGIN"
					if in {
						q = []string{"COMMIT", "ROLLBACK", "SAVEPOINT s", "ROLLBACK TO s"}[r.IntN(4)]
					}
				case 9:
					q = fmt.Sprintf("UPDATE OR REPLACE hives SET place = %d, name = %s", r.IntN(3), name())
				case 10:
					q = "DELETE FROM lots"
				case 11:
					if in {
						continue // nobody else can write
					}
					if f.equal(); r.IntN(3) == 0 { // another process goes on
						f.cap.Close()
						f.open()
					}
					continue
				}
				_, err := f.app.ExecContext(t.Context(), q) // many are refused
				switch {
				case q == "BEGIN":
					in = true
				case q == "COMMIT", q == "ROLLBACK", err != nil && strings.Contains(q, "OR ROLLBACK"):
					in = false
				}
			}
			_, _ = f.app.ExecContext(t.Context(), "COMMIT")
			f.equal()
			if f.txs == 0 {
				t.Error("nothing came")
			}
		})
	}
}

// TestReplacedByAKeyThatFolds: REPLACE by a key whose texts are the same in other letters, and by a primary key
// that is not the one that is planned.
func TestReplacedByAKeyThatFolds(t *testing.T) {
	f := follow(t, "CREATE TABLE a (name TEXT COLLATE NOCASE, place INT, kg INT, PRIMARY KEY (name, place))",
		"CREATE TABLE b (code TEXT NOT NULL UNIQUE, id TEXT PRIMARY KEY)", "INSERT INTO b VALUES ('x', NULL)",
		"CREATE TABLE c (name TEXT COLLATE NOCASE PRIMARY KEY, kg INT) WITHOUT ROWID")
	if !slices.Equal(f.plans[1].Key, []string{"code"}) {
		t.Fatalf("b is planned by %v", f.plans[1].Key)
	}
	f.open()
	f.run("INSERT INTO a VALUES ('kea', 1, 1), ('tui', 1, 1)", "INSERT INTO b VALUES ('a', '1'), ('b', '2')",
		"INSERT INTO c VALUES ('kea', 1)", "DELETE FROM b WHERE id IS NULL")
	f.equal()
	f.run("REPLACE INTO a VALUES ('KEA', 1, 2), ('Tui', 2, 3)", "REPLACE INTO b VALUES ('c', '1')",
		"UPDATE OR REPLACE b SET id = '1' WHERE id = '2'", "REPLACE INTO c VALUES ('Kea', 2)",
		"UPDATE c SET name = 'kEa'")
	f.equal()
}

// TestKeysAreLocatedAsTheFileOrdersThem: by the collation of the key's column, and not by bytes.
func TestKeysAreLocatedAsTheFileOrdersThem(t *testing.T) {
	f := follow(t, "CREATE TABLE a (name TEXT COLLATE NOCASE, n INT, PRIMARY KEY (name, n))",
		"CREATE TABLE b (name TEXT PRIMARY KEY)")
	if f.plans[0].KeyOrder != "source" || f.plans[1].KeyOrder != "ours" {
		t.Errorf("keys are ordered by %s and %s", f.plans[0].KeyOrder, f.plans[1].KeyOrder)
	}
	at, err := f.db.Locate(t.Context(), &f.plans[0], []domain.KeyValue{{"b", "1"}, {"D", "7"}},
		[]domain.KeyValue{{"A", "9"}, {"c", "0"}, {"B", "1"}, {"d", "6"}, {"d", "7"}, {"E", "0"}})
	if err != nil || !slices.Equal(at, []int{0, 1, 1, 1, 2, 2}) {
		t.Errorf("they are in the chunks %v, %v", at, err)
	}
}

// TestChunksLieAtMarks: a chunk that is read while others write sees just what lies before its place.
func TestChunksLieAtMarks(t *testing.T) {
	f := follow(t, "CREATE TABLE hives (id INTEGER PRIMARY KEY, kg INT)")
	f.open()
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() {
		for n := 0; ctx.Err() == nil; n++ {
			time.Sleep(time.Millisecond)
			if _, err := f.app.ExecContext(ctx, "INSERT INTO hives (kg) VALUES (?)", n); err != nil && ctx.Err() == nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	r, err := f.db.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	for range 30 {
		snapshot, err := r.Begin(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		sum, err := r.Copy(t.Context(), &f.plans[0], &domain.Chunk{}, false, func([]byte) error { return nil })
		if err != nil {
			t.Fatal(err)
		}
		if err := r.End(t.Context()); err != nil {
			t.Fatal(err)
		}
		f.upTo(snapshot.Log)
		if int64(len(f.rows)) != sum.Rows {
			t.Fatalf("at %s it has %d rows, and %d were followed", snapshot.Log, sum.Rows, len(f.rows))
		}
	}
	stop()
	if err := <-done; err != nil {
		t.Fatal(err)
	}
}

// TestTheLogIsForgottenAndRemoved: what is applied goes from the log, for whoever needs it least far; at the
// end nothing is left in the file.
func TestTheLogIsForgottenAndRemoved(t *testing.T) {
	f := follow(t, "CREATE TABLE hives (id INTEGER PRIMARY KEY, kg INT)", "CREATE TABLE lots (id INTEGER PRIMARY KEY)")
	if _, err := f.db.PrepareCapture(t.Context(), "dusty_ferry_other", f.plans[:1]); err != nil {
		t.Fatal(err)
	}
	one := func(q string) (n int) {
		t.Helper()
		if err := f.app.QueryRowContext(t.Context(), q).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	f.open()
	f.run("INSERT INTO hives (kg) VALUES (1), (2), (3)", "INSERT INTO lots DEFAULT VALUES")
	f.equal()
	kept, err := f.db.Retained(t.Context(), follower, f.last)
	if err != nil || !kept.Held || kept.To.Before(f.last) || kept.Bytes > 200 {
		t.Errorf("it keeps %+v, %v", kept, err)
	}
	if n, err := f.db.LogBytes(t.Context(), f.from, domain.PositionAt(f.from.Number()+10)); err != nil || n < 10*40 {
		t.Errorf("ten changes have %d bytes, %v", n, err)
	}
	f.cap.Confirm(f.last)
	for range 200 {
		if one("SELECT upto FROM dusty_ferry_reader WHERE name = '"+follower+"'") == int(f.last.Number())-1 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if n := one("SELECT count(*) FROM dusty_ferry_log WHERE kind <> 'm'"); n != 4 {
		t.Errorf("%d changes are left, which the other crossing has not read", n)
	}
	f.cap.Close()
	if err := f.db.DropCapture(t.Context(), "dusty_ferry_other", nil); err != nil {
		t.Fatal(err)
	}
	f.open()
	f.run("INSERT INTO lots DEFAULT VALUES")
	f.equal()
	f.cap.Confirm(f.last)
	for range 200 {
		if one("SELECT count(*) FROM dusty_ferry_log WHERE kind <> 'm'") == 0 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	f.cap.Close()
	f.from = domain.PositionAt(2)
	if _, err := f.db.OpenCapture(t.Context(), follower, f.from, nil, ""); err == nil || !strings.Contains(err.Error(),
		"its log begins at") {
		t.Errorf("from where the log is gone: %v", err)
	}
	for range 2 { // again is no error
		if err := f.db.DropCapture(t.Context(), follower, nil); err != nil {
			t.Fatal(err)
		}
	}
	if n := one("SELECT count(*) FROM sqlite_schema WHERE name LIKE 'dusty%'"); n != 0 {
		t.Errorf("%d things are left in the file", n)
	}
}

// TestTablesThatRefuseWrites: in one transaction, with a sentence; whoever looks finds them, and can open them.
func TestTablesThatRefuseWrites(t *testing.T) {
	f := follow(t, "CREATE TABLE hives (id INTEGER PRIMARY KEY, kg INT)", "INSERT INTO hives VALUES (1, 1)")
	stop, err := f.db.StopWrites(t.Context(), domain.StopReadOnly, follower, f.plans, time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	if err := stop.CloseWrites(t.Context(), "the hives' keeper has moved", ""); err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"INSERT OR IGNORE INTO hives VALUES (1, 2)", "INSERT OR REPLACE INTO hives VALUES (1, 2)",
		"UPDATE OR IGNORE hives SET kg = 9", "DELETE FROM hives"} {
		if _, err := f.app.ExecContext(t.Context(), q); err == nil || !strings.Contains(err.Error(), "keeper has moved") {
			t.Errorf("%s: %v", q, err)
		}
	}
	list, err := f.db.Traces(t.Context())
	if err != nil || len(list) != 2 || list[0].Kind != "recording triggers" || list[1].Kind != "closed to writes" ||
		list[0].Crossing != "test" || list[1].Crossing != "test" {
		t.Fatalf("%+v, %v", list, err)
	}
	if err := f.db.Run(t.Context(), list[1].Undo); err != nil {
		t.Fatal(err)
	}
	if err := stop.Alive(t.Context()); err == nil || !strings.Contains(err.Error(), "somebody has removed the trigger") {
		t.Errorf("without its triggers: %v", err)
	}
	f.run("DELETE FROM hives")
	if _, err := f.db.StopWrites(t.Context(), domain.StopLock, follower, f.plans, time.Minute); err == nil {
		t.Error("a file was locked")
	}
	// Who writes at that moment comes to the end first.
	f.run("BEGIN IMMEDIATE", "INSERT INTO hives VALUES (7, 7)")
	done := make(chan error, 1)
	go func() {
		_, err := f.db.StopWrites(t.Context(), domain.StopReadOnly, follower, f.plans, time.Minute)
		done <- err
	}()
	time.Sleep(50 * time.Millisecond)
	f.run("INSERT INTO hives VALUES (8, 8)", "COMMIT")
	if err := <-done; err != nil {
		t.Errorf("among writers: %v", err)
	}
	if _, err := f.app.ExecContext(t.Context(), "DELETE FROM hives"); err == nil {
		t.Error("writes are not stopped")
	}
}

// TestWhatEndsARecording: a trigger that is gone, a column that is new, a file that is another or was set
// back; each is told, and nothing is passed over.
func TestWhatEndsARecording(t *testing.T) {
	fresh := func() *followed {
		f := follow(t, "CREATE TABLE hives (id INTEGER PRIMARY KEY, kg INT)", "CREATE TABLE lots (id INTEGER PRIMARY KEY)")
		f.open()
		f.run("INSERT INTO hives (kg) VALUES (1)")
		f.equal()
		return f
	}
	lost := func(f *followed) []string {
		list, err := f.db.Mind(t.Context(), follower, f.plans, nil)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, n := range list {
			out = append(out, n.Name)
		}
		return out
	}
	ends := func(f *followed, says string) {
		t.Helper()
		for {
			select {
			case e, more := <-f.cap.Events():
				if more {
					f.cap.Took(&e)
					continue
				}
				if f.cap.Err() == nil || !strings.Contains(f.cap.Err().Error(), says) {
					t.Errorf("it ended with %v, not %q", f.cap.Err(), says)
				}
			case <-time.After(20 * time.Second):
				t.Errorf("it goes on, and %q is not said", says)
			}
			return
		}
	}
	f := fresh()
	if got := lost(f); len(got) > 0 {
		t.Errorf("lost are %v", got)
	}
	f.run("DROP TRIGGER dusty_ferry_d_hives", "DROP TABLE lots", "CREATE TABLE lots (id INTEGER PRIMARY KEY)")
	if got := lost(f); !slices.Equal(got, []string{"hives", "lots"}) {
		t.Errorf("lost are %v", got)
	}
	f = fresh()
	f.run("ALTER TABLE hives ADD COLUMN place TEXT", "INSERT INTO hives VALUES (9, 1, 'quay')")
	ends(f, "the columns of main.hives are id, kg, place now")
	f = fresh()
	path := f.db.Database.(*database).path
	// At once: a file that is not there for a moment ends it otherwise.
	if err := errors.Join(os.WriteFile(path+".new", nil, 0o600), os.Rename(path+".new", path)); err != nil {
		t.Fatal(err)
	}
	ends(f, "another file has its name")
	f = fresh()
	if _, err := f.app.ExecContext(t.Context(), "VACUUM INTO ?", filepath.Join(t.TempDir(), "backup.db")); err != nil {
		t.Fatal(err)
	}
	f.run("UPDATE sqlite_sequence SET seq = 1 WHERE name = 'dusty_ferry_log'")
	ends(f, "its log ends at 1")
	f = follow(t, "CREATE TABLE a (id PRIMARY KEY, n INT)", "INSERT INTO a VALUES ('x', 1)")
	f.open()
	f.run("INSERT INTO a VALUES (5, 1)")
	ends(f, "the column id of the key has a value of the type integer, and others of the type text")
	// A value that its column cannot have is not passed over.
	f = fresh()
	f.run("INSERT INTO hives VALUES (5, 'heavy')")
	ends(f, `main.hives: column kg holds the text "heavy"`)
}

// TestATableThatIsMadeAnew: what was recorded of its old columns is not read as if it were of the new ones.
func TestATableThatIsMadeAnew(t *testing.T) {
	f := follow(t, "CREATE TABLE hives (id INTEGER PRIMARY KEY, name TEXT, kg INT)", "CREATE TABLE lots (id INTEGER "+
		"PRIMARY KEY)")
	f.run("INSERT INTO hives VALUES (1, 'kea', 5)", "INSERT INTO lots VALUES (1)", "ALTER TABLE hives RENAME TO "+
		"hives_of_before",
		"CREATE TABLE hives (kg INT, id INTEGER PRIMARY KEY, name TEXT)", "INSERT INTO hives SELECT kg, id, name FROM "+
			"hives_of_before", "DROP TABLE hives_of_before")
	p, err := f.db.Plan(tableOf(t, f.db, "hives"))
	if err != nil {
		t.Fatal(err)
	}
	f.plans[0] = p
	if _, err := f.db.PrepareCapture(t.Context(), follower, f.plans); err != nil {
		t.Fatal(err)
	}
	f.run("INSERT INTO hives VALUES (7, 2, 'tui')", "INSERT INTO lots VALUES (2)")
	f.open()
	at, err := f.db.Heartbeat(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	f.upTo(at)
	if want := map[string]bool{"hives 7|2|tui": true, "lots 1": true, "lots 2": true}; !maps.Equal(f.rows, want) {
		t.Errorf("came %v, want %v", f.rows, want)
	}
}

// TestWhatCannotBeRecorded is said before anything is made.
func TestWhatCannotBeRecorded(t *testing.T) {
	for what, c := range map[string]struct {
		sql  []string
		says string
	}{
		"in another journal mode": {[]string{"PRAGMA journal_mode = DELETE", "CREATE TABLE a (id INTEGER PRIMARY KEY)"},
			"PRAGMA journal_mode = WAL"},
		"without a key": {[]string{"PRAGMA journal_mode = WAL", "CREATE TABLE a (n INT, m INT UNIQUE)"}, "give it a " +
			"primary key"},
		"with numbers and texts for a key": {[]string{"PRAGMA journal_mode = WAL", "CREATE TABLE a (id BLOB PRIMARY KEY)",
			"INSERT INTO a VALUES ('x'), (5)"}, "the column id of its key has values of several types"},
		"over an expression": {[]string{"PRAGMA journal_mode = WAL", "CREATE TABLE a (id INTEGER PRIMARY KEY, n TEXT)",
			"CREATE UNIQUE INDEX low ON a (lower(n))"}, "unique index low is over an expression"},
	} {
		db, app := apiary(t, c.sql...)
		p, err := db.Plan(tableOf(t, db, "a"))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := db.PrepareCapture(t.Context(), follower, []domain.TablePlan{p}); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", what, err)
		}
		list, err := db.SurveySource(t.Context(), []domain.TablePlan{p}, true)
		if err != nil || !slices.ContainsFunc(list, func(e domain.Entry) bool {
			return e.Verdict == domain.Blocker && strings.Contains(e.Measured+e.Remedy, c.says)
		}) {
			t.Errorf("%s: the survey says %+v, %v", what, list, err)
		}
		n := 0
		if err := app.QueryRowContext(t.Context(), "SELECT count(*) FROM sqlite_schema WHERE name LIKE 'dusty%'").
			Scan(&n); err != nil || n > 0 {
			t.Errorf("%s: %d things are left, %v", what, n, err)
		}
	}
}
