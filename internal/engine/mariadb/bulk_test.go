package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// jars is a table whose columns can all go as parameters, with rows at their limits.
var jars = []string{`
CREATE TABLE jars (
  id bigint unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY,
  t tinyint, tu tinyint unsigned, s smallint, su smallint unsigned, m mediumint, i int(6) unsigned zerofill, n int,
    b bigint, d decimal(38,12), d0 decimal(65,0), f float, f2 float(7,2), g double, y year,
  c char(9), v varchar(90) CHARACTER SET latin1, u varchar(30) COLLATE utf8mb4_bin, w varchar(20) CHARACTER
    SET utf16, k varchar(20) CHARACTER SET utf8mb3, txt longtext, js json,
  e enum('light','it''s dark, mostly','Ä'), ss set('raw','comb','salt'),
  bin binary(6), vb varbinary(300), bl longblob, uid uuid, i6 inet6, i4 inet4,
  day date, dt datetime(6), dt0 datetime, ts timestamp(3) NULL, tm time(6),
  twice bigint GENERATED ALWAYS AS (n / 2) STORED, near varchar(99) GENERATED ALWAYS AS (concat(u, '!')) VIRTUAL
) ENGINE=InnoDB`,
	`INSERT INTO jars (id, t, tu, s, su, m, i, n, b, d, d0, f, f2, g, y, c, v, u, w, k, txt, js, e, ss, bin, vb, bl, uid,
  i6, i4, day, dt, dt0, ts, tm) VALUES
 (18446744073709551615, -128, 255, -32768, 65535, -8388608, 42, -2147483648, -9223372036854775808,
   -12345678901234567890123456.000000000001, 99999999999999999999999999999999999999999999999999999999999999999,
   -3.4028234e38, 99999.98, 1.7976931348623157e308, 2155,
 ' a b', 'né€ñ', 'tab\t new\n back\\ nul\0 quote''"', 'мёд ☕', 'ñ', repeat('a\\\t\n\r\0\Z☕', 5000),
   '{"n": 1.10, "s": "a\\"b"}', 'it''s dark, mostly', 'raw,salt',
  x'00ff00000000', x'5c090a0d00275c4e', concat(x'5c4e', repeat(x'00ff5c0a09', 3000)),
    '00000000-0000-0000-0000-000000000001', '::ffff:10.0.0.9', '255.0.0.1',
  '9999-12-31', '9999-12-31 23:59:59.999999', '1000-01-01', '2038-01-19 03:14:07.999', '-838:59:59.999999')`,
	`SET STATEMENT sql_mode = 'NO_AUTO_VALUE_ON_ZERO' FOR INSERT INTO jars (id, t, f, g, c, v, u, txt, js, e, ss, bin, vb,
  bl, uid, day, dt, dt0, ts, tm) VALUES
 (0, 0, 0.1, -0e0, '', '', '', '', 'null', 'light', '', '', '', '', 'ffffffff-ffff-ffff-ffff-ffffffffffff',
   '2024-02-29', '0001-01-01', '2026-02-28 00:00:00', '1970-01-01 00:00:01', '00:00:00')`,
	`INSERT INTO jars (id, f, g, u, e) VALUES (1, 16777216, 9007199254740993, '\\N', 3), (2, 1e-45, 5e-324, 'trailing  ',
  1), (3, 123456.7, 0.1, NULL, NULL)`,
	`INSERT INTO jars (id, n, g, f, b, txt, dt) SELECT seq + 10, seq, sqrt(seq) * pow(10, cast(seq % 40 AS signed) - 20),
  rand(seq) * pow(10, cast(seq % 60 AS signed) - 30), seq * 977, IF(seq % 3, concat('row ', seq), NULL),
  '2026-01-01' + INTERVAL seq * 7919 SECOND FROM seq_1_to_30000`,
}

// shelf makes jars on one database and its empty table on another, with a writer there.
func shelf(t *testing.T, rows ...string) (from, to *database, db *sql.DB, p *domain.TablePlan, w *writer) {
	t.Helper()
	from, db = open(t)
	to, _ = open(t)
	run(t, db, append(jars[:1:1], rows...)...)
	p = carry(t, from, to, "jars")
	if err := to.PrepareTarget(t.Context(), "c", nil, []domain.TablePlan{p.TargetPlan()}, domain.DefaultSettings(),
		func(engine.Object, error) {}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = to.Forget(context.WithoutCancel(t.Context()), "c") })
	opened, err := to.OpenWriter(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(opened.Close)
	return from, to, db, p, opened.(*writer)
}

