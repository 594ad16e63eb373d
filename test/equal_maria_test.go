package test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// mariaSession runs statements of one session of a MariaDB source, each for itself.
type mariaSession func(statements ...string)

// mariaToMaria starts a crossing of a schema's tables, without noise, and returns a session
// on the source.
func mariaToMaria(t *testing.T, f *ferry, tables string, set string) (mariaSession, side, side) {
	t.Helper()
	return fromMaria(t, f, "mariadb", tables, set)
}

func fromMaria(t *testing.T, f *ferry, to, tables, set string) (mariaSession, side, side) {
	t.Helper()
	schema, db := newMaria(t)
	f.registerMaria("old", schema, db, sourceRights(schema)...)
	target := f.sideOf(to, "new")
	source := side{schema, func(s string) { maria(t, db, strings.Split(s, ";\n")...) }, func(q string) []string {
		return texts(t, db, q)
	}}
	source.exec(tables)
	manifest := fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  target: new\n  tables: "+
		"[\"%s.*\", \"-%s.noise*\"]\n  settings: {in_step_dwell: 200ms%s}\n", schema, schema, set)
	if r := toSchema("mariadb", to, schema); r != "" {
		manifest += "  rules:\n" + r + "\n"
	}
	if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
		t.Fatal(a.err)
	}
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	return func(statements ...string) {
		t.Helper()
		for _, s := range statements {
			if _, err := conn.ExecContext(t.Context(), s); err != nil {
				t.Fatalf("%s: %v", s, err)
			}
		}
	}, source, target
}

func sameHives(t *testing.T, f *ferry, source, target side) {
	t.Helper()
	settle(t, f)
	sameTexts(t, "hives", hives(source, "n, name"), hives(target, "n, name"))
}

