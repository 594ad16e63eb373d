package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// ScheduleStore keeps schedules and runs.
type ScheduleStore struct{ *conn }

// SaveSchedule replaces a crossing's schedule, which is not paused then.
func (s ScheduleStore) SaveSchedule(ctx context.Context, c domain.Schedule) error {
	_, err := s.DB.NamedExecContext(ctx, `
INSERT INTO schedules (crossing_id, once_at, cron, zone, missed, next_at, actor)
  VALUES (:crossing_id, :once_at, :cron, :zone, :missed, :next_at, :actor)
ON CONFLICT (crossing_id) DO UPDATE
   SET once_at = :once_at, cron = :cron, zone = :zone, missed = :missed, next_at = :next_at, actor = :actor,
     created_at = now(), paused_by = ''`, c)
	return err
}

// ScheduleOf returns a crossing's schedule, or nil.
func (s ScheduleStore) ScheduleOf(ctx context.Context, crossing int64) (*domain.Schedule, error) {
	list, err := all[domain.Schedule](ctx, s, `SELECT * FROM schedules WHERE crossing_id = $1`, crossing)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// RemoveSchedule forgets a crossing's schedule.
func (s ScheduleStore) RemoveSchedule(ctx context.Context, crossing int64) error {
	ok, err := s.changed(ctx, `DELETE FROM schedules WHERE crossing_id = $1`, crossing)
	if err == nil && !ok {
		err = domain.NotFound("the crossing has no schedule")
	}
	return err
}

// DueSchedules lists what is due now.
func (s ScheduleStore) DueSchedules(ctx context.Context) ([]domain.Schedule, error) {
	return all[domain.Schedule](ctx, s, `SELECT * FROM schedules WHERE next_at <= now() ORDER BY next_at`)
}

// PauseSchedule keeps a schedule from starting anything, or with an empty by lets it again.
func (s ScheduleStore) PauseSchedule(ctx context.Context, crossing int64, by string) error {
	ok, err := s.changed(ctx,
		`UPDATE schedules SET paused_by = $2 WHERE crossing_id = $1 AND (paused_by = '') = ($2 <> '')`, crossing, by)
	if err != nil || ok {
		return err
	}
	now, err := s.ScheduleOf(ctx, crossing)
	switch {
	case err != nil:
		return err
	case now == nil:
		return domain.NotFound("the crossing has no schedule")
	case by == "":
		return domain.Conflict("the schedule is not paused")
	}
	return domain.Conflict("the schedule is paused already, by %s", now.PausedBy)
}

// Due notes that a run is due and moves the schedule on, together: whoever dies after it
// leaves the run to be begun, and nobody begins it twice. False says that somebody else has
// noted it.
func (s ScheduleStore) Due(ctx context.Context, c domain.Schedule, next *time.Time, note string) (bool, error) {
	return s.changed(ctx, `
WITH moved AS (UPDATE schedules SET next_at = $3 WHERE crossing_id = $1 AND next_at = $2 RETURNING crossing_id)
INSERT INTO runs (crossing_id, by, state, due_at, note) SELECT crossing_id, 'its schedule', 'due', $2, $4 FROM moved`,
		c.CrossingID, *c.NextAt, next, note)
}

// DueRuns lists what is due and has not begun, oldest first.
func (s ScheduleStore) DueRuns(ctx context.Context) ([]domain.DueRun, error) {
	return all[domain.DueRun](ctx, s, `SELECT id, crossing_id, due_at, note FROM runs WHERE state = 'due' ORDER BY id`)
}

// LostRuns lists runs that were asked for, and whose work has ended without having begun them.
func (s ScheduleStore) LostRuns(ctx context.Context) ([]int64, error) {
	return all[int64](ctx, s, `
SELECT r.id FROM runs r
 WHERE r.state = 'asked' AND NOT EXISTS (SELECT FROM tasks k WHERE k.crossing_id = r.crossing_id
   AND k.state IN ('waiting', 'running') AND k.kind IN ('prepare', 'restart', 'refresh'))`)
}

// AskRunTx says inside the caller's transaction, which adds the task, that a due run was
// asked for. False says that somebody else did.
func AskRunTx(ctx context.Context, tx pgx.Tx, run int64) (bool, error) {
	res, err := tx.Exec(ctx, `UPDATE runs SET state = 'asked' WHERE id = $1 AND state = 'due'`, run)
	return res.RowsAffected() == 1, err
}

// SettleRun says why a due run did not come about: skipped or failed. One that is skipped as
// the one before it was, for the same reason, is counted with that one; told says that it is
// another, which is to be told of.
func (s ScheduleStore) SettleRun(ctx context.Context, run int64, state domain.RunState, note string) (told bool,
	err error) {
	err = s.In(ctx, func(tx *sqlx.Tx) error {
		var crossing int64
		err := tx.GetContext(ctx, &crossing, `UPDATE runs SET state = $2, note = $3, ended_at = now()
  WHERE id = $1 AND state IN ('due', 'asked') RETURNING crossing_id`, run, state, note)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		told = true
		if state != domain.RunSkipped {
			return nil
		}
		res, err := tx.ExecContext(ctx, `
UPDATE runs r SET times = r.times + 1, ended_at = now(), due_at = n.due_at
  FROM runs n
 WHERE n.id = $2 AND r.state = 'skipped' AND r.note = $3
   AND r.id = (SELECT max(id) FROM runs WHERE crossing_id = $1 AND id < $2)`, crossing, run, note)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		told = false
		_, err = tx.ExecContext(ctx, `DELETE FROM runs WHERE id = $1`, run)
		return err
	})
	return told, err
}

// Run is one time that a crossing's load ran, or should have.
type Run struct {
	ID        int64           `db:"id"`
	By        string          `db:"by"`
	State     domain.RunState `db:"state"`
	StartedAt time.Time       `db:"started_at"`
	EndedAt   *time.Time      `db:"ended_at"`
	Tables    int             `db:"tables"`
	Rows      int64           `db:"rows"`
	Bytes     int64           `db:"bytes"`
	Rejected  int64           `db:"rejected"`
	Note      string          `db:"note"`
	DueAt     *time.Time      `db:"due_at"` // when a schedule wanted it; of several that were skipped, the last
	Times     int             `db:"times"`  // how many due times in a row were skipped so
}

// Runs lists a crossing's runs, newest first.
func (s ScheduleStore) Runs(ctx context.Context, crossing int64, limit int) ([]Run, error) {
	return all[Run](ctx, s, `SELECT id, by, state, started_at, ended_at, tables, rows, bytes, rejected, note, due_at,
  times FROM runs WHERE crossing_id = $1 ORDER BY id DESC LIMIT $2`, crossing, limit)
}

// BeginRun notes that a load begins; run is the one that a schedule asked for, or 0. With
// anew, or for a schedule, one that was under way is given up; otherwise it goes on.
func (s ScheduleStore) BeginRun(ctx context.Context, crossing, run int64, by string, anew bool) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if anew || run != 0 {
			if _, err := tx.ExecContext(ctx, `UPDATE runs SET state = 'given up', ended_at = now() WHERE crossing_id = $1
  AND state = 'running' AND id <> $2`, crossing, run); err != nil {
				return err
			}
		}
		if run != 0 {
			_, err := tx.ExecContext(ctx, `UPDATE runs SET state = 'running', started_at = now()
  WHERE id = $1 AND state = 'asked'`, run)
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO runs (crossing_id, by) VALUES ($1, $2) ON CONFLICT (crossing_id)
  WHERE state = 'running' DO NOTHING`, crossing, by)
		return err
	})
}

// EndRun keeps the figures of the load under way. One that began as a refresh has those
// of what it read past the watermarks already.
func (s ScheduleStore) EndRun(ctx context.Context, crossing int64, state domain.RunState, note string) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE runs r SET state = $2, note = coalesce(nullif($3, ''), r.note), ended_at = now(), tables = r.tables + t.n,
  rows = r.rows + t.rows, bytes = r.bytes + t.bytes,
       rejected = (SELECT count(*) FROM rejected_rows a WHERE a.crossing_id = $1 AND NOT a.landed)
  FROM runs x, LATERAL (SELECT count(*) AS n, coalesce(sum(rows_landed), 0)::bigint AS rows,
    coalesce(sum(bytes_landed), 0)::bigint AS bytes
          FROM tables WHERE crossing_id = $1 AND (x.tables = 0 OR coalesce(plan->>'watermark', '') = '')) t
 WHERE r.crossing_id = $1 AND r.state = 'running' AND x.id = r.id`, crossing, state, note)
	return err
}

// EndRefresh keeps the figures of a run that read rows past the watermarks of tables.
// While others are loaded anew by the same run, it goes on, with the note.
func (s ScheduleStore) EndRefresh(ctx context.Context, crossing int64, tables int, rows, bytes int64, note string,
	over bool) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE runs SET note = $5, tables = $2, rows = $3, bytes = $4, state = CASE WHEN $6 THEN 'done' ELSE state END,
  ended_at = CASE WHEN $6 THEN now() END
 WHERE crossing_id = $1 AND state = 'running'`, crossing, tables, rows, bytes, note, over)
	return err
}
