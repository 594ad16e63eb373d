package prepare

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// Stand makes a crossing ready that only follows changes, onto tables that stand with all that belongs
// to them: it is surveyed and planned, and from here on the source's log keeps what it will need.
// Nothing is applied before [Preparer.Follow]. It can be repeated.
func (pr *Preparer) Stand(ctx context.Context, c *domain.Crossing, note func(string)) error {
	s, err := pr.plan(ctx, c, note)
	if err != nil {
		return err
	}
	if err := pr.records.SaveObjects(ctx, c.ID, nil, domain.Listing{}); err != nil {
		return err
	}
	note("making the bookkeeping on " + c.Target)
	if err := pr.MakeTables(ctx, c, s, s.Plans); err != nil {
		return err
	}
	start, err := pr.startCapture(ctx, c, s, note)
	if err != nil {
		return err
	}
	if err := pr.records.SaveStart(ctx, c.ID, start, c.Undo, s.Catalog); err != nil {
		return err
	}
	return pr.advance(ctx, c, c.Phase, domain.PhasePrepared)
}

// Follow has a crossing that stands ready follow changes, from the place that is kept for it.
func (pr *Preparer) Follow(ctx context.Context, c *domain.Crossing) error {
	if c.Phase != domain.PhasePrepared {
		return nil // by whoever carried this out before
	}
	if err := pr.records.NothingToLoad(ctx, c.ID); err != nil {
		return err
	}
	if err := pr.advance(ctx, c, domain.PhasePrepared, domain.PhaseLoading); err != nil {
		return err
	}
	pr.journal.Recordf(ctx, "info", journal.System, c.Name, "", "capture",
		"what is written to %s is brought to %s, from log position %s on", c.Source, c.Target,
		pr.databases.Position(ctx, c.Source, c.StartAt))
	return nil
}
