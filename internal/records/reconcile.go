package records

import (
	"context"
	"database/sql"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// Reconciliation is one comparison of source and target.
type Reconciliation struct {
	ID         int64          `db:"id"`
	CrossingID int64          `db:"crossing_id"`
	TaskID     sql.NullInt64  `db:"task_id"`
	Depth      domain.Depth   `db:"depth"`
	State      string         `db:"state"`
	Position   Pos            `db:"position"`
	Patterns   JSON[[]string] `db:"patterns"`
	Error      string         `db:"error"`
	CreatedAt  time.Time      `db:"created_at"`
	StartedAt  sql.NullTime   `db:"started_at"`
	EndedAt    sql.NullTime   `db:"ended_at"`
	Tables     int            `db:"tables"`
	TablesDone int            `db:"tables_done"`
	SourceRows int64          `db:"source_rows"`
	TargetRows int64          `db:"target_rows"`
	Findings   int64          `db:"findings"`
	Open       int64          `db:"open"`
}

const reconciliationColumns = `
SELECT r.id, r.crossing_id, r.task_id, r.depth, r.state, r.position, r.patterns, r.error, r.created_at, r.started_at, r.ended_at,
       count(x.table_id) AS tables, count(x.table_id) FILTER (WHERE x.state = 'done') AS tables_done,
       coalesce(sum(x.source_rows), 0)::bigint AS source_rows, coalesce(sum(x.target_rows), 0)::bigint AS target_rows,
       coalesce(sum(x.findings), 0)::bigint AS findings,
       (SELECT count(*) FROM findings f WHERE f.reconciliation_id = r.id AND f.state = 'open') AS open
  FROM reconciliations r LEFT JOIN reconciled_tables x ON x.reconciliation_id = r.id`

// AddReconciliationTx adds one inside the caller's transaction.
func AddReconciliationTx(ctx context.Context, tx pgx.Tx, crossing int64, depth domain.Depth, patterns []string) (int64, error) {
	var id int64
	err := tx.QueryRow(ctx, `INSERT INTO reconciliations (crossing_id, depth, patterns) VALUES ($1, $2, $3) RETURNING id`,
		crossing, depth, JSON[[]string]{patterns}).Scan(&id)
	return id, err
}

// Reconciliations lists a crossing's, newest first.
func (s *Store) Reconciliations(ctx context.Context, crossing int64) ([]Reconciliation, error) {
	var out []Reconciliation
	return out, s.DB.SelectContext(ctx, &out, reconciliationColumns+` WHERE r.crossing_id = $1 GROUP BY r.id ORDER BY r.id DESC`, crossing)
}

// Reconciliation returns one.
func (s *Store) Reconciliation(ctx context.Context, crossing, id int64) (Reconciliation, error) {
	var r Reconciliation
	err := s.DB.GetContext(ctx, &r, reconciliationColumns+` WHERE r.crossing_id = $1 AND r.id = $2 GROUP BY r.id`, crossing, id)
	return r, notFound(err, "the crossing has no reconciliation %d", id)
}

// BeginReconciliation starts it over: position and tables anew.
func (s *Store) BeginReconciliation(ctx context.Context, id int64, at domain.Position, tables []int64) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		for _, q := range []string{
			`DELETE FROM findings WHERE reconciliation_id = $1`,
			`DELETE FROM reconciled_tables WHERE reconciliation_id = $1`,
		} {
			if _, err := tx.ExecContext(ctx, q, id); err != nil {
				return err
			}
		}
		for _, t := range tables {
			if _, err := tx.ExecContext(ctx, `INSERT INTO reconciled_tables (reconciliation_id, table_id) VALUES ($1, $2)`, id, t); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE reconciliations SET state = 'running', position = $2, started_at = coalesce(started_at, now()) WHERE id = $1`, id, Pos(at))
		return err
	})
}

// EndReconciliation records how it ended: clean, differing or failed.
func (s *Store) EndReconciliation(ctx context.Context, id int64, state, cause string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE reconciliations SET state = $2, error = $3, ended_at = now() WHERE id = $1`, id, state, cause)
	return err
}

