package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// serverOf starts a server of a major version: Debian's own, or one that scripts/postgres-versions
// has unpacked.
func serverOf(t *testing.T, major int) *localserver.Postgres {
	t.Helper()
	o := localserver.Options{Password: "honey & salt", Settings: map[string]string{"max_prepared_transactions": "10",
		"max_connections": "80"}}
	if major != 15 {
		if out, err := exec.Command("../scripts/postgres-versions", fmt.Sprint(major)).CombinedOutput(); err != nil {
			t.Fatalf("unpacking PostgreSQL %d: %v\n%s", major, err, out)
		}
		// The servers run as a user of their own, who may not see this folder.
		dir := filepath.Join(os.TempDir(), fmt.Sprintf("dustyferry-postgres-%d-%d", major, os.Getpid()))
		if out, err := exec.Command("cp", "-a", filepath.Join("..", ".cache", "postgres", fmt.Sprint(major)),
			dir).CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		t.Cleanup(func() { _ = os.RemoveAll(dir) })
		o.Programs = filepath.Join(dir, "bin")
	}
	s, err := localserver.StartPostgres(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

// TestFromOldToNew is a whole crossing between the versions that people leave and go to, under
// writes, with cutover.
func TestFromOldToNew(t *testing.T) {
	for _, way := range [][2]int{{13, 18}, {18, 15}} {
		t.Run(fmt.Sprintf("%d-%d", way[0], way[1]), func(t *testing.T) { crossVersions(t, way[0], way[1]) })
	}
}

// TestAllVersions is the same for every pair that makes sense; see make versions.
func TestAllVersions(t *testing.T) {
	if os.Getenv("DUSTYFERRY_ALL_VERSIONS") == "" {
		t.Skip("set DUSTYFERRY_ALL_VERSIONS, as make versions does")
	}
	for _, from := range []int{11, 12, 13, 14, 15, 16, 17, 18} {
		for _, to := range []int{13, 14, 15, 16, 17, 18} {
			t.Run(fmt.Sprintf("%d-%d", from, to), func(t *testing.T) {
				crossVersions(t, from, to)
				fmt.Printf("PostgreSQL %d to %d: equal after the cutover\n", from, to)
			})
		}
	}
}

func crossVersions(t *testing.T, from, to int) {
	old, fresh := serverOf(t, from), serverOf(t, to)
	exec1(t, old.URL("postgres"), "CREATE DATABASE saltmarsh")
	exec1(t, fresh.URL("postgres"), "CREATE DATABASE saltmarsh")
	src, dst := old.URL("saltmarsh"), fresh.URL("saltmarsh")
	big := "repeat(md5(g::text), 120)"
	exec1(t, src, `
CREATE SCHEMA honey;
CREATE TYPE honey.kind AS ENUM ('lime', 'heather');
CREATE TABLE honey.hives (id bigint GENERATED ALWAYS AS IDENTITY (START 100 INCREMENT 5) PRIMARY KEY,
  name text NOT NULL, kind honey.kind, note text, weighed timestamptz DEFAULT now());
ALTER TABLE honey.hives ALTER COLUMN note SET STORAGE EXTERNAL;
CREATE TABLE honey.readings (hive bigint, at timestamptz, grams numeric(9,2), PRIMARY KEY (hive, at))
  PARTITION BY RANGE (at);
CREATE TABLE honey.readings_a PARTITION OF honey.readings FOR VALUES FROM ('2026-01-01') TO ('2026-07-01');
CREATE TABLE honey.readings_b PARTITION OF honey.readings FOR VALUES FROM ('2026-07-01') TO ('2027-01-01');
CREATE TABLE honey.loose (word text, n int);
INSERT INTO honey.hives (name, kind, note) SELECT 'hive ' || g, 'lime', `+big+` FROM generate_series(1, 4000) g;
INSERT INTO honey.readings SELECT g % 50, '2026-01-01'::timestamptz + g * interval '20 minutes', g / 7.0
  FROM generate_series(1, 20000) g;
INSERT INTO honey.loose SELECT 'w' || g % 100, g FROM generate_series(1, 3000) g;
CREATE INDEX ON honey.hives (name) WHERE kind = 'lime'`)
	f := start(t)
	f.register("old", old, "saltmarsh")
	f.register("new", fresh, "saltmarsh")
	set := contract.Settings{ChunkBytes: ptr(int64(128_000)), Lanes: ptr(2), InStepDwellSeconds: ptr(0.2),
		PauseBudgetSeconds: ptr(60.0)}
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new", Settings: &set})); err != nil {
		t.Fatal(err)
	}
	writes := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		c := connect(t, src)
		for n := 0; ; n++ {
			select {
			case <-writes:
				return
			default:
			}
			for _, sql := range []string{
				"INSERT INTO honey.hives (name, kind, note) SELECT 'late ' || g, 'heather', " + big +
					" FROM generate_series(1, 3) g",
				fmt.Sprintf("UPDATE honey.hives SET kind = 'heather' WHERE id = %d", 100+5*(n%4000)),
				fmt.Sprintf("BEGIN; UPDATE honey.readings SET grams = -%d WHERE hive = %d; SAVEPOINT s; DELETE FROM "+
					"honey.readings WHERE hive = 7; ROLLBACK TO s; COMMIT", n, n%50),
				fmt.Sprintf("UPDATE honey.readings SET at = at + interval '6 months' WHERE hive = %d AND at < '2026-02-01' AND "+
					"extract(minute FROM at) = 0", n%50),
				fmt.Sprintf("DELETE FROM honey.loose WHERE n = %d; INSERT INTO honey.loose VALUES ('w', %d)", n, 100_000+n),
			} {
				if _, err := c.Exec(t.Context(), sql); err != nil && !strings.Contains(err.Error(), "duplicate key") {
					t.Errorf("the application: %s: %v", sql, err)
					return
				}
			}
			time.Sleep(10 * time.Millisecond)
		}
	}()
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	close(writes)
	<-ended
	settle(t, f) // what is on its way would mend what is damaged now
	// What is compared while both sides are live is seen through another kind of snapshot.
	exec1(t, dst+"&dusty_ferry.ours=yes", "UPDATE honey.hives SET name = 'spoilt' WHERE id = 105; "+
		"DELETE FROM honey.readings WHERE hive = 3 AND at = (SELECT max(at) FROM honey.readings WHERE hive = 3); "+
		"DELETE FROM honey.loose WHERE n = 2999")
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.Findings != 3 {
		t.Errorf("%d findings of 3 damaged rows: %s", r.Findings, r.Error)
	}
	f.must("repair", "spring", "--confirm", "spring")
	if k := f.cutOver(false, set); k.State != contract.CutoverStateDone {
		f.story()
		t.Fatalf("the cutover ended %s: %s", k.State, k.Error)
	}
	for _, table := range []string{"honey.hives", "honey.readings", "honey.loose"} {
		q := fmt.Sprintf("SELECT count(*) || ' ' || md5(string_agg(x::text, '|' ORDER BY x::text COLLATE \"C\")) FROM %s x",
			table)
		if a, b := one[string](t, src, q), one[string](t, dst, q); a != b {
			t.Errorf("%s: %s on the source, %s on the target", table, a, b)
		}
	}
	if id := one[int64](t, dst, "INSERT INTO honey.hives (name) VALUES ('next') RETURNING id"); id <= one[int64](t, src,
		"SELECT max(id) FROM honey.hives") || id%5 != 0 {
		t.Errorf("the next hive has the number %d", id)
	}
}
