// Package columns tells how the columns of a table have changed while it is followed,
// and which of the changes can be carried over to the target with certainty.
//
// A log says that a table's rows look otherwise from some place on. It does not say what
// became of the rows that are there already: a new column may have filled them with any
// value, a new type may have cast them by any expression, and none of that is logged.
// What is not provably the same on both sides is therefore never safe here.
package columns

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// Kind is what a change does.
type Kind string

// The kinds of change.
const (
	Added     Kind = "added"
	Dropped   Kind = "dropped"
	Renamed   Kind = "renamed"
	Retyped   Kind = "retyped"
	Loosened  Kind = "may be empty now"
	Tightened Kind = "may not be empty any more"
	// Recollated is of a table, not of a column that it has: what texts of new columns are like,
	// by Now.Collation.
	Recollated Kind = "has another collation for new columns"
)

// Change is one difference between a table before and after.
type Change struct {
	Kind Kind
	Was  domain.Column // zero for Added
	Now  domain.Column // zero for Dropped
}

// String shows the change to a person.
func (c Change) String() string {
	switch c.Kind {
	case Added:
		return fmt.Sprintf("column %s %s was added", c.Now.Name, c.Now.Type)
	case Dropped:
		return fmt.Sprintf("column %s was dropped", c.Was.Name)
	case Renamed:
		return fmt.Sprintf("column %s is called %s now", c.Was.Name, c.Now.Name)
	case Retyped:
		return fmt.Sprintf("column %s is %s now, it was %s", c.Now.Name, c.Now.Type, c.Was.Type)
	}
	return fmt.Sprintf("column %s %s", c.Now.Name, c.Kind)
}

// Words joins changes to a sentence's part.
func Words(list []Change) string {
	var out []string
	for _, c := range list {
		out = append(out, c.String())
	}
	return strings.Join(out, ", ")
}

var renames = regexp.MustCompile(`(?i)\b(?:RENAME|CHANGE)\b`)

// Between lists what happened to a table's columns, those of was in their order first,
// then those that were added. A column that is called otherwise is recognised by its
// number where the engine has numbers; where it has none, by its place, if statement, the
// one that the log names, renames anything.
func Between(was, now *domain.Table, statement string) []Change {
	var out []Change
	taken := map[string]bool{}
	for i, c := range was.Columns {
		n := now.Column(c.Name)
		if n != nil && (c.Number == 0 || n.Number == 0 || c.Number == n.Number) {
			taken[c.Name] = true
			out = append(out, compare(c, *n)...)
			continue
		}
		n = nil
		for j := range now.Columns {
			x := &now.Columns[j]
			if x.Number > 0 && x.Number == c.Number ||
				x.Number == 0 && j == i && len(was.Columns) == len(now.Columns) && was.Column(x.Name) == nil && x.Type == c.Type &&
					renames.MatchString(statement) {
				n = x
			}
		}
		if n == nil {
			out = append(out, Change{Kind: Dropped, Was: c})
			continue
		}
		taken[n.Name] = true
		out = append(out, Change{Kind: Renamed, Was: c, Now: *n})
		out = append(out, compare(c, *n)...)
	}
	for _, n := range now.Columns {
		if !taken[n.Name] {
			out = append(out, Change{Kind: Added, Now: n})
		}
	}
	return out
}

// Others lists in words what else of a table's definition is not as it was and matters to its
// rows: how columns keep and compare texts, what they compute, the primary key, foreign
// keys and the storage. Other indexes do not.
func Others(was, now *domain.Table) []string {
	var out []string
	add := func(what, w, n string) {
		if w != n {
			out = append(out, fmt.Sprintf("%s is %s now, it was %s", what, orNone(n), orNone(w)))
		}
	}
	for _, c := range was.Columns {
		n := now.Column(c.Name)
		if n == nil {
			continue // see Between
		}
		add("the character set of "+c.Name, c.Charset, n.Charset)
		add("the collation of "+c.Name, c.Collation, n.Collation)
		add("what "+c.Name+" computes", c.Computed, n.Computed)
	}
	foreign := func(t *domain.Table) string {
		var list []string
		for _, k := range t.Constraints {
			if k.Kind == "foreign" {
				list = append(list, fmt.Sprintf("(%s) to %s (%s) %s", strings.Join(k.Columns, ", "), k.References,
					strings.Join(k.ReferenceColumns, ", "), k.Rules))
			}
		}
		slices.Sort(list)
		return strings.Join(list, "; ")
	}
	// Where columns have other names, keys say the same in other words.
	if slices.ContainsFunc(was.Columns, func(c domain.Column) bool { return now.Column(c.Name) == nil }) {
		add("the storage engine", strings.ToLower(was.Storage), strings.ToLower(now.Storage))
		return out
	}
	var primary [2]string
	for i, t := range [2]*domain.Table{was, now} {
		if k := t.PrimaryKey(); k != nil {
			primary[i] = "(" + strings.Join(k.Columns, ", ") + ")"
		}
	}
	add("the primary key", primary[0], primary[1])
	add("the set of foreign keys", foreign(was), foreign(now))
	add("the storage engine", strings.ToLower(was.Storage), strings.ToLower(now.Storage))
	return out
}

