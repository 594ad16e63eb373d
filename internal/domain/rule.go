package domain

import (
	"maps"
	"slices"
	"strings"
)

// Rule changes the plans of the tables it matches. Of several that match, a later
// one wins, attribute by attribute.
type Rule struct {
	Tables  string                `json:"tables" yaml:"tables" jsonschema:"required,description=Pattern over schema.table of the source\\, with *"`                               // pattern over schema.table of the source
	Schema  string                `json:"schema,omitempty" yaml:"schema,omitempty" jsonschema:"description=Schema on a PostgreSQL target"`                                        // schema on the target
	Name    string                `json:"name,omitempty" yaml:"name,omitempty" jsonschema:"description=Table name on the target; * stands for its own"`                           // table name on the target; * stands for its own
	Where   string                `json:"where,omitempty" yaml:"where,omitempty" jsonschema:"description=Condition in the source's SQL: only these rows; crossings of kind load"` // condition in the source's SQL: only these rows
	Columns map[string]ColumnRule `json:"columns,omitempty" yaml:"columns,omitempty" jsonschema:"description=By the source's column name"`                                        // by the source's column name
}

// ColumnRule changes one column of a plan.
type ColumnRule struct {
	Name     string `json:"name,omitempty" yaml:"name,omitempty" jsonschema:"description=On the target"`                     // on the target
	Type     string `json:"type,omitempty" yaml:"type,omitempty" jsonschema:"description=On the target\\, in its own words"` // on the target, in its own words
	LeaveOut bool   `json:"leave_out,omitempty" yaml:"leave_out,omitempty"`
}

// Matches reports whether the rule is for a table.
func (r Rule) Matches(t TableName) bool { return wildcard(r.Tables, t.String()) }

// RuleFor folds the rules that match a table into one.
func RuleFor(rules []Rule, t TableName) Rule {
	out := Rule{Tables: t.String(), Columns: map[string]ColumnRule{}}
	for _, r := range rules {
		if !r.Matches(t) {
			continue
		}
		if r.Schema != "" {
			out.Schema = r.Schema
		}
		if r.Name != "" {
			out.Name = r.Name
		}
		if r.Where != "" {
			out.Where = r.Where
		}
		for name, c := range r.Columns {
			k := out.Columns[name]
			if c.Name != "" {
				k.Name = c.Name
			}
			if c.Type != "" {
				k.Type = c.Type
			}
			k.LeaveOut = c.LeaveOut || k.LeaveOut && c == (ColumnRule{})
			out.Columns[name] = k
		}
	}
	return out
}

// Empty reports whether the rule changes nothing.
func (r Rule) Empty() bool {
	return r.Schema == "" && r.Name == "" && r.Where == "" && len(r.Columns) == 0
}

// Target is the name that the rule gives a table.
func (r Rule) Target(t TableName) TableName {
	if r.Schema != "" {
		t.Schema = r.Schema
	}
	if r.Name != "" {
		t.Name = strings.ReplaceAll(r.Name, "*", t.Name)
	}
	return t
}

// ValidRules says what is wrong with rules, or nil.
func ValidRules(rules []Rule) error {
	for i, r := range rules {
		n := i + 1
		if err := ValidPatterns([]string{r.Tables}); err != nil || strings.HasPrefix(r.Tables, "-") {
			return Invalid("rule %d: tables is %q; write a pattern schema.table, with * for any characters", n, r.Tables)
		}
		if r.Empty() {
			return Invalid("rule %d (%s) changes nothing; give schema, name, where or columns, or take the rule away", n, r.Tables)
		}
		if strings.Contains(r.Tables, "*") && r.Name != "" && !strings.Contains(r.Name, "*") {
			return Invalid("rule %d: name %q would give every table of %s the same name; write * where its own name goes", n, r.Name, r.Tables)
		}
		if strings.Contains(r.Where, ";") {
			return Invalid("rule %d: where is one condition, without a semicolon", n)
		}
		for _, name := range slices.Sorted(maps.Keys(r.Columns)) {
			if c := r.Columns[name]; c == (ColumnRule{}) {
				return Invalid("rule %d: column %s is named without a change; give name, type or leave_out", n, name)
			} else if c.LeaveOut && (c.Name != "" || c.Type != "") {
				return Invalid("rule %d: column %s is left out and changed; choose one", n, name)
			}
		}
	}
	return nil
}
