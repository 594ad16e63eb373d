package domain

import (
	"slices"
	"strings"
)

// SequencesOf returns the sequences that chosen tables need: those they own,
// those their defaults name, and those that stand by themselves in a schema of
// theirs.
func (c *Catalog) SequencesOf(plans []TablePlan) []Sequence {
	var out []Sequence
	for _, q := range c.Sequences {
		mine := slices.ContainsFunc(plans, func(p TablePlan) bool {
			if q.OwnedBy.Name != "" {
				return p.Source == q.OwnedBy
			}
			return p.Source.Schema == q.Name.Schema || slices.ContainsFunc(p.Columns, func(col Column) bool {
				return strings.Contains(col.Default, q.Name.Name)
			})
		})
		if mine {
			out = append(out, q)
		}
	}
	return out
}

// TypesOf returns the user-defined types that chosen tables may need: those of
// their schemas and those their columns name, in the catalog's order.
func (c *Catalog) TypesOf(plans []TablePlan) []UserType {
	var out []UserType
	for _, t := range c.Types {
		if slices.ContainsFunc(plans, func(p TablePlan) bool {
			return p.Source.Schema == t.Name.Schema || slices.ContainsFunc(p.Columns, func(col Column) bool {
				return strings.Contains(col.Type, t.Name.Name)
			})
		}) {
			out = append(out, t)
		}
	}
	return out
}
