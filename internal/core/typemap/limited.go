package typemap

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"dustyferry/internal/domain"
)

// Limits that a person sets to the length of values.

// spread puts what a rule says of any column in place of the columns it is for: those
// whose values can be of any length, that have no limit of their own, and that rows are
// not found by.
func spread(p *domain.TablePlan, r *domain.Rule) error {
	any, ok := r.Columns[domain.AnyColumn]
	if ok {
		r.Columns = maps.Clone(r.Columns)
		delete(r.Columns, domain.AnyColumn)
		for _, c := range p.Columns {
			own := r.Columns[c.Name]
			if unbounded(c) && !c.Generated && !own.LeaveOut && own.Mask == "" && own.Longest == 0 &&
				!slices.Contains(p.Key, c.Name) {
				own.Longest, own.Cut = any.Longest, any.Cut && cuttable(c)
				r.Columns[c.Name] = own
			}
		}
	}
	for _, c := range p.Columns {
		switch own := r.Columns[c.Name]; {
		case own.Longest == 0:
		case slices.Contains(p.Key, c.Name):
			return domain.Invalid("column %s of %s cannot have a longest value: it is part of the key by which rows are found",
				c.Name, p.Source)
		case own.Mask != "":
			return domain.Invalid("column %s of %s is masked; a longest value says nothing of it", c.Name, p.Source)
		case own.Cut && !cuttable(c):
			return domain.Invalid("values of column %s of %s, %s, cannot be cut: a part of one means something else; leave "+
				"cut away, and longer values are refused", c.Name, p.Source, c.Type)
		}
	}
	return nil
}

// cuttable reports whether a part of a value is a value too.
func cuttable(c domain.Column) bool {
	return isText(c.BaseType) || c.BaseType == "bytea" || IsBytes(c.BaseType) && !IsGeometry(c.BaseType)
}

// unbounded reports whether nothing in a column's type keeps its values short.
func unbounded(c domain.Column) bool {
	switch c.BaseType {
	case "text", "bytea", "json", "jsonb", "xml", "mediumtext", "longtext", "blob", "mediumblob", "longblob":
		return true
	case "character varying":
		return !strings.Contains(c.Type, "(")
	}
	return false
}

// limited refuses or cuts values that are longer than their column's limit. Texts are
// cut between characters.
func limited(from string, c domain.Column, f Convert, rt *domain.Runtime) Convert {
	hexed := from == Postgres && c.BaseType == "bytea" // \x and two digits a byte
	raw := IsBytes(c.BaseType)
	return func(dst, v []byte) ([]byte, bool, error) {
		n := int64(len(v))
		if hexed {
			n = (n - 2) / 2
		}
		if n <= c.Longest {
			return f(dst, v)
		}
		if !c.Cut {
			return dst, false, fmt.Errorf("it has %d bytes, more than the %d that a rule allows", n, c.Longest)
		}
		if rt != nil && rt.Truncated != nil {
			rt.Truncated()
		}
		keep := c.Longest
		if hexed {
			keep = 2 + 2*keep
		} else if !raw {
			for keep > 0 && !utf8.RuneStart(v[keep]) {
				keep--
			}
		}
		return f(dst, v[:keep])
	}
}
