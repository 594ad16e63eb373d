package records

import (
	"context"
	"database/sql"
	"errors"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// Stream is the one applier of a crossing.
type Stream struct {
	CrossingID int64      `db:"crossing_id"`
	Epoch      int64      `db:"epoch"`
	Worker     string     `db:"worker"`
	LeaseUntil *time.Time `db:"-"`
	Received   Pos        `db:"received"`
	Applied    Pos        `db:"applied"`
	Committed  int64      `db:"committed"`
	LagSeconds float64    `db:"lag_seconds"`
	LagBytes   int64      `db:"lag_bytes"`
	Retained   int64      `db:"retained"`
	Changes    int64      `db:"changes"`
	ReportedAt *time.Time `db:"reported_at"`
	Error      string     `db:"error"`
	Failures   int        `db:"failures"`
	Live       bool       `db:"live"`
	Reading    bool       `db:"reading"` // its holder has opened the log
	Ask        string     `db:"ask"`
	AskAt      Pos        `db:"ask_at"`
	AskBy      string     `db:"ask_by"`  // whose wish it is
	AskFor     string     `db:"ask_for"` // what for
	SourceAt   Pos        `db:"source_at"`
	Answered   int64      `db:"answered"` // changes that its holder had applied at its last answer
	// Noticed is what was seen of the source's tables when they were last looked at.
	Noticed JSON[[]domain.Entry] `db:"noticed"`
}

// RecentlyApplied returns the last transactions applied, newest first.
func (s StreamStore) RecentlyApplied(ctx context.Context, crossing int64) ([]domain.AppliedTx, error) {
	r, err := all[JSON[[]domain.AppliedTx]](ctx, s, `SELECT recent FROM streams WHERE crossing_id = $1`, crossing)
	if err != nil || len(r) == 0 {
		return nil, err
	}
	return r[0].V, nil
}

const streamColumns = `
SELECT crossing_id, epoch, worker, received, applied, committed, lag_seconds, lag_bytes, retained, changes,
  reported_at, error, failures, source_at, noticed, answered,
       lease_until > now() AS live, following = epoch AS reading, CASE WHEN ask_until > now() THEN ask
         ELSE '' END AS ask, ask_at, ask_by, ask_for
  FROM streams`

// Stream returns a crossing's stream, or nil when it has none.
func (s StreamStore) Stream(ctx context.Context, crossing int64) (*Stream, error) {
	var st Stream
	err := s.DB.GetContext(ctx, &st, streamColumns+` WHERE crossing_id = $1`, crossing)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &st, err
}

// ClaimStream takes a stream nobody holds and that asks for none but the worker's
// labels, or returns nil.
func (s StreamStore) ClaimStream(ctx context.Context, worker string, labels []string) (*domain.StreamClaim, error) {
	var id int64
	err := s.DB.GetContext(ctx, &id, `
UPDATE streams SET epoch = epoch + 1, worker = $1, lease_until = now() + $2::interval
 WHERE crossing_id = (
       SELECT st.crossing_id FROM streams st JOIN crossings c ON c.id = st.crossing_id
        WHERE st.lease_until < now() AND st.not_before <= now()
          AND c.kind <> 'load' AND coalesce(c.settings->>'worker_label', '') = ANY ($3 || '{""}'::text[])
          AND c.phase IN ('loading', 'catching up', 'in step', 'cutting over')
          AND (c.condition = 'running' OR c.condition = 'paused' AND c.keep_capture
               OR c.condition = 'held' AND st.failures >= 0)
          AND NOT EXISTS (SELECT 1 FROM tasks t WHERE t.crossing_id = c.id AND t.kind = 'restart'
            AND t.state IN ('waiting', 'running') AND NOT t.begun)
        ORDER BY st.not_before LIMIT 1 FOR UPDATE OF st SKIP LOCKED)
RETURNING crossing_id`, worker, seconds(Lease), append([]string{}, labels...))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	st, err := s.Stream(ctx, id)
	if err != nil || st == nil {
		return nil, err
	}
	return &domain.StreamClaim{CrossingID: id, Epoch: st.Epoch, Received: domain.Position(st.Received),
		Applied: domain.Position(st.Applied), Committed: st.Committed, Failures: st.Failures}, nil
}

// SetUnswept keeps whether there may be rows on the target that were removed, for who holds the
// stream.
func (s StreamStore) SetUnswept(ctx context.Context, crossing, epoch int64, yes bool) error {
	mine, err := s.changed(ctx, `UPDATE streams SET unswept = $3 WHERE crossing_id = $1 AND epoch = $2`, crossing, epoch,
		yes)
	if err == nil && !mine {
		return domain.ErrTakenOver
	}
	return err
}

// RenewStream prolongs the lease and keeps the report. Of a stream that was taken over, or is to
// stop, it says that it is not the caller's.
func (s StreamStore) RenewStream(ctx context.Context, crossing, epoch int64,
	r domain.StreamReport) (domain.StreamWord, error) {
	var recent any
	if r.Recent != nil {
		recent = JSON[[]domain.AppliedTx]{r.Recent}
	}
	var w struct {
		StopAt string `db:"stop_at"`
		Below  bool   `db:"below"`
	}
	err := s.DB.GetContext(ctx, &w, `
UPDATE streams st SET lease_until = now() + $3::interval, received = $4, applied = $5, committed = $6,
  lag_seconds = $7, lag_bytes = $8,
       lag_transactions = $9, lag_guessed = $17, catch_up = $18, lag_p50 = $19, lag_p99 = $20, changes = changes + $10,
         reported_at = now(), failures = 0, error = '',
       source_at = greatest(source_at, $11), read_bytes = read_bytes + $12, written_bytes = written_bytes + $13,
         recent = coalesce($14, recent), note = $15,
       following = CASE WHEN $16 THEN st.epoch ELSE following END
  FROM crossings c
 WHERE st.crossing_id = $1 AND st.epoch = $2 AND c.id = st.crossing_id
   AND c.phase IN ('loading', 'catching up', 'in step', 'cutting over')
   AND (c.condition IN ('running', 'held') AND st.failures >= 0 OR c.condition = 'paused' AND c.keep_capture)
RETURNING coalesce(c.settings->>'stop_at', '') AS stop_at, c.below_since IS NOT NULL AS below`,
		crossing, epoch, seconds(Lease), Pos(r.Received), Pos(r.Applied), r.Committed, r.LagSeconds, r.LagBytes,
		r.LagTransactions, r.Changes,
		Pos(r.SourceAt), r.Read, r.Written, recent, r.Note, r.Following, r.Guessed, r.CatchUp, r.LagP50, r.LagP99)
	if errors.Is(err, sql.ErrNoRows) {
		return domain.StreamWord{}, nil
	}
	return domain.StreamWord{Mine: err == nil, StopAt: w.StopAt, Below: w.Below}, err
}

// Notice keeps what was seen of the source's tables.
func (s StreamStore) Notice(ctx context.Context, crossing int64, list []domain.Entry) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE streams SET noticed = $2 WHERE crossing_id = $1`, crossing,
		JSON[[]domain.Entry]{append([]domain.Entry{}, list...)})
	return err
}

// changed runs a statement about one record and reports whether there was one.
func (s *conn) changed(ctx context.Context, sql string, args ...any) (bool, error) {
	res, err := s.DB.ExecContext(ctx, sql, args...)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// MarkLag keeps since when the lag has been below the crossing's threshold.
func (s StreamStore) MarkLag(ctx context.Context, crossing int64, below bool) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE crossings SET below_since = CASE WHEN $2 THEN now() END
 WHERE id = $1 AND (below_since IS NOT NULL) <> $2`, crossing, below)
	return err
}

