package voyage

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
)

// objects are all that a crossing makes on its target beside types and sequences.
func (v *Voyage) objects(ctx context.Context, c *domain.Crossing, s *surveyed) ([]records.Object, error) {
	var out []records.Object
	add := func(stage string, o engine.Object) {
		table := o.Table.String()
		if o.Table.Name == "" {
			table = o.Table.Schema
		}
		late := stage == records.StageCarried && o.Kind == "trigger" && c.Kind != domain.KindLoad
		out = append(out, records.Object{Stage: stage, Kind: o.Kind, Name: o.Name, Table: table, Statement: o.SQL, Late: late})
	}
	said := func(stage string, list []string) {
		for i, sql := range list {
			add(stage, engine.Object{Kind: "statement", Name: fmt.Sprintf("%s %d", stage, i+1), SQL: sql})
		}
	}
	here, err := s.dst.Catalog(ctx)
	if err != nil {
		return nil, err
	}
	there := onTarget(s.plans)
	for i := range there {
		p := &there[i]
		if here.Table(p.Target) != nil && p.ExistingRowsPolicy(c.Settings) != "replace" {
			continue
		}
		for n, o := range s.dst.Creates(p) {
			if o.Kind != "table" { // comments and partitions have no name of their own
				o.Name = fmt.Sprintf("%s %d", o.Name, n)
			}
			add(records.StageTable, o)
		}
	}
	plan := c.Planning
	said(records.StageBefore, plan.Before)
	out = append(out, deferred(s.dst, catalogThere(s.catalog, s.plans), s.plans)...)
	said(records.StageAfter, plan.After)
	if len(plan.Carry) > 0 && s.src.Carries != nil {
		extras, err := s.src.Extras(ctx, s.plans, plan.Carry)
		if err != nil {
			return nil, err
		}
		for _, o := range extras {
			add(records.StageCarried, o)
		}
	}
	return out, nil
}

// deferred are the objects that are made after the load of the plans.
func deferred(dst *engine.Opened, cat *domain.Catalog, plans []domain.TablePlan) []records.Object {
	var out []records.Object
	for _, o := range dst.Deferred(cat, onTarget(plans)) {
		out = append(out, records.Object{Stage: records.StageDeferred, Kind: o.Kind, Name: o.Name, Table: o.Table.String(), Statement: o.SQL})
	}
	return out
}

// runs carries out an object's statement and keeps what came of it. An object that was made
// meanwhile, or left out, is not made.
func (v *Voyage) runs(ctx context.Context, o *records.Object, f func() error) error {
	try, err := v.Store.BeginObject(ctx, o.ID)
	if err != nil || try == 0 {
		return err
	}
	began := time.Now()
	err = f()
	if ctx.Err() != nil {
		return ctx.Err() // another process tries again
	}
	state, text := records.ObjectMade, ""
	if err != nil {
		state, text = records.ObjectFailed, err.Error()
	}
	if _, kept := v.Store.EndObject(ctx, o.ID, try, state, text, time.Since(began)); kept != nil {
		return kept
	}
	return err
}

// statements carries out a person's statements of a stage, in their order: the
// first that fails ends it, as later ones may need it. One whose process ended while it ran
// is not run again unasked: it may have taken effect.
func (v *Voyage) statements(ctx context.Context, c *domain.Crossing, dst *engine.Opened, list []records.Object, stage string, note func(string)) error {
	for i := range list {
		o := &list[i]
		if o.Stage != stage || o.State == records.ObjectMade || o.State == records.ObjectLeftOut {
			continue
		}
		if o.State == records.ObjectRunning {
			err := domain.Conflict("it was under way when its process ended, and whether it took effect is not known: look at the target; then leave it out if it did ('dustyferry crossing objects %s --id %d --leave-out'), or give it once more to have it run ('--file')", c.Name, o.ID)
			if _, kept := v.Store.EndObject(ctx, o.ID, o.Try, records.ObjectFailed, err.Error(), 0); kept != nil {
				return kept
			}
			return fmt.Errorf("statement %s: %w", o.Name, err)
		}
		note("running statement " + o.Name)
		ran := o.Statement
		err := v.runs(ctx, o, func() error { return dst.Run(ctx, o.Statement) })
		what, severity := "ran on the target", "info"
		if err != nil {
			what, severity = "failed on the target: "+err.Error(), "error"
		}
		if ctx.Err() == nil {
			v.Record(ctx, domain.JournalEntry{Actor: System, Crossing: c.Name, Subject: o.Name, Act: "build", Severity: severity,
				Message: fmt.Sprintf("statement %s %s", o.Name, what), Detail: ran})
		}
		if err != nil {
			return fmt.Errorf("statement %s: %w", o.Name, err)
		}
	}
	return nil
}

