package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/pace"
	"dustyferry/internal/domain"
)

// TaskStore keeps tasks and lanes.
type TaskStore struct{ *conn }

// Begun notes that the load of a task has begun, for whoever resumes it: what was loaded
// since must not be thrown away. What held the crossing was about what is gone now, as of a
// chunk that failed while a restart was asked for. It fails for who no longer holds the task.
func (s TaskStore) Begun(ctx context.Context, id, epoch int64) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		var crossing int64
		err := tx.GetContext(ctx, &crossing, `UPDATE tasks SET begun = true WHERE id = $1 AND epoch = $2
  AND state = 'running' RETURNING crossing_id`, id, epoch)
		if errors.Is(err, sql.ErrNoRows) {
			return domain.ErrTakenOver
		}
		if err == nil {
			_, err = tx.ExecContext(ctx, setCondition, crossing, domain.ConditionRunning, "", false, goesOn)
		}
		return err
	})
}

// AddTaskTx adds a waiting task inside the caller's transaction, which also carries the
// queue's job. Work under way beside which it cannot be done keeps it from being added, or is
// asked to end; see [lifecycle.Beside].
func AddTaskTx(ctx context.Context, tx pgx.Tx, crossing int64, kind lifecycle.Work, args any,
	actor string) (int64, error) {
	b, err := json.Marshal(args)
	if err != nil {
		return 0, err
	}
	var name string
	var phase domain.Phase
	err = tx.QueryRow(ctx, `SELECT name, phase FROM crossings WHERE id = $1 FOR UPDATE`, crossing).Scan(&name, &phase)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, domain.NotFound("the crossing is gone")
	}
	if err != nil {
		return 0, err
	}
	if phase == domain.PhaseClosed && kind != lifecycle.WorkClose { // closing it may have to be done once more
		return 0, domain.Conflict("crossing %s is closed", name)
	}
	rows, err := tx.Query(ctx, `SELECT id, kind FROM tasks WHERE crossing_id = $1 AND state IN ('waiting', 'running')
  ORDER BY id`, crossing)
	if err != nil {
		return 0, err
	}
	var ends []string
	var other struct {
		id   int64
		kind lifecycle.Work
	}
	_, err = pgx.ForEachRow(rows, []any{&other.id, &other.kind}, func() error {
		switch lifecycle.Beside(kind, other.kind) {
		case lifecycle.Refused:
			return busy(name, other.kind, other.id)
		case lifecycle.Ends:
			ends = append(ends, string(other.kind))
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	if _, err := tx.Exec(ctx, cancelTasks, crossing, append([]string{}, ends...), endedFor(kind)); err != nil {
		return 0, err
	}
	var id int64
	err = tx.QueryRow(ctx, `INSERT INTO tasks (crossing_id, kind, args, actor) VALUES ($1, $2, $3, $4) RETURNING id`,
		crossing, kind, b, actor).Scan(&id)
	if duplicate(err) {
		return 0, domain.Conflict("crossing %s is busy: %s is under way; wait until it has ended", name, kind)
	}
	return id, err
}

const cancelTasks = `UPDATE tasks SET cancel = $3 WHERE crossing_id = $1 AND kind = ANY ($2) AND state IN ('waiting',
  'running') AND cancel = ''`

// endedFor is why work ends when other work begins.
func endedFor(kind lifecycle.Work) string {
	if kind == lifecycle.WorkClose {
		return "the crossing was closed"
	}
	return "the crossing was restarted"
}

// EndTasks asks work of some kinds on a crossing to end for the sake of other work, and lists
// what has not ended yet.
func (s TaskStore) EndTasks(ctx context.Context, crossing int64, kinds []lifecycle.Work,
	why string) ([]domain.Ending, error) {
	names := make([]string, len(kinds))
	for i, k := range kinds {
		names[i] = string(k)
	}
	if _, err := s.DB.ExecContext(ctx, cancelTasks, crossing, names, why); err != nil {
		return nil, err
	}
	return all[domain.Ending](ctx, s, `
SELECT id, kind, state = 'waiting' OR lease_until < now() AS idle FROM tasks WHERE crossing_id = $1 AND kind = ANY ($2)
  AND state IN ('waiting', 'running') ORDER BY id`, crossing, names)
}

// NotBusy returns an error while work of one of the kinds is under way on a crossing.
func (s TaskStore) NotBusy(ctx context.Context, crossing int64, name string, kinds ...lifecycle.Work) error {
	var names []string
	for _, k := range kinds {
		names = append(names, string(k))
	}
	list, err := all[domain.Task](ctx, s, `SELECT * FROM tasks WHERE crossing_id = $1 AND kind = ANY ($2)
  AND state IN ('waiting', 'running') ORDER BY id LIMIT 1`, crossing, names)
	if err != nil || len(list) == 0 {
		return err
	}
	return busy(name, list[0].Kind, list[0].ID)
}

// busy says which work under way keeps other work from beginning.
func busy(name string, kind lifecycle.Work, id int64) error {
	todo := fmt.Sprintf("wait until it has ended, or cancel it ('dustyferry task cancel %s %d')", name, id)
	switch kind {
	case lifecycle.WorkCutover:
		todo = "wait until it has ended, or abort it ('dustyferry cutover abort " + name + "')"
	case lifecycle.WorkClose, lifecycle.WorkBuild:
		todo = "wait until it has ended"
	}
	return domain.Conflict("crossing %s is busy: %s is under way; %s", name, kind, todo)
}

// CancelTask asks a task to end before its time. One that has ended already is a conflict.
func (s TaskStore) CancelTask(ctx context.Context, crossing, id int64, why string) (domain.Task, error) {
	t, err := single[domain.Task](ctx, s, `
UPDATE tasks SET cancel = CASE WHEN cancel = '' THEN $3 ELSE cancel END WHERE crossing_id = $1 AND id = $2
  AND state IN ('waiting', 'running') RETURNING *`, crossing, id, why)
	if !errors.Is(err, sql.ErrNoRows) {
		return t, err
	}
	if t, err = s.TaskOf(ctx, crossing, id); err == nil {
		err = domain.Conflict("task %d (%s) has ended already: %s", id, t.Kind, t.State)
	}
	return t, err
}

// TaskOf returns one task of a crossing.
func (s TaskStore) TaskOf(ctx context.Context, crossing, id int64) (domain.Task, error) {
	t, err := single[domain.Task](ctx, s, `SELECT * FROM tasks WHERE crossing_id = $1 AND id = $2`, crossing, id)
	return t, notFound(err, "the crossing has no task %d; 'dustyferry task list' shows what it has", id)
}

// ClaimTask takes a waiting task, or one whose holder fell silent.
func (s TaskStore) ClaimTask(ctx context.Context, id int64, worker string) (*domain.Task, error) {
	var t domain.Task
	err := s.DB.GetContext(ctx, &t, `
UPDATE tasks SET state = 'running', epoch = epoch + 1, worker = $2, lease_until = now() + $3::interval,
  started_at = coalesce(started_at, now())
 WHERE id = $1 AND (state = 'waiting' OR state = 'running' AND lease_until < now()) RETURNING *`, id, worker,
		seconds(Lease))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &t, err
}

// RenewTask prolongs the lease; false says that the task is no longer ours. With it comes why
// the task is to end before its time, if it is.
func (s TaskStore) RenewTask(ctx context.Context, id, epoch int64) (bool, string, error) {
	why, err := single[string](ctx, s, `UPDATE tasks SET lease_until = now() + $3::interval WHERE id = $1 AND epoch = $2
  AND state = 'running' RETURNING cancel`, id, epoch, seconds(Lease))
	if errors.Is(err, sql.ErrNoRows) {
		return false, "", nil
	}
	return err == nil, why, err
}

// HoldsTask reports whether the task is still ours under the epoch.
func (s TaskStore) HoldsTask(ctx context.Context, id, epoch int64) (bool, error) {
	var ok bool
	err := s.DB.GetContext(ctx, &ok, `SELECT EXISTS (SELECT 1 FROM tasks WHERE id = $1 AND epoch = $2
  AND state = 'running')`, id, epoch)
	return ok, err
}

// NoteTask says what a task is doing.
func (s TaskStore) NoteTask(ctx context.Context, id int64, note string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE tasks SET note = $2 WHERE id = $1`, id, note)
	return err
}

// EndTask records how a task ended: done, failed or cancelled.
func (s TaskStore) EndTask(ctx context.Context, id, epoch int64, state domain.TaskState, cause string) error {
	_, err := s.DB.ExecContext(ctx,
		`UPDATE tasks SET state = $3, error = $4, ended_at = now() WHERE id = $1 AND epoch = $2`, id, epoch, state, cause)
	return err
}

// ReleaseTask gives a task back so that another process takes it at once.
func (s TaskStore) ReleaseTask(ctx context.Context, id, epoch int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE tasks SET lease_until = '-infinity' WHERE id = $1 AND epoch = $2
  AND state = 'running'`, id, epoch)
	return err
}

// LastBegun is how a crossing was begun last: by a prepare or a restart; empty: not at all.
func (s TaskStore) LastBegun(ctx context.Context, crossing int64) (lifecycle.Work, error) {
	kinds, err := all[lifecycle.Work](ctx, s, `SELECT kind FROM tasks WHERE crossing_id = $1 AND kind IN ('prepare',
  'restart') ORDER BY id DESC LIMIT 1`, crossing)
	if err != nil || len(kinds) == 0 {
		return "", err
	}
	return kinds[0], nil
}

// Tasks lists a crossing's newest tasks.
func (s TaskStore) Tasks(ctx context.Context, crossing int64) ([]domain.Task, error) {
	return all[domain.Task](ctx, s, `SELECT * FROM tasks WHERE crossing_id = $1 ORDER BY id DESC LIMIT 50`, crossing)
}

// Stalled lists tasks that nobody works on although they should be.
func (s TaskStore) Stalled(ctx context.Context) ([]int64, error) {
	return all[int64](ctx, s, `
SELECT id FROM tasks WHERE state = 'running' AND lease_until < now()
    OR state = 'waiting' AND created_at < now() - interval '10 seconds'`)
}

// LanesWanted lists crossings that load and lack lanes: for chunks that are being read as
// well as for those that wait.
func (s TaskStore) LanesWanted(ctx context.Context) ([]domain.LanesWanted, error) {
	rows, err := all[struct {
		CrossingID int64                 `db:"crossing_id"`
		Have       int                   `db:"have"`
		Want       int                   `db:"want"`
		Settings   JSON[domain.Settings] `db:"settings"`
	}](ctx, s, `
SELECT * FROM (
  SELECT c.id AS crossing_id, c.settings, (SELECT count(*) FROM lanes l WHERE l.crossing_id = c.id) AS have,
         least(coalesce(c.lanes_now, (c.settings->>'lanes')::int),
               (SELECT count(*) FROM chunks k WHERE k.crossing_id = c.id AND k.state = 'reading' AND k.leader IS NULL) +
               (SELECT count(*) FROM (SELECT 1 FROM chunks k JOIN tables t ON t.id = k.table_id
                 WHERE k.crossing_id = c.id AND k.state = 'pending' AND k.not_before <= now() AND t.state = 'loading'
                   LIMIT 64) x)) AS want
    FROM crossings c WHERE c.phase = 'loading' AND c.condition IN ('running', 'held') AND c.rest_until <= now()) w
 WHERE have < want`)
	var out []domain.LanesWanted
	for _, r := range rows {
		out = append(out, domain.LanesWanted{CrossingID: r.CrossingID, Have: r.Have, Want: r.Want, Settings: r.Settings.V})
	}
	return out, err
}

// LanesWaiting reports whether lanes of other crossings wait for a worker with such
// labels.
func (s TaskStore) LanesWaiting(ctx context.Context, crossing int64, labels []string) (bool, error) {
	return single[bool](ctx, s, `
SELECT EXISTS (SELECT 1 FROM lanes l JOIN crossings c ON c.id = l.crossing_id
                WHERE l.worker = '' AND c.id <> $1 AND coalesce(c.settings->>'worker_label',
                  '') = ANY ($2 || '{""}'::text[]))`, crossing, append([]string{}, labels...))
}

// Pacings lists the loads whose number of lanes is to be looked at.
func (s TaskStore) Pacings(ctx context.Context) ([]pace.Load, error) {
	rows, err := all[struct {
		ID       int64                 `db:"id"`
		Name     string                `db:"name"`
		Source   string                `db:"source"`
		Target   string                `db:"target"`
		Settings JSON[domain.Settings] `db:"settings"`
		Now      sql.NullInt64         `db:"lanes_now"`
		State    JSON[pace.State]      `db:"pace"`
		Moved    int64                 `db:"moved"`
		Busy     int                   `db:"busy"`
	}](ctx, s, `
SELECT c.id, c.name, s.name AS source, t.name AS target, c.settings, c.lanes_now, c.pace,
       coalesce((SELECT sum(bytes_landed) FROM tables x WHERE x.crossing_id = c.id), 0)::bigint + coalesce(k.bytes,
         0)::bigint AS moved, coalesce(k.n, 0) AS busy
  FROM crossings c JOIN databases s ON s.id = c.source_id JOIN databases t ON t.id = c.target_id
  LEFT JOIN (SELECT crossing_id, sum(bytes) AS bytes, count(*) FILTER (WHERE leader IS NULL) AS n FROM chunks
    WHERE state = 'reading' GROUP BY crossing_id) k ON k.crossing_id = c.id
 WHERE c.phase = 'loading' AND c.condition IN ('running', 'held')
   AND (c.lanes_now IS NOT NULL OR coalesce((c.settings->>'least_lanes')::int, 0) > 0)`)
	var out []pace.Load
	for _, r := range rows {
		out = append(out, pace.Load{ID: r.ID, Name: r.Name, Source: r.Source, Target: r.Target, Settings: r.Settings.V,
			Lanes: int(r.Now.Int64), State: r.State.V, Moved: r.Moved, Busy: r.Busy})
	}
	return out, err
}

// SavePace keeps how many lanes a load uses now, 0: as many as its settings say.
func (s TaskStore) SavePace(ctx context.Context, id int64, lanes int, state pace.State) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET lanes_now = nullif($2, 0), pace = $3 WHERE id = $1`, id, lanes,
		JSON[pace.State]{state})
	return err
}

// DeadLanes removes lanes whose holder fell silent and returns their jobs.
func (s TaskStore) DeadLanes(ctx context.Context) ([]int64, error) {
	return all[int64](ctx, s, `DELETE FROM lanes WHERE lease_until < now() RETURNING job_id`)
}

// AddLaneTx adds a lane inside the caller's transaction.
func AddLaneTx(ctx context.Context, tx pgx.Tx, crossing int64) (int64, error) {
	var id int64
	err := tx.QueryRow(ctx, `INSERT INTO lanes (crossing_id, lease_until) VALUES ($1, now() + interval '30 seconds')
  RETURNING id`, crossing).Scan(&id)
	return id, err
}

// SetLaneJobTx keeps which queue job carries the lane.
func SetLaneJobTx(ctx context.Context, tx pgx.Tx, id, job int64) error {
	_, err := tx.Exec(ctx, `UPDATE lanes SET job_id = $2 WHERE id = $1`, id, job)
	return err
}

// RenewLane prolongs a lane; false says that it was taken away.
func (s TaskStore) RenewLane(ctx context.Context, id int64, worker string) (bool, error) {
	return s.changed(ctx, `UPDATE lanes SET worker = $2, lease_until = now() + $3::interval WHERE id = $1`, id, worker,
		seconds(Lease))
}

// EndLane removes a lane.
func (s TaskStore) EndLane(ctx context.Context, id int64) error {
	_, err := s.DB.ExecContext(ctx, `DELETE FROM lanes WHERE id = $1`, id)
	return err
}

// Underway lists crossings whose phase may move by itself.
func (s TaskStore) Underway(ctx context.Context) ([]domain.Crossing, error) {
	return s.crossings(ctx, crossingColumns+` WHERE c.phase IN ('loading', 'catching up', 'in step', 'cutting over')`)
}

// Alone runs f when no other process does so right now (a transaction-level
// advisory lock), and reports whether it ran.
func (s TaskStore) Alone(ctx context.Context, key int64, f func() error) (bool, error) {
	var got bool
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &got, `SELECT pg_try_advisory_xact_lock($1)`, key); err != nil || !got {
			return err
		}
		return f()
	})
	return got, err
}
