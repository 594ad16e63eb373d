package voyage

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Partitions come and go on a source without a word in its log. A new one that begins
// empty needs nothing but one on the target before its first row; the rows of one that was
// attached full, or was detached, are found by a comparison alone.

// without are the partitions of one list that another does not hold.
func without(list, other []domain.Partition) []domain.Partition {
	return slices.DeleteFunc(slices.Clone(list), func(p domain.Partition) bool {
		return slices.ContainsFunc(other, func(o domain.Partition) bool { return o.Table == p.Table })
	})
}

// partitioned handles what the target said when a row found no partition there; other
// errors come back as they are.
func (f *follower) partitioned(ctx context.Context, t *side, err error) error {
	p := &t.row.Plan
	if engine.ClassOf(err) != engine.NoPartition || p.Table.PartitionBy == "" || p.TargetSide != nil {
		return err
	}
	cat, asked := f.v.Catalog(ctx, f.c.Source, true)
	if asked != nil {
		return err
	}
	now := cat.Table(p.Source)
	if now == nil {
		return err
	}
	statements := f.dst.Partitions(without(now.Partitions, p.Table.Partitions))
	if len(statements) == 0 {
		return domain.Conflict("the target has no partition for a row of %s (%s): make one there, and resume", t.row.SourceName, err)
	}
	if f.c.Settings.ColumnChanges != "carry" {
		return domain.Conflict("%s has new partitions on the source. Run on the target: %s; then resume. Or let it be carried over: dustyferry crossing set %s --column-changes carry, and resume", t.row.SourceName, strings.Join(statements, "; "), f.c.Name)
	}
	f.apply.Abort() // what it holds would keep the statements waiting
	for _, sql := range statements {
		if err := f.dst.Run(ctx, sql); err != nil {
			return domain.Conflict("%s has new partitions on the source, and the target refused one (%s): %s. Make it by hand and resume", t.row.SourceName, sql, err)
		}
	}
	f.v.Say(ctx, "warning", System, f.c.Name, t.row.SourceName, "columns", "%s has new partitions on the source; carried over to the target: %s", t.row.SourceName, strings.Join(statements, "; "))
	plan := *p
	plan.Table.Partitions = now.Partitions
	if err := f.v.Store.Amend(ctx, f.c.ID, f.epoch, t.row.ID, plan, nil); err != nil {
		return err
	}
	return errAnew
}

// partitionEntries say which partitions have come and gone since the plan was made.
func partitionEntries(c *domain.Crossing, p *domain.TablePlan, now *domain.Table) []domain.Entry {
	var out []domain.Entry
	remedy := fmt.Sprintf("compare before the cutover: dustyferry reconcile %s; and restart the table where it differs: dustyferry crossing restart %s --table %s", c.Name, c.Name, p.Source)
	for _, part := range without(now.Partitions, p.Table.Partitions) {
		out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "partitions", Subject: p.Source.String(), Remedy: remedy,
			Measured: part.Table.String() + " has become a partition since the start; rows that it held then are not in the log"})
	}
	for _, part := range without(p.Table.Partitions, now.Partitions) {
		out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "partitions", Subject: p.Source.String(), Remedy: remedy,
			Measured: part.Table.String() + " is no partition any more; the target keeps the rows that it held"})
	}
	return out
}
