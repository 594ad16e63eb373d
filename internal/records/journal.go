package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/core/chain"
	"dustyferry/internal/domain"
)

// JournalStore keeps the journal and the readings.
type JournalStore struct{ *conn }

// Write appends to the journal and wakes those who listen.
func (s JournalStore) Write(ctx context.Context, e domain.JournalEntry) error {
	if e.Severity == "" {
		e.Severity = "info"
	}
	return s.In(ctx, func(tx *sqlx.Tx) error {
		// Whoever writes next waits for this one: the chain has one end.
		var head struct {
			Code string
			Now  time.Time
		}
		if err := tx.GetContext(ctx, &head, `SELECT code, clock_timestamp() AS now FROM journal_head FOR UPDATE`); err != nil {
			return err
		}
		e.At, e.Before = head.Now.UTC().Truncate(time.Microsecond), head.Code
		e.Code = chain.Code(s.JournalKey, e.Before, &e)
		query, args, err := tx.BindNamed(`
WITH j AS (
  INSERT INTO journal (at, actor, crossing, subject, act, severity, message, detail, before, code)
  VALUES (:at, :actor, :crossing, :subject, :act, :severity, :message, :detail, :before, :code) RETURNING id),
h AS (UPDATE journal_head SET id = j.id, code = :code FROM j)
SELECT pg_notify('dusty_ferry_journal', CAST(id AS text)) FROM j`, e)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, query, args...)
		return err
	})
}

// JournalHead is the number of the newest entry, and its code.
func (s JournalStore) JournalHead(ctx context.Context) (id int64, code string, err error) {
	err = s.DB.QueryRowContext(ctx, `SELECT id, code FROM journal_head`).Scan(&id, &code)
	return id, code, err
}

