package mariadb

import (
	"dustyferry/internal/domain"
	"testing"
	"time"
)

// TestTheCatalogWhileTablesAreAltered: a table that is being altered is missing in some of the
// server's tables of tables for an instant. It is read whole, or not at all.
func TestTheCatalogWhileTablesAreAltered(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE lots (id int PRIMARY KEY, note text) ENGINE=InnoDB",
		"INSERT INTO lots SELECT seq, repeat('x', 200) FROM seq_1_to_20000",
		"CREATE TABLE bag (note text) COMMENT 'it has no KEY `at` all'")
	if _, err := d.Catalog(t.Context()); err != nil {
		t.Fatal(err)
	}
	stop, done := make(chan struct{}), make(chan int)
	go func() {
		n := 0
		for ; ; n++ {
			select {
			case <-stop:
				done <- n
				return
			default:
				_, _ = db.ExecContext(t.Context(), "ALTER TABLE lots ENGINE="+[]string{"Aria", "InnoDB"}[n%2])
				time.Sleep(30 * time.Millisecond)
			}
		}
	}()
	read := 0
	for end := time.Now().Add(5 * time.Second); time.Now().Before(end) || read < 5; {
		cat, err := d.Catalog(t.Context())
		if err != nil { // it is altered all the time, and that is said
			t.Log(err)
			continue
		}
		read++
		for i := range cat.Tables {
			if x := &cat.Tables[i]; x.Name == "lots" && (len(x.Columns) != 2 || len(x.Keys) != 1 || x.Storage == "") {
				t.Errorf("it has %d columns, %d keys, and is kept by %q", len(x.Columns), len(x.Keys), x.Storage)
			}
		}
		if len(cat.Tables) != 2 {
			t.Errorf("%d tables are there", len(cat.Tables))
		}
	}
	close(stop)
	t.Logf("read %d times, altered %d times", read, <-done)
	run(t, db, "DROP TABLE lots") // what is gone is gone
	if cat, err := d.Catalog(t.Context()); err != nil || len(cat.Tables) != 1 {
		t.Errorf("%v, %v", cat, err)
	}
}

// TestTablesWhoseIndexesIdentifyNoRow are read like others: nobody alters them, whatever it looks like.
func TestTablesWhoseIndexesIdentifyNoRow(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE a (note text, PRIMARY KEY (note(10)))",
		"CREATE TABLE b (note text, FULLTEXT KEY words (note))", "CREATE TABLE c (note text, UNIQUE KEY (note) USING HASH)",
		"CREATE TABLE d (note text, n int, KEY x (n) IGNORED)", "CREATE TABLE e (n int COMMENT 'no\n  KEY x')",
		"CREATE TABLE f (n int) PARTITION BY HASH (n) PARTITIONS 2",
		"CREATE TABLE g (n int) WITH SYSTEM VERSIONING", "CREATE TABLE h (n int) ENGINE=MyISAM",
		"CREATE TABLE i (n int) ENGINE=MEMORY")
	cat, err := d.Catalog(t.Context())
	if err != nil || len(cat.Tables) < 8 {
		t.Fatalf("%d tables, %v", len(cat.Tables), err)
	}
	run(t, db, "CREATE TABLE j (n int PRIMARY KEY)")
	if _, err := d.Catalog(t.Context()); err != nil {
		t.Fatal(err)
	}
	// they are of another kind now
	run(t, db, "ALTER TABLE j ADD SYSTEM VERSIONING", "DROP TABLE i", "CREATE VIEW i AS SELECT 1 AS one")
	if cat, err = d.Catalog(t.Context()); err != nil ||
		cat.Table(domain.TableName{Schema: d.end.Database, Name: "j"}) != nil {
		t.Errorf("a table that has become a versioned one: %v", err)
	}
}
