package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
)

// CrossingStore keeps crossings, their plans and their phases.
type CrossingStore struct{ *conn }

// crossingRow is a crossing as it is kept.
type crossingRow struct {
	domain.Crossing
	crossingCells
}

// crossingCells are those of its columns that hold JSON or a place of a log.
type crossingCells struct {
	PatternsJSON JSON[[]string]        `db:"patterns_json"`
	RulesJSON    JSON[[]domain.Rule]   `db:"rules_json"`
	PlanningJSON JSON[domain.Planning] `db:"planning_json"`
	SettingsJSON JSON[domain.Settings] `db:"settings_json"`
	UndoJSON     JSON[[]string]        `db:"undo_json"`
	Start        Pos                   `db:"start_place"`
	Read         Pos                   `db:"read_place"`
}

func (r *crossingCells) into(c *domain.Crossing) {
	c.Patterns, c.Rules, c.Planning, c.Settings, c.Undo = r.PatternsJSON.V, r.RulesJSON.V, r.PlanningJSON.V,
		r.SettingsJSON.V, r.UndoJSON.V
	c.StartAt, c.MaxRead = domain.Position(r.Start), domain.Position(r.Read)
}

// crossings reads crossings.
func (s *conn) crossings(ctx context.Context, query string, args ...any) ([]domain.Crossing, error) {
	rows, err := all[crossingRow](ctx, s, query, args...)
	out := make([]domain.Crossing, len(rows))
	for i := range rows {
		rows[i].into(&rows[i].Crossing)
		out[i] = rows[i].Crossing
	}
	return out, err
}

// crossing reads one.
func (s CrossingStore) crossing(ctx context.Context, query string, args ...any) (domain.Crossing, error) {
	row, err := single[crossingRow](ctx, s, query, args...)
	row.into(&row.Crossing)
	return row.Crossing, err
}

// built is whether everything stands on the target that is made before cutover: computed
// from what is to be made, so that nothing can say so wrongly. What is carried along and
// cannot be made is told, and stops nothing.
const built = `(c.counted AND NOT EXISTS (
       SELECT FROM objects o
        WHERE o.crossing_id = c.id AND o.stage IN ('deferred', 'after', 'carried') AND NOT o.late AND o.state NOT IN ('made', 'left out')
          AND NOT (o.stage = 'carried' AND o.state = 'failed')))`

const crossingFields = `
       c.id, c.uid, c.name, c.kind, c.source_id, c.target_id, s.name AS source, t.name AS target, c.phase, c.condition, c.reason,
       c.keep_capture, c.patterns AS patterns_json, c.rules AS rules_json, c.planning AS planning_json, c.settings AS settings_json, c.undo AS undo_json,
       c.surveyed_at, coalesce(c.start_at, 0) AS start_place, coalesce(c.max_read, 0) AS read_place, ` + built +
	` AS built, c.plan_version, c.trouble, c.other_server,
       c.return_of, coalesce((SELECT o.name FROM crossings o WHERE o.id = c.return_of), '') AS return_of_is,
       coalesce((SELECT r.name FROM crossings r WHERE r.return_of = c.id AND r.phase <> 'closed'), '') AS return_by,
       c.below_since, c.lag_told, c.lanes_now, c.created_at, c.started_at, c.landed_at, c.in_step_at, c.cut_over_at, c.closed_at`

const crossingColumns = `
SELECT ` + crossingFields + `
  FROM crossings c
  JOIN databases s ON s.id = c.source_id
  JOIN databases t ON t.id = c.target_id`

// AddCrossing creates a draft.
func (s CrossingStore) AddCrossing(ctx context.Context, c domain.Crossing) (int64, error) {
	var id int64
	err := s.DB.GetContext(ctx, &id, `
INSERT INTO crossings (uid, name, kind, source_id, target_id, patterns, rules, planning, settings, return_of)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`, c.UID, c.Name, c.Kind, c.SourceID, c.TargetID,
		JSON[[]string]{c.Patterns}, JSON[[]domain.Rule]{c.Rules}, JSON[domain.Planning]{c.Planning},
		JSON[domain.Settings]{c.Settings}, c.ReturnOf)
	if duplicate(err) {
		return 0, domain.Conflict("a crossing named %s exists already; choose another name", c.Name)
	}
	return id, err
}

