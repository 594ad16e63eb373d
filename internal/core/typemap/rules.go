package typemap

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// BuildTargetPlan completes a plan as [Mapping.Complete] does, with a person's changes to it.
// Columns that are read by an expression are in the plan already.
func (w Mapping) BuildTargetPlan(p domain.TablePlan, r domain.Rule) (domain.TablePlan, []Noted, error) {
	if err := spread(&p, &r); err != nil {
		return p, nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(r.Columns)) {
		c, k := p.Table.Column(name), r.Columns[name]
		switch {
		case c == nil && !k.Adds():
			return p, nil, domain.Invalid("a rule names column %s of %s, which has none of that name", name, p.Source)
		case c != nil && k.Value != nil:
			return p, nil, domain.Invalid("a rule gives column %s of %s a fixed value, but the source has that column: leave "+
				"it out and give another name, or write an expression", name, p.Source)
		}
	}
	p.Where, p.ExistingRows, p.Statements, p.Note = r.Where, r.ExistingRows, r.Statements, r.Note
	left, err := leaveOut(&p, r)
	if err != nil {
		return p, nil, err
	}
	if err := watermark(&p, r); err != nil {
		return p, nil, err
	}
	dropped, err := replace(&p, r)
	if err != nil {
		return p, nil, err
	}
	left = append(left, dropped...)
	p, notes := w.Complete(p)
	if p.TargetSide == nil && (!r.Empty() || p.From != "") {
		w.sameSide(&p)
	}
	if side := p.TargetSide; side != nil {
		side.ExistingRows, side.Statements = p.ExistingRows, p.Statements
		for i := range side.Columns { // what replaces values belongs to reading
			side.Columns[i].Mask, side.Columns[i].Expression = "", ""
			side.Columns[i].Longest, side.Columns[i].Cut = 0, false
		}
		side.Table.Columns = side.Columns
	}
	if r.Empty() && p.From == "" {
		return p, notes, nil
	}
	if w.From == w.To && (p.From != "" || slices.ContainsFunc(p.Columns, replaced)) {
		asTexts(&p)
	}
	p.TargetSide.Table.Left = append(left, p.TargetSide.Table.Left...)
	more, err := w.retype(&p, r)
	if err != nil {
		return p, nil, err
	}
	hidden, err := w.masks(&p)
	if err != nil {
		return p, nil, err
	}
	more = append(more, hidden...)
	notes = slices.DeleteFunc(notes, func(n Noted) bool {
		return slices.ContainsFunc(more, func(m Noted) bool { return m.Column == n.Column })
	})
	if err := w.rename(&p, r); err != nil {
		return p, nil, err
	}
	return p, append(notes, more...), w.add(&p, r)
}

// leaveOut takes columns out of a plan, and with them what is made of them, which
// it names.
func leaveOut(p *domain.TablePlan, r domain.Rule) (left []string, err error) {
	gone := map[string]bool{}
	for name, c := range r.Columns {
		if c.LeaveOut {
			gone[name] = true
		}
	}
	if len(gone) == 0 {
		return nil, nil
	}
	for _, k := range p.Key {
		if gone[k] {
			return nil, domain.Invalid("column %s of %s cannot be left out: it is part of the key by which rows are found", k,
				p.Source)
		}
	}
	any := func(names []string) bool { return slices.ContainsFunc(names, func(n string) bool { return gone[n] }) }
	p.Columns = slices.DeleteFunc(slices.Clone(p.Columns), func(c domain.Column) bool { return gone[c.Name] })
	t := &p.Table
	t.Keys = slices.DeleteFunc(slices.Clone(t.Keys), func(k domain.Key) bool { return any(k.Columns) })
	// What is made of expressions may need them too; that is found out too late
	// if it is made, and told if it is not.
	lost := func(kind, name string, columns []string) bool {
		if !any(columns) && columns != nil {
			return false
		}
		why := "of an expression, in a table of which columns are left out"
		if any(columns) {
			why = "of a column that is left out"
		}
		left = append(left, fmt.Sprintf("%s %s (%s)", kind, name, why))
		return true
	}
	t.Indexes = slices.DeleteFunc(slices.Clone(t.Indexes), func(x domain.Index) bool {
		return lost("index", x.Name, x.Columns)
	})
	t.Constraints = slices.DeleteFunc(slices.Clone(t.Constraints), func(k domain.Constraint) bool {
		return lost(k.Kind+" constraint", k.Name, k.Columns)
	})
	if len(p.Columns) == 0 {
		return nil, domain.Invalid("every column of %s is left out; leave the table out instead", p.Source)
	}
	return left, nil
}

