package test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// Equal, or told: what ordinary servers and applications do, and what it did to rows once.

const largeNote = "repeat(md5(g::text), 120)" // kept out of line, so that updates leave it unsaid

// TestNothingIsLostInSilence brings every kind of change that once lost rows through one
// crossing, during the load and after it, to the same rows, the same objects and a source that
// takes no write by any way.
func TestNothingIsLostInSilence(t *testing.T) {
	p := newPair(t)
	source := p.sourceURL()
	exec1(t, source, `
CREATE EXTENSION citext; CREATE SCHEMA marsh; CREATE COLLATION marsh.own (provider = icu, locale = 'en-u-kn-true');
CREATE DOMAIN marsh.code AS text; ALTER DOMAIN marsh.code ADD CONSTRAINT short CHECK (length(VALUE) < 3) NOT VALID;
CREATE TABLE marsh.deeds (key text PRIMARY KEY, n int); ALTER TABLE marsh.deeds ALTER key SET STORAGE EXTERNAL;
CREATE TABLE marsh.moved (id int PRIMARY KEY, n int, note text); ALTER TABLE marsh.moved ALTER note
  SET STORAGE EXTERNAL;
CREATE TABLE marsh.parts (id int PRIMARY KEY, n int, note text) PARTITION BY RANGE (id);
  ALTER TABLE marsh.parts ALTER note SET STORAGE EXTERNAL;
CREATE TABLE marsh.parts_a PARTITION OF marsh.parts FOR VALUES FROM (0) TO (100);
  CREATE TABLE marsh.parts_b PARTITION OF marsh.parts FOR VALUES FROM (100) TO (1000);
ALTER TABLE marsh.parts_a ALTER note SET STORAGE EXTERNAL; ALTER TABLE marsh.parts_b ALTER note SET STORAGE EXTERNAL;
ALTER TABLE marsh.parts REPLICA IDENTITY FULL; ALTER TABLE marsh.parts_b REPLICA IDENTITY NOTHING;
  CREATE INDEX ON marsh.parts (n);
CREATE TABLE marsh.pegs (id int PRIMARY KEY, slot int UNIQUE, note text,
  no bigint GENERATED ALWAYS AS IDENTITY (START -10 INCREMENT -2 MINVALUE -90000 MAXVALUE -1 CACHE 5 CYCLE));
ALTER TABLE marsh.pegs ALTER note SET STORAGE EXTERNAL;
CREATE TABLE marsh.words (w citext, k int, blanks bpchar, own text COLLATE marsh.own, code marsh.code, PRIMARY KEY (w,
  k));
CREATE TABLE marsh.keepers (id int PRIMARY KEY, n int);
  CREATE TABLE marsh.visits (id int PRIMARY KEY, keeper int REFERENCES marsh.keepers (id));
CREATE TABLE marsh.late (id int PRIMARY KEY DEFERRABLE, n int);
  CREATE UNIQUE INDEX late_n ON marsh.late (id) INCLUDE (n);
INSERT INTO marsh.deeds SELECT 'D' || g || repeat(md5(g::text), 70), g FROM generate_series(1, 60) g;
INSERT INTO marsh.moved SELECT g, g, `+largeNote+` FROM generate_series(1, 300) g;
INSERT INTO marsh.parts SELECT g, g, `+largeNote+` FROM generate_series(1, 300) g;
INSERT INTO marsh.pegs (id, slot, note) SELECT g, g, `+largeNote+` FROM generate_series(1, 300) g;
INSERT INTO marsh.words SELECT 'Word' || g, g, 'x' || g || '   ', 'n' || g, 'c' || g % 10
  FROM generate_series(1, 3000) g;
INSERT INTO marsh.keepers SELECT g, g FROM generate_series(1, 3000) g; INSERT INTO marsh.visits SELECT g, g
  FROM generate_series(1, 3000) g;
INSERT INTO marsh.late SELECT g, g FROM generate_series(1, 300) g;
ALTER TABLE marsh.keepers ADD CONSTRAINT few CHECK (n < 100) NOT VALID`)
	// What the target's own triggers say row by row must not stop it either.
	changes := func(n int) []string {
		return []string{
			fmt.Sprintf("UPDATE marsh.deeds SET n = n + 1000 WHERE n %% 5 = %d", n%5),
			fmt.Sprintf("BEGIN; UPDATE marsh.moved SET id = id + 10000 WHERE id %% 7 = %[1]d AND id < 10000; UPDATE "+
				"marsh.moved SET id = id + 10000, n = -%[1]d WHERE id BETWEEN 10000 AND 19999; COMMIT", n%7),
			fmt.Sprintf("UPDATE marsh.parts SET n = -n WHERE id %% 3 = %d", n%3),
			"UPDATE marsh.parts SET id = id + 500 WHERE id < 20",
			"BEGIN; UPDATE marsh.pegs SET slot = -slot WHERE id IN (1, 2); UPDATE marsh.pegs SET slot = 3 + slot WHERE id IN " +
				"(1, 2); COMMIT",
			fmt.Sprintf("UPDATE marsh.pegs SET id = -id WHERE id = %d", 100+n),
			fmt.Sprintf("UPDATE marsh.words SET w = upper(w::text), blanks = 'y  ' WHERE k %% 11 = %d", n%11),
			fmt.Sprintf("BEGIN; SAVEPOINT s; DELETE FROM marsh.words; ROLLBACK TO s; DELETE FROM marsh.words WHERE k "+
				"= %d; COMMIT", 2000+n),
			"TRUNCATE marsh.visits, marsh.keepers",
			fmt.Sprintf("INSERT INTO marsh.keepers VALUES (%d, 5); INSERT INTO marsh.visits VALUES (%[1]d, %[1]d)", 9000+n),
			fmt.Sprintf("SET session_replication_role = replica; UPDATE marsh.late SET n = -n WHERE id %% 4 = %d", n%4),
		}
	}
	f := start(t)
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(64_000)), Lanes: ptr(2), SpeedLimit: ptr(int64(2_000_000)),
		InStepDwellSeconds: ptr(0.2), PauseBudgetSeconds: ptr(60.0)})
	f.startCrossing()
	for n := range 6 {
		for _, sql := range changes(n) {
			exec1(t, source, sql)
		}
	}
	f.awaitPhase(contract.PhaseInStep)
	for n := range 4 {
		for _, sql := range changes(10 + n) {
			exec1(t, source, sql)
		}
	}
	var k contract.Cutover
	eventually(t, time.Minute, func() bool { // a deadlock of a TRUNCATE and a comparison ends capture for a second
		k = f.cutOver(false, contract.Settings{CutoverDepth: ptr(contract.SettingsCutoverDepthHashes)})
		return !strings.Contains(k.Error, "capture does not run")
	})
	if k.State != contract.CutoverStateDone {
		f.story()
		t.Fatalf("the cutover ended %s: %s", k.State, k.Error)
	}
	sameEverywhere(t, p, "marsh")
	for what, q := range map[string]string{
		"the identity's counter": "SELECT row(start_value, min_value, max_value, increment_by, cycle, cache_size)::text " +
			"FROM pg_sequences WHERE schemaname = 'marsh'",
		"a rule that rows break": "SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conname = 'few'",
		"the deferrable key":     "SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conname = 'late_pkey'",
		"the partitions' index": "SELECT count(*) || ' ' || bool_and(indisvalid) FROM pg_index i JOIN pg_class c ON c.oid " +
			"= i.indrelid WHERE c.relname LIKE 'parts%'",
	} {
		if a, b := one[string](t, source, q), one[string](t, p.targetURL(), q); a != b {
			t.Errorf("%s: %s on the source, %s on the target", what, a, b)
		}
	}
	if no := one[int64](t, p.targetURL(),
		"INSERT INTO marsh.pegs (id, slot) VALUES (-1, 1000000) RETURNING no"); no >= one[int64](t, source,
		"SELECT min(no) FROM marsh.pegs") {
		t.Errorf("the next number is %d", no)
	}
	refusesWrites(t, source, "marsh.parts", "marsh.parts_a", "marsh.parts_b", "marsh.deeds")
}

