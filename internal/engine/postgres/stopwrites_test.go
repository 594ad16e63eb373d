package postgres

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
)

func TestStoppingWrites(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.h (id integer PRIMARY KEY)`)
	plans := []domain.TablePlan{*planned(t, d, "public.h")}
	write := func(wait time.Duration) error {
		ctx, cancel := context.WithTimeout(t.Context(), wait)
		defer cancel()
		_, err := d.pool.Exec(ctx, `INSERT INTO public.h SELECT coalesce(max(id), 0) + 1 FROM public.h`)
		return err
	}
	s, err := d.StopWrites(t.Context(), domain.StopLock, "dusty_ferry_t", plans, time.Second)
	if err != nil {
		t.Fatal(err)
	}
	if err := write(300 * time.Millisecond); err == nil {
		t.Error("a write went through the locks")
	}
	if n := value[int64](t, d, `SELECT count(*) FROM public.h`); n != 0 {
		t.Error("reads must go on")
	}
	waiting := make(chan error)
	go func() { waiting <- write(10 * time.Second) }()
	time.Sleep(200 * time.Millisecond)
	if err := s.CloseWrites(t.Context(), "moved to \\new 'barn'", ""); err != nil {
		t.Fatal(err)
	}
	if err := <-waiting; err == nil || !strings.Contains(err.Error(), `moved to \new 'barn'`) {
		t.Errorf("the waiting write met %v", err)
	}
	if err := s.Release(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := write(time.Second); err == nil {
		t.Error("the closed source took a write")
	}
	if err := d.Reopen(t.Context(), domain.StopLock, "dusty_ferry_t", plans); err != nil {
		t.Fatal(err)
	}
	if err := write(time.Second); err != nil {
		t.Errorf("the reopened source takes no write: %v", err)
	}
	// A hold whose process is gone is ended by the reopening.
	if _, err := d.StopWrites(t.Context(), domain.StopLock, "dusty_ferry_t", plans, time.Second); err != nil {
		t.Fatal(err)
	}
	if err := d.Reopen(t.Context(), domain.StopLock, "dusty_ferry_t", plans); err != nil {
		t.Fatal(err)
	}
	if err := write(2 * time.Second); err != nil {
		t.Errorf("an abandoned hold still stops writes: %v", err)
	}
	if value[bool](t, d, `SELECT to_regnamespace('dusty_ferry') IS NOT NULL`) {
		t.Error("the reopened source keeps our schema")
	}
}

// Writers that take their tables in the other order must neither be ended nor
// keep us out.
func TestStoppingWritesAgainstTheGrain(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.a (id integer PRIMARY KEY, n integer);
  CREATE TABLE public.z (id integer PRIMARY KEY, n integer); INSERT INTO public.a VALUES (1, 0); INSERT INTO public.z
  VALUES (1, 0)`)
	plans := []domain.TablePlan{*planned(t, d, "public.a"), *planned(t, d, "public.z")}
	ctx, cancel := context.WithCancel(t.Context())
	var ended atomic.Int64
	done := make(chan struct{})
	go func() {
		defer close(done)
		for ctx.Err() == nil {
			err := pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
				if _, err := tx.Exec(ctx, `UPDATE public.z SET n = n + 1`); err != nil {
					return err
				}
				time.Sleep(5 * time.Millisecond)
				_, err := tx.Exec(ctx, `UPDATE public.a SET n = n + 1`)
				return err
			})
			if err != nil && ctx.Err() == nil {
				ended.Add(1)
				t.Logf("a writer met %v", err)
			}
		}
	}()
	for range 8 {
		s, err := d.StopWrites(t.Context(), domain.StopLock, "dusty_ferry_g", plans, 20*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Alive(t.Context()); err != nil {
			t.Error(err)
		}
		_ = s.Release(t.Context())
		time.Sleep(7 * time.Millisecond)
	}
	cancel()
	<-done
	if ended.Load() > 0 {
		t.Errorf("%d of the application's transactions were ended", ended.Load())
	}
}

