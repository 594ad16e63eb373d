package test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

var orchard struct {
	once   sync.Once
	server *localserver.MariaDB
	err    error
}

// mariaDB is the MariaDB server that tests share; it ends with them.
func mariaDB(t *testing.T) *localserver.MariaDB {
	t.Helper()
	orchard.once.Do(func() {
		orchard.server, orchard.err = localserver.StartMariaDB(context.Background(),
			localserver.Options{Password: "thyme & clover"})
	})
	if orchard.err != nil {
		t.Fatal(orchard.err)
	}
	return orchard.server
}

// newMaria makes a database on it and returns its name and a connection.
func newMaria(t *testing.T) (string, *sql.DB) {
	t.Helper()
	m := mariaDB(t)
	name := fmt.Sprintf("saltmarsh_%d", counter.Add(1))
	root, err := sql.Open("mysql", m.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = root.Close() }()
	if _, err := root.ExecContext(t.Context(), "CREATE DATABASE "+name+" CHARACTER SET utf8mb4"); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", m.DSN(name))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Close() })
	return name, db
}

// maria runs statements; one that meets the crossing's own writing is tried again,
// as an application would.
func maria(t *testing.T, db *sql.DB, statements ...string) {
	t.Helper()
	const deadlock = 1213
	for _, q := range statements {
		_, err := db.ExecContext(t.Context(), q)
		for try := 0; isMaria(err, deadlock) && try < 20; try++ {
			_, err = db.ExecContext(t.Context(), q)
		}
		if err != nil {
			t.Fatalf("%s: %v", strings.SplitN(q, "\n", 2)[0], err)
		}
	}
}

// isMaria reports whether the server answered with that number.
func isMaria(err error, number uint16) bool {
	var said *mysql.MySQLError
	return errors.As(err, &said) && said.Number == number
}

// orchardSchema is the cooperative's second house, with the types that give
// trouble.
var orchardSchema = []string{`
CREATE TABLE keepers (
  id int unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name varchar(60) NOT NULL,
  nick varchar(20) CHARACTER SET latin1,
  email varchar(120) NOT NULL UNIQUE,
  joined date NOT NULL,
  active tinyint(1) NOT NULL DEFAULT 1
) ENGINE=InnoDB`, `
CREATE TABLE readings (
  id bigint unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY,
  keeper int unsigned NOT NULL,
  weight decimal(9,3) NOT NULL,
  warmth float,
  pressure double,
  at datetime(6) NOT NULL,
  seen timestamp(3) NULL,
  KEY by_keeper (keeper, at),
  CONSTRAINT readings_keeper FOREIGN KEY (keeper) REFERENCES keepers (id)
) ENGINE=InnoDB`, `
CREATE TABLE jars (
  lot smallint NOT NULL,
  number mediumint unsigned NOT NULL,
  grade enum('light','amber','it''s dark, mostly') NOT NULL,
  marks set('raw','comb','salt') NOT NULL DEFAULT '',
  seal bit(11),
  season year,
  pressed time(2),
  note text,
  label json,
  photo mediumblob,
  stamp binary(6),
  tag uuid,
  address inet6,
  price decimal(38,12),
  big bigint,
  huge bigint unsigned,
  tiny tinyint,
  doubled int GENERATED ALWAYS AS (lot * 2) STORED,
  loose int GENERATED ALWAYS AS (lot + 1) VIRTUAL,
  PRIMARY KEY (lot, number)
) ENGINE=InnoDB`, `
CREATE TABLE stalls (code varchar(12) NOT NULL PRIMARY KEY, town text) ENGINE=InnoDB`, `
CREATE TABLE notes (at datetime NOT NULL, who varchar(30), what text) ENGINE=InnoDB`,
}