// shelve copies the table as one chunk.
func shelve(ctx context.Context, t *testing.T, from *database, p *domain.TablePlan, w *writer, chunk int64) error {
	t.Helper()
	r, err := from.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	m := engine.Mark{Crossing: "c", Chunk: chunk, Epoch: 1}
	if m.Snapshot, err = r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	there := p.TargetPlan()
	if err := w.Begin(ctx, &there, false, nil); err != nil {
		t.Fatal(err)
	}
	if w.bulk == nil {
		t.Fatal("the rows do not go as parameters")
	}
	if m.Sum, err = r.Copy(ctx, p, &domain.Chunk{}, false, func(b []byte) error { return w.Write(ctx, b) }); err != nil {
		return err
	}
	return w.Land(ctx, m)
}

// TestRowsLandAsParameters takes every kind of value that goes as a parameter, in one chunk
// after the other on one session.
func TestRowsLandAsParameters(t *testing.T) {
	from, to, db, p, w := shelf(t, jars[1:]...)
	for chunk := range int64(2) {
		if chunk > 0 {
			run(t, db, "TRUNCATE TABLE "+qualified(p.Target))
		}
		if err := shelve(t.Context(), t, from, p, w, chunk); err != nil {
			t.Fatal(err)
		}
		if w.bulk != nil || w.load != nil {
			t.Error("something of the load is left")
		}
		alike(t, from, to, db, p)
	}
	// A statement for another table takes the place of the one before.
	statements := func() (n int) {
		var name string
		if err := db.QueryRowContext(t.Context(), "SHOW GLOBAL STATUS LIKE 'Prepared_stmt_count'").Scan(&name,
			&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := statements()
	for chunk := range int64(3) {
		run(t, db, "TRUNCATE TABLE "+qualified(p.Target))
		w.prepared = "INSERT INTO another"
		if err := shelve(t.Context(), t, from, p, w, 2+chunk); err != nil {
			t.Fatal(err)
		}
	}
	eventually(t, "statements of before are dropped", func() bool { return statements() <= before })
	// The same session does everything else too.
	if _, err := w.conn.ExecContext(t.Context(), "DO 1"); err != nil {
		t.Error(err)
	}
	if err := shelve(t.Context(), t, from, p, w, 7); !rowsRefused(err) || !strings.Contains(err.Error(), "Duplicate") {
		t.Errorf("rows landed twice: %v", err)
	}
}

func rowsRefused(err error) bool { return engine.ClassOf(err) == engine.OfRows }

// TestTheRestGoesAsAFile: values that are not plainly of their kind, and rows too large for
// one command, go as a file, with what follows them.
func TestTheRestGoesAsAFile(t *testing.T) {
	for name, odd := range map[string]string{
		"a date that does not exist": "INSERT INTO jars (id, n, dt0) VALUES (5000, 1, '2026-02-31')",
		"no date":                    "INSERT INTO jars (id, n, day) VALUES (5000, 1, '0000-00-00')",
		"a large value":              "INSERT INTO jars (id, n, bl) VALUES (5000, 1, repeat(x'00ff', 3000000))",
	} {
		t.Run(name, func(t *testing.T) {
			from, to, db, p, w := shelf(t, jars[1:]...)
			run(t, db, "DELETE FROM jars WHERE id = 5000", "SET STATEMENT sql_mode = 'ALLOW_INVALID_DATES' FOR "+odd)
			if err := shelve(t.Context(), t, from, p, w, 1); err != nil {
				t.Fatal(err)
			}
			alike(t, from, to, db, p)
		})
	}
}

// TestAValueThatWouldChange: what the server makes another value of, or refuses, lets nothing
// of the chunk stand, wherever in it the value is.
func TestAValueThatWouldChange(t *testing.T) {
	for name, alter := range map[string]string{
		"digits are cut off":    "MODIFY d decimal(38,2)",
		"too large":             "MODIFY n smallint",
		"too long":              "MODIFY txt varchar(8)",
		"not of the characters": "MODIFY u varchar(30) CHARACTER SET ascii",
		"no such label":         "MODIFY e enum('light')",
	} {
		for _, at := range []string{"first", "last"} {
			t.Run(name+", "+at, func(t *testing.T) {
				id := map[string]int{"first": 0, "last": 100_000}[at]
				from, _, db, p, w := shelf(t, `INSERT INTO jars (id, n) SELECT seq, 1 FROM seq_1_to_9000`,
					fmt.Sprintf("SET STATEMENT sql_mode = 'NO_AUTO_VALUE_ON_ZERO' FOR INSERT INTO jars (id, n, d, txt, u, e) VALUES "+
						"(%d, 40000, 0.123, 'much too long', 'ñ', 'Ä')", id))
				run(t, db, "ALTER TABLE "+qualified(p.Target)+" "+alter)
				if err := shelve(t.Context(), t, from, p, w, 1); !rowsRefused(err) {
					t.Errorf("it was said: %v", err)
				}
				w.Abort()
				var n int
				if err := db.QueryRowContext(t.Context(), "SELECT count(*) FROM "+qualified(p.Target)).Scan(&n); err != nil ||
					n != 0 {
					t.Errorf("%d rows stand (%v)", n, err)
				}
			})
		}
	}
}

// TestAParameterLoadIsCalledOff: neither a context that ends nor a server that ends the
// session leaves anything waiting.
func TestAParameterLoadIsCalledOff(t *testing.T) {
	for _, how := range []string{"called off", "killed", "aborted"} {
		t.Run(how, func(t *testing.T) {
			from, to, db, p, w := shelf(t, jars[1:]...)
			holder, err := db.BeginTx(t.Context(), nil)
			if err != nil {
				t.Fatal(err)
			}
			defer func() { _ = holder.Rollback() }()
			// The target's first row is locked, so that the server stands still in it.
			if _, err := holder.ExecContext(t.Context(), "INSERT INTO "+qualified(p.Target)+" (id) VALUES (0)"); err != nil {
				t.Fatal(err)
			}
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			session := w.session
			end := func() {
				for { // until it waits; the server makes this list anew when nobody read it for 0.1 s
					var n int
					if err := db.QueryRowContext(t.Context(), "SELECT count(*) FROM information_schema.innodb_trx WHERE trx_state = "+
						"'LOCK WAIT' AND trx_mysql_thread_id = "+session).Scan(&n); err != nil || n > 0 {
						break
					}
					time.Sleep(150 * time.Millisecond)
				}
				if how == "killed" {
					_, _ = db.Exec("KILL " + session)
				} else {
					cancel()
				}
			}
			if how == "aborted" {
				there := p.TargetPlan()
				if err := w.Begin(ctx, &there, false, nil); err != nil {
					t.Fatal(err)
				}
				if err := w.Write(ctx, engine.Row(make([][]byte, len(p.Columns)))); err != nil {
					t.Fatal(err)
				}
			} else {
				go end()
				if err := shelve(ctx, t, from, p, w, 1); err == nil {
					t.Error("it landed")
				}
			}
			w.Abort()
			if _, ok := to.pooled.Load(uint32(0)); ok {
				t.Error("a connection without a number is kept")
			}
			eventually(t, "the session is gone", func() bool {
				_, err := to.pool.ExecContext(t.Context(), "KILL "+session)
				return said(err, erNoThread)
			})
		})
	}
}

func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); !ok(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("never: %s", what)
		}
	}
}

