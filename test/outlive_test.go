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
	"dustyferry/internal/localserver"
)

// TestTheLoadOutlivesFaults makes each of the faults of a bad night for real, in random
// order and at random moments of a load with capture under a writing application: the
// crossing goes on by itself, or holds with a reason that a person can act on, and what
// has landed is not carried again. At the end both sides are equal by plain SQL.
func TestTheLoadOutlivesFaults(t *testing.T) {
	ctx := t.Context()
	var s [3]*localserver.Postgres // source, target, control
	for i := range s {
		var err error
		if s[i], err = localserver.StartPostgres(ctx, localserver.Options{Password: "honey & salt",
			Durable: true}); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s[i].Stop)
	}
	source, target, control := s[0], s[1], s[2]
	old, fresh := source.URL("postgres"), target.URL("postgres")
	exec1(t, old, `CREATE SCHEMA marsh; CREATE TABLE marsh.readings (id integer PRIMARY KEY, grams integer, note text);
  CREATE TABLE marsh.hives (id integer PRIMARY KEY, keeper text UNIQUE);
INSERT INTO marsh.readings SELECT g, g, repeat('sea lavender ', 40) FROM generate_series(1, 100000) g;
  INSERT INTO marsh.hives SELECT g, 'k' || g FROM generate_series(1, 3000) g; ANALYZE`)
	f := startOn(t, control.URL("postgres"))
	f.register("old", source, "postgres")
	f.register("new", target, "postgres")
	if a := f.cli("crossing", "create", "spring", "--source", "old", "--target", "new", "--table", "marsh.*", "--lanes",
		"3", "--chunk-size", "512KB", "--speed-limit", "1500KB", "--max-attempts", "12"); a.code != 0 {
		t.Fatal(a.err)
	}
	writing, stop := context.WithCancel(ctx)
	var wg sync.WaitGroup
	defer wg.Wait()
	defer stop()
	wg.Go(func() { writeThroughFaults(writing, old) })
	f.startCrossing()
	f.await(time.Minute, "under way", func(c contract.Crossing) bool { return c.Progress.ChunksLanded > 1 })

	// quietly runs statements that may be cut off by another fault's aftermath.
	quietly := func(url string, statements ...string) {
		c, err := pgx.Connect(ctx, url)
		if err != nil {
			t.Logf("no connection for a fault: %v", err)
			return
		}
		defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
		for _, q := range statements {
			if _, err := c.Exec(ctx, q); err != nil {
				t.Logf("%.60s: %v", q, err)
			}
		}
	}
	const cut = `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid()
  AND application_name LIKE 'dusty-ferry%'`
	crash := func(p *localserver.Postgres, away time.Duration) {
		if err := p.Crash(ctx, away); err != nil {
			t.Fatal(err)
		}
	}
	faults := map[string]func(){
		"connections cut": func() { quietly(old, cut); quietly(fresh, cut); quietly(control.URL("postgres"), cut) },
		"source crashes":  func() { crash(source, 0) },
		"target crashes":  func() { crash(target, time.Second) },
		"records crash":   func() { crash(control, 0) },
		"records away":    func() { crash(control, 11*time.Second) }, // longer than a lease
		"a lock is held":  func() { quietly(fresh, "BEGIN", "LOCK TABLE marsh.readings", "SELECT pg_sleep(4)", "COMMIT") },
		"a deadlock": func() {
			quietly(fresh, "BEGIN", "LOCK TABLE dusty_ferry.chunk_mark IN EXCLUSIVE MODE", "SELECT pg_sleep(1)",
				"SET lock_timeout = '6s'", "LOCK TABLE marsh.readings", "COMMIT")
		},
		"statements time out": func() {
			quietly(fresh, "ALTER DATABASE postgres SET statement_timeout = '30ms'", cut)
			time.Sleep(3 * time.Second)
			quietly(fresh, "SET statement_timeout = 0", "ALTER DATABASE postgres RESET statement_timeout", cut)
		},
	}
	// A jump of the clock of the records' server, as the records see it: all that they say
	// of time is so much earlier or later.
	jump := func(by string) {
		for _, at := range []string{"chunks.lease_until", "chunks.not_before", "lanes.lease_until", "streams.lease_until",
			"streams.not_before", "streams.ask_until",
			"tasks.lease_until", "crossings.rest_until", "clock.seen", "river_job.scheduled_at"} {
			table, column, _ := strings.Cut(at, ".")
			quietly(control.URL("postgres"), fmt.Sprintf("UPDATE %s SET %s = %[2]s - interval '%s'", table, column, by))
		}
	}
	faults["the clock jumps ahead"] = func() { jump("1 hour") }
	faults["the clock is set back"] = func() { jump("-1 hour") }
	order := make([]string, 0, len(faults))
	for name := range faults { // in no order
		order = append(order, name)
	}
	heal := func() { // as a person would, after reading why it holds
		c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(ctx, "spring"))
		if err != nil || c.Condition != contract.ConditionHeld {
			return
		}
		t.Logf("held: %s", c.Reason)
		if len(c.Reason) < 40 {
			t.Errorf("held without a reason to act on: %q", c.Reason)
		}
		_ = f.cli("crossing", "resume", "spring")
	}
	for _, name := range order {
		time.Sleep(time.Duration(200+rand.IntN(800)) * time.Millisecond)
		t.Logf("fault: %s", name)
		faults[name]()
		heal()
	}
	// At last the disk is full: no file of the target may grow beyond what the table has.
	const full = 17 << 20 // a segment of the target's own log is 16 MB, and has room
	eventually(t, time.Minute, func() bool {
		heal()
		c, err := pgx.Connect(ctx, fresh)
		if err != nil {
			return false
		}
		defer func() { _ = c.Close(ctx) }()
		var size int64
		return c.QueryRow(ctx, "SELECT pg_relation_size('marsh.readings')").Scan(&size) == nil && size > full
	})
	t.Log("fault: the disk is full")
	if err := target.LimitFiles(ctx, full); err != nil {
		t.Fatal(err)
	}
	quietly(fresh, "ALTER DATABASE postgres RESET statement_timeout", cut)
	time.Sleep(4 * time.Second)
	landed := f.show().Progress.ChunksLanded
	time.Sleep(2 * time.Second)
	if now := f.show().Progress.ChunksLanded; now > landed {
		t.Errorf("%d chunks landed where nothing could be written", now-landed)
	}
	if err := target.LimitFiles(ctx, 0); err != nil {
		t.Fatal(err)
	}
	quietly(fresh, cut)
	heal()
	eventually(t, time.Minute, func() bool { return f.cli("crossing", "set", "spring", "--speed-limit", "0").code == 0 })
	end := time.Now().Add(patience * 2 * time.Minute)
	for c := f.show(); c.Phase != contract.PhaseInStep; c = f.show() {
		heal()
		if time.Now().After(end) {
			f.story()
			t.Fatalf("not in step: %s %s %s", c.Phase, c.Condition, c.Reason)
		}
		time.Sleep(500 * time.Millisecond)
	}
	stop()
	wg.Wait()
	settle(t, f)
	for _, table := range []string{"readings", "hives"} {
		q := fmt.Sprintf("SELECT x::text FROM marsh.%s x", table)
		sameTexts(t, table, collect(t, connect(t, old), q), collect(t, connect(t, fresh), q))
	}
	// What had landed was not carried again: only chunks in flight were.
	again := one[int](t, control.URL("postgres"),
		"SELECT coalesce(sum(attempts - 1), 0)::int FROM chunks WHERE attempts > 1")
	tries := one[int](t, control.URL("postgres"), "SELECT count(*)::int FROM attempts")
	t.Logf("%d chunks again, %d failed tries kept, %d chunks in all", again, tries, one[int](t, control.URL("postgres"),
		"SELECT count(*)::int FROM chunks"))
	if most := 3 * 3 * (len(faults) + 1); again > most {
		t.Errorf("%d chunks were carried again; at most 3 are in flight at each of %d faults, which may strike twice", again,
			len(faults)+1)
	}
	if dup := one[int](t, fresh, "SELECT count(*)::int FROM (SELECT crossing, chunk FROM dusty_ferry.chunk_mark WHERE "+
		"landed GROUP BY 1, 2 HAVING count(*) > 1) x"); dup > 0 {
		t.Errorf("%d chunks landed twice", dup)
	}
}

