package typemap

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"dustyferry/internal/core/naming"
	"dustyferry/internal/domain"
)

// Limits of MariaDB (its documentation, "Data types" and "InnoDB limitations").
const (
	keyBytes = 3072 // of all columns of a key together
	prefix   = 191  // characters of a long text that an index holds
)

// textOrder compares texts as PostgreSQL does: A is not a, and spaces at the end
// count.
const textOrder = "utf8mb4_nopad_bin"

// toMariaDB maps a PostgreSQL column.
func toMariaDB(c domain.Column, in place) Mapped {
	a, b := args(c.Type)
	is := neutralOf(c.BaseType).there(c, in, a, b)
	m := Mapped{Verdict: is.verdict, Note: is.note, Column: domain.Column{Name: c.Name, Type: is.typ, NotNull: c.NotNull,
		Wire: "portable", Comment: c.Comment}}
	m.Column.BaseType, _, _ = strings.Cut(m.Column.Type, "(")
	if strings.HasSuffix(m.Column.Type, " unsigned") && !strings.HasSuffix(m.Column.BaseType, " unsigned") {
		m.Column.BaseType += " unsigned"
	}
	switch m.Column.BaseType {
	case "varchar", "char", "longtext", "enum", "json":
		m.Column.Charset = "utf8mb4"
	}
	switch numbered := c.Identity != "" || strings.HasPrefix(c.Default, "nextval("); {
	case numbered && in.numbers:
		m.Column.Identity = "by default"
	case numbered:
		m.Note = strings.TrimPrefix(m.Note+"; not numbered there, as it begins no key", "; ")
	default:
		m.Column.Default = defaultIn(c, m.Column.BaseType)
		if c.Default != "" && m.Column.Default == "" && !strings.HasPrefix(c.Default, "NULL::") {
			m.Note = strings.TrimPrefix(m.Note+"; its default "+c.Default+" is not carried over", "; ")
		}
	}
	return m
}

// defaultIn carries a PostgreSQL default over where both sides surely mean the
// same by it.
func defaultIn(c domain.Column, base string) string {
	d := strings.TrimSpace(c.Default)
	value, _, _ := cutCast(d)
	lower := strings.ToLower(value)
	number := slices.Contains([]string{"smallint", "int", "int unsigned", "bigint", "decimal", "float", "double",
		"tinyint"}, base)
	switch {
	case base == "tinyint" && (lower == "true" || lower == "false"):
		return map[string]string{"true": "1", "false": "0"}[lower]
	case number && numberIn.MatchString(strings.Trim(value, "'()")):
		return strings.Trim(value, "'()")
	case base == "datetime" && (lower == "now()" || lower == "current_timestamp"):
		return timed("current_timestamp", c.Type)
	case strings.HasPrefix(value, "'") && !strings.Contains(value, `\`) &&
		slices.Contains([]string{"varchar", "char", "longtext", "enum", "json"}, base):
		return value
	}
	return ""
}

// cutCast takes a cast off an expression such as 'x'::text.
func cutCast(expression string) (value, typ string, cast bool) {
	if i := strings.LastIndex(expression, "::"); i > 0 && !strings.HasSuffix(expression, "'") {
		return expression[:i], expression[i+2:], true
	}
	return expression, "", false
}

// labelsOf returns the labels of an enumeration type of the source, nil where the
// type is none, and an empty list where MariaDB could not keep them apart.
func (w Mapping) labelsOf(base string) []string {
	if w.Catalog == nil {
		return nil
	}
	for _, t := range w.Catalog.Types {
		_, list, ok := strings.Cut(t.Definition, " AS ENUM (")
		if !ok || t.Name.String() != strings.ReplaceAll(base, `"`, "") {
			continue
		}
		out := []string{}
		for _, l := range strings.Split(strings.TrimSuffix(list, ")"), "', '") {
			l = strings.ReplaceAll(strings.TrimSuffix(strings.TrimPrefix(l, "'"), "'"), "''", "'")
			if strings.ContainsAny(l, "\\,") || strings.HasSuffix(l, " ") || strings.HasPrefix(l, "E'") {
				return []string{}
			}
			out = append(out, l)
		}
		return out
	}
	return nil
}

