package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
)

// CutoverStore keeps cutovers and their steps.
type CutoverStore struct{ *conn }

// cutoverRow is a cutover as it is kept.
type cutoverRow struct {
	domain.Cutover
	SettingsJSON  JSON[domain.Settings]   `db:"settings"`
	ReadinessJSON JSON[[]domain.Entry]    `db:"readiness"`
	GoneOnJSON    JSON[map[string]string] `db:"gone_on"`
	End           Pos                     `db:"end_position"`
}

func (r *cutoverRow) cutover() domain.Cutover {
	r.Settings, r.Readiness, r.GoneOn, r.EndPosition = r.SettingsJSON.V, r.ReadinessJSON.V, r.GoneOnJSON.V,
		domain.Position(r.End)
	return r.Cutover
}

func (s CutoverStore) cutover(ctx context.Context, sql string, args ...any) (domain.Cutover, error) {
	row, err := single[cutoverRow](ctx, s, sql, args...)
	return row.cutover(), err
}

// AddCutoverTx adds a cutover with its steps inside the caller's transaction.
func AddCutoverTx(ctx context.Context, tx pgx.Tx, crossing, task int64, rehearsal bool, set domain.Settings,
	steps []domain.StepName, actor string) (int64, error) {
	var id int64
	if err := tx.QueryRow(ctx, `INSERT INTO cutovers (crossing_id, task_id, rehearsal, settings, actor)
  VALUES ($1, $2, $3, $4, $5) RETURNING id`,
		crossing, task, rehearsal, JSON[domain.Settings]{set}, actor).Scan(&id); err != nil {
		return 0, err
	}
	for i, n := range steps {
		if _, err := tx.Exec(ctx, `INSERT INTO cutover_steps (cutover_id, ordinal, name) VALUES ($1, $2, $3)`, id, i+1,
			n); err != nil {
			return 0, err
		}
	}
	return id, nil
}

// Cutovers lists a crossing's, newest first.
func (s CutoverStore) Cutovers(ctx context.Context, crossing int64) ([]domain.Cutover, error) {
	rows, err := all[cutoverRow](ctx, s, `SELECT * FROM cutovers WHERE crossing_id = $1 ORDER BY id DESC`, crossing)
	out := make([]domain.Cutover, len(rows))
	for i := range rows {
		out[i] = rows[i].cutover()
	}
	return out, err
}

// CutoverOfTask returns the cutover a task carries out.
func (s CutoverStore) CutoverOfTask(ctx context.Context, task int64) (domain.Cutover, error) {
	return s.cutover(ctx, `SELECT * FROM cutovers WHERE task_id = $1`, task)
}

// RunningCutover returns the crossing's cutover under way, or nil.
func (s CutoverStore) RunningCutover(ctx context.Context, crossing int64) (*domain.Cutover, error) {
	c, err := s.cutover(ctx,
		`SELECT * FROM cutovers WHERE crossing_id = $1 AND state = 'running' ORDER BY id DESC LIMIT 1`, crossing)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &c, err
}

// Steps lists a cutover's steps in order.
func (s CutoverStore) Steps(ctx context.Context, cutover int64) ([]domain.CutoverStep, error) {
	return all[domain.CutoverStep](ctx, s, `SELECT * FROM cutover_steps WHERE cutover_id = $1 ORDER BY ordinal`, cutover)
}

// SetStep moves a step to a state.
func (s CutoverStore) SetStep(ctx context.Context, cutover int64, name domain.StepName, state domain.StepState,
	note string) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE cutover_steps SET state = $3, note = $4, awaits = '',
       started_at = CASE WHEN $3 = 'running' THEN now() ELSE started_at END,
       ended_at = CASE WHEN $3 IN ('running', 'waiting') THEN NULL ELSE now() END
 WHERE cutover_id = $1 AND name = $2`, cutover, name, state, note)
	return err
}

// NoteStep says what a running step is doing.
func (s CutoverStore) NoteStep(ctx context.Context, cutover int64, name domain.StepName, note string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE cutover_steps SET note = $3 WHERE cutover_id = $1 AND name = $2`, cutover,
		name, note)
	return err
}

// AwaitPerson says what a running step waits for a person to do, in words too.
func (s CutoverStore) AwaitPerson(ctx context.Context, cutover int64, name domain.StepName, what domain.Awaits,
	note string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE cutover_steps SET awaits = $3, note = $4 WHERE cutover_id = $1 AND name = $2`,
		cutover, name, what, note)
	return err
}

// EndCutover records how it ended: done, undone or failed.
func (s CutoverStore) EndCutover(ctx context.Context, id int64, state domain.CutoverState, cause string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE cutovers SET state = $2, error = $3, ended_at = now() WHERE id = $1`, id,
		state, cause)
	return err
}

