package domain

import (
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Planning is what a person plans beside tables and their rules.
type Planning struct {
	Queries    []Query           `json:"queries,omitempty" yaml:"queries,omitempty" jsonschema:"description=Queries whose rows become tables of the target; crossings that do not follow changes"`
	Parameters map[string]string `json:"parameters,omitempty" yaml:"parameters,omitempty" jsonschema:"description=Values of :name in queries\\, conditions and expressions; texts\\, numbers\\, or times like today - 7 days"`
	Before     []string          `json:"before,omitempty" yaml:"before,omitempty" jsonschema:"description=Statements that run on the target when its tables stand\\, before the first row"`
	After      []string          `json:"after,omitempty" yaml:"after,omitempty" jsonschema:"description=Statements that run on the target when the load has ended and its indexes stand"`
	Carry      []Carried         `json:"carry,omitempty" yaml:"carry,omitempty" jsonschema:"description=What else is made on a target of the same engine: views\\, routines\\, triggers"`
}

// Carried is a kind of object that is made on the target beside tables.
type Carried string

// What can be carried between servers of one engine.
const (
	CarryViews    Carried = "views"
	CarryRoutines Carried = "routines"
	CarryTriggers Carried = "triggers" // at cutover, or after a load without capture
)

// Query is a read of the source whose rows become a table of the target.
type Query struct {
	Table string   `json:"table" yaml:"table" jsonschema:"required,description=schema.table by which it is known; the target's name unless a rule says otherwise"`
	Query string   `json:"query" yaml:"query" jsonschema:"required,description=One SELECT in the source's SQL"`
	Key   []string `json:"key,omitempty" yaml:"key,omitempty" jsonschema:"description=Columns that identify a row; they become the target's primary key"`
}

// Name is the table's name.
func (q Query) Name() TableName {
	name, _ := ParseTableName(q.Table)
	return name
}

var (
	parameterName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)
	reads         = regexp.MustCompile(`(?is)^\s*(select|with|table|values)\b`)
)

// Validate says what is wrong with a planning, or nil.
func (p Planning) Validate() error {
	seen := map[string]bool{}
	for i, q := range p.Queries {
		n := i + 1
		_, err := ParseTableName(q.Table)
		switch {
		case err != nil || strings.Contains(q.Table, "*"):
			return Invalid("query %d: table is %q; write the name schema.table that its rows will have", n, q.Table)
		case seen[q.Table]:
			return Invalid("query %d: there is another query for %s; give one of them another table", n, q.Table)
		case !reads.MatchString(q.Query):
			return Invalid("query %d (%s) must begin with SELECT or WITH", n, q.Table)
		case strings.Contains(strings.TrimRight(strings.TrimSpace(q.Query), ";"), ";"):
			return Invalid("query %d (%s) is more than one statement; write one SELECT, without a semicolon inside", n, q.Table)
		}
		seen[q.Table] = true
	}
	for _, name := range slices.Sorted(maps.Keys(p.Parameters)) {
		if !parameterName.MatchString(name) {
			return Invalid("the parameter's name %q must be of small letters, digits and _", name)
		}
	}
	for what, list := range map[string][]string{"before": p.Before, "after": p.After} {
		for i, s := range list {
			if strings.TrimSpace(s) == "" {
				return Invalid("statement %d of %s is empty; write it, or take it away", i+1, what)
			}
		}
	}
	for _, c := range p.Carry {
		if c != CarryViews && c != CarryRoutines && c != CarryTriggers {
			return Invalid("carry names %q; choose from views, routines and triggers", c)
		}
	}
	return nil
}

// Statement is a query's text without the semicolon that may end it.
func (q Query) Statement() string {
	return strings.TrimSpace(strings.TrimRight(strings.TrimSpace(q.Query), ";"))
}
