package prepare

import (
	"context"
	"slices"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// MakeCapture makes capture durable on the source. What it will change there is kept
// first, so that closing can restore it.
func (pr *Preparer) MakeCapture(ctx context.Context, c *domain.Crossing, src *engine.Opened,
	plans []domain.TablePlan) (domain.Position, error) {
	for _, u := range src.CaptureUndo(plans) {
		if !slices.Contains(c.Undo, u) {
			c.Undo = append(c.Undo, u)
		}
	}
	if err := pr.records.SaveUndo(ctx, c.ID, c.Undo); err != nil {
		return domain.Position{}, err
	}
	return src.PrepareCapture(ctx, c.ObjectName(), plans)
}

// captureFrom makes capture durable and returns from where changes are applied: for kind
// capture, where the person says that the target's rows stand.
func (pr *Preparer) captureFrom(ctx context.Context, c *domain.Crossing, s *planning.Surveyed) (domain.Position,
	error) {
	set := c.Settings
	if set.Slot != "" {
		from, err := s.Source.CheckCapture(ctx, set.Slot, s.Plans)
		if err != nil || set.StartFrom == "" {
			return from, err
		}
		at, err := pr.resolvePlace(ctx, c, s.Source, set.StartFrom)
		if err == nil && at.Before(from) {
			err = domain.Conflict("the replication slot %s gives changes from log position %s on; start_from is %s, before that",
				set.Slot, pr.databases.Position(ctx, c.Source, from), set.StartFrom)
		}
		return at, err
	}
	from, err := pr.MakeCapture(ctx, c, s.Source, s.Plans)
	if err != nil || set.StartFrom == "" {
		return from, err
	}
	at, err := pr.resolvePlace(ctx, c, s.Source, set.StartFrom)
	if err != nil || s.Source.KeepsEarlier() {
		return at, err
	}
	// A log of this kind can only be read from where a slot was made.
	if at.Before(from) {
		return domain.Position{},
			domain.Conflict("the source can give changes from log position %s on, where the slot of %s was made just "+
				"now; %s is before that. Before a copy is made there has to be a slot: CREATE PUBLICATION dusty FOR TABLE …; "+
				"SELECT pg_create_logical_replication_slot('dusty', 'pgoutput'); name it with --slot",
				pr.databases.Position(ctx, c.Source, from), c.Name, set.StartFrom)
	}
	return at, nil
}

// resolvePlace reads a place that a person gave: a position, or a name that all servers of one
// history share.
func (pr *Preparer) resolvePlace(ctx context.Context, c *domain.Crossing, src *engine.Opened,
	text string) (domain.Position, error) {
	d, err := pr.records.Database(ctx, c.Source)
	if err != nil {
		return domain.Position{}, err
	}
	driver, err := pr.databases.Driver(d.Engine)
	if err != nil {
		return domain.Position{}, err
	}
	if at, err := driver.ParsePosition(strings.TrimSpace(text)); err == nil && !at.IsZero() {
		return at, nil
	}
	return src.ResolveGTID(ctx, strings.TrimSpace(text))
}