// Crossings lists all, newest first.
func (s CrossingStore) Crossings(ctx context.Context) ([]domain.Crossing, error) {
	return s.crossings(ctx, crossingColumns+` ORDER BY c.id DESC`)
}

// Crossing returns one by its name.
func (s CrossingStore) Crossing(ctx context.Context, name string) (domain.Crossing, error) {
	c, err := s.crossing(ctx, crossingColumns+` WHERE c.name = $1`, name)
	return c, notFound(err, "there is no crossing named %s; 'dustyferry crossing list' shows those that are", name)
}

// CrossingByID returns one by its number.
func (s CrossingStore) CrossingByID(ctx context.Context, id int64) (domain.Crossing, error) {
	c, err := s.crossing(ctx, crossingColumns+` WHERE c.id = $1`, id)
	return c, notFound(err, "the crossing is gone")
}

// SurveyOf returns what the last survey found.
func (s CrossingStore) SurveyOf(ctx context.Context, id int64) ([]domain.Entry, error) {
	e, err := single[JSON[[]domain.Entry]](ctx, s, `SELECT survey FROM crossings WHERE id = $1`, id)
	return e.V, err
}

// FitOf returns the last fit check, or nil.
func (s CrossingStore) FitOf(ctx context.Context, id int64) (*domain.FitCheck, error) {
	f, err := single[JSON[*domain.FitCheck]](ctx, s, `SELECT coalesce(fit, 'null') FROM crossings WHERE id = $1`, id)
	return f.V, err
}

// SaveFit keeps how a fit check of the plan that was read stands.
func (s CrossingStore) SaveFit(ctx context.Context, c *domain.Crossing, f *domain.FitCheck) error {
	ok, err := s.changed(ctx, `UPDATE crossings SET fit = $2 WHERE id = $1 AND plan_version = $3`, c.ID,
		JSON[*domain.FitCheck]{f}, c.PlanVersion)
	if err == nil && !ok {
		err = domain.Conflict("crossing %s was planned anew while its values were looked at; check them again", c.Name)
	}
	return err
}

// CertificateOf returns the account of a closed crossing, or nil.
func (s CrossingStore) CertificateOf(ctx context.Context, id int64) (*domain.Certificate, error) {
	c, err := single[JSON[*domain.Certificate]](ctx, s, `SELECT certificate FROM crossings WHERE id = $1`, id)
	return c.V, err
}

// CatalogOf returns the source's catalog as it was when the crossing was prepared.
func (s CrossingStore) CatalogOf(ctx context.Context, id int64) (*domain.Catalog, error) {
	var c JSON[*domain.Catalog]
	err := s.DB.GetContext(ctx, &c, `SELECT catalog FROM crossings WHERE id = $1`, id)
	if err == nil && c.V == nil {
		c.V = &domain.Catalog{}
	}
	return c.V, err
}

// ServerOf says on which server the crossing began, where that was kept.
func (s CrossingStore) ServerOf(ctx context.Context, id int64) (string, error) {
	return single[string](ctx, s, `SELECT coalesce(catalog->>'server', '') FROM crossings WHERE id = $1`, id)
}