// SetPause keeps when writes stopped (from) and were taken again (until).
func (s CutoverStore) SetPause(ctx context.Context, id int64, from, until *time.Time) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE cutovers SET paused_at = coalesce($2, paused_at), released_at = coalesce($3,
  released_at) WHERE id = $1`, id, from, until)
	return err
}

// SaveReadiness keeps the readiness list a cutover began with.
func (s CutoverStore) SaveReadiness(ctx context.Context, id int64, e []domain.Entry) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE cutovers SET readiness = $2 WHERE id = $1`, id, JSON[[]domain.Entry]{e})
	return err
}

// SetEnd keeps the end position and the reconciliation made there.
func (s CutoverStore) SetEnd(ctx context.Context, id int64, at domain.Position, reconciliation int64) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE cutovers SET end_position = CASE WHEN $2::numeric = 0 THEN end_position ELSE $2 END,
       reconciliation_id = coalesce(nullif($3, 0), reconciliation_id) WHERE id = $1`, id, Pos(at), reconciliation)
	return err
}

// AskAbort keeps who wants the running cutover undone.
func (s CutoverStore) AskAbort(ctx context.Context, id int64, who string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE cutovers SET abort_by = $2 WHERE id = $1 AND state = 'running'`, id, who)
	return err
}

// GiveWord keeps who said that writes have stopped.
func (s CutoverStore) GiveWord(ctx context.Context, id int64, who string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE cutovers SET word_by = $2 WHERE id = $1 AND state = 'running'`, id, who)
	return err
}

// GoOn lets a cutover leave a hold point.
func (s CutoverStore) GoOn(ctx context.Context, id int64, point domain.StepName, who string) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE cutovers SET gone_on = gone_on || jsonb_build_object($2::text, $3::text) WHERE id = $1 AND state = 'running'`,
		id, point, who)
	return err
}

// Cutover returns one.
func (s CutoverStore) Cutover(ctx context.Context, id int64) (domain.Cutover, error) {
	return s.cutover(ctx, `SELECT * FROM cutovers WHERE id = $1`, id)
}

// ClosedSources lists the sources that cutovers closed and that surely are to stay so: none to which a way
// back leads or has led, or may have, and none that a person has opened.
func (s CutoverStore) ClosedSources(ctx context.Context) ([]domain.ClosedSource, error) {
	rows, err := all[struct {
		domain.Crossing
		crossingCells
		Cutover int64     `db:"cutover"`
		Method  string    `db:"method"`
		Since   time.Time `db:"since"`
	}](ctx, s, `
SELECT x.*, k.id AS cutover, k.settings->>'stop_method' AS method, greatest(k.paused_at, a.at) AS since
  FROM (`+crossingColumns+` WHERE c.phase = 'cut over') x
  JOIN LATERAL (SELECT * FROM cutovers k WHERE k.crossing_id = x.id AND k.state = 'done' AND NOT k.rehearsal
     AND k.paused_at IS NOT NULL ORDER BY k.id DESC LIMIT 1) k ON true
  LEFT JOIN closed_again a ON a.cutover_id = k.id
  LEFT JOIN crossings r ON r.return_of = x.id
 WHERE NOT coalesce(a.opened, false)
   AND CASE WHEN r.id IS NULL THEN k.settings->>'return_path' IS DISTINCT FROM 'open'
            ELSE r.phase NOT IN ('cutting over', 'cut over', 'closed') END
   AND NOT EXISTS (SELECT FROM cutovers b WHERE b.crossing_id = r.id AND b.state IN ('running', 'done')
     AND NOT b.rehearsal)
 ORDER BY x.id`)
	out := make([]domain.ClosedSource, len(rows))
	for i := range rows {
		r := &rows[i]
		r.into(&r.Crossing)
		out[i] = domain.ClosedSource{Crossing: r.Crossing, Cutover: r.Cutover, Method: domain.StopMethod(r.Method),
			Since: r.Since}
	}
	return out, err
}

// ClosedAgain keeps that the source of a cutover was closed once more, now, or with opened that a person let
// it take writes.
func (s CutoverStore) ClosedAgain(ctx context.Context, cutover int64, opened bool) error {
	_, err := s.DB.ExecContext(ctx, `
INSERT INTO closed_again (cutover_id, at, opened) VALUES ($1, clock_timestamp(), $2)
    ON CONFLICT (cutover_id) DO UPDATE SET at = clock_timestamp(), opened = $2`, cutover, opened)
	return err
}
