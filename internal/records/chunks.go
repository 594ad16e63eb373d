package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/share"
	"dustyferry/internal/domain"
)

// ChunkStore keeps the ledger: which chunk is carried by whom, and which have landed.
type ChunkStore struct{ *conn }

// chunkRow is one line of the ledger as it is kept.
type chunkRow struct {
	domain.Chunk
	LowerJSON    JSON[domain.KeyValue] `db:"lower"`
	UpperJSON    JSON[domain.KeyValue] `db:"upper"`
	SnapshotText string                `db:"snapshot"`
	HashBits     int64                 `db:"hash"`
	Landing      bool                  `db:"landing"` // it was read, and takes up no lane
}

func (r *chunkRow) chunk() (c domain.Chunk, err error) {
	r.Lower, r.Upper, r.Hash = r.LowerJSON.V, r.UpperJSON.V, uint64(r.HashBits)
	if r.Snapshot, err = domain.ParseSnapshot(r.SnapshotText); err != nil {
		return c, fmt.Errorf("what the read of chunk %d saw cannot be read from the records: %w", r.ID, err)
	}
	return r.Chunk, nil
}

// chunks reads lines of the ledger.
func (s ChunkStore) chunks(ctx context.Context, sql string, args ...any) ([]domain.Chunk, error) {
	rows, err := all[chunkRow](ctx, s, sql, args...)
	if err != nil {
		return nil, err
	}
	return chunksOf(rows)
}