// refusesWrites tries to write to tables of a closed source by every way.
func refusesWrites(t *testing.T, source string, tables ...string) {
	t.Helper()
	c := connect(t, source)
	for _, table := range tables {
		for _, role := range []string{"origin", "replica"} {
			for _, sql := range []string{"INSERT INTO %s SELECT * FROM %[1]s LIMIT 0", "UPDATE %s SET n = n WHERE false",
				"DELETE FROM %s WHERE false", "TRUNCATE %s"} {
				if _, err := c.Exec(t.Context(), "BEGIN READ WRITE; SET LOCAL session_replication_role = "+role); err != nil {
					t.Fatal(err)
				}
				_, err := c.Exec(t.Context(), fmt.Sprintf(sql, table))
				if said := new(pgconn.PgError); !errors.As(err, &said) || !strings.Contains(said.Message, "moved to database") {
					t.Errorf("%s in the role %s: %v", fmt.Sprintf(sql, table), role, err)
				}
				_, _ = c.Exec(t.Context(), "ROLLBACK")
			}
		}
	}
}

// TestReadOnlyIsClosedForGood: the method leaves nothing open to a transaction that asks for
// more, and what is undone opens the sessions that came meanwhile.
func TestReadOnlyIsClosedForGood(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), "CREATE SCHEMA marsh; CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int); INSERT INTO "+
		"marsh.deeds SELECT g, g FROM generate_series(1, 100) g")
	f := start(t)
	set := contract.Settings{StopMethod: ptr(contract.ReadOnly), InStepDwellSeconds: ptr(0.2),
		PauseBudgetSeconds: ptr(60.0)}
	f.cross(p, set)
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if k := f.cutOver(true, set); k.State != contract.CutoverStateDone {
		t.Fatalf("the rehearsal ended %s: %s", k.State, k.Error)
	}
	exec1(t, p.sourceURL(), "UPDATE marsh.deeds SET n = 0 WHERE id = 1")
	if k := f.cutOver(false, set); k.State != contract.CutoverStateDone {
		f.story()
		t.Fatalf("the cutover ended %s: %s", k.State, k.Error)
	}
	refusesWrites(t, p.sourceURL(), "marsh.deeds")
}

