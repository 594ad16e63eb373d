package typemap

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// Columns whose values are not the source's own.

// replaced reports whether a column's values are not the source's own.
func replaced(c domain.Column) bool { return c.Mask != "" || c.Expression != "" || c.Longest > 0 }

// asTexts lets rows travel as texts, also between databases of one engine.
func asTexts(p *domain.TablePlan) {
	for _, side := range []*domain.TablePlan{p, p.TargetSide} {
		side.CrossEngine, side.Binary = true, false
	}
}

// replace marks the columns whose values are not the source's own, and takes out
// what could not hold for them, which it names.
func replace(p *domain.TablePlan, r domain.Rule) (left []string, err error) {
	changed := map[string]bool{}
	p.Columns = slices.Clone(p.Columns)
	for i := range p.Columns {
		p.Columns[i].Longest, p.Columns[i].Cut = r.Columns[p.Columns[i].Name].Longest, r.Columns[p.Columns[i].Name].Cut
	}
	for name, k := range r.Columns {
		changed[name] = k.Mask != "" || k.Expression != ""
	}
	if !slices.Contains(slices.Collect(maps.Values(changed)), true) {
		return nil, nil
	}
	for i := range p.Columns {
		c := &p.Columns[i]
		if !changed[c.Name] {
			continue
		}
		if slices.Contains(p.Key, c.Name) {
			return nil, domain.Invalid("column %s of %s cannot be masked or computed: it is part of the key by which "+
				"rows are found", c.Name, p.Source)
		}
		if c.Generated {
			return nil, domain.Invalid("column %s of %s is computed by the source itself; leave it out, and add one of "+
				"another name", c.Name, p.Source)
		}
		c.Mask = r.Columns[c.Name].Mask
		c.Default, c.Identity = "", ""
	}
	for _, c := range p.Columns {
		if c.Generated || c.Computed != "" { // it could tell what is to be hidden
			return nil, domain.Invalid("columns of %s cannot be masked or computed while it has column %s, which the server "+
				"computes from others: leave that out", p.Source, c.Name)
		}
	}
	p.Table.Constraints = slices.DeleteFunc(slices.Clone(p.Table.Constraints), func(k domain.Constraint) bool {
		of := slices.ContainsFunc(k.Columns, func(n string) bool { return changed[n] })
		if k.Kind != "check" && k.Kind != "foreign" && k.Kind != "exclude" || !of && k.Columns != nil {
			return false
		}
		left = append(left, fmt.Sprintf("%s constraint %s (of a column whose values are replaced)", k.Kind, k.Name))
		return true
	})
	return left, nil
}

// masks checks that masked columns can be, and tells of them.
func (w Mapping) masks(p *domain.TablePlan) ([]Noted, error) {
	var notes []Noted
	there := p.TargetColumns()
	for i, c := range p.CopiedColumns() {
		if c.Mask == "" {
			continue
		}
		_, room, ok := maskOf(there[i])
		if !ok {
			return nil, domain.Invalid("column %s of %s becomes %s, which cannot hold a hash; give it a text type of at most "+
				"64 characters or a whole number's, or leave it out", c.Name, p.Source, there[i].Type)
		}
		note := "masked by the key " + c.Mask + ": equal values stay equal, and nothing leads back"
		if room > 0 && room < 16 {
			note += fmt.Sprintf("; with room for %d characters only, different values can become equal", room)
		}
		notes = append(notes, Noted{c.Name, c.Type, there[i].Type, Masked, note})
	}
	return notes, nil
}

// add gives the target's table the columns that only it has.
func (w Mapping) add(p *domain.TablePlan, r domain.Rule) error {
	for _, name := range slices.Sorted(maps.Keys(r.Columns)) {
		k := r.Columns[name]
		if k.Value == nil {
			continue
		}
		side := p.TargetSide
		if slices.ContainsFunc(side.Columns, func(c domain.Column) bool { return c.Name == name }) {
			return domain.Invalid("a rule adds column %s to %s, but there is a column of that name", name, p.Source)
		}
		c := domain.Column{Name: name, Type: spelled(w.To, cmp.Or(k.Type, "varchar(255)")), NotNull: true,
			Default: "'" + strings.ReplaceAll(*k.Value, "'", "''") + "'"}
		c.BaseType = baseOf(c.Type)
		if w.To == MariaDB {
			c.Default = strings.ReplaceAll(c.Default, `\`, `\\`)
		}
		side.Added = append(side.Added, c)
	}
	return nil
}
