package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// ugly is a table of every kind of column, with rows at their limits.
var ugly = []string{`
CREATE TABLE hives (
  id bigint unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY,
  t tinyint, s smallint unsigned, m mediumint, i int(6) unsigned zerofill, b bigint, d decimal(38,12),
    d0 decimal(65,0), f float, g double,
  bits bit(11), one bit(1), y year,
  c char(9), v varchar(90) CHARACTER SET latin1, u varchar(30) COLLATE utf8mb4_bin DEFAULT 'a''b\\c',
    w varchar(20) CHARACTER SET utf16, txt longtext, js json,
  e enum('light','it''s dark, mostly','Ä'), ss set('raw','comb','salt'),
  bin binary(6), vb varbinary(300), bl longblob, uid uuid, i6 inet6, i4 inet4,
  day date, dt datetime(6), dt0 datetime, ts timestamp(3) NULL, tm time(6),
  p point, shape geometry,
  twice bigint GENERATED ALWAYS AS (b / 2) STORED, near varchar(99) GENERATED ALWAYS AS (concat(u, '!')) VIRTUAL,
  touched timestamp(6) NOT NULL DEFAULT current_timestamp(6) ON UPDATE current_timestamp(6),
  code varchar(40) NOT NULL DEFAULT (concat('x', uuid_short())) COMMENT 'the hive''s code',
  UNIQUE KEY by_code (code), KEY by_v (v(10), t DESC), FULLTEXT KEY words (txt), KEY by_day (day),
  CONSTRAINT heavy CHECK (t > -129)
) ENGINE=InnoDB COMMENT 'hives \\ and ''all'''`,
	`INSERT INTO hives (id, t, s, m, i, b, d, d0, f, g, bits, one, y, c, v, u, w, txt, js, e, ss, bin, vb, bl, uid, i6,
  i4, day, dt, dt0, ts, tm, p, shape) VALUES
 (18446744073709551615, -128, 65535, -8388608, 42, -9223372036854775808, -12345678901234567890123456.000000000001,
   99999999999999999999999999999999999999999999999999999999999999999, -3.4028234e38, 1.7976931348623157e308,
  b'11111111111', b'1', 2155, ' a b', 'né€ñ', 'tab\t new\n back\\ nul\0 quote''"', 'мёд ☕', repeat('a\\\t\n\r\0\Z☕',
    5000), '{"n": 1.10, "s": "a\\"b"}', 'it''s dark, mostly', 'raw,salt',
  x'00ff00000000', x'5c090a0d00275c4e', concat(x'5c4e', repeat(x'00ff5c0a09', 3000)),
    '00000000-0000-0000-0000-000000000001', '::ffff:10.0.0.9', '255.0.0.1',
  '9999-12-31', '9999-12-31 23:59:59.999999', '1000-01-01', '2038-01-19 03:14:07.999', '-838:59:59.999999',
    point(1.5, -0.1), ST_GeomFromText('LINESTRING(0 0, 1 1e300)', 4326))`,
	`SET STATEMENT sql_mode = 'ALLOW_INVALID_DATES,NO_AUTO_VALUE_ON_ZERO' FOR INSERT INTO hives (id, t, f, g, bits, c, v,
  u, txt, js, e, ss, bin, vb, bl, uid, day, dt, dt0, ts, tm, y) VALUES
 (0, 0, 0.1, -0e0, b'0', '', '', '', '', 'null', 'light', '', '', '', '', 'ffffffff-ffff-ffff-ffff-ffffffffffff',
   '0000-00-00', '2026-00-10', '2026-02-31', '0000-00-00', '00:00:00', 0)`,
	`INSERT INTO hives (id, f, g, u, e) VALUES (1, 16777216, 9007199254740993, '\\N', 3), (2, 1e-45, 5e-324, 'trailing  ',
  1), (3, 123456.7, 0.1, NULL, NULL)`,
	`INSERT INTO hives (id, g, b, txt) SELECT seq + 10, sqrt(seq) * pow(10, cast(seq % 40 AS signed) - 20), seq * 977,
  IF(seq % 3, concat('row ', seq), NULL) FROM seq_1_to_2000`,
	`CREATE TABLE bag (name varchar(20), weight float, note text, raw blob, at datetime(3), place point) ENGINE=InnoDB`,
	`INSERT INTO bag VALUES ('Oak', 0.1, 'ä', x'00', '2026-01-01 10:00:00.5', point(1, 2)), ('oak', 0.1, 'ä', x'00',
  '2026-01-01 10:00:00.5', point(1, 2)), ('Oak', 0.1, 'ä', x'00', '2026-01-01 10:00:00.5', point(1, 2)),
  (NULL, NULL, '', '', NULL, NULL)`,
}