// collisions is how often an object is tried whose making collides with others.
const collisions = 8

// recount writes down what the plans in the records defer.
func (v *Voyage) recount(ctx context.Context, c *domain.Crossing, dst *engine.Opened) ([]records.Object, error) {
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	cat, err := v.Store.CatalogOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if err := v.Store.SaveObjects(ctx, c.ID, deferred(dst, cat, plansOf(tables)), records.Listing{Adds: true}); err != nil {
		return nil, err
	}
	return v.Store.Objects(ctx, c.ID)
}

// build makes what was deferred on the target: one that fails does not keep the
// others from being made. Foreign keys wait for cutover (last) when changes cannot
// be applied past them, and triggers always do.
func (v *Voyage) build(ctx context.Context, c *domain.Crossing, note func(string), last bool) error {
	dst, err := v.Open(ctx, c.Target)
	if err != nil {
		return err
	}
	list, err := v.Store.Objects(ctx, c.ID)
	if err != nil {
		return err
	}
	if len(list) == 0 { // prepared by a version that kept no account of them
		if list, err = v.recount(ctx, c, dst); err != nil {
			return err
		}
	}
	last = last || c.Kind == domain.KindLoad
	early := last || dst.AppliesQuietly(ctx)
	if err := v.Store.SetLate(ctx, c.ID, !early); err != nil {
		return err
	}
	landed, err := v.landedThere(ctx, c)
	if err != nil {
		return err
	}
	var waiting []*records.Object
	for i := range list {
		o := &list[i]
		if o.Stage != records.StageDeferred || o.State == records.ObjectMade || o.State == records.ObjectLeftOut || o.Kind == "foreign" && !early || !landed(o) {
			continue
		}
		waiting = append(waiting, o)
	}
	sizes, err := v.sizesThere(ctx, c)
	if err != nil {
		return err
	}
	n, failed := v.buildAll(ctx, c, dst, waiting, sizes, note)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if len(failed) > 0 {
		return fmt.Errorf("%d of %d objects could not be made; the first: %w ('dustyferry crossing objects %s' lists them)", len(failed), n+len(failed), failed[0], c.Name)
	}
	if n > 0 {
		v.Say(ctx, "info", System, c.Name, "", "build", "%d deferred indexes and constraints stand on the target", n)
	}
	if err := v.statements(ctx, c, dst, list, records.StageAfter, note); err != nil {
		return err
	}
	return v.carry(ctx, c, dst, list, last, note)
}

// landedThere says of what objects are made the rows have landed: others have to wait, as
// those of a table that was added, or began again, in the meantime.
func (v *Voyage) landedThere(ctx context.Context, c *domain.Crossing) (func(*records.Object) bool, error) {
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	loading := map[string]bool{}
	for i := range tables {
		if t := &tables[i]; t.ChunksLanded < t.Chunks || t.State == domain.TablePlanned || t.State == domain.TableLoading {
			loading[t.TargetName] = true
		}
	}
	return func(o *records.Object) bool { return !loading[o.Table] && (o.Kind != "foreign" || len(loading) == 0) }, nil
}

// carry makes views, routines and, last, triggers. Some need others: what fails is
// tried again as long as any other could be made. What cannot be made is told, and
// stops nothing.
func (v *Voyage) carry(ctx context.Context, c *domain.Crossing, dst *engine.Opened, list []records.Object, last bool, note func(string)) error {
	var waiting []*records.Object
	for i := range list {
		o := &list[i]
		if o.Stage == records.StageCarried && o.State != records.ObjectMade && o.State != records.ObjectLeftOut && (o.Kind != "trigger" || last) {
			waiting = append(waiting, o)
		}
	}
	made := 0
	for len(waiting) > 0 {
		var left []*records.Object
		for _, o := range waiting {
			note(fmt.Sprintf("making %s %s", o.Kind, o.Name))
			if err := v.runs(ctx, o, func() error { return dst.Run(ctx, o.Statement) }); err != nil {
				if ctx.Err() != nil {
					return err
				}
				o.Error = err.Error()
				left = append(left, o)
				continue
			}
			made++
		}
		if len(left) == len(waiting) {
			for _, o := range left {
				v.Say(ctx, "warning", System, c.Name, o.Name, "build", "%s %s could not be made on the target: %s", o.Kind, o.Name, o.Error)
			}
			break
		}
		waiting = left
	}
	if made > 0 {
		v.Say(ctx, "info", System, c.Name, "", "build", "%d views, routines and triggers stand on the target", made)
	}
	return nil
}