// Objects says in words which indexes and constraints a table has got or lost, how it is
// partitioned now, and which collation new columns of it would have; empty where they are the
// same by their names.
func Objects(was, now *domain.Table) string {
	names := func(t *domain.Table) []string {
		var out []string
		for _, x := range t.Indexes {
			out = append(out, "index "+x.Name)
		}
		for _, k := range t.Constraints {
			out = append(out, k.Kind+" constraint "+k.Name)
		}
		slices.Sort(out)
		return out
	}
	a, b := names(was), names(now)
	without := func(list, other []string) string {
		return strings.Join(slices.DeleteFunc(slices.Clone(list), func(s string) bool { return slices.Contains(other, s) }),
			", ")
	}
	var out []string
	if made := without(b, a); made != "" {
		out = append(out, "made on the source since the start, and not on the target: "+made)
	}
	if gone := without(a, b); gone != "" {
		out = append(out, "gone from the source since the start, and still on the target: "+gone)
	}
	if was.Collation != now.Collation && was.Collation != "" && now.Collation != "" {
		out = append(out, fmt.Sprintf("new columns have the collation %s on the source now, and %s on the target",
			now.Collation, was.Collation))
	}
	if was.PartitionBy != now.PartitionBy {
		out = append(out, fmt.Sprintf("partitioned otherwise on the source since the start (%s), and not on the target",
			orNone(now.PartitionBy)))
	}
	return strings.Join(out, "; ")
}

