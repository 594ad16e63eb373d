package voyage

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Changes of a table's columns while it is followed. The log tells of them at their exact
// place: what comes before is applied and committed first; then the target's table is
// brought to the new columns, by us where that is surely the same and the crossing wants
// it, by a person otherwise; then the plan is kept and the log opened anew. A process that
// dies between two of these finds the target's table altered, and goes on.

// schemaChange is what a change of a table's columns means for a crossing.
type schemaChange struct {
	plan    domain.TablePlan // as it will be
	changes []columns.Change // on the source
	doubts  []string         // why they cannot be carried over with certainty
	todo    []string         // statements that are still to run on the target
	drops   bool             // all of them only drop what may as well stay
	moved   bool             // columns have other places
	lost    bool             // and the log, which goes by places, does not say which
	other   []string         // what else of its definition is not as it was, where the log tells of definitions
}

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
	if len(a.other) > 0 {
		return false, domain.Conflict("the definition of %s has changed on the source (%s): %s. What that did to its rows the log does not say: restart the table: dustyferry crossing restart %s --table %s",
			name, ch.Note, strings.Join(a.other, ", "), f.c.Name, name)
	}
	f.schemaChange = a
	if len(a.changes) > 0 || a.moved {
		return false, nil
	}
	if ch.Columns != nil || ch.Statement == "" {
		return false, domain.Conflict("the columns of %s have changed on the source and changed back (%s), and the log does not say what rows lost by it; restart the table: dustyferry crossing restart %s --table %s", name, ch.Note, f.c.Name, name)
	}
	f.v.Say(ctx, "info", System, f.c.Name, name, "columns", "%s on the source: its columns are as they were", ch.Note)
	return true, nil
}

// applySchemaChange brings target and plan to changed columns, and returns [errAnew]: the log is to be
// opened anew, from the transaction on in which they showed.
func (f *follower) applySchemaChange(ctx context.Context, ask follow.ApplySchemaChange) error {
	a, t := f.schemaChange, f.tables[ask.Change.Table]
	name, what := t.row.SourceName, columns.Words(a.changes)
	say := func(action, format string, args ...any) {
		f.v.Say(ctx, "warning", System, f.c.Name, name, action, format, args...)
	}
	carry := f.c.Settings.ColumnChanges == "carry"
	switch {
	case a.lost:
		return domain.Conflict("the columns of %s changed their places on the source (%s), and the log of this server names values by place only: restart the table: dustyferry crossing restart %s --table %s", name, ask.Change.Note, f.c.Name, name)
	case len(a.changes) == 0:
		say("columns", "the columns of %s have other places on the source now", name)
	case len(a.todo) == 0:
		say("columns", "%s changed on the source: %s; the target's table has them already", name, what)
	case a.drops && !carry:
		say("columns", "%s changed on the source: %s; the target keeps what was dropped, as it may be empty there (%s)", name, what, strings.Join(a.todo, "; "))
	case !carry || len(a.doubts) > 0:
		return a.hold(f.c, name)
	default:
		for _, sql := range a.todo {
			if err := f.dst.Run(ctx, sql); err != nil {
				return domain.Conflict("%s changed on the source: %s. The target refused what would carry it over (%s): %s. Alter its table by hand and resume", name, what, sql, err)
			}
		}
		say("columns", "%s changed on the source: %s; carried over to the target: %s", name, what, strings.Join(a.todo, "; "))
	}
	if ask.Loading {
		say("restart", "%s is loaded again, as its columns changed during the load", name)
	}
	if err := f.v.Store.Amend(ctx, f.c.ID, f.epoch, t.row.ID, a.plan, ask.With); err != nil {
		return err
	}
	return errAnew
}

// asPlanned reports whether a table is on the source now as its plan has it.
func (f *follower) asPlanned(ctx context.Context, p *domain.TablePlan) (bool, error) {
	cat, err := f.v.Catalog(ctx, f.c.Source, true)
	if err != nil {
		return false, err
	}
	now := cat.Table(p.Source)
	return now != nil && len(columns.Between(&p.Table, now, "")) == 0 && !columns.Moved(&p.Table, now) && len(columns.Others(&p.Table, now)) == 0, nil
}

