package records

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/pace"
	"dustyferry/internal/domain"
)

// Crossing is a crossing with its state.
type Crossing struct {
	ID          int64                 `db:"id"`
	UID         string                `db:"uid"`
	Name        string                `db:"name"`
	Kind        domain.Kind           `db:"kind"`
	SourceID    int64                 `db:"source_id"`
	TargetID    int64                 `db:"target_id"`
	Source      string                `db:"source"`
	Target      string                `db:"target"`
	Phase       domain.Phase          `db:"phase"`
	Condition   domain.Condition      `db:"condition"`
	Reason      string                `db:"reason"`
	KeepCapture bool                  `db:"keep_capture"`
	Patterns    JSON[[]string]        `db:"patterns"`
	Rules       JSON[[]domain.Rule]   `db:"rules"`
	Planning    JSON[domain.Planning] `db:"planning"`
	Settings    JSON[domain.Settings] `db:"settings"`
	SurveyedAt  sql.NullTime          `db:"surveyed_at"`
	StartAt     Pos                   `db:"start_at"`
	MaxRead     Pos                   `db:"max_read"`
	Undo        JSON[[]string]        `db:"undo"`
	Built       bool                  `db:"built"`
	BelowSince  sql.NullTime          `db:"below_since"`
	LagTold     bool                  `db:"lag_told"`
	LanesNow    sql.NullInt64         `db:"lanes_now"`
	Pace        JSON[pace.State]      `db:"pace"`
	CreatedAt   time.Time             `db:"created_at"`
	StartedAt   sql.NullTime          `db:"started_at"`
	LandedAt    sql.NullTime          `db:"landed_at"`
	InStepAt    sql.NullTime          `db:"in_step_at"`
	CutOverAt   sql.NullTime          `db:"cut_over_at"`
	ClosedAt    sql.NullTime          `db:"closed_at"`
}

// Domain returns the crossing as the noun the rest of the code speaks of.
func (c *Crossing) Domain() *domain.Crossing {
	return &domain.Crossing{ID: c.ID, UID: c.UID, Name: c.Name, Kind: c.Kind, Source: c.Source, Target: c.Target,
		Phase: c.Phase, Condition: c.Condition, Reason: c.Reason, Tables: c.Patterns.V, Rules: c.Rules.V, Planning: c.Planning.V, Settings: c.Settings.V, CreatedAt: c.CreatedAt}
}

const crossingColumns = `
SELECT c.id, c.uid, c.name, c.kind, c.source_id, c.target_id, s.name AS source, t.name AS target, c.phase, c.condition, c.reason,
       c.keep_capture, c.patterns, c.rules, c.planning, c.settings, c.surveyed_at, c.start_at, c.max_read, c.undo, c.built, c.below_since, c.lag_told, c.lanes_now, c.pace,
       c.created_at, c.started_at, c.landed_at, c.in_step_at, c.cut_over_at, c.closed_at
  FROM crossings c
  JOIN databases s ON s.id = c.source_id
  JOIN databases t ON t.id = c.target_id`

// AddCrossing creates a draft.
func (s *Store) AddCrossing(ctx context.Context, c Crossing) (int64, error) {
	var id int64
	err := s.DB.GetContext(ctx, &id, `
INSERT INTO crossings (uid, name, kind, source_id, target_id, patterns, rules, planning, settings)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING id`, c.UID, c.Name, c.Kind, c.SourceID, c.TargetID, c.Patterns, c.Rules, c.Planning, c.Settings)
	if duplicate(err) {
		return 0, domain.Conflict("a crossing named %s exists already; choose another name", c.Name)
	}
	return id, err
}

// Crossings lists all, newest first.
func (s *Store) Crossings(ctx context.Context) ([]Crossing, error) {
	return all[Crossing](ctx, s, crossingColumns+` ORDER BY c.id DESC`)
}

// Crossing returns one by its name.
func (s *Store) Crossing(ctx context.Context, name string) (Crossing, error) {
	var c Crossing
	err := s.DB.GetContext(ctx, &c, crossingColumns+` WHERE c.name = $1`, name)
	return c, notFound(err, "there is no crossing named %s; 'dustyferry crossing list' shows those that are", name)
}

// CrossingByID returns one by its number.
func (s *Store) CrossingByID(ctx context.Context, id int64) (Crossing, error) {
	var c Crossing
	err := s.DB.GetContext(ctx, &c, crossingColumns+` WHERE c.id = $1`, id)
	return c, notFound(err, "the crossing is gone")
}

