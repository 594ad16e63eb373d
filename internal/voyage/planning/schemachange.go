package planning

import (
	"context"
	"dustyferry/internal/core/columns"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"fmt"
	"slices"
	"strings"
)

// SchemaChange is what a change of a table's columns means for a crossing.
type SchemaChange struct {
	Plan    domain.TablePlan // as it will be
	Changes []columns.Change // on the source
	Doubts  []string         // why they cannot be carried over with certainty
	Todo    []string         // statements that are still to run on the target
	Drops   bool             // all of them only drop what may as well stay
	Moved   bool             // columns have other places
	Lost    bool             // and the log, which goes by places, does not say which
	Other   []string         // what else of its definition is not as it was, where the log tells of definitions
}

// Hold says why the crossing waits, with the statements that would mend the target.
func (a *SchemaChange) Hold(c *domain.Crossing, name string) error {
	text := fmt.Sprintf("the columns of %s changed on the source: %s", name, columns.Words(a.Changes))
	run := strings.Join(a.Todo, "; ")
	if len(a.Doubts) > 0 {
		return domain.Conflict("%s. It cannot be carried over for certain: %s. Either give the target's table the same "+
			"columns, and the same values in them (%s), and resume; or restart the table: dustyferry crossing restart "+
			"%s --table %s",
			text, strings.Join(a.Doubts, "; "), run, c.Name, name)
	}
	return domain.Conflict("%s. Run on the target: %s; then resume. Or let it be carried over: dustyferry crossing set "+
		"%s --column-changes carry, and resume", text, run, c.Name)
}

// PlanSchemaChange holds a table's plan against what the source says of it now.
func (pl *Planning) PlanSchemaChange(ctx context.Context, c *domain.Crossing, src, dst *engine.Opened,
	plans []domain.TablePlan, was *domain.TablePlan, ch *domain.Change, at domain.Position) (*SchemaChange, error) {
	cat, err := pl.databases.Catalog(ctx, c.Source, true)
	if err != nil {
		return nil, err
	}
	now := cat.Table(was.Source)
	if now == nil {
		return nil, domain.Conflict("%s is no longer on the source (%s); leave it out to go on: dustyferry crossing "+
			"leave-out %s %s", was.Source, ch.Note, c.Name, was.Source)
	}
	unknown := false
	if ch.Columns != nil {
		if then := columns.AsLogged(&was.Table, now, ch.Columns); then != nil {
			now = then
		} else {
			unknown = true
		}
	}
	draw, err := pl.planner(ctx, c, src, cat)
	if err != nil {
		return nil, err
	}
	from := typemap.DialectOf(draw.way.From)
	last := false
	if ch.Statement != "" {
		if last, err = src.IsLastDDL(ctx, was.Source, at); err != nil {
			return nil, err
		}
	}
	a := &SchemaChange{Changes: columns.Between(&was.Table, now, ch.Statement), Moved: columns.Moved(&was.Table, now)}
	if places := a.Moved || !last && columns.Moves(ch.Statement); places && from.LogsByPlace &&
		(!last || columns.Renames(ch.Statement)) {
		a.Moved, a.Lost = true, true
	}
	again := at.IsZero() && from.LogsByPlace // a table that begins again
	if again || ch.Statement != "" {
		a.Other = columns.Others(&was.Table, now)
	}
	if len(a.Changes) == 0 && !a.Moved && (!again || len(a.Other) == 0) {
		return a, nil
	}
	bare, err := src.Plan(now)
	if err != nil {
		return nil, err
	}
	if a.Plan, _, _, err = draw.shape(ctx, bare); err != nil {
		return nil, err
	}
	all := []domain.TablePlan{a.Plan}
	for _, o := range plans {
		if o.Source != was.Source {
			all = append(all, o)
		}
	}
	draw.way.RemapForeignKeys(all)
	a.Plan = all[0]
	a.Plan.Target, a.Plan.After, a.Plan.SingleChunk = was.Target, was.After, was.SingleChunk
	a.Plan.ReadOrder = was.ReadOrder
	if a.Plan.TargetSide != nil {
		a.Plan.TargetSide.ReadOrder = was.ReadOrder
	}

	change := columns.Source{Engine: draw.way.From, Statement: ch.Statement, Last: last,
		Rewritten: from.TellsRewrites && (was.Table.Written == "" || was.Table.Written != now.Written)}
	if unknown {
		a.doubt("its columns have changed more than once, and what the log holds is not what they are now")
	}
	if a.Lost {
		a.doubt("columns change their places, and the log of this server names rows' values by place only")
	}
	if len(a.Plan.Key) != len(was.Key) {
		a.doubt("the key by which rows are found is another one")
	}
	target, err := pl.databases.Catalog(ctx, c.Target, true)
	if err != nil {
		return nil, err
	}
	side := a.Plan.TargetPlan()
	stands := target.Table(side.Target)
	if stands == nil {
		return nil, domain.Conflict("the target has no table %s any more; restart the table: dustyferry crossing restart "+
			"%s --table %s", side.Target, c.Name, was.Source)
	}
	a.alter(dst, draw.way, change, was, &side, stands)
	if again && typemap.DialectOf(draw.way.To).Recollates {
		a.recollate(dst, &side, stands)
	}
	return a, nil
}

