package records

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// SetTouchedFrom keeps from which place on it is known which rows were touched, unless it is known
// from an earlier one; zero: it is not.
func (s StreamStore) SetTouchedFrom(ctx context.Context, crossing, epoch int64, at domain.Position) error {
	mine, err := s.changed(ctx, `UPDATE streams SET touched_from = CASE WHEN $3::numeric = 0 OR touched_from = 0 THEN $3::numeric
  ELSE touched_from END, round_at = coalesce(round_at, now()) WHERE crossing_id = $1 AND epoch = $2`, crossing, epoch, Pos(at))
	if err == nil && !mine {
		return domain.ErrTakenOver
	}
	return err
}

// VouchDue lists the crossings in step whose touched rows were not compared for as long as they say.
// While a crossing lags behind, its changes come first.
func (s StreamStore) VouchDue(ctx context.Context) ([]int64, error) {
	return all[int64](ctx, s, `
SELECT c.id FROM crossings c JOIN streams st ON st.crossing_id = c.id
 WHERE c.kind <> 'load' AND c.phase = 'in step' AND c.condition = 'running' AND st.touched_from > 0
   AND coalesce((c.settings->>'vouch_every')::bigint, 0) > 0
   AND st.lag_seconds * 1e9 <= coalesce((c.settings->>'in_step_lag')::bigint, 0) AND st.reported_at > now() - interval '5 s'
   AND st.round_at < now() - (c.settings->>'vouch_every')::bigint / 1e9 * interval '1 s'
   AND NOT EXISTS (SELECT 1 FROM reconciliations r WHERE r.crossing_id = c.id AND r.state = 'running')
 ORDER BY st.round_at`)
}

// VouchLater puts a crossing's next round off as if there had been one.
func (s StreamStore) VouchLater(ctx context.Context, crossing int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE streams SET round_at = now() WHERE crossing_id = $1`, crossing)
	return err
}

// ProveAnew has no comparison made until now prove anything: others could write on the target.
func (s StreamStore) ProveAnew(ctx context.Context, crossing int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE streams SET touched_from = greatest(touched_from, applied + 1)
  WHERE crossing_id = $1 AND touched_from > 0`, crossing)
	return err
}

// Vouching is how far the rows that changes touched are known to be equal.
func (s StreamStore) Vouching(ctx context.Context, crossing int64) (domain.Vouching, error) {
	row, err := single[struct {
		domain.Vouching
		FromPos Pos `db:"touched_from"`
		ToPos   Pos `db:"vouched"`
	}](ctx, s, `SELECT touched_from, vouched, vouched_at, vouched_rows FROM streams WHERE crossing_id = $1`, crossing)
	if errors.Is(err, sql.ErrNoRows) {
		return domain.Vouching{}, nil
	}
	row.From, row.To = domain.Position(row.FromPos), domain.Position(row.ToPos)
	return row.Vouching, err
}

// KeepVouched keeps that the rows that changes touched up to a place have been compared: how many
// there were, and what was found. Findings of a row take the place of what was found of it before.
func (s ComparisonStore) KeepVouched(ctx context.Context, crossing int64, at domain.Position, rows int64,
	found map[int64][]domain.Finding) (reconciliation int64, _ error) {
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE streams SET vouched = greatest(vouched, $2), vouched_at = now(),
  vouched_rows = vouched_rows + $3 WHERE crossing_id = $1`, crossing, Pos(at), rows); err != nil || len(found) == 0 {
			return err
		}
		// What is open stays together, or the newest findings would hide those of before.
		err := tx.GetContext(ctx, &reconciliation, `
SELECT r.id FROM reconciliations r WHERE r.crossing_id = $1 AND r.depth = 'vouched' AND r.state = 'differing'
   AND EXISTS (SELECT 1 FROM findings f WHERE f.reconciliation_id = r.id AND f.state <> 'equal')
 ORDER BY r.id DESC LIMIT 1`, crossing)
		if errors.Is(err, sql.ErrNoRows) {
			err = tx.GetContext(ctx, &reconciliation, `
INSERT INTO reconciliations (crossing_id, depth, patterns, state, started_at) VALUES ($1, 'vouched', '[]', 'differing', now())
RETURNING id`, crossing)
		}
		if err != nil {
			return err
		}
		for table, list := range found {
			if err := keepFound(ctx, tx, reconciliation, table, list); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, `UPDATE reconciliations SET position = $2, ended_at = now() WHERE id = $1`,
			reconciliation, Pos(at))
		return err
	})
	return reconciliation, err
}

// keepFound keeps what vouching found of a table.
func keepFound(ctx context.Context, tx *sqlx.Tx, reconciliation, table int64, list []domain.Finding) error {
	if _, err := tx.ExecContext(ctx, reconciledTables+` ON CONFLICT DO NOTHING`, reconciliation, []int64{table}); err != nil {
		return err
	}
	for _, f := range list {
		if _, err := tx.ExecContext(ctx, `DELETE FROM findings WHERE reconciliation_id = $1 AND table_id = $2
  AND detail->'key' = $3 AND coalesce(detail->>'place', '') = $4`, reconciliation, table,
			JSON[domain.KeyValue]{f.Key}, f.Place); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO findings (reconciliation_id, table_id, kind, detail)
  VALUES ($1, $2, $3, $4)`, reconciliation, table, f.Kind, JSON[domain.Finding]{f}); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `UPDATE reconciled_tables x SET state = 'done',
  findings = (SELECT count(*) FROM findings f WHERE f.reconciliation_id = x.reconciliation_id AND f.table_id = x.table_id)
 WHERE reconciliation_id = $1 AND table_id = $2`, reconciliation, table)
	return err
}

// ComparedWhole lists the tables of which every row is known to have been equal at a place from
// which on it is known what was touched: compared by hashes since they were loaded, and whatever
// was found mended and equal.
func (s ComparisonStore) ComparedWhole(ctx context.Context, crossing int64) (map[int64]bool, error) {
	list, err := s.TableComparisons(ctx, crossing)
	if err != nil {
		return nil, err
	}
	from, err := single[Pos](ctx, s, `SELECT coalesce(max(touched_from), 0) FROM streams WHERE crossing_id = $1`, crossing)
	if err != nil {
		return nil, err
	}
	out := map[int64]bool{}
	for _, t := range list {
		if t.Depth == domain.DepthHashes && t.Findings == t.Equal && !domain.Position(from).IsZero() &&
			!t.Position.Before(domain.Position(from)) {
			out[t.TableID] = true
		}
	}
	return out, nil
}