// SurveyOf returns what the last survey found.
func (s *Store) SurveyOf(ctx context.Context, id int64) ([]domain.Entry, error) {
	e, err := single[JSON[[]domain.Entry]](ctx, s, `SELECT survey FROM crossings WHERE id = $1`, id)
	return e.V, err
}

// FitOf returns the last fit check, or nil.
func (s *Store) FitOf(ctx context.Context, id int64) (*domain.FitCheck, error) {
	f, err := single[JSON[*domain.FitCheck]](ctx, s, `SELECT coalesce(fit, 'null') FROM crossings WHERE id = $1`, id)
	return f.V, err
}

// SaveFit keeps how a fit check stands.
func (s *Store) SaveFit(ctx context.Context, id int64, f *domain.FitCheck) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET fit = $2 WHERE id = $1`, id, JSON[*domain.FitCheck]{f})
	return err
}

// CertificateOf returns the account of a closed crossing, or nil.
func (s *Store) CertificateOf(ctx context.Context, id int64) (map[string]any, error) {
	c, err := single[JSON[map[string]any]](ctx, s, `SELECT certificate FROM crossings WHERE id = $1`, id)
	return c.V, err
}

// CatalogOf returns the source's catalog as it was when the crossing was prepared.
func (s *Store) CatalogOf(ctx context.Context, id int64) (*domain.Catalog, error) {
	var c JSON[*domain.Catalog]
	err := s.DB.GetContext(ctx, &c, `SELECT catalog FROM crossings WHERE id = $1`, id)
	if err == nil && c.V == nil {
		c.V = &domain.Catalog{}
	}
	return c.V, err
}

// ServerOf says on which server the crossing began, where that was kept.
func (s *Store) ServerOf(ctx context.Context, id int64) (string, error) {
	return single[string](ctx, s, `SELECT coalesce(catalog->>'server', '') FROM crossings WHERE id = $1`, id)
}

// SetPhase moves a crossing to a phase, if it still is in the phase it is
// thought to be in; the time of firsts is kept.
func (s *Store) SetPhase(ctx context.Context, id int64, from, to domain.Phase) (bool, error) {
	return s.changed(ctx, `
UPDATE crossings
   SET phase = $3,
       landed_at   = CASE WHEN $3 = 'catching up' THEN coalesce(landed_at, now()) ELSE landed_at END,
       in_step_at  = CASE WHEN $3 = 'in step' THEN coalesce(in_step_at, now()) ELSE in_step_at END,
       cut_over_at = CASE WHEN $3 = 'cut over' THEN now() ELSE cut_over_at END,
       started_at  = CASE WHEN $3 = 'loading' THEN coalesce(started_at, now()) ELSE started_at END,
       closed_at   = CASE WHEN $3 = 'closed' THEN now() ELSE closed_at END
 WHERE id = $1 AND phase = $2`, id, from, to)
}

// SetCondition sets the condition and its reason.
func (s *Store) SetCondition(ctx context.Context, id int64, c domain.Condition, reason string, keepCapture bool) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET condition = $2, reason = $3, keep_capture = $4 WHERE id = $1`, id, c, reason, keepCapture)
	return err
}

// SaveSettings replaces the settings.
func (s *Store) SaveSettings(ctx context.Context, id int64, set domain.Settings) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET settings = $2 WHERE id = $1`, id, JSON[domain.Settings]{set})
	return err
}

// SavePlanning replaces patterns, rules and the rest of the planning, and forgets
// what was found with the old.
func (s *Store) SavePlanning(ctx context.Context, id int64, patterns []string, rules []domain.Rule, planning domain.Planning) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE crossings SET patterns = $2, rules = $3, planning = $4, survey = NULL, surveyed_at = NULL, fit = NULL, phase = 'draft'
 WHERE id = $1 AND phase IN ('draft', 'surveyed')`,
		id, JSON[[]string]{patterns}, JSON[[]domain.Rule]{rules}, JSON[domain.Planning]{planning})
	return err
}