// TestANoticeAmidRowsEndsNothing: a function that chooses rows has something to say.
func TestANoticeAmidRowsEndsNothing(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE SCHEMA marsh; CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int);
  INSERT INTO marsh.deeds SELECT g, g FROM generate_series(1, 20000) g;
CREATE FUNCTION marsh.chosen(n int) RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN IF n % 777 = 5 THEN RAISE INFO 'a word about %', n; END IF; RETURN n % 2 = 0; END $$`)
	exec1(t, p.targetURL(), `CREATE SCHEMA marsh; CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int);
CREATE FUNCTION marsh.talk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE INFO 'a row came %, %', NEW.id,
  repeat('word ', 200); RETURN NEW; END $$;
CREATE TRIGGER talk BEFORE INSERT ON marsh.deeds FOR EACH ROW EXECUTE FUNCTION marsh.talk();
  ALTER TABLE marsh.deeds ENABLE ALWAYS TRIGGER talk`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	c := contract.NewCrossing{Name: "spring", Source: "old", Target: "new", FollowChanges: ptr(false),
		Tables:   &[]string{"marsh.deeds"},
		Rules:    &[]contract.Rule{{Tables: "marsh.deeds", Where: ptr("marsh.chosen(n)")}},
		Settings: &contract.Settings{ChunkBytes: ptr(int64(256_000)), Lanes: ptr(2)}}
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(), c)); err != nil {
		t.Fatal(err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if n := one[int](t, p.targetURL(), "SELECT count(*) FROM marsh.deeds"); n != 10_000 {
		t.Errorf("%d of 10000 rows arrived", n)
	}
}

// held waits until a crossing is held, and wants words in the reason.
func (f *ferry) held(words ...string) {
	f.t.Helper()
	c := f.await(90*time.Second, "held", func(c contract.Crossing) bool { return c.Condition == contract.ConditionHeld })
	for _, w := range words {
		if !strings.Contains(c.Reason, w) {
			f.t.Errorf("held, but without a word of %q: %s", w, c.Reason)
		}
	}
}

func (f *ferry) small(p pair) {
	f.t.Helper()
	exec1(f.t, p.sourceURL(), "CREATE SCHEMA marsh; CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int); INSERT INTO "+
		"marsh.deeds SELECT g, g FROM generate_series(1, 500) g")
	f.cross(p, contract.Settings{InStepDwellSeconds: ptr(0.2), PauseBudgetSeconds: ptr(60.0)})
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
}

// TestAnotherTableOfTheName: the swap of a rebuilt table. What is written to the new one is
// in no publication; after a restart it is.
func TestAnotherTableOfTheName(t *testing.T) {
	f, p := start(t), newPair(t)
	f.small(p)
	exec1(t, p.sourceURL(), "BEGIN; CREATE TABLE marsh.fresh (LIKE marsh.deeds INCLUDING ALL); INSERT INTO marsh.fresh "+
		"SELECT id, -n FROM marsh.deeds; ALTER TABLE marsh.deeds RENAME TO deeds_old; ALTER TABLE marsh.fresh RENAME TO "+
		"deeds; COMMIT")
	if _, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), "spring",
		contract.NewCutover{Confirm: ptr("spring")})); err == nil {
		t.Error("the cutover began")
	}
	f.held("marsh.deeds", "restart")
	f.must("crossing", "restart", "spring", "--table", "marsh.deeds", "--confirm", "marsh.deeds")
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.sourceURL(), "DROP TABLE marsh.deeds_old; UPDATE marsh.deeds SET n = 7 WHERE id < 50; DELETE FROM "+
		"marsh.deeds WHERE id = 99")
	eventually(t, 30*time.Second, func() bool {
		return one[int](t, p.targetURL(), "SELECT count(*) FROM marsh.deeds WHERE n = 7") == 49 &&
			f.show().Phase == contract.PhaseInStep
	})
	sameEverywhere(t, p, "marsh")
}

// TestAPartitionThatIsEmptied sends nothing; the file it was in tells.
func TestAPartitionThatIsEmptied(t *testing.T) {
	f, p := start(t), newPair(t)
	exec1(t, p.sourceURL(), `CREATE SCHEMA marsh; CREATE TABLE marsh.parts (id int PRIMARY KEY, n int)
  PARTITION BY RANGE (id);
