package follow

import (
	"slices"

	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/domain"
)

// Table is one table that is followed.
type Table struct {
	ID   int64
	Plan *domain.TablePlan
}

// table is what a machine knows of one.
type table struct {
	Table
	key     []int // positions of the key among the carried columns
	sorts   *keyorder.Order
	ours    bool // the order of keys that sorts gives is provably the source's
	replace bool
	acts    []act                      // of foreign keys that refer to it
	fetched map[string]domain.Snapshot // rows that were fetched, by key, with what the source had seen then

	// Of a table that is read in the order of the disk, until the load is over (disk.go):
	disk  bool
	gone  map[string]gone // keys whose removal was applied, and that no change has put since
	asked bool            // gone holds what the target remembers
	seq   int             // of the last removal
	round *round          // of taking them away again

	// Of its chunks, until the load is over:
	known  bool
	bounds []domain.KeyValue
	landed map[int]domain.Snapshot

	// For the present batch:
	at       map[int][]int           // index of a change -> chunk of each of its atoms
	notBegun map[int]bool            // chunks found not begun after the batch became visible
	reading  map[int]domain.Snapshot // what reads that went on then see, as far as it is known
	settled  bool                    // what was being read when the batch became visible has landed
}

func newTable(of Table) *table {
	t := &table{Table: of, fetched: map[string]domain.Snapshot{}, key: of.Plan.KeyIndexes(of.Plan.CopiedColumns()),
		replace: Replaces(of.Plan)}
	t.sorts, t.ours = keyorder.New(of.Plan.KeyColumns())
	t.ours = t.ours && of.Plan.KeyOrder == "ours"
	t.disk, t.gone = of.Plan.ReadByDisk() && len(t.key) > 0, map[string]gone{}
	return t
}

// Replaces reports whether rows have to be removed and inserted instead of updated in place:
// where another unique rule than the key's may be met half way, or a value may only be given
// at insertion.
func Replaces(p *domain.TablePlan) bool {
	for _, k := range p.Table.Constraints {
		if k.Kind == "unique" && !slices.ContainsFunc(p.Table.Keys, func(x domain.Key) bool {
			return x.Name == k.Name && slices.Equal(x.Columns, p.Key)
		}) || k.Kind == "exclude" {
			return true
		}
	}
	for _, x := range p.Table.Indexes {
		if x.Unique {
			return true
		}
	}
	for _, c := range p.Columns {
		if c.Identity == "always" && !slices.Contains(p.Key, c.Name) {
			return true
		}
	}
	return false
}

// Dependents are the indexes of a table's plan and of those that have to be loaded anew with
// it, as they had to wait for it.
func Dependents(plans []*domain.TablePlan, source domain.TableName) []int {
	in := map[domain.TableName]bool{source: true}
	for grown := true; grown; {
		grown = false
		for _, p := range plans {
			if !in[p.Source] && slices.ContainsFunc(p.After, func(n domain.TableName) bool { return in[n] }) {
				in[p.Source], grown = true, true
			}
		}
	}
	var out []int
	for i, p := range plans {
		if in[p.Source] {
			out = append(out, i)
		}
	}
	return out
}

func (m *Machine) dependents(t *table) []int64 {
	plans := make([]*domain.TablePlan, 0, len(m.order))
	for _, id := range m.order {
		plans = append(plans, m.tables[id].Plan)
	}
	var out []int64
	for _, i := range Dependents(plans, t.Plan.Source) {
		out = append(out, m.order[i])
	}
	return out
}

func keyOf(r domain.Row, key []int) domain.KeyValue {
	out := make(domain.KeyValue, len(key))
	for i, k := range key {
		out[i] = string(r[k].Data)
	}
	return out
}
