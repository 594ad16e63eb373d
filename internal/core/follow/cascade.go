package follow

import (
	"slices"

	"dustyferry/internal/domain"
)

// What foreign keys of the source do by themselves, where its log does not tell.
// The rows that a removed or changed row takes along are found on the target, which
// stands exactly where the source stood, and changed by name: from there on they
// are changes like others, for the interleaving rule too.

// act is what one foreign key does when a row that it refers to goes or changes.
type act struct {
	child    *table
	refs     []int  // referenced columns among the parent's
	cols     []int  // referring columns among the child's
	onDelete string // CASCADE, SET NULL or empty
	onUpdate string
}

// findActs finds the foreign keys that act by themselves, by the table they refer to.
func (m *Machine) findActs() {
	for _, id := range m.order {
		child := m.tables[id]
		for _, k := range child.Plan.Table.Constraints {
			if k.Kind != "foreign" || !k.Unlogged {
				continue
			}
			for _, other := range m.order {
				parent := m.tables[other]
				if parent.Plan.Source != k.References {
					continue
				}
				m.acting = true
				parent.acts = append(parent.acts, act{child: child, onDelete: k.RuleOn("DELETE"), onUpdate: k.RuleOn("UPDATE"),
					refs: places(parent.Plan, k.ReferenceColumns), cols: places(child.Plan, k.Columns)})
			}
		}
	}
}

// places are where the named columns stand among those that are carried.
func places(p *domain.TablePlan, names []string) []int {
	cols := p.CopiedColumns()
	var out []int
	for _, n := range names {
		out = append(out, slices.IndexFunc(cols, func(c domain.Column) bool { return c.Name == n }))
	}
	return out
}

// touched returns the values by which rows referred to the one that the change took away, and
// what becomes of those rows.
func (a *act) touched(c domain.Change) (values []domain.Value, rule string) {
	switch c.Kind {
	case domain.Delete:
		rule = a.onDelete
	case domain.Update:
		rule = a.onUpdate
	}
	if rule == "" || c.Old == nil || c.Unchecked {
		return nil, ""
	}
	same := c.Kind == domain.Update
	for _, i := range a.refs {
		v := c.Old[i]
		if v.Kind != domain.Present { // nothing refers to a NULL
			return nil, ""
		}
		values = append(values, v)
		same = same && (c.New[i].Kind == domain.Unchanged || c.New[i].Kind == domain.Present &&
			string(c.New[i].Data) == string(v.Data))
	}
	if same {
		return nil, ""
	}
	return values, rule
}

// change is what becomes of the row at a key.
func (a *act) change(key domain.KeyValue, rule string, c domain.Change) domain.Change {
	row := make(domain.Row, len(a.child.Plan.CopiedColumns()))
	for i := range row {
		row[i] = domain.Value{Kind: domain.Unchanged}
	}
	for i, at := range a.child.key {
		row[at] = domain.Value{Kind: domain.Present, Data: []byte(key[i])}
	}
	out := domain.Change{Table: a.child.ID, Kind: domain.Delete, Old: row}
	if rule == "CASCADE" && c.Kind == domain.Delete {
		return out
	}
	out.Kind, out.New = domain.Update, slices.Clone(row)
	for i, at := range a.cols {
		out.New[at] = domain.Value{}
		if rule == "CASCADE" {
			out.New[at] = c.New[a.refs[i]]
		}
	}
	return out
}

// cascade follows what foreign keys did when the change was made, and what those changes did
// in turn.
func (m *Machine) cascade(e *effects, t *table, c captured, loading bool) {
	for i := range t.acts {
		a := &t.acts[i]
		values, rule := a.touched(c.ch)
		if rule == "" {
			continue
		}
		if loading { // rows of chunks that were read before must be there to be found
			m.settled(a.child)
		}
		m.write(e)
		keys := m.change(AskReferring{Table: a.child.ID, Cols: a.cols, Values: values}).Keys
		from := len(m.b.changes)
		for _, k := range keys {
			m.b.changes = append(m.b.changes, captured{c.tx, a.change(k, rule, c.ch)})
		}
		to := len(m.b.changes)
		if loading {
			m.locate(from)
		}
		for i := from; i < to; i++ {
			m.one(e, a.child, i, loading)
			m.cascade(e, a.child, m.b.changes[i], loading)
		}
	}
}