// VerifyJournal looks whether the journal is as it was written.
func (s JournalStore) VerifyJournal(ctx context.Context) (out chain.Result, _ error) {
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY`); err != nil {
			return err
		}
		var head struct {
			ID   int64
			Code string
		}
		if err := tx.GetContext(ctx, &head, `SELECT id, code FROM journal_head`); err != nil {
			return err
		}
		rows, err := tx.QueryxContext(ctx, `SELECT * FROM journal ORDER BY id`)
		if err != nil {
			return err
		}
		defer func() { _ = rows.Close() }()
		v := chain.Verifier{Key: s.JournalKey}
		for rows.Next() {
			var e domain.JournalEntry
			if err := rows.StructScan(&e); err != nil {
				return err
			}
			if !v.Look(&e) {
				break
			}
		}
		out = v.End(head.ID, head.Code)
		return rows.Err()
	})
	return out, err
}

// EntryFilter chooses journal entries; empty fields choose all.
type EntryFilter struct {
	Crossing string
	Actor    string
	Act      string
	Subject  string
	Severity string // this or worse
	Search   string // part of the message, the subject or the actor
	Since    *time.Time
	Until    *time.Time
	After    int64 // numbers above it; lists oldest first
	Before   int64 // numbers below it
	Oldest   bool  // oldest first
	Limit    int
}

// Journal lists the entries a filter lets through, newest first unless asked
// otherwise.
func (s JournalStore) Journal(ctx context.Context, f EntryFilter) ([]domain.JournalEntry, error) {
	order := "DESC"
	if f.Oldest || f.After > 0 {
		order = "ASC"
	}
	return all[domain.JournalEntry](ctx, s, `
SELECT * FROM journal
 WHERE id > $1 AND ($2 = 0 OR id < $2) AND ($3 = '' OR crossing = $3) AND ($4 = '' OR actor = $4)
   AND ($5 = '' OR act = $5) AND ($6 = '' OR subject = $6)
   AND ($7 = '' OR $7 = 'info' OR severity = 'error' OR severity = $7)
   AND ($8 = '' OR message ILIKE $8 OR subject ILIKE $8 OR actor ILIKE $8)
   AND ($9::timestamptz IS NULL OR at >= $9) AND ($10::timestamptz IS NULL OR at < $10)
 ORDER BY id `+order+` LIMIT $11`,
		f.After, f.Before, f.Crossing, f.Actor, f.Act, f.Subject, f.Severity, like(f.Search), f.Since, f.Until, f.Limit)
}

// LastEntry is the number of the newest entry, 0 when there is none.
func (s JournalStore) LastEntry(ctx context.Context) (int64, error) {
	return single[int64](ctx, s, `SELECT coalesce(max(id), 0) FROM journal`)
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
	BytesIn    int64     `db:"bytes_in"`
	BytesOut   int64     `db:"bytes_out"`
	Inserts    int64     `db:"inserts"`
	Updates    int64     `db:"updates"`
	Deletes    int64     `db:"deletes"`
}

// TakeSamples reads the counters of all crossings under way into the history.
func (s JournalStore) TakeSamples(ctx context.Context) error {
	_, err := s.DB.ExecContext(ctx, `
INSERT INTO samples (crossing_id, rows, bytes, changes, lag_seconds, lag_bytes, bytes_in, bytes_out, inserts, updates,
  deletes)
SELECT c.id, t.rows + k.rows, t.bytes + k.bytes, coalesce(st.changes, 0), coalesce(st.lag_seconds, 0),
  coalesce(st.lag_bytes, 0),
       t.read_bytes + k.read_bytes + coalesce(st.read_bytes, 0), t.bytes + k.bytes + coalesce(st.written_bytes, 0),
         t.inserts, t.updates, t.deletes
  FROM crossings c
  LEFT JOIN streams st ON st.crossing_id = c.id
  CROSS JOIN LATERAL (SELECT coalesce(sum(rows_landed), 0) AS rows, coalesce(sum(bytes_landed), 0) AS bytes,
    coalesce(sum(read_bytes), 0) AS read_bytes,
                             coalesce(sum(inserts), 0) AS inserts, coalesce(sum(updates), 0) AS updates,
                               coalesce(sum(deletes), 0) AS deletes
                        FROM tables WHERE crossing_id = c.id) t
  CROSS JOIN LATERAL (SELECT coalesce(sum(rows), 0) AS rows, coalesce(sum(bytes), 0) AS bytes,
    coalesce(sum(read_bytes), 0) AS read_bytes
                        FROM chunks WHERE crossing_id = c.id AND state = 'reading') k
 WHERE c.phase IN ('loading', 'catching up', 'in step', 'cutting over')
ON CONFLICT DO NOTHING`)
	return err
}

// ThinSamples keeps one reading a minute of what is older than two hours and
// one in ten minutes of what is older than three days; the reading kept takes
// over the highest lag of those dropped, so that no peak is forgotten.
func (s JournalStore) ThinSamples(ctx context.Context) error {
	for _, t := range []struct{ older, step string }{{"2 hours", "1 minute"}, {"3 days", "10 minutes"}} {
		_, err := s.DB.ExecContext(ctx, `
WITH old AS (
  SELECT crossing_id, at, row_number() OVER w AS n, max(lag_seconds) OVER (PARTITION BY crossing_id,
    date_bin($2::interval, at, 'epoch')) AS peak,
         max(lag_bytes) OVER (PARTITION BY crossing_id, date_bin($2::interval, at, 'epoch')) AS peak_bytes,
         count(*) OVER (PARTITION BY crossing_id, date_bin($2::interval, at, 'epoch')) AS many
    FROM samples WHERE at < date_bin($2::interval, now() - $1::interval, 'epoch')
  WINDOW w AS (PARTITION BY crossing_id, date_bin($2::interval, at, 'epoch') ORDER BY at)),
kept AS (
  UPDATE samples s SET lag_seconds = old.peak, lag_bytes = old.peak_bytes
    FROM old WHERE old.many > 1 AND old.n = 1 AND s.crossing_id = old.crossing_id AND s.at = old.at)
DELETE FROM samples s USING old WHERE old.n > 1 AND s.crossing_id = old.crossing_id AND s.at = old.at`, t.older, t.step)
		if err != nil {
			return err
		}
	}
	return nil
}

// Samples lists the readings of a crossing from one time to another, with one
// reading before them so that the first rate is known.
func (s JournalStore) Samples(ctx context.Context, crossing int64, from, to time.Time) ([]Sample, error) {
	return all[Sample](ctx, s, `
SELECT * FROM samples
 WHERE crossing_id = $1 AND at <= $3
   AND at >= coalesce((SELECT max(at) FROM samples WHERE crossing_id = $1 AND at < $2), $2)
 ORDER BY at`, crossing, from, to)
}

// FirstSample is when the history of a crossing begins.
func (s JournalStore) FirstSample(ctx context.Context, crossing int64) (time.Time, bool, error) {
	t, err := single[*time.Time](ctx, s, `SELECT min(at) FROM samples WHERE crossing_id = $1`, crossing)
	if t == nil {
		return time.Time{}, false, err
	}
	return *t, true, err
}

// ChunkProgress keeps how far a chunk being read has come, and what it waits for if nothing
// has moved for a while.
func (s JournalStore) ChunkProgress(ctx context.Context, id, epoch, rows, read, written int64, waits string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE chunks SET rows = $3, read_bytes = $4, bytes = $5, waits = $6
  WHERE id = $1 AND epoch = $2 AND state = 'reading'`, id, epoch, rows, read, written, waits)
	return err
}
