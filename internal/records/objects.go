package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// ObjectStore keeps what is made on targets.
type ObjectStore struct{ *conn }

const objectColumns = `SELECT id, ordinal, stage, kind, name, table_name, statement, state, error, seconds, ended_at,
  planned, by_hand, late, try FROM objects`

// objectKey tells a crossing's objects apart.
func objectKey(o *domain.TargetObject) string {
	return o.Stage + "\x00" + o.Kind + "\x00" + o.Table + "\x00" + o.Name
}

// SaveObjects keeps what a crossing is to make. What was made stays made while it is planned
// by the same text, and what a person wrote for one stays, whatever is planned.
func (s ObjectStore) SaveObjects(ctx context.Context, crossing int64, list []domain.TargetObject,
	l domain.Listing) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE crossings SET counted = true WHERE id = $1`, crossing); err != nil {
			return err
		}
		var stand []domain.TargetObject
		if err := tx.SelectContext(ctx, &stand, objectColumns+`
 WHERE crossing_id = $1 AND ($2 = '' OR table_name = $2 AND stage = 'deferred' AND kind <> 'foreign') FOR UPDATE`,
			crossing, l.Table); err != nil {
			return err
		}
		known := map[string]*domain.TargetObject{}
		for i := range stand {
			known[objectKey(&stand[i])] = &stand[i]
		}
		saved := map[string]bool{}
		var fresh newObjects
		for i := range list {
			key := objectKey(&list[i])
			if saved[key] {
				continue
			}
			if o := known[key]; o == nil {
				fresh.add(&list[i], i+1, l)
			} else if err := saveObject(ctx, tx, &list[i], o, i+1, l); err != nil {
				return err
			}
			saved[key] = true
			delete(known, key)
		}
		if err := fresh.save(ctx, tx, crossing); err != nil {
			return err
		}
		if l.Adds {
			return nil
		}
		var gone []int64
		for _, o := range known {
			if o.Stage != domain.StageTable || o.State != domain.ObjectMade { // tables that were made stay in the account
				gone = append(gone, o.ID)
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM objects WHERE id = ANY ($1)`, append([]int64{}, gone...))
		return err
	})
}

// newObjects are objects that are not kept yet, by column: there may be thousands.
type newObjects struct {
	places                                   []int64
	stages, kinds, names, tables, statements []string
	late                                     []bool
}

func (n *newObjects) add(o *domain.TargetObject, place int, l domain.Listing) {
	if l.Adds {
		place += addedPlaces
	}
	n.places, n.stages, n.kinds = append(n.places, int64(place)), append(n.stages, o.Stage), append(n.kinds, o.Kind)
	n.names, n.tables = append(n.names, o.Name), append(n.tables, o.Table)
	n.statements, n.late = append(n.statements, o.Statement), append(n.late, o.Late)
}

func (n *newObjects) save(ctx context.Context, tx *sqlx.Tx, crossing int64) error {
	if len(n.places) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `
INSERT INTO objects (crossing_id, ordinal, stage, kind, name, table_name, statement, planned, late)
SELECT $1, n.place, n.stage, n.kind, n.name, n.of, n.statement, n.statement, n.late
  FROM unnest($2::bigint[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::boolean[])
       n (place, stage, kind, name, of, statement, late)`,
		crossing, n.places, n.stages, n.kinds, n.names, n.tables, n.statements, n.late)
	return err
}

// addedPlaces come behind those of a crossing's first list.
const addedPlaces = 1_000_000

// saveObject keeps one object of a list anew; stands is what is kept of it already.
func saveObject(ctx context.Context, tx *sqlx.Tx, o, stands *domain.TargetObject, place int, l domain.Listing) error {
	if l.Table != "" || l.Adds {
		place = stands.Ordinal
	}
	statement, state := o.Statement, domain.ObjectWaiting
	if stands.ByHand {
		statement = stands.Statement
	}
	again := l.Anew && (stands.Stage != domain.StageCarried || stands.Kind == "materialized view" ||
		stands.State != domain.ObjectMade)
	if left := stands.State == domain.ObjectLeftOut; left && stands.ByHand || !left && statement == stands.Statement &&
		!again {
		state = stands.State
	}
	if state == stands.State && statement == stands.Statement && o.Statement == stands.Planned &&
		place == stands.Ordinal && o.Late == stands.Late {
		return nil
	}
	_, err := tx.ExecContext(ctx, `
UPDATE objects SET ordinal = $2, statement = $3, planned = $4, state = $5, late = $6,
       error = CASE WHEN $5 = state THEN error ELSE '' END, try = try + CASE WHEN $5 = state THEN 0 ELSE 1 END
 WHERE id = $1`, stands.ID, place, statement, o.Statement, state, o.Late)
	return err
}