// ChangeObject writes an object's statement by hand.
func (v *Voyage) ChangeObject(ctx context.Context, c *domain.Crossing, id int64, statement, actor string) (records.Object, error) {
	statement = strings.TrimSpace(statement)
	o, err := v.Store.ObjectOf(ctx, c.ID, id)
	if err != nil {
		return o, err
	}
	if err := v.Store.RewriteObject(ctx, c.ID, id, statement); err != nil {
		return o, err
	}
	if statement == "" {
		v.Record(ctx, domain.JournalEntry{Actor: actor, Crossing: c.Name, Subject: o.Table, Act: "change", Severity: "warning",
			Message: fmt.Sprintf("%s leaves out %s %s", actor, o.Kind, o.Name), Detail: o.Statement})
	} else {
		v.Record(ctx, domain.JournalEntry{Actor: actor, Crossing: c.Name, Subject: o.Table, Act: "change", Severity: "warning",
			Message: fmt.Sprintf("%s wrote %s %s by hand", actor, o.Kind, o.Name), Detail: o.Statement + "\n→\n" + statement})
	}
	return v.Store.ObjectOf(ctx, c.ID, id)
}

// extraEntries tell what a source has beside tables, and what becomes of it.
func extraEntries(ctx context.Context, c *domain.Crossing, s *surveyed, alike bool) ([]domain.Entry, error) {
	if s.src.Carries == nil {
		return nil, nil // it has none
	}
	all := []domain.Carried{domain.CarryViews, domain.CarryRoutines, domain.CarryTriggers}
	list, err := s.src.Extras(ctx, s.plans, all)
	if err != nil {
		return []domain.Entry{{Verdict: domain.Notice, Topic: "views, routines, triggers", Subject: "source", Measured: "they could not be listed: " + err.Error()}}, nil
	}
	group := map[domain.Carried][]string{}
	for _, o := range list {
		kind := domain.CarryRoutines
		switch {
		case strings.HasSuffix(o.Kind, "view"):
			kind = domain.CarryViews
		case o.Kind == "trigger":
			kind = domain.CarryTriggers
		}
		group[kind] = append(group[kind], o.Name)
	}
	var out []domain.Entry
	for _, kind := range all {
		names := group[kind]
		if len(names) == 0 {
			continue
		}
		text := fmt.Sprintf("%s: %s", counted(len(names), strings.TrimSuffix(string(kind), "s"), string(kind)), strings.Join(names[:min(len(names), 12)], ", "))
		if len(names) > 12 {
			text += fmt.Sprintf(" and %d more", len(names)-12)
		}
		e := domain.Entry{Verdict: domain.Notice, Topic: string(kind), Subject: "source", Measured: text + "; they are not made on the target"}
		wanted := false
		for _, k := range c.Planning.Carry {
			wanted = wanted || k == kind
		}
		switch {
		case wanted && alike:
			e.Verdict, e.Measured = domain.OK, text+"; they are made on the target after the load"
			if kind == domain.CarryTriggers && c.Kind != domain.KindLoad {
				e.Measured = text + "; they are made on the target at cutover, so that none acts on what the source's already did"
			}
		case !alike:
			e.Remedy = "write them anew for the target"
		default:
			e.Remedy = "carry: [" + string(kind) + "]"
		}
		out = append(out, e)
	}
	return out, nil
}

// byHandEntries tell of statements written for objects that a table does not have.
func byHandEntries(s *surveyed) []domain.Entry {
	var out []domain.Entry
	there := onTarget(s.plans)
	var names map[domain.TableName][]string
	for i := range there {
		p := &there[i]
		if len(p.Statements) == 0 {
			continue
		}
		if names == nil {
			names = map[domain.TableName][]string{}
			bare := slices.Clone(there)
			for n := range bare {
				bare[n].Statements = nil
			}
			for n := range bare {
				for _, o := range s.dst.Creates(&bare[n]) {
					names[o.Table] = append(names[o.Table], o.What())
				}
			}
			for _, o := range s.dst.Deferred(catalogThere(s.catalog, s.plans), bare) {
				names[o.Table] = append(names[o.Table], o.What())
			}
		}
		for _, what := range slices.Sorted(maps.Keys(p.Statements)) {
			if !slices.Contains(names[p.Target], what) {
				out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "statement by hand", Subject: s.plans[i].Source.String(), Remedy: "name one of them, or take it away",
					Measured: fmt.Sprintf("%q is none of its objects, which are: %s", what, strings.Join(names[p.Target], ", "))})
			}
		}
	}
	return out
}