// TestMariaDBLosesNothingInSilence: what real applications write into a log, and every
// spelling of what concerns whole tables, ends equal, or holds and says which table.
func TestMariaDBLosesNothingInSilence(t *testing.T) {
	f := start(t)
	ask, source, target := mariaToMaria(t, f, "CREATE TABLE hives (id int PRIMARY KEY, n int, name varchar(40) "+
		"CHARACTER SET latin1 DEFAULT 'x') PARTITION BY RANGE (id) (PARTITION p0 VALUES LESS THAN (1000), PARTITION p1 "+
		"VALUES LESS THAN (1000000));\n"+
		"INSERT INTO hives SELECT seq, seq, 'Bläue' FROM seq_1_to_1500;\nCREATE TABLE calm (id int PRIMARY KEY);\nINSERT "+
		"INTO calm VALUES (1);\nCREATE TABLE noise (id int) ENGINE=MyISAM;\nCREATE TABLE noise_2 (id int PRIMARY KEY)", "")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	again := func() {
		t.Helper()
		f.must("crossing", "restart", "spring", "--table", source.schema+".hives", "--confirm", source.schema+".hives")
		f.await(90*time.Second, "in step again", func(c contract.Crossing) bool {
			return c.Phase == contract.PhaseInStep && c.Condition == contract.ConditionRunning
		})
	}
	equal := func(name string, statements ...string) {
		t.Helper()
		ask(statements...)
		sameHives(t, f, source, target)
		if t.Failed() {
			t.Fatalf("after %s", name)
		}
	}
	held := func(words string, statements ...string) {
		t.Helper()
		ask(statements...)
		f.held("hives", words)
		again()
		sameHives(t, f, source, target)
		if t.Failed() {
			t.Fatalf("after %s", statements[0])
		}
	}
	const more = "INSERT INTO hives (id, n) SELECT seq, seq FROM seq_%d_to_%d"
	equal("savepoints", "BEGIN", "INSERT INTO hives VALUES (10001, 1, 'before')", "SAVEPOINT Level_1",
		fmt.Sprintf(more, 20001, 26000), "SAVEPOINT `level 2`", "UPDATE hives SET n = -1 WHERE id = 3",
		"ROLLBACK TO `level 2`", "RELEASE SAVEPOINT level_1", "DELETE FROM hives WHERE id = 4", "COMMIT")
	// A write to a table without transactions makes the log keep what was rolled back.
	equal("a rolled back part", "BEGIN", "INSERT INTO hives VALUES (10002, 1, 'stays')", "SAVEPOINT s",
		fmt.Sprintf(more, 30001, 30500), "SAVEPOINT t", "UPDATE hives SET n = -2 WHERE id < 20",
		"INSERT INTO noise VALUES (1)",
		"ROLLBACK TO SAVEPOINT s", "INSERT INTO hives VALUES (10003, 1, 'stays too')", "COMMIT")
	equal("a rolled back transaction", "BEGIN", "INSERT INTO hives VALUES (10004, 1, 'never was')",
		"INSERT INTO noise VALUES (2)", "ROLLBACK", "INSERT INTO hives VALUES (10005, 1, 'was')")
	equal("transactions of other tables", "BEGIN", "INSERT INTO noise_2 VALUES (1)", "INSERT INTO noise VALUES (2)",
		"ROLLBACK", "CREATE TABLE noise_3 (hives int)", "DROP TABLE noise_3", "CREATE VIEW over_hives AS SELECT * FROM hives",
		"ANALYZE TABLE hives")
	for _, s := range []string{"-- emptied\nTRUNCATE hives", "# emptied\nTRUNCATE TABLE hives/* all */",
		"/*!50000 TRUNCATE TABLE */ hives", "/*!100000 TRUNCATE hives */",
		"SET STATEMENT lock_wait_timeout = 5 FOR TRUNCATE hives"} {
		equal(s, fmt.Sprintf("INSERT IGNORE INTO hives SELECT seq, seq, 'ö' FROM seq_1_to_%d", 50), s,
			"INSERT INTO hives VALUES (7, 7, 'first')")
	}
	equal("rows", "INSERT IGNORE INTO hives SELECT seq, seq, 'Grün' FROM seq_1_to_1500")
	held("format set to statements", "SET SESSION binlog_format = 'STATEMENT'",
		"UPDATE hives SET n = n + 1 WHERE id < 100", "SET SESSION binlog_format = 'ROW'")
	// A statement about another table writes to this one by a trigger.
	f.must("crossing", "leave-out", "spring", source.schema+".calm", "--confirm", source.schema+".calm")
	held("by a trigger", "CREATE TRIGGER spread AFTER INSERT ON noise_2 FOR EACH ROW UPDATE hives SET n = 0 WHERE "+
		"id = NEW.id", "SET SESSION binlog_format = 'STATEMENT'", "INSERT INTO noise_2 VALUES (5)",
		"SET SESSION binlog_format = 'ROW'")
	ask("DROP TRIGGER spread")
	held("TRUNCATE PARTITION", "ALTER TABLE hives TRUNCATE PARTITION p0")
	held("RENAME TABLE", "CREATE TABLE noise_4 LIKE hives", "INSERT INTO noise_4 VALUES (1, 1, 'another')",
		"RENAME TABLE hives TO noise_5, noise_4 TO hives")
	held("CREATE OR REPLACE", "CREATE OR REPLACE TABLE hives (id int PRIMARY KEY, n int, name varchar(40) CHARACTER SET "+
		"latin1 DEFAULT 'x')", "INSERT INTO hives VALUES (1, 1, 'ü')")
	held("character set of name", "ALTER TABLE hives CONVERT TO CHARACTER SET utf8mb4",
		"INSERT INTO hives VALUES (2, 2, '🐝')")
	held("primary key", "ALTER TABLE hives DROP PRIMARY KEY, ADD PRIMARY KEY (id, n)",
		"UPDATE hives SET name = 'ä' WHERE id = 2")
	held("columns of", "SET STATEMENT max_statement_time = 10 FOR ALTER /* wide */ TABLE hives MODIFY n bigint")
	equal("the end", "INSERT INTO hives VALUES (99, 5000000000, 'the end')")
}