// carry plans a table for another database of the engine.
func carry(t testing.TB, from, to *database, table string) *domain.TablePlan {
	t.Helper()
	p := *planFor(t, from, table)
	p.Target, p.TargetSide = p.Source, nil
	p, _ = typemap.Mapping{From: typemap.MariaDB, To: typemap.MariaDB, Into: to.end.Database}.Complete(p)
	return &p
}

// land copies a whole table as one chunk.
func land(t testing.TB, from engine.Reads, to engine.Lands, p *domain.TablePlan, m engine.Mark) error {
	t.Helper()
	r, err := from.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	w, err := to.OpenWriter(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if m.Snapshot, err = r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	there := p.TargetPlan()
	if err := w.Begin(t.Context(), &there, false, nil); err != nil {
		t.Fatal(err)
	}
	if m.Sum, err = r.Copy(t.Context(), p, &domain.Chunk{}, false, func(b []byte) error {
		return w.Write(t.Context(), b)
	}); err != nil {
		return err
	}
	return w.Land(t.Context(), m)
}

// alike compares both sides as a reconciliation does, and by the server's own
// checksum.
func alike(t *testing.T, a, b *database, plain *sql.DB, plans ...*domain.TablePlan) {
	t.Helper()
	for _, p := range plans {
		var sums [2][]rowhash.Sum
		rows := map[string]int{}
		there := p.TargetPlan()
		for i, side := range []struct {
			d *database
			p *domain.TablePlan
		}{{a, p}, {b, &there}} {
			v, _, err := side.d.OpenView(t.Context(), true, time.Second)
			if err != nil {
				t.Fatal(err)
			}
			sums[i], err = v.Sums(t.Context(), side.p, engine.Part{Buckets: 4}, func(int64) {})
			_ = v.(*view).Range(t.Context(), side.p, nil, nil, func(_ []byte, fields [][]byte) error {
				rows[shown(fields)] += 1 - 2*i
				return nil
			})
			v.Close()
			if err != nil {
				t.Fatal(err)
			}
		}
		if fmt.Sprint(sums[0]) != fmt.Sprint(sums[1]) {
			t.Errorf("%s: %v, on the target %v", p.Source, sums[0], sums[1])
			for r, n := range rows {
				if n != 0 {
					t.Logf("%+d %.600s", n, r)
				}
			}
		}
		var name string
		var sum [2]sql.NullInt64
		for i, n := range []domain.TableName{p.Source, p.Target} {
			if err := plain.QueryRowContext(t.Context(), "CHECKSUM TABLE "+qualified(n)+" EXTENDED").Scan(&name,
				&sum[i]); err != nil {
				t.Fatal(err)
			}
		}
		if sum[0] != sum[1] || !sum[0].Valid {
			t.Errorf("%s: the server's checksums are %v", p.Source, sum)
		}
	}
}

// TestEveryKindOfValueLands takes ugly tables from one database to another, as
// chunks and as changes, and compares them to the byte.
func TestEveryKindOfValueLands(t *testing.T) {
	from, db := open(t)
	to, there := open(t)
	run(t, db, ugly...)
	plans := []*domain.TablePlan{carry(t, from, to, "hives"), carry(t, from, to, "bag")}
	var sides []domain.TablePlan
	for _, p := range plans {
		sides = append(sides, p.TargetPlan())
	}
	set := domain.DefaultSettings()
	for range 2 { // it can be repeated
		if err := to.PrepareTarget(t.Context(), "c", nil, sides, set, func(engine.Object, error) {}); err != nil {
			t.Fatal(err)
		}
	}
	t.Cleanup(func() { _ = to.Forget(context.WithoutCancel(t.Context()), "c") })
	capture := follow(t, from, here(t, from), plans...)
	for i, p := range plans {
		if err := land(t, from, to, p, engine.Mark{Crossing: "c", Chunk: int64(i), Epoch: 3}); err != nil {
			t.Fatal(err)
		}
	}
	alike(t, from, to, db, plans...)
	for _, o := range to.Deferred(nil, sides) {
		for range 2 {
			if err := to.Build(t.Context(), o); err != nil {
				t.Error(err)
			}
		}
	}
	var a, b string
	var skip string
	if err := db.QueryRowContext(t.Context(), "SHOW CREATE TABLE hives").Scan(&skip, &a); err != nil {
		t.Fatal(err)
	}
	if err := there.QueryRowContext(t.Context(), "SHOW CREATE TABLE hives").Scan(&skip, &b); err != nil {
		t.Fatal(err)
	}
	lines := map[string]bool{}
	for _, l := range strings.Split(a, "\n") {
		lines[strings.TrimSuffix(l, ",")] = true
	}
	for _, l := range strings.Split(b, "\n") {
		if !lines[strings.TrimSuffix(l, ",")] && !strings.HasPrefix(l, ")") {
			t.Errorf("the target's table has %s\nthe source's is %s", l, a)
		}
	}

	run(t, db, "SET STATEMENT sql_mode = 'ALLOW_INVALID_DATES' FOR UPDATE hives SET t = 7, txt = 'changed \\\\ \\0 ☕', "+
		"bl = x'00ff', v = 'ñ', e = 1, dt0 = '2026-02-30', touched = touched WHERE id IN (0, 18446744073709551615)",
		"DELETE FROM hives WHERE id BETWEEN 20 AND 60", "UPDATE hives SET id = id + 100000 WHERE id BETWEEN 70 AND 80",
		"INSERT INTO hives (id, g, uid, p) SELECT seq + 5000, -0.1 * seq, uuid(), point(seq, 1) FROM seq_1_to_1500",
		"DELETE FROM bag WHERE BINARY name = 'Oak' LIMIT 1", "UPDATE bag SET weight = 0.3 WHERE BINARY name = 'oak'",
		"DELETE FROM bag WHERE name IS NULL", "INSERT INTO bag (name, raw) VALUES ('a\\\\', x'5c')")
	changes, commits := until(t, capture, here(t, from))
	start, err := to.TakeStream(t.Context(), "c", 1, domain.PositionAt(5))
	if err != nil || start != domain.PositionAt(5) {
		t.Fatalf("the stream begins at %s: %v", start, err)
	}
	apply(t, to, plans, changes, commits[len(commits)-1].End, 1)
	alike(t, from, to, db, plans...)
	if at, err := to.TakeStream(t.Context(), "c", 2, domain.PositionAt(5)); err != nil ||
		at != commits[len(commits)-1].End {
		t.Errorf("the stream stands at %s: %v", at, err)
	}
	if _, err := to.TakeStream(t.Context(), "c", 1, domain.PositionAt(5)); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("an older holder took the stream: %v", err)
	}
	// A chunk lands once, whoever holds it.
	if m, err := to.Fence(t.Context(), "c", 0, 9); err != nil || m == nil || m.Epoch != 3 || m.Sum.Rows != 2005 {
		t.Errorf("the mark is %+v, %v", m, err)
	}
	if err := to.ClearTable(t.Context(), "c", "", &sides[0], []int64{0}); err != nil {
		t.Fatal(err)
	}
	if _, err := to.Fence(t.Context(), "c", 0, 9); err != nil {
		t.Fatal(err)
	}
	if err := land(t, from, to, plans[0], engine.Mark{Crossing: "c", Chunk: 0, Epoch: 8}); !errors.Is(err,
		domain.ErrTakenOver) {
		t.Errorf("an older holder landed a chunk: %v", err)
	}
	// The bookkeeping of an earlier version.
	if err := to.Run(t.Context(), "DROP TABLE dusty_ferry.bringing"); err != nil {
		t.Fatal(err)
	}
	if err := land(t, from, to, plans[0], engine.Mark{Crossing: "c", Chunk: 0, Epoch: 9}); err != nil {
		t.Fatal(err)
	}
	alike(t, from, to, db, plans...)
	// What stands already is an error, not a silence.
	if err := land(t, from, to, plans[0], engine.Mark{Crossing: "c", Chunk: 1, Epoch: 10}); err == nil ||
		!strings.Contains(err.Error(), "Duplicate") {
		t.Errorf("rows landed twice: %v", err)
	}
}