func fillOrchard(t *testing.T, db *sql.DB, readings int) {
	t.Helper()
	maria(t, db, orchardSchema...)
	maria(t, db, `
INSERT INTO keepers (name, nick, email, joined, active)
SELECT concat('Keeper ', seq, IF(seq % 5 = 0, ' ☕ Ünal\t"x"\\n', '')), IF(seq % 3 = 0, NULL, concat('né€ ', seq)),
  concat('k', seq, '@saltmarsh.example'), '2019-03-01' + INTERVAL seq DAY, seq % 2
  FROM seq_1_to_200`, fmt.Sprintf(`
INSERT INTO readings (keeper, weight, warmth, pressure, at, seen)
SELECT 1 + seq %% 200, round(seq / 7, 3), IF(seq %% 11 = 0, NULL, seq / 3), CASE seq %% 9 WHEN 0 THEN 1e-7 * seq
  WHEN 1 THEN 1e20 * seq WHEN 2 THEN -0.1 ELSE seq / 7 END,
       '2026-01-01' + INTERVAL seq * 1234567 MICROSECOND, IF(seq %% 4 = 0, NULL,
         '2026-02-01 00:00:00.5' + INTERVAL seq SECOND)
  FROM seq_1_to_%d`, readings), `
INSERT INTO jars (lot, number, grade, marks, seal, season, pressed, note, label, photo, stamp, tag, address, price,
  big, huge, tiny)
SELECT cast(seq % 40 AS signed) - 20, seq, 1 + seq % 3, seq % 8, seq % 2048, 1990 + seq % 60,
  SEC_TO_TIME(cast(seq * 977 AS signed) - 400000) , CASE seq % 4 WHEN 0 THEN '' WHEN 1 THEN NULL
  WHEN 2 THEN repeat('honey — мёд\t\\ ', 30) ELSE 'plain' END,
       IF(seq % 6 = 0, NULL, concat('{"n": ', seq, '.10, "s": "a\\"b"}')), IF(seq % 7 = 0, NULL,
         unhex(sha2(seq, 256))), unhex(concat('00ff', lpad(hex(seq), 4, '0'))), uuid(), IF(seq % 2, '2001:db8::1',
         '::ffff:10.0.0.9'),
       seq * 1234567.000000000001, -9223372036854775808 + cast(seq AS signed), 18446744073709551615 - seq,
         cast(seq % 256 AS signed) - 128
  FROM seq_1_to_900`, `
INSERT INTO stalls SELECT concat(char(65 + seq % 26), lower(hex(seq)), IF(seq % 2, 'x', 'X')), concat('Town ', seq)
  FROM seq_1_to_300`, `
INSERT INTO notes SELECT '2025-05-05' + INTERVAL seq HOUR, concat('visitor ', seq % 5), IF(seq % 3 = 0, NULL, 'sweet')
  FROM seq_1_to_200`,
		`INSERT INTO notes SELECT * FROM notes LIMIT 20`, `ANALYZE TABLE keepers, readings, jars, stalls, notes`)
}

// busy writes to the orchard like an application until it is told to stop, as a
// user without special rights, whom a read-only server refuses.
func busy(t *testing.T, root *sql.DB, database string, writers writers) (stop func() int64) {
	t.Helper()
	maria(t, root, "CREATE USER 'app_"+database+"'@'127.0.0.1'", "GRANT SELECT, INSERT, UPDATE, DELETE ON "+database+
		".* TO 'app_"+database+"'@'127.0.0.1'")
	app := *mariaDB(t)
	app.User, app.Password = "app_"+database, ""
	return writers.run(t, app.DSN(database), 20, 10*time.Millisecond, func(r *rand.Rand, _, _ int) []string {
		id, lot := r.IntN(9000)+1, r.IntN(40)-20
		return []string{
			fmt.Sprintf("INSERT INTO readings (keeper, weight, warmth, at) VALUES (%d, %d.125, %d / 7, now(6))", 1+r.IntN(200),
				r.IntN(99), id),
			fmt.Sprintf("UPDATE readings SET weight = weight + 1, pressure = %d / 9 WHERE id = %d", id, id),
			fmt.Sprintf("DELETE FROM readings WHERE id = %d", r.IntN(9000)+1),
			fmt.Sprintf("UPDATE jars SET note = concat('again ☕ ', %d), marks = %d, seal = %d, pressed = '-00:00:%02d.5' "+
				"WHERE lot = %d", id, id%8, id%2048, id%60, lot),
			fmt.Sprintf("UPDATE stalls SET town = '%d' WHERE code LIKE '%c%%' LIMIT 3", id, 'A'+rune(r.IntN(26))),
			fmt.Sprintf("INSERT INTO notes VALUES (now(), 'visitor %d', 'n%d')", r.IntN(5), id),
			"DELETE FROM notes WHERE what = 'sweet' LIMIT 1",
			fmt.Sprintf("UPDATE keepers SET nick = 'ñ %d' WHERE id = %d", id, 1+r.IntN(200)),
		}[r.IntN(3):]
	})
}