// hold says why the crossing waits, with the statements that would mend the target.
func (a *schemaChange) hold(c *domain.Crossing, name string) error {
	text := fmt.Sprintf("the columns of %s changed on the source: %s", name, columns.Words(a.changes))
	run := strings.Join(a.todo, "; ")
	if len(a.doubts) > 0 {
		return domain.Conflict("%s. It cannot be carried over for certain: %s. Either give the target's table the same columns, and the same values in them (%s), and resume; or restart the table: dustyferry crossing restart %s --table %s",
			text, strings.Join(a.doubts, "; "), run, c.Name, name)
	}
	return domain.Conflict("%s. Run on the target: %s; then resume. Or let it be carried over: dustyferry crossing set %s --column-changes carry, and resume", text, run, c.Name)
}

// planSchemaChange holds a table's plan against what the source says of it now.
func (f *follower) planSchemaChange(ctx context.Context, was *domain.TablePlan, ch *domain.Change, at domain.Position) (*schemaChange, error) {
	a, err := f.v.planSchemaChange(ctx, f.c, f.src, f.dst, plansOf(f.rows()), was, ch, at)
	if err == nil {
		columns.KeepObjects(&a.plan.Table, &was.Table)
	}
	return a, err
}

func (v *Voyage) planSchemaChange(ctx context.Context, c *domain.Crossing, src, dst *engine.Opened, plans []domain.TablePlan, was *domain.TablePlan, ch *domain.Change, at domain.Position) (*schemaChange, error) {
	cat, err := v.Catalog(ctx, c.Source, true)
	if err != nil {
		return nil, err
	}
	now := cat.Table(was.Source)
	if now == nil {
		return nil, domain.Conflict("%s is no longer on the source (%s); leave it out to go on: dustyferry crossing leave-out %s %s", was.Source, ch.Note, c.Name, was.Source)
	}
	unknown := false
	if ch.Columns != nil {
		if then := columns.AsLogged(&was.Table, now, ch.Columns); then != nil {
			now = then
		} else {
			unknown = true
		}
	}
	draw, err := v.planner(ctx, c, src, cat)
	if err != nil {
		return nil, err
	}
	last := false
	if ch.Statement != "" {
		if last, err = src.IsLastDDL(ctx, was.Source, at); err != nil {
			return nil, err
		}
	}
	a := &schemaChange{changes: columns.Between(&was.Table, now, ch.Statement), moved: columns.Moved(&was.Table, now)}
	if places := a.moved || !last && columns.Moves(ch.Statement); places && draw.way.From == typemap.MariaDB && (!last || columns.Renames(ch.Statement)) {
		a.moved, a.lost = true, true
	}
	again := at == 0 && draw.way.From == typemap.MariaDB // a table that begins again
	if again || ch.Statement != "" {
		a.other = columns.Others(&was.Table, now)
	}
	if len(a.changes) == 0 && !a.moved && (!again || len(a.other) == 0) {
		return a, nil
	}
	bare, err := src.Plan(now)
	if err != nil {
		return nil, err
	}
	if a.plan, _, _, err = draw.shape(ctx, bare); err != nil {
		return nil, err
	}
	all := []domain.TablePlan{a.plan}
	for _, o := range plans {
		if o.Source != was.Source {
			all = append(all, o)
		}
	}
	draw.way.RemapForeignKeys(all)
	a.plan = all[0]
	a.plan.Target, a.plan.After, a.plan.SingleChunk = was.Target, was.After, was.SingleChunk

	from := columns.Source{Engine: draw.way.From, Statement: ch.Statement, Last: last, Rewritten: draw.way.From == typemap.Postgres && (was.Table.Written == "" || was.Table.Written != now.Written)}
	doubt := func(format string, args ...any) { a.doubts = append(a.doubts, fmt.Sprintf(format, args...)) }
	if unknown {
		doubt("its columns have changed more than once, and what the log holds is not what they are now")
	}
	if a.lost {
		doubt("columns change their places, and the log of this server names rows' values by place only")
	}
	if len(a.plan.Key) != len(was.Key) {
		doubt("the key by which rows are found is another one")
	}
	target, err := v.Catalog(ctx, c.Target, true)
	if err != nil {
		return nil, err
	}
	side := a.plan.TargetPlan()
	stands := target.Table(side.Target)
	if stands == nil {
		return nil, domain.Conflict("the target has no table %s any more; restart the table: dustyferry crossing restart %s --table %s", side.Target, c.Name, was.Source)
	}
	a.drops = true
	for _, k := range a.changes {
		if value, ok := columns.Constant(k.Now); ok && last && k.Kind == columns.Added {
			k.Now.Fill = &value
		}
		there, carried := onTheOtherSide(was, &a.plan, k)
		if !carried || done(there, stands) {
			continue
		}
		if reason := from.Unsafe(k, was.Key); reason != "" {
			doubt("%s", reason)
		} else if k.Kind == columns.Added && a.plan.CrossEngine && (k.Now.Fill != nil || k.Now.NotNull) {
			there.Now.Fill = nil
			if i := slices.IndexFunc(a.plan.Columns, func(c domain.Column) bool { return c.Name == k.Now.Name }); i >= 0 && k.Now.Fill != nil {
				there.Now.Fill = draw.way.Told(a.plan.Columns[i], there.Now, *k.Now.Fill)
			}
			if there.Now.Fill == nil {
				doubt("rows that were there have a value in column %s, which is not known in the target's form", k.Now.Name)
			}
		}
		if k.Kind != columns.Dropped || needed(stands.Column(there.Was.Name)) {
			a.drops = false
		}
		a.todo = append(a.todo, dst.Alters(&side, []columns.Change{there})...)
	}
	for _, now := range side.Columns {
		is := stands.Column(now.Name)
		if again && draw.way.To == typemap.MariaDB && is != nil && is.Type == now.Type && (is.Charset != now.Charset || is.Collation != now.Collation) {
			a.todo = append(a.todo, dst.Alters(&side, []columns.Change{{Kind: columns.Retyped, Was: *is, Now: now}})...)
		}
	}
	if c := side.Table.Collation; again && draw.way.To == typemap.MariaDB && c != "" && stands.Collation != "" && c != stands.Collation {
		a.todo = append(a.todo, dst.Alters(&side, []columns.Change{{Kind: columns.Recollated, Now: domain.Column{Collation: c}}})...)
	}
	return a, nil
}