// apply folds the changes of each table and applies them in one transaction.
func apply(t *testing.T, to *database, plans []*domain.TablePlan, changes []domain.Change, end domain.Position,
	epoch int64) {
	t.Helper()
	a, err := to.OpenApplier(t.Context(), "c", "", epoch)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	if err := a.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	for i, p := range plans {
		there := p.TargetPlan()
		key := p.KeyIndexes(p.CopiedColumns())
		f := fold.New(key)
		flush := func() {
			n := f.Net()
			if _, err := a.Apply(t.Context(), &there, n, len(n.Patches) == 0); err != nil {
				t.Fatal(err)
			}
			f = fold.New(key)
		}
		var whole []domain.Change
		for _, c := range changes {
			switch {
			case c.Table != int64(i+1):
			case len(key) == 0:
				whole = append(whole, c)
			case fold.Moves(c, key):
				flush()
				if _, err := a.Move(t.Context(), &there, c); err != nil {
					t.Fatal(err)
				}
			default:
				for _, atom := range fold.Split(c, key) {
					f.Add(atom)
				}
			}
		}
		if len(key) > 0 {
			flush()
		} else if err := a.ApplyWhole(t.Context(), &there, whole); err != nil {
			t.Fatal(err)
		}
	}
	if err := a.Commit(t.Context(), end, "0-1-7", 1); err != nil {
		t.Fatal(err)
	}
}