// KeepObjects lets a table whose columns are carried over keep the indexes, constraints and
// collation that it had: what else came with them does not stand on the target, and
// [Objects] is to say so.
func KeepObjects(now, was *domain.Table) {
	still := func(list []string) bool {
		return !slices.ContainsFunc(list, func(c string) bool { return now.Column(c) == nil })
	}
	had := now.Indexes
	now.Indexes = nil
	for _, x := range was.Indexes {
		// One of columns that are gone went with them, on either side.
		if still(x.Columns) || slices.ContainsFunc(had, func(h domain.Index) bool { return h.Name == x.Name }) {
			now.Indexes = append(now.Indexes, x)
		}
	}
	now.Constraints, now.Collation, now.PartitionBy = was.Constraints, was.Collation, was.PartitionBy
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// Moved reports whether columns that stay stand in another order.
func Moved(was, now *domain.Table) bool {
	last := -1
	for _, c := range was.Columns {
		at := slices.IndexFunc(now.Columns, func(n domain.Column) bool { return n.Name == c.Name })
		if at >= 0 && at < last {
			return true
		}
		last = max(last, at)
	}
	return false
}

var places = regexp.MustCompile(`(?i)\b(?:FIRST|AFTER)\b`)

// Moves reports whether a statement may give columns other places.
func Moves(statement string) bool { return places.MatchString(statement) }

// Renames reports whether a statement may give columns other names: two that change names
// with each other look like two that change places.
func Renames(statement string) bool { return renames.MatchString(statement) }

// AsLogged is the table as it was at a place in the log, whose columns the log names by
// name and type, made of what the catalog says now and what was known before. It is nil
// when one of the columns is in neither: what became of it since is not known.
func AsLogged(was, now *domain.Table, logged []domain.Column) *domain.Table {
	t := *now
	t.Columns = nil
	for _, l := range logged {
		c := now.Column(l.Name)
		if c == nil || c.Type != l.Type {
			c = was.Column(l.Name)
		}
		if c == nil || c.Type != l.Type {
			return nil
		}
		t.Columns = append(t.Columns, *c)
	}
	for _, c := range now.Columns { // the log does not carry them
		if c.Generated {
			t.Columns = append(t.Columns, c)
		}
	}
	return &t
}

// compare tells two states of one column apart.
func compare(c, n domain.Column) []Change {
	var out []Change
	if c.Declared != "" && c.Declared == n.Declared {
		return nil // what rows hold says the rest, and may say another thing each time
	}
	if c.Type != n.Type || c.Declared != n.Declared {
		out = append(out, Change{Kind: Retyped, Was: c, Now: n})
	}
	switch {
	case c.NotNull && !n.NotNull:
		out = append(out, Change{Kind: Loosened, Was: c, Now: n})
	case !c.NotNull && n.NotNull:
		out = append(out, Change{Kind: Tightened, Was: c, Now: n})
	}
	return out
}

// Source says what is known of a source for judging changes.
type Source struct {
	Engine string
	// Rewritten: rows may have been written anew without being logged since the plan was
	// made. Only of engines that tell; see [domain.Table.Written].
	Rewritten bool
	// Statement is the statement that made the change, where the log carries it.
	Statement string
	// Last: no later statement has altered the table, so that what the catalog says of it is
	// what this one left.
	Last bool
}

// Constant is the value of a default that is a plain literal and of a type whose literals
// read as its values do; a server writes it as '…' or as a number.
func Constant(c domain.Column) (string, bool) {
	switch c.BaseType {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal":
		if plainNumber.MatchString(c.Default) {
			return c.Default, true
		}
	case "char", "varchar", "date", "datetime":
		text, quoted := strings.CutPrefix(c.Default, "'")
		text, ended := strings.CutSuffix(text, "'")
		if quoted && ended && !strings.ContainsAny(text, `'\\`) {
			return text, true
		}
	}
	return "", false
}

var plainNumber = regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?$`)

var fills = regexp.MustCompile(`(?i)\b(?:DEFAULT|NOT\s+NULL|GENERATED|AUTO_INCREMENT|AS\s*\()`)

// Unsafe says why a change cannot be carried over with certainty, or nothing.
func (s Source) Unsafe(c Change, key []string) string {
	for _, k := range key {
		if c.Kind != Added && c.Kind != Loosened && c.Kind != Tightened && k == c.Was.Name {
			return fmt.Sprintf("column %s is part of the key by which rows are found", k)
		}
	}
	postgres := s.Engine == typemap.Postgres
	switch c.Kind {
	case Added:
		switch {
		case c.Now.Generated || c.Now.Computed != "" || c.Now.Identity != "":
			return fmt.Sprintf("the server gave column %s of the rows that were there values of its own", c.Now.Name)
		case !postgres && renames.MatchString(s.Statement):
			return fmt.Sprintf("column %s may be another one that has a new name now", c.Now.Name)
		case !postgres && s.Last && (c.Now.Fill != nil || !c.Now.NotNull && (c.Now.Default == "" || strings.EqualFold(
			c.Now.Default, "NULL"))):
			// what the catalog says, literally
		case !postgres && (fills.MatchString(s.Statement) || c.Now.Default != "" && !strings.EqualFold(c.Now.Default,
			"NULL") || c.Now.NotNull):
			return fmt.Sprintf("the log does not say which value column %s has in the rows that were there", c.Now.Name)
		case postgres && s.Rewritten:
			return fmt.Sprintf("the server has written all rows anew meanwhile, and the log does not say which value column "+
				"%s has in those that were there", c.Now.Name)
		case postgres && c.Now.Default != "" && c.Now.Fill == nil:
			return fmt.Sprintf("nothing says which value column %s has in the rows that were there", c.Now.Name)
		}
	case Retyped:
		way := typemap.Mapping{From: s.Engine, To: s.Engine}
		switch {
		case !way.Holds(c.Was, c.Now):
			return fmt.Sprintf("%s does not surely hold what %s held", c.Now.Type, c.Was.Type)
		case postgres && s.Rewritten:
			return fmt.Sprintf("the server has written all rows anew, and the log does not say by which expression column "+
				"%s was cast", c.Now.Name)
		}
	}
	return ""
}
