package voyage

import (
	"context"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/core/interleave"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/waits"
)

// What foreign keys of the source do by themselves, where its log does not tell.
// The rows that a removed or changed row takes along are found on the target, which
// stands exactly where the source stood, and changed by name: from there on they
// are changes like others, for the interleaving rule too.

// act is what one foreign key does when a row that it refers to goes or changes.
type act struct {
	child    *followed
	refs     []int           // referenced columns among the parent's
	cols     []int           // referring columns among the child's
	match    []domain.Column // the same on the target
	onDelete string          // CASCADE, SET NULL or empty
	onUpdate string
}

// acts are the foreign keys that act by themselves, by the table they refer to.
func acts(tables map[int64]*followed, order []int64) map[int64][]act {
	out := map[int64][]act{}
	for _, id := range order {
		child := tables[id]
		p := &child.row.Plan.V
		for _, k := range p.Table.Constraints {
			if k.Kind != "foreign" || !k.Unlogged {
				continue
			}
			for _, other := range order {
				parent := &tables[other].row.Plan.V
				if parent.Source != k.References {
					continue
				}
				a := act{child: child, onDelete: ruleOn(k.Rules, "DELETE"), onUpdate: ruleOn(k.Rules, "UPDATE"),
					refs: positions(parent.Carried(), k.ReferenceColumns), cols: positions(p.Carried(), k.Columns)}
				there := p.There()
				for _, i := range a.cols {
					a.match = append(a.match, there[i])
				}
				out[other] = append(out[other], a)
			}
		}
	}
	return out
}

// ruleOn is what a foreign key's rules say of one event.
func ruleOn(rules, event string) string {
	_, rest, ok := strings.Cut(rules, " ON "+event+" ")
	if !ok {
		return ""
	}
	rest, _, _ = strings.Cut(rest, " ON ")
	return strings.TrimSpace(rest)
}

func positions(cols []domain.Column, names []string) []int {
	var out []int
	for _, n := range names {
		out = append(out, slices.IndexFunc(cols, func(c domain.Column) bool { return c.Name == n }))
	}
	return out
}

// orderActs says which tables have to wait for others, so that what foreign keys do
// in several steps can be followed: rows in the middle must be on the target to lead
// to those behind them. Where a table leads to itself, it is one chunk.
func orderActs(plans []domain.TablePlan) []domain.Entry {
	at := map[domain.TableName]int{}
	for i := range plans {
		at[plans[i].Source] = i
	}
	refers := make([][]int, len(plans)) // by acting keys, to other tables and to itself
	for i := range plans {
		for _, k := range plans[i].Table.Constraints {
			if to, ok := at[k.References]; ok && k.Kind == "foreign" && k.Unlogged && !slices.Contains(refers[i], to) {
				refers[i] = append(refers[i], to)
			}
		}
	}
	var out []domain.Entry
	for i := range plans {
		p := &plans[i]
		for _, to := range refers[i] {
			switch {
			case to == i:
				p.Uncut = true
				if p.Table.Bytes > 64<<20 {
					out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "foreign key", Subject: p.Source.String(), Measured: "it acts on its own table: so that this can be followed, the table is one chunk"})
				}
			case len(refers[to]) > 0: // rows of that table go unlogged too
				p.After = append(p.After, plans[to].Source)
				if leads(refers, to, i, map[int]bool{}) {
					out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "foreign key", Subject: p.Source.String(), Remedy: "drop one of them, and let the application do what it did; or make a crossing that does not follow changes",
						Measured: "foreign keys that act by themselves lead from it to " + plans[to].Source.String() + " and back, which cannot be followed during the load"})
				}
			}
		}
	}
	return out
}

// leads reports whether acting keys lead from one table to another.
func leads(refers [][]int, from, to int, seen map[int]bool) bool {
	if seen[from] {
		return false
	}
	seen[from] = true
	return slices.ContainsFunc(refers[from], func(n int) bool { return n == to || leads(refers, n, to, seen) })
}