CREATE TABLE marsh.parts_a PARTITION OF marsh.parts FOR VALUES FROM (0) TO (100);
  CREATE TABLE marsh.parts_b PARTITION OF marsh.parts FOR VALUES FROM (100) TO (1000);
INSERT INTO marsh.parts SELECT g, g FROM generate_series(1, 500) g;
CREATE TABLE marsh.loose (id int, n int) PARTITION BY RANGE (id);
  CREATE TABLE marsh.loose_a PARTITION OF marsh.loose FOR VALUES FROM (0) TO (100);
INSERT INTO marsh.loose SELECT g, g FROM generate_series(1, 50) g`)
	set := contract.Settings{InStepDwellSeconds: ptr(0.2), CutoverDepth: ptr(contract.SettingsCutoverDepthNone),
		PauseBudgetSeconds: ptr(60.0)}
	f.cross(p, set)
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.sourceURL(), "TRUNCATE marsh.parts_a; TRUNCATE marsh.loose_a; CREATE TABLE marsh.loose_b PARTITION OF "+
		"marsh.loose FOR VALUES FROM (100) TO (200)")
	if _, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), "spring",
		contract.NewCutover{Confirm: ptr("spring"), Settings: &set})); err == nil {
		t.Error("the cutover began")
	} else {
		refusedWith(t, err, "marsh.parts")
	}
	f.await(30*time.Second, "compared", func(contract.Crossing) bool {
		return told(f.journalOf("reconcile"), "reconciliation", "ended", "finding")
	})
	f.must("crossing", "restart", "spring", "--table", "marsh.parts", "--confirm", "marsh.parts")
	f.must("crossing", "restart", "spring", "--table", "marsh.loose", "--confirm", "marsh.loose")
	f.awaitPhase(contract.PhaseInStep)
	// What only moved its rows is found alike, and stands in nobody's way.
	exec1(t, p.sourceURL(), "VACUUM FULL marsh.parts_b")
	eventually(t, 90*time.Second, func() bool {
		_, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), "spring",
			contract.NewCutover{Confirm: ptr("spring"), Settings: &set}))
		if err != nil {
			return false
		}
		k := f.cutOverEnd() // its last look may be the first to see it
		return k.State == contract.CutoverStateDone
	})
	sameEverywhere(t, p, "marsh")
	f.must("crossing", "close", "spring", "--confirm", "spring", "--reopen-source", "--wait")
	if left := one[string](t, p.sourceURL(), "SELECT coalesce(string_agg(relname || ' ' || relreplident::text, ', '), "+
		"'') FROM pg_class WHERE relnamespace = 'marsh'::regnamespace AND relkind IN ('r', 'p') "+
		"AND relreplident <> 'd'"); left != "" {
		t.Errorf("row identities are not as they were: %s", left)
	}
}

// TestAPartitionThatComes is made on the target before its first row, and takes no writes of others there.
func TestAPartitionThatComes(t *testing.T) {
	f, p := start(t), newPair(t)
	exec1(t, p.sourceURL(), `CREATE SCHEMA marsh; CREATE TABLE marsh.parts (id int PRIMARY KEY, n int)
  PARTITION BY RANGE (id); CREATE TABLE marsh.parts_a PARTITION OF marsh.parts FOR VALUES FROM (0) TO (100);
