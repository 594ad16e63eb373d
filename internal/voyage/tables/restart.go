package tables

import (
	"context"
	"errors"
	"slices"
	"strings"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
)

// Restart begins one table of a crossing again, and those that have to go with it.
func (ts *Tables) Restart(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable, table,
	actor string) error {
	at := slices.IndexFunc(tables, func(t domain.CrossingTable) bool { return t.SourceName == table })
	if at < 0 {
		return domain.NotFound("crossing %s has no table %s; 'dustyferry crossing show %s' lists its tables", c.Name, table,
			c.Name)
	}
	t := &tables[at]
	if t.Chunks == 0 {
		return domain.Conflict("table %s has not begun to load; there is nothing to restart", table)
	}
	again := planning.WithDependents(tables, t.Plan.Source)
	for _, d := range again {
		if err := planning.CheckKeptRows(c, tables, d.SourceName); err != nil {
			return err
		}
	}
	ts.journal.Recordf(ctx, "warning", actor, c.Name, table, "restart", "%s restarts table %s", actor, table)
	if _, err := ts.restartStream(ctx, c); err != nil {
		return err
	}
	if err := ts.replan(ctx, c, tables, t); err != nil {
		return err
	}
	for _, d := range again {
		if d.ID != t.ID {
			ts.journal.Recordf(ctx, "warning", journal.System, c.Name, d.SourceName, "restart",
				"%s begins again with %s, whose foreign keys lead to it", d.SourceName, table)
		}
		if planning.RepeatsInPlace(c) && c.Phase == domain.PhaseInStep { // before that, keys may be lacking
			if err := ts.records.LoadInPlace(ctx, d.ID); err != nil {
				return err
			}
		}
		if err := ts.records.ResetTable(ctx, d.ID); err != nil {
			return err
		}
	}
	// Somebody may have taken the stream up in between, with what had landed then.
	if _, err := ts.restartStream(ctx, c); err != nil {
		return err
	}
	_, err := ts.records.SetCondition(ctx, c.ID, []domain.Condition{domain.ConditionHeld}, domain.ConditionRunning, "",
		false)
	return err
}

// restartStream makes whoever follows the crossing start anew: an applier remembers
// which chunks have landed, and must not do so across a restart of a table.
//
// It returns the epoch that whoever follows next is above.
func (ts *Tables) restartStream(ctx context.Context, c *domain.Crossing) (int64, error) {
	epoch, err := ts.records.KickStream(ctx, c.ID)
	if err != nil || epoch == 0 || c.Kind == domain.KindLoad {
		return epoch, err
	}
	dst, err := ts.databases.Open(ctx, c.Target)
	if err != nil {
		return epoch, err
	}
	_, err = dst.TakeStream(ctx, c.UID, epoch, c.StartAt)
	if errors.Is(err, domain.ErrTakenOver) {
		err = nil // somebody follows under a newer epoch already
	}
	return epoch, err
}

// replan brings the plan of a table that begins again, and its table on the target, to the
// columns that the source's has now. Which values rows had there does not matter.
func (ts *Tables) replan(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable,
	t *domain.CrossingTable) error {
	if t.Plan.From != "" {
		return nil
	}
	src, dst, err := ts.databases.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	if err := ts.sameName(ctx, c, src, t); err != nil {
		return err
	}
	a, err := ts.planner.PlanSchemaChange(ctx, c, src, dst, planning.PlansOf(tables), &t.Plan,
		&domain.Change{Kind: domain.Redefine}, domain.Position{})
	if err != nil || len(a.Changes) == 0 && !a.Moved && len(a.Other) == 0 {
		return err
	}
	for _, sql := range a.Todo {
		if err := dst.Run(ctx, sql); err != nil {
			return domain.Conflict("the columns of %s have changed on the source, and its table on the target cannot be "+
				"brought to them (%s): %s. Alter it by hand, then restart the table again", t.SourceName, sql, err)
		}
	}
	ts.journal.Recordf(ctx, "info", journal.System, c.Name, t.SourceName, "columns",
		"%s is planned anew, as its definition has changed: %s",
		t.SourceName, strings.Join(append(a.Other, columns.Words(a.Changes)), ", "))
	return ts.records.Amend(ctx, c.ID, 0, t.ID, a.Plan, nil)
}

// sameName brings a plan to the table that has the name now: another one perhaps, with other
// partitions, or with rows that were written anew. What capture needs of it is made.
func (ts *Tables) sameName(ctx context.Context, c *domain.Crossing, src *engine.Opened, t *domain.CrossingTable) error {
	cat, err := ts.databases.Catalog(ctx, c.Source, true)
	if err != nil {
		return err
	}
	p := t.Plan
	now := cat.Table(p.Source)
	if now == nil || now.ID == p.Table.ID && now.Written == p.Table.Written &&
		len(planning.PartitionsOnlyIn(now.Partitions, p.Table.Partitions))+len(planning.PartitionsOnlyIn(p.Table.Partitions,
			now.Partitions)) == 0 {
		return nil // one that is gone is told of where columns are looked at
	}
	parts := slices.Clone(now.Partitions)
	if !planning.Replaced(&p, now) {
		// How the log identified rows before we set it is what closing restores.
		for i := range parts {
			k := slices.IndexFunc(p.Table.Partitions, func(o domain.Partition) bool { return o.Table == parts[i].Table })
			switch {
			case k >= 0:
				parts[i].Identity = p.Table.Partitions[k].Identity
			case p.SetIdentity != "":
				parts[i].Identity = "" // new, and set by us meanwhile: it was made as all are
			}
		}
	} else {
		bare, err := src.Plan(now)
		if err != nil {
			return err
		}
		p.SetIdentity, p.Table.Identity = bare.SetIdentity, now.Identity
		ts.journal.Recordf(ctx, "warning", journal.System, c.Name, t.SourceName, "restart",
			"%s is another table on the source now; this one is loaded and followed", t.SourceName)
	}
	p.Table.ID, p.Table.Written, p.Table.Partitions = now.ID, now.Written, parts
	if c.Kind != domain.KindLoad && c.Settings.Slot == "" {
		if _, err := ts.prepare.MakeCapture(ctx, c, src, []domain.TablePlan{p}); err != nil {
			return err
		}
	}
	t.Plan = p
	return ts.records.Amend(ctx, c.ID, 0, t.ID, p, nil)
}
