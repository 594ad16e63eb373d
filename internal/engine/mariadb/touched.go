package mariadb

import (
	"context"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// touchedRows is where a target keeps which rows changes have touched that were not compared since;
// position is of the transaction that touched them, and a count of 0 says that any row may have been.
const touchedRows = `
CREATE TABLE IF NOT EXISTS dusty_ferry.touched (
  id       bigint NOT NULL AUTO_INCREMENT PRIMARY KEY,
  crossing varchar(64) NOT NULL,
  position bigint unsigned NOT NULL,
  target   text NOT NULL,
  count    bigint NOT NULL,
  packed   longblob NOT NULL
) ENGINE = InnoDB ROW_FORMAT = DYNAMIC`

// KeepTouched makes room on a target that a version before prepared.
func (d *database) KeepTouched(ctx context.Context) error {
	_, err := d.pool.ExecContext(ctx, touchedRows)
	return d.explain(err)
}

// Touched lists what was touched up to a place.
func (d *database) Touched(ctx context.Context, crossing string, to domain.Position, behind int64,
	most int) ([]engine.Touched, error) {
	rows, err := d.pool.QueryContext(ctx, "SELECT id, target, count, packed FROM dusty_ferry.touched WHERE crossing = ? "+
		"AND position <= ? AND id > ? ORDER BY id LIMIT ?", crossing, to.Number(), behind, most)
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	var out []engine.Touched
	for rows.Next() {
		var t engine.Touched
		if err := rows.Scan(&t.ID, &t.Target, &t.Rows, &t.Keys); err != nil {
			return nil, d.explain(err)
		}
		out = append(out, t)
	}
	return out, d.explain(rows.Err())
}

// ForgetTouched forgets what has been compared.
func (d *database) ForgetTouched(ctx context.Context, crossing string, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	args := []any{crossing}
	for _, id := range ids {
		args = append(args, id)
	}
	_, err := d.pool.ExecContext(ctx, "DELETE FROM dusty_ferry.touched WHERE crossing = ? AND id IN (?"+
		strings.Repeat(", ?", len(ids)-1)+")", args...)
	return d.explain(err)
}

// Touch keeps which rows the open transaction touches.
func (a *applier) Touch(ctx context.Context, at domain.Position, list []engine.Touched) error {
	if a.early && at != domain.FarAway {
		a.early = false
		if _, err := a.conn.ExecContext(ctx,
			"UPDATE dusty_ferry.touched SET position = ? WHERE crossing = ? AND position = ?",
			at.Number(), a.crossing, domain.FarAway.Number()); err != nil {
			return a.d.explain(err)
		}
	}
	a.early = a.early || at == domain.FarAway
	for _, t := range list {
		if _, err := a.conn.ExecContext(ctx, "INSERT INTO dusty_ferry.touched (crossing, position, target, count, packed) "+
			"VALUES (?, ?, ?, ?, ?)", a.crossing, at.Number(), t.Target, t.Rows, append([]byte{}, t.Keys...)); err != nil {
			return a.d.explain(err)
		}
	}
	return nil
}