// writers is how many write at once.
type writers int

// run begins to write transactions of the statements that the function gives for a
// writer and its turn; one in so many is rolled back. Stopping tells how many were
// committed.
func (n writers) run(t *testing.T, dsn string, rolledBack int, pause time.Duration, statements func(r *rand.Rand,
	writer, turn int) []string) (stop func() int64) {
	t.Helper()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Close() })
	ctx, cancel := context.WithCancel(t.Context())
	var wrote atomic.Int64
	var wg sync.WaitGroup
	for w := range int(n) {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 7))
			for turn := 0; ctx.Err() == nil; turn++ {
				tx, err := db.BeginTx(ctx, nil)
				if err != nil {
					continue
				}
				for _, q := range statements(r, w, turn) {
					if _, err = tx.ExecContext(ctx, q); err != nil {
						break
					}
				}
				if err != nil || r.IntN(rolledBack) == 0 {
					_ = tx.Rollback()
				} else if tx.Commit() == nil {
					wrote.Add(1)
				}
				time.Sleep(pause)
			}
		})
	}
	var once sync.Once
	return func() int64 {
		once.Do(func() { cancel(); wg.Wait() })
		return wrote.Load()
	}
}

// orchardRows are statements that give every row of a table in one text, the same
// on both servers, written without our help.
var orchardRows = map[string][2]string{
	"keepers": {`SELECT concat_ws('|', id, name, coalesce(convert(nick using utf8mb4), '~'), email, joined, active)
  FROM keepers`,
		`SELECT concat_ws('|', id, name, coalesce(nick, '~'), email, joined, active) FROM %s.keepers`},
	"readings": {`SELECT concat_ws('|', id, keeper, weight, coalesce(cast(warmth AS decimal(30,3)), '~'),
  coalesce(lower(hex(reverse(substr(ST_AsWKB(POINT(pressure, 0)), 6, 8)))), '~'), at, coalesce(seen, '~')) FROM readings`,
		`SELECT concat_ws('|', id, keeper, weight, coalesce(warmth::double precision::numeric(30,3)::text, '~'),
  coalesce(encode(float8send(pressure), 'hex'), '~'), to_char(at, 'YYYY-MM-DD HH24:MI:SS.US'),
  coalesce(to_char(seen, 'YYYY-MM-DD HH24:MI:SS.MS'), '~')) FROM %s.readings`},
	"jars": {`SELECT concat_ws('|', lot, number, grade, marks, lpad(bin(seal + 0), 11, '0'), season,
  cast(time_to_sec(pressed) AS decimal(20,2)), coalesce(note, '~'), coalesce(label, '~'), coalesce(lower(hex(photo)),
  '~'), lower(hex(stamp)), tag, address, price, big, huge, tiny, doubled, loose) FROM jars`,
		`SELECT concat_ws('|', lot, number, grade, marks, seal, season, extract(epoch FROM pressed)::numeric(20,2),
  coalesce(note, '~'), coalesce(label::text, '~'), coalesce(encode(photo, 'hex'), '~'), encode(stamp, 'hex'), tag,
  address, price, big, huge, tiny, doubled, loose) FROM %s.jars`},
	"stalls": {`SELECT concat_ws('|', code, town) FROM stalls`, `SELECT concat_ws('|', code, town) FROM %s.stalls`},
	"notes": {`SELECT concat_ws('|', at, who, coalesce(what, '~')) FROM notes`,
		`SELECT concat_ws('|', to_char(at, 'YYYY-MM-DD HH24:MI:SS'), who, coalesce(what, '~')) FROM %s.notes`},
}

// sameOrchard compares both sides row by row in plain SQL.
func sameOrchard(t *testing.T, db *sql.DB, schema, targetURL string) {
	t.Helper()
	c := connect(t, targetURL)
	if _, err := c.Exec(t.Context(), "SET timezone = 'UTC'"); err != nil {
		t.Fatal(err)
	}
	for table, q := range orchardRows {
		sameTexts(t, table, texts(t, db, q[0]), collect(t, c, fmt.Sprintf(q[1], schema)))
	}
}

