package postgres

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/domain"
)

// TestTheTargetIsGuarded: nobody but us writes to guarded tables, whatever the statement and the way;
// everybody does when the guard is opened, and nothing is left of it in the end.
func TestTheTargetIsGuarded(t *testing.T) {
	d := fresh(t, bookkeepingTables, "CREATE TABLE public.hives (id integer PRIMARY KEY)",
		"CREATE TABLE public.scales (id integer, at date) PARTITION BY RANGE (at)",
		"CREATE TABLE public.scales_26 PARTITION OF public.scales FOR VALUES FROM ('2026-01-01') TO ('2027-01-01') "+
			"PARTITION BY RANGE (at)",
		"CREATE TABLE public.scales_26_1 PARTITION OF public.scales_26 FOR VALUES FROM ('2026-01-01') TO ('2026-07-01')",
		"CREATE TABLE public.others (id integer)", "INSERT INTO public.hives VALUES (1)")
	ctx := t.Context()
	app, err := pgx.Connect(ctx, host.URL(d.conf.Database))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = app.Close(ctx) }()
	writes := []string{"INSERT INTO public.hives VALUES (2)", "UPDATE public.hives SET id = 3 WHERE id = 2",
		"DELETE FROM public.hives WHERE id = 3", "TRUNCATE public.hives",
		"INSERT INTO public.scales VALUES (1, '2026-02-01')",
		"INSERT INTO public.scales_26 VALUES (1, '2026-02-01')", "INSERT INTO public.scales_26_1 VALUES (1, '2026-02-01')",
		"DELETE FROM public.scales_26_1", "COPY public.hives FROM STDIN"}
	refused := func(want bool) {
		t.Helper()
		for _, sql := range writes {
			var err error
			if strings.HasPrefix(sql, "COPY") {
				_, err = app.PgConn().CopyFrom(ctx, strings.NewReader("77\n"), sql)
				if err == nil {
					run(t, d, "DELETE FROM public.hives WHERE id = 77")
				}
			} else {
				_, err = app.Exec(ctx, sql)
			}
			var pe *pgconn.PgError
			is := errors.As(err, &pe) && pe.Code == "25006" && strings.Contains(pe.Message, "is filled by Dusty Ferry")
			if is != want || !want && err != nil {
				t.Errorf("%s: %v", sql, err)
			}
		}
	}
	plans := []domain.TablePlan{*planned(t, d, "public.hives"), *planned(t, d, "public.scales")}
	guarded := func(hives, scales bool) {
		t.Helper()
		is, err := d.Guarded(ctx, "c0ffee", plans)
		if err != nil || is[plans[0].Target] != hives || is[plans[1].Target] != scales {
			t.Errorf("guarded: %v (%v)", is, err)
		}
	}
	guarded(false, false)
	if err := d.OpenGuard(ctx, "c0ffee", false); err != nil { // there is none
		t.Fatal(err)
	}
	refused(false)
	for range 2 {
		if err := d.Guard(ctx, "c0ffee", plans); err != nil {
			t.Fatal(err)
		}
	}
	guarded(true, true)
	refused(true)
	for _, sql := range writes[:len(writes)-1] { // we pass
		run(t, d, sql)
	}
	if _, err := app.Exec(ctx, "INSERT INTO public.others VALUES (1)"); err != nil {
		t.Errorf("another table: %v", err)
	}
	run(t, d, "ALTER TABLE public.scales_26 DISABLE TRIGGER dusty_ferry_guard")
	guarded(true, false)
	run(t, d, "ALTER TABLE public.scales_26 ENABLE TRIGGER dusty_ferry_guard")
	run(t, d, "CREATE TABLE public.scales_27 PARTITION OF public.scales FOR VALUES FROM ('2027-01-01') TO ('2028-01-01')")
	guarded(true, false)                                    // writes straight into the new one pass
	for _, want := range []string{"public.scales_27", ""} { // and then there is none
		if got, err := d.GuardNew(ctx, "c0ffee", plans); err != nil || strings.Join(got, " ") != want {
			t.Errorf("new partitions that are guarded now: %q, %v", got, err)
		}
		guarded(true, true)
	}
	if got, err := d.GuardNew(ctx, "decaf", plans); err != nil || len(got) > 0 {
		t.Errorf("of a crossing whose tables are not guarded: %q, %v", got, err)
	}
	for _, open := range []bool{true, false} {
		if err := d.OpenGuard(ctx, "c0ffee", open); err != nil {
			t.Fatal(err)
		}
		guarded(!open, !open)
		refused(!open)
	}
	// An application that is at work on several tables is kept waiting by none, and waits for none.
	if err := d.OpenGuard(ctx, "c0ffee", true); err != nil {
		t.Fatal(err)
	}
	work := func(sql string) {
		t.Helper()
		if _, err := app.Exec(ctx, sql); err != nil {
			t.Errorf("%s: %v", sql, err)
		}
	}
	work("BEGIN; SET LOCAL lock_timeout = '2s'; INSERT INTO public.scales VALUES (5, '2026-02-01')")
	done := make(chan error)
	go func() { done <- d.Unguard(ctx, "c0ffee") }()
	for len(triggers(t, d)) > 3 { // all but the one that is written to, and its partitions
		time.Sleep(20 * time.Millisecond)
	}
	work("INSERT INTO public.hives VALUES (5); COMMIT")
	if err := <-done; err != nil {
		t.Error(err)
	}
	for range 2 {
		if err := d.Unguard(ctx, "c0ffee"); err != nil {
			t.Fatal(err)
		}
	}
	refused(false)
	guarded(false, false)
	if err := d.Guard(ctx, "c0ffee", plans); err != nil {
		t.Fatal(err)
	}
	if err := d.Forget(ctx, "c0ffee"); err != nil {
		t.Fatal(err)
	}
	refused(false)
	var left int
	if err := app.QueryRow(ctx, "SELECT count(*) FROM pg_trigger WHERE NOT tgisinternal").Scan(&left); err != nil ||
		left > 0 {
		t.Errorf("%d triggers are left (%v)", left, err)
	}
}

// triggers are those of a guard, by their tables.
func triggers(t *testing.T, d *database) []string {
	t.Helper()
	rows, err := d.pool.Query(t.Context(), "SELECT tgrelid::regclass::text FROM pg_trigger WHERE tgname = $1",
		guardTrigger)
	if err != nil {
		t.Fatal(err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		t.Fatal(err)
	}
	return list
}