// DropStream gives the lease back; a failure makes the next try wait. With hold, no try is
// made until a person resumes the crossing, which is held for that reason. False says that
// somebody else holds the lease by now.
func (s StreamStore) DropStream(ctx context.Context, crossing, epoch int64, wait time.Duration, cause,
	hold string) (bool, error) {
	mine := false
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		if hold != "" {
			if err := steering(ctx, tx, crossing); err != nil {
				return err
			}
		}
		res, err := tx.ExecContext(ctx, `
UPDATE streams SET lease_until = '-infinity', not_before = now() + $3::interval, error = $4,
       failures = CASE WHEN $5 <> '' THEN -1 WHEN $4 <> '' THEN failures + 1 ELSE failures END
 WHERE crossing_id = $1 AND epoch = $2`, crossing, epoch, seconds(wait), cause, hold)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 || hold == "" {
			mine = n > 0
			return err
		}
		mine = true
		_, err = tx.ExecContext(ctx, setCondition, crossing, domain.ConditionHeld, hold, false, goesOn)
		return err
	})
	return mine, err
}

// Ask asks the applier to stop between two transactions (hold), or to go on up to a position
// (go), for the sake of what is said. The wish lapses after a moment unless it is repeated, so
// that nobody's death stops an applier for good. There is one wish at a time: false says that
// somebody else has one.
func (s StreamStore) Ask(ctx context.Context, crossing int64, by, sake, what string, at domain.Position) (bool, error) {
	return s.changed(ctx, asking(`
UPDATE streams SET ask = $4, ask_at = $5, ask_by = $2, ask_for = $3, ask_until = now() + interval '15 seconds'
 WHERE crossing_id = $1 AND (ask_by = $2 OR ask = '' OR ask_until <= now())`), crossing, by, sake, what, Pos(at))
}

