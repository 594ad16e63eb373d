// Package turned turns plans around: from the tables that a crossing fills to those that it reads, for
// the way back after its cutover.
package turned

import (
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// Topic is what surveys and readiness lists file the way back under.
const Topic = "return path"

// Choice returns the patterns and rules of a crossing that brings changes of the plans' targets back.
func Choice(plans []domain.TablePlan) (patterns []string, rules []domain.Rule) {
	for i := range plans {
		p, there := &plans[i], plans[i].TargetPlan()
		patterns = append(patterns, there.Target.String())
		r := domain.Rule{Tables: there.Target.String(), Schema: p.Source.Schema, Name: p.Source.Name}
		if r.Name == there.Target.Name {
			r.Name = ""
		}
		if r.Schema == there.Target.Schema {
			r.Schema = ""
		}
		columns := map[string]domain.ColumnRule{}
		for here, far := range pairs(p) {
			switch {
			case computed(here) && !computed(far):
				columns[far.Name] = domain.ColumnRule{LeaveOut: true}
			case here.Name != far.Name:
				columns[far.Name] = domain.ColumnRule{Name: here.Name}
			}
		}
		for _, c := range there.Added {
			columns[c.Name] = domain.ColumnRule{LeaveOut: true}
		}
		if len(columns) > 0 {
			r.Columns = columns
		}
		if !r.Empty() {
			rules = append(rules, r)
		}
	}
	return patterns, rules
}

// pairs gives each carried column with what it is on the target.
func pairs(p *domain.TablePlan) func(yield func(here, there domain.Column) bool) {
	return func(yield func(here, there domain.Column) bool) {
		far := p.TargetColumns()
		for i, c := range p.CopiedColumns() {
			if i < len(far) && !yield(c, far[i]) {
				return
			}
		}
	}
}

// computed reports whether a server computes a column's values.
func computed(c domain.Column) bool { return c.Generated || c.Computed != "" }

// Exact says of each table whether what is written to its target can be brought back as it is. way is
// the mapping of the way back.
func Exact(plans []domain.TablePlan, way typemap.Mapping) []domain.Entry {
	var out []domain.Entry
	exact := 0
	for i := range plans {
		p := &plans[i]
		blocks, tells := judged(p, way)
		add := func(v domain.Verdict, list []string, remedy string) {
			if len(list) > 0 {
				out = append(out, domain.Entry{Verdict: v, Topic: Topic, Subject: p.Source.String(),
					Measured: "the way back: " + strings.Join(list, "; "), Remedy: remedy})
			}
		}
		add(domain.Blocker, blocks, "do without a return path (return_path: none), or carry the column as it is")
		add(domain.Notice, tells, "")
		if len(blocks)+len(tells) == 0 {
			exact++
		}
	}
	if exact > 0 {
		out = append(out, domain.Entry{Verdict: domain.OK, Topic: Topic, Subject: "tables", Measured: fmt.Sprintf(
			"changes of %s of %d can be brought back exactly", domain.Many(int64(exact), "table"), len(plans))})
	}
	return out
}

// judged says what of a plan cannot be brought back, and what not exactly.
func judged(p *domain.TablePlan, way typemap.Mapping) (blocks, tells []string) {
	var narrow []string
	for here, far := range pairs(p) {
		switch {
		case here.Mask != "":
			blocks = append(blocks, fmt.Sprintf("column %s is masked, and hashes would take the place of its values", here.Name))
			continue
		case here.Cut:
			blocks = append(blocks, fmt.Sprintf("column %s is cut, and what is cut would take the place of whole values",
				here.Name))
			continue
		case computed(here):
			continue
		}
		if v, note := way.Back(far, here); v == typemap.Impossible {
			blocks = append(blocks, fmt.Sprintf("%s is %s there and %s here: %s", here.Name, far.Type, here.Type, note))
		} else if v == typemap.Lossy {
			narrow = append(narrow, fmt.Sprintf("%s (%s, here %s)", here.Name, far.Type, here.Type))
		}
	}
	if len(narrow) > 0 {
		tells = append(tells, "not every value that is new there fits here, and what does not holds the way back: "+
			strings.Join(narrow, ", "))
	}
	var left []string
	for _, c := range p.Table.Columns {
		if !slices.ContainsFunc(p.Columns, func(k domain.Column) bool { return k.Name == c.Name }) && !computed(c) {
			left = append(left, c.Name)
		}
	}
	if len(left) > 0 {
		tells = append(tells, "not carried: "+strings.Join(left, ", ")+
			"; rows that are made there have only defaults in it here")
	}
	if side := p.TargetPlan(); len(side.Added) > 0 {
		tells = append(tells, domain.Counted(len(side.Added), "column", "columns")+
			" that only the target has are not brought back")
	}
	return blocks, tells
}