// writeThroughFaults is an application that goes on writing whatever happens.
func writeThroughFaults(ctx context.Context, url string) {
	r := rand.New(rand.NewPCG(4, 2))
	for fresh := 1_000_000; ctx.Err() == nil; {
		c, err := pgx.Connect(ctx, url)
		for err == nil && ctx.Err() == nil {
			fresh++
			_, err = c.Exec(ctx, fmt.Sprintf(`BEGIN; UPDATE marsh.readings SET grams = grams + 1 WHERE id BETWEEN %[1]d
  AND %[1]d + 9; DELETE FROM marsh.readings WHERE id = %[2]d;
INSERT INTO marsh.readings VALUES (%[3]d, 1, 'new'); UPDATE marsh.hives SET keeper = 'm' || id || '-%[3]d'
  WHERE id = %[4]d; COMMIT`, 1+r.IntN(59000), 1+r.IntN(60000), fresh, 1+r.IntN(3000)))
			time.Sleep(3 * time.Millisecond)
		}
		if c != nil {
			_ = c.Close(context.WithoutCancel(ctx))
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// TestATaskThatWaitsForALock says whose it is, and goes on when it is let go.
func TestATaskThatWaitsForALock(t *testing.T) {
	f, p := start(t), newPair(t)
	f.set.StuckAfter = 2 * time.Second
	f.svc.Stop()
	f.again()
	exec1(t, p.sourceURL(), "CREATE SCHEMA marsh; CREATE TABLE marsh.hives (id int PRIMARY KEY, n int); CREATE INDEX "+
		"by_n ON marsh.hives (n); INSERT INTO marsh.hives SELECT g, g FROM generate_series(1, 5000) g")
	f.cross(p, contract.Settings{InStepDwellSeconds: ptr(0.2), ChunkBytes: ptr(int64(64 << 10)),
		SpeedLimit: ptr(int64(30_000))}, "marsh.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseLoading)
	eventually(t, 30*time.Second, func() bool {
		return one[bool](t, p.targetURL(), "SELECT to_regclass('marsh.hives') IS NOT NULL")
	})
	holds := connect(t, p.targetURL())
	if _, err := holds.Exec(t.Context(), "BEGIN; LOCK TABLE marsh.hives IN ROW EXCLUSIVE MODE"); err != nil {
		t.Fatal(err)
	}
	f.must("crossing", "set", "spring", "--speed-limit", "0")
	eventually(t, time.Minute, func() bool {
		return told(f.journalOf("build"), "nothing has moved for", "CREATE INDEX", fmt.Sprintf("session %d holds",
			holds.PgConn().PID()))
	})
	if _, err := holds.Exec(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	f.awaitPhase(contract.PhaseInStep)
	if n := one[int](t, p.targetURL(), "SELECT count(*) FROM pg_indexes WHERE schemaname = 'marsh'"); n != 2 {
		t.Errorf("%d indexes stand", n)
	}
}
