package typemap

import (
	"fmt"
	"regexp"
	"strings"

	"dustyferry/internal/core/naming"
	"dustyferry/internal/domain"
)

// ToPostgres maps a MariaDB column. BaseType is the type without its brackets,
// with " unsigned" behind where it is.
func ToPostgres(c domain.Column) Mapped {
	a, b := args(c.Type)
	is := mariaOf(c.BaseType).neutral(c, a, b)
	m := Mapped{Verdict: is.verdict, Note: is.note, Column: domain.Column{Name: c.Name, Type: is.typ, NotNull: c.NotNull,
		Identity: c.Identity, Wide: c.Wide, Wire: "portable", Comment: c.Comment}}
	m.Column.BaseType, _, _ = strings.Cut(m.Column.Type, "(")
	if strings.HasPrefix(m.Column.Type, "timestamp") { // the digits stand inside
		m.Column.BaseType = regexp.MustCompile(`\([0-9]\)`).ReplaceAllString(m.Column.Type, "")
	}
	if m.Verdict == Lossy && c.NotNull && strings.Contains("date datetime timestamp", c.BaseType) {
		m.Note = "a date with a zero month or day stops the load: it does not exist on the target, and the column is NOT NULL"
	}
	if c.BaseType == "set" && c.Mask == "" {
		m.Column.Members = Labels(c.Type)
	}
	if c.Hidden {
		m.Note = strings.TrimPrefix(m.Note+"; SELECT * gives it there, as PostgreSQL has no invisible columns", "; ")
	}
	if c.Computed != "" {
		m.Note = "its expression is not carried over; the values are copied"
	}
	m.Column.Default = defaultOf(c, m.Column.Type)
	return m
}

// defaultOf carries a default over where both sides surely mean the same by it.
func defaultOf(c domain.Column, typ string) string {
	d := strings.TrimSpace(c.Default)
	lower := strings.ToLower(d)
	switch {
	case d == "" || lower == "null" || c.Identity != "" || c.Computed != "":
		return ""
	case strings.HasPrefix(lower, "current_timestamp") || lower == "now()":
		return "CURRENT_TIMESTAMP"
	case numberIn.MatchString(strings.Trim(d, "'")) && (strings.HasPrefix(typ, "numeric") || strings.HasSuffix(typ,
		"int") || typ == "integer" || typ == "real" || typ == "double precision"):
		return strings.Trim(d, "'")
	case strings.HasPrefix(d, "'") && strings.HasSuffix(d, "'") && !strings.Contains(d, `\`) &&
		(typ == "text" || strings.HasPrefix(typ, "character")):
		return d
	}
	return ""
}

// planToPostgres completes a plan of a MariaDB table with the side that a
// PostgreSQL target must know, and says what changes on the way.
func (w Mapping) planToPostgres(p domain.TablePlan) (domain.TablePlan, []Noted) {
	var notes []Noted
	there := w.there(&p)
	there.Table.Comment = p.Table.Comment
	refers := map[string]bool{}
	for _, k := range p.Table.Constraints {
		for _, c := range k.Columns {
			refers[c] = true
		}
	}
	for _, c := range p.Columns {
		m := ToPostgres(c)
		if refers[c.Name] && c.BaseType == "bigint unsigned" { // most likely to a key that is numbered
			m.Column.Type, m.Column.BaseType, m.Verdict, m.Note = "bigint", "bigint", Lossy,
				"a number above 9223372036854775807 stops the load"
		}
		there.Columns = append(there.Columns, m.Column)
		if m.Verdict != Exact || m.Note != "" {
			notes = append(notes, Noted{c.Name, c.Type, m.Column.Type, m.Verdict, m.Note})
		}
	}
	there.Table.Columns = there.Columns
	there.Table.Keys = w.keysThere(&p)
	w.aroundThere(&p, there)
	for _, k := range p.Table.Constraints {
		if k.Kind == "check" {
			there.Table.Left = append(there.Table.Left, "check "+k.Name+" (its expression is MariaDB's)")
		}
	}
	for _, c := range p.Columns {
		if c.BaseType == "enum" && c.Mask == "" {
			there.Table.Constraints = append(there.Table.Constraints, labelsCheck(p.Target.Name, c))
		}
	}
	if p.Table.PartitionBy != "" {
		there.Table.Left = append(there.Table.Left, "partitioning (the table is one on the target)")
	}
	return p, notes
}

// aroundThere adds a table's indexes and foreign keys as a PostgreSQL target makes them.
func (w Mapping) aroundThere(p *domain.TablePlan, there *domain.TablePlan) {
	for _, x := range p.Table.Indexes {
		if x.Columns == nil {
			there.Table.Left = append(there.Table.Left, fmt.Sprintf("index %s (%s)", x.Name, x.Why))
			continue
		}
		def := "INDEX"
		if x.Unique {
			def = "UNIQUE INDEX"
		}
		name := naming.Postgres.Fit(p.Target.Name + "_" + x.Name)
		there.Table.Indexes = append(there.Table.Indexes, domain.Index{Name: name, Unique: x.Unique, Columns: x.Columns,
			Definition: fmt.Sprintf("CREATE %s %s ON %s.%s (%s)", def, quoted(name), quoted(p.Target.Schema),
				quoted(p.Target.Name), list(x.Columns))})
	}
	for _, k := range p.Table.Constraints {
		if k.Kind == "foreign" {
			there.Table.Constraints = append(there.Table.Constraints, domain.Constraint{Name: k.Name, Kind: "foreign",
				References: k.References, Columns: k.Columns, ReferenceColumns: k.ReferenceColumns, Unlogged: k.Unlogged,
				Definition: fmt.Sprintf("FOREIGN KEY (%s) REFERENCES %s.%s (%s)%s", list(k.Columns), quoted(k.References.Schema),
					quoted(k.References.Name), list(k.ReferenceColumns), k.Rules)})
		}
	}
}

// labelsCheck holds a text to the values of the enum that it was.
func labelsCheck(table string, c domain.Column) domain.Constraint {
	labels := append(Labels(c.Type), "") // the mark of a value that was none of them
	for i, l := range labels {
		labels[i] = "'" + strings.ReplaceAll(l, "'", "''") + "'"
	}
	short := naming.Server{Bytes: naming.Postgres.Bytes - len(labelsSuffix)}
	return domain.Constraint{Name: short.Fit(table+"_"+c.Name) + labelsSuffix, Kind: "check", Columns: []string{c.Name},
		Definition: "CHECK (" + quoted(c.Name) + " IN (" + strings.Join(labels, ", ") + "))"}
}

const labelsSuffix = "_values"

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func list(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quoted(n)
	}
	return strings.Join(out, ", ")
}
