package records

import (
	"context"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/core/share"
	"dustyferry/internal/domain"
)

// small is what joins the only chunks of small tables, of at most $2 bytes, that no lane has tried.
const small = ` FROM chunks k JOIN tables t ON t.id = k.table_id
 WHERE k.crossing_id = $1 AND k.state = 'pending' AND k.not_before <= now() AND k.attempts = 0 AND t.state = 'loading'
   AND t.chunks = 1 AND t.est_bytes <= $2 AND coalesce(t.plan->>'read_order', '') = ''
   AND NOT EXISTS (SELECT 1 FROM tables w WHERE w.id = ANY (t.after) AND w.state <> 'landed')`

// claimSmall adds the only chunks of other small tables to that of one. What is left is shared, see
// [share.FairShare].
func claimSmall(ctx context.Context, tx *sqlx.Tx, c *domain.Chunk, most, lanes int) ([]domain.Chunk, error) {
	var alike bool
	if err := tx.GetContext(ctx, &alike, `SELECT chunks = 1 AND est_bytes <= $2 AND coalesce(plan->>'read_order', '') = ''
  FROM tables WHERE id = $1`, c.TableID, share.SmallTable); err != nil || !alike {
		return nil, err
	}
	var left int
	if err := tx.GetContext(ctx, &left, `SELECT count(*) FROM (SELECT 1`+small+` LIMIT $3) x`, c.CrossingID,
		share.SmallTable, 2*lanes*most); err != nil {
		return nil, err
	}
	var rows []chunkRow
	if err := tx.SelectContext(ctx, &rows, `
UPDATE chunks SET state = 'reading', leader = NULL, beside = $3, run = 1, epoch = epoch + 1, attempts = attempts + 1,
  worker = $4, lease_until = now() + $5::interval,
       started_at = now(), ended_at = NULL, rows = 0, bytes = 0, read_bytes = 0, snapshot = '', landing = false
 WHERE id IN (SELECT k.id`+small+` ORDER BY k.place, k.ordinal LIMIT $6 FOR UPDATE OF k SKIP LOCKED)
RETURNING *`, c.CrossingID, share.SmallTable, c.ID, c.Worker, seconds(Lease),
		share.FairShare(most, left+1, lanes)-1); err != nil {
		return nil, err
	}
	out, err := chunksOf(rows)
	if err != nil {
		return nil, err
	}
	if len(out) == 0 {
		return nil, nil
	}
	ids := make([]int64, len(out))
	for i := range out {
		ids[i] = out[i].ID
	}
	return out, dropRejected(ctx, tx, ids...)
}

// SetReadSnapshots notes what the one read of chunks of several tables sees.
func (s ChunkStore) SetReadSnapshots(ctx context.Context, list []domain.Landing, snap domain.Snapshot) error {
	ids, epochs := make([]int64, len(list)), make([]int64, len(list))
	for i, l := range list {
		ids[i], epochs[i] = l.ID, l.Epoch
	}
	_, err := s.DB.ExecContext(ctx, `
UPDATE chunks k SET snapshot = $3 FROM unnest($1::bigint[], $2::bigint[]) AS u(id, epoch)
 WHERE k.id = u.id AND k.epoch = u.epoch AND k.state = 'reading'`, ids, epochs, snap.JSON())
	return err
}

// LandedTogether records chunks, each the only one of its table, that landed on the target in one
// transaction. It is idempotent, and does nothing for a chunk that is no longer held.
func (s ChunkStore) LandedTogether(ctx context.Context, list []domain.Landing, snap domain.Snapshot) error {
	n := len(list)
	ids, epochs, rows, bytes, hashes := make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n),
		make([]int64, n)
	for i, l := range list {
		ids[i], epochs[i], rows[i], bytes[i], hashes[i] = l.ID, l.Epoch, l.Rows, l.Bytes, int64(l.Hash)
	}
	return s.In(ctx, func(tx *sqlx.Tx) error {
		var crossing []int64
		if err := tx.SelectContext(ctx, &crossing, `
WITH landed AS (UPDATE chunks k SET state = 'landed', snapshot = $6, rows = u.rows, bytes = u.bytes, read_bytes = u.bytes,
  hash = u.hash, ended_at = now(), lease_until = NULL, error = ''
  FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::bigint[], $5::bigint[]) AS u(id, epoch, rows, bytes, hash)
 WHERE k.id = u.id AND k.epoch = u.epoch AND k.state = 'reading'
RETURNING k.table_id, k.crossing_id, k.rows, k.bytes)
UPDATE tables t SET chunks_landed = t.chunks_landed + 1, rows_landed = t.rows_landed + l.rows,
  bytes_landed = t.bytes_landed + l.bytes, read_bytes = t.read_bytes + l.bytes,
       state = CASE WHEN t.state = 'loading' AND t.chunks_landed + 1 = t.chunks THEN 'landed' ELSE t.state END,
       landed_at = CASE WHEN t.chunks_landed + 1 = t.chunks THEN now() ELSE t.landed_at END
  FROM landed l WHERE t.id = l.table_id RETURNING t.crossing_id`, ids, epochs, rows, bytes, hashes,
			snap.JSON()); err != nil || len(crossing) == 0 {
			return err
		}
		return readUpTo(ctx, tx, crossing[0], snap)
	})
}