// SetOtherServer keeps which server answers at the source's address in place of the one that the
// crossing began with; empty: that one does.
func (s CrossingStore) SetOtherServer(ctx context.Context, id int64, server string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET other_server = $2 WHERE id = $1 AND other_server <> $2`, id,
		server)
	return err
}

// SetPhase moves a crossing to a phase, if it still is in the phase it is
// thought to be in; the time of firsts is kept.
func (s CrossingStore) SetPhase(ctx context.Context, id int64, from, to domain.Phase) (bool, error) {
	return s.changed(ctx, `
UPDATE crossings
   SET phase = $3,
       landed_at   = CASE WHEN $3 = 'catching up' THEN coalesce(landed_at, now()) ELSE landed_at END,
       in_step_at  = CASE WHEN $3 = 'in step' THEN coalesce(in_step_at, now()) ELSE in_step_at END,
       cut_over_at = CASE WHEN $3 = 'cut over' THEN now() ELSE cut_over_at END,
       started_at  = CASE WHEN $3 = 'loading' THEN coalesce(started_at, now()) ELSE started_at END,
       closed_at   = CASE WHEN $3 = 'closed' THEN now() ELSE closed_at END,
       -- What is closed waits for nothing any more.
       condition   = CASE WHEN $3 = 'closed' THEN 'running' ELSE condition END,
       reason      = CASE WHEN $3 = 'closed' THEN '' ELSE reason END,
       trouble     = CASE WHEN $3 = 'closed' THEN '' ELSE trouble END
 WHERE id = $1 AND phase = $2`, id, from, to)
}

// SetCondition changes the condition, with its reason, if it is one of those that it is
// thought to be. A closed crossing has none to change.
func (s CrossingStore) SetCondition(ctx context.Context, id int64, from []domain.Condition, to domain.Condition,
	reason string,
	keepCapture bool) (bool, error) {
	return s.changed(ctx, setCondition, id, to, reason, keepCapture, from)
}

const setCondition = `
UPDATE crossings SET condition = $2, reason = $3, keep_capture = $4 WHERE id = $1 AND condition = ANY ($5)
  AND phase <> 'closed'`

// GoOnTx lets a crossing go on inside the caller's transaction, unless somebody has paused it.
func GoOnTx(ctx context.Context, tx pgx.Tx, id int64) error {
	if _, err := tx.Exec(ctx, `UPDATE crossings SET trouble = '' WHERE id = $1`, id); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, setCondition, id, domain.ConditionRunning, "", false, goesOn)
	return err
}

// SamePlanTx returns an error when a crossing has another plan than the one that was read, or
// is changed inside another transaction to have one.
func SamePlanTx(ctx context.Context, tx pgx.Tx, c *domain.Crossing) error {
	var now int64
	if err := tx.QueryRow(ctx, `SELECT plan_version FROM crossings WHERE id = $1 FOR UPDATE`, c.ID).Scan(
		&now); err != nil {
		return err
	}
	if now != c.PlanVersion {
		return changedMeanwhile(c.Name)
	}
	return nil
}

// Hold makes a crossing wait for a person. One that is paused stays so: what holds it is met
// again when it goes on.
func (s CrossingStore) Hold(ctx context.Context, id int64, reason string) (bool, error) {
	return s.SetCondition(ctx, id, goesOn, domain.ConditionHeld, reason, false)
}

// goesOn are the conditions of a crossing that nobody has paused.
var goesOn = []domain.Condition{domain.ConditionRunning, domain.ConditionHeld, domain.ConditionFailed}

// steering is the lock under which a crossing is held and resumed as a whole: its chunks,
// tables and itself. It ends with the transaction.
func steering(ctx context.Context, tx *sqlx.Tx, crossing int64) error {
	_, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock(7262821, ($1 % 2147483647)::int)`, crossing)
	return err
}

// SetTrouble keeps what keeps a crossing from going on by itself; empty: nothing. It reports
// whether that is new.
func (s CrossingStore) SetTrouble(ctx context.Context, id int64, text string) (bool, error) {
	return s.changed(ctx, `UPDATE crossings SET trouble = $2 WHERE id = $1 AND trouble <> $2 AND phase <> 'closed'`, id,
		text)
}

// SaveSettings replaces the settings. With planned, those of the plan are among them: then
// the crossing must not have begun, and its plan must be the one that was read.
func (s CrossingStore) SaveSettings(ctx context.Context, c *domain.Crossing, set domain.Settings, planned bool) error {
	ok, err := s.changed(ctx, `
UPDATE crossings SET settings = $2, plan_version = plan_version + $4::int
 WHERE id = $1 AND phase <> 'closed' AND (NOT $3 OR plan_version = $5 AND phase IN ('draft', 'surveyed') AND NOT `+beginning+`)`,
		c.ID, JSON[domain.Settings]{set}, planned, map[bool]int{true: 1}[planned], c.PlanVersion)
	if err == nil && !ok {
		err = changedMeanwhile(c.Name)
	}
	return err
}