// LetGo ends a wish. With an empty by, whosever it is.
func (s StreamStore) LetGo(ctx context.Context, crossing int64, by string) error {
	_, err := s.DB.ExecContext(ctx, asking(`UPDATE streams SET ask = '', ask_by = '', ask_for = '' WHERE crossing_id = $1
  AND ($2 = '' OR ask_by = $2)`), crossing, by)
	return err
}

// Follow turns the wish to hold, once the applier holds, into one to go on up to a position.
// False says that the applier may have gone on by itself meanwhile.
func (s StreamStore) Follow(ctx context.Context, crossing int64, by string, at domain.Position) (bool, error) {
	return s.changed(ctx, asking(`
UPDATE streams SET ask = 'go', ask_at = $3, ask_until = now() + interval '15 seconds'
 WHERE crossing_id = $1 AND ask_by = $2 AND ask = 'holding' AND ask_until > now()`), crossing, by, Pos(at))
}

// asked is the channel on which the processes hear that a crossing's applier is asked for something.
const asked = "dusty_ferry_asked"

// asking has a statement that changes what an applier is asked for tell of it.
func asking(update string) string {
	return "WITH u AS (" + update + " RETURNING crossing_id) SELECT pg_notify('" + asked + "', u.crossing_id::text) FROM u"
}

// Listen tells of crossings whose appliers are asked for something else than before, until the
// context ends or the connection does. It first tells of crossing 0, which is none, by the way
// that all others come: the way works.
func (s StreamStore) Listen(ctx context.Context, heard func(crossing int64)) error {
	return s.listen(ctx, asked, func(payload string) {
		if id, err := strconv.ParseInt(payload, 10, 64); err == nil {
			heard(id)
		}
	})
}

// listen tells of what is sent through a channel, and first of a 0 that it sends itself.
func (s *conn) listen(ctx context.Context, channel string, heard func(payload string)) error {
	c, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	own := c.Hijack() // what listens goes back to no pool
	defer func() { _ = own.Close(context.WithoutCancel(ctx)) }()
	for _, sql := range []string{"LISTEN " + channel, "SELECT pg_notify('" + channel + "', '0')"} {
		if _, err := own.Exec(ctx, sql); err != nil {
			return err
		}
	}
	for {
		n, err := own.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		heard(n.Payload)
	}
}