// RunAgain lists the statements that restarting a crossing runs again: a person's own, which
// have run.
func (s ObjectStore) RunAgain(ctx context.Context, crossing int64) ([]domain.TargetObject, error) {
	return all[domain.TargetObject](ctx, s, objectColumns+
		` WHERE crossing_id = $1 AND kind = 'statement' AND state = 'made' ORDER BY stage = 'after', ordinal`, crossing)
}

// Objects lists what a crossing makes, in the order of making.
func (s ObjectStore) Objects(ctx context.Context, crossing int64) ([]domain.TargetObject, error) {
	return all[domain.TargetObject](ctx, s, objectColumns+` WHERE crossing_id = $1
 ORDER BY array_position(ARRAY['table', 'before', 'deferred', 'after', 'carried'], stage), ordinal, id`, crossing)
}

// ObjectOf returns one object of a crossing.
func (s ObjectStore) ObjectOf(ctx context.Context, crossing, id int64) (domain.TargetObject, error) {
	var o domain.TargetObject
	err := s.DB.GetContext(ctx, &o, objectColumns+` WHERE crossing_id = $1 AND id = $2`, crossing, id)
	return o, notFound(err, "the crossing makes no such object")
}

// BeginObject notes that an object is being made, and returns by what number the try tells
// of it; 0: it is not to be made any more.
func (s ObjectStore) BeginObject(ctx context.Context, id int64) (int64, error) {
	try, err := single[int64](ctx, s, `
UPDATE objects SET state = 'running', error = '', seconds = NULL, ended_at = NULL, try = try + 1
 WHERE id = $1 AND state IN ('waiting', 'failed', 'running') RETURNING try`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return try, err
}

// EndObject keeps what came of a try, unless the object was begun again, or is to be, since.
func (s ObjectStore) EndObject(ctx context.Context, id, try int64, state, text string, took time.Duration) (bool,
	error) {
	return s.changed(ctx, `
UPDATE objects SET state = $3, error = $4, seconds = $5::double precision, ended_at = now() WHERE id = $1 AND try = $2
  AND state = 'running'`,
		id, try, state, text, took.Seconds())
}

// TellTables keeps what came of making tables.
func (s ObjectStore) TellTables(ctx context.Context, crossing int64, list []domain.ObjectOutcome) error {
	n := len(list)
	kinds, tables, statements := make([]string, n), make([]string, n), make([]string, n)
	states, texts := make([]string, n), make([]string, n)
	for i, t := range list {
		kinds[i], tables[i], statements[i], states[i] = t.Kind, t.Table, t.Statement, domain.ObjectMade
		if t.Failure != nil {
			states[i], texts[i] = domain.ObjectFailed, t.Failure.Error()
		}
	}
	_, err := s.DB.ExecContext(ctx, `
UPDATE objects o SET state = n.state, error = n.error, ended_at = now()
  FROM unnest($2::text[], $3::text[], $4::text[], $5::text[], $6::text[]) n (kind, table_name, statement, state, error)
 WHERE o.crossing_id = $1 AND o.stage = 'table' AND o.kind = n.kind AND o.table_name = n.table_name
   AND o.statement = n.statement`, crossing, kinds, tables, statements, states, texts)
	return err
}

// UnmakeForeignKeys says that a crossing's foreign keys are gone and to be made again.
func (s ObjectStore) UnmakeForeignKeys(ctx context.Context, crossing int64) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE objects SET state = 'waiting', error = '', try = try + 1
 WHERE crossing_id = $1 AND stage = 'deferred' AND kind = 'foreign' AND state IN ('made', 'running')`, crossing)
	return err
}

// SetLate says whether foreign keys wait for cutover.
func (s ObjectStore) SetLate(ctx context.Context, crossing int64, late bool) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE objects SET late = $2 WHERE crossing_id = $1 AND stage = 'deferred'
  AND kind = 'foreign' AND late <> $2`, crossing, late)
	return err
}

// RewriteObject writes an object's statement anew while it is not made; an empty one leaves
// it out. One whose process ended while it was made can be written as well, when nobody
// makes it any more.
func (s ObjectStore) RewriteObject(ctx context.Context, crossing, id int64, statement string) error {
	ok, err := s.changed(ctx, `
UPDATE objects o SET statement = $3, by_hand = $3 <> planned, state = CASE WHEN $3 = '' THEN 'left out'
  ELSE 'waiting' END, error = '', try = try + 1
 WHERE crossing_id = $1 AND id = $2 AND stage <> 'table'
   AND (state IN ('waiting', 'failed', 'left out')
        OR state = 'running' AND NOT EXISTS (SELECT FROM tasks k WHERE k.crossing_id = o.crossing_id
          AND k.state IN ('waiting', 'running')
                                                                   AND k.kind IN ('prepare', 'restart', 'build',
                                                                     'cutover')))`, crossing, id, statement)
	if err == nil && !ok {
		err = domain.Conflict("the object is made already, or is being made; its statement cannot be changed any more")
	}
	return err
}
