package test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// TestAPauseIsNotLost: neither a restart under way, nor one that is refused, nor a start ends
// a pause that somebody wanted.
func TestAPauseIsNotLost(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots
  SELECT g, g FROM generate_series(1, 5000) g; ANALYZE`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	f.must("crossing", "create", "spring", "--follow-changes=false", "--source", "old", "--target", "new", "--table",
		"public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	// The restart takes its time: somebody reads the target's table.
	free := holdTable(t, p.targetURL(), `LOCK TABLE public.lots IN ACCESS SHARE MODE`)
	f.must("crossing", "restart", "spring", "--all", "--confirm", "spring")
	eventually(t, 20*time.Second, func() bool {
		return f.task("restart").State == contract.TaskStateRunning && f.show().Phase == contract.PhasePrepared
	})
	f.must("crossing", "pause", "spring")
	if a := f.cli("crossing", "restart", "spring", "--all", "--confirm", "spring"); a.code == 0 ||
		!strings.Contains(a.err, "restart is under way") {
		t.Errorf("%+v", a)
	}
	if a := f.cli("crossing", "start", "spring"); a.code == 0 || !strings.Contains(a.err, "paused") {
		t.Errorf("%+v", a)
	}
	free()
	eventually(t, 30*time.Second, func() bool { return f.task("restart").State == contract.TaskStateDone })
	time.Sleep(3 * time.Second)
	if c := f.show(); c.Condition != contract.ConditionPaused || c.Phase != contract.PhaseLoading ||
		c.Progress.Rows != 0 || !strings.Contains(c.Reason, "paused by admin") {
		t.Errorf("%s, %s (%s), %d rows", c.Phase, c.Condition, c.Reason, c.Progress.Rows)
	}
	f.must("crossing", "resume", "spring")
	f.awaitPhase(contract.PhaseInStep)
	sameEverywhere(t, p, "public")
}

// TestAHeldChunkAndAResume: a chunk that is held at the moment of a resume does not stay
// behind, held, in a crossing that runs.
func TestAHeldChunkAndAResume(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots
  SELECT g, g FROM generate_series(1, 60000) g; ANALYZE`)
	exec1(t, p.targetURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer,
  CONSTRAINT full_jars CHECK (jars % 1000 <> 7))`)
	f := start(t)
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(64_000)), Lanes: ptr(4)}, "public.*")
	f.startCrossing()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if f.show().Condition == contract.ConditionHeld {
			_, _ = client.Do[contract.Crossing](f.API.ResumeCrossingWithResponse(t.Context(), "spring"))
		}
	}
	exec1(t, p.targetURL(), `ALTER TABLE public.lots DROP CONSTRAINT full_jars`)
	f.await(30*time.Second, "held, or through", func(c contract.Crossing) bool {
		if c.Condition == contract.ConditionHeld {
			_, _ = client.Do[contract.Crossing](f.API.ResumeCrossingWithResponse(t.Context(), "spring"))
		}
		return c.Phase == contract.PhaseInStep
	})
	settle(t, f)
	sameEverywhere(t, p, "public")
}

// TestASchedulePauses: a schedule neither ends a pause nor empties what is paused, and can be
// paused itself; what was due is on record, once for each reason.
func TestASchedulePauses(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots
  SELECT g, g FROM generate_series(1, 100) g; ANALYZE`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	f.must("crossing", "create", "spring", "--follow-changes=false", "--source", "old", "--target", "new", "--table",
		"public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	f.must("schedule", "set", "spring", "--cron", "0 2 * * *", "--confirm", "new")
	f.must("crossing", "pause", "spring")
	due := func() { exec1(t, f.set.ControlURL, `UPDATE schedules SET next_at = now()`) }
	run := func(note string, times int) {
		t.Helper()
		eventually(t, 15*time.Second, func() bool {
			list := f.runs()
			return len(list) > 0 && strings.Contains(list[0].Note, note) && (times < 2 || deref(list[0].Times) == times)
		})
	}
	for n := range 3 {
		due()
		run("spring is paused: paused by admin", n+1)
	}
	if c := f.show(); c.Condition != contract.ConditionPaused || c.Progress.Rows != 100 {
		t.Errorf("%s, %d rows", c.Condition, c.Progress.Rows)
	}
	if n := len(f.journalOf("schedule")); n != 2 { // that it was set, and one skip
		t.Errorf("the journal has %d lines of the schedule: %+v", n, f.journalOf("schedule"))
	}
	f.must("crossing", "resume", "spring")
	if a := f.must("schedule", "pause", "spring"); !strings.Contains(a.out, "schedule resume spring") {
		t.Errorf("%+v", a)
	}
	if a := f.cli("schedule", "pause", "spring"); a.code == 0 || !strings.Contains(a.err, "paused already, by admin") {
		t.Errorf("%+v", a)
	}
	due()
	run("the schedule is paused by admin", 1)
	if a := f.must("schedule", "show", "spring"); !strings.Contains(a.out, "paused by admin") {
		t.Errorf("%s", a.out)
	}
	f.must("schedule", "resume", "spring")
	exec1(t, p.sourceURL(), `INSERT INTO public.lots VALUES (200, 200)`)
	// A schedule of another crossing that cannot be read keeps this one from nothing.
	f.must("crossing", "create", "autumn", "--follow-changes=false", "--source", "old", "--target", "new", "--table",
		"public.none")
	exec1(t, f.set.ControlURL, `INSERT INTO schedules (crossing_id, cron, next_at, actor) SELECT id, 'every now and then',
  now() - interval '1 minute', 'admin' FROM crossings WHERE name = 'autumn'`)
	due()
	eventually(t, 30*time.Second, func() bool {
		list := f.runs()
		return list[0].State == contract.RunStateDone && list[0].By == "its schedule" && list[0].Rows == 101 &&
			list[0].DueAt != nil
	})
	other, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), "autumn"))
	if err != nil || !strings.Contains(other.WaitsFor, "schedule cannot be read") {
		t.Errorf("%q (%v)", other.WaitsFor, err)
	}
	t.Log(f.must("runs", "spring").out)
}