// TestAMariaTableIsAlteredBeforeItsTurn: columns that change places while a table waits to be
// loaded, so that later rows in the log mean others.
func TestAMariaTableIsAlteredBeforeItsTurn(t *testing.T) {
	f := start(t)
	ask, source, target := mariaToMaria(t, f, "CREATE TABLE apiaries (id int PRIMARY KEY, v varchar(2000));\nINSERT "+
		"INTO apiaries SELECT seq, repeat('x', 1500) FROM seq_1_to_4000;\nCREATE TABLE hives (id int PRIMARY KEY, n "+
		"varchar(20), name varchar(20));\nINSERT INTO hives SELECT seq, concat('n', seq), concat('name', seq) FROM "+
		"seq_1_to_100;\nANALYZE TABLE apiaries, hives",
		", lanes: 1, speed_limit: 1MiB, chunk_size: 256KiB, column_changes: carry")
	f.startCrossing()
	f.await(30*time.Second, "loading", func(c contract.Crossing) bool {
		return c.Phase == contract.PhaseLoading && c.Progress.ChunksLanded > 0
	})
	ask("ALTER TABLE hives MODIFY COLUMN name varchar(20) AFTER id",
		"UPDATE hives SET n = 'N', name = 'NAME' WHERE id < 50")
	c := f.await(90*time.Second, "in step, or held", func(c contract.Crossing) bool {
		return c.Phase == contract.PhaseInStep || c.Condition == contract.ConditionHeld
	})
	if c.Condition == contract.ConditionHeld {
		if !strings.Contains(c.Reason, "hives") {
			t.Fatal(c.Reason)
		}
		f.must("crossing", "restart", "spring", "--table", source.schema+".hives", "--confirm", source.schema+".hives")
		f.awaitPhase(contract.PhaseInStep)
	}
	ask("UPDATE hives SET n = 'late' WHERE id = 60", "INSERT INTO hives (id, n, name) VALUES (200, 'n', 'name')")
	sameHives(t, f, source, target)
}

// TestTheMariaSurveyTellsWhatIsLeft: what cannot be carried is named before the start.
func TestTheMariaSurveyTellsWhatIsLeft(t *testing.T) {
	f := start(t)
	_, source, _ := mariaToMaria(t, f, "CREATE TABLE hives (id int PRIMARY KEY, n int, name varchar(9));\nCREATE TABLE "+
		"ledger (id int PRIMARY KEY) WITH SYSTEM VERSIONING;\nCREATE TABLE notes (id int PRIMARY KEY, t text "+
		"COMPRESSED);\nCREATE TABLE old_way (id int NOT NULL, n int, UNIQUE (id)) ENGINE = Aria;\nCREATE TABLE letters (id "+
		"int PRIMARY KEY, t text, UNIQUE whole (t))", "")
	_, root := newMaria(t)
	maria(t, root, "SET GLOBAL mysql56_temporal_format = OFF")
	defer maria(t, root, "SET GLOBAL mysql56_temporal_format = ON")
	source.exec("CREATE TABLE old_times (id int PRIMARY KEY, at datetime(3), day datetime)")
	said := strings.Join(strings.Fields(f.cli("survey", "spring").out), " ")
	for _, w := range []string{"at keeps its fractions of a second in the form of servers before 10.1", "left behind",
		source.schema + ".ledger", "it is system-versioned, and is not carried", "columns t are COMPRESSED",
		"it is kept by Aria", "its unique key whole is on values too long"} {
		if !strings.Contains(said, w) {
			t.Errorf("no word of %q: %s", w, said)
		}
	}
}

