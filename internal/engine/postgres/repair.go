package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// What is done to rows of a target beside loading and applying.

// Repair puts and removes rows while the applier stands still at the position,
// which holding the stream's row makes sure of.
func (d *database) Repair(ctx context.Context, crossing, origin string, at domain.Position, p *domain.TablePlan,
	fixes []engine.Fix) error {
	conn, err := d.connect(ctx, named(crossing))
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if err := quietTriggers(ctx, conn); err != nil {
		return d.explain(err)
	}
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{BeginQuery: beginMarked(origin)})
	if err != nil {
		return d.explain(err)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	if !at.IsZero() {
		var still bool
		if err := tx.QueryRow(ctx, `SELECT position <= $2::text::numeric FROM dusty_ferry.stream WHERE crossing = $1 FOR
  UPDATE`,
			crossing, fmt.Sprint(at.Number())).Scan(&still); err != nil {
			return d.explain(err)
		}
		if !still {
			return domain.Conflict("changes were applied while rows were being repaired; repair again")
		}
	}
	a := &applier{d: d, conn: conn, tx: tx}
	cols := p.CopiedColumns()
	var gone []fold.Copies
	for _, f := range fixes {
		if f.Old != nil {
			gone = append(gone, fold.Copies{Row: f.Old, N: f.Copies})
		}
	}
	if _, err := a.removeWhole(ctx, p, cols, gone); err != nil {
		return err
	}
	for _, f := range fixes {
		if f.Old != nil {
			continue
		}
		if len(p.Key) > 0 {
			key := make(domain.Row, len(cols))
			for i, k := range p.KeyIndexes(cols) {
				key[k] = domain.Value{Kind: domain.Present, Data: []byte(f.Key[i])}
			}
			idx := p.KeyIndexes(cols)
			r := arrays(pick(cols, idx), idx, []domain.Row{key}, nil)
			if err := a.exec(ctx, p, fmt.Sprintf("DELETE FROM %s t USING %s WHERE %s", qualified(p.Target), r.from,
				r.match("t")), r); err != nil {
				return err
			}
		}
		if f.Row != nil {
			for range max(1, f.Copies) {
				if err := a.put(ctx, p, cols, nil, []domain.Row{f.Row}, true); err != nil {
					return err
				}
			}
		}
	}
	return d.explain(tx.Commit(ctx))
}

// ClearTable empties a table and forgets its marks, together. A table that
// foreign keys refer to cannot be truncated alone: its rows are deleted.
func (d *database) ClearTable(ctx context.Context, crossing, origin string, p *domain.TablePlan, chunks []int64) error {
	conn, err := d.connect(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if err := quietTriggers(ctx, conn); err != nil {
		return d.explain(err)
	}
	clear := func(sql string) error {
		return pgx.BeginTxFunc(ctx, conn, pgx.TxOptions{BeginQuery: beginMarked(origin)}, func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return err
			}
			if p.ReadByDisk() {
				if _, err := tx.Exec(ctx, `DELETE FROM dusty_ferry.removed_key WHERE target = $1`,
					qualified(p.Target)); err != nil {
					return err
				}
			}
			_, err := tx.Exec(ctx, `UPDATE dusty_ferry.chunk_mark SET landed = false WHERE crossing = $1 AND chunk = ANY ($2)`,
				crossing, chunks)
			return err
		})
	}
	err = clear("TRUNCATE " + qualified(p.Target))
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == "0A000" {
		err = clear("DELETE FROM " + qualified(p.Target))
	}
	return d.explain(err)
}
