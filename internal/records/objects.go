package records

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// The stages at which objects are made on the target, in their order.
const (
	StageTable    = "table"
	StageBefore   = "before"
	StageDeferred = "deferred"
	StageAfter    = "after"
	StageCarried  = "carried"
)

// The states of an object.
const (
	ObjectWaiting = "waiting"
	ObjectRunning = "running"
	ObjectMade    = "made"
	ObjectFailed  = "failed"
	ObjectLeftOut = "left out"
)

// Object is something that a crossing makes on the target, with what came of it.
type Object struct {
	ID        int64           `db:"id"`
	Ordinal   int             `db:"ordinal"`
	Stage     string          `db:"stage"`
	Kind      string          `db:"kind"`
	Name      string          `db:"name"`
	Table     string          `db:"table_name"` // schema.table on the target, or empty
	Statement string          `db:"statement"`
	State     string          `db:"state"`
	Error     string          `db:"error"`
	Seconds   sql.NullFloat64 `db:"seconds"`
	EndedAt   sql.NullTime    `db:"ended_at"`
}

const objectColumns = `SELECT id, ordinal, stage, kind, name, table_name, statement, state, error, seconds, ended_at FROM objects`

// SaveObjects replaces what a crossing will make. Tables that were made stay in
// the account.
func (s *Store) SaveObjects(ctx context.Context, crossing int64, list []Object) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM objects WHERE crossing_id = $1 AND NOT (stage = 'table' AND state = 'made')`, crossing); err != nil {
			return err
		}
		for i, o := range list {
			if _, err := tx.ExecContext(ctx, `
INSERT INTO objects (crossing_id, ordinal, stage, kind, name, table_name, statement) VALUES ($1, $2, $3, $4, $5, $6, $7)
ON CONFLICT (crossing_id, stage, kind, table_name, name) DO UPDATE SET ordinal = EXCLUDED.ordinal, statement = EXCLUDED.statement, state = 'waiting', error = ''`,
				crossing, i+1, o.Stage, o.Kind, o.Name, o.Table, o.Statement); err != nil {
				return err
			}
		}
		return nil
	})
}

// AddObjects adds to what a crossing will make.
func (s *Store) AddObjects(ctx context.Context, crossing int64, list []Object) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		for i, o := range list {
			if _, err := tx.ExecContext(ctx, `
INSERT INTO objects (crossing_id, ordinal, stage, kind, name, table_name, statement) VALUES ($1, 1000000 + $2, $3, $4, $5, $6, $7)
ON CONFLICT (crossing_id, stage, kind, table_name, name) DO UPDATE SET statement = EXCLUDED.statement, state = 'waiting', error = '' WHERE objects.state <> 'made'`,
				crossing, i+1, o.Stage, o.Kind, o.Name, o.Table, o.Statement); err != nil {
				return err
			}
		}
		return nil
	})
}

// Objects lists what a crossing makes, in the order of making.
func (s *Store) Objects(ctx context.Context, crossing int64) ([]Object, error) {
	return all[Object](ctx, s, objectColumns+` WHERE crossing_id = $1
 ORDER BY array_position(ARRAY['table', 'before', 'deferred', 'after', 'carried'], stage), ordinal, id`, crossing)
}

// ObjectOf returns one object of a crossing.
func (s *Store) ObjectOf(ctx context.Context, crossing, id int64) (Object, error) {
	var o Object
	err := s.DB.GetContext(ctx, &o, objectColumns+` WHERE crossing_id = $1 AND id = $2`, crossing, id)
	return o, notFound(err, "the crossing makes no such object")
}

// TellObject keeps what came of an object.
func (s *Store) TellObject(ctx context.Context, id int64, state, text string, took time.Duration) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE objects SET state = $2, error = $3, seconds = CASE WHEN $2 = 'running' THEN NULL ELSE $4::double precision END,
       ended_at = CASE WHEN $2 = 'running' THEN NULL ELSE now() END WHERE id = $1`, id, state, text, took.Seconds())
	return err
}

// Told is what came of making a part of a table.
type Told struct {
	Kind, Table, Statement string
	Failure                error
}

// TellTables keeps what came of making tables.
func (s *Store) TellTables(ctx context.Context, crossing int64, list []Told) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		for _, t := range list {
			state, text := ObjectMade, ""
			if t.Failure != nil {
				state, text = ObjectFailed, t.Failure.Error()
			}
			if _, err := tx.ExecContext(ctx, `
UPDATE objects SET state = $5, error = $6, ended_at = now()
 WHERE crossing_id = $1 AND stage = 'table' AND kind = $2 AND table_name = $3 AND statement = $4`, crossing, t.Kind, t.Table, t.Statement, state, text); err != nil {
				return err
			}
		}
		return nil
	})
}

// UnmakeObjects says that a table's deferred objects, but for foreign keys, are gone
// and to be made again.
func (s *Store) UnmakeObjects(ctx context.Context, crossing int64, table string) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE objects SET state = 'waiting', error = '' WHERE crossing_id = $1 AND stage = 'deferred' AND table_name = $2 AND kind <> 'foreign' AND state = 'made'`, crossing, table)
	return err
}

// UnmakeForeignKeys says that a crossing's foreign keys are gone and to be made again.
func (s *Store) UnmakeForeignKeys(ctx context.Context, crossing int64) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE objects SET state = 'waiting', error = '' WHERE crossing_id = $1 AND stage = 'deferred' AND kind = 'foreign' AND state = 'made'`, crossing)
	return err
}

// RewriteObject writes an object's statement anew while it is not made; an empty
// one leaves it out.
func (s *Store) RewriteObject(ctx context.Context, crossing, id int64, statement string) error {
	ok, err := s.changed(ctx, `
UPDATE objects SET statement = $3, state = CASE WHEN $3 = '' THEN 'left out' ELSE 'waiting' END, error = ''
 WHERE crossing_id = $1 AND id = $2 AND stage <> 'table' AND state IN ('waiting', 'failed', 'left out')`, crossing, id, statement)
	if err == nil && !ok {
		err = domain.Conflict("the object is made already, or is being made; its statement cannot be changed any more")
	}
	return err
}