// TestWhatOthersClosedStaysClosed: a source that somebody made read-only is not opened by the
// undoing of a cutover.
func TestWhatOthersClosedStaysClosed(t *testing.T) {
	f := start(t)
	_, source, target := fromMaria(t, f, "postgres",
		"CREATE TABLE hives (id int PRIMARY KEY, n int, name varchar(9));\nINSERT INTO hives VALUES (1, 1, 'x')", "")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	_, root := newMaria(t)
	readOnly := func() (on int) {
		if err := root.QueryRowContext(t.Context(), "SELECT @@global.read_only").Scan(&on); err != nil {
			t.Fatal(err)
		}
		return on
	}
	method := contract.SettingsStopMethod("read-only")
	set := contract.Settings{StopMethod: &method, PauseBudgetSeconds: ptr(60.0)}
	maria(t, root, "SET GLOBAL read_only = ON")
	t.Cleanup(func() { _, _ = root.Exec("SET GLOBAL read_only = OFF") })
	if k := f.cutOver(true, set); k.State == contract.CutoverStateDone ||
		!strings.Contains(k.Error, "read-only already, by somebody else") {
		t.Errorf("the rehearsal ended %s: %s", k.State, k.Error)
	}
	if readOnly() != 1 {
		t.Fatal("it was opened")
	}
	maria(t, root, "SET GLOBAL read_only = OFF")
	if k := f.cutOver(true, set); k.State != contract.CutoverStateDone {
		t.Errorf("the rehearsal ended %s: %s", k.State, k.Error)
	}
	if readOnly() != 0 {
		t.Error("it is closed after a rehearsal")
	}
	sameHives(t, f, source, target)
}

// TestWritesThatReadOnlyDoesNotBind: a user above read_only goes on writing after the stop; the
// cutover finds out at its end, and is undone.
func TestWritesThatReadOnlyDoesNotBind(t *testing.T) {
	f := start(t)
	_, source, target := fromMaria(t, f, "postgres",
		"CREATE TABLE hives (id int PRIMARY KEY, n int, name varchar(9));\nINSERT INTO hives VALUES (1, 1, 'x')", "")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	_, root := newMaria(t)
	t.Cleanup(func() { _, _ = root.Exec("SET GLOBAL read_only = OFF") }) // of a cutover that was
	writing, stop := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	wg.Go(func() {
		for writing.Err() == nil {
			_, _ = root.ExecContext(writing, "UPDATE "+source.schema+".hives SET n = n + 1 WHERE id = 1")
		}
	})
	method, depth := contract.SettingsStopMethod("read-only"), contract.SettingsCutoverDepthNone
	set := contract.Settings{StopMethod: &method, CutoverDepth: &depth, PauseBudgetSeconds: ptr(60.0)}
	if k := f.cutOver(false, set); k.State == contract.CutoverStateDone ||
		!strings.Contains(k.Error, "came to the source after its writes were stopped") ||
		!strings.Contains(k.Error, "hives") {
		t.Errorf("the cutover ended %s: %s", k.State, k.Error)
	}
	stop()
	wg.Wait()
	if k := f.cutOver(false, set); k.State != contract.CutoverStateDone {
		t.Errorf("the cutover ended %s: %s", k.State, k.Error)
	}
	sameHives(t, f, source, target)
}

// TestAnAlterThatTheLogDoesNotHold: a session with its log off changes a column's type; the
// next rows show it.
func TestAnAlterThatTheLogDoesNotHold(t *testing.T) {
	f := start(t)
	_, source, _ := fromMaria(t, f, "mariadb", "CREATE TABLE hives (id int PRIMARY KEY, n int, m int, name "+
		"varchar(9));\nINSERT INTO hives VALUES (1, 1, 2, 'x')", "")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	source.exec("SET SESSION sql_log_bin = 0;\nALTER TABLE hives MODIFY m bigint, MODIFY n varchar(20);\nSET SESSION " +
		"sql_log_bin = 1")
	source.exec("UPDATE hives SET n = 'seven', m = 7")
	f.await(30*time.Second, "held", func(c contract.Crossing) bool {
		return c.Condition == contract.ConditionHeld && strings.Contains(c.Reason, "hives") &&
			strings.Contains(c.Reason, "column")
	})
}