// replan brings the plan of a table that begins again, and its table on the target, to the
// columns that the source's has now. Which values rows had there does not matter.
func (v *Voyage) replan(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable, t *domain.CrossingTable) error {
	if t.Plan.From != "" {
		return nil
	}
	src, dst, err := v.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	if err := v.sameName(ctx, c, src, t); err != nil {
		return err
	}
	a, err := v.planSchemaChange(ctx, c, src, dst, plansOf(tables), &t.Plan, &domain.Change{Kind: domain.Redefine}, 0)
	if err != nil || len(a.changes) == 0 && !a.moved && len(a.other) == 0 {
		return err
	}
	for _, sql := range a.todo {
		if err := dst.Run(ctx, sql); err != nil {
			return domain.Conflict("the columns of %s have changed on the source, and its table on the target cannot be brought to them (%s): %s. Alter it by hand, then restart the table again", t.SourceName, sql, err)
		}
	}
	v.Say(ctx, "info", System, c.Name, t.SourceName, "columns", "%s is planned anew, as its definition has changed: %s", t.SourceName, strings.Join(append(a.other, columns.Words(a.changes)), ", "))
	return v.Store.Amend(ctx, c.ID, 0, t.ID, a.plan, nil)
}

// sameName brings a plan to the table that has the name now: another one perhaps, with other
// partitions, or with rows that were written anew. What capture needs of it is made.
func (v *Voyage) sameName(ctx context.Context, c *domain.Crossing, src *engine.Opened, t *domain.CrossingTable) error {
	cat, err := v.Catalog(ctx, c.Source, true)
	if err != nil {
		return err
	}
	p := t.Plan
	now := cat.Table(p.Source)
	if now == nil || now.ID == p.Table.ID && now.Written == p.Table.Written && len(without(now.Partitions, p.Table.Partitions))+len(without(p.Table.Partitions, now.Partitions)) == 0 {
		return nil // one that is gone is told of where columns are looked at
	}
	parts := slices.Clone(now.Partitions)
	if !another(&p, now) {
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
		v.Say(ctx, "warning", System, c.Name, t.SourceName, "restart", "%s is another table on the source now; this one is loaded and followed", t.SourceName)
	}
	p.Table.ID, p.Table.Written, p.Table.Partitions = now.ID, now.Written, parts
	if c.Kind != domain.KindLoad && c.Settings.Slot == "" {
		if _, err := v.makeCapture(ctx, c, src, []domain.TablePlan{p}); err != nil {
			return err
		}
	}
	t.Plan = p
	return v.Store.Amend(ctx, c.ID, 0, t.ID, p, nil)
}