// doubt adds a reason why the change cannot be carried over with certainty.
func (a *SchemaChange) doubt(format string, args ...any) {
	a.Doubts = append(a.Doubts, fmt.Sprintf(format, args...))
}

// alter finds the statements that bring the target's table to the changed columns, and what is
// not certain about them.
func (a *SchemaChange) alter(dst *engine.Opened, way typemap.Mapping, from columns.Source, was, side *domain.TablePlan,
	stands *domain.Table) {
	a.Drops = true
	for _, k := range a.Changes {
		if value, ok := columns.Constant(k.Now); ok && from.Last && k.Kind == columns.Added {
			k.Now.Fill = &value
		}
		there, carried := targetChange(was, &a.Plan, k)
		if !carried || alreadyAltered(there, stands) {
			continue
		}
		if reason := from.Unsafe(k, was.Key); reason != "" {
			a.doubt("%s", reason)
		} else if k.Kind == columns.Added && a.Plan.CrossEngine && (k.Now.Fill != nil || k.Now.NotNull) {
			there.Now.Fill = nil
			if i := slices.IndexFunc(a.Plan.Columns, func(c domain.Column) bool { return c.Name == k.Now.Name }); i >= 0 &&
				k.Now.Fill != nil {
				there.Now.Fill = way.Told(a.Plan.Columns[i], there.Now, *k.Now.Fill, a.Plan.Runtime)
			}
			if there.Now.Fill == nil {
				a.doubt("rows that were there have a value in column %s, which is not known in the target's form", k.Now.Name)
			}
		}
		if k.Kind != columns.Dropped || needed(stands.Column(there.Was.Name)) {
			a.Drops = false
		}
		a.Todo = append(a.Todo, dst.Alters(side, []columns.Change{there})...)
	}
}

// recollate finds the statements that give a table that begins again the character sets and
// collations of its plan.
func (a *SchemaChange) recollate(dst *engine.Opened, side *domain.TablePlan, stands *domain.Table) {
	for _, now := range side.Columns {
		is := stands.Column(now.Name)
		if is != nil && is.Type == now.Type && (is.Charset != now.Charset || is.Collation != now.Collation) {
			a.Todo = append(a.Todo, dst.Alters(side, []columns.Change{{Kind: columns.Retyped, Was: *is, Now: now}})...)
		}
	}
	if c := side.Table.Collation; c != "" && stands.Collation != "" && c != stands.Collation {
		a.Todo = append(a.Todo, dst.Alters(side, []columns.Change{{Kind: columns.Recollated,
			Now: domain.Column{Collation: c}}})...)
	}
}

// needed reports whether a new row must give the column a value.
func needed(c *domain.Column) bool {
	return c != nil && c.NotNull && c.Default == "" && c.Identity == "" && c.Computed == ""
}

// targetChange is a change as the target sees it; it is not carried where the table's
// rows travel without that column, or where nothing changes there.
func targetChange(was, is *domain.TablePlan, k columns.Change) (columns.Change, bool) {
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

// alreadyAltered reports whether a table of the target is altered so already.
func alreadyAltered(k columns.Change, t *domain.Table) bool {
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
