package domain

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// Rule changes the plans of the tables it matches. Of several that match, a later
// one wins, attribute by attribute.
type Rule struct {
	// pattern over schema.table of the source
	Tables string `json:"tables" yaml:"tables" jsonschema:"required,description=Pattern over schema.table of the source\\, with *"`
	// schema on the target
	Schema string `json:"schema,omitempty" yaml:"schema,omitempty" jsonschema:"description=Schema on a PostgreSQL target"`
	// table name on the target; * stands for its own
	Name string `json:"name,omitempty" yaml:"name,omitempty" jsonschema:"description=Table name on the target; * stands for its own"`
	// condition in the source's SQL: only these rows
	Where string `json:"where,omitempty" yaml:"where,omitempty" jsonschema:"description=Condition in the source's SQL: only these rows; crossings that do not follow changes"`
	// Watermark and Overlap are for loads that repeat.
	Watermark string                `json:"watermark,omitempty" yaml:"watermark,omitempty" jsonschema:"description=Column that grows when a row is written: a run of a schedule reads only rows past its greatest value of the run before\\; crossings that do not follow changes"`
	Overlap   string                `json:"overlap,omitempty" yaml:"overlap,omitempty" jsonschema:"description=What is read again before the watermark\\, as writes may have been under way: a duration such as 10m\\, or a number"`
	Columns   map[string]ColumnRule `json:"columns,omitempty" yaml:"columns,omitempty" jsonschema:"description=By the source's column name\\, or the name of a column that the source lacks"`
	// ExistingRows says what to do with a target table that exists; OldStanding is how it was
	// called before, which is still read. [Rule.Existing] is what either of them says.
	ExistingRows string            `json:"existing_rows,omitempty" yaml:"existing_rows,omitempty" jsonschema:"enum=refuse,enum=keep,enum=empty,enum=replace,description=What becomes of a target table that exists\\, and of its rows; as the setting of that name"`
	OldStanding  string            `json:"standing,omitempty" yaml:"standing,omitempty" jsonschema:"enum=refuse,enum=keep,enum=empty,enum=replace,description=The former name of existing_rows"`
	Statements   map[string]string `json:"statements,omitempty" yaml:"statements,omitempty" jsonschema:"description=Statements written by hand\\, by the object that they make: table\\, index NAME and so on; an empty one leaves the object out"`
	Note         string            `json:"note,omitempty" yaml:"note,omitempty" jsonschema:"description=For people"`
}

// ColumnRule changes one column of a plan, or adds one.
type ColumnRule struct {
	// on the target
	Name string `json:"name,omitempty" yaml:"name,omitempty" jsonschema:"description=On the target"`
	// on the target, in its own words
	Type       string  `json:"type,omitempty" yaml:"type,omitempty" jsonschema:"description=On the target\\, in its own words"`
	LeaveOut   bool    `json:"leave_out,omitempty" yaml:"leave_out,omitempty"`
	Mask       string  `json:"mask,omitempty" yaml:"mask,omitempty" jsonschema:"description=Name of the key with which values are replaced by hashes"`
	Expression string  `json:"expression,omitempty" yaml:"expression,omitempty" jsonschema:"description=In the source's SQL\\, in place of the column or as one more; crossings that do not follow changes"`
	Value      *string `json:"value,omitempty" yaml:"value,omitempty" jsonschema:"description=Of every row\\, in a column that only the target has"`
	Longest    int64   `json:"longest,omitempty" yaml:"longest,omitempty" jsonschema:"minimum=0,description=Bytes that a value may have; a longer one is refused like any that does not fit. Under the name * it is for every column of a table that holds texts or bytes of any length"`
	Cut        bool    `json:"cut,omitempty" yaml:"cut,omitempty" jsonschema:"description=Cut longer values to longest\\, and keep a record of it"`
}

// UnmarshalJSON reads a rule, also as it was written before.
func (r *Rule) UnmarshalJSON(text []byte) error {
	type plain Rule
	if err := json.Unmarshal(text, (*plain)(r)); err != nil {
		return err
	}
	r.ExistingRows, r.OldStanding = r.Existing(), ""
	return nil
}

// Existing says what the rule does with a target table that exists, or nothing.
func (r Rule) Existing() string { return cmp.Or(r.ExistingRows, r.OldStanding) }

// AnyColumn stands in a rule for every column whose values can be of any length.
const AnyColumn = "*"

// Matches reports whether the rule is for a table.
func (r Rule) Matches(t TableName) bool { return matches(r.Tables, t) }

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
		if r.Watermark != "" {
			out.Watermark = r.Watermark
		}
		if r.Overlap != "" {
			out.Overlap = r.Overlap
		}
		if existing := r.Existing(); existing != "" {
			out.ExistingRows = existing
		}
		if r.Note != "" {
			out.Note = r.Note
		}
		for what, sql := range r.Statements {
			if out.Statements == nil {
				out.Statements = map[string]string{}
			}
			out.Statements[what] = sql
		}
		for name, c := range r.Columns {
			out.Columns[name] = out.Columns[name].and(c)
		}
	}
	return out
}

