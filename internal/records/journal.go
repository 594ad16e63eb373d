package records

import (
	"context"
	"time"
)

// Entry is one line of the journal.
type Entry struct {
	ID       int64     `db:"id"`
	At       time.Time `db:"at"`
	Actor    string    `db:"actor"`
	Crossing string    `db:"crossing"`
	Subject  string    `db:"subject"`
	Act      string    `db:"act"`
	Severity string    `db:"severity"`
	Message  string    `db:"message"`
}

// Write appends to the journal and wakes those who listen.
func (s *Store) Write(ctx context.Context, e Entry) error {
	if e.Severity == "" {
		e.Severity = "info"
	}
	_, err := s.DB.NamedExecContext(ctx, `
WITH j AS (
  INSERT INTO journal (actor, crossing, subject, act, severity, message)
  VALUES (:actor, :crossing, :subject, :act, :severity, :message) RETURNING id)
SELECT pg_notify('dusty_ferry_journal', CAST(id AS text)) FROM j`, e)
	return err
}

// Journal lists entries after an id, oldest first; of one crossing when named.
func (s *Store) Journal(ctx context.Context, crossing string, after int64, limit int) ([]Entry, error) {
	var out []Entry
	return out, s.DB.SelectContext(ctx, &out, `
SELECT * FROM journal WHERE id > $2 AND ($1 = '' OR crossing = $1) ORDER BY id LIMIT $3`, crossing, after, limit)
}

// LastJournal lists the newest entries, newest first.
func (s *Store) LastJournal(ctx context.Context, crossing string, limit int) ([]Entry, error) {
	var out []Entry
	return out, s.DB.SelectContext(ctx, &out, `
SELECT * FROM journal WHERE $1 = '' OR crossing = $1 ORDER BY id DESC LIMIT $2`, crossing, limit)
}

// Sample is one reading of a crossing's counters.
type Sample struct {
	CrossingID int64     `db:"crossing_id"`
	At         time.Time `db:"at"`
	Rows       int64     `db:"rows"`
	Bytes      int64     `db:"bytes"`
	Changes    int64     `db:"changes"`
	LagSeconds float64   `db:"lag_seconds"`
	LagBytes   int64     `db:"lag_bytes"`
}

// TakeSamples reads the counters of all crossings under way into the history.
func (s *Store) TakeSamples(ctx context.Context) error {
	_, err := s.DB.ExecContext(ctx, `
INSERT INTO samples (crossing_id, rows, bytes, changes, lag_seconds, lag_bytes)
SELECT c.id, coalesce((SELECT sum(rows_landed) FROM tables WHERE crossing_id = c.id), 0)
             + coalesce((SELECT sum(rows) FROM chunks WHERE crossing_id = c.id AND state = 'reading'), 0),
       coalesce((SELECT sum(bytes_landed) FROM tables WHERE crossing_id = c.id), 0)
             + coalesce((SELECT sum(bytes) FROM chunks WHERE crossing_id = c.id AND state = 'reading'), 0),
       coalesce(st.changes, 0), coalesce(st.lag_seconds, 0), coalesce(st.lag_bytes, 0)
  FROM crossings c LEFT JOIN streams st ON st.crossing_id = c.id
 WHERE c.phase IN ('loading', 'catching up', 'in step', 'cutting over')
ON CONFLICT DO NOTHING`)
	return err
}

// ThinSamples keeps one reading a minute of what is older than two hours.
func (s *Store) ThinSamples(ctx context.Context) error {
	_, err := s.DB.ExecContext(ctx, `
DELETE FROM samples a WHERE at < now() - interval '2 hours'
   AND EXISTS (SELECT 1 FROM samples b WHERE b.crossing_id = a.crossing_id AND b.at < a.at AND b.at >= date_trunc('minute', a.at))`)
	return err
}

// Samples lists the readings of a crossing since a time.
func (s *Store) Samples(ctx context.Context, crossing int64, since time.Time) ([]Sample, error) {
	var out []Sample
	return out, s.DB.SelectContext(ctx, &out, `SELECT * FROM samples WHERE crossing_id = $1 AND at >= $2 ORDER BY at`, crossing, since)
}

// ChunkProgress keeps how far a chunk being read has come.
func (s *Store) ChunkProgress(ctx context.Context, id, epoch, rows, bytes int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE chunks SET rows = $3, bytes = $4 WHERE id = $1 AND epoch = $2 AND state = 'reading'`, id, epoch, rows, bytes)
	return err
}
