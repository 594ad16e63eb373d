package records

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"dustyferry/internal/core/proof"
	"dustyferry/internal/domain"
)

// ComparisonStore keeps comparisons and their findings.
type ComparisonStore struct{ *conn }

// reconciliationRow is a comparison as it is kept.
type reconciliationRow struct {
	domain.Reconciliation
	At           Pos            `db:"position"`
	PatternsJSON JSON[[]string] `db:"patterns"`
}

func (r *reconciliationRow) reconciliation() domain.Reconciliation {
	r.Position, r.Patterns = domain.Position(r.At), r.PatternsJSON.V
	return r.Reconciliation
}

const reconciliationColumns = `
SELECT r.id, r.crossing_id, r.task_id, r.depth, r.state, r.position, r.patterns, r.error, r.created_at, r.started_at,
  r.ended_at,
       count(x.table_id) AS tables, count(x.table_id) FILTER (WHERE x.state = 'done') AS tables_done,
       coalesce(sum(x.source_rows), 0)::bigint AS source_rows, coalesce(sum(x.target_rows), 0)::bigint AS target_rows,
       coalesce(sum(x.findings), 0)::bigint AS findings,
       (SELECT count(*) FROM findings f WHERE f.reconciliation_id = r.id AND f.state = 'open') AS open,
       (SELECT count(*) FROM findings f WHERE f.reconciliation_id = r.id AND f.state = 'equal') AS equal,
       coalesce(sum(x.expected), 0)::bigint AS expected
  FROM reconciliations r LEFT JOIN reconciled_tables x ON x.reconciliation_id = r.id`

const insertReconciliation = `
INSERT INTO reconciliations (crossing_id, depth, patterns) VALUES ($1, $2, $3) RETURNING id`

// AddReconciliationTx adds one inside the caller's transaction.
func AddReconciliationTx(ctx context.Context, tx pgx.Tx, crossing int64, depth domain.Depth,
	patterns []string) (int64, error) {
	var id int64
	err := tx.QueryRow(ctx, insertReconciliation, crossing, depth, JSON[[]string]{patterns}).Scan(&id)
	return id, err
}

// Reconciliations lists a crossing's, newest first.
func (s ComparisonStore) Reconciliations(ctx context.Context, crossing int64) ([]domain.Reconciliation, error) {
	rows, err := all[reconciliationRow](ctx, s, reconciliationColumns+
		` WHERE r.crossing_id = $1 GROUP BY r.id ORDER BY r.id DESC`, crossing)
	out := make([]domain.Reconciliation, len(rows))
	for i := range rows {
		out[i] = rows[i].reconciliation()
	}
	return out, err
}

// Reconciliation returns one.
func (s ComparisonStore) Reconciliation(ctx context.Context, crossing, id int64) (domain.Reconciliation, error) {
	row, err := single[reconciliationRow](ctx, s, reconciliationColumns+
		` WHERE r.crossing_id = $1 AND r.id = $2 GROUP BY r.id`, crossing, id)
	return row.reconciliation(), notFound(err, "the crossing has no reconciliation %d", id)
}

// reconciledTables notes which tables a comparison is of.
const reconciledTables = `
INSERT INTO reconciled_tables (reconciliation_id, table_id, name, ordinal, expected, columns)
SELECT $1, t.id, t.source_name, t.ordinal, greatest(t.est_rows, t.rows_landed),
       (SELECT jsonb_agg(c->>'name' ORDER BY n) FROM jsonb_array_elements(CASE jsonb_typeof(t.plan->'columns')
         WHEN 'array' THEN t.plan->'columns' ELSE '[]' END) WITH ORDINALITY AS a (c, n))
  FROM tables t WHERE t.id = ANY ($2)`

// BeginReconciliation starts it, or goes on with one whose process died: tables that were done stay so,
// by their ids with what was found of each, and the place is that of the first beginning, which proves no
// more of them than is so. What is found does not depend on the tables, which a restart of the crossing
// replaces.
func (s ComparisonStore) BeginReconciliation(ctx context.Context, id int64, at domain.Position,
	tables []int64) (done map[int64]int64, _ error) {
	done = map[int64]int64{}
	return done, s.In(ctx, func(tx *sqlx.Tx) error {
		for _, q := range []string{
			`DELETE FROM reconciled_tables WHERE reconciliation_id = $1 AND (state <> 'done' OR NOT table_id = ANY ($2))`,
			`DELETE FROM findings f WHERE reconciliation_id = $1 AND (NOT table_id = ANY ($2) OR NOT EXISTS (
  SELECT FROM reconciled_tables t WHERE t.reconciliation_id = $1 AND t.table_id = f.table_id))`,
			reconciledTables + ` AND NOT EXISTS (SELECT FROM reconciled_tables r WHERE r.reconciliation_id = $1
  AND r.table_id = t.id)`,
		} {
			if _, err := tx.ExecContext(ctx, q, id, tables); err != nil {
				return err
			}
		}
		var list []domain.ReconciledTable
		if err := tx.SelectContext(ctx, &list, `SELECT table_id, findings FROM reconciled_tables
  WHERE reconciliation_id = $1 AND state = 'done'`, id); err != nil {
			return err
		}
		for _, t := range list {
			done[t.TableID] = t.Findings
		}
		_, err := tx.ExecContext(ctx, `UPDATE reconciliations SET state = 'running',
  position = CASE WHEN $3 AND position > 0 THEN position ELSE $2::numeric END,
  started_at = coalesce(started_at, now()) WHERE id = $1`, id, Pos(at), len(list) > 0)
		return err
	})
}

