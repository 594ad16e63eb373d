package records

import (
	"context"
	"database/sql"
	"errors"
	"math"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// RejectedStore keeps rows that did not land, or landed cut.
type RejectedStore struct{ *conn }

// badRow is a row that was left behind, or landed with a value cut, as it is kept.
type badRow struct {
	domain.BadRow
	KeyJSON JSON[domain.KeyValue]    `db:"key"`
	RowJSON JSON[map[string]*string] `db:"row"`
}

// KeepRejected keeps the rows of a chunk that are left behind, in place of those kept
// for it before; false when the chunk is not held under the epoch any more, or its
// table would have more of them than the limit.
func (s RejectedStore) KeepRejected(ctx context.Context, chunk, epoch int64, rows []domain.BadRow, limit int) (bool,
	error) {
	return s.keepRows(ctx, chunk, epoch, rows, false, limit)
}

// KeepCut keeps which rows of a chunk land with a value cut, in place of those kept for
// it before; false when the chunk is not held under the epoch any more.
func (s RejectedStore) KeepCut(ctx context.Context, chunk, epoch int64, rows []domain.BadRow) (bool, error) {
	return s.keepRows(ctx, chunk, epoch, rows, true, math.MaxInt)
}

func (s RejectedStore) keepRows(ctx context.Context, chunk, epoch int64, rows []domain.BadRow, landed bool,
	limit int) (bool, error) {
	done := false
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		var of struct {
			Crossing int64 `db:"crossing_id"`
			Table    int64 `db:"table_id"`
		}
		// The table's line is locked, so that lanes count one after the other.
		if err := tx.GetContext(ctx, &of, `
SELECT k.crossing_id, k.table_id FROM chunks k JOIN tables t ON t.id = k.table_id
 WHERE k.id = $1 AND k.epoch = $2 AND k.state = 'reading' FOR UPDATE OF t`, chunk, epoch); errors.Is(err,
			sql.ErrNoRows) {
			return nil
		} else if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM rejected_rows WHERE chunk_id = $1 AND landed = $2`, chunk,
			landed); err != nil {
			return err
		}
		var others int
		if err := tx.GetContext(ctx, &others, `SELECT count(*) FROM rejected_rows WHERE table_id = $1 AND landed = $2`, of.Table,
			landed); err != nil {
			return err
		}
		if others+len(rows) > limit {
			return nil
		}
		for _, r := range rows {
			if _, err := tx.ExecContext(ctx, `
INSERT INTO rejected_rows (crossing_id, table_id, chunk_id, key, row, column_name, error, landed)
  VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
				of.Crossing, of.Table, chunk, nullable(r.Key), JSON[map[string]*string]{V: r.Row}, r.Column, r.Error,
				landed); err != nil {
				return err
			}
		}
		done = true
		return nil
	})
	return done, err
}

// dropRejected drops what was kept for chunks that are claimed: nothing of them landed, so
// what a try before this one left behind is tried again.
func dropRejected(ctx context.Context, tx *sqlx.Tx, chunks ...int64) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM rejected_rows WHERE chunk_id = ANY ($1)`, chunks)
	return err
}

// RejectedRows lists rows of a crossing that were left behind, or those that landed with a
// value cut, by table and place, and how many there are.
func (s RejectedStore) RejectedRows(ctx context.Context, crossing int64, table string, landed bool, offset,
	limit int) ([]domain.BadRow, int, error) {
	const where = ` FROM rejected_rows a JOIN tables t ON t.id = a.table_id JOIN chunks k ON k.id = a.chunk_id
  WHERE a.crossing_id = $1 AND ($2 = '' OR t.source_name = $2) AND a.landed = $3`
	n, err := single[int](ctx, s, `SELECT count(*)`+where, crossing, table, landed)
	if err != nil {
		return nil, 0, err
	}
	rows, err := all[badRow](ctx, s, `SELECT a.id, t.source_name AS table_name, k.ordinal, a.key, a.row, a.column_name,
  a.error, a.landed, a.at`+where+`
 ORDER BY t.ordinal, k.ordinal, a.id LIMIT $5 OFFSET $4`, crossing, table, landed, offset, limit)
	list := make([]domain.BadRow, len(rows))
	for i, r := range rows {
		list[i] = r.BadRow
		list[i].Key, list[i].Row = r.KeyJSON.V, r.RowJSON.V
	}
	return list, n, err
}
