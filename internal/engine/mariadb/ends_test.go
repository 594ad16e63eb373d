package mariadb

import (
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

// A server that dies between the log's end of a two-phase transaction and the tables' has it
// prepared again. Here that server's log is made by hand: what sessions do without the log is
// what the crash did.

const quietly = "SET sql_log_bin = 0"

// takenBack makes of a transaction that the log says was committed one that is prepared.
func takenBack(t *testing.T, db *sql.DB, name string, tables ...string) {
	t.Helper()
	list := []string{quietly, "SET foreign_key_checks = 0"}
	for _, table := range tables {
		list = append(list, "DELETE FROM "+table, "INSERT INTO "+table+" SELECT * FROM "+table+"_before")
	}
	session(t, db, slices.Concat(list, []string{"XA START " + name, "INSERT INTO other VALUES (1)", "XA END " + name,
		"XA PREPARE " + name})...)
}

func asBefore(t *testing.T, db *sql.DB, tables ...string) {
	t.Helper()
	for _, table := range tables {
		session(t, db, quietly, "CREATE OR REPLACE TABLE "+table+"_before AS SELECT * FROM "+table)
	}
}

// carriedOut is what changes make of a keyed table's rows, by the key.
func carriedOut(t *testing.T, rows map[string]string, changes []domain.Change) {
	t.Helper()
	for _, c := range changes {
		var from, to string
		if c.Kind != domain.Insert {
			from, _, _ = strings.Cut(rowText(c.Old), "|")
			if _, there := rows[from]; !there {
				t.Errorf("%v of %s, which is not there", c.Kind, from)
			}
			delete(rows, from)
		}
		if c.Kind != domain.Delete {
			to, _, _ = strings.Cut(rowText(c.New), "|")
			if _, there := rows[to]; there {
				t.Errorf("%s comes a second time", to)
			}
			rows[to] = rowText(c.New)
		}
	}
}

func byKey(t *testing.T, db *sql.DB, table string) map[string]string {
	t.Helper()
	out := map[string]string{}
	rows, err := db.QueryContext(t.Context(), "SELECT id, concat_ws('|', id, v) FROM "+table)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var key, row string
		if err := rows.Scan(&key, &row); err != nil {
			t.Fatal(err)
		}
		out[key] = row
	}
	return out
}

// TestACommitThatWasTakenBack: the log commits a transaction that is rolled back after all.
func TestACommitThatWasTakenBack(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE x (id int PRIMARY KEY, v longtext) ENGINE=InnoDB",
		"CREATE TABLE other (id int) ENGINE=InnoDB", "INSERT INTO x SELECT seq, repeat('v', 3000) FROM seq_1_to_40")
	p := plan(t, d, "x")
	r := rand.New(rand.NewPCG(1, 2))
	for round := range 6 {
		name := fmt.Sprintf("'t%d'", round)
		var did []string
		for n := range 1 + r.IntN(40) { // some of them in a file
			a, b := 1+r.IntN(60), 1+r.IntN(60)
			did = append(did, fmt.Sprintf([]string{"UPDATE x SET v = concat('%[3]d ', v) WHERE id BETWEEN %[1]d AND %[1]d + 3",
				"UPDATE IGNORE x SET id = %[2]d WHERE id = %[1]d", "DELETE FROM x WHERE id = %[1]d",
				"REPLACE INTO x VALUES (%[1]d, 'replaced')", "INSERT IGNORE INTO x VALUES (%[1]d, repeat('n', 2000))"}[r.IntN(5)],
				a, b, n))
		}
		did = append(did, "REPLACE INTO x VALUES (1000, 'last')")
		asBefore(t, db, "x")
		rows, from := byKey(t, db, "x"), here(t, d)
		prepare(t, db, name, did...)
		if round%2 == 1 {
			run(t, db, "FLUSH BINARY LOGS")
		}
		session(t, db, "XA COMMIT "+name)
		committed, middle := byKey(t, db, "x"), here(t, d)
		takenBack(t, db, name, "x")
		if round%3 == 1 {
			run(t, db, "FLUSH BINARY LOGS")
		}
		session(t, db, "XA ROLLBACK "+name)
		end := here(t, d)
		c := follow(t, d, from, p)
		changes, _ := until(t, c, middle)
		carriedOut(t, rows, changes)
		if !maps.Equal(rows, committed) {
			t.Errorf("round %d: committed, the rows differ after %q", round, did)
		}
		if round%2 == 0 { // by a stream that did not read the commit
			c.Close()
			c = follow(t, d, middle, p)
		}
		changes, _ = until(t, c, end)
		carriedOut(t, rows, changes)
		if want := byKey(t, db, "x"); !maps.Equal(rows, want) {
			t.Errorf("round %d: taken back, the rows differ after %q", round, did)
		}
		c.Close()
	}
}

