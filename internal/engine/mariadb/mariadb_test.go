package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/localserver"
	"dustyferry/internal/protocol/pgcopy"
)

var (
	host   *localserver.MariaDB
	number atomic.Int64
)

func TestMain(m *testing.M) {
	var err error
	if host, err = localserver.StartMariaDB(context.Background(), localserver.Options{Password: "a'b\\c",
		Settings: map[string]string{"log-bin-compress": "ON", "log-bin-compress-min-len": "10"}}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	host.Stop()
	os.Exit(code)
}

// open makes a database and opens it through the engine, and for plain SQL.
func open(t *testing.T) (*database, *sql.DB) { t.Helper(); return openFor(t) }

func openFor(t testing.TB) (*database, *sql.DB) {
	t.Helper()
	name := fmt.Sprintf("d%d", number.Add(1))
	root, err := sql.Open("mysql", host.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = root.Close() }()
	run(t, root, "CREATE DATABASE "+name)
	db, err := sql.Open("mysql", host.DSN(name))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Close() })
	d, err := Driver{}.Open(t.Context(), engine.Endpoint{Host: host.Host, Port: host.Port, Database: name, User: host.User,
		Password: host.Password, TLS: "disable"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Close)
	return d.(*database), db
}

func run(t testing.TB, db *sql.DB, statements ...string) {
	t.Helper()
	for _, q := range statements {
		if _, err := db.ExecContext(t.Context(), q); err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
}

// plan plans a table as a crossing to PostgreSQL would.
func plan(t *testing.T, d *database, table string) *domain.TablePlan {
	t.Helper()
	return planFor(t, d, table)
}

func planFor(t testing.TB, d *database, table string) *domain.TablePlan {
	t.Helper()
	cat, err := d.Catalog(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	x := cat.Table(domain.TableName{Schema: d.end.Database, Name: table})
	if x == nil {
		t.Fatalf("there is no table %s", table)
	}
	p, err := d.Plan(x)
	if err != nil {
		t.Fatal(err)
	}
	p, _ = typemap.Mapping{From: typemap.MariaDB, To: typemap.Postgres}.Complete(p)
	return &p
}

// read gives a table's rows as a chunk's reader hands them on.
func read(t *testing.T, d *database, p *domain.TablePlan) (rows []string, at domain.Snapshot) {
	t.Helper()
	r, err := d.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if at, err = r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	sum, err := r.Copy(t.Context(), p, &domain.Chunk{}, false, func(data []byte) error {
		for len(data) > 0 {
			f, rest, err := pgcopy.Next(nil, data)
			if err != nil {
				return err
			}
			rows = append(rows, shown(f))
			data = rest
		}
		return nil
	})
	if err != nil || sum.Rows != int64(len(rows)) {
		t.Fatalf("%d rows, counted %d (%v)", len(rows), sum.Rows, err)
	}
	return rows, at
}

func shown(fields [][]byte) string {
	out := make([]string, len(fields))
	for i, f := range fields {
		if out[i] = "NULL"; f != nil {
			out[i] = string(f)
		}
	}
	return strings.Join(out, "|")
}

func rowText(r domain.Row) string {
	f := make([][]byte, len(r))
	for i, v := range r {
		if v.Kind == domain.Present {
			f[i] = append([]byte{}, v.Data...)
		}
	}
	return shown(f)
}

// follow opens a capture of tables from a place.
func follow(t *testing.T, d *database, from domain.Position, plans ...*domain.TablePlan) engine.Capture {
	t.Helper()
	var tables []engine.CaptureTable
	for i, p := range plans {
		tables = append(tables, engine.CaptureTable{ID: int64(i + 1), Plan: p})
	}
	c, err := d.OpenCapture(t.Context(), fmt.Sprintf("test%d", number.Add(1)), from, tables, "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	return c
}

// until collects events until the stream is past a position.
func until(t *testing.T, c engine.Capture, at domain.Position) (changes []domain.Change, commits []domain.Tx) {
	t.Helper()
	limit := time.After(20 * time.Second)
	for {
		select {
		case e, ok := <-c.Events():
			if !ok {
				t.Fatalf("the stream ended: %v", c.Err())
			}
			c.Took(&e)
			switch e.Kind {
			case domain.EventChange:
				changes = append(changes, e.Change)
			case domain.EventCommit:
				commits = append(commits, e.Tx)
				if !e.Tx.End.Before(at) {
					return changes, commits
				}
			case domain.EventProgress:
				if !e.Position.Before(at) {
					return changes, commits
				}
			}
		case <-limit:
			t.Fatalf("the stream did not reach %s; received %s", Driver{}.FormatPosition(at),
				Driver{}.FormatPosition(c.Received()))
		}
	}
}

func here(t *testing.T, d *database) domain.Position {
	t.Helper()
	at, err := d.Heartbeat(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return at
}

const everyType = `
CREATE TABLE every (
  id int NOT NULL PRIMARY KEY,
  t1 tinyint, t2 tinyint unsigned, s1 smallint, s2 smallint unsigned, m1 mediumint, m2 mediumint unsigned, i1 int,
    i2 int unsigned, b1 bigint, b2 bigint unsigned,
  z int(8) unsigned zerofill, d1 decimal(65,30), d2 decimal(5,0) unsigned, d3 decimal(18,9), f float, g double,
    bo boolean, bi1 bit(1), bi2 bit(64),
  c1 char(5), c2 char(5) CHARACTER SET latin1, v1 varchar(20), v2 varchar(300) CHARACTER
    SET utf16, v3 varchar(20) CHARACTER SET koi8r, tt tinytext, tx text, mt mediumtext CHARACTER
    SET cp1251, lt longtext,
  bn binary(4), vb varbinary(9), tb tinyblob, bl blob, mb mediumblob, lb longblob,
  da date, dt datetime, dt1 datetime(1), dt6 datetime(6), ts timestamp NULL, ts3 timestamp(3) NULL, ti time,
    ti2 time(2), ti6 time(6), ye year,
  en enum('a','b''c','ü') CHARACTER SET latin1, se set('x','y','z'), js json, uu uuid, i6 inet6, i4 inet4, pt point,
  ge int GENERATED ALWAYS AS (i1 + 1) STORED, gv varchar(30) GENERATED ALWAYS AS (concat(v1, '!')) VIRTUAL
) ENGINE=InnoDB CHARACTER SET utf8mb4`

// everyRow gives the columns from t1 to pt; the first row holds the lowest, the
// second the highest, the third NULL everywhere, the fourth odd ones.
var everyRows = []string{
	`1, -128, 0, -32768, 0, -8388608, 0, -2147483648, 0, -9223372036854775808, 0,
 0, -99999999999999999999999999999999999.999999999999999999999999999999, 0, -0.000000001, -3.402823466e38, -1.7976931348623157e308, 0, 0, 0,
 '', '', '', '', '', '', '', '', '', '', '', '', '', '', '',
 '1000-01-01', '1000-01-01 00:00:00', '1000-01-01 00:00:00.0', '1000-01-01 00:00:00.000001', '1970-01-01 00:00:01', '1970-01-01 00:00:01.001', '-838:59:59', '-838:59:59.99', '-00:00:00.000001', 1901,
 'a', '', '{}', '00000000-0000-0000-0000-000000000000', '::', '0.0.0.0', POINT(0, -0.5)`,
	`2, 127, 255, 32767, 65535, 8388607, 16777215, 2147483646, 4294967295, 9223372036854775807, 18446744073709551615,
 99999999, 99999999999999999999999999999999999.999999999999999999999999999999, 99999, 999999999.999999999, 3.402823466e38, 1.7976931348623157e308, 1, 1, 18446744073709551615,
 '☕ünal', 'né€ß', 'a\tb\\n\n\r"', repeat('語', 200), 'мёд', 'tiny', repeat('long ', 9000), 'соль', repeat('x', 70000), X'00ff00ff', X'00', X'01', X'000102', repeat(X'00', 300), repeat('y', 70000),
 '9999-12-31', '9999-12-31 23:59:59', '9999-12-31 23:59:59.9', '9999-12-31 23:59:59.999999', '2038-01-19 03:14:07', '2038-01-19 03:14:07.999', '838:59:59', '838:59:59.99', '838:59:59.999999', 2155,
 'ü', 'x,y,z', '{"n": 1.10, "a": [1, "é"]}', 'ffffffff-ffff-ffff-ffff-ffffffffffff', 'ffff::1', '255.255.255.255', POINT(1e300, 2)`,
	`3` + strings.Repeat(", NULL", 55),
	`4, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0.5, 1, 1.5, 0.1, 1.09e22, 1, 1, 5,
 'a  ', 'b ', ' c ', ' d', 'e', 'f', 'g', 'h', 'i', X'ab000000', X'ab00', X'20', X'2000', X'00', '\\x00',
 '0000-00-00', '0000-00-00 00:00:00', '2026-01-00 10:00:00', '2026-00-01 10:00:00.5', '2026-06-01 12:00:00', '2026-06-01 12:00:00.120', '00:00:00', '-00:00:00.50', '01:02:03.040506', 0,
 2, 'z', '"text"', '123e4567-e89b-12d3-a456-426614174000', '::ffff:10.0.0.9', '10.0.0.9', POINT(-0.0, 0)`,
}

// TestTheLogAndTheTableSayTheSame: every type's lowest, highest and oddest values
// come out of the binary log exactly as a reader of the table gives them, for
// compressed events too.
func TestTheLogAndTheTableSayTheSame(t *testing.T) {
	d, db := open(t)
	run(t, db, "SET SESSION sql_mode = ''", everyType)
	p := plan(t, d, "every")
	from := here(t, d)
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close() }()
	cols := "id, t1, t2, s1, s2, m1, m2, i1, i2, b1, b2, z, d1, d2, d3, f, g, bo, bi1, bi2, c1, c2, v1, v2, v3, tt, tx, " +
		"mt, lt, bn, vb, tb, bl, mb, lb, da, dt, dt1, dt6, ts, ts3, ti, ti2, ti6, ye, en, se, js, uu, i6, i4, pt"
	n := len(strings.Split(cols, ","))
	everyRows[2] = "3" + strings.Repeat(", NULL", n-1)
	for _, q := range []string{"SET SESSION sql_mode = ''", "SET SESSION time_zone = '+00:00'"} {
		if _, err := conn.ExecContext(t.Context(), q); err != nil {
			t.Fatal(err)
		}
	}
	for _, r := range everyRows {
		if _, err := conn.ExecContext(t.Context(), "INSERT INTO every ("+cols+") VALUES ("+r+")"); err != nil {
			t.Fatalf("%s: %v", r[:20], err)
		}
	}
	// All kinds of UUID, whose parts the server keeps in an order of its own.
	for i, u := range []string{"6ba7b810-9dad-11d1-80b4-00c04fd430c8", "6fa459ea-ee8a-3ca4-894e-db77e160355e",
		"16fd2706-8baf-433b-82eb-8c7fada847da", "886313e1-3b8a-5372-9b90-0c9aee199e5d",
		"1ec9414c-232a-6b00-b3c8-9e6bdeced846", "017f22e2-79b0-7cc3-98c4-dc0c0c07398f",
		"320c3d4d-cc00-875b-8ec9-32d5f69181c0", "00000000-0000-4000-8000-000000000000",
		"12345678-1234-1234-0234-123456789abc", "ffffffff-0000-0000-0000-000000000000"} {
		if _, err := conn.ExecContext(t.Context(), fmt.Sprintf("INSERT INTO every (id, uu) VALUES (%d, '%s')", 100+i,
			u)); err != nil {
			t.Fatal(err)
		}
	}
	want := map[string]bool{}
	rows, _ := read(t, d, p)
	for _, r := range rows {
		want[r] = true
	}
	c := follow(t, d, from, p)
	changes, _ := until(t, c, here(t, d))
	if len(changes) != len(rows) {
		t.Errorf("%d changes for %d rows", len(changes), len(rows))
	}
	for _, ch := range changes {
		text := rowText(ch.New)
		if want[text] {
			continue
		}
		id, _, _ := strings.Cut(text, "|")
		for r := range want {
			if strings.HasPrefix(r, id+"|") {
				a, b := strings.Split(text, "|"), strings.Split(r, "|")
				for i := range min(len(a), len(b)) {
					if a[i] != b[i] {
						t.Errorf("row %s, column %s: the log says %.60q, the table %.60q", id, p.Columns[i].Name, a[i], b[i])
					}
				}
			}
		}
	}
	// An update and a delete tell the whole row before.
	at := here(t, d)
	run(t, db, "UPDATE every SET t1 = 7 WHERE id = 2", "DELETE FROM every WHERE id = 4")
	changes, commits := until(t, follow(t, d, at, p), here(t, d))
	if len(changes) != 2 || changes[0].Kind != domain.Update || !want[rowText(changes[0].Old)] || !changes[0].OldWhole ||
		changes[1].Kind != domain.Delete || !want[rowText(changes[1].Old)] || changes[1].New != nil {
		t.Errorf("%d changes", len(changes))
	}
	if len(commits) != 2 || !commits[0].Commit.Before(commits[0].End) || commits[1].Commit.Before(commits[0].End) {
		t.Errorf("%+v", commits)
	}
}

// TestTheStreamGoesOn: over a change of log files, from any place after a cut
// connection, past what concerns other tables, and with large transactions.
func TestTheStreamGoesOn(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE x (id int PRIMARY KEY, v longtext) ENGINE=InnoDB",
		"CREATE TABLE other (id int) ENGINE=InnoDB")
	p := plan(t, d, "x")
	from := here(t, d)
	run(t, db, "INSERT INTO x VALUES (1, 'a')", "INSERT INTO other VALUES (1)", "FLUSH BINARY LOGS",
		"INSERT INTO x VALUES (2, repeat('b', 15000000))", "INSERT INTO x SELECT seq, 'c' FROM seq_3_to_60000",
		"TRUNCATE TABLE x", "INSERT INTO x VALUES (1, 'd')")
	c := follow(t, d, from, p)
	changes, commits := until(t, c, here(t, d))
	if len(changes) != 60002 || len(commits) != 5 || len(changes[1].New[1].Data) != 15_000_000 ||
		changes[60000].Kind != domain.Truncate {
		t.Errorf("%d changes in %d transactions", len(changes), len(commits))
	}
	for i := 1; i < len(commits); i++ {
		if commits[i].Commit.Before(commits[i-1].End) {
			t.Errorf("transaction %d begins before the one before it ends", i)
		}
	}
	// From the end of each transaction exactly the rest comes.
	for i, tx := range commits {
		_, rest := until(t, follow(t, d, tx.End, p), commits[len(commits)-1].End)
		if len(rest) != len(commits)-1-i && i < len(commits)-1 {
			t.Errorf("after transaction %d come %d, want %d", i, len(rest), len(commits)-1-i)
		}
	}
	run(t, db, "FLUSH BINARY LOGS")
	run(t, db, "PURGE BINARY LOGS BEFORE now() + INTERVAL 1 HOUR")
	if _, err := d.OpenCapture(t.Context(), "late", from, nil, ""); err == nil || !strings.Contains(err.Error(),
		"restart the crossing") {
		t.Errorf("a log that is gone: %v", err)
	}
}

// TestChangesOfTheTableAreNoticed: a table that is altered is said to be, at its
// place in the log.
func TestChangesOfTheTableAreNoticed(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE x (id int PRIMARY KEY) ENGINE=InnoDB", "CREATE TABLE y (id int PRIMARY KEY) ENGINE=InnoDB")
	px, py := plan(t, d, "x"), plan(t, d, "y")
	from := here(t, d)
	run(t, db, "INSERT INTO x VALUES (1)", "ALTER TABLE x ADD COLUMN more int", "INSERT INTO y VALUES (1)")
	changes, _ := until(t, follow(t, d, from, px, py), here(t, d))
	if len(changes) != 3 || changes[1].Kind != domain.Redefine || changes[1].Table != 1 ||
		!strings.Contains(changes[1].Note, "ALTER TABLE x") || changes[2].Table != 2 {
		t.Errorf("%+v", changes)
	}
}

// TestWithoutChecksums: a log without checksums is read as well.
func TestWithoutChecksums(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE x (id int PRIMARY KEY) ENGINE=InnoDB")
	run(t, db, "SET GLOBAL binlog_checksum = 'NONE'")
	t.Cleanup(func() { _, _ = db.Exec("SET GLOBAL binlog_checksum = 'CRC32'") })
	p := plan(t, d, "x")
	from := here(t, d)
	run(t, db, "INSERT INTO x VALUES (1)", "FLUSH BINARY LOGS", "INSERT INTO x VALUES (2)")
	if changes, _ := until(t, follow(t, d, from, p), here(t, d)); len(changes) != 2 {
		t.Errorf("%d changes", len(changes))
	}
}

func TestPositions(t *testing.T) {
	p, err := Driver{}.ParsePosition("000012:3456")
	if err != nil || p != position(12, 3456) || (Driver{}).FormatPosition(p) != "000012:3456" {
		t.Errorf("%v %s (%v)", p, Driver{}.FormatPosition(p), err)
	}
	for _, name := range []string{"saltmarsh-bin.000012:3456", "a.b.000012:3456"} {
		if p, err := (Driver{}).ParsePosition(name); err != nil || p != position(12, 3456) {
			t.Errorf("%s: %v (%v)", name, p, err)
		}
	}
	for _, bad := range []string{"", "12", "a:b", "1:-2", "99999999999:1"} {
		if _, err := (Driver{}).ParsePosition(bad); err == nil {
			t.Errorf("%q is taken for a position", bad)
		}
	}
}

func TestSentencesForWrongConnections(t *testing.T) {
	good := engine.Endpoint{Host: host.Host, Port: host.Port, Database: "mysql", User: host.User, Password: host.Password,
		TLS: "disable"}
	for name, c := range map[string]struct {
		change func(*engine.Endpoint)
		want   string
	}{
		"password": {func(e *engine.Endpoint) { e.Password = "x" }, "check the user name, the password"},
		"database": {func(e *engine.Endpoint) { e.Database = "nowhere" }, "check the database's name"},
		"port":     {func(e *engine.Endpoint) { e.Port = 1 }, "cannot be reached"},
		"tls":      {func(e *engine.Endpoint) { e.TLS = "always" }, "choose disable"},
	} {
		e := good
		c.change(&e)
		if _, err := (Driver{}).Open(t.Context(), e); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestSigningInByEd25519 reads and follows as a user who signs in that way, and is
// refused with a wrong password.
func TestSigningInByEd25519(t *testing.T) {
	d, db := openFor(t)
	run(t, db, "INSTALL SONAME 'auth_ed25519'")
	user := fmt.Sprintf("keeper%d", number.Add(1))
	run(t, db, "CREATE USER "+user+" IDENTIFIED VIA ed25519 USING PASSWORD('smoke & heather')", "GRANT ALL ON *.* TO "+
		user)
	e := d.end
	e.User, e.Password = user, "smoke & heather"
	other, err := engine.Open(t.Context(), Driver{}, e)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	r, err := other.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if s, err := r.Begin(t.Context()); err != nil || s.Log.IsZero() {
		t.Errorf("%+v %v", s, err)
	}
	wrong := other.Database.(*database)
	wrong.end.Password = "smoke"
	if _, err := wrong.OpenReader(t.Context()); err == nil || !strings.Contains(err.Error(), "refused the sign-in") {
		t.Errorf("a wrong password: %v", err)
	}
}