// TestPartsOfRowsInTheLog follows a server that logs only what a statement says.
func TestPartsOfRowsInTheLog(t *testing.T) {
	for _, image := range []string{"MINIMAL", "NOBLOB"} {
		t.Run(image, func(t *testing.T) {
			from, db := open(t)
			to, _ := open(t)
			run(t, db, "CREATE TABLE lots (id int AUTO_INCREMENT PRIMARY KEY, a int DEFAULT 5, b varchar(20) DEFAULT 'it''s', "+
				"c text, d timestamp(6) DEFAULT current_timestamp(6) ON UPDATE current_timestamp(6), e int AS (a * 2) STORED, f "+
				"decimal(5,2) DEFAULT 1.50, g bit(4) DEFAULT b'101', h datetime DEFAULT '2026-01-01', n varchar(9) NOT NULL)",
				"CREATE TABLE bag (a int DEFAULT 7, b text, c varchar(9) DEFAULT 'x')",
				"INSERT INTO lots (c, n) SELECT repeat('wide ', 900), 'n' FROM seq_1_to_50",
				"INSERT INTO bag SELECT seq, 'w', 'y' FROM seq_1_to_20")
			plans := []*domain.TablePlan{carry(t, from, to, "lots"), carry(t, from, to, "bag")}
			sides := []domain.TablePlan{plans[0].TargetPlan(), plans[1].TargetPlan()}
			if err := to.PrepareTarget(t.Context(), "c", nil, sides, domain.DefaultSettings(),
				func(engine.Object, error) {}); err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = to.Forget(context.WithoutCancel(t.Context()), "c") })
			for i, p := range plans {
				if err := land(t, from, to, p, engine.Mark{Crossing: "c", Chunk: int64(i), Epoch: 1}); err != nil {
					t.Fatal(err)
				}
			}
			capture := follow(t, from, here(t, from), plans...)
			conn, err := db.Conn(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			defer func() { _ = conn.Close() }()
			for _, q := range []string{"SET SESSION binlog_row_image = '" + image + "'", "INSERT INTO lots (n) VALUES ('new')",
				"INSERT INTO lots (a, c, n) VALUES (1, 'z', 'new'), (2, DEFAULT, 'new')", "UPDATE lots SET f = 3 WHERE id < 10",
				"UPDATE lots SET a = 9, c = NULL WHERE id = 11", "UPDATE lots SET id = 900 WHERE id = 12",
				"DELETE FROM lots WHERE id IN (20, 21)", "UPDATE lots SET b = 'later' WHERE id IN (900, 52)",
				"INSERT INTO bag (b) VALUES ('only')", "UPDATE bag SET b = 'changed' WHERE a = 3", "DELETE FROM bag WHERE a = 4"} {
				if _, err := conn.ExecContext(t.Context(), q); err != nil {
					t.Fatalf("%s: %v", q, err)
				}
			}
			changes, commits := until(t, capture, here(t, from))
			if _, err := to.TakeStream(t.Context(), "c", 1, domain.PositionAt(5)); err != nil {
				t.Fatal(err)
			}
			apply(t, to, plans, changes, commits[len(commits)-1].End, 1)
			alike(t, from, to, db, plans...)
		})
	}
}

