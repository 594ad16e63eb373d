package planning

import (
	"context"
	"slices"

	"dustyferry/internal/core/turned"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// returnEntries say, before a crossing starts that will open a return path, whether its two databases can
// change places, and for each table whether what is written to its target can be brought back exactly.
func (pl *Planning) returnEntries(ctx context.Context, c *domain.Crossing, s *Surveyed) ([]domain.Entry, error) {
	if c.Settings.ReturnPath != domain.ReturnOpen || c.ReturnOf != nil || c.Kind == domain.KindLoad {
		return nil, nil
	}
	exact, err := pl.exact(ctx, c, s.Plans)
	if err != nil {
		return nil, err
	}
	const remedy = "do without a return path (return_path: none), or choose another database"
	var out []domain.Entry
	for _, side := range []struct {
		name  string
		lacks []engine.Capability
	}{{c.Target, s.Target.Lacks(engine.CanCapture)}, {c.Source, s.Source.Lacks(engine.CanApply, engine.CanLand)}} {
		for _, k := range side.lacks {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: turned.Topic, Subject: side.name,
				Measured: "on the way back it would have to " + string(k) + ", which its engine has no way to", Remedy: remedy})
		}
	}
	if len(out) > 0 {
		return append(out, exact...), nil
	}
	from, err := s.Target.SurveySource(ctx, nil, true)
	if err != nil {
		return nil, err
	}
	set := c.Settings
	set.ExistingRows = "keep"
	to, err := s.Source.SurveyTarget(ctx, &domain.Catalog{}, nil, set)
	if err != nil {
		return nil, err
	}
	return slices.Concat(TurnedRound(c, append(from, to...)), exact), nil
}

// exact says of each table whether what is written to its target can be brought back as it is.
func (pl *Planning) exact(ctx context.Context, c *domain.Crossing, plans []domain.TablePlan) ([]domain.Entry, error) {
	from, err := pl.records.Database(ctx, c.Target)
	if err != nil {
		return nil, err
	}
	to, err := pl.records.Database(ctx, c.Source)
	if err != nil {
		return nil, err
	}
	return turned.Exact(plans, typemap.Mapping{From: from.Engine, To: to.Engine, Into: to.DBName}), nil
}

// TurnedRound are the blockers that a survey of a crossing's way back found, as its own survey tells
// them: what is the source there is its target.
func TurnedRound(c *domain.Crossing, list []domain.Entry) []domain.Entry {
	var out []domain.Entry
	for _, e := range list {
		if e.Verdict != domain.Blocker {
			continue
		}
		e.Measured = "for the way back: " + e.Measured + " (" + e.Topic + ")"
		switch e.Subject {
		case "source":
			e.Subject = c.Target
		case "target":
			e.Subject = c.Source
		}
		e.Topic = turned.Topic
		out = append(out, e)
	}
	return out
}