// TestClosingEndsWhatIsUnderWay: a crossing that is closed while it prepares leaves nothing on
// the source, and is neither held nor resumed afterwards.
func TestClosingEndsWhatIsUnderWay(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots
  SELECT g, g FROM generate_series(1, 100) g; ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	// Capture can begin only when this transaction has ended.
	free := holdTable(t, p.sourceURL(), `UPDATE public.lots SET jars = 0 WHERE id = 1`)
	f.startCrossing()
	eventually(t, 30*time.Second, func() bool {
		return strings.Contains(f.task("prepare").Note, "capture can begin when")
	})
	f.must("crossing", "close", "spring", "--confirm", "spring", "--wait")
	c := f.show()
	if c.Phase != contract.PhaseClosed || c.Condition != contract.ConditionRunning || c.WaitsFor != "" || c.Reason != "" {
		t.Errorf("%s, %s: %q %q", c.Phase, c.Condition, c.WaitsFor, c.Reason)
	}
	if k := f.task("prepare"); k.State != contract.TaskStateCancelled ||
		!strings.Contains(k.Error, "the crossing was closed") {
		t.Errorf("%+v", k)
	}
	if a := f.cli("crossing", "resume", "spring"); a.code == 0 {
		t.Error("a closed crossing was resumed")
	}
	free()
	time.Sleep(3 * time.Second)
	if n := one[int](t, p.sourceURL(), `SELECT (SELECT count(*) FROM pg_replication_slots
  WHERE database = current_database())::int + (SELECT count(*) FROM pg_publication)::int`); n != 0 {
		t.Error("a slot or publication stays on the source, which keeps its log for it")
	}
	if c := f.show(); c.Condition != contract.ConditionRunning {
		t.Errorf("held afterwards: %s", c.Reason)
	}
	f.must("crossing", "remove", "spring", "--confirm", "spring")
}

// TestOneTargetAwayKeepsNoOther: while the target of one crossing does not answer, tables of
// another begin again; the first says what it waits for, and goes on by itself.
func TestOneTargetAwayKeepsNoOther(t *testing.T) {
	p, q := newPair(t), newPair(t)
	for _, url := range []string{p.sourceURL(), q.sourceURL()} {
		exec1(t, url, `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots SELECT g, g
  FROM generate_series(1, 500) g; ANALYZE`)
	}
	dir, err := os.MkdirTemp("", "dusty-ferry-test-") // the server runs as a user of its own
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	shy, err := localserver.StartPostgres(t.Context(), localserver.Options{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { shy.Stop() })
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	f.register("old2", servers.source, q.source)
	f.register("shy", shy, "postgres")
	f.must("crossing", "create", "autumn", "--follow-changes=false", "--source", "old2", "--target", "shy", "--table",
		"public.*")
	f.must("crossing", "start", "autumn")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	other := func() contract.Crossing {
		c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), "autumn"))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	eventually(t, time.Minute, func() bool { return other().Phase == contract.PhaseInStep })
	// Its table begins again, and then nobody answers.
	holdTable(t, dbURL(shy, "postgres"), `LOCK TABLE public.lots IN ACCESS SHARE MODE`)
	f.must("crossing", "restart", "autumn", "--table", "public.lots", "--confirm", "public.lots")
	time.Sleep(2 * time.Second)
	shy.Stop()
	f.must("crossing", "restart", "spring", "--table", "public.lots", "--confirm", "public.lots")
	eventually(t, 20*time.Second, func() bool {
		return told(f.journalOf("restart"), "public.lots has been emptied on the target")
	})
	f.awaitPhase(contract.PhaseInStep)
	settle(t, f)
	sameEverywhere(t, p, "public")
	eventually(t, 90*time.Second, func() bool {
		return strings.Contains(other().WaitsFor, "tables could not begin again")
	})
	again, err := localserver.StartPostgres(t.Context(), localserver.Options{Dir: dir, Port: shy.Port})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { again.Stop() })
	eventually(t, 90*time.Second, func() bool { c := other(); return c.Phase == contract.PhaseInStep && c.WaitsFor == "" })
}

