package records

import (
	"context"

	"dustyferry/internal/domain"
)

// StreamStore keeps who follows which crossing, and how far.
type StreamStore struct{ *conn }

// Followed lists the crossings with a stream that are under way, whatever their condition.
func (s StreamStore) Followed(ctx context.Context) ([]domain.FollowedCrossing, error) {
	rows, err := all[struct {
		domain.Crossing
		crossingCells
		Applied  Pos `db:"applied"`
		SourceAt Pos `db:"source_at"`
		Told     int `db:"retained_told"`
	}](ctx, s, `
SELECT x.*, st.applied, st.source_at, st.retained_told
  FROM (`+crossingColumns+` WHERE c.kind <> 'load' AND c.phase IN ('loading', 'catching up', 'in step',
  'cutting over')) x
  JOIN streams st ON st.crossing_id = x.id`)
	out := make([]domain.FollowedCrossing, len(rows))
	for i := range rows {
		r := &rows[i]
		r.into(&r.Crossing)
		out[i] = domain.FollowedCrossing{Crossing: r.Crossing, Applied: domain.Position(r.Applied),
			SourceAt: domain.Position(r.SourceAt), Told: r.Told}
	}
	return out, err
}

// SaveRetained keeps how much log a source keeps, and since when: the log stood at the
// place from which it is kept between two of the times at which it was looked at. at is
// where the log stands now.
func (s StreamStore) SaveRetained(ctx context.Context, crossing, bytes int64, from, at domain.Position) error {
	if _, err := s.DB.ExecContext(ctx, `
INSERT INTO log_places (crossing_id, place) SELECT $1, $2::numeric
 WHERE $2::numeric > 0 AND NOT EXISTS (SELECT FROM log_places WHERE crossing_id = $1
   AND at > now() - interval '10 seconds')`, crossing, Pos(at)); err != nil {
		return err
	}
	// One place before what is kept is enough, however long that is.
	if _, err := s.DB.ExecContext(ctx, `
DELETE FROM log_places WHERE crossing_id = $1 AND at < (SELECT max(at) FROM log_places WHERE crossing_id = $1
  AND place <= $2)`, crossing, Pos(from)); err != nil {
		return err
	}
	_, err := s.DB.ExecContext(ctx, `
UPDATE streams SET retained = $2, retained_since = (SELECT min(at) FROM log_places WHERE crossing_id = $1)
  WHERE crossing_id = $1`, crossing, bytes)
	return err
}

// ToldOfRetained keeps what people were told of the log that a source keeps.
func (s StreamStore) ToldOfRetained(ctx context.Context, crossing int64, told int) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE streams SET retained_told = $2 WHERE crossing_id = $1`, crossing, told)
	return err
}

// HoldStream lets nobody follow a crossing until a person resumes or restarts it.
func (s StreamStore) HoldStream(ctx context.Context, crossing int64, cause string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE streams SET failures = -1, error = $2 WHERE crossing_id = $1`, crossing, cause)
	return err
}