INSERT INTO marsh.parts SELECT g, g FROM generate_series(1, 50) g`)
	f.cross(p, contract.Settings{InStepDwellSeconds: ptr(0.2), GuardTarget: ptr(contract.SettingsGuardTargetRefuse),
		ColumnChanges: ptr(contract.SettingsColumnChangesCarry)})
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.sourceURL(), `CREATE TABLE marsh."Parts b" PARTITION OF marsh.parts FOR VALUES FROM (100) TO (200);
INSERT INTO marsh.parts SELECT g, g FROM generate_series(101, 150) g`)
	eventually(t, 2*time.Minute, func() bool { return told(f.journalOf("guard"), `marsh."Parts b" are refused now too`) })
	exec1(t, dbURL(servers.target, p.target), `DO $$ BEGIN INSERT INTO marsh."Parts b" VALUES (199, 1); RAISE 'it was taken';
EXCEPTION WHEN read_only_sql_transaction THEN NULL; END $$`)
	eventually(t, 2*time.Minute, func() bool {
		return one[int](t, p.targetURL(), "SELECT count(*) FROM marsh.parts") == 100
	})
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		t.Errorf("%+v", r)
	}
}

// TestATargetThatWasSetBack has lost what was confirmed: the source would pass it over.
func TestATargetThatWasSetBack(t *testing.T) {
	f, p := start(t), newPair(t)
	f.small(p)
	before := one[string](t, p.targetURL(), "SELECT position::text FROM dusty_ferry.stream")
	exec1(t, p.sourceURL(), "UPDATE marsh.deeds SET n = -n")
	eventually(t, 20*time.Second, func() bool {
		return one[int](t, p.targetURL(), "SELECT count(*) FROM marsh.deeds WHERE n < 0") == 500
	})
	eventually(t, 20*time.Second, func() bool {
		return one[bool](t, p.sourceURL(), "SELECT bool_and(confirmed_flush_lsn - '0/0'::pg_lsn > $1::text::numeric) FROM "+
			"pg_replication_slots WHERE database = current_database()", before)
	})
	f.svc.Stop()
	exec1(t, p.targetURL(), "UPDATE dusty_ferry.stream SET position = $1::text::numeric", before)
	f.again()
	f.held("lost what it had committed", "restart")
	f.must("crossing", "restart", "spring", "--all", "--confirm", "spring")
	// It is in step still when the restart has only been asked for.
	eventually(t, 60*time.Second, func() bool {
		n := 0
		for _, e := range f.journalOf("load") {
			if strings.HasPrefix(e.Message, "the load begins") {
				n++
			}
		}
		return n == 2
	})
	f.awaitPhase(contract.PhaseInStep)
	sameEverywhere(t, p, "marsh")
	f.svc.Stop()
	exec1(t, p.targetURL(), "DELETE FROM dusty_ferry.chunk_mark")
	f.again()
	f.held("lost chunks of marsh.deeds")
}

// TestAPartialPublicationIsRefused, as what it leaves out would be lost without a word.
func TestAPartialPublicationIsRefused(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), "CREATE SCHEMA marsh; CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int); CREATE "+
		"PUBLICATION partial FOR TABLE marsh.deeds WHERE (id > 5)")
	exec1(t, p.sourceURL(), "SELECT pg_create_logical_replication_slot('partial', 'pgoutput')")
	defer exec1(t, p.sourceURL(), "SELECT pg_drop_replication_slot('partial')")
	exec1(t, p.targetURL(), "CREATE SCHEMA marsh; CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int)")
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	c := contract.NewCrossing{Name: "spring", Source: "old", Target: "new", CopyRows: ptr(false),
		Settings: &contract.Settings{Slot: ptr("partial"), ExistingRows: ptr(contract.SettingsExistingRowsKeep)}}
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(), c)); err != nil {
		refusedWith(t, err, "some rows")
		return
	}
	if _, err := client.Do[contract.Crossing](f.API.StartCrossingWithResponse(t.Context(), "spring",
		contract.StartCrossingJSONRequestBody{})); err != nil {
		refusedWith(t, err, "some rows")
		return
	}
	f.held("some rows")
}

// TestTheSurveyListsWhatIsNotCarried: every object, and what would fail the start.
func TestTheSurveyListsWhatIsNotCarried(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE SCHEMA marsh; CREATE FUNCTION marsh.made() RETURNS int LANGUAGE sql AS 'SELECT 1';
CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int DEFAULT marsh.made()) WITH (fillfactor = 70);
  ALTER TABLE marsh.deeds ENABLE ROW LEVEL SECURITY; CREATE POLICY few ON marsh.deeds USING (n > 3);
CREATE RULE loud AS ON DELETE TO marsh.deeds DO ALSO NOTIFY deeds; CREATE STATISTICS marsh.pair ON id, n
  FROM marsh.deeds; CREATE AGGREGATE marsh.total (int) (SFUNC = int4pl, STYPE = int);
CREATE UNLOGGED TABLE marsh.scratch (id int PRIMARY KEY); CREATE TABLE marsh.child () INHERITS (marsh.deeds);
  CREATE FUNCTION marsh.seen() RETURNS event_trigger LANGUAGE plpgsql AS 'BEGIN END';
  CREATE EVENT TRIGGER watch ON ddl_command_end EXECUTE FUNCTION marsh.seen()`)
	f := start(t)
	f.cross(p, contract.Settings{}, "marsh.*", "-marsh.child")
	list, err := client.Do[[]contract.Entry](f.API.SurveyCrossingWithResponse(t.Context(), "spring"))
	if err != nil {
		t.Fatal(err)
	}
	has := func(verdict contract.Verdict, words ...string) {
		t.Helper()
		for _, e := range list {
			all := e.Verdict == verdict
			for _, w := range words {
				all = all && strings.Contains(e.Topic+" "+e.Subject+" "+e.Measured+" "+deref(e.Remedy), w)
			}
			if all {
				return
			}
		}
		t.Errorf("the survey has no word (%s) of %q", verdict, words)
	}
	has(contract.Blocker, "unlogged", "marsh.scratch", "SET LOGGED")
	has(contract.Blocker, "marsh.made()", "CREATE OR REPLACE FUNCTION", "marsh.deeds")
	has(contract.Blocker, "inheritance", "marsh.child")
	for _, words := range [][]string{{"rule", "CREATE RULE loud"}, {"policy", "CREATE POLICY few", "USING ((n > 3))"},
		{"statistics object", "CREATE STATISTICS marsh.pair"}, {"aggregate", "marsh.total"},
		{"row security", "marsh.deeds"}, {"fillfactor=70"}, {"event trigger", "watch"}} {
		has(contract.Notice, words...)
	}
}