// SaveSurvey keeps what a survey found.
func (s *Store) SaveSurvey(ctx context.Context, id int64, entries []domain.Entry) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE crossings SET survey = $2, surveyed_at = now(), phase = CASE WHEN phase = 'draft' THEN 'surveyed' ELSE phase END
 WHERE id = $1`, id, JSON[[]domain.Entry]{entries})
	return err
}

// EditPatterns changes which tables are chosen, from what they are at that moment.
func (s *Store) EditPatterns(ctx context.Context, id int64, edit func([]string) []string) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		var now JSON[[]string]
		if err := tx.GetContext(ctx, &now, `SELECT patterns FROM crossings WHERE id = $1 FOR UPDATE`, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE crossings SET patterns = $2 WHERE id = $1`, id, JSON[[]string]{append([]string{}, edit(now.V)...)})
		return err
	})
}

// SaveStart keeps the position capture starts from, before any chunk is read.
func (s *Store) SaveStart(ctx context.Context, id int64, at domain.Position, undo []string, cat *domain.Catalog) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE crossings SET start_at = $2, undo = $3, catalog = $4 WHERE id = $1`,
			id, Pos(at), JSON[[]string]{undo}, JSON[*domain.Catalog]{cat}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO streams (crossing_id, applied, received) VALUES ($1, $2, $2)
ON CONFLICT (crossing_id) DO UPDATE SET applied = $2, received = $2, error = '', failures = 0, not_before = now(), ask = ''`, id, Pos(at))
		return err
	})
}

// Rebase keeps from where capture goes on, on which other server. Places of the first
// one's log mean nothing any more.
func (s *Store) Rebase(ctx context.Context, id int64, at domain.Position, server string) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `
UPDATE crossings SET start_at = $2, max_read = $2, below_since = NULL, catalog = jsonb_set(catalog::jsonb, '{server}', to_jsonb($3::text))
 WHERE id = $1`, id, Pos(at), server); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `
UPDATE streams SET applied = $2, received = $2, source_at = $2, recent = '[]', error = '', failures = 0, not_before = now(), ask = '' WHERE crossing_id = $1`, id, Pos(at))
		return err
	})
}

// SaveUndo adds to what has to be restored on the source.
func (s *Store) SaveUndo(ctx context.Context, id int64, undo []string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET undo = $2 WHERE id = $1`, id, JSON[[]string]{undo})
	return err
}

// SetBuilt says that the deferred objects stand.
func (s *Store) SetBuilt(ctx context.Context, id int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET built = true WHERE id = $1`, id)
	return err
}

// SaveCertificate keeps the account of a finished crossing.
func (s *Store) SaveCertificate(ctx context.Context, id int64, c map[string]any) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE crossings SET certificate = $2 WHERE id = $1`, id, JSON[map[string]any]{c})
	return err
}

// Release lets another crossing write the tables.
func (s *Store) Release(ctx context.Context, id int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE tables SET active = false WHERE crossing_id = $1`, id)
	return err
}

// RemoveCrossing forgets a crossing; the journal keeps its story.
func (s *Store) RemoveCrossing(ctx context.Context, id int64) error {
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
func (s *Store) View(ctx context.Context, id int64) (lifecycle.View, error) {
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
	}
	err := s.DB.GetContext(ctx, &v, `
SELECT c.kind, c.phase, c.max_read, c.built, (c.settings->>'in_step_dwell')::bigint AS dwell,
       coalesce((SELECT sum(chunks) FROM tables WHERE crossing_id = c.id), 0) AS chunks,
       coalesce((SELECT sum(chunks_landed) FROM tables WHERE crossing_id = c.id), 0) AS landed,
       coalesce(st.applied, 0) AS applied, coalesce(st.lag_seconds, 0) AS lag,
       coalesce(extract(epoch FROM now() - c.below_since), 0)::float8 AS below
  FROM crossings c LEFT JOIN streams st ON st.crossing_id = c.id
 WHERE c.id = $1`, id)
	return lifecycle.View{Kind: v.Kind, Phase: v.Phase, Chunks: v.Chunks, Landed: v.Landed,
		Applied: domain.Position(v.Applied), MaxRead: domain.Position(v.MaxRead), Built: v.Built,
		LagSeconds: v.Lag, BelowSince: v.Below, Dwell: time.Duration(v.Dwell).Seconds()}, err
}

// CrossingsByUID returns all crossings, by the name that is part of what they leave on
// servers.
func (s *Store) CrossingsByUID(ctx context.Context) (map[string]Crossing, error) {
	list, err := all[Crossing](ctx, s, crossingColumns)
	out := map[string]Crossing{}
	for _, c := range list {
		out[c.UID] = c
	}
	return out, err
}