// planToMariaDB completes a plan of a PostgreSQL table with the side that a
// MariaDB target must know.
func (w Mapping) planToMariaDB(p domain.TablePlan) (domain.TablePlan, []Noted) {
	var notes []Noted
	there := w.there(&p)
	there.Table.Comment, there.Table.Collation = p.Table.Comment, textOrder
	there.Table.Left = append(there.Table.Left, p.Table.Left...)
	left := func(format string, args ...any) {
		there.Table.Left = append(there.Table.Left, fmt.Sprintf(format, args...))
	}
	var primary []string
	if k := p.Table.PrimaryKey(); k != nil {
		primary = k.Columns
	} else {
		primary = p.Key
	}
	varying, room := w.keyRoom(&p.Table, primary)
	numbered := false
	for _, c := range p.Columns {
		if c.Generated {
			left("generated column %s (its expression is PostgreSQL's, and the log does not carry its values)", c.Name)
			continue
		}
		in := place{labels: w.labelsOf(c.BaseType)}
		if slices.Contains(primary, c.Name) {
			in.keyed, in.room = varying, room
		}
		in.numbers = !numbered && len(primary) > 0 && primary[0] == c.Name &&
			slices.Contains([]string{"smallint", "integer", "bigint"}, c.BaseType)
		m := toMariaDB(c, in)
		numbered = numbered || m.Column.Identity != ""
		there.Columns = append(there.Columns, m.Column)
		notes = append(notes, Noted{c.Name, c.Type, m.Column.Type, m.Verdict, m.Note})
	}
	fitRow(there.Columns, notes, primary)
	for i := range there.Columns {
		for j := range i {
			if a, b := there.Columns[i].Name, there.Columns[j].Name; strings.EqualFold(a, b) {
				notes = append(notes, Noted{Column: a, Verdict: Impossible,
					Note: fmt.Sprintf("MariaDB takes the names %s and %s for one; rename a column on the source", b, a)})
			}
		}
	}
	if len(there.Columns) == 0 {
		notes = append(notes, Noted{Column: p.Source.Name, Verdict: Impossible,
			Note: "MariaDB has no tables without columns; leave the table out"})
	}
	notes = slices.DeleteFunc(notes, func(n Noted) bool { return n.Verdict == Exact && n.Note == "" })
	there.Table.Columns = there.Columns
	for _, k := range p.Table.Keys {
		there.Table.Keys = append(there.Table.Keys, domain.Key{Columns: k.Columns, Primary: k.Primary, Name: k.Name})
	}
	// Keys compare booleans in their other form.
	for _, name := range p.Key {
		if c := p.Table.Column(name); c != nil && c.BaseType == "boolean" && p.KeyOrder == "ours" {
			p.KeyOrder, there.KeyOrder = "source", "source"
		}
	}
	w.indexesInMariaDB(&p, there, left)
	if p.Table.PartitionBy != "" {
		left("partitioning by %s (the table is one on the target)", p.Table.PartitionBy)
	}
	return p, notes
}

// keyRoom says how many columns of a key can be of any length, at least one, and how many
// bytes each of them has when the others have taken theirs.
func (w Mapping) keyRoom(t *domain.Table, key []string) (varying, room int) {
	fixed := 0
	for _, name := range key {
		c := t.Column(name)
		if c == nil {
			continue
		}
		a, _ := args(c.Type)
		switch c.BaseType {
		case "smallint", "integer", "bigint", "oid", "real", "double precision", "boolean", "date",
			"timestamp without time zone", "timestamp with time zone", "time without time zone", "money":
			fixed += 8
		case "numeric":
			fixed += 32
		case "bit":
			fixed += max(a, 1)/8 + 1
		case "uuid":
			fixed += 36 * 4
		case "inet", "cidr", "macaddr", "macaddr8":
			fixed += 50 * 4
		case "time with time zone":
			fixed += 24 * 4
		case "interval":
			fixed += 120 * 4
		default:
			if len(w.labelsOf(c.BaseType)) > 0 {
				fixed += 2
				continue
			}
			varying++
		}
	}
	const lengths = 64 // of what varies, and whether there is a value
	varying = max(varying, 1)
	return varying, max((keyBytes-lengths-fixed)/varying, 4)
}

// fitRow makes the widest texts large objects until a row is short enough; notes
// has one entry a column.
func fitRow(cols []domain.Column, notes []Noted, key []string) {
	width := func(c domain.Column) int {
		switch a, _ := args(c.Type); c.BaseType {
		case "varchar", "char":
			return a*4 + 2
		case "varbinary":
			return a + 2
		}
		return 12
	}
	total := 0
	order := make([]int, len(cols))
	for i := range cols {
		total += width(cols[i])
		order[i] = i
	}
	sort.SliceStable(order, func(a, b int) bool { return width(cols[order[a]]) > width(cols[order[b]]) })
	for _, i := range order {
		if total < rowBytes-1000 || cols[i].BaseType != "varchar" || slices.Contains(key, cols[i].Name) {
			continue
		}
		total -= width(cols[i])
		cols[i].Type, cols[i].BaseType = "longtext", "longtext"
		notes[i].To, notes[i].Verdict = "longtext", Wider
		notes[i].Note = strings.TrimPrefix(notes[i].Note+"; a row of texts there holds 65535 bytes in all, so it is kept "+
			"beside the row", "; ")
	}
}