// TestPartitionsStay makes a table on another MariaDB server as it is cut there.
func TestPartitionsStay(t *testing.T) {
	from, db := openFor(t)
	to, there := openFor(t)
	run(t, db, "CREATE TABLE weather (id int, season year, grade enum('dark', 'it''s amber'), PRIMARY KEY (id, season)) "+
		"ENGINE=InnoDB PARTITION BY RANGE (season) SUBPARTITION BY HASH (id) SUBPARTITIONS 2 (PARTITION old VALUES LESS "+
		"THAN (2020), PARTITION new VALUES LESS THAN MAXVALUE)")
	cat, err := from.Catalog(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	p, err := from.Plan(&cat.Tables[0])
	if err != nil {
		t.Fatal(err)
	}
	p, _ = typemap.Mapping{From: typemap.MariaDB, To: typemap.MariaDB, Into: to.end.Database, Catalog: cat}.Complete(p)
	if err := to.PrepareTarget(t.Context(), "c", nil, []domain.TablePlan{p.TargetPlan()}, domain.DefaultSettings(),
		func(engine.Object, error) {}); err != nil {
		t.Fatal(err)
	}
	shown := func(db *sql.DB) string {
		var name, text string
		if err := db.QueryRowContext(t.Context(), "SHOW CREATE TABLE weather").Scan(&name, &text); err != nil {
			t.Fatal(err)
		}
		_, parts, _ := strings.Cut(text, "PARTITION BY")
		return parts
	}
	if a, b := shown(db), shown(there); a != b || !strings.Contains(a, "SUBPARTITIONS 2") {
		t.Errorf("the source is cut by%s\nthe target by%s", a, b)
	}
}

// TestSwapsOfPartsOfRows: rows that swap what is unique are taken out and put in again, with
// what the log left unsaid as it stood, to the bit.
func TestSwapsOfPartsOfRows(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE w (id float PRIMARY KEY, u int UNIQUE, f float, dd double, b bit(9), x varbinary(9), t "+
		"time(3), y year, j json, s varchar(20) CHARACTER SET latin1, e enum('a','it''s'), n int NULL, c int AS (u "+
		"* 2) STORED)",
		"INSERT INTO w (id, u, f, dd, b, x, t, y, j, s, e) VALUES (1 / 3, 1, 2 / 3, 1 / 3e-9, b'101000111', x'00ff', "+
			"'-01:02:03.5', 0, '{\"a\": 1.0}', 'naïve €', 2), (2 / 3, 2, 1 / 7, 1e-300, b'0', x'', '838:59:59', 1999, "+
			"'[]', '', 1)")
	side := carry(t, d, d, "w").TargetPlan()
	p := &side
	conn, err := d.session(t.Context(), landing...)
	if err != nil {
		t.Fatal(err)
	}
	defer drop(conn)
	a := &applier{d: d, conn: conn}
	if err := a.measure(t.Context()); err != nil {
		t.Fatal(err)
	}
	const all = "SELECT group_concat(concat_ws('|', cast(id AS double), cast(f AS double), dd, b + 0, hex(x), t, y, j, " +
		"hex(s), e, coalesce(n, 'none'), c - u * 2) ORDER BY id) FROM w"
	read := func(q string) (s string) {
		if err := db.QueryRowContext(t.Context(), q).Scan(&s); err != nil {
			t.Fatal(err)
		}
		return s
	}
	before := read(all)
	patch := func(id, u string) domain.Row {
		row := make(domain.Row, len(p.Columns))
		for i, c := range p.Columns {
			switch c.Name {
			case "id":
				row[i] = domain.Value{Kind: domain.Present, Data: []byte(id)}
			case "u":
				row[i] = domain.Value{Kind: domain.Present, Data: []byte(u)}
			default:
				row[i] = domain.Value{Kind: domain.Unchanged}
			}
		}
		return row
	}
	missing, err := a.Apply(t.Context(), p, fold.Net{Patches: []domain.Row{patch("0.33333334", "2"),
		patch("0.6666667", "1"), patch("7", "9")}}, true)
	if err != nil || len(missing) != 1 {
		t.Fatalf("%d rows are missing (%v)", len(missing), err)
	}
	if now := read(all); now != before {
		t.Errorf("it was\n%s\nand is\n%s", before, now)
	}
	if u := read("SELECT group_concat(u ORDER BY id) FROM w"); u != "2,1" {
		t.Errorf("u is %s", u)
	}
}

// TestJSONWhateverItsName: the server says by a check alone that a text is JSON; one that a
// person made of another text is a constraint as any.
func TestJSONWhateverItsName(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE frames (id int PRIMARY KEY, "+quote("ba`ck")+
		" json, plain text, CONSTRAINT plain CHECK (json_valid(plain)))")
	p := planFor(t, d, "frames")
	kinds := map[string]string{}
	for _, c := range p.Columns {
		kinds[c.Name] = c.BaseType
	}
	if kinds["ba`ck"] != "json" || kinds["plain"] != "text" {
		t.Errorf("the columns are taken for %v", kinds)
	}
	if k := p.Table.Constraints; len(k) != 1 || k[0].Name != "plain" {
		t.Errorf("the constraints are taken for %v", k)
	}
}