// EndReconciliation records how it ended: clean, differing, failed or cancelled.
func (s ComparisonStore) EndReconciliation(ctx context.Context, id int64, state domain.ComparisonState,
	cause string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE reconciliations SET state = $2, error = $3, ended_at = now() WHERE id = $1`,
		id, state, cause)
	return err
}

// SaveReconciledTable keeps one table's result.
func (s ComparisonStore) SaveReconciledTable(ctx context.Context, r domain.ReconciledTable) error {
	_, err := s.DB.NamedExecContext(ctx, `
UPDATE reconciled_tables SET state = :state, parts = :parts, differing_parts = :differing_parts,
  source_rows = :source_rows,
       target_rows = :target_rows, source_hash = :source_hash, target_hash = :target_hash, findings = :findings,
         seconds = :seconds
 WHERE reconciliation_id = :reconciliation_id AND table_id = :table_id`, r)
	return err
}

// ReconcileProgress keeps how many rows of a table both sides have read so far.
func (s ComparisonStore) ReconcileProgress(ctx context.Context, id, table, source, target int64) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE reconciled_tables SET source_rows = $3, target_rows = $4 WHERE reconciliation_id = $1 AND table_id = $2
  AND state = 'running'`, id, table, source, target)
	return err
}

// ReconciledTables lists the results of one reconciliation.
func (s ComparisonStore) ReconciledTables(ctx context.Context, id int64) ([]domain.ReconciledTable, error) {
	return all[domain.ReconciledTable](ctx, s, `
SELECT reconciliation_id, table_id, name, state, parts, differing_parts, source_rows, target_rows, source_hash,
  target_hash, findings, seconds, expected
  FROM reconciled_tables WHERE reconciliation_id = $1 ORDER BY ordinal, table_id`, id)
}

// findingRow is a finding as it is kept.
type findingRow struct {
	domain.KeptFinding
	DetailJSON JSON[domain.Finding] `db:"detail"`
	OrderJSON  JSON[[]string]       `db:"column_order"`
}

// AddFindings keeps findings of one table.
func (s ComparisonStore) AddFindings(ctx context.Context, reconciliation, table int64, found []domain.Finding) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		for _, f := range found {
			if _, err := tx.ExecContext(ctx, `INSERT INTO findings (reconciliation_id, table_id, kind, detail)
  VALUES ($1, $2, $3, $4)`,
				reconciliation, table, f.Kind, JSON[domain.Finding]{f}); err != nil {
				return err
			}
		}
		return nil
	})
}

const findingFrom = `
  FROM findings f JOIN reconciled_tables t ON t.reconciliation_id = f.reconciliation_id AND t.table_id = f.table_id`

const findingWhere = `
 WHERE f.reconciliation_id = $1 AND ($2 = '' OR f.state = $2) AND ($3 = '' OR f.kind = $3) AND ($4 = '' OR t.name = $4)
   AND ($5 = '' OR f.detail->>'key' ILIKE $5) AND (cardinality($6::bigint[]) = 0 OR f.id = ANY ($6))`

// Findings lists findings of a reconciliation.
func (s ComparisonStore) Findings(ctx context.Context, reconciliation int64,
	f domain.FindingFilter) ([]domain.KeptFinding, error) {
	rows, err := all[findingRow](ctx, s, `
SELECT f.id, f.reconciliation_id, f.table_id, t.name AS table_name, f.kind, f.detail, f.state, f.changed_at,
  t.columns AS column_order`+findingFrom+findingWhere+` ORDER BY t.ordinal, f.id LIMIT $7 OFFSET $8`,
		reconciliation, f.State, f.Kind, f.Table, like(f.Search), append([]int64{}, f.IDs...), f.Limit, f.Offset)
	out := make([]domain.KeptFinding, len(rows))
	for i := range rows {
		out[i] = rows[i].KeptFinding
		out[i].Detail, out[i].Order = rows[i].DetailJSON.V, rows[i].OrderJSON.V
	}
	return out, err
}