// TestARolledBackPartOfALargeTransaction: servers stream what was rolled back before they came
// to decode it, and do not always say so.
func TestARolledBackPartOfALargeTransaction(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), "CREATE SCHEMA marsh; CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int, t text); ALTER "+
		"TABLE marsh.deeds ALTER t SET STORAGE EXTERNAL")
	f := start(t)
	f.cross(p, contract.Settings{InStepDwellSeconds: ptr(0.2)})
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	f.svc.Stop()
	const rows = "INSERT INTO marsh.deeds SELECT g, g, repeat(md5(g::text), 70) FROM generate_series(%d, %d) g;"
	exec1(t, p.sourceURL(), "BEGIN;"+fmt.Sprintf(rows, 1, 20000)+"SAVEPOINT s;"+fmt.Sprintf(rows, 20001, 40000)+
		`SAVEPOINT inner_s; UPDATE marsh.deeds SET n = -1 WHERE id % 100 = 7; RELEASE inner_s; ROLLBACK TO s;
UPDATE marsh.deeds SET n = 0 WHERE id % 1000 = 3; SAVEPOINT kept; DELETE FROM marsh.deeds WHERE id % 500 = 9; RELEASE kept; COMMIT`)
	f.again()
	settle(t, f)
	sameEverywhere(t, p, "marsh")
	if n := one[int](t, p.targetURL(), "SELECT count(*) FROM marsh.deeds"); n != 20_000-40 {
		t.Errorf("%d rows", n)
	}
}

