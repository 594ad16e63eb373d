package records

import (
	"context"
	"database/sql"
	"slices"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// Table is one table of a crossing.
type Table struct {
	ID           int64                  `db:"id"`
	CrossingID   int64                  `db:"crossing_id"`
	Ordinal      int                    `db:"ordinal"`
	SourceName   string                 `db:"source_name"`
	TargetName   string                 `db:"target_name"`
	Plan         JSON[domain.TablePlan] `db:"plan"`
	State        domain.TableState      `db:"state"`
	Reason       string                 `db:"reason"`
	EstRows      int64                  `db:"est_rows"`
	EstBytes     int64                  `db:"est_bytes"`
	Chunks       int                    `db:"chunks"`
	ChunksLanded int                    `db:"chunks_landed"`
	RowsLanded   int64                  `db:"rows_landed"`
	BytesLanded  int64                  `db:"bytes_landed"`
	Inserts      int64                  `db:"inserts"`
	Updates      int64                  `db:"updates"`
	Deletes      int64                  `db:"deletes"`
	Truncates    int64                  `db:"truncates"`
	StartedAt    sql.NullTime           `db:"started_at"`
	LandedAt     sql.NullTime           `db:"landed_at"`
}

const tableColumns = `
SELECT id, crossing_id, ordinal, source_name, target_name, plan, state, reason, est_rows, est_bytes, chunks, chunks_landed,
       rows_landed, bytes_landed, inserts, updates, deletes, truncates, started_at, landed_at
  FROM tables`

// SavePlans replaces a crossing's tables, largest first. A target table that
// another crossing writes is a conflict.
func (s *Store) SavePlans(ctx context.Context, c *Crossing, plans []domain.TablePlan) error {
	plans = slices.Clone(plans)
	slices.SortStableFunc(plans, func(a, b domain.TablePlan) int { return int(min(1, max(-1, b.Table.Bytes-a.Table.Bytes))) })
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM tables WHERE crossing_id = $1`, c.ID); err != nil {
			return err
		}
		for i, p := range plans {
			if _, err := tx.ExecContext(ctx, `
INSERT INTO tables (crossing_id, target_id, ordinal, source_name, target_name, plan, est_rows, est_bytes)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`, c.ID, c.TargetID, i+1, p.Source.String(), p.Target.String(), JSON[domain.TablePlan]{p},
				max(p.Table.Rows, 0), p.Table.Bytes); err != nil {
				if duplicate(err) {
					return domain.Conflict("the target table %s is written by another crossing; close that one first, or leave the table out", p.Target)
				}
				return err
			}
		}
		return nil
	})
	return err
}

// Tables lists a crossing's tables in order.
func (s *Store) Tables(ctx context.Context, crossing int64) ([]Table, error) {
	var out []Table
	return out, s.DB.SelectContext(ctx, &out, tableColumns+` WHERE crossing_id = $1 ORDER BY ordinal`, crossing)
}

// Table returns one table.
func (s *Store) Table(ctx context.Context, id int64) (Table, error) {
	var t Table
	err := s.DB.GetContext(ctx, &t, tableColumns+` WHERE id = $1`, id)
	return t, notFound(err, "the table is no longer part of the crossing")
}

// SaveChunks replaces a table's chunks.
func (s *Store) SaveChunks(ctx context.Context, t *Table, chunks []domain.Chunk) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM chunks WHERE table_id = $1`, t.ID); err != nil {
			return err
		}
		for _, c := range chunks {
			if _, err := tx.ExecContext(ctx, `INSERT INTO chunks (crossing_id, table_id, ordinal, lower, upper) VALUES ($1, $2, $3, $4, $5)`,
				t.CrossingID, t.ID, c.Ordinal, nullable(c.Lower), nullable(c.Upper)); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `
UPDATE tables SET state = 'loading', reason = '', chunks = $2, chunks_landed = 0, rows_landed = 0, bytes_landed = 0,
       started_at = now(), landed_at = NULL WHERE id = $1`, t.ID, len(chunks))
		return err
	})
}

func nullable(k domain.KeyValue) any {
	if k == nil {
		return nil
	}
	return JSON[domain.KeyValue]{k}
}

// HoldTable makes a table wait for a person.
func (s *Store) HoldTable(ctx context.Context, id int64, reason string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE tables SET state = 'held', reason = $2 WHERE id = $1`, id, reason)
	return err
}

// ResumeTables lets held tables and chunks of a crossing go on.
func (s *Store) ResumeTables(ctx context.Context, crossing int64) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE chunks SET state = 'pending', attempts = 0, not_before = now() WHERE crossing_id = $1 AND state = 'held'`, crossing); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE chunks SET not_before = now() WHERE crossing_id = $1 AND state = 'pending'`, crossing); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE streams SET failures = 0, not_before = now(), error = '' WHERE crossing_id = $1`, crossing); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `
UPDATE tables SET state = CASE WHEN chunks_landed = chunks AND chunks > 0 THEN 'landed' ELSE 'loading' END, reason = ''
 WHERE crossing_id = $1 AND state = 'held'`, crossing)
		return err
	})
}

// CountChanges adds applied changes to a table's counters.
func (s *Store) CountChanges(ctx context.Context, id int64, ins, upd, del, trunc int64) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE tables SET inserts = inserts + $2, updates = updates + $3, deletes = deletes + $4, truncates = truncates + $5 WHERE id = $1`,
		id, ins, upd, del, trunc)
	return err
}

// Progress is the sum over a crossing's tables, rows being read included.
type Progress struct {
	Tables       int    `db:"tables"`
	TablesLanded int    `db:"tables_landed"`
	TablesHeld   int    `db:"tables_held"`
	Chunks       int    `db:"chunks"`
	ChunksLanded int    `db:"chunks_landed"`
	Rows         int64  `db:"rows"`
	Bytes        int64  `db:"bytes"`
	EstRows      int64  `db:"est_rows"`
	EstBytes     int64  `db:"est_bytes"`
	Work         string `db:"work"`
}

// Progress sums up a crossing.
func (s *Store) Progress(ctx context.Context, crossing int64) (Progress, error) {
	var p Progress
	return p, s.DB.GetContext(ctx, &p, `
SELECT count(*) AS tables, count(*) FILTER (WHERE state = 'landed') AS tables_landed, count(*) FILTER (WHERE state = 'held') AS tables_held,
       coalesce(sum(chunks), 0) AS chunks, coalesce(sum(chunks_landed), 0) AS chunks_landed,
       (coalesce(sum(rows_landed), 0))::bigint AS rows,
       (coalesce(sum(bytes_landed), 0) + coalesce((SELECT sum(bytes) FROM chunks WHERE crossing_id = $1 AND state = 'reading'), 0))::bigint AS bytes,
       coalesce(sum(est_rows), 0)::bigint AS est_rows, coalesce(sum(est_bytes), 0)::bigint AS est_bytes,
       coalesce((SELECT k.kind || CASE WHEN k.note = '' THEN '' ELSE ': ' || k.note END FROM tasks k
                  WHERE k.crossing_id = $1 AND k.state IN ('waiting', 'running') ORDER BY k.id LIMIT 1), '') AS work
  FROM tables WHERE crossing_id = $1`, crossing)
}
