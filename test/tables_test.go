package test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// TestTablesComeAndGo adds a table that is written all the time, and leaves one out,
// during the load and after it; the rest goes on and is equal in the end.
func TestTablesComeAndGo(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 40_000); err != nil {
		t.Fatal(err)
	}
	exec1(t, p.sourceURL(), `CREATE TABLE saltmarsh.swarms (id integer PRIMARY KEY, keeper text, caught integer);
CREATE TABLE saltmarsh.sheds (id integer PRIMARY KEY, roof text); CREATE INDEX ON saltmarsh.swarms (keeper);
INSERT INTO saltmarsh.swarms SELECT g, 'k' || g % 9, 0 FROM generate_series(1, 30000) g; INSERT INTO saltmarsh.sheds
  SELECT g, 'reed' FROM generate_series(1, 100) g; ANALYZE`)
	f := start(t)
	app := demo.StartApp(t.Context(), demo.Postgres(p.sourceURL()), 2, 3*time.Millisecond)
	defer app.Stop()
	defer swarming(t, p.sourceURL())()
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(256 << 10)), Lanes: ptr(2), SpeedLimit: ptr(int64(600 << 10)),
		StopMethod: ptr(contract.Word)}, "saltmarsh.*", "-saltmarsh.swarms")
	do := func(want string, args ...string) {
		t.Helper()
		a := f.cli(args...)
		if want == "" && a.code != 0 || want != "" && (a.code == 0 || !strings.Contains(a.err, want)) {
			t.Fatalf("%v: %+v", args, a)
		}
	}
	do("can be added between", "crossing", "add-table", "spring", "saltmarsh.swarms")
	f.startCrossing()
	f.await(time.Minute, "under way", func(c contract.Crossing) bool { return c.Progress.ChunksLanded > 2 })
	do("belongs to spring already", "crossing", "add-table", "spring", "saltmarsh.sheds")
	do("has no table", "crossing", "leave-out", "spring", "saltmarsh.shed", "--confirm", "saltmarsh.shed")
	do("", "crossing", "add-table", "spring", "saltmarsh.swarms")
	do("", "crossing", "leave-out", "spring", "saltmarsh.sheds", "--confirm", "saltmarsh.sheds")
	do("", "crossing", "set", "spring", "--speed-limit", "0")
	f.await(time.Minute, "with swarms", func(c contract.Crossing) bool {
		return c.Progress.Work == nil && one[bool](t, p.targetURL(), "SELECT to_regclass('saltmarsh.swarms') IS NOT NULL")
	})
	f.awaitPhase(contract.PhaseInStep)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.findings(r.Id)
		t.Fatalf("after the load: %+v", r)
	}
	// Once more, from in step.
	do("", "crossing", "leave-out", "spring", "saltmarsh.swarms", "--confirm", "saltmarsh.swarms")
	exec1(t, p.targetURL(), "DROP TABLE saltmarsh.swarms")
	time.Sleep(time.Second)
	do("", "crossing", "add-table", "spring", "saltmarsh.swarms")
	f.await(time.Minute, "loading again", func(c contract.Crossing) bool {
		return c.Progress.Work == nil && c.Phase != contract.PhaseInStep
	})
	f.awaitPhase(contract.PhaseInStep)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.findings(r.Id)
		t.Fatalf("after the second time: %+v", r)
	}
	if n := one[int](t, p.targetURL(), "SELECT count(*)::int FROM pg_indexes WHERE schemaname = 'saltmarsh' AND "+
		"tablename = 'swarms'"); n != 2 {
		t.Errorf("swarms has %d indexes on the target", n)
	}
	do("", "crossing", "restart", "spring", "--all", "--confirm", "spring")
	f.await(time.Minute, "begun again", func(c contract.Crossing) bool { return c.Phase != contract.PhaseInStep })
	c := f.awaitPhase(contract.PhaseInStep)
	if got := strings.Join(c.Tables, " "); got != "saltmarsh.* -saltmarsh.sheds" {
		t.Errorf("chosen: %v", c.Tables)
	}
}

// swarming keeps changing rows, keys among them, of the table that comes and goes.
func swarming(t *testing.T, url string) (stop func()) {
	ctx, cancel := context.WithCancel(t.Context())
	c := connect(t, url)
	done := make(chan bool)
	go func() {
		defer close(done)
		r := rand.New(rand.NewPCG(11, 7))
		for fresh := 100_000; ctx.Err() == nil; fresh++ {
			for _, q := range []string{
				fmt.Sprintf("UPDATE saltmarsh.swarms SET caught = caught + 1 WHERE id BETWEEN %[1]d AND %[1]d + 20", r.IntN(30000)),
				fmt.Sprintf("DELETE FROM saltmarsh.swarms WHERE id = %d", r.IntN(30000)),
				fmt.Sprintf("INSERT INTO saltmarsh.swarms VALUES (%d, 'new', 0)", fresh),
				fmt.Sprintf("UPDATE saltmarsh.swarms SET id = -id WHERE id = %d", fresh-r.IntN(50)),
			} {
				if _, err := c.Exec(ctx, q); err != nil && ctx.Err() == nil {
					t.Error(err)
					return
				}
			}
			time.Sleep(4 * time.Millisecond)
		}
	}()
	return func() { cancel(); <-done }
}