// ReconciledTable is one table's result.
type ReconciledTable struct {
	ReconciliationID int64   `db:"reconciliation_id"`
	TableID          int64   `db:"table_id"`
	Name             string  `db:"name"`
	State            string  `db:"state"`
	Parts            int     `db:"parts"`
	DifferingParts   int     `db:"differing_parts"`
	SourceRows       int64   `db:"source_rows"`
	TargetRows       int64   `db:"target_rows"`
	SourceHash       string  `db:"source_hash"`
	TargetHash       string  `db:"target_hash"`
	Findings         int64   `db:"findings"`
	Seconds          float64 `db:"seconds"`
}

// SaveReconciledTable keeps one table's result.
func (s *Store) SaveReconciledTable(ctx context.Context, r ReconciledTable) error {
	_, err := s.DB.NamedExecContext(ctx, `
UPDATE reconciled_tables SET state = :state, parts = :parts, differing_parts = :differing_parts, source_rows = :source_rows,
       target_rows = :target_rows, source_hash = :source_hash, target_hash = :target_hash, findings = :findings, seconds = :seconds
 WHERE reconciliation_id = :reconciliation_id AND table_id = :table_id`, r)
	return err
}

// ReconciledTables lists the results of one reconciliation.
func (s *Store) ReconciledTables(ctx context.Context, id int64) ([]ReconciledTable, error) {
	var out []ReconciledTable
	return out, s.DB.SelectContext(ctx, &out, `
SELECT x.*, t.source_name AS name FROM reconciled_tables x JOIN tables t ON t.id = x.table_id
 WHERE x.reconciliation_id = $1 ORDER BY t.ordinal`, id)
}

// Finding is a kept finding.
type Finding struct {
	ID               int64                `db:"id"`
	ReconciliationID int64                `db:"reconciliation_id"`
	TableID          int64                `db:"table_id"`
	TableName        string               `db:"table_name"`
	Kind             domain.FindingKind   `db:"kind"`
	Detail           JSON[domain.Finding] `db:"detail"`
	State            string               `db:"state"`
	RepairedAt       sql.NullTime         `db:"repaired_at"`
}

// AddFindings keeps findings of one table.
func (s *Store) AddFindings(ctx context.Context, reconciliation, table int64, found []domain.Finding) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		for _, f := range found {
			if _, err := tx.ExecContext(ctx, `INSERT INTO findings (reconciliation_id, table_id, kind, detail) VALUES ($1, $2, $3, $4)`,
				reconciliation, table, f.Kind, JSON[domain.Finding]{f}); err != nil {
				return err
			}
		}
		return nil
	})
}

// Findings lists findings of a reconciliation, those in one state when given.
func (s *Store) Findings(ctx context.Context, reconciliation int64, state string, limit int) ([]Finding, error) {
	var out []Finding
	return out, s.DB.SelectContext(ctx, &out, `
SELECT f.id, f.reconciliation_id, f.table_id, t.source_name AS table_name, f.kind, f.detail, f.state, f.repaired_at
  FROM findings f JOIN tables t ON t.id = f.table_id
 WHERE f.reconciliation_id = $1 AND ($2 = '' OR f.state = $2) ORDER BY t.ordinal, f.id LIMIT $3`, reconciliation, state, limit)
}

// Repaired marks findings as repaired.
func (s *Store) Repaired(ctx context.Context, ids []int64) error {
	q, args, err := sqlx.In(`UPDATE findings SET state = 'repaired', repaired_at = now() WHERE id IN (?)`, ids)
	if err != nil {
		return err
	}
	_, err = s.DB.ExecContext(ctx, s.DB.Rebind(q), args...)
	return err
}