// TestActsOfTheTargetsOwn: onto rows that are there, with a role that may not keep them
// quiet, the target's foreign keys and triggers would change further rows.
func TestActsOfTheTargetsOwn(t *testing.T) {
	p := newPair(t)
	const tables = `CREATE SCHEMA marsh; CREATE TABLE marsh.hives (id int PRIMARY KEY, n int);
  CREATE TABLE marsh.frames (id int PRIMARY KEY, hive int REFERENCES marsh.hives ON DELETE CASCADE);`
	exec1(t, p.sourceURL(), tables)
	user := "plain_" + p.target
	exec1(t, p.targetURL(), tables+fmt.Sprintf(`CREATE ROLE %[1]s LOGIN PASSWORD 'reed';
  GRANT CREATE ON DATABASE %[2]s TO %[1]s; GRANT ALL ON SCHEMA marsh TO %[1]s; ALTER TABLE marsh.hives OWNER TO %[1]s;
  ALTER TABLE marsh.frames OWNER TO %[1]s`, user, p.target))
	f := start(t)
	f.register("old", servers.source, p.source)
	disable := contract.Disable
	if _, err := client.Do[contract.Database](f.API.AddDatabaseWithResponse(t.Context(), contract.NewDatabase{Name: "new",
		Engine: "postgres", Host: servers.target.Host, Port: servers.target.Port, Database: p.target, User: user,
		Password: "reed", Tls: &disable})); err != nil {
		t.Fatal(err)
	}
	c := contract.NewCrossing{Name: "spring", Source: "old", Target: "new", CopyRows: ptr(false),
		Tables: &[]string{"marsh.*"}}
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(), c)); err != nil {
		t.Fatal(err)
	}
	survey := f.cli("survey", "spring").out
	for _, w := range []string{"triggers and foreign keys", `foreign key "frames_hive_fkey" of marsh.frames`,
		"GRANT SET ON PARAMETER session_replication_role"} {
		if !strings.Contains(strings.Join(strings.Fields(survey), " "), w) {
			t.Errorf("the survey has no word of %q: %s", w, survey)
		}
	}
	f.startCrossing()
	f.held("may not keep the target's own acts quiet", "frames_hive_fkey")
	exec1(t, dbURL(servers.target, "postgres"), "GRANT SET ON PARAMETER session_replication_role TO "+user)
	f.must("crossing", "resume", "spring")
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.sourceURL(), "INSERT INTO marsh.hives VALUES (1, 1), (2, 2); INSERT INTO marsh.frames VALUES (1, 1), (2, "+
		"2); UPDATE marsh.hives SET n = 5 WHERE id = 1; DELETE FROM marsh.hives WHERE id = 2")
	settle(t, f)
	sameEverywhere(t, p, "marsh")
}

// TestAWaitThatStandsIsSaid: what waits for a lock of somebody's says so, is taken down, and
// comes through when the lock is gone.
func TestAWaitThatStandsIsSaid(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), "CREATE SCHEMA marsh; CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int); INSERT INTO "+
		"marsh.deeds SELECT g, g FROM generate_series(1, 500) g; CREATE TABLE marsh.other (id int PRIMARY KEY); INSERT "+
		"INTO marsh.other SELECT generate_series(1, 500)")
	exec1(t, p.targetURL(), "CREATE SCHEMA marsh; CREATE TABLE marsh.deeds (id int PRIMARY KEY, n int)")
	lock := func() func() {
		conn, err := pgx.Connect(t.Context(), p.targetURL())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := conn.Exec(t.Context(), "BEGIN; LOCK TABLE marsh.deeds IN SHARE MODE"); err != nil {
			t.Fatal(err)
		}
		return func() { _ = conn.Close(t.Context()) }
	}
	f := start(t)
	f.set.StuckAfter = 2 * time.Second
	f.svc.Stop()
	f.again()
	f.cross(p, contract.Settings{InStepDwellSeconds: ptr(0.2)}, "marsh.*")
	free := lock()
	f.startCrossing()
	said := func(act, words string) {
		t.Helper()
		eventually(t, time.Minute, func() bool {
			return slices.ContainsFunc(f.journalOf(act), func(e contract.JournalEntry) bool {
				return strings.Contains(e.Message, words) && strings.Contains(e.Message, "waits for a lock that session")
			})
		})
	}
	said("chunk", "of marsh.deeds was taken down and will be tried again: nothing has moved for")
	eventually(t, time.Minute, func() bool { // and it held back no other table
		return one[int](t, p.targetURL(), "SELECT count(*) FROM marsh.other") == 500
	})
	free()
	f.awaitPhase(contract.PhaseInStep)
	free = lock()
	exec1(t, p.sourceURL(), "UPDATE marsh.deeds SET n = n + 1")
	said("capture", "the target does not end a statement of ours")
	free()
	settle(t, f)
	sameEverywhere(t, p, "marsh")
}