// sameSide gives a plan between PostgreSQL databases a target's side of its own,
// for what a person changes there; rows still travel as they are.
func (w Mapping) sameSide(p *domain.TablePlan) {
	there := *p
	there.Engine = w.To
	there.Where, there.From = "", ""
	there.Source = p.Target
	there.Columns = slices.Clone(p.Columns)
	there.Table.Columns = there.Columns
	// What is changed there must not change in the source's catalog.
	there.Table.Indexes, there.Table.Constraints = slices.Clone(p.Table.Indexes), slices.Clone(p.Table.Constraints)
	p.TargetSide = &there
}

// retype plans columns as a person says.
func (w Mapping) retype(p *domain.TablePlan, r domain.Rule) ([]Noted, error) {
	var notes []Noted
	side := p.TargetSide
	for i, c := range p.CopiedColumns() {
		typ := r.Columns[c.Name].Type
		if typ == "" {
			continue
		}
		at := i
		if w.From == w.To { // computed columns stand there too
			at = slices.IndexFunc(side.Columns, func(x domain.Column) bool { return x.Name == c.Name })
		}
		k := &side.Columns[at]
		k.Type = spelled(w.To, typ)
		k.BaseType = baseOf(k.Type)
		verdict, note := w.judge(c, *k)
		if verdict == Impossible {
			return nil, domain.Invalid("column %s of %s is %s and cannot be planned as %s: %s", c.Name, p.Source, c.Type, k.Type,
				note)
		}
		if isText(k.BaseType) && w.To == MariaDB {
			k.Charset = "utf8mb4"
			k.Collation = ""
		}
		if verdict == Lossy {
			k.Default = ""
		}
		side.Table.Constraints = slices.DeleteFunc(slices.Clone(side.Table.Constraints), func(x domain.Constraint) bool {
			return x.Kind == "check" && strings.HasSuffix(x.Name, labelsSuffix) && slices.Equal(x.Columns, []string{c.Name})
		})
		notes = append(notes, Noted{c.Name, c.Type, k.Type, verdict, strings.TrimSuffix("planned by a rule; "+note, "; ")})
		if w.From == w.To {
			asTexts(p)
		}
	}
	side.Table.Columns = side.Columns
	return notes, nil
}

// rename gives the target's table and columns the names that a person wants.
func (w Mapping) rename(p *domain.TablePlan, r domain.Rule) error {
	side := p.TargetSide
	x := renaming{Mapping: w, t: &side.Table, from: side.Target, to: r.Target(side.Target), names: map[string]string{}}
	if w.To == MariaDB && x.to.Schema != x.from.Schema {
		return domain.Invalid("a rule gives %s the schema %s, but the target is the database %s; register that database as "+
			"another target, or take schema out of the rule", p.Source, x.to.Schema, w.Into)
	}
	for old, c := range r.Columns {
		if c.Name != "" {
			x.names[old] = c.Name
		}
	}
	if x.to == x.from && len(x.names) == 0 {
		return nil
	}
	for old, fresh := range x.names {
		if slices.ContainsFunc(side.Columns, func(c domain.Column) bool { return c.Name == fresh && x.names[c.Name] == "" }) {
			return domain.Invalid("a rule calls column %s of %s %s, but there is a column of that name", old, p.Source, fresh)
		}
	}
	p.Target, side.Source, side.Target, side.Table.TableName = x.to, x.to, x.to, x.to
	x.partitions(r.Schema)
	side.Columns = slices.Clone(side.Columns)
	for i := range side.Columns {
		side.Columns[i].Name = x.called([]string{side.Columns[i].Name})[0]
	}
	w.followSequences(p.Source, x.to, side.Columns)
	x.t.Columns, side.Key = side.Columns, x.called(side.Key)
	x.t.Keys = slices.Clone(x.t.Keys)
	for i := range x.t.Keys {
		x.t.Keys[i].Columns = x.called(x.t.Keys[i].Columns)
	}
	x.indexes()
	x.constraints()
	for i, c := range side.Columns {
		if c.Generated && len(x.names) > 0 && w.From == w.To {
			return domain.Invalid("columns of %s cannot be renamed: %s is computed from some of them", p.Source,
				side.Columns[i].Name)
		}
	}
	return nil
}