// and lays a later rule over an earlier one.
func (c ColumnRule) and(later ColumnRule) ColumnRule {
	for _, f := range []struct {
		to   *string
		from string
	}{{&c.Name, later.Name}, {&c.Type, later.Type}, {&c.Mask, later.Mask}, {&c.Expression, later.Expression}} {
		if f.from != "" {
			*f.to = f.from
		}
	}
	if later.Value != nil {
		c.Value = later.Value
	}
	if later.Longest != 0 {
		c.Longest, c.Cut = later.Longest, later.Cut
	}
	c.LeaveOut = later.LeaveOut
	return c
}

// Adds reports whether the rule can be for a column that the source lacks.
func (c ColumnRule) Adds() bool { return c.Expression != "" || c.Value != nil }

// Empty reports whether the rule changes nothing of a plan's shape.
func (r Rule) Empty() bool {
	return r.Schema == "" && r.Name == "" && r.Where == "" && len(r.Columns) == 0
}

// saysNothing reports whether the rule could as well not be there.
func (r Rule) saysNothing() bool {
	return r.Empty() && r.Watermark == "" && r.Overlap == "" && r.Existing() == "" && len(r.Statements) == 0 &&
		r.Note == ""
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

// ExistingRowsWays are what can be done with a target table that exists and holds
// rows: not start; load beside its rows; empty it; drop it and make it anew.
var ExistingRowsWays = []string{"refuse", "keep", "empty", "replace"}

// ValidRules says what is wrong with rules, or nil.
func ValidRules(rules []Rule) error {
	for i, r := range rules {
		n := i + 1
		if err := ValidPatterns([]string{r.Tables}); err != nil || strings.HasPrefix(r.Tables, "-") {
			return Invalid("rule %d: tables is %q; write a pattern schema.table, with * for any characters", n, r.Tables)
		}
		if r.saysNothing() {
			return Invalid("rule %d (%s) changes nothing; give schema, name, where, columns, watermark, existing_rows, "+
				"statements or a note, or take the rule away", n, r.Tables)
		}
		if existing := r.Existing(); existing != "" && !slices.Contains(ExistingRowsWays, existing) {
			return Invalid("rule %d: existing_rows is %q; choose refuse, keep, empty or replace", n, existing)
		}
		if strings.Contains(r.Tables, "*") && r.Name != "" && !strings.Contains(r.Name, "*") {
			return Invalid("rule %d: name %q would give every table of %s the same name; write * where its own name goes", n,
				r.Name, r.Tables)
		}
		if sql, ok := r.Statements["table"]; ok && strings.TrimSpace(sql) == "" {
			return Invalid("rule %d: the table's own statement cannot be left out; leave the table out of the crossing instead",
				n)
		}
		if strings.Contains(r.Tables, "*") && r.Statements["table"] != "" {
			return Invalid("rule %d: one statement cannot make every table of %s; write a rule for each", n, r.Tables)
		}
		if strings.Contains(r.Where, ";") {
			return Invalid("rule %d: where is one condition, without a semicolon", n)
		}
		for _, name := range slices.Sorted(maps.Keys(r.Columns)) {
			c := r.Columns[name]
			others := c
			others.LeaveOut = false
			switch {
			case c == (ColumnRule{}):
				return Invalid("rule %d: column %s is named without a change; give name, type, leave_out, mask, expression, "+
					"value or longest", n, name)
			case c.Longest < 0:
				return Invalid("rule %d: column %s: longest is %d; give the bytes that a value may have", n, name, c.Longest)
			case c.Cut && c.Longest == 0:
				return Invalid("rule %d: column %s is to be cut; say with longest to how many bytes", n, name)
			case name == AnyColumn && c != (ColumnRule{Longest: c.Longest, Cut: c.Cut}):
				return Invalid("rule %d: under the name * there can be longest and cut, and nothing else", n)
			case c.LeaveOut && others != (ColumnRule{}):
				return Invalid("rule %d: column %s is left out and changed; choose one", n, name)
			case c.Value != nil && (c.Expression != "" || c.Mask != "" || c.Name != ""):
				return Invalid("rule %d: column %s has a fixed value; it takes a type beside it, and nothing else", n, name)
			case strings.Contains(c.Expression, ";"):
				return Invalid("rule %d: the expression of column %s is one expression, without a semicolon", n, name)
			case c.Mask != "" && ValidName(c.Mask) != nil:
				return Invalid("rule %d: column %s: mask is the name of a key, of letters, digits, '-', '_' and '.'", n, name)
			}
		}
	}
	return nil
}