// collect runs a statement of one column on PostgreSQL.
func collect(t *testing.T, c *pgx.Conn, query string) []string {
	t.Helper()
	rows, err := c.Query(t.Context(), query)
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return list
}

// texts runs a statement of one column.
func texts(t *testing.T, db *sql.DB, query string) []string {
	t.Helper()
	rows, err := db.QueryContext(t.Context(), query)
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	defer func() { _ = rows.Close() }()
	var out []string
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			t.Fatal(err)
		}
		out = append(out, s)
	}
	return out
}

// sameTexts compares two sets of rows, whatever their order.
func sameTexts(t *testing.T, table string, source, target []string) {
	t.Helper()
	have, n := map[string]int{}, 0
	for _, s := range source {
		have[s]++
	}
	for _, s := range target {
		if have[s]--; have[s] < 0 && n < 3 {
			n++
			t.Errorf("%s: the target has a row the source has not: %q", table, s)
		}
	}
	for s, k := range have {
		if k > 0 && n < 6 {
			n++
			t.Errorf("%s: the target lacks %q", table, s)
		}
	}
	if len(target) == 0 {
		t.Errorf("%s is empty", table)
	}
}

// registerMaria registers a database of the MariaDB server by a user that has only
// the rights the documentation names.
func (f *ferry) registerMaria(name, database string, root *sql.DB, rights ...string) (user string) {
	f.t.Helper()
	user = "ferry_" + database
	maria(f.t, root, "CREATE USER '"+user+"'@'127.0.0.1' IDENTIFIED BY 'reed''s'")
	for _, r := range rights {
		maria(f.t, root, "GRANT "+r+" TO '"+user+"'@'127.0.0.1'")
	}
	disable := contract.Disable
	m := mariaDB(f.t)
	if _, err := client.Do[contract.Database](f.API.AddDatabaseWithResponse(f.t.Context(), contract.NewDatabase{
		Name: name, Engine: "mariadb", Host: m.Host, Port: m.Port, Database: database, User: user, Password: "reed's",
		Tls: &disable})); err != nil {
		f.t.Fatal(err)
	}
	return user
}

// What a source's and a target's user may do.
func sourceRights(database string) []string {
	return []string{"SELECT, REFERENCES ON " + database + ".*",
		"REPLICATION SLAVE, BINLOG MONITOR, READ_ONLY ADMIN ON *.*"}
}

func targetRights(database string) []string {
	const rights = "SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER, INDEX, REFERENCES ON "
	// The last is for a source on the same server, which a cutover makes read-only.
	return []string{rights + database + ".*", rights + "dusty_ferry.*", "READ_ONLY ADMIN ON *.*"}
}

// voyage is a whole crossing of a live database: load and capture at once while
// connections of a user are cut, reconciled with both sides live, damage on the
// target found and repaired, cut over.
type voyage struct {
	pattern string
	method  contract.SettingsStopMethod
	write   func() (stop func() int64)
	cut     string // user of MariaDB whose connections are cut
	root    *sql.DB
	damage  func()
	tables  int
}

func (f *ferry) whole(v voyage) {
	t := f.t
	t.Helper()
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new",
			Tables: &[]string{v.pattern}, Settings: &contract.Settings{ChunkBytes: ptr(int64(64 << 10)), Lanes: ptr(3),
				StopMethod: &v.method, SpeedLimit: ptr(int64(400_000))}})); err != nil {
		t.Fatal(err)
	}
	survey, err := client.Do[[]contract.Entry](f.API.SurveyCrossingWithResponse(t.Context(), "spring"))
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range survey {
		t.Logf("[%s] %s, %s: %s", e.Verdict, e.Subject, e.Topic, e.Measured)
		if e.Verdict == contract.Blocker {
			t.Errorf("the survey blocks: %+v", e)
		}
	}
	stop := v.write()
	defer stop()
	f.startCrossing()
	f.awaitPhase(contract.PhaseLoading)
	cuts := cutConnections(t, v.root, v.cut, 6*time.Second)
	f.awaitPhase(contract.PhaseInStep)
	t.Logf("%d connections were cut meanwhile", cuts())
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" || r.Tables != v.tables {
		f.findings(r.Id)
		t.Errorf("reconciliation with both sides live: %+v", r)
	}
	v.damage()
	r := f.reconcile(contract.NewReconciliationDepthHashes)
	if r.State != "differing" {
		t.Errorf("damage was not found: %+v", r)
	}
	if _, err := client.Do[contract.Crossing](f.API.RepairWithResponse(t.Context(), "spring", r.Id,
		contract.RepairJSONRequestBody{Findings: []int64{}, Confirm: ptr("spring")})); err != nil {
		t.Fatal(err)
	}
	f.await(30*time.Second, "repaired", func(c contract.Crossing) bool { return c.Progress.Work == nil })
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.findings(r.Id)
		t.Errorf("after the repair: %+v", r)
	}
	k := f.cutOver(false, contract.Settings{StopMethod: &v.method})
	if k.State != "done" {
		f.story()
		t.Fatalf("cutover: %+v", k)
	}
	t.Logf("%d transactions were written; writes were paused for %.3f s", stop(), *k.WritePauseSeconds)
}

