package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"dustyferry/internal/domain"
)

// AccessStore keeps who may do what, and which workers there are.
type AccessStore struct{ *conn }

// Token is an access token; only its hash is kept.
type Token struct {
	ID        int64      `db:"id"`
	Name      string     `db:"name"`
	Role      string     `db:"role"`
	SeeRows   bool       `db:"see_rows"` // of the databases; see MaySeeRows
	Hash      string     `db:"hash"`
	CreatedAt time.Time  `db:"created_at"`
	UsedAt    *time.Time `db:"used_at"`

	// Beat marks the event streams' own calls, which are made again and again.
	Beat bool `db:"-"`
}

// MaySeeRows reports whether the token may see rows of the databases: admins always may.
func (t *Token) MaySeeRows() bool { return t.SeeRows || t.Role == "admin" }

// AddToken keeps a token's hash.
func (s AccessStore) AddToken(ctx context.Context, name, role string, seeRows bool, hash string) error {
	_, err := s.DB.ExecContext(ctx, `INSERT INTO tokens (name, role, see_rows, hash) VALUES ($1, $2, $3, $4)`, name, role,
		seeRows, hash)
	if duplicate(err) {
		return domain.Conflict("a token named %s exists already; choose another name", name)
	}
	return err
}

// FirstToken adds a token if there is none at all, and reports whether it did.
func (s AccessStore) FirstToken(ctx context.Context, name, role, hash string) (bool, error) {
	res, err := s.DB.ExecContext(ctx, `
INSERT INTO tokens (name, role, see_rows, hash) SELECT $1, $2, true, $3 WHERE NOT EXISTS (SELECT 1 FROM tokens)
  ON CONFLICT DO NOTHING`, name, role, hash)
	if err != nil {
		return false, err
	}
	n, _ := res.RowsAffected()
	return n == 1, nil
}

// Tokens lists all.
func (s AccessStore) Tokens(ctx context.Context) ([]Token, error) {
	return all[Token](ctx, s, `SELECT * FROM tokens ORDER BY id`)
}

// TokenByHash returns the token, or nil.
func (s AccessStore) TokenByHash(ctx context.Context, hash string) (*Token, error) {
	t, err := s.token(ctx, `SELECT * FROM tokens WHERE hash = $1`, hash)
	if t == nil || err != nil || t.UsedAt != nil && time.Since(*t.UsedAt) < time.Minute {
		return t, err
	}
	_, err = s.DB.ExecContext(ctx, `UPDATE tokens SET used_at = now() WHERE id = $1`, t.ID)
	return t, err
}

// RemoveToken forgets a token and its sessions. The last admin token stays.
func (s AccessStore) RemoveToken(ctx context.Context, name string) error {
	res, err := s.DB.ExecContext(ctx, `
DELETE FROM tokens t WHERE name = $1
   AND (role <> 'admin' OR EXISTS (SELECT 1 FROM tokens o WHERE o.role = 'admin' AND o.id <> t.id))`, name)
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return domain.Conflict("there is no token named %s, or it is the last admin token, which has to stay", name)
	}
	return nil
}

// AddSession opens a console session.
func (s AccessStore) AddSession(ctx context.Context, hash string, token int64, until time.Time) error {
	_, err := s.DB.ExecContext(ctx, `INSERT INTO sessions (hash, token_id, expires_at) VALUES ($1, $2, $3)`, hash, token,
		until)
	return err
}

// SessionToken returns the token a session was opened with, or nil.
func (s AccessStore) SessionToken(ctx context.Context, hash string) (*Token, error) {
	return s.token(ctx, `
SELECT t.* FROM sessions x JOIN tokens t ON t.id = x.token_id WHERE x.hash = $1 AND x.expires_at > now()`, hash)
}

func (s AccessStore) token(ctx context.Context, query, hash string) (*Token, error) {
	var t Token
	err := s.DB.GetContext(ctx, &t, query, hash)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &t, err
}

// EndSession closes a session.
func (s AccessStore) EndSession(ctx context.Context, hash string) error {
	_, err := s.DB.ExecContext(ctx, `DELETE FROM sessions WHERE hash = $1 OR expires_at < now()`, hash)
	return err
}

// Worker is a process that shares the work.
type Worker struct {
	Name      string         `db:"name"`
	Host      string         `db:"host"`
	PID       int            `db:"pid"`
	Version   string         `db:"version"`
	StartedAt time.Time      `db:"started_at"`
	SeenAt    time.Time      `db:"seen_at"`
	Labels    JSON[[]string] `db:"labels"`
	Lanes     int            `db:"lanes"`
	Streams   int            `db:"streams"`
}

// SeeWorker says that a worker is alive.
func (s AccessStore) SeeWorker(ctx context.Context, w Worker) error {
	_, err := s.DB.NamedExecContext(ctx, `
INSERT INTO workers (name, host, pid, version, labels) VALUES (:name, :host, :pid, :version, :labels)
ON CONFLICT (name) DO UPDATE SET seen_at = now()`, w)
	return err
}

// Workers lists those seen lately.
func (s AccessStore) Workers(ctx context.Context) ([]Worker, error) {
	return all[Worker](ctx, s, `
SELECT w.*, (SELECT count(*) FROM lanes l WHERE l.worker = w.name AND l.lease_until > now()) AS lanes,
       (SELECT count(*) FROM streams x WHERE x.worker = w.name AND x.lease_until > now()) AS streams
  FROM workers w WHERE w.seen_at > now() - interval '10 minutes' ORDER BY w.started_at`)
}

// HasWorker reports whether a worker with that label was seen within ten seconds.
func (s AccessStore) HasWorker(ctx context.Context, label string) (bool, error) {
	return single[bool](ctx, s, `SELECT EXISTS (SELECT 1 FROM workers WHERE labels ? $1
  AND seen_at > now() - interval '10 seconds')`, label)
}
