package test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/internal/contract"
)

// TestALoadRepeatedInPlace loads tables a second time while somebody reads the target: rows
// that are gone, changed and new on the source are so on the target afterwards, and at no
// moment is a table empty, or without rows that were not touched.
func TestALoadRepeatedInPlace(t *testing.T) {
	for _, way := range [][2]string{{"postgres", "postgres"}, {"mariadb", "postgres"}, {"postgres", "mariadb"},
		{"mariadb", "mariadb"}} {
		t.Run(way[0]+" to "+way[1], func(t *testing.T) { repeatedInPlace(t, way[0], way[1]) })
	}
}

func repeatedInPlace(t *testing.T, from, to string) {
	f := start(t)
	source, target := f.sideOf(from, "old"), f.sideOf(to, "new")
	numbers := func(n int) string {
		return map[string]string{"postgres": fmt.Sprintf("FROM generate_series(1, %d) g(seq)", n),
			"mariadb": fmt.Sprintf("FROM seq_1_to_%d", n)}[from]
	}
	source.exec("CREATE TABLE hives (id int PRIMARY KEY, place int NOT NULL UNIQUE)")
	source.exec("INSERT INTO hives SELECT seq, seq " + numbers(50))
	source.exec("CREATE TABLE readings (id bigint PRIMARY KEY, hive int NOT NULL REFERENCES hives (id), grams int, " +
		"remark varchar(200))")
	source.exec("INSERT INTO readings SELECT seq, 1 + seq % 50, 40000, 'calm, and a long remark that makes rows wide " +
		"enough for several chunks' " + numbers(20_000))
	source.exec("CREATE TABLE notes (title varchar(40) PRIMARY KEY, body varchar(100))")
	source.exec("INSERT INTO notes SELECT concat('note ', seq), 'as it was' " + numbers(500))
	source.exec("CREATE TABLE visits (visitor varchar(40), hive int)") // without a key
	source.exec("INSERT INTO visits SELECT concat('visitor ', seq), seq " + numbers(300))
	source.exec(map[string]string{"postgres": "ANALYZE", "mariadb": "ANALYZE TABLE readings, notes, visits, hives"}[from])
	rules := toSchema(from, to, source.schema)
	if rules != "" {
		rules = "  rules:\n" + rules + "\n"
	}
	manifest := fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  follow_changes: false\n  source: old\n  "+
		"target: new\n  tables: [\"%s.*\"]\n%s  settings: {chunk_size: 64KB, repeat: in place}\n", source.schema, rules)
	if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
		t.Fatal(a.err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	in := map[string]string{"postgres": "public.", "mariadb": target.schema + "."}[to]
	home := map[string]string{"postgres": "public.", "mariadb": source.schema + "."}[from]
	// A row stays where it is, in the chunk that it is in; the rest changes.
	for _, q := range []string{"DELETE FROM readings WHERE id % 100 = 0",
		"UPDATE readings SET grams = 41000, hive = 3 WHERE id % 100 = 1",
		"INSERT INTO readings VALUES (-5, 1, 1, 'before all'), (90000, 2, 2, 'behind all')",
		"DELETE FROM notes WHERE title LIKE 'note 1%'", "UPDATE notes SET body = 'as it is' WHERE title = 'note 2'",
		"INSERT INTO notes VALUES ('a first', 'x'), ('zuletzt', 'y')",
		"DELETE FROM visits WHERE hive > 250", "INSERT INTO visits VALUES (NULL, NULL), ('visitor 1', 1)",
		"UPDATE hives SET place = place + 1000", "UPDATE hives SET place = 1051 - place", // each takes another's
	} {
		source.exec(q)
	}
	done := make(chan struct{})
	var reading sync.WaitGroup
	looks := 0
	reading.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
			}
			got := target.texts("SELECT concat((SELECT count(*) FROM " + in +
				"readings WHERE id % 100 > 1), ' ', (SELECT count(*) FROM " + in + "hives), ' ', (SELECT count(*) FROM " + in +
				"notes WHERE title NOT LIKE 'note 1%' AND title LIKE 'note%'), ' ', (SELECT count(*) FROM " + in +
				"visits WHERE hive <= 250 AND hive > 1))")
			if looks++; len(got) != 1 || got[0] != "19600 50 389 249" {
				t.Errorf("somebody who reads the target sees %s rows", got)
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	if a := f.cli("crossing", "restart", "spring"); a.code != 2 || !strings.Contains(a.err, "--all") {
		t.Errorf("without --yes: %+v", a)
	}
	if a := f.cli("crossing", "restart", "spring", "--all", "--confirm", "spring"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.await(30*time.Second, "begun again", func(c contract.Crossing) bool { return c.Phase != contract.PhaseInStep })
	c := f.awaitPhase(contract.PhaseInStep)
	close(done)
	reading.Wait()
	t.Logf("%d chunks, looked at %d times", c.Progress.Chunks, looks)
	if c.Progress.Chunks < 8 || looks < 5 {
		t.Errorf("%d chunks and %d looks are too few to see anything", c.Progress.Chunks, looks)
	}
	for _, q := range []string{"SELECT concat_ws('|', id, hive, grams, remark) FROM %sreadings",
		"SELECT concat_ws('|', id, place) FROM %shives", "SELECT concat_ws('|', title, body) FROM %snotes",
		"SELECT concat_ws('|', coalesce(visitor, '~'), coalesce(hive, -1)) FROM %svisits"} {
		sameTexts(t, q, source.texts(fmt.Sprintf(q, home)), target.texts(fmt.Sprintf(q, in)))
	}
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		t.Errorf("the comparison ended %s with %d findings", r.State, r.Findings)
	}
	// One table alone: it keeps its rows too, and the others are left in peace.
	source.exec("DELETE FROM notes WHERE title = 'note 3'")
	source.exec("INSERT INTO notes VALUES ('one more', 'z')")
	source.exec("UPDATE readings SET grams = 42000 WHERE id = 7") // is not asked for
	if a := f.cli("crossing", "restart", "spring", "--table", home+"notes", "--confirm", home+"notes"); a.code != 0 {
		t.Fatal(a.err)
	}
	eventually(t, 30*time.Second, func() bool {
		if got := target.texts("SELECT concat('', count(*)) FROM " + in + "notes WHERE title LIKE 'note%'"); got[0] == "0" {
			t.Error("the table that begins again is empty")
		}
		return len(target.texts("SELECT title FROM "+in+"notes WHERE title IN ('note 3', 'one more')")) == 1 &&
			target.texts("SELECT coalesce(max(title), '') FROM " + in +
				"notes WHERE title IN ('note 3', 'one more')")[0] == "one more"
	})
	f.awaitPhase(contract.PhaseInStep)
	q := "SELECT concat_ws('|', title, body) FROM %snotes"
	sameTexts(t, q, source.texts(fmt.Sprintf(q, home)), target.texts(fmt.Sprintf(q, in)))
	if got := target.texts("SELECT concat('', grams) FROM " + in + "readings WHERE id = 7"); got[0] != "40000" {
		t.Errorf("a table that was not restarted has new rows: %v", got)
	}
	if from != "postgres" || to != "postgres" {
		return
	}
	// After a load that broke off, keys are lacking that a load in place needs.
	target.exec("ALTER TABLE readings DROP CONSTRAINT readings_pkey; DELETE FROM readings WHERE id > 10000")
	if a := f.cli("crossing", "restart", "spring", "--all", "--confirm", "spring"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.await(30*time.Second, "begun again", func(c contract.Crossing) bool { return c.Phase != contract.PhaseInStep })
	f.awaitPhase(contract.PhaseInStep)
	if got := target.texts("SELECT concat(conname, ' ', (SELECT count(*) FROM readings)) FROM pg_constraint WHERE " +
		"conrelid = 'readings'::regclass AND contype = 'p'"); len(got) != 1 || got[0] != "readings_pkey 19802" {
		t.Errorf("after a load that broke off: %v", got)
	}
}