// TestEndsThatTheLogSaysTwice: it is committed once more, or after it was rolled back; and what
// cannot be mended row by row is told of.
func TestEndsThatTheLogSaysTwice(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE x (id int PRIMARY KEY, v longtext) ENGINE=InnoDB",
		"CREATE TABLE child (id int PRIMARY KEY, x int REFERENCES x (id) ON DELETE CASCADE, v text, "+
			"FOREIGN KEY (x) REFERENCES x (id) ON DELETE CASCADE) ENGINE=InnoDB",
		"CREATE TABLE grandchild (id int PRIMARY KEY, c int, FOREIGN KEY (c) REFERENCES child (id) ON DELETE SET NULL) "+
			"ENGINE=InnoDB",
		"CREATE TABLE keyless (id int, v text) ENGINE=InnoDB", "CREATE TABLE other (id int) ENGINE=InnoDB",
		"INSERT INTO x VALUES (1, 'one'), (2, 'two')", "INSERT INTO child VALUES (1, 1, 'of one')")
	plans := []*domain.TablePlan{plan(t, d, "x"), plan(t, d, "child"), plan(t, d, "grandchild"), plan(t, d, "keyless")}
	end := func(name, first string, then string, tables ...string) (changes []domain.Change) {
		t.Helper()
		session(t, db, first+" "+name)
		at := here(t, d)
		takenBack(t, db, name, tables...)
		session(t, db, then+" "+name)
		c := follow(t, d, at, plans...)
		defer c.Close()
		changes, _ = until(t, c, here(t, d))
		return changes
	}
	asBefore(t, db, "x", "child", "keyless")
	prepare(t, db, "'twice'", "INSERT INTO x VALUES (3, 'three')", "INSERT INTO keyless VALUES (1, 'k')")
	got := end("'twice'", "XA COMMIT", "XA COMMIT", "x", "keyless")
	if len(got) != 2 || got[0].Kind != domain.Insert || rowText(got[0].New) != "3|three" || got[1].Kind != domain.Unread ||
		got[1].Table != 4 || !strings.Contains(got[1].Note, "committed once more") {
		t.Errorf("committed twice: %+v", got)
	}
	prepare(t, db, "'after'", "UPDATE x SET v = 'changed' WHERE id = 2", "INSERT INTO keyless VALUES (1, 'k')")
	got = end("'after'", "XA ROLLBACK", "XA COMMIT")
	if len(got) != 2 || rowText(got[0].New) != "2|changed" || rowText(got[1].New) != "1|k" {
		t.Errorf("committed after all: %+v", got)
	}
	prepare(t, db, "'not'", "UPDATE x SET v = 'not' WHERE id = 2")
	if got = end("'not'", "XA ROLLBACK", "XA ROLLBACK"); len(got) != 0 {
		t.Errorf("rolled back twice: %+v", got)
	}
	asBefore(t, db, "x", "child", "keyless")
	prepare(t, db, "'along'", "INSERT INTO keyless VALUES (2, 'k')", "INSERT INTO keyless VALUES (3, 'k')",
		"DELETE FROM x WHERE id = 1", "UPDATE x SET v = 'kept' WHERE id = 2")
	got = end("'along'", "XA COMMIT", "XA ROLLBACK", "x", "child", "keyless")
	var kinds []string
	for _, c := range got {
		kinds = append(kinds, fmt.Sprintf("%d:%v", c.Table, c.Kind))
	}
	if want := []string{fmt.Sprint("1:", domain.Update), fmt.Sprint("2:", domain.Unread), fmt.Sprint("3:", domain.Unread),
		fmt.Sprint("1:", domain.Insert), fmt.Sprint("4:", domain.Unread)}; !slices.Equal(kinds, want) {
		t.Fatalf("taken back with what went along: %q, want %q", kinds, want)
	}
	if !strings.Contains(got[1].Note, "was rolled back afterwards although the log says that it was committed") {
		t.Error(got[1].Note)
	}
}
