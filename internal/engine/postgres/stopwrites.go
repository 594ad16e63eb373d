package postgres

import (
	"context"
	"errors"
	"fmt"
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

// StopWrites makes the source take no more writes to the tables. With locks,
// readers go on and writers wait; a lock that cannot be had within wait is an
// error and nothing stays locked.
func (d *database) StopWrites(ctx context.Context, method domain.StopMethod, name string, plans []domain.TablePlan, wait time.Duration) (engine.WriteStop, error) {
	s := &stop{d: d, method: method, name: name, plans: plans}
	switch method {
	case domain.StopWord:
		return s, nil
	case domain.StopReadOnly:
		if _, err := d.pool.Exec(ctx, "ALTER DATABASE "+quote(d.conf.Database)+" SET default_transaction_read_only = on"); err != nil {
			return nil, fmt.Errorf("making the source read-only: %w", d.explain(err))
		}
		// Sessions that are open keep their old setting: they are ended.
		_, err := d.pool.Exec(ctx, `
SELECT pg_terminate_backend(pid) FROM pg_stat_activity
 WHERE datname = current_database() AND backend_type = 'client backend' AND application_name <> 'dusty-ferry'`)
		return s, d.explain(err)
	}
	conn, err := d.connect(ctx, map[string]string{"application_name": holder(name)})
	if err != nil {
		return nil, err
	}
	s.conn = conn
	var names []string
	for i := range plans {
		names = append(names, only(&plans[i])+qualified(plans[i].Source))
	}
	_, err = conn.Exec(ctx, fmt.Sprintf("BEGIN; SET LOCAL lock_timeout = '%dms'; LOCK TABLE %s IN SHARE ROW EXCLUSIVE MODE; SET LOCAL lock_timeout = 0",
		wait.Milliseconds(), strings.Join(names, ", ")))
	if err != nil {
		_ = conn.Close(context.WithoutCancel(ctx))
		var pe *pgconn.PgError
		if errors.As(err, &pe) && pe.Code == "55P03" {
			return nil, domain.Unavailable(err, "a long transaction on the source holds a table for more than %s, so writes could not be stopped; end it or wait for it, then try again", wait)
		}
		return nil, fmt.Errorf("locking the source's tables: %w", d.explain(err))
	}
	return s, nil
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
func (s *stop) CloseWrites(ctx context.Context, message string) error {
	if s.method == domain.StopReadOnly {
		return nil // the database stays read-only
	}
	run := func(tx pgx.Tx) error {
		for _, sql := range closeStatements(s.name, s.plans, message) {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return fmt.Errorf("closing the source for writes: %w", s.d.explain(err))
			}
		}
		return nil
	}
	if s.conn == nil {
		return pgx.BeginFunc(ctx, s.d.pool, run)
	}
	for _, sql := range append(closeStatements(s.name, s.plans, message), "COMMIT") {
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

func closeStatements(name string, plans []domain.TablePlan, message string) []string {
	out := []string{
		"CREATE SCHEMA IF NOT EXISTS dusty_ferry",
		"GRANT USAGE ON SCHEMA dusty_ferry TO PUBLIC",
		fmt.Sprintf(`CREATE OR REPLACE FUNCTION dusty_ferry.%s() RETURNS trigger LANGUAGE plpgsql AS %s`, gate(name),
			literal("BEGIN RAISE EXCEPTION USING ERRCODE = 'read_only_sql_transaction', MESSAGE = "+literal(message)+"; END")),
	}
	for _, p := range plans {
		out = append(out, fmt.Sprintf("CREATE OR REPLACE TRIGGER %[1]s BEFORE INSERT OR UPDATE OR DELETE OR TRUNCATE ON %[2]s FOR EACH STATEMENT EXECUTE FUNCTION dusty_ferry.%[1]s()",
			gate(name), qualified(p.Source)))
	}
	return out
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
		if _, err := d.pool.Exec(ctx, "ALTER DATABASE "+quote(d.conf.Database)+" RESET default_transaction_read_only"); err != nil {
			return fmt.Errorf("making the source writable again: %w", d.explain(err))
		}
		return nil
	}
	if _, err := d.pool.Exec(ctx, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = $1 AND datname = current_database()`, holder(name)); err != nil {
		return d.explain(err)
	}
	var there bool
	if err := d.pool.QueryRow(ctx, `SELECT to_regprocedure('dusty_ferry.' || $1 || '()') IS NOT NULL`, gate(name)).Scan(&there); err != nil || !there {
		return d.explain(err)
	}
	if err := d.alterQuickly(ctx, fmt.Sprintf("DROP FUNCTION dusty_ferry.%s() CASCADE", gate(name))); err != nil {
		return fmt.Errorf("opening the source for writes again: %w", err)
	}
	_, err := d.pool.Exec(ctx, `
DO $$ BEGIN
  IF NOT EXISTS (SELECT 1 FROM pg_class WHERE relnamespace = 'dusty_ferry'::regnamespace)
     AND NOT EXISTS (SELECT 1 FROM pg_proc WHERE pronamespace = 'dusty_ferry'::regnamespace) THEN
    DROP SCHEMA dusty_ferry RESTRICT;
  END IF;
END $$`)
	return d.explain(err)
}