// withDependents are a table and those that have to be loaded anew with it, as they
// had to wait for it.
func withDependents(tables []records.Table, source string) []records.Table {
	in := map[string]bool{source: true}
	for grown := true; grown; {
		grown = false
		for i := range tables {
			p := &tables[i].Plan.V
			if !in[tables[i].SourceName] && slices.ContainsFunc(p.After, func(n domain.TableName) bool { return in[n.String()] }) {
				in[tables[i].SourceName], grown = true, true
			}
		}
	}
	return slices.DeleteFunc(slices.Clone(tables), func(t records.Table) bool { return !in[t.SourceName] })
}

// touched returns the values by which rows referred to the one that the change took
// away, and what becomes of those rows.
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
		same = same && (c.New[i].Kind == domain.Unchanged || c.New[i].Kind == domain.Present && string(c.New[i].Data) == string(v.Data))
	}
	if same {
		return nil, ""
	}
	return values, rule
}

// change is what becomes of the row at a key.
func (a *act) change(key domain.KeyValue, rule string, c domain.Change) domain.Change {
	row := make(domain.Row, len(a.child.row.Plan.V.Carried()))
	for i := range row {
		row[i] = domain.Value{Kind: domain.Unchanged}
	}
	for i, at := range a.child.key {
		row[at] = domain.Value{Kind: domain.Present, Data: []byte(key[i])}
	}
	out := domain.Change{Table: a.child.row.ID, Kind: domain.Delete, Old: row}
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

// cascade follows what foreign keys did when the change was made, and what those
// changes did in turn.
func (b *batch) cascade(ctx context.Context, t *followed, c captured, loading bool) error {
	for _, a := range b.f.set.acts[t.row.ID] {
		values, rule := a.touched(c.ch)
		if rule == "" {
			continue
		}
		if loading { // rows of chunks that were read before must be there to be found
			if err := b.f.set.settle(ctx, a.child, b.txs); err != nil {
				return err
			}
		}
		if err := b.write(ctx); err != nil {
			return err
		}
		if err := b.begin(ctx); err != nil {
			return err
		}
		keys, err := b.f.apply.Find(ctx, &a.child.there, a.match, values)
		if err != nil {
			return err
		}
		from := len(b.changes)
		for _, k := range keys {
			b.changes = append(b.changes, captured{c.tx, a.change(k, rule, c.ch)})
		}
		to := len(b.changes)
		if loading {
			if err := b.f.set.locate(ctx, b.changes, from); err != nil {
				return err
			}
		}
		for i := from; i < to; i++ {
			if err := b.one(ctx, a.child, i, loading); err != nil {
				return err
			}
			if err := b.cascade(ctx, a.child, b.changes[i], loading); err != nil {
				return err
			}
		}
	}
	return nil
}

// settle waits until every chunk of a table that is being read now has landed or
// gone back; one that begins later sees all of the batch, and so may one that is being
// read. Once a batch is enough.
func (s *tableSet) settle(ctx context.Context, t *followed, batch []domain.Tx) error {
	if t.settled {
		return nil
	}
	var reading map[int64]int64
	defer s.waits("")
	for {
		chunks, err := s.store.Chunks(ctx, t.row.ID)
		if err != nil {
			return err
		}
		now := map[int64]int64{}
		for i := range chunks {
			if k := &chunks[i]; k.State == domain.ChunkReading && !interleave.AllVisible(k.Domain().Snapshot, batch) {
				now[k.ID] = k.Epoch
			}
		}
		if reading == nil {
			reading = now
		}
		open := false
		for id, epoch := range reading {
			open = open || now[id] == epoch
		}
		if !open {
			t.settled = true
			return nil
		}
		s.waits("a foreign key's own changes wait for chunks of " + t.row.SourceName + " that are being read")
		if !waits.Sleep(ctx, 20*time.Millisecond) {
			return ctx.Err()
		}
	}
}
