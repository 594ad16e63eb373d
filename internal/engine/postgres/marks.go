package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// bookkeepingTables is what we keep on a target. Positions and marks commit
// together with the rows they speak of, which is what makes restarts exact.
const bookkeepingTables = `
CREATE SCHEMA IF NOT EXISTS dusty_ferry;
CREATE TABLE IF NOT EXISTS dusty_ferry.chunk_mark (
  crossing text NOT NULL,
  chunk    bigint NOT NULL,
  epoch    bigint NOT NULL,
  landed   boolean NOT NULL,
  snapshot text NOT NULL DEFAULT '',
  rows     bigint NOT NULL DEFAULT 0,
  bytes    bigint NOT NULL DEFAULT 0,
  hash     bigint NOT NULL DEFAULT 0,
  at       timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (crossing, chunk)
);
CREATE TABLE IF NOT EXISTS dusty_ferry.stream (
  crossing  text PRIMARY KEY,
  epoch     bigint NOT NULL,
  position  numeric(20) NOT NULL,
  committed bigint NOT NULL DEFAULT 0,
  waymark   text NOT NULL DEFAULT '',
  at        timestamptz NOT NULL DEFAULT now()
);
` + removedKeys + touchedRows + `
COMMENT ON SCHEMA dusty_ferry IS 'Bookkeeping of Dusty Ferry: what has landed and how far changes are applied. Closing the last crossing removes it.';`

// fenced runs a short statement that may meet a row lock held by a process that
// is frozen or cut off; after a moment it ends that process's session.
func (d *database) fenced(ctx context.Context, f func(tx pgx.Tx) error) error {
	for try := 0; ; try++ {
		err := pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '1500ms'"); err != nil {
				return err
			}
			return f(tx)
		})
		var pe *pgconn.PgError
		if err == nil || !errors.As(err, &pe) || pe.Code != "55P03" || try >= 4 {
			return d.explain(err)
		}
		// Somebody of ours holds the row and does not move on: end it.
		_, err = d.pool.Exec(ctx, `
SELECT pg_terminate_backend(l.pid)
  FROM pg_locks l JOIN pg_stat_activity a USING (pid)
 WHERE l.relation IN (to_regclass('dusty_ferry.chunk_mark'), to_regclass('dusty_ferry.stream'))
   AND l.mode = 'RowExclusiveLock' AND l.granted AND a.pid <> pg_backend_pid()
   AND a.application_name = 'dusty-ferry' AND a.state LIKE 'idle in transaction%'
   AND a.state_change < now() - interval '1 second'`)
		if err != nil {
			return d.explain(err)
		}
	}
}

// Fence raises the chunk's epoch on the target. After it, a holder with a lower
// epoch cannot land the chunk.
func (d *database) Fence(ctx context.Context, crossing string, chunk, epoch int64) (*engine.Mark, error) {
	m := engine.Mark{Crossing: crossing, Chunk: chunk}
	var landed bool
	var snapshot string
	var hash int64
	err := d.fenced(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `
INSERT INTO dusty_ferry.chunk_mark AS k (crossing, chunk, epoch, landed)
VALUES ($1, $2, $3, false)
ON CONFLICT (crossing, chunk) DO UPDATE SET epoch = EXCLUDED.epoch
 WHERE NOT k.landed AND k.epoch < EXCLUDED.epoch`, crossing, chunk, epoch); err != nil {
			return err
		}
		return tx.QueryRow(ctx, `
SELECT epoch, landed, snapshot, rows, bytes, hash
  FROM dusty_ferry.chunk_mark WHERE crossing = $1 AND chunk = $2`, crossing, chunk).
			Scan(&m.Epoch, &landed, &snapshot, &m.Sum.Rows, &m.Sum.Bytes, &hash)
	})
	if err != nil || !landed {
		return nil, err
	}
	m.Sum = rowhash.Sum{Rows: m.Sum.Rows, Bytes: m.Sum.Bytes, Hash: uint64(hash)}
	m.Snapshot, err = domain.ParseSnapshot(snapshot)
	return &m, err
}

// Marked lists the chunks of a crossing that have landed.
func (d *database) Marked(ctx context.Context, crossing string) (map[int64]bool, error) {
	out := map[int64]bool{}
	rows, err := d.pool.Query(ctx, `SELECT chunk FROM dusty_ferry.chunk_mark WHERE crossing = $1 AND landed`, crossing)
	if err != nil {
		return nil, d.explain(err)
	}
	var id int64
	_, err = pgx.ForEachRow(rows, []any{&id}, func() error { out[id] = true; return nil })
	return out, d.explain(err)
}