// needed reports whether a new row must give the column a value.
func needed(c *domain.Column) bool {
	return c != nil && c.NotNull && c.Default == "" && c.Identity == "" && c.Computed == ""
}

// onTheOtherSide is a change as the target sees it; it is not carried where the table's
// rows travel without that column, or where nothing changes there.
func onTheOtherSide(was, is *domain.TablePlan, k columns.Change) (columns.Change, bool) {
	there := func(p *domain.TablePlan, name string) (domain.Column, bool) {
		i := slices.IndexFunc(p.CopiedColumns(), func(c domain.Column) bool { return c.Name == name })
		if i < 0 {
			return domain.Column{}, false
		}
		return p.TargetColumns()[i], true
	}
	var before, after bool
	fill := k.Now.Fill
	k.Was, before = there(was, k.Was.Name)
	k.Now, after = there(is, k.Now.Name)
	k.Now.Fill = fill
	switch k.Kind {
	case columns.Added:
		return k, after
	case columns.Dropped:
		return k, before
	case columns.Renamed:
		return k, before && after && k.Was.Name != k.Now.Name
	case columns.Retyped:
		return k, before && after && k.Was.Type != k.Now.Type
	case columns.Loosened:
		return k, before && after && k.Was.NotNull
	}
	return k, false // what the source refuses never comes
}

// done reports whether a table of the target is altered so already.
func done(k columns.Change, t *domain.Table) bool {
	was, now := t.Column(k.Was.Name), t.Column(k.Now.Name)
	switch k.Kind {
	case columns.Added:
		return now != nil
	case columns.Dropped:
		return was == nil
	case columns.Renamed:
		return was == nil && now != nil
	case columns.Retyped:
		return now != nil && now.Type == k.Now.Type
	case columns.Loosened:
		return now != nil && !now.NotNull
	}
	return true
}

