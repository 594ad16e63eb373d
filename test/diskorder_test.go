package test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestTablesAreReadInTheOrderOfTheDisk: a table with a random key is cut by the pages in which its
// rows lie, and equals its source at the end, though rows are put, changed, moved to other pages,
// given other keys and removed meanwhile, processes die, and the table is written anew.
func TestTablesAreReadInTheOrderOfTheDisk(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(),
		`CREATE SCHEMA marsh; CREATE TABLE marsh.labels (code uuid PRIMARY KEY, jar integer, honey text,
  photo text); ALTER TABLE marsh.labels ALTER photo SET STORAGE EXTERNAL;
INSERT INTO marsh.labels SELECT gen_random_uuid(), g, repeat('sea lavender ', 20),
  CASE WHEN g % 50 = 0 THEN repeat('photo ' || g, 500) END FROM generate_series(1, 30000) g; ANALYZE`)
	f := startFleet(t, 1)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	if a := f.cli("crossing", "create", "spring", "--source", "old", "--target", "new", "--table", "marsh.*", "--lanes",
		"2",
		"--chunk-size", "256KB", "--speed-limit", "1500KB", "--read-order", "disk"); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("survey", "spring"); !strings.Contains(a.out+a.err, "read in the order of the disk") {
		t.Errorf("the survey does not say so: %s%s", a.out, a.err)
	}
	writing, stop := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	defer wg.Wait()
	defer stop()
	for n := range uint64(2) {
		wg.Go(func() { writeLabels(writing, p.sourceURL(), n) })
	}
	f.startCrossing()
	landed := func(n int) {
		t.Helper()
		f.await(time.Minute, fmt.Sprintf("%d chunks landed", n), func(c contract.Crossing) bool {
			if c.Condition == contract.ConditionHeld {
				t.Fatalf("held: %s", c.Reason)
			}
			return c.Progress.ChunksLanded >= n
		})
	}
	landed(8)
	tables, err := client.Do[contract.TablePage](f.API.ListTablesWithResponse(t.Context(), "spring",
		&contract.ListTablesParams{}))
	if err != nil || len(tables.Tables) != 1 {
		t.Fatalf("%+v (%v)", tables, err)
	}
	k, err := client.Do[contract.ChunkStory](f.API.GetChunkWithResponse(t.Context(), "spring", tables.Tables[0].Id, 2))
	if err != nil || strings.Join(k.Key, " ") != "page" || k.Chunk.Lower == nil || len(*k.Chunk.Lower) != 1 ||
		k.Chunk.Upper == nil {
		t.Errorf("the second chunk is %+v (%v)", k, err)
	}
	eventually(t, 30*time.Second, func() bool {
		return one[int](t, p.targetURL(), "SELECT count(*) FROM dusty_ferry.removed_key WHERE key = '{}'") > 0
	})
	f.strike(1)
	landed(14)
	f.strike(0)
	landed(20)
	exec1(t, p.sourceURL(), "VACUUM FULL marsh.labels")
	f.await(time.Minute, "told of the table that was written anew", func(contract.Crossing) bool {
		a := f.cli("journal", "--crossing", "spring")
		return strings.Contains(a.out, "written anew")
	})
	if a := f.cli("crossing", "set", "spring", "--speed-limit", "0"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.awaitPhase(contract.PhaseInStep)
	stop()
	wg.Wait()
	equalLabels(t, f, p)
	if got := one[int](t, p.targetURL(), "SELECT count(*) FROM dusty_ferry.removed_key WHERE key <> '{}'"); got != 0 {
		t.Errorf("%d removed keys are still remembered", got)
	}
	// A table that is emptied while it is loaded begins again.
	if a := f.cli("crossing", "set", "spring", "--speed-limit", "1MB"); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("crossing", "restart", "spring", "--table", "marsh.labels", "--confirm",
		"marsh.labels"); a.code != 0 {
		t.Fatal(a.err)
	}
	landed(3)
	exec1(t, p.sourceURL(), "TRUNCATE marsh.labels; INSERT INTO marsh.labels SELECT gen_random_uuid(), g, "+
		"repeat('heather ', 40) FROM generate_series(1, 9000) g; DELETE FROM marsh.labels WHERE jar % 7 = 0")
	if a := f.cli("crossing", "set", "spring", "--speed-limit", "0"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.awaitPhase(contract.PhaseInStep)
	equalLabels(t, f, p)
}

// writeLabels writes until it is told to stop.
func writeLabels(ctx context.Context, url string, seed uint64) {
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return
	}
	defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
	r := rand.New(rand.NewPCG(seed, 7))
	for ctx.Err() == nil {
		some := fmt.Sprintf("(SELECT code FROM marsh.labels TABLESAMPLE SYSTEM (3) OFFSET %d LIMIT %d)", r.IntN(40),
			1+r.IntN(20))
		_, _ = c.Exec(ctx, []string{
			"UPDATE marsh.labels SET jar = jar + 1 WHERE code IN " + some,
			"UPDATE marsh.labels SET honey = honey || ' and more of it, so that it has to move' WHERE code IN " + some,
			"UPDATE marsh.labels SET code = gen_random_uuid() WHERE code IN " + some,
			"DELETE FROM marsh.labels WHERE code IN " + some,
			"INSERT INTO marsh.labels SELECT gen_random_uuid(), g, 'new' FROM generate_series(1, 20) g",
			"WITH gone AS (DELETE FROM marsh.labels WHERE code IN " + some + " RETURNING code) " +
				"INSERT INTO marsh.labels SELECT code, -1, 'put again' FROM gone ON CONFLICT DO NOTHING",
		}[r.IntN(6)])
		time.Sleep(time.Duration(r.IntN(20)) * time.Millisecond)
	}
}

// equalLabels holds both sides against each other by plain SQL, and by our own comparison.
func equalLabels(t *testing.T, f *fleet, p pair) {
	t.Helper()
	const sum = "SELECT count(*) || ' ' || coalesce(sum(hashtextextended(l::text, 0)::numeric), 0) FROM marsh.labels l"
	var a, b string
	eventually(t, 30*time.Second, func() bool {
		a, b = one[string](t, p.sourceURL(), sum), one[string](t, p.targetURL(), sum)
		return a == b
	})
	if a != b {
		t.Errorf("the source has %s, the target %s", a, b)
	}
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.Findings != 0 {
		t.Errorf("%d findings", r.Findings)
	}
}