// TestASlowReceiverKeepsOnlyItself: what a webhook does not take is sent to it again in order,
// and to the others meanwhile.
func TestASlowReceiverKeepsOnlyItself(t *testing.T) {
	f := start(t)
	const secret = "kelp and heather honey"
	t.Setenv("DUSTYFERRY_WEBHOOK_SECRET", secret)
	var mu sync.Mutex
	var refused int
	var heard []string
	deaf := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-time.After(20 * time.Second):
		}
	}))
	t.Cleanup(deaf.CloseClientConnections)
	moody := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if refused++; refused == 1 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		heard = append(heard, r.Header.Get("webhook-id"))
	}))
	quick := listen(t, secret)
	for name, url := range map[string]string{"deaf": deaf.URL, "moody": moody.URL, "quick": quick.URL} {
		f.must("webhook", "add", name, "--url", url)
	}
	for range 3 {
		f.must("webhook", "test", "deaf")
		f.must("webhook", "test", "moody")
	}
	time.Sleep(1500 * time.Millisecond)
	f.must("webhook", "test", "quick")
	f.must("webhook", "test", "quick") // the first of its kind is refused by this listener
	eventually(t, 12*time.Second, func() bool { return quick.heard("test") })
	eventually(t, 30*time.Second, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(heard) == 3
	})
	mu.Lock()
	defer mu.Unlock()
	for i := 1; i < len(heard); i++ {
		if heard[i-1] >= heard[i] && len(heard[i-1]) >= len(heard[i]) {
			t.Errorf("out of order: %v", heard)
		}
	}
}