// renaming gives a table of the target, and columns of it, other names.
type renaming struct {
	Mapping
	t        *domain.Table
	from, to domain.TableName
	names    map[string]string // of columns, by the old one
}

// called is how columns are called now.
func (x *renaming) called(list []string) []string {
	out := slices.Clone(list)
	for i, n := range out {
		if fresh, ok := x.names[n]; ok {
			out[i] = fresh
		}
	}
	return out
}

func (x *renaming) renamed(list []string) bool { return !slices.Equal(x.called(list), list) }

func (x *renaming) left(format string, args ...any) {
	x.t.Left = append(x.t.Left, fmt.Sprintf(format, args...))
}

// partitions have the table, or each other, as parents, and go to the schema that the rule gives.
func (x *renaming) partitions(schema string) {
	x.t.Partitions = slices.Clone(x.t.Partitions)
	for i := range x.t.Partitions {
		part := &x.t.Partitions[i]
		if part.Parent == x.from {
			part.Parent = x.to
		} else if schema != "" {
			part.Parent.Schema = schema
		}
		if schema != "" {
			part.Table.Schema = schema
		}
	}
	if x.t.PartitionBy != "" && len(x.names) > 0 && x.To == MariaDB {
		x.t.PartitionBy = ""
		x.left("partitioning (of a table whose columns are renamed)")
	}
}

// indexes are statements, which name table and columns.
func (x *renaming) indexes() {
	var out []domain.Index
	for _, n := range x.t.Indexes {
		if n.Columns == nil && len(x.names) > 0 {
			x.left("index %s (of an expression, in a table whose columns are renamed)", n.Name)
			continue
		}
		if x.renamed(n.Columns) || x.To == Postgres && x.to != x.from {
			if x.To == Postgres {
				for _, as := range []string{spell(x.To, x.from), bare(x.from)} {
					n.Definition = strings.Replace(n.Definition, " ON "+as, " ON "+spell(x.To, x.to), 1)
				}
			}
			n.Definition = respell(x.To, n.Definition, x.names)
			n.Columns = x.called(n.Columns)
		}
		out = append(out, n)
	}
	x.t.Indexes = out
}

// constraints are clauses, which name columns: those of expressions are not read, and stay behind.
func (x *renaming) constraints() {
	var out []domain.Constraint
	for _, k := range x.t.Constraints {
		switch {
		case k.Kind == "check" && strings.HasSuffix(k.Name, labelsSuffix) && x.renamed(k.Columns):
			k.Definition, k.Columns = respell(x.To, k.Definition, x.names), x.called(k.Columns)
		case k.Kind == "check" && len(x.names) > 0 && (k.Columns == nil || x.renamed(k.Columns)):
			x.left("check %s (of a column that is renamed)", k.Name)
			continue
		case k.Kind != "check" && x.renamed(k.Columns):
			head, tail, _ := strings.Cut(k.Definition, " REFERENCES ")
			k.Definition = respell(x.To, head, x.names)
			if tail != "" {
				k.Definition += " REFERENCES " + tail
			}
			k.Columns = x.called(k.Columns)
		}
		out = append(out, k)
	}
	x.t.Constraints = out
}

// followSequences lets defaults name the sequences that a table owns where they
// stand beside it.
func (w Mapping) followSequences(source, to domain.TableName, cols []domain.Column) {
	if w.Catalog == nil || source.Schema == to.Schema {
		return
	}
	for _, q := range w.Catalog.Sequences {
		if q.OwnedBy != source || q.Name.Schema != source.Schema {
			continue
		}
		fresh := domain.TableName{Schema: to.Schema, Name: q.Name.Name}
		for i := range cols {
			cols[i].Default = strings.Replace(cols[i].Default, "nextval('"+strings.ReplaceAll(bare(q.Name), "'", "''")+"'",
				"nextval('"+strings.ReplaceAll(bare(fresh), "'", "''")+"'", 1)
		}
	}
}