// KeepAsking prolongs a wish that has not lapsed.
func (s StreamStore) KeepAsking(ctx context.Context, crossing int64, by string) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE streams SET ask_until = now() + interval '15 seconds' WHERE crossing_id = $1 AND ask_by = $2 AND ask <> ''
  AND ask_until > now()`, crossing, by)
	return err
}

// Hurry lets capture that failed be tried again at once; nothing where it waits for a person.
func (s StreamStore) Hurry(ctx context.Context, crossing int64) error {
	_, err := s.DB.ExecContext(ctx, "UPDATE streams SET not_before = now() WHERE crossing_id = $1 AND not_before > now() "+
		"AND failures >= 0", crossing)
	return err
}

// Requested returns what is asked for at present.
func (s StreamStore) Requested(ctx context.Context, crossing, epoch int64) (domain.Request, error) {
	list, err := all[Stream](ctx, s, `SELECT epoch, CASE WHEN ask_until > now() THEN ask ELSE '' END AS ask, ask_at, ask_by
  FROM streams WHERE crossing_id = $1`, crossing)
	switch {
	case err != nil || len(list) == 0:
		return domain.Request{}, err
	case list[0].Epoch != epoch:
		return domain.Request{}, domain.ErrTakenOver
	}
	return list[0].Request(), nil
}

// Request is what is asked for at present.
func (st *Stream) Request() domain.Request {
	if st.Ask == "" {
		return domain.Request{}
	}
	return domain.Request{What: st.Ask, At: domain.Position(st.AskAt), By: st.AskBy}
}

// Stand is where the applier stands, or nil where nobody follows.
func (s StreamStore) Stand(ctx context.Context, crossing int64) (*domain.Stand, error) {
	st, err := s.Stream(ctx, crossing)
	if err != nil || st == nil {
		return nil, err
	}
	return &domain.Stand{Epoch: st.Epoch, Live: st.Live, Reading: st.Reading,
		Lag:     time.Duration(st.LagSeconds * float64(time.Second)),
		Changes: st.Changes, Answered: st.Answered, Applied: domain.Position(st.Applied), Request: st.Request(),
		For: st.AskFor, Failures: st.Failures, Error: st.Error, Noticed: st.Noticed.V}, nil
}

// Respond says that a request is fulfilled: holding, or reached. A request that has
// become another one meanwhile stays unanswered. Changes is how many the holder has applied
// by then since it follows.
func (s StreamStore) Respond(ctx context.Context, crossing, epoch int64, was, now domain.Request, changes int64) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE streams SET ask = $5, ask_at = $6, answered = $8 WHERE crossing_id = $1 AND epoch = $2 AND ask = $3
  AND ask_at = $4 AND ask_by = $7 AND ask_until > now()`,
		crossing, epoch, was.What, Pos(was.At), now.What, Pos(now.At), was.By, changes)
	return err
}

// KickStream makes whoever follows a crossing an old one, and returns the epoch
// to fence the target with.
func (s StreamStore) KickStream(ctx context.Context, crossing int64) (int64, error) {
	var epoch int64
	err := s.DB.GetContext(ctx, &epoch, kickStream+` RETURNING epoch`, crossing)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return epoch, err
}

const kickStream = `
UPDATE streams SET epoch = epoch + 1, lease_until = '-infinity', not_before = now(), failures = 0, error = ''
  WHERE crossing_id = $1`

// Lags lists the crossings whose lag is to be told of above a limit, or was.
func (s StreamStore) Lags(ctx context.Context) ([]domain.CrossingLag, error) {
	rows, err := all[struct {
		domain.Crossing
		crossingCells
		LagSeconds float64 `db:"lag_seconds"`
		Silent     float64 `db:"silent"`
	}](ctx, s, `
SELECT x.*, st.lag_seconds, coalesce(extract(epoch FROM now() - st.reported_at), 0)::float8 AS silent
  FROM (`+crossingColumns+`
         WHERE c.phase IN ('loading', 'catching up', 'in step', 'cutting over')
           AND (c.lag_told OR coalesce((c.settings->>'lag_limit')::bigint, 0) > 0)) x
  JOIN streams st ON st.crossing_id = x.id
 WHERE x.kind <> 'load'`)
	out := make([]domain.CrossingLag, len(rows))
	for i := range rows {
		r := &rows[i]
		r.into(&r.Crossing)
		out[i] = domain.CrossingLag{Crossing: r.Crossing, LagSeconds: r.LagSeconds, Silent: r.Silent}
	}
	return out, err
}

// LagTold notes that a crossing's lag is over its limit, or is not any more, and
// reports whether that is new.
func (s StreamStore) LagTold(ctx context.Context, crossing int64, over bool) (bool, error) {
	return s.changed(ctx, `UPDATE crossings SET lag_told = $2 WHERE id = $1 AND lag_told <> $2`, crossing, over)
}