// beginning is whether a crossing is about to begin, by the plan that it has then.
const beginning = `EXISTS (SELECT FROM tasks k WHERE k.crossing_id = crossings.id AND k.kind IN ('prepare', 'restart')
  AND k.state IN ('waiting', 'running'))`

func changedMeanwhile(name string) error {
	return domain.Conflict("crossing %s has begun, or was planned anew, in the meantime; look at it again", name)
}

// SavePlanning replaces patterns, rules and the rest of the planning, and forgets what was
// found with the old. The plan must be the one that was read, and must not be in use.
func (s CrossingStore) SavePlanning(ctx context.Context, c *domain.Crossing, patterns []string, rules []domain.Rule,
	planning domain.Planning) error {
	ok, err := s.changed(ctx, `
UPDATE crossings SET patterns = $2, rules = $3, planning = $4, survey = NULL, surveyed_at = NULL, fit = NULL,
  phase = 'draft', plan_version = plan_version + 1
 WHERE id = $1 AND phase IN ('draft', 'surveyed') AND plan_version = $5 AND NOT `+beginning,
		c.ID, JSON[[]string]{patterns}, JSON[[]domain.Rule]{rules}, JSON[domain.Planning]{planning}, c.PlanVersion)
	if err == nil && !ok {
		err = changedMeanwhile(c.Name)
	}
	return err
}

// SaveSurvey keeps what a survey found of the plan that it read.
func (s CrossingStore) SaveSurvey(ctx context.Context, c *domain.Crossing, entries []domain.Entry) error {
	ok, err := s.changed(ctx, `
UPDATE crossings SET survey = $2, surveyed_at = now(), phase = CASE WHEN phase = 'draft' THEN 'surveyed' ELSE phase END
 WHERE id = $1 AND plan_version = $3 AND phase <> 'closed'`, c.ID, JSON[[]domain.Entry]{entries}, c.PlanVersion)
	if err == nil && !ok {
		err = domain.Conflict("crossing %s was planned anew while it was surveyed; survey it again", c.Name)
	}
	return err
}

// EditPlan changes which tables and queries are chosen, from what they are at that moment.
func (s CrossingStore) EditPlan(ctx context.Context, id int64, edit func(patterns []string,
	p *domain.Planning) []string) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		var now struct {
			Patterns JSON[[]string]        `db:"patterns"`
			Planning JSON[domain.Planning] `db:"planning"`
		}
		if err := tx.GetContext(ctx, &now, `SELECT patterns, planning FROM crossings WHERE id = $1 FOR UPDATE`,
			id); err != nil {
			return err
		}
		patterns := append([]string{}, edit(now.Patterns.V, &now.Planning.V)...)
		_, err := tx.ExecContext(ctx, `UPDATE crossings SET patterns = $2, planning = $3, plan_version = plan_version + 1
  WHERE id = $1`,
			id, JSON[[]string]{patterns}, now.Planning)
		return err
	})
}

// SaveStart keeps the position capture starts from, before any chunk is read.
func (s CrossingStore) SaveStart(ctx context.Context, id int64, at domain.Position, undo []string,
	cat *domain.Catalog) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE crossings SET start_at = $2, undo = $3, catalog = $4,
  other_server = '' WHERE id = $1`,
			id, Pos(at), JSON[[]string]{undo}, JSON[*domain.Catalog]{cat}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO streams (crossing_id, applied, received) VALUES ($1, $2, $2)
ON CONFLICT (crossing_id) DO UPDATE SET applied = $2, received = $2, error = '', failures = 0, not_before = now(),
  ask = ''`, id, Pos(at))
		return err
	})
}