// TestValuesLargerThanThePacket: the target takes a megabyte at once. What fits in it lands
// whatever its spelling in a statement would need; what does not is told with what to set.
func TestValuesLargerThanThePacket(t *testing.T) {
	f, p := start(t), newPair(t)
	name, db := newMaria(t)
	exec1(t, p.sourceURL(), `CREATE SCHEMA marsh; CREATE TABLE marsh.photos (id int PRIMARY KEY, photo bytea, note text,
  n int);
INSERT INTO marsh.photos SELECT 1, decode(repeat('00ff5c27', 700000), 'hex'), repeat('é''\', 400000), 1`)
	maria(t, db, "SET GLOBAL max_allowed_packet = 1048576")
	t.Cleanup(func() { _, _ = db.Exec("SET GLOBAL max_allowed_packet = 16777216") })
	f.register("old", servers.source, p.source)
	f.registerMaria("new", name, db, targetRights(name)...)
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new",
			Settings: &contract.Settings{InStepDwellSeconds: ptr(0.2)}})); err != nil {
		t.Fatal(err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	same := func() bool {
		return slices.Equal(collect(t, connect(t, p.sourceURL()),
			"SELECT concat_ws('|', id, md5(photo), md5(note), n) FROM marsh.photos ORDER BY 1"),
			texts(t, db, "SELECT concat_ws('|', id, md5(photo), md5(note), n) FROM photos ORDER BY 1"))
	}
	if !same() {
		t.Fatal("the load differs")
	}
	exec1(t, p.sourceURL(), `INSERT INTO marsh.photos SELECT 2, decode(repeat('00ff5c27', 220000), 'hex'),
  repeat('''\', 200000), 2;
UPDATE marsh.photos SET photo = decode(repeat('5c27', 400000), 'hex'), note = repeat('''\', 300000) WHERE id = 1;
  INSERT INTO marsh.photos SELECT g, decode(repeat('5c', 100000), 'hex'), 'x', g FROM generate_series(10, 40) g`)
	eventually(t, 30*time.Second, same)
	exec1(t, p.sourceURL(), `INSERT INTO marsh.photos SELECT 3, decode(repeat('00ff5c27', 900000), 'hex'), 'large', 3`)
	f.await(30*time.Second, "held", func(c contract.Crossing) bool {
		return c.Condition == contract.ConditionHeld && strings.Contains(c.Reason, "photos") &&
			strings.Contains(c.Reason, "SET GLOBAL max_allowed_packet = ")
	})
	maria(t, db, "SET GLOBAL max_allowed_packet = 16777216")
	f.must("crossing", "resume", "spring")
	eventually(t, 30*time.Second, same)
}

// TestKeysOfFloats are found on a MariaDB target, where a number of four bytes is compared in
// eight: rows by such keys are changed, moved and removed like others.
func TestKeysOfFloats(t *testing.T) {
	for _, from := range []string{"mariadb", "postgres"} {
		t.Run(from, func(t *testing.T) {
			f := start(t)
			source, target := f.sideOf(from, "old"), f.sideOf("mariadb", "new")
			source.exec("CREATE TABLE scales (weight " + map[string]string{"mariadb": "float", "postgres": "real"}[from] +
				" PRIMARY KEY, n int)")
			insert := map[string]string{"mariadb": "INSERT INTO scales SELECT seq / 3, seq FROM seq_%d_to_%d",
				"postgres": "INSERT INTO scales SELECT g / 3.0, g FROM generate_series(%d, %d) g"}[from]
			source.exec(fmt.Sprintf(insert, 1, 2000))
			if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
				contract.NewCrossing{Name: "spring", Source: "old", Target: "new",
					Settings: &contract.Settings{InStepDwellSeconds: ptr(0.2), ChunkBytes: ptr(int64(64 << 10))}})); err != nil {
				t.Fatal(err)
			}
			f.startCrossing()
			f.awaitPhase(contract.PhaseInStep)
			source.exec("DELETE FROM scales WHERE n % 3 = 1;\nUPDATE scales SET n = -n WHERE n % 3 = 2;\nUPDATE scales SET " +
				"weight = weight + 10000 WHERE n > 1900")
			source.exec(fmt.Sprintf(insert, 5001, 5100))
			const q = "SELECT concat(n, ' ', round(weight)) FROM scales ORDER BY n"
			eventually(t, 30*time.Second, func() bool { return slices.Equal(source.texts(q), target.texts(q)) })
			if r := f.reconcile(contract.NewReconciliationDepthHashes); r.Findings != 0 {
				t.Errorf("%d findings", r.Findings)
			}
		})
	}
}