// TestWorkCanBeCancelled: a fit check, a comparison, the adding of a table and a survey end
// within seconds when somebody says so, and leave what they found in order.
func TestWorkCanBeCancelled(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `
CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer, note text); INSERT INTO public.lots
  SELECT g, g, repeat('n', 200) FROM generate_series(1, 20000) g;
CREATE TABLE public.late (id integer PRIMARY KEY); INSERT INTO public.late SELECT generate_series(1, 10); ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.lots")
	cancelled := func(kind string) contract.Task {
		t.Helper()
		k := f.task(kind)
		began := time.Now()
		f.must("task", "cancel", "spring", fmt.Sprint(k.Id))
		eventually(t, 15*time.Second, func() bool { return f.task(kind).EndedAt != nil })
		if k = f.task(kind); k.State != contract.TaskStateCancelled || !strings.Contains(k.Error, "cancelled by admin") {
			t.Errorf("%s: %+v", kind, k)
		}
		t.Logf("%s ended after %s", kind, time.Since(began).Round(100*time.Millisecond))
		return k
	}
	// A fit check that takes its time.
	f.must("crossing", "rules", "spring", "--file", write(t, `[{tables: public.lots, columns: {note: {longest: 300}}}]`))
	if _, err := client.Do[contract.Crossing](f.API.CheckFitWithResponse(t.Context(), "spring",
		contract.NewFitCheck{SpeedLimit: ptr(int64(100_000))})); err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, func() bool { return f.task("fit check").State == contract.TaskStateRunning })
	cancelled("fit check")
	if fit, err := client.Do[contract.FitCheck](f.API.GetFitCheckWithResponse(t.Context(), "spring")); err != nil ||
		!strings.Contains(deref(fit.Error), "cancelled by admin") {
		t.Errorf("%+v (%v)", fit, err)
	}
	// A survey whose caller goes away.
	free := holdTable(t, p.sourceURL(), `LOCK TABLE public.lots IN ACCESS EXCLUSIVE MODE`)
	impatient, stop := context.WithTimeout(t.Context(), time.Second)
	_, err := f.API.SurveyCrossingWithResponse(impatient, "spring")
	stop()
	if err == nil {
		t.Error("the survey did not wait for the table")
	}
	eventually(t, 15*time.Second, func() bool { return f.task("survey").EndedAt != nil })
	if k := f.task("survey"); k.State != contract.TaskStateCancelled {
		t.Errorf("%+v", k)
	}
	free()
	f.must("survey", "spring")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	// A comparison: somebody has the source's table for himself.
	free = holdTable(t, p.sourceURL(), `LOCK TABLE public.lots IN ACCESS EXCLUSIVE MODE`)
	r, err := client.Do[contract.Reconciliation](f.API.ReconcileWithResponse(t.Context(), "spring",
		contract.NewReconciliation{Depth: contract.NewReconciliationDepthHashes}))
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, func() bool { return f.task("reconcile").State == contract.TaskStateRunning })
	time.Sleep(time.Second)
	cancelled("reconcile")
	if r, err = client.Do[contract.Reconciliation](f.API.GetReconciliationWithResponse(t.Context(), "spring",
		r.Id)); err != nil || r.State != contract.ReconciliationStateCancelled {
		t.Errorf("%+v (%v)", r, err)
	}
	free()
	// Adding a table to a crossing that nobody follows, as it is paused.
	f.must("crossing", "pause", "spring")
	f.must("crossing", "add-table", "spring", "public.late")
	eventually(t, 30*time.Second, func() bool {
		return strings.Contains(f.task("add a table").Note, "waiting until capture knows")
	})
	cancelled("add a table")
	f.must("crossing", "resume", "spring")
	eventually(t, time.Minute, func() bool {
		c := f.show()
		return c.Phase == contract.PhaseInStep && c.Progress.Tables == 1
	})
	f.must("crossing", "add-table", "spring", "public.late")
	eventually(t, time.Minute, func() bool {
		c := f.show()
		return c.Phase == contract.PhaseInStep && c.Progress.TablesLanded == 2
	})
	settle(t, f)
	sameEverywhere(t, p, "public")
	for _, no := range [][]string{{"task", "cancel", "spring", "9999"}, {"task", "cancel", "spring", "one"},
		{"task", "cancel", "spring", fmt.Sprint(f.task("reconcile").Id)}} {
		if a := f.cli(no...); a.code == 0 {
			t.Errorf("%v was done", no)
		}
	}
	t.Log(f.must("task", "list", "spring").out)
}

// TestAPausedRefreshHoldsNoSnapshot: the source need not keep rows for a refresh that stands
// still, and what it reads when it goes on is all there.
func TestAPausedRefreshHoldsNoSnapshot(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.visits (id integer PRIMARY KEY, at timestamptz NOT NULL, note text);
  CREATE INDEX ON public.visits (at);
INSERT INTO public.visits SELECT g, now() - interval '1 day', 'n' FROM generate_series(1, 100) g; ANALYZE`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	f.must("crossing", "create", "spring", "--follow-changes=false", "--source", "old", "--target", "new", "--table",
		"public.*")
	f.must("crossing", "rules", "spring", "--file", write(t, `[{tables: "public.*", watermark: at, overlap: 1m}]`))
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.sourceURL(), `INSERT INTO public.visits SELECT g, now(), repeat('n', 100)
  FROM generate_series(1000, 60000) g`)
	f.must("crossing", "set", "spring", "--speed-limit", "500KB")
	f.must("crossing", "refresh", "spring")
	eventually(t, 30*time.Second, func() bool {
		return one[int](t, p.targetURL(), `SELECT count(*)::int FROM public.visits`) > 100
	})
	snapshots := func() int {
		return one[int](t, p.sourceURL(), `SELECT count(*)::int FROM pg_stat_activity WHERE datname = current_database()
  AND pid <> pg_backend_pid() AND backend_xmin IS NOT NULL`)
	}
	if snapshots() == 0 {
		t.Fatal("the refresh holds no snapshot while it reads: the test looks at the wrong thing")
	}
	f.must("crossing", "pause", "spring")
	eventually(t, 30*time.Second, func() bool {
		return snapshots() == 0 && strings.HasPrefix(f.task("refresh").Note, "paused")
	})
	exec1(t, p.sourceURL(), `DELETE FROM public.visits WHERE id = 1; INSERT INTO public.visits VALUES (1, now(), 'again')`)
	f.must("crossing", "set", "spring", "--speed-limit", "0")
	f.must("crossing", "resume", "spring")
	eventually(t, time.Minute, func() bool { return f.task("refresh").State == contract.TaskStateDone })
	sameEverywhere(t, p, "public")
}
