package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// stop is a session whose open transaction holds the tables' locks (method
// lock), or nothing (the other methods).
type stop struct {
	d      *database
	conn   *pgx.Conn
	method domain.StopMethod
	name   string
	plans  []domain.TablePlan
}

// StopMethods are all there are.
func (Driver) StopMethods() []domain.StopMethod {
	return []domain.StopMethod{domain.StopLock, domain.StopReadOnly, domain.StopWord}
}

// MayStop refuses nothing: what a stop sets is told apart from what others set.
func (d *database) MayStop(context.Context, domain.StopMethod) error { return nil }

// settling bounds how long one table is waited for, and settlingAll all of them.
const (
	settling    = 300 * time.Millisecond
	settlingAll = 3 * time.Second
)

// Settle takes, and lets go again, locks that writers do not wait for but vacuums do: an automatic one that
// holds such a lock gives way to who waits for it, and would hold up the real locks, and all writers
// behind them, for as long. It is not begun anew at once.
func (d *database) Settle(ctx context.Context, plans []domain.TablePlan) error {
	conn, err := d.connect(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	// Not every role may say for how long an automatic vacuum is waited for.
	_, _ = conn.Exec(ctx, "SET deadlock_timeout = '20ms'")
	if _, err := conn.Exec(ctx, fmt.Sprintf("SET lock_timeout = '%dms'; BEGIN", settling.Milliseconds())); err != nil {
		return d.explain(err)
	}
	for i, end := 0, time.Now().Add(settlingAll); i < len(plans) && time.Now().Before(end); i++ {
		// What does not give way, as a vacuum that somebody runs by hand, is left to the real lock.
		_, err := conn.Exec(ctx, "SAVEPOINT s; LOCK TABLE "+only(&plans[i])+qualified(plans[i].Source)+
			" IN SHARE UPDATE EXCLUSIVE MODE")
		if err == nil {
			continue
		}
		if _, err := conn.Exec(ctx, "ROLLBACK TO s"); err != nil {
			return d.explain(err)
		}
	}
	_, err = conn.Exec(ctx, "ROLLBACK")
	return d.explain(err)
}

// StopWrites makes the source take no more writes to the tables. With locks,
// readers go on and writers wait; a lock that cannot be had within wait is an
// error and nothing stays locked.
func (d *database) StopWrites(ctx context.Context, method domain.StopMethod, name string, plans []domain.TablePlan,
	wait time.Duration) (engine.WriteStop, error) {
	s := &stop{d: d, method: method, name: name, plans: plans}
	switch method {
	case domain.StopWord:
		return s, nil
	case domain.StopReadOnly:
		if _, err := d.pool.Exec(ctx, "ALTER DATABASE "+quote(d.conf.Database)+
			" SET default_transaction_read_only = on"); err != nil {
			return nil, fmt.Errorf("making the source read-only: %w", d.explain(err))
		}
		// Sessions that are open keep their old setting: they are ended, and gone before writes
		// count as stopped.
		return s, d.endSessions(ctx, wait)
	}
	conn, err := d.connect(ctx, map[string]string{"application_name": holder(name)})
	if err != nil {
		return nil, err
	}
	s.conn = conn
	if err := s.lock(ctx, wait); err != nil {
		_ = conn.Close(context.WithoutCancel(ctx))
		return nil, err
	}
	return s, nil
}

// firstTry is shorter than the server's deadlock_timeout (1 s by default): a
// transaction of the application that takes its tables in another order than we
// do is let through when we step back, instead of being ended as the victim of a
// deadlock. Later tries grow, for the sake of getting in among long writers.
const firstTry = 700 * time.Millisecond

// lock takes all tables' locks or none of them, again and again until wait is
// over. The table it got stuck at comes first the next time, so that the order
// becomes the application's own.
func (s *stop) lock(ctx context.Context, wait time.Duration) error {
	var names []string
	for i := range s.plans {
		names = append(names, only(&s.plans[i])+qualified(s.plans[i].Source))
	}
	end := time.Now().Add(wait)
	for try := 0; ; try++ {
		until := time.Now().Add(min(firstTry*time.Duration(1+try/6), time.Until(end)))
		stuck, err := s.lockAll(ctx, names, until)
		if err == nil {
			return nil
		}
		var pe *pgconn.PgError
		if !errors.As(err, &pe) || pe.Code != "57014" && pe.Code != "40P01" && pe.Code != "55P03" {
			return fmt.Errorf("locking the source's tables: %w", s.d.explain(err))
		}
		if _, err := s.conn.Exec(ctx, "ROLLBACK"); err != nil {
			return s.d.explain(err)
		}
		if time.Until(end) <= 0 {
			return domain.Unavailable(err, "long transactions on the source keep %s from being locked; writes could not be "+
				"stopped within %s. End them or wait for them (pg_stat_activity, oldest xact_start), then try again",
				strings.TrimPrefix(names[stuck], "ONLY "), wait)
		}
		name := names[stuck]
		names = append([]string{name}, slices.Delete(names, stuck, stuck+1)...)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// lockAll tries once, and says at which table it got stuck.
func (s *stop) lockAll(ctx context.Context, names []string, until time.Time) (int, error) {
	// An automatic vacuum gives way to who has waited for so long; applications wait meanwhile. Not
	// every role may say for how long: it is a second then.
	_, _ = s.conn.Exec(ctx, "SET deadlock_timeout = '50ms'")
	if _, err := s.conn.Exec(ctx, "BEGIN; SET LOCAL lock_timeout = 0"); err != nil {
		return 0, err
	}
	for i, n := range names {
		left := max(time.Until(until).Milliseconds(), 1)
		if _, err := s.conn.Exec(ctx, fmt.Sprintf("SET LOCAL statement_timeout = '%dms'", left)); err != nil {
			return i, err
		}
		if _, err := s.conn.Exec(ctx, "LOCK TABLE "+n+" IN SHARE ROW EXCLUSIVE MODE"); err != nil {
			return i, err
		}
	}
	_, err := s.conn.Exec(ctx, "SET LOCAL statement_timeout = 0")
	return 0, err
}

// Alive asks over the session that holds the locks.
func (s *stop) Alive(ctx context.Context) error {
	if s.conn == nil {
		return nil
	}
	_, err := s.conn.Exec(ctx, "SELECT 1")
	return s.d.explain(err)
}

// CloseWrites puts a trigger on each table that refuses writes, in the very
// transaction that holds the locks: no write gets between the two.
func (s *stop) CloseWrites(ctx context.Context, message, except string) error {
	all, err := s.d.family(ctx, s.plans)
	if err != nil {
		return err
	}
	// The database stays read-only where that is the method, and a session that begins a
	// transaction READ WRITE all the same is refused like everywhere else.
	run := func(tx pgx.Tx) error {
		for _, sql := range closeStatements(s.name, all, message, except) {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return fmt.Errorf("closing the source for writes: %w", s.d.explain(err))
			}
		}
		return nil
	}
	if s.conn == nil {
		return pgx.BeginFunc(ctx, s.d.pool, run)
	}
	for _, sql := range append(closeStatements(s.name, all, message, except), "COMMIT") {
		if _, err := s.conn.Exec(ctx, sql); err != nil {
			return fmt.Errorf("closing the source for writes: %w", s.d.explain(err))
		}
	}
	return nil
}

// holder names the session that holds the locks, so that it can be ended from
// elsewhere when its process is frozen or cut off.
func holder(name string) string { return name + "_hold" }

func gate(name string) string { return quote(name + "_moved") }

// family lists the tables of the plans with everything that rows of theirs can be written
// to directly: partitions at every level, whose roots' triggers say nothing of it.
func (d *database) family(ctx context.Context, plans []domain.TablePlan) ([]domain.TableName, error) {
	var names []string
	for i := range plans {
		names = append(names, qualified(plans[i].Source))
	}
	rows, err := d.pool.Query(ctx, `
SELECT DISTINCT n.nspname, c.relname
  FROM unnest($1::text[]) AS u(name) CROSS JOIN LATERAL (
       SELECT to_regclass(u.name)::oid AS oid UNION SELECT relid FROM `+partitionTree("to_regclass(u.name)")+` t) f
  JOIN pg_class c ON c.oid = f.oid JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'p') ORDER BY 1, 2`, names)
	if err != nil {
		return nil, d.explain(err)
	}
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (t domain.TableName, err error) {
		return t, r.Scan(&t.Schema, &t.Name)
	})
	return out, d.explain(err)
}

// closeStatements put triggers on tables that refuse every write, in whatever role a session
// is, and by whatever statement; but for those of the crossing that brings changes back, whose sessions
// name it (see named).
func closeStatements(name string, tables []domain.TableName, message, except string) []string {
	passes := ""
	if except != "" {
		passes = "IF current_setting('dusty_ferry.crossing', true) = " + literal(except) + " THEN RETURN NULL; END IF; "
	}
	out := []string{
		"CREATE SCHEMA IF NOT EXISTS dusty_ferry",
		"GRANT USAGE ON SCHEMA dusty_ferry TO PUBLIC",
		fmt.Sprintf(`CREATE OR REPLACE FUNCTION dusty_ferry.%s() RETURNS trigger LANGUAGE plpgsql AS %s`, gate(name),
			literal("BEGIN "+passes+"RAISE EXCEPTION USING ERRCODE = 'read_only_sql_transaction', MESSAGE = "+literal(message)+
				"; END")),
	}
	for _, t := range tables {
		out = append(out,
			fmt.Sprintf("DROP TRIGGER IF EXISTS %s ON %s", gate(name), qualified(t)),
			fmt.Sprintf("CREATE TRIGGER %[1]s BEFORE INSERT OR UPDATE OR DELETE OR TRUNCATE ON %[2]s FOR EACH STATEMENT "+
				"EXECUTE FUNCTION dusty_ferry.%[1]s()", gate(name), qualified(t)),
			fmt.Sprintf("ALTER TABLE %s ENABLE ALWAYS TRIGGER %s", qualified(t), gate(name)))
	}
	return out
}

// named are the settings of a session that writes for a crossing.
func named(crossing string) map[string]string {
	return map[string]string{"dusty_ferry.crossing": crossing}
}

// quietPasses is how often in a row no old session must be found: one that is just starting has
// read its settings a moment before the server lists it.
const quietPasses = 2

// endSessions ends every session of the database but ours that is there now, as a setting of the
// database holds for new ones alone, and waits until they are gone: one that was told to end can
// still commit what it is doing. With no time to wait, they are told and no more.
func (d *database) endSessions(ctx context.Context, wait time.Duration) error {
	var now time.Time
	if err := d.pool.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&now); err != nil {
		return d.explain(err)
	}
	for quiet, end := 0, time.Now().Add(wait); quiet < quietPasses; {
		var left []string
		if err := d.pool.QueryRow(ctx, `
SELECT coalesce(array_agg(pid::text) FILTER (WHERE pg_terminate_backend(pid) IS NOT NULL), '{}') FROM pg_stat_activity
 WHERE datname = current_database() AND backend_type = 'client backend' AND application_name NOT LIKE 'dusty-ferry%'
   AND pid <> pg_backend_pid() AND backend_start <= $1`, now).Scan(&left); err != nil {
			return d.explain(err)
		}
		if wait == 0 {
			return nil
		}
		if quiet++; len(left) > 0 {
			quiet = 0
		}
		if quiet == 0 && time.Now().After(end) {
			return domain.Unavailable(nil, "session %s of the source was told to end %s ago and has not; what it is doing "+
				"could still be committed. End it by hand (pg_stat_activity), then try again", strings.Join(left, ", "), wait)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

// Release ends the session that holds the locks.
func (s *stop) Release(ctx context.Context) error {
	if s.conn == nil {
		return nil
	}
	err := s.conn.Close(ctx)
	s.conn = nil
	return err
}

// Reopen lets the source take writes again, whatever had been done to stop it.
func (d *database) Reopen(ctx context.Context, method domain.StopMethod, name string, plans []domain.TablePlan) error {
	if method == domain.StopReadOnly {
		if err := d.endReadOnly(ctx); err != nil {
			return fmt.Errorf("making the source writable again: %w", err)
		}
	}
	if _, err := d.pool.Exec(ctx, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = $1
  AND datname = current_database()`, holder(name)); err != nil {
		return d.explain(err)
	}
	var there bool
	if err := d.pool.QueryRow(ctx, `SELECT to_regprocedure('dusty_ferry.' || $1 || '()') IS NOT NULL`, gate(name)).Scan(
		&there); err != nil || !there {
		return d.explain(err)
	}
	// Another body lets writes through at once, and waits for nobody; the triggers go when
	// their tables' readers let them.
	if _, err := d.pool.Exec(ctx, fmt.Sprintf(`
CREATE OR REPLACE FUNCTION dusty_ferry.%s() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END'`,
		gate(name))); err != nil {
		return fmt.Errorf("opening the source for writes again: %w", d.explain(err))
	}
	if err := d.alterQuickly(ctx, fmt.Sprintf("DROP FUNCTION dusty_ferry.%s() CASCADE", gate(name))); err != nil {
		return engine.Left{What: fmt.Sprintf("triggers %s that do nothing any more are still on its tables (%s); closing "+
			"the crossing drops them", gate(name), err)}
	}
	_, err := d.pool.Exec(ctx, dropEmptySchema)
	return d.explain(err)
}

// dropEmptySchema removes our schema where nothing is in it: what closes the tables for another
// crossing may be.
const dropEmptySchema = `
DO $$ BEGIN
  IF NOT EXISTS (SELECT 1 FROM pg_class WHERE relnamespace = 'dusty_ferry'::regnamespace)
     AND NOT EXISTS (SELECT 1 FROM pg_proc WHERE pronamespace = 'dusty_ferry'::regnamespace) THEN
    DROP SCHEMA dusty_ferry RESTRICT;
  END IF;
END $$`

// endReadOnly makes the database writable again if it is read-only, for sessions that
// connected meanwhile too: they have the setting still, so they are ended.
func (d *database) endReadOnly(ctx context.Context) error {
	var is bool
	if err := d.pool.QueryRow(ctx, `
SELECT EXISTS (SELECT FROM pg_db_role_setting s JOIN pg_database b ON b.oid = s.setdatabase
                WHERE b.datname = current_database() AND s.setrole = 0
                  AND 'default_transaction_read_only=on' = ANY (s.setconfig))`).Scan(&is); err != nil || !is {
		return d.explain(err)
	}
	if _, err := d.pool.Exec(ctx, "ALTER DATABASE "+quote(d.conf.Database)+
		" RESET default_transaction_read_only"); err != nil {
		return d.explain(err)
	}
	return d.endSessions(ctx, 0)
}
