package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// touchedRows is where a target keeps which rows changes have touched that were not compared since.
const touchedRows = `
CREATE TABLE IF NOT EXISTS dusty_ferry.touched (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing text NOT NULL,
  position numeric(20) NOT NULL, -- of the transaction that touched them
  target   text NOT NULL,
  rows     bigint NOT NULL, -- how many keys there are; 0: any row may have been touched
  keys     bytea NOT NULL
);`

// KeepTouched makes room on a target that a version before prepared.
func (d *database) KeepTouched(ctx context.Context) error {
	_, err := d.pool.Exec(ctx, touchedRows)
	return d.explain(err)
}

// Touched lists what was touched up to a place.
func (d *database) Touched(ctx context.Context, crossing string, to domain.Position, behind int64,
	most int) ([]engine.Touched, error) {
	rows, err := d.pool.Query(ctx, `SELECT id, target, rows, keys FROM dusty_ferry.touched
 WHERE crossing = $1 AND position <= $2::text::numeric AND id > $3 ORDER BY id LIMIT $4`, crossing, fmt.Sprint(to.Number()),
		behind, most)
	if err != nil {
		return nil, d.explain(err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (t engine.Touched, err error) {
		return t, row.Scan(&t.ID, &t.Target, &t.Rows, &t.Keys)
	})
	return out, d.explain(err)
}

// ForgetTouched forgets what has been compared.
func (d *database) ForgetTouched(ctx context.Context, crossing string, ids []int64) error {
	_, err := d.pool.Exec(ctx, `DELETE FROM dusty_ferry.touched WHERE crossing = $1 AND id = ANY ($2)`, crossing, ids)
	return d.explain(err)
}

// Touch keeps which rows the open transaction touches.
func (a *applier) Touch(ctx context.Context, at domain.Position, list []engine.Touched) error {
	var targets []string
	var rows []int64
	var keys [][]byte
	for _, t := range list {
		targets, rows, keys = append(targets, t.Target), append(rows, t.Rows), append(keys, append([]byte{}, t.Keys...))
	}
	if a.early && at != domain.FarAway {
		a.early = false
		if _, err := a.tx.Exec(ctx, `UPDATE dusty_ferry.touched SET position = $2::text::numeric WHERE crossing = $1
  AND position = $3::text::numeric`, a.crossing, fmt.Sprint(at.Number()), fmt.Sprint(domain.FarAway.Number())); err != nil {
			return a.d.explain(err)
		}
	}
	a.early = a.early || at == domain.FarAway
	_, err := a.tx.Exec(ctx, `INSERT INTO dusty_ferry.touched (crossing, position, target, rows, keys)
SELECT $1, $2::text::numeric, u.* FROM unnest($3::text[], $4::bigint[], $5::bytea[]) AS u(target, rows, keys)`, a.crossing,
		fmt.Sprint(at.Number()), targets, rows, keys)
	return a.d.explain(err)
}
