package commands

import (
	"context"
	"slices"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/tables"
)

// StartAdd begins to add a table to a crossing under way.
func (k *Commands) StartAdd(ctx context.Context, c *domain.Crossing, table, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.AddTable, c); err != nil {
		return err
	}
	if c.Kind == domain.KindCapture {
		return domain.Conflict("crossing %s only follows changes and loads no rows; make a crossing for %s that copies rows",
			c.Name, table)
	}
	list, err := k.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(list, func(t domain.CrossingTable) bool {
		return t.SourceName == table && t.Reason != domain.BeingAdded
	}) {
		return domain.Conflict("table %s belongs to %s already", table, c.Name)
	}
	cat, err := k.databases.Catalog(ctx, c.Source, true)
	if err != nil {
		return err
	}
	name, err := domain.ParseTableName(table)
	if err != nil {
		return err
	}
	if cat.Table(name) == nil {
		return tables.NoSuchTable(c, table)
	}
	if _, err := k.work.AddTask(ctx, c, lifecycle.WorkAdd, tables.Args{Table: table}, actor); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, table, "change", "%s adds %s to %s", actor, table, c.Name)
	return nil
}

// LeaveOut takes a table out of a crossing under way. What has landed of it stays on
// the target, and is followed no more.
func (k *Commands) LeaveOut(ctx context.Context, c *domain.Crossing, table, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.LeaveOut, c); err != nil {
		return err
	}
	list, err := k.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(t domain.CrossingTable) bool { return t.SourceName == table })
	switch {
	case at < 0:
		return domain.NotFound("crossing %s has no table %s; 'dustyferry crossing show %s' lists its tables", c.Name, table,
			c.Name)
	case len(list) == 1:
		return domain.Conflict("%s is the only table of %s; close the crossing instead", table, c.Name)
	}
	t := &list[at]
	for i := range list {
		if o := &list[i]; i != at && slices.ContainsFunc(o.Plan.After, func(n domain.TableName) bool {
			return n == t.Plan.Source
		}) {
			return domain.Conflict("%s cannot be left out alone: rows of %s go with its rows on the source, which is followed "+
				"by way of it; leave that one out first", table, o.SourceName)
		}
	}
	if err := k.records.NotBusy(ctx, c.ID, c.Name, lifecycle.WorkPrepare, lifecycle.WorkRestart, lifecycle.WorkRefresh,
		lifecycle.WorkCutover,
		lifecycle.WorkClose); err != nil {
		return err
	}
	if err := k.tables.Drop(ctx, c, list, at); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "warning", actor, c.Name, table, "change",
		"%s left %s out of %s; %s of it stay in %s on %s as they are",
		actor, table, c.Name, domain.Many(t.RowsLanded, "row"), t.TargetName, c.Target)
	return nil
}