func chunksOf(rows []chunkRow) (out []domain.Chunk, err error) {
	out = make([]domain.Chunk, len(rows))
	for i := range rows {
		if out[i], err = rows[i].chunk(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

const chunkForPeople = `SELECT k.*, (SELECT l.ordinal FROM chunks l WHERE l.id = k.leader) AS "with" FROM chunks k`

// Chunks lists a table's chunks in key order.
func (s ChunkStore) Chunks(ctx context.Context, table int64) ([]domain.Chunk, error) {
	return s.chunks(ctx, `SELECT * FROM chunks WHERE table_id = $1 ORDER BY ordinal`, table)
}

// LandedChunks lists the chunks of a crossing that have landed, of those that were carried
// together the first, whose mark on the target is for all.
func (s ChunkStore) LandedChunks(ctx context.Context, crossing int64) ([]domain.LandedChunk, error) {
	return all[domain.LandedChunk](ctx, s, `
SELECT c.id, t.source_name AS "table" FROM chunks c JOIN tables t ON t.id = c.table_id
 WHERE t.crossing_id = $1 AND c.state = 'landed' AND coalesce(c.leader, c.id) = c.id`, crossing)
}

// ChunkPage lists part of a table's chunks in key order.
func (s ChunkStore) ChunkPage(ctx context.Context, table int64, offset, limit int) ([]domain.Chunk, error) {
	return s.chunks(ctx, chunkForPeople+` WHERE table_id = $1 AND ordinal >= $2 ORDER BY ordinal LIMIT $3`, table, offset,
		limit)
}

// Attempt is a failed try to carry a chunk.
type Attempt struct {
	Worker    string     `db:"worker"`
	StartedAt *time.Time `db:"started_at"`
	EndedAt   time.Time  `db:"ended_at"`
	Error     string     `db:"error"`
}

// ChunkStory returns one chunk by its place in the table, with the tries that
// failed, newest first.
func (s ChunkStore) ChunkStory(ctx context.Context, table int64, ordinal int) (domain.Chunk, []Attempt, error) {
	row, err := single[chunkRow](ctx, s, chunkForPeople+` WHERE table_id = $1 AND ordinal = $2`, table, ordinal)
	if err != nil {
		return domain.Chunk{}, nil, notFound(err, "the table has no chunk %d", ordinal+1)
	}
	c, err := row.chunk()
	if err != nil {
		return c, nil, err
	}
	tries, err := all[Attempt](ctx, s, `SELECT worker, started_at, ended_at, error FROM attempts WHERE chunk_id = $1
  ORDER BY id DESC LIMIT 100`, c.ID)
	return c, tries, err
}

// Cell is a run of neighbouring chunks.
type Cell struct {
	First    int     `db:"first"`
	Last     int     `db:"last"`
	Pending  int     `db:"pending"`
	Reading  int     `db:"reading"`
	Landed   int     `db:"landed"`
	Held     int     `db:"held"`
	Seconds  float64 `db:"seconds"` // the longest any took
	Attempts int     `db:"attempts"`
}

// Cells puts the chunks from one ordinal to another together, each run of the
// given width in one cell.
func (s ChunkStore) Cells(ctx context.Context, table int64, from, to, width int) ([]Cell, error) {
	return all[Cell](ctx, s, `
SELECT min(ordinal) AS first, max(ordinal) AS last,
       count(*) FILTER (WHERE state = 'pending') AS pending, count(*) FILTER (WHERE state = 'reading') AS reading,
       count(*) FILTER (WHERE state = 'landed') AS landed, count(*) FILTER (WHERE state = 'held') AS held,
       coalesce(max(extract(epoch FROM CASE state WHEN 'landed' THEN ended_at
         WHEN 'reading' THEN now() END - started_at)), 0)::float8 AS seconds,
       max(attempts) AS attempts
  FROM chunks WHERE table_id = $1 AND ordinal BETWEEN $2 AND $3
 GROUP BY (ordinal - $2) / $4 ORDER BY 1`, table, from, to, width)
}

// Carrying is a chunk on its way, with its table.
type Carrying struct {
	domain.Chunk
	TableName string
	OfChunks  int
}

// CarryingNow lists the chunks of a crossing that are being read.
func (s ChunkStore) CarryingNow(ctx context.Context, crossing int64) ([]Carrying, error) {
	rows, err := all[struct {
		chunkRow
		TableName string `db:"table_name"`
		OfChunks  int    `db:"of_chunks"`
	}](ctx, s, `
SELECT k.*, t.source_name AS table_name, t.chunks AS of_chunks FROM chunks k JOIN tables t ON t.id = k.table_id
 WHERE k.crossing_id = $1 AND k.state = 'reading' AND k.leader IS NULL AND k.beside IS NULL
 ORDER BY k.worker, k.started_at`, crossing)
	out := make([]Carrying, len(rows))
	for i := 0; i < len(rows) && err == nil; i++ {
		out[i].TableName, out[i].OfChunks = rows[i].TableName, rows[i].OfChunks
		out[i].Chunk, err = rows[i].chunk()
	}
	return out, err
}

// ChunkStates returns the chunks of a table at the given ordinals: what the
// interleaving rule looks at.
func (s ChunkStore) ChunkStates(ctx context.Context, table int64, ordinals []int) ([]domain.Chunk, error) {
	return s.chunks(ctx, `SELECT * FROM chunks WHERE table_id = $1 AND ordinal = ANY ($2)`, table, ordinals)
}

// Claim takes the next chunk of a crossing, or returns nil when there is none
// now, the crossing does not run, or its lanes are all in use. The limit is
// checked in the transaction that claims. Chunks that were not tried yet come with
// their neighbours, if the lane would carry several: the chunk's upper bound is then
// that of the last.
//
// The only chunk of a small table comes with those of others like it, up to t.Small: they take up
// one lane.
func (s ChunkStore) Claim(ctx context.Context, crossing int64, worker string, t domain.BatchHint) (*domain.Chunk,
	error) {
	var c domain.Chunk
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		var lanes, busy int
		if err := tx.GetContext(ctx, &lanes, `
SELECT coalesce(lanes_now, (settings->>'lanes')::int) FROM crossings
 WHERE id = $1 AND phase = 'loading' AND condition IN ('running', 'held') AND rest_until <= now() FOR UPDATE`,
			crossing); err != nil {
			return err
		}
		// Counted by a statement of its own, which sees what was claimed while
		// this one waited for the lock.
		if err := tx.GetContext(ctx, &busy, `SELECT count(*) FROM chunks WHERE crossing_id = $1 AND state = 'reading'
  AND leader IS NULL AND beside IS NULL AND NOT landing`, crossing); err != nil {
			return err
		}
		if busy >= lanes {
			return sql.ErrNoRows
		}
		var row chunkRow
		if err := tx.GetContext(ctx, &row, `
UPDATE chunks SET state = 'reading', leader = NULL, beside = NULL, run = 1, epoch = epoch + 1, attempts = attempts + 1,
  worker = $2, lease_until = now() + $3::interval,
       started_at = now(), ended_at = NULL, rows = 0, bytes = 0, read_bytes = 0, snapshot = '', landing = false
 WHERE id = (SELECT k.id FROM chunks k JOIN tables t ON t.id = k.table_id
              WHERE k.crossing_id = $1 AND k.state = 'pending' AND k.not_before <= now() AND t.state = 'loading'
                AND NOT EXISTS (SELECT 1 FROM tables w WHERE w.id = ANY (t.after) AND w.state <> 'landed')
              ORDER BY k.place, k.ordinal LIMIT 1 FOR UPDATE OF k SKIP LOCKED)
RETURNING *`, crossing, worker, seconds(Lease)); err != nil {
			return err
		}
		var err error
		if c, err = row.chunk(); err != nil {
			return err
		}
		if err := dropRejected(ctx, tx, c.ID); err != nil {
			return err
		}
		if t.Table != c.TableID {
			t.Most /= 2
		}
		if c.Attempts > 1 {
			return nil
		}
		if t.Most > 1 {
			if err := claimNeighbours(ctx, tx, &c, t.Most, lanes); err != nil {
				return err
			}
		}
		if t.Small < 2 || c.Run > 1 {
			return nil
		}
		c.Others, err = claimSmall(ctx, tx, &c, t.Small, lanes)
		return err
	})
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return &c, nil
}

// SetLanding notes that a chunk was read, and lands: it takes up none of the crossing's lanes then.
func (s ChunkStore) SetLanding(ctx context.Context, id, epoch int64) error {
	_, err := s.changed(ctx, `UPDATE chunks SET landing = true WHERE id = $1 AND epoch = $2 AND state = 'reading'`, id,
		epoch)
	return err
}

// claimNeighbours adds the chunks behind one that was claimed, as long as they follow
// without a gap. What is left is shared, see [share.FairShare].
func claimNeighbours(ctx context.Context, tx *sqlx.Tx, c *domain.Chunk, most, lanes int) error {
	var left int
	// A few tables are enough to see that much is left.
	if err := tx.GetContext(ctx, &left, `
SELECT coalesce(sum(n), 0) FROM (SELECT chunks - chunks_landed AS n FROM tables WHERE crossing_id = $1
  AND state = 'loading' LIMIT 50) x`, c.CrossingID); err != nil {
		return err
	}
	most = share.FairShare(most, left, lanes)
	var rows []chunkRow
	if err := tx.SelectContext(ctx, &rows, `
SELECT * FROM chunks WHERE table_id = $1 AND ordinal > $2 AND ordinal < $2 + $3 AND state = 'pending' AND attempts = 0
  AND not_before <= now()
 ORDER BY ordinal FOR UPDATE SKIP LOCKED`, c.TableID, c.Ordinal, most); err != nil {
		return err
	}
	next, err := chunksOf(rows)
	if err != nil {
		return err
	}
	n := 0
	for n < len(next) && next[n].Ordinal == c.Ordinal+n+1 {
		n++
	}
	if n == 0 {
		return nil
	}
	if _, err := tx.ExecContext(ctx, `
UPDATE chunks SET state = 'reading', leader = $1, run = 1, epoch = epoch + 1, attempts = attempts + 1, worker = $4,
  lease_until = NULL,
       started_at = now(), ended_at = NULL, rows = 0, bytes = 0, read_bytes = 0, snapshot = ''
 WHERE table_id = $2 AND ordinal > $3 AND ordinal <= $3 + $5`, c.ID, c.TableID, c.Ordinal, c.Worker, n); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE chunks SET run = $2 WHERE id = $1`, c.ID, n+1); err != nil {
		return err
	}
	ids := make([]int64, n)
	for i := range ids {
		ids[i] = next[i].ID
	}
	c.Run, c.Upper = n+1, next[n-1].Upper
	return dropRejected(ctx, tx, ids...)
}

// RenewChunk prolongs the lease and returns the crossing's settings as they are
// now; false says that the chunk was taken away.
func (s ChunkStore) RenewChunk(ctx context.Context, id, epoch int64) (domain.Settings, bool, error) {
	now, err := all[JSON[domain.Settings]](ctx, s, `
WITH mine AS (UPDATE chunks k SET lease_until = now() + $3::interval
  FROM crossings c
 WHERE k.id = $1 AND k.epoch = $2 AND k.state = 'reading' AND c.id = k.crossing_id AND c.condition <> 'paused'
RETURNING k.id, k.crossing_id, k.worker, c.settings),
others AS (UPDATE chunks k SET lease_until = now() + $3::interval FROM mine m
 WHERE k.crossing_id = m.crossing_id AND k.state = 'reading' AND k.beside = m.id AND k.worker = m.worker)
SELECT settings FROM mine`, id, epoch, seconds(Lease))
	if err != nil || len(now) == 0 {
		return domain.Settings{}, false, err
	}
	return now[0].V, true, nil
}

// SetReadSnapshot notes what the read of a chunk, and of those carried with it, sees: changes that
// it sees need not wait for it. It does nothing for who no longer holds the chunk.
func (s ChunkStore) SetReadSnapshot(ctx context.Context, id, epoch int64, snap domain.Snapshot) error {
	_, err := s.DB.ExecContext(ctx, `
WITH held AS (UPDATE chunks SET snapshot = $3 WHERE id = $1 AND epoch = $2 AND state = 'reading'
  RETURNING id, table_id, ordinal, run)
UPDATE chunks m SET snapshot = $3 FROM held k WHERE m.table_id = k.table_id AND m.ordinal > k.ordinal
  AND m.ordinal < k.ordinal + k.run AND m.leader = k.id`,
		id, epoch, snap.JSON())
	return err
}

// readUpTo notes that a chunk has landed whose read saw the source as it was then: both sides
// are there.
func readUpTo(ctx context.Context, tx *sqlx.Tx, crossing int64, snap domain.Snapshot) error {
	_, err := tx.ExecContext(ctx, `
UPDATE crossings SET max_read = greatest(max_read, $2), away_tries = 0, rest_until = least(rest_until, now()),
  reason = CASE WHEN away_tries > 0 AND condition = 'running' THEN '' ELSE reason END
 WHERE id = $1`, crossing, Pos(snap.Log))
	return err
}

// Landed records a chunk, with those carried with it, that landed on the target. It is
// idempotent, and does nothing for who no longer holds the chunk.
func (s ChunkStore) Landed(ctx context.Context, id, epoch int64, snap domain.Snapshot, sum rowhash.Sum) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		var table, crossing, ordinal int64
		var run int
		err := tx.QueryRowxContext(ctx, `
UPDATE chunks SET state = 'landed', snapshot = $2, rows = $3, bytes = $4, read_bytes = $4, hash = $5, ended_at = now(),
  lease_until = NULL, error = ''
 WHERE id = $1 AND epoch = $6 AND state = 'reading' RETURNING table_id, crossing_id, ordinal, run`, id, snap.JSON(),
			sum.Rows, sum.Bytes, int64(sum.Hash), epoch).
			Scan(&table, &crossing, &ordinal, &run)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		if run > 1 {
			if _, err := tx.ExecContext(ctx, `
UPDATE chunks SET state = 'landed', snapshot = $5, hash = 0, ended_at = now(), lease_until = NULL, error = ''
 WHERE table_id = $1 AND ordinal > $2 AND ordinal < $2 + $3 AND leader = $4`, table, ordinal, run, id,
				snap.JSON()); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `
UPDATE tables SET chunks_landed = chunks_landed + $4, rows_landed = rows_landed + $2, bytes_landed = bytes_landed + $3,
  read_bytes = read_bytes + $3,
       state = CASE WHEN state = 'loading' AND chunks_landed + $4 = chunks THEN 'landed' ELSE state END,
       landed_at = CASE WHEN chunks_landed + $4 = chunks THEN now() ELSE landed_at END
 WHERE id = $1`, table, sum.Rows, sum.Bytes, run); err != nil {
			return err
		}
		return readUpTo(ctx, tx, crossing, snap)
	})
}

// Rest lets a crossing begin no chunk for a while, because a side of it is away. It
// returns how often that was so in a row; 0 says that somebody else has noted it.
func (s ChunkStore) Rest(ctx context.Context, crossing int64, wait func(tries int) time.Duration,
	reason string) (int, error) {
	tries := 0
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		var before int
		err := tx.GetContext(ctx, &before,
			`SELECT away_tries FROM crossings WHERE id = $1 AND rest_until <= now() FOR UPDATE`, crossing)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		tries = before + 1
		_, err = tx.ExecContext(ctx, `
UPDATE crossings SET away_tries = $2, rest_until = now() + $3::interval, reason = CASE
  WHEN condition = 'running' THEN $4 ELSE reason END WHERE id = $1`,
			crossing, tries, seconds(wait(tries)), reason)
		return err
	})
	return tries, err
}

// Lost lists chunks whose holder has been silent for too long, with their
// crossing's target.
func (s ChunkStore) Lost(ctx context.Context) ([]domain.Chunk, error) {
	return s.chunks(ctx,
		`SELECT * FROM chunks WHERE state = 'reading' AND leader IS NULL AND lease_until < now() LIMIT 200`)
}

// RaiseEpoch makes the holder of a chunk an old one, before the target is
// fenced. It returns the new epoch, or 0 when the chunk is not being read any
// more under the old one.
func (s ChunkStore) RaiseEpoch(ctx context.Context, id, epoch int64) (int64, error) {
	var fresh int64
	err := s.DB.GetContext(ctx, &fresh, `
UPDATE chunks SET epoch = epoch + 1, lease_until = now() + $3::interval WHERE id = $1 AND epoch = $2
  AND state = 'reading' RETURNING epoch`,
		id, epoch, seconds(Lease))
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return fresh, err
}

// GiveBack returns a fenced chunk to the ledger, or holds it with its table and its crossing,
// for the reason given. False says that somebody else has it by now.
func (s ChunkStore) GiveBack(ctx context.Context, k *domain.Chunk, epoch int64, wait time.Duration, cause string,
	counts bool, hold string) (bool, error) {
	state := domain.ChunkPending
	if hold != "" {
		state = domain.ChunkHeld
	}
	mine := false
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		if hold != "" {
			if err := steering(ctx, tx, k.CrossingID); err != nil {
				return err
			}
		}
		if cause != "" {
			if _, err := tx.ExecContext(ctx, `
INSERT INTO attempts (chunk_id, epoch, worker, started_at, error) SELECT id, epoch, worker, started_at, $2 FROM chunks
  WHERE id = $1`, k.ID, cause); err != nil {
				return err
			}
		}
		// Those that were carried with it are carried one by one from now on, so that what
		// stops one stops no other.
		if _, err := tx.ExecContext(ctx, `
UPDATE chunks m SET state = 'pending', leader = NULL, ended_at = now(), not_before = now(), attempts = CASE
  WHEN $3 THEN m.attempts ELSE greatest(m.attempts - 1, 0) END
  FROM chunks k WHERE k.id = $1 AND k.epoch = $2 AND k.state = 'reading' AND k.run > 1
   AND m.table_id = k.table_id AND m.ordinal > k.ordinal AND m.ordinal < k.ordinal + k.run AND m.leader = k.id`, k.ID,
			epoch, counts); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, `
UPDATE chunks SET state = $3, run = 1, lease_until = NULL, ended_at = now(), not_before = now() + $4::interval,
  error = $5,
       attempts = CASE WHEN $6 THEN attempts ELSE greatest(attempts - 1, 0) END
 WHERE id = $1 AND epoch = $2 AND state = 'reading'`, k.ID, epoch, state, seconds(wait), cause, counts)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 || hold == "" {
			mine = n > 0
			return err
		}
		mine = true
		if _, err := tx.ExecContext(ctx, `UPDATE tables SET state = 'held', reason = $2
  WHERE id = $1 AND state IN ('loading', 'held')`, k.TableID, hold); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, setCondition, k.CrossingID, domain.ConditionHeld, hold, false, goesOn)
		return err
	})
	return mine, err
}

// ResetTable begins a table again: no chunk can be claimed, every epoch is
// raised so that nobody who still holds one can land it, and the table is
// "planned" until a keeper has emptied it on the target and opens it again.
func (s ChunkStore) ResetTable(ctx context.Context, table int64) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		var c struct {
			Name  string       `db:"name"`
			Phase domain.Phase `db:"phase"`
		}
		err := tx.GetContext(ctx, &c, `SELECT name, phase FROM crossings WHERE id = (SELECT crossing_id FROM tables
  WHERE id = $1) FOR UPDATE`, table)
		if err != nil {
			return notFound(err, "the table is no longer part of the crossing")
		}
		if c.Phase == domain.PhaseCuttingOver || c.Phase == domain.PhaseCutOver || c.Phase == domain.PhaseClosed {
			return domain.Conflict("crossing %s is %s; its tables cannot be loaded again", c.Name, c.Phase)
		}
		return resetTable(ctx, tx, table)
	})
}

func resetTable(ctx context.Context, tx *sqlx.Tx, table int64) error {
	if _, err := tx.ExecContext(ctx, `
UPDATE chunks SET state = 'held', leader = NULL, run = 1, epoch = epoch + 1, lease_until = NULL, attempts = 0,
  snapshot = '', error = '' WHERE table_id = $1`, table); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `
UPDATE tables SET state = 'planned', reason = '', chunks_landed = 0, rows_landed = 0, bytes_landed = 0, read_bytes = 0,
  seen_rows = 0, seen_bytes = 0, landed_at = NULL WHERE id = $1`, table); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `
UPDATE crossings SET phase = CASE WHEN phase IN ('catching up', 'in step') THEN 'loading' ELSE phase END,
  below_since = NULL
 WHERE id = (SELECT crossing_id FROM tables WHERE id = $1)`, table)
	return err
}

// ResetAll begins all tables of a crossing again, which is prepared then: nothing is loaded
// or emptied before it has been planned anew.
func (s ChunkStore) ResetAll(ctx context.Context, crossing int64) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		var ids []int64
		if err := tx.SelectContext(ctx, &ids, `SELECT id FROM tables WHERE crossing_id = $1 ORDER BY id FOR UPDATE`,
			crossing); err != nil {
			return err
		}
		for _, id := range ids {
			if err := resetTable(ctx, tx, id); err != nil {
				return err
			}
		}
		// Whoever follows still has nothing to say any more: its log goes now.
		if _, err := tx.ExecContext(ctx, kickStream, crossing); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE crossings SET phase = 'prepared' WHERE id = $1 AND phase = 'loading'`, crossing)
		return err
	})
}

// ToClear lists tables that begin again and have to be emptied first.
func (s ChunkStore) ToClear(ctx context.Context) ([]domain.CrossingTable, error) {
	return s.tables(ctx, tableColumns+`
 WHERE state = 'planned' AND chunks > 0 AND crossing_id IN (SELECT id FROM crossings WHERE phase = 'loading'
   AND condition IN ('running', 'held'))`)
}

// OpenTable lets an emptied table's chunks be claimed again.
func (s ChunkStore) OpenTable(ctx context.Context, table int64) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE chunks SET state = 'pending', not_before = now() WHERE table_id = $1
  AND state = 'held'`, table); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE tables SET state = 'loading', started_at = now()
  WHERE id = $1 AND state = 'planned'`, table)
		return err
	})
}
