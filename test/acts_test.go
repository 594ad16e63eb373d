package test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
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
	for end := time.Now().Add(6 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
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
