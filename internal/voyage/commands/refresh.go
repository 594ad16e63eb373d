package commands

import (
	"context"
	"slices"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/refresh"
)

// StartRefresh begins a refresh: of all tables that have a watermark; others are loaded
// anew.
func (k *Commands) StartRefresh(ctx context.Context, c *domain.Crossing, confirm, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Refresh, c); err != nil {
		return err
	}
	tables, err := k.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(tables, func(t domain.CrossingTable) bool { return t.Plan.Watermark != "" }) {
		return domain.Conflict("no table of %s has a watermark: name one in its rules before it starts, or use 'dustyferry "+
			"crossing restart' to load it anew", c.Name)
	}
	if slices.ContainsFunc(tables, func(t domain.CrossingTable) bool { return t.Plan.Watermark == "" }) &&
		confirm != c.Target {
		if planning.RepeatsInPlace(c) {
			return domain.Invalid("a refresh of %s replaces all rows of those of its tables on %s that have no watermark; "+
				"confirm it by giving the target's name, %s", c.Name, c.Target, c.Target)
		}
		return domain.Invalid("a refresh of %s empties those of its tables on %s that have no watermark, and loads them "+
			"again; confirm it by giving the target's name, %s", c.Name, c.Target, c.Target)
	}
	return k.refreshAs(ctx, c, 0, actor)
}

// refreshAs begins a refresh; run is the due run that asked for it, or 0.
func (k *Commands) refreshAs(ctx context.Context, c *domain.Crossing, run int64, actor string) error {
	tables, err := k.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := refresh.Check(c, tables); err != nil {
		return err
	}
	if err := k.work.Begin(ctx, c, lifecycle.WorkRefresh, Beginning{Run: run, GoesOn: run != 0}, actor); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "refresh", "%s began a refresh of %s", actor, c.Name)
	return nil
}