// TestWhatGoesAsParameters: tables with columns that are read in a way of their own go as
// files.
func TestWhatGoesAsParameters(t *testing.T) {
	plan := func(types ...string) *domain.TablePlan {
		p := &domain.TablePlan{Target: domain.TableName{Schema: "s", Name: "t"}}
		for i, base := range types {
			p.Columns = append(p.Columns, domain.Column{Name: fmt.Sprintf("c%d", i), BaseType: base})
		}
		return p
	}
	for _, base := range []string{"bit", "point", "geometry", "vector", "something new"} {
		if bulkKinds(plan("int", base)) != nil {
			t.Errorf("%s goes as a parameter", base)
		}
	}
	p := plan("int unsigned", "varchar", "blob")
	p.Columns[1].Generated = true
	kinds := bulkKinds(p)
	if len(kinds) != 3 || kinds[1] != nil || kinds[0].Unsignedness() == 0 ||
		bulkStatement(p) != "INSERT INTO `s`.`t` (`c0`, `c2`) VALUES (?, ?)" {
		t.Errorf("%v, %s", kinds, bulkStatement(p))
	}
	if n := connectionOf([]byte("\x0a1\x00")); n != 0 || bulkOffered([]byte("\x0a1\x00aaaa")) {
		t.Error("a greeting that is cut short was read")
	}
}

// TestAWriterIsClosedAtOnce: what ends with a load's context may run when the writer is gone.
func TestAWriterIsClosedAtOnce(t *testing.T) {
	_, to, _, p, _ := shelf(t)
	there := p.TargetPlan()
	for range 10 {
		w, err := to.OpenWriter(t.Context(), "")
		if err != nil {
			t.Fatal(err)
		}
		if err := w.Begin(t.Context(), &there, false, nil); err != nil {
			t.Fatal(err)
		}
		w.Close()
	}
}
