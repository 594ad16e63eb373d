package planning

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Objects are all that a crossing makes on its target beside types and sequences.
func (pl *Planning) Objects(ctx context.Context, c *domain.Crossing, s *Surveyed) ([]domain.TargetObject, error) {
	var out []domain.TargetObject
	add := func(stage string, o engine.Object) {
		table := o.Table.String()
		if o.Table.Name == "" {
			table = o.Table.Schema
		}
		late := stage == domain.StageCarried && o.Kind == "trigger" && c.Kind != domain.KindLoad
		out = append(out, domain.TargetObject{Stage: stage, Kind: o.Kind, Name: o.Name, Table: table, Statement: o.SQL,
			Late: late})
	}
	said := func(stage string, list []string) {
		for i, sql := range list {
			add(stage, engine.Object{Kind: "statement", Name: fmt.Sprintf("%s %d", stage, i+1), SQL: sql})
		}
	}
	here, err := s.Target.Catalog(ctx)
	if err != nil {
		return nil, err
	}
	there := OnTarget(s.Plans)
	for i := range there {
		p := &there[i]
		if here.Table(p.Target) != nil && p.ExistingRowsPolicy(c.Settings) != "replace" {
			continue
		}
		for n, o := range s.Target.Creates(p) {
			if o.Kind != "table" { // comments and partitions have no name of their own
				o.Name = fmt.Sprintf("%s %d", o.Name, n)
			}
			add(domain.StageTable, o)
		}
	}
	plan := c.Planning
	said(domain.StageBefore, plan.Before)
	out = append(out, Deferred(s.Target, CatalogOnTarget(s.Catalog, s.Plans), s.Plans)...)
	said(domain.StageAfter, plan.After)
	if len(plan.Carry) > 0 && s.Source.Carries != nil {
		extras, err := s.Source.Extras(ctx, s.Plans, plan.Carry)
		if err != nil {
			return nil, err
		}
		for _, o := range extras {
			add(domain.StageCarried, o)
		}
	}
	return out, nil
}

// Deferred are the objects that are made after the load of the plans.
func Deferred(dst *engine.Opened, cat *domain.Catalog, plans []domain.TablePlan) []domain.TargetObject {
	var out []domain.TargetObject
	for _, o := range dst.Deferred(cat, OnTarget(plans)) {
		out = append(out, domain.TargetObject{Stage: domain.StageDeferred, Kind: o.Kind, Name: o.Name,
			Table: o.Table.String(), Statement: o.SQL})
	}
	return out
}

// extraEntries tell what a source has beside tables, and what becomes of it.
func extraEntries(ctx context.Context, c *domain.Crossing, s *Surveyed, alike bool) ([]domain.Entry, error) {
	if s.Source.Carries == nil {
		return nil, nil // it has none
	}
	all := []domain.Carried{domain.CarryViews, domain.CarryRoutines, domain.CarryTriggers}
	list, err := s.Source.Extras(ctx, s.Plans, all)
	if engine.Away(err) || ctx.Err() != nil {
		return nil, err // what a source that is away has is not known yet
	}
	if err != nil {
		return []domain.Entry{{Verdict: domain.Notice, Topic: "views, routines, triggers", Subject: "source",
			Measured: "they could not be listed: " + err.Error()}}, nil
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
		text := fmt.Sprintf("%s: %s", domain.Counted(len(names), strings.TrimSuffix(string(kind), "s"), string(kind)),
			strings.Join(names[:min(len(names), 12)], ", "))
		if len(names) > 12 {
			text += fmt.Sprintf(" and %d more", len(names)-12)
		}
		e := domain.Entry{Verdict: domain.Notice, Topic: string(kind), Subject: "source",
			Measured: text + "; they are not made on the target"}
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
func byHandEntries(s *Surveyed) []domain.Entry {
	var out []domain.Entry
	there := OnTarget(s.Plans)
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
				for _, o := range s.Target.Creates(&bare[n]) {
					names[o.Table] = append(names[o.Table], o.What())
				}
			}
			for _, o := range s.Target.Deferred(CatalogOnTarget(s.Catalog, s.Plans), bare) {
				names[o.Table] = append(names[o.Table], o.What())
			}
		}
		for _, what := range slices.Sorted(maps.Keys(p.Statements)) {
			if !slices.Contains(names[p.Target], what) {
				out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "statement by hand",
					Subject: s.Plans[i].Source.String(), Remedy: "name one of them, or take it away",
					Measured: fmt.Sprintf("%q is none of its objects, which are: %s", what, strings.Join(names[p.Target], ", "))})
			}
		}
	}
	return out
}