// RemapForeignKeys points foreign keys at the names that their tables and columns have on
// the target, when all plans are shaped.
func (w Mapping) RemapForeignKeys(plans []domain.TablePlan) {
	where := map[domain.TableName]*domain.TablePlan{}
	changed := map[domain.TableName]bool{}
	for i := range plans {
		p := &plans[i]
		where[p.Source] = p
		usual := p.Source
		if w.To == MariaDB {
			usual = w.name(usual)
		}
		changed[p.Source] = p.Target != usual || slices.ContainsFunc(p.Columns, replaced)
		for source, target := range columnNamesThere(p) {
			changed[p.Source] = changed[p.Source] || source != target
		}
	}
	for i := range plans {
		p := &plans[i]
		for n := range p.Table.Constraints {
			k := &p.Table.Constraints[n]
			if k.Kind != "foreign" || !changed[k.References] {
				continue
			}
			if p.TargetSide == nil {
				w.sameSide(p)
			}
			list := p.TargetSide.Table.Constraints
			at := slices.IndexFunc(list, func(x domain.Constraint) bool {
				return x.Kind == "foreign" && (x.Of == k.Name || x.Of == "" && x.Name == k.Name)
			})
			if at < 0 {
				continue
			}
			x, to := &list[at], where[k.References]
			if slices.ContainsFunc(to.Columns, func(c domain.Column) bool {
				return replaced(c) && slices.Contains(k.ReferenceColumns, c.Name)
			}) {
				p.TargetSide.Table.Left = append(p.TargetSide.Table.Left,
					fmt.Sprintf("foreign constraint %s (to a column whose values are replaced)", k.Name))
				p.TargetSide.Table.Constraints = slices.Delete(list, at, at+1)
				continue
			}
			names := columnNamesThere(to)
			var columns []string
			x.ReferenceColumns = nil
			for _, c := range k.ReferenceColumns {
				x.ReferenceColumns = append(x.ReferenceColumns, names[c])
				columns = append(columns, spellName(w.To, names[c]))
			}
			x.References = to.Target
			head, tail, _ := strings.Cut(x.Definition, " REFERENCES ")
			rest := tail[closing(tail)+1:]
			x.Definition = head + " REFERENCES " + spell(w.To, to.Target) + " (" + strings.Join(columns, ", ") + ")" + rest
		}
	}
}

// closing is where the brackets that a list begins with end, names in quotes left
// aside.
func closing(definition string) int {
	quote := byte(0)
	for i := range len(definition) {
		switch c := definition[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '`':
			quote = c
		case c == ')':
			return i
		}
	}
	return len(definition) - 1
}

// columnNamesThere gives the target's name of each column that a plan carries.
func columnNamesThere(p *domain.TablePlan) map[string]string {
	out := map[string]string{}
	there := p.TargetColumns()
	for i, c := range p.CopiedColumns() {
		out[c.Name] = there[i].Name
	}
	return out
}

func spell(engine string, t domain.TableName) string {
	return spellName(engine, t.Schema) + "." + spellName(engine, t.Name)
}

func spellName(engine, name string) string { return DialectOf(engine).Quote(name) }

// bare is a PostgreSQL name as its server writes it, without quotes where it can.
func bare(t domain.TableName) string { return bareName(t.Schema) + "." + bareName(t.Name) }

var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

func bareName(n string) string {
	if plainName.MatchString(n) {
		return n
	}
	return quoted(n)
}

// words are what names can be among, in a definition's list of columns: quoted
// names, plain ones, and literals, which stay.
var words = map[string]*regexp.Regexp{
	MariaDB:  regexp.MustCompile("`(?:[^`]|``)*`|'(?:[^']|'')*'"),
	Postgres: regexp.MustCompile(`"(?:[^"]|"")*"|'(?:[^']|'')*'|[a-z_][a-z0-9_$]*`),
}

// respell writes the new names of columns into the brackets of a definition, all at
// once, so that two columns can change names.
func respell(engine, definition string, names map[string]string) string {
	at := strings.IndexByte(definition, '(')
	if at < 0 {
		return definition
	}
	return definition[:at] + words[engine].ReplaceAllStringFunc(definition[at:], func(word string) string {
		name := word
		switch q := word[0]; q {
		case '\'':
			return word
		case '`', '"':
			name = strings.ReplaceAll(word[1:len(word)-1], string([]byte{q, q}), string(q))
		}
		if fresh, ok := names[name]; ok {
			return spellName(engine, fresh)
		}
		return word
	})
}
