package following

import (
	"context"
	"strings"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
)

// Changes of a table's columns while it is followed. The log tells of them at their exact
// place: what comes before is applied and committed first; then the target's table is
// brought to the new columns, by us where that is surely the same and the crossing wants
// it, by a person otherwise; then the plan is kept and the log opened anew. A process that
// dies between two of these finds the target's table altered, and goes on.

// askSchemaChange says whether a change of a table's columns asks for nothing to be done; otherwise
// what it comes to is kept for [follower.applySchemaChange].
func (f *follower) askSchemaChange(ctx context.Context, ask follow.AskSchemaChange) (bool, error) {
	t, ch := f.tables[ask.Change.Table], &ask.Change
	if ask.Reads {
		// Where the log goes by places only, the plan has to know the new ones for what comes.
		asPlanned, err := f.asPlanned(ctx, &t.row.Plan)
		if err != nil || asPlanned || ch.Columns != nil {
			return true, err
		}
	}
	a, err := f.planSchemaChange(ctx, &t.row.Plan, ch, ask.Tx.Commit)
	if err != nil {
		return false, err
	}
	name := t.row.SourceName
	if len(a.Other) > 0 {
		return false, domain.Conflict("the definition of %s has changed on the source (%s): %s. What that did to its rows "+
			"the log does not say: restart the table: dustyferry crossing restart %s --table %s",
			name, ch.Note, strings.Join(a.Other, ", "), f.c.Name, name)
	}
	f.schemaChange = a
	if len(a.Changes) > 0 || a.Moved {
		return false, nil
	}
	if ch.Columns != nil || ch.Statement == "" {
		return false, domain.Conflict("the columns of %s have changed on the source and changed back (%s), and the log "+
			"does not say what rows lost by it; restart the table: dustyferry crossing restart %s --table %s", name, ch.Note,
			f.c.Name, name)
	}
	f.of.journal.Recordf(ctx, "info", journal.System, f.c.Name, name, "columns",
		"%s on the source: its columns are as they were", ch.Note)
	return true, nil
}

// applySchemaChange brings target and plan to changed columns, and returns [errAnew]: the log is to be
// opened anew, from the transaction on in which they showed.
func (f *follower) applySchemaChange(ctx context.Context, ask follow.ApplySchemaChange) error {
	a, t := f.schemaChange, f.tables[ask.Change.Table]
	name, what := t.row.SourceName, columns.Words(a.Changes)
	say := func(action, format string, args ...any) {
		f.of.journal.Recordf(ctx, "warning", journal.System, f.c.Name, name, action, format, args...)
	}
	carry := f.c.Settings.ColumnChanges == "carry"
	switch {
	case a.Lost:
		return domain.Conflict("the columns of %s changed their places on the source (%s), and the log of this server "+
			"names values by place only: restart the table: dustyferry crossing restart %s --table %s", name, ask.Change.Note,
			f.c.Name, name)
	case len(a.Changes) == 0:
		say("columns", "the columns of %s have other places on the source now", name)
	case len(a.Todo) == 0:
		say("columns", "%s changed on the source: %s; the target's table has them already", name, what)
	case a.Drops && !carry:
		say("columns", "%s changed on the source: %s; the target keeps what was dropped, as it may be empty there (%s)", name,
			what, strings.Join(a.Todo, "; "))
	case !carry || len(a.Doubts) > 0:
		return a.Hold(f.c, name)
	default:
		for _, sql := range a.Todo {
			if err := f.dst.Run(ctx, sql); err != nil {
				return domain.Conflict("%s changed on the source: %s. The target refused what would carry it over (%s): %s. "+
					"Alter its table by hand and resume", name, what, sql, err)
			}
		}
		say("columns", "%s changed on the source: %s; carried over to the target: %s", name, what, strings.Join(a.Todo, "; "))
	}
	if ask.Loading {
		say("restart", "%s is loaded again, as its columns changed during the load", name)
	}
	if err := f.of.records.Amend(ctx, f.c.ID, f.epoch, t.row.ID, a.Plan, ask.With); err != nil {
		return err
	}
	return errAnew
}

// asPlanned reports whether a table is on the source now as its plan has it.
func (f *follower) asPlanned(ctx context.Context, p *domain.TablePlan) (bool, error) {
	cat, err := f.of.databases.Catalog(ctx, f.c.Source, true)
	if err != nil {
		return false, err
	}
	now := cat.Table(p.Source)
	return now != nil && len(columns.Between(&p.Table, now, "")) == 0 && !columns.Moved(&p.Table, now) &&
		len(columns.Others(&p.Table, now)) == 0, nil
}

// planSchemaChange holds a table's plan against what the source says of it now.
func (f *follower) planSchemaChange(ctx context.Context, was *domain.TablePlan, ch *domain.Change,
	at domain.Position) (*planning.SchemaChange, error) {
	a, err := f.of.planner.PlanSchemaChange(ctx, f.c, f.src, f.dst, planning.PlansOf(f.rows()), was, ch, at)
	if err == nil {
		columns.KeepObjects(&a.Plan.Table, &was.Table)
	}
	return a, err
}

// lookAtTables looks at the source's catalog for what the log does not tell, and keeps it
// for the readiness list. New tables are told of, or added, as the crossing says.
//
// A conflict that it returns ends capture: rows are written that it cannot see.
func (f *follower) lookAtTables(ctx context.Context) error {
	cat, err := f.of.databases.Catalog(ctx, f.c.Source, true)
	if err != nil {
		return nil // asked again soon
	}
	c, err := f.of.records.CrossingByID(ctx, f.c.ID)
	if err != nil {
		return nil
	}
	tables, err := f.of.records.Tables(ctx, c.ID)
	if err != nil {
		return nil
	}
	list := planning.CheckTables(&c, cat, tables)
	if err := f.of.records.Notice(ctx, c.ID, list); err != nil {
		return nil
	}
	f.of.set.Prove(ctx, &c, cat, tables)
	for _, e := range list {
		if e.Topic == planning.TopicAnother && c.Phase != domain.PhaseCuttingOver {
			return domain.Conflict("%s: %s. To %s", e.Subject, e.Measured, e.Remedy)
		}
		if e.Topic != planning.TopicNewTable || f.told[e.Subject] {
			continue
		}
		f.told[e.Subject] = true
		if c.Settings.ColumnChanges == "carry" && c.Phase != domain.PhaseCuttingOver {
			if err := f.of.set.Add(ctx, &c, e.Subject, journal.System); err == nil {
				continue
			}
		}
		f.of.journal.Recordf(ctx, "warning", journal.System, c.Name, e.Subject, "columns",
			"%s was made on the source, and the patterns of %s choose it; it is not followed. To add it: %s", e.Subject, c.Name,
			e.Remedy)
	}
	return nil
}