// TestATargetThatTakesNothingForAWhile: a MariaDB target that is read-only is waited for, by
// the load and by capture; neither counts it as a fault of the rows.
func TestATargetThatTakesNothingForAWhile(t *testing.T) {
	f, p := start(t), newPair(t)
	name, db := newMaria(t)
	exec1(t, p.sourceURL(), "CREATE SCHEMA marsh; CREATE TABLE marsh.hives (id int PRIMARY KEY, n int); INSERT INTO "+
		"marsh.hives SELECT g, g FROM generate_series(1, 20000) g")
	f.register("old", servers.source, p.source)
	f.registerMaria("new", name, db, targetRights(name)...)
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new",
			Settings: &contract.Settings{InStepDwellSeconds: ptr(0.2), ChunkBytes: ptr(int64(64 << 10))}})); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _, _ = db.Exec("SET GLOBAL read_only = OFF") })
	closed := func(work func()) {
		t.Helper()
		maria(t, db, "SET GLOBAL read_only = ON")
		work()
		for until := time.Now().Add(6 * time.Second); time.Now().Before(until); time.Sleep(300 * time.Millisecond) {
			if c := f.show(); c.Condition == contract.ConditionHeld {
				t.Fatalf("held: %s", c.Reason)
			}
		}
		maria(t, db, "SET GLOBAL read_only = OFF")
	}
	f.must("crossing", "set", "spring", "--speed-limit", "20KB")
	f.startCrossing()
	f.awaitPhase(contract.PhaseLoading)
	closed(func() {})
	f.must("crossing", "set", "spring", "--speed-limit", "0")
	f.awaitPhase(contract.PhaseInStep)
	closed(func() {
		exec1(t, p.sourceURL(), "UPDATE marsh.hives SET n = -n WHERE id % 2 = 0; DELETE FROM marsh.hives WHERE id % 7 = 0")
	})
	eventually(t, time.Minute, func() bool {
		return one[string](t, p.sourceURL(), "SELECT count(*) || ' ' || sum(n) FROM marsh.hives") == texts(t, db,
			"SELECT concat(count(*), ' ', sum(n)) FROM hives")[0]
	})
}

// TestComputedColumnsBeforeTheKey: where a key stands in a row of the log is not where it stands
// among the columns that are written.
func TestComputedColumnsBeforeTheKey(t *testing.T) {
	for _, engine := range []string{"mariadb", "postgres"} {
		t.Run(engine, func(t *testing.T) {
			f := start(t)
			source, target := f.sideOf(engine, "old"), f.sideOf(engine, "new")
			source.exec("CREATE TABLE combs (tag int GENERATED ALWAYS AS (weight * 0) STORED, id int PRIMARY KEY, " +
				"wax int GENERATED ALWAYS AS (weight + 1) STORED, weight int NOT NULL, note varchar(20))")
			source.exec("INSERT INTO combs (id, weight, note) VALUES (1, 10, 'a'), (2, 20, 'b'), (3, 30, 'c'), (4, 40, 'd')")
			if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
				contract.NewCrossing{Name: "spring", Source: "old", Target: "new",
					Settings: &contract.Settings{InStepDwellSeconds: ptr(0.2)}})); err != nil {
				t.Fatal(err)
			}
			f.startCrossing()
			f.awaitPhase(contract.PhaseInStep)
			source.exec("UPDATE combs SET weight = weight + 1 WHERE id < 3;\nDELETE FROM combs WHERE id = 3;\n" +
				"UPDATE combs SET id = 14 WHERE id = 4;\nINSERT INTO combs (id, weight, note) VALUES (5, 50, 'e'), (6, 60, NULL)")
			const q = "SELECT concat(tag, ' ', id, ' ', wax, ' ', weight, ' ', coalesce(note, '-')) FROM combs ORDER BY id"
			eventually(t, 30*time.Second, func() bool { return slices.Equal(source.texts(q), target.texts(q)) })
			if r := f.reconcile(contract.NewReconciliationDepthHashes); r.Findings != 0 {
				t.Errorf("%d findings", r.Findings)
			}
		})
	}
}