// TakeStream makes epoch the only one that can commit applied changes.
func (d *database) TakeStream(ctx context.Context, crossing string, epoch int64,
	start domain.Position) (domain.Position, error) {
	var at domain.Position
	err := d.fenced(ctx, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, `
INSERT INTO dusty_ferry.stream AS s (crossing, epoch, position)
VALUES ($1, $2, $3::text::numeric)
ON CONFLICT (crossing) DO UPDATE SET epoch = greatest(s.epoch, EXCLUDED.epoch)
RETURNING CASE WHEN s.epoch = $2 THEN s.position::text ELSE '0' END::text`, crossing, epoch, fmt.Sprint(start.Number())).
			Scan((*textPosition)(&at))
	})
	if err == nil && at.IsZero() && !start.IsZero() {
		return domain.Position{}, domain.ErrTakenOver
	}
	return at, err
}

// StreamAt reads how far changes are applied.
func (d *database) StreamAt(ctx context.Context, crossing string) (domain.Position, string, error) {
	var at domain.Position
	var portable string
	err := d.pool.QueryRow(ctx, `SELECT position::text, waymark FROM dusty_ferry.stream WHERE crossing = $1`,
		crossing).Scan((*textPosition)(&at), &portable)
	return at, portable, d.explain(err)
}

// MoveStream says the applied place anew.
func (d *database) MoveStream(ctx context.Context, crossing string, epoch int64, to domain.Position) error {
	return d.fenced(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE dusty_ferry.stream SET position = $3::text::numeric WHERE crossing = $1
  AND epoch = $2`, crossing, epoch, fmt.Sprint(to.Number()))
		if err == nil && tag.RowsAffected() != 1 {
			return domain.ErrTakenOver
		}
		return err
	})
}

// textPosition scans a position from its decimal text.
type textPosition domain.Position

// ScanText implements pgx's text scanner.
func (p *textPosition) Scan(src any) error {
	s, ok := src.(string)
	if !ok {
		return fmt.Errorf("a position came as %T", src)
	}
	n, err := strconv.ParseUint(s, 10, 64)
	*p = textPosition(domain.PositionAt(n))
	return err
}

// ForgetStream removes the crossing's applied position.
func (d *database) ForgetStream(ctx context.Context, crossing string) error {
	return d.fenced(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `DELETE FROM dusty_ferry.stream WHERE crossing = $1`, crossing)
		return err
	})
}

// Forget removes the crossing's bookkeeping, and the schema with the last one.
func (d *database) Forget(ctx context.Context, crossing string) error {
	if err := cmp.Or(d.OpenGuard(ctx, crossing, true), d.Unguard(ctx, crossing)); err != nil {
		return err
	}
	return d.explain(pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		var there bool
		if err := tx.QueryRow(ctx, `SELECT to_regclass('dusty_ferry.stream') IS NOT NULL`).Scan(&there); err != nil ||
			!there {
			return err
		}
		for _, sql := range []string{
			`DELETE FROM dusty_ferry.chunk_mark WHERE crossing = $1`,
			`DELETE FROM dusty_ferry.stream WHERE crossing = $1`,
		} {
			if _, err := tx.Exec(ctx, sql, crossing); err != nil {
				return err
			}
		}
		var keys, rows bool
		if err := tx.QueryRow(ctx, `SELECT to_regclass('dusty_ferry.removed_key') IS NOT NULL,
  to_regclass('dusty_ferry.touched') IS NOT NULL`).Scan(&keys, &rows); err != nil {
			return err
		}
		if keys {
			if _, err := tx.Exec(ctx, `DELETE FROM dusty_ferry.removed_key WHERE crossing IN ($1, '')`, crossing); err != nil {
				return err
			}
		}
		if rows {
			if _, err := tx.Exec(ctx, `DELETE FROM dusty_ferry.touched WHERE crossing = $1`, crossing); err != nil {
				return err
			}
		}
		var others bool
		if err := tx.QueryRow(ctx, `
SELECT EXISTS (SELECT 1 FROM dusty_ferry.chunk_mark) OR EXISTS (SELECT 1 FROM dusty_ferry.stream)`).Scan(
			&others); err != nil || others {
			return err
		}
		_, err := tx.Exec(ctx, `DROP TABLE IF EXISTS dusty_ferry.removed_key, dusty_ferry.touched; DROP TABLE dusty_ferry.chunk_mark,
  dusty_ferry.stream; `+dropEmptySchema)
		return err
	}))
}