// TestASessionThatIsEndingCanStillCommit: writes are not stopped before every session that could
// write is gone.
func TestASessionThatIsEndingCanStillCommit(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.h (id integer PRIMARY KEY)`)
	plans := []domain.TablePlan{*planned(t, d, "public.h")}
	t.Cleanup(func() { _ = d.Reopen(context.WithoutCancel(t.Context()), domain.StopReadOnly, "dusty_ferry_t", plans) })
	app, err := pgx.Connect(t.Context(), host.URL(d.conf.Database))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = app.Close(context.WithoutCancel(t.Context())) }()
	pid := int(app.PgConn().PID())
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil { // it sees nothing of what it is told
		t.Fatal(err)
	}
	defer func() { _ = syscall.Kill(pid, syscall.SIGCONT) }()
	if _, err := d.StopWrites(t.Context(), domain.StopReadOnly, "dusty_ferry_t", plans,
		300*time.Millisecond); err == nil ||
		!strings.Contains(err.Error(), fmt.Sprintf("session %d of the source was told to end", pid)) {
		t.Errorf("a session is there that can write: %v", err)
	}
	done := make(chan error, 1)
	go func() {
		_, err := d.StopWrites(t.Context(), domain.StopReadOnly, "dusty_ferry_t", plans, 20*time.Second)
		done <- err
	}()
	select {
	case err := <-done:
		t.Errorf("writes count as stopped while a session is there that can write: %v", err)
	case <-time.After(500 * time.Millisecond):
	}
	if err := syscall.Kill(pid, syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	if err := <-done; err != nil {
		t.Error(err)
	}
	// One that connects now can only read.
	late, err := pgx.Connect(t.Context(), host.URL(d.conf.Database))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = late.Close(context.WithoutCancel(t.Context())) }()
	if _, err := late.Exec(t.Context(), `INSERT INTO public.h VALUES (1)`); err == nil {
		t.Error("a write went through")
	}
}

func TestReadOnlyStopsTheWholeDatabase(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.h (id integer PRIMARY KEY)`)
	plans := []domain.TablePlan{*planned(t, d, "public.h")}
	write := func() error {
		c, err := pgx.Connect(t.Context(), host.URL(d.conf.Database))
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = c.Close(t.Context()) }()
		_, err = c.Exec(t.Context(), `INSERT INTO public.h SELECT coalesce(max(id), 0) + 1 FROM public.h`)
		return err
	}
	if _, err := d.StopWrites(t.Context(), domain.StopReadOnly, "dusty_ferry_t", plans, time.Second); err != nil {
		t.Fatal(err)
	}
	if err := write(); err == nil {
		t.Error("a write went through")
	}
	if err := d.Reopen(t.Context(), domain.StopReadOnly, "dusty_ferry_t", plans); err != nil {
		t.Fatal(err)
	}
	if err := write(); err != nil {
		t.Error(err)
	}
}

// TestAClosedSourceLetsTheWayBackPass: the sessions of one crossing, and of nobody else, in whatever role;
// and it says which tables are closed, with all of their partitions.
func TestAClosedSourceLetsTheWayBackPass(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.h (id integer PRIMARY KEY) PARTITION BY RANGE (id);
CREATE TABLE public.h1 PARTITION OF public.h FOR VALUES FROM (0) TO (100); CREATE TABLE public.free (id integer)`)
	name := domain.TableName{Schema: "public", Name: "h"}
	plans := []domain.TablePlan{{Source: name, Target: name}}
	asked := append(plans[:1:1], domain.TablePlan{Target: domain.TableName{Schema: "public", Name: "free"}})
	closed := func(want bool) {
		t.Helper()
		is, err := d.Closed(t.Context(), "dusty_ferry_t", asked)
		if err != nil || is[name] != want || is[asked[1].Target] {
			t.Errorf("closed are %v, %v", is, err)
		}
	}
	closed(false)
	s, err := d.StopWrites(t.Context(), domain.StopLock, "dusty_ferry_t", plans, time.Second)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.CloseWrites(t.Context(), "moved", "c0ffee"); err != nil {
		t.Fatal(err)
	}
	closed(true)
	for n, who := range []string{"c0ffee", "other", "", "c0ffee'"} {
		c, err := d.connect(t.Context(), named(who))
		if err != nil {
			t.Fatal(err)
		}
		for i, role := range []string{"origin", "replica"} {
			for j, table := range []string{"h", "h1"} {
				_, err := c.Exec(t.Context(), fmt.Sprintf("SET session_replication_role = %s; INSERT INTO public.%s VALUES (%d)",
					role,
					table, 1+j+2*i+4*n))
				if (err == nil) != (who == "c0ffee") {
					t.Errorf("%q as %s into %s: %v", who, role, table, err)
				}
			}
		}
		_ = c.Close(t.Context())
	}
	// Triggers that refuse nobody any more are no gate.
	if err := d.Reopen(t.Context(), domain.StopLock, "dusty_ferry_t", plans); err != nil {
		t.Fatal(err)
	}
	closed(false)
}

// TestSettlingHoldsUpNobody: a writer goes on beside it, and what does not give way is left alone soon.
func TestSettlingHoldsUpNobody(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.h (id integer PRIMARY KEY); CREATE TABLE public.g (id integer PRIMARY KEY)`)
	plans := []domain.TablePlan{*planned(t, d, "public.h"), *planned(t, d, "public.g")}
	session := func() *pgx.Conn {
		c, err := d.connect(t.Context(), nil)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = c.Close(context.Background()) })
		return c
	}
	writer, vacuum := session(), session()
	run := func(c *pgx.Conn, sql string) {
		t.Helper()
		if _, err := c.Exec(t.Context(), sql); err != nil {
			t.Fatal(err)
		}
	}
	run(writer, "BEGIN; INSERT INTO public.g VALUES (1)")
	if err := d.Settle(t.Context(), plans); err != nil {
		t.Fatal(err)
	}
	run(vacuum, "BEGIN; LOCK TABLE public.h IN SHARE UPDATE EXCLUSIVE MODE") // as a vacuum by hand does
	began := time.Now()
	if err := d.Settle(t.Context(), plans); err != nil {
		t.Fatal(err)
	}
	if took := time.Since(began); took < settling || took > 20*settling {
		t.Errorf("it took %s", took)
	}
	run(writer, "INSERT INTO public.h VALUES (1); COMMIT")
	if n := value[int64](t, d, `SELECT count(*) FROM pg_locks WHERE mode = 'ShareUpdateExclusiveLock' AND
  relation IN ('public.h'::regclass, 'public.g'::regclass)`); n != 1 {
		t.Errorf("%d locks are held", n)
	}
}
