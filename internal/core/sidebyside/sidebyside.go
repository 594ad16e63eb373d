// Package sidebyside says what becomes of a column on its way: what it is on the source, what
// it will be on the target, or is there, and what keeps it from it.
package sidebyside

import (
	"slices"
	"strings"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// Table is a table on both sides.
type Table struct {
	Plan    domain.TablePlan
	LeftOut []string        // columns that a rule leaves out
	Noted   []typemap.Noted // what becomes of columns whose type is another there
	Target  *domain.Table   // as it stands on the target; nil when it will be made
}

// Column is a column on both sides.
type Column struct {
	Name       string
	SourceType string
	Nullable   bool
	Key        int    // its place in the key, from 1; 0: it is none of it
	TargetName string // empty: it is not there
	TargetType string
	Mapping    string // a verdict of typemap; empty: it is left out
	Carried    bool
	Blocks     bool // what is there does not take it
	Note       string
}

// Of looks at one column.
func Of(k domain.Column, t *Table) Column {
	x := Column{Name: k.Name, SourceType: k.Type, Nullable: !k.NotNull, Key: slices.Index(t.Plan.Key, k.Name) + 1}
	if slices.Contains(t.LeftOut, k.Name) {
		x.Note = "a rule leaves it out"
		return x
	}
	x.TargetName, x.TargetType, x.Mapping = k.Name, k.Type, string(typemap.Exact)
	want := k
	if at := slices.IndexFunc(t.Plan.CopiedColumns(), func(c domain.Column) bool { return c.Name == k.Name }); at >= 0 {
		x.Carried = true
		want = t.Plan.TargetColumns()[at]
		x.TargetName, x.TargetType = want.Name, want.Type
	} else if t.Plan.CrossEngine {
		x.TargetName, x.TargetType, x.Mapping = "", "", string(typemap.Impossible)
		x.Note = "computed on the source: it is not carried"
		return x
	}
	var notes []string
	for _, n := range t.Noted {
		if n.Column == k.Name {
			x.Mapping = string(n.Verdict)
			if n.Note != "" {
				notes = append(notes, n.Note)
			}
		}
	}
	switch {
	case k.Generated:
		notes = append(notes, "computed by the target: "+k.Default)
	case want.Generated:
		x.Carried = false
		notes = append(notes, "computed by the target: "+k.Computed)
	case want.Identity != "":
		notes = append(notes, "numbered by the target")
	case want.Default != "":
		notes = append(notes, "default "+want.Default)
	}
	if problem := x.meets(k, want, t); problem != "" {
		x.Blocks, notes = true, []string{problem}
	}
	x.Note = strings.Join(notes, "; ")
	return x
}

// meets compares what is wanted with a table that stands, and says what is in the way.
func (x *Column) meets(k, want domain.Column, t *Table) string {
	if t.Target == nil {
		return ""
	}
	switch there := t.Target.Column(want.Name); {
	case there == nil:
		x.TargetType = ""
		return "the target's table has no such column"
	case there.Type != want.Type && !t.Plan.CrossEngine:
		x.TargetType = there.Type
		return "the target's column has another type"
	case there.NotNull && !k.NotNull:
		return "the target's column does not take NULL"
	}
	return ""
}