// columnEntries say for a readiness list whether the source's tables are as they are
// followed: a change that no row has shown yet is not in the log.
func columnEntries(c *domain.Crossing, cat *domain.Catalog, tables []domain.CrossingTable) []domain.Entry {
	var out []domain.Entry
	known := map[string]bool{}
	for i := range tables {
		p := &tables[i].Plan
		known[tables[i].SourceName] = true
		if p.From != "" {
			continue
		}
		now := cat.Table(p.Source)
		if now == nil {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "columns", Subject: p.Source.String(), Measured: "it is no longer on the source",
				Remedy: "leave it out: dustyferry crossing leave-out " + c.Name + " " + p.Source.String()})
			continue
		}
		again := "dustyferry crossing restart " + c.Name + " --table " + p.Source.String()
		if another(p, now) {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: topicAnother, Subject: p.Source.String(),
				Measured: "another table has its name on the source now: the one that was loaded was renamed or dropped, and what is written to this one is not in what capture reads", Remedy: "load it: " + again})
			continue
		}
		if rewritten(p, now) {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: topicRewritten, Subject: p.Source.String(),
				Measured: "its rows were written anew on the source, or a partition of it was emptied, of which the log does not tell (TRUNCATE of a partition, ALTER … USING, VACUUM FULL, CLUSTER)",
				Remedy:   "compare it: dustyferry reconcile " + c.Name + " --table " + p.Source.String() + "; where it differs, " + again})
		}
		out = append(out, partitionEntries(c, p, now)...)
		// What a log that tells of definitions has not told: it was changed before capture began.
		others := slices.DeleteFunc(columns.Others(&p.Table, now), func(o string) bool { return strings.HasPrefix(o, "the set of foreign keys") })
		if p.Table.Storage != "" && len(others) > 0 {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "columns", Subject: p.Source.String(),
				Measured: "its definition has changed on the source since it was planned: " + strings.Join(others, ", "), Remedy: "load it again: " + again})
		}
		if text := columns.Objects(&p.Table, now); text != "" {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "objects", Subject: p.Source.String(), Measured: text,
				Remedy: "do the same on the target; the crossing carries what stood at its start"})
		}
		changes := columns.Between(&p.Table, now, "RENAME")
		if len(changes) == 0 {
			continue
		}
		e := domain.Entry{Verdict: domain.Blocker, Topic: "columns", Subject: p.Source.String(), Measured: "they have changed on the source, and no row has shown it yet: " + columns.Words(changes),
			Remedy: "write a row there, so that the log tells of it, or alter the target's table and restart this one: dustyferry crossing restart " + c.Name + " --table " + p.Source.String()}
		if !slices.ContainsFunc(changes, func(k columns.Change) bool { return k.Kind != columns.Tightened }) {
			e.Verdict, e.Remedy = domain.Notice, ""
		}
		out = append(out, e)
	}
	for _, t := range chosen(cat, c.Patterns) {
		if !known[t.String()] && (len(c.Patterns) > 0 || len(c.Planning.Queries) == 0) {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: topicNewTable, Subject: t.String(), Measured: "the crossing's patterns choose it, but it was made after the start and is not followed",
				Remedy: "dustyferry crossing add-table " + c.Name + " " + t.String()})
		}
	}
	return out
}

// Topics of what the log does not tell.
const (
	topicAnother   = "another table"
	topicRewritten = "rows written anew"
)

// topicNewTable is of a table that was made on the source after the start.
const topicNewTable = "new table"

// lookAtTables looks at the source's catalog for what the log does not tell, and keeps it
// for the readiness list. New tables are told of, or added, as the crossing says.
//
// A conflict that it returns ends capture: rows are written that it cannot see.
func (f *follower) lookAtTables(ctx context.Context) error {
	v := f.v
	cat, err := v.Catalog(ctx, f.c.Source, true)
	if err != nil {
		return nil // asked again soon
	}
	c, err := v.Store.CrossingByID(ctx, f.c.ID)
	if err != nil {
		return nil
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return nil
	}
	list := columnEntries(&c, cat, tables)
	if err := v.Store.Notice(ctx, c.ID, list); err != nil {
		return nil
	}
	v.prove(ctx, &c, cat, tables)
	for _, e := range list {
		if e.Topic == topicAnother && c.Phase != domain.PhaseCuttingOver {
			return domain.Conflict("%s: %s. To %s", e.Subject, e.Measured, e.Remedy)
		}
		if e.Topic != topicNewTable || f.told[e.Subject] {
			continue
		}
		f.told[e.Subject] = true
		if c.Settings.ColumnChanges == "carry" && c.Phase != domain.PhaseCuttingOver {
			if err := v.StartAdd(ctx, &c, e.Subject, System); err == nil {
				continue
			}
		}
		v.Say(ctx, "warning", System, c.Name, e.Subject, "columns", "%s was made on the source, and the patterns of %s choose it; it is not followed. To add it: %s", e.Subject, c.Name, e.Remedy)
	}
	return nil
}