// TestMariaDBToPostgres takes a live MariaDB database to PostgreSQL, and compares
// both in plain SQL at the end.
func TestMariaDBToPostgres(t *testing.T) {
	p := newPair(t)
	name, db := newMaria(t)
	fillOrchard(t, db, 9000)
	f := start(t)
	user := f.registerMaria("old", name, db, sourceRights(name)...)
	f.register("new", servers.target, p.target)
	f.whole(voyage{pattern: name + ".*", method: contract.ReadOnly, cut: user, root: db, tables: 5,
		write: func() func() int64 { return busy(t, db, name, 4) },
		damage: func() {
			exec1(t, p.targetURL(), fmt.Sprintf(`UPDATE %[1]s.jars SET price = price + 0.000000000001 WHERE number = 44;
  DELETE FROM %[1]s.stalls WHERE town = 'Town 7'`, name))
		}})
	maria(t, db, "SET GLOBAL read_only = OFF")
	sameOrchard(t, db, name, p.targetURL())
	// New rows get numbers beyond the old ones, and keys stand.
	exec1(t, p.targetURL(), fmt.Sprintf(`INSERT INTO %s.keepers (name, email, joined)
  VALUES ('New', 'new@saltmarsh.example', '2026-11-23')`, name))
	exec1(t, p.targetURL(), fmt.Sprintf(`INSERT INTO %s.readings (keeper, weight, at) VALUES (1, 1, now())`, name))
	if n := one[int64](t, p.targetURL(), `SELECT count(*) FROM pg_constraint WHERE contype = 'f'
  AND conrelid = $1::text::regclass`, name+".readings"); n != 1 {
		t.Errorf("%d foreign keys stand on the target", n)
	}
}

// cutConnections ends connections of a user at random for a while: chunks' reads
// and the stream of the log alike.
func cutConnections(t *testing.T, root *sql.DB, user string, long time.Duration) (count func() int) {
	n := 0
	done := make(chan struct{})
	go func() {
		defer close(done)
		for end := time.Now().Add(long); time.Now().Before(end); time.Sleep(150 * time.Millisecond) {
			var id int64
			if root.QueryRowContext(t.Context(), "SELECT id FROM information_schema.processlist WHERE user = ? AND (command = "+
				"'Binlog Dump' OR rand() < 0.7) ORDER BY rand() LIMIT 1", user).Scan(&id) == nil {
				if _, err := root.ExecContext(t.Context(), fmt.Sprintf("KILL %d", id)); err == nil {
					n++
				}
			}
		}
	}()
	return func() int { <-done; return n }
}

// findings prints what differs, for a failed test.
func (f *ferry) findings(id int64) {
	list, err := client.Do[contract.FindingPage](f.API.ListFindingsWithResponse(context.Background(), "spring", id,
		&contract.ListFindingsParams{Limit: ptr(8)}))
	if err != nil {
		return
	}
	for _, x := range list.Findings {
		show := func(m map[string]*string) string {
			var b strings.Builder
			for k, v := range m {
				if len(x.Columns) == 0 || strings.Contains(strings.Join(x.Columns, ","), k) {
					if v == nil {
						fmt.Fprintf(&b, " %s=NULL", k)
					} else {
						fmt.Fprintf(&b, " %s=%q", k, *v)
					}
				}
			}
			return b.String()
		}
		f.t.Logf("%s %v %s %v: source%s, target%s", x.Table, x.Key, x.Kind, x.Columns, show(x.Source), show(x.Target))
	}
}