// indexesInMariaDB carries what MariaDB has too; the rest is left, with its reason.
func (w Mapping) indexesInMariaDB(p, there *domain.TablePlan, left func(string, ...any)) {
	columns := func(names []string, unique bool) string {
		var out []string
		for _, n := range names {
			s := quotedIn(n)
			if c := there.Table.Column(n); c != nil && !unique {
				switch a, _ := args(c.Type); {
				case c.BaseType == "longtext", c.BaseType == "longblob", c.BaseType == "varchar" && a*4*len(names) > keyBytes:
					s += fmt.Sprintf("(%d)", min(prefix, keyBytes/4/len(names)))
				}
			}
			out = append(out, s)
		}
		return strings.Join(out, ", ")
	}
	known := func(names []string) bool {
		return len(names) > 0 && !slices.ContainsFunc(names, func(n string) bool { return there.Table.Column(n) == nil })
	}
	for _, x := range p.Table.Indexes {
		switch {
		case !known(x.Columns) && x.Why == "":
			left("index %s (of columns that are not carried)", x.Name)
		case !known(x.Columns):
			left("index %s (%s)", x.Name, x.Why)
		default:
			kind := "INDEX"
			if x.Unique {
				kind = "UNIQUE INDEX"
			}
			there.Table.Indexes = append(there.Table.Indexes, domain.Index{Name: x.Name, Unique: x.Unique, Columns: x.Columns,
				Definition: fmt.Sprintf("%s %s (%s)", kind, quotedIn(x.Name), columns(x.Columns, x.Unique))})
		}
	}
	for _, k := range p.Table.Constraints {
		switch {
		case k.Kind == "unique" && known(k.Columns):
			there.Table.Indexes = append(there.Table.Indexes, domain.Index{Name: k.Name, Unique: true, Columns: k.Columns,
				Definition: fmt.Sprintf("UNIQUE INDEX %s (%s)", quotedIn(k.Name), columns(k.Columns, true))})
		case k.Kind == "foreign" && known(k.Columns) && !strings.Contains(k.Rules, "SET DEFAULT"):
			there.Table.Constraints = append(there.Table.Constraints, w.foreign(p.Target.Name, k))
		case k.Kind == "check":
			left("check %s (its expression is PostgreSQL's)", k.Name)
		default:
			left("%s constraint %s (MariaDB has no such constraint)", k.Kind, k.Name)
		}
	}
}

// foreign writes a foreign key for MariaDB, whose names of them are one space for
// the whole database.
func (w Mapping) foreign(table string, k domain.Constraint) domain.Constraint {
	to := w.name(k.References)
	name := k.Name
	if w.From != MariaDB && !strings.HasPrefix(name, table) {
		name = table + "_" + name
	}
	return domain.Constraint{Name: naming.MariaDB.Fit(name), Of: k.Name, Kind: "foreign", References: to,
		Columns: k.Columns, ReferenceColumns: k.ReferenceColumns, Rules: k.Rules, Unlogged: k.Unlogged,
		Definition: fmt.Sprintf("FOREIGN KEY (%s) REFERENCES %s.%s (%s)%s", listIn(k.Columns), quotedIn(to.Schema),
			quotedIn(to.Name), listIn(k.ReferenceColumns), k.Rules)}
}

// planAlike completes a plan between two MariaDB databases: types stay as they
// are, and so does what belongs to the table; only the database is another.
func (w Mapping) planAlike(p domain.TablePlan) domain.TablePlan {
	there := w.there(&p)
	for _, c := range p.Columns {
		c.Generated = c.Computed != "" // by the target itself
		there.Columns = append(there.Columns, c)
	}
	t := &there.Table
	t.Columns, t.Keys, t.Indexes, t.Comment, t.Collation = there.Columns, p.Table.Keys, p.Table.Indexes, p.Table.Comment,
		p.Table.Collation
	for _, k := range p.Table.Constraints {
		if k.Kind == "foreign" {
			k = w.foreign(p.Target.Name, k)
		}
		t.Constraints = append(t.Constraints, k)
	}
	t.PartitionBy = p.Table.PartitionBy
	return p
}

// quotedIn quotes an identifier for MariaDB.
func quotedIn(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func listIn(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quotedIn(n)
	}
	return strings.Join(out, ", ")
}
