package following

import (
	"context"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
)

// Partitions come and go on a source without a word in its log. A new one that begins
// empty needs nothing but one on the target before its first row; the rows of one that was
// attached full, or was detached, are found by a comparison alone.

// partitioned handles what the target said when a row found no partition there; other
// errors come back as they are.
func (f *follower) partitioned(ctx context.Context, t *side, err error) error {
	p := &t.row.Plan
	if engine.ClassOf(err) != engine.NoPartition || p.Table.PartitionBy == "" || p.TargetSide != nil {
		return err
	}
	cat, asked := f.of.databases.Catalog(ctx, f.c.Source, true)
	if asked != nil {
		return err
	}
	now := cat.Table(p.Source)
	if now == nil {
		return err
	}
	statements := f.dst.Partitions(planning.PartitionsOnlyIn(now.Partitions, p.Table.Partitions))
	if len(statements) == 0 {
		return domain.Conflict("the target has no partition for a row of %s (%s): make one there, and resume",
			t.row.SourceName, err)
	}
	if f.c.Settings.ColumnChanges != "carry" {
		return domain.Conflict("%s has new partitions on the source. Run on the target: %s; then resume. Or let it be "+
			"carried over: dustyferry crossing set %s --column-changes carry, and resume", t.row.SourceName,
			strings.Join(statements, "; "), f.c.Name)
	}
	f.apply.Abort() // what it holds would keep the statements waiting
	for _, sql := range statements {
		if err := f.dst.Run(ctx, sql); err != nil {
			return domain.Conflict("%s has new partitions on the source, and the target refused one (%s): %s. Make it by "+
				"hand and resume", t.row.SourceName, sql, err)
		}
	}
	f.of.journal.Recordf(ctx, "warning", journal.System, f.c.Name, t.row.SourceName, "columns",
		"%s has new partitions on the source; carried over to the target: %s", t.row.SourceName, strings.Join(statements,
			"; "))
	plan := *p
	plan.Table.Partitions = now.Partitions
	if err := f.of.records.Amend(ctx, f.c.ID, f.epoch, t.row.ID, plan, nil); err != nil {
		return err
	}
	return errAnew
}

// guardNew has partitions that were made since the tables were, by us or by hand, refuse writes of others as
// their tables do. Where that cannot be, it is told of, and the cutover counts.
func (f *follower) guardNew(ctx context.Context) {
	var parts []domain.TablePlan
	for _, p := range f.plans {
		if p.Table.PartitionBy != "" {
			parts = append(parts, p)
		}
	}
	if f.dst.Guards == nil || f.c.Settings.GuardTarget != domain.GuardRefuse || len(parts) == 0 {
		return
	}
	made, err := f.dst.GuardNew(ctx, f.c.UID, parts)
	if len(made) > 0 {
		f.of.journal.Recordf(ctx, "info", journal.System, f.c.Name, "", "guard", "writes of others to %s are refused now too",
			strings.Join(made, ", "))
	}
	if err != nil && ctx.Err() == nil {
		f.of.journal.Recordf(ctx, "warning", journal.System, f.c.Name, "", "guard", "%s", err)
	}
}