// CountFindings counts those the filter lets through, and all by their state.
func (s ComparisonStore) CountFindings(ctx context.Context, reconciliation int64,
	f domain.FindingFilter) (int, map[string]int, error) {
	matched, err := single[int](ctx, s, `SELECT count(*)`+findingFrom+findingWhere,
		reconciliation, f.State, f.Kind, f.Table, like(f.Search), append([]int64{}, f.IDs...))
	if err != nil {
		return 0, nil, err
	}
	rows, err := all[struct {
		State string `db:"state"`
		N     int    `db:"n"`
	}](ctx, s, `SELECT state, count(*) AS n FROM findings WHERE reconciliation_id = $1 GROUP BY state`, reconciliation)
	states := map[string]int{}
	for _, r := range rows {
		states[r.State] = r.N
	}
	return matched, states, err
}

// SetFindings moves findings to a state: repaired, equal or open.
func (s ComparisonStore) SetFindings(ctx context.Context, ids []int64, state string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE findings SET state = $2, changed_at = now() WHERE id = ANY ($1)`, ids, state)
	return err
}

// SaveFinding keeps what comparing a finding's row again has found.
func (s ComparisonStore) SaveFinding(ctx context.Context, id int64, f domain.Finding) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE findings SET state = 'open', kind = $2, detail = $3, changed_at = now()
  WHERE id = $1`, id, f.Kind, JSON[domain.Finding]{f})
	return err
}

// tableComparisonRow is one as it is kept.
type tableComparisonRow struct {
	domain.TableComparison
	At Pos `db:"position"`
}

// TableComparisons lists, for each table, the newest comparison of each depth that was made
// after the table had landed: what was compared before it was loaded again says nothing.
func (s ComparisonStore) TableComparisons(ctx context.Context, crossing int64) ([]domain.TableComparison, error) {
	rows, err := all[tableComparisonRow](ctx, s, `
WITH newest AS (
  SELECT DISTINCT ON (x.table_id, r.depth)
         x.table_id, t.source_name AS name, t.ordinal, r.id AS reconciliation_id, r.depth, r.position, r.ended_at,
         x.source_rows, x.target_rows, x.source_hash, x.target_hash, x.findings
    FROM reconciled_tables x
    JOIN reconciliations r ON r.id = x.reconciliation_id
    JOIN tables t ON t.id = x.table_id
   WHERE r.crossing_id = $1 AND x.state = 'done' AND r.state IN ('clean', 'differing') AND t.landed_at <= r.started_at
   ORDER BY x.table_id, r.depth, r.id DESC)
SELECT n.table_id, n.name, n.reconciliation_id, n.depth, n.position, n.ended_at, n.source_rows, n.target_rows,
  n.source_hash, n.target_hash, n.findings,
       f.open, f.repaired, f.equal
  FROM newest n
 CROSS JOIN LATERAL (SELECT count(*) FILTER (WHERE state = 'open') AS open,
   count(*) FILTER (WHERE state = 'repaired') AS repaired,
                            count(*) FILTER (WHERE state = 'equal') AS equal
                       FROM findings f WHERE f.reconciliation_id = n.reconciliation_id AND f.table_id = n.table_id) f
 ORDER BY n.ordinal, n.table_id, n.reconciliation_id DESC`, crossing)
	out := make([]domain.TableComparison, len(rows))
	for i := range rows {
		out[i] = rows[i].TableComparison
		out[i].Position = domain.Position(rows[i].At)
	}
	return out, err
}

// Compared is what the newest comparisons of each depth say of a crossing's tables.
func (s ComparisonStore) Compared(ctx context.Context, crossing int64) ([]proof.Compared, error) {
	list, err := s.TableComparisons(ctx, crossing)
	if err != nil {
		return nil, fmt.Errorf("reading what comparisons found: %w", err)
	}
	out := make([]proof.Compared, len(list))
	for i, t := range list {
		out[i] = proof.Compared{Table: t.Name, Number: t.ReconciliationID, Depth: t.Depth, EndedAt: t.EndedAt,
			Rows: t.SourceRows, Findings: t.Findings, Open: t.Open, Repaired: t.Repaired, Equal: t.Equal}
	}
	return out, nil
}

// AddComparison adds a comparison of all tables that belongs to a cutover, without a task of its own.
func (s ComparisonStore) AddComparison(ctx context.Context, crossing int64, depth domain.Depth) (int64, error) {
	return single[int64](ctx, s, insertReconciliation, crossing, depth, JSON[[]string]{})
}