// TestAPreparationThatIsRepeated keeps what tables were before its first attempt: the second
// finds its own row identities there.
func TestAPreparationThatIsRepeated(t *testing.T) {
	f, p := start(t), newPair(t)
	exec1(t, p.sourceURL(), `CREATE SCHEMA marsh; CREATE TABLE marsh.loose (id int, n text); INSERT INTO marsh.loose
  SELECT g, g FROM generate_series(1, 500) g`)
	f.cross(p, contract.Settings{InStepDwellSeconds: ptr(0.2)})
	open := connect(t, p.sourceURL()) // the slot waits for its end
	if _, err := open.Exec(t.Context(), "BEGIN; CREATE TABLE public.later (id int)"); err != nil {
		t.Fatal(err)
	}
	f.startCrossing()
	const making = "FROM pg_stat_activity WHERE query LIKE '%pg_create_logical_replication_slot%' AND datname = " +
		"current_database() AND pid <> pg_backend_pid()"
	eventually(t, 30*time.Second, func() bool { return one[int](t, p.sourceURL(), "SELECT count(*) "+making) == 1 })
	exec1(t, p.sourceURL(), "SELECT pg_terminate_backend(pid) "+making)
	eventually(t, 30*time.Second, func() bool { return one[int](t, p.sourceURL(), "SELECT count(*) "+making) == 1 })
	if _, err := open.Exec(t.Context(), "COMMIT"); err != nil {
		t.Fatal(err)
	}
	f.awaitPhase(contract.PhaseInStep)
	f.must("crossing", "pause", "spring")
	f.must("crossing", "close", "spring", "--confirm", "spring", "--wait")
	if now := one[string](t, p.sourceURL(),
		"SELECT relreplident::text FROM pg_class WHERE oid = 'marsh.loose'::regclass"); now != "d" {
		t.Errorf("the row identity is %s, it was d", now)
	}
}

// TestTablesThatInheritAreNoPartitions are left as they were when their parent's row identity
// is seen to.
func TestTablesThatInheritAreNoPartitions(t *testing.T) {
	f, p := start(t), newPair(t)
	exec1(t, p.sourceURL(), `CREATE SCHEMA marsh; CREATE TABLE marsh.hives (id int PRIMARY KEY DEFERRABLE, n int);
  INSERT INTO marsh.hives SELECT g, g FROM generate_series(1, 50) g;
CREATE TABLE marsh.kid (PRIMARY KEY (id)) INHERITS (marsh.hives); INSERT INTO marsh.kid SELECT g, g
  FROM generate_series(100, 150) g`)
	f.cross(p, contract.Settings{InStepDwellSeconds: ptr(0.2)})
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	identities := func() string {
		return one[string](t, p.sourceURL(), "SELECT string_agg(relname || ' ' || relreplident::text, ', ' ORDER BY "+
			"relname) FROM pg_class WHERE relnamespace = 'marsh'::regnamespace AND relkind = 'r'")
	}
	looks := time.Now().Add(4 * time.Second) // tables are seen to every two seconds or so
	eventually(t, 30*time.Second, func() bool {
		if now := identities(); now != "hives f, kid d" {
			t.Fatalf("row identities: %s", now)
		}
		return time.Now().After(looks)
	})
	f.must("crossing", "pause", "spring")
	f.must("crossing", "close", "spring", "--confirm", "spring", "--wait")
	if now := identities(); now != "hives d, kid d" {
		t.Errorf("row identities: %s", now)
	}
}