// Rebase keeps from where capture goes on, on which other server. Places of the first
// one's log mean nothing any more.
func (s CrossingStore) Rebase(ctx context.Context, id int64, at domain.Position, server string) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `
UPDATE crossings SET start_at = $2, max_read = $2, below_since = NULL, other_server = '',
  catalog = jsonb_set(catalog::jsonb, '{server}',
  to_jsonb($3::text))
 WHERE id = $1`, id, Pos(at), server); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `
UPDATE streams SET applied = $2, received = $2, source_at = $2, recent = '[]', error = '', failures = 0,
  not_before = now(), ask = '' WHERE crossing_id = $1`, id, Pos(at))
		return err
	})
}

// SaveUndo adds to what has to be restored on the source.
func (s CrossingStore) SaveUndo(ctx context.Context, id int64, undo []string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET undo = $2 WHERE id = $1`, id, JSON[[]string]{undo})
	return err
}

// SaveCertificate keeps the account of a finished crossing.
func (s CrossingStore) SaveCertificate(ctx context.Context, id int64, c *domain.Certificate) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET certificate = $2 WHERE id = $1`, id,
		JSON[*domain.Certificate]{c})
	return err
}

// Release lets another crossing write the tables.
func (s CrossingStore) Release(ctx context.Context, id int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE tables SET active = false WHERE crossing_id = $1`, id)
	return err
}

// RemoveCrossing forgets a crossing; the journal keeps its story.
func (s CrossingStore) RemoveCrossing(ctx context.Context, id int64) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		for _, q := range []string{
			`UPDATE cutovers SET reconciliation_id = NULL, task_id = NULL WHERE crossing_id = $1`,
			`DELETE FROM reconciliations WHERE crossing_id = $1`,
			`DELETE FROM crossings WHERE id = $1`,
		} {
			if _, err := tx.ExecContext(ctx, q, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// View gathers what decides the phase of a crossing under way.
func (s CrossingStore) View(ctx context.Context, id int64) (lifecycle.View, error) {
	var v struct {
		Kind    domain.Kind  `db:"kind"`
		Phase   domain.Phase `db:"phase"`
		Chunks  int          `db:"chunks"`
		Landed  int          `db:"landed"`
		Applied Pos          `db:"applied"`
		MaxRead Pos          `db:"max_read"`
		Built   bool         `db:"built"`
		Lag     float64      `db:"lag"`
		Below   float64      `db:"below"`
		Dwell   int64        `db:"dwell"`
		Unswept bool         `db:"unswept"`
	}
	err := s.DB.GetContext(ctx, &v, `
SELECT c.kind, c.phase, c.max_read, `+built+` AS built, (c.settings->>'in_step_dwell')::bigint AS dwell,
       coalesce((SELECT sum(chunks) FROM tables WHERE crossing_id = c.id), 0) AS chunks,
       coalesce((SELECT sum(chunks_landed) FROM tables WHERE crossing_id = c.id), 0) AS landed,
       coalesce(st.unswept, false) AS unswept, coalesce(st.applied, 0) AS applied, coalesce(st.lag_seconds, 0) AS lag,
       coalesce(extract(epoch FROM now() - c.below_since), 0)::float8 AS below
  FROM crossings c LEFT JOIN streams st ON st.crossing_id = c.id
 WHERE c.id = $1`, id)
	return lifecycle.View{Kind: v.Kind, Phase: v.Phase, Chunks: v.Chunks, Landed: v.Landed,
		Applied: domain.Position(v.Applied), MaxRead: domain.Position(v.MaxRead), Built: v.Built, Unswept: v.Unswept,
		LagSeconds: v.Lag, BelowSince: v.Below, Dwell: time.Duration(v.Dwell).Seconds()}, err
}

// CrossingsByUID returns all crossings, by the name that is part of what they leave on
// servers.
func (s CrossingStore) CrossingsByUID(ctx context.Context) (map[string]domain.Crossing, error) {
	list, err := s.crossings(ctx, crossingColumns)
	out := map[string]domain.Crossing{}
	for _, c := range list {
		out[c.UID] = c
	}
	return out, err
}
