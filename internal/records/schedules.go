package records

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// Schedule is when a crossing starts by itself: once, or by a cron expression.
type Schedule struct {
	CrossingID int64        `db:"crossing_id"`
	OnceAt     sql.NullTime `db:"once_at"`
	Cron       string       `db:"cron"`
	Zone       string       `db:"zone"`
	Missed     string       `db:"missed"`
	NextAt     sql.NullTime `db:"next_at"`
	Actor      string       `db:"actor"`
	CreatedAt  time.Time    `db:"created_at"`
}

// SaveSchedule replaces a crossing's schedule.
func (s *Store) SaveSchedule(ctx context.Context, c Schedule) error {
	_, err := s.DB.NamedExecContext(ctx, `
INSERT INTO schedules (crossing_id, once_at, cron, zone, missed, next_at, actor) VALUES (:crossing_id, :once_at, :cron, :zone, :missed, :next_at, :actor)
ON CONFLICT (crossing_id) DO UPDATE
   SET once_at = :once_at, cron = :cron, zone = :zone, missed = :missed, next_at = :next_at, actor = :actor, created_at = now()`, c)
	return err
}

// ScheduleOf returns a crossing's schedule, or nil.
func (s *Store) ScheduleOf(ctx context.Context, crossing int64) (*Schedule, error) {
	list, err := all[Schedule](ctx, s, `SELECT * FROM schedules WHERE crossing_id = $1`, crossing)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// RemoveSchedule forgets a crossing's schedule.
func (s *Store) RemoveSchedule(ctx context.Context, crossing int64) error {
	ok, err := s.changed(ctx, `DELETE FROM schedules WHERE crossing_id = $1`, crossing)
	if err == nil && !ok {
		err = domain.NotFound("the crossing has no schedule")
	}
	return err
}

// DueSchedules lists what is due now.
func (s *Store) DueSchedules(ctx context.Context) ([]Schedule, error) {
	return all[Schedule](ctx, s, `SELECT * FROM schedules WHERE next_at <= now() ORDER BY next_at`)
}

// Reschedule moves a schedule on, if nobody did meanwhile.
func (s *Store) Reschedule(ctx context.Context, crossing int64, due time.Time, next sql.NullTime) (bool, error) {
	return s.changed(ctx, `UPDATE schedules SET next_at = $3 WHERE crossing_id = $1 AND next_at = $2`, crossing, due, next)
}

// Run is one time that a crossing's load ran, or should have.
type Run struct {
	ID        int64        `db:"id"`
	By        string       `db:"by"`
	State     string       `db:"state"`
	StartedAt time.Time    `db:"started_at"`
	EndedAt   sql.NullTime `db:"ended_at"`
	Tables    int          `db:"tables"`
	Rows      int64        `db:"rows"`
	Bytes     int64        `db:"bytes"`
	SetAside  int64        `db:"set_aside"`
	Note      string       `db:"note"`
}

// Runs lists a crossing's runs, newest first.
func (s *Store) Runs(ctx context.Context, crossing int64, limit int) ([]Run, error) {
	return all[Run](ctx, s, `SELECT id, by, state, started_at, ended_at, tables, rows, bytes, set_aside, note FROM runs WHERE crossing_id = $1 ORDER BY id DESC LIMIT $2`, crossing, limit)
}

// BeginRun notes that a load begins. With anew, one that was under way is given up;
// otherwise it goes on.
func (s *Store) BeginRun(ctx context.Context, crossing int64, by string, anew bool) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if anew {
			if _, err := tx.ExecContext(ctx, `UPDATE runs SET state = 'given up', ended_at = now() WHERE crossing_id = $1 AND state = 'running'`, crossing); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO runs (crossing_id, by) VALUES ($1, $2) ON CONFLICT (crossing_id) WHERE state = 'running' DO NOTHING`, crossing, by)
		return err
	})
}

// EndRun keeps the figures of the load under way. One that began as a refresh has those
// of what it read past the watermarks already.
func (s *Store) EndRun(ctx context.Context, crossing int64, state, note string) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE runs r SET state = $2, note = coalesce(nullif($3, ''), r.note), ended_at = now(), tables = r.tables + t.n, rows = r.rows + t.rows, bytes = r.bytes + t.bytes,
       set_aside = (SELECT count(*) FROM set_aside a WHERE a.crossing_id = $1 AND NOT a.landed)
  FROM runs x, LATERAL (SELECT count(*) AS n, coalesce(sum(rows_landed), 0)::bigint AS rows, coalesce(sum(bytes_landed), 0)::bigint AS bytes
          FROM tables WHERE crossing_id = $1 AND (x.tables = 0 OR coalesce(plan->>'watermark', '') = '')) t
 WHERE r.crossing_id = $1 AND r.state = 'running' AND x.id = r.id`, crossing, state, note)
	return err
}

// EndRefresh keeps the figures of a run that read rows past the watermarks of tables.
// While others are loaded anew by the same run, it goes on, with the note.
func (s *Store) EndRefresh(ctx context.Context, crossing int64, tables int, rows, bytes int64, note string, over bool) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE runs SET note = $5, tables = $2, rows = $3, bytes = $4, state = CASE WHEN $6 THEN 'done' ELSE state END, ended_at = CASE WHEN $6 THEN now() END
 WHERE crossing_id = $1 AND state = 'running'`, crossing, tables, rows, bytes, note, over)
	return err
}

// NoteRun keeps a run that did not come about.
func (s *Store) NoteRun(ctx context.Context, crossing int64, by, state, note string) error {
	_, err := s.DB.ExecContext(ctx, `INSERT INTO runs (crossing_id, by, state, ended_at, note) VALUES ($1, $2, $3, now(), $4)`, crossing, by, state, note)
	return err
}
