package follow

import (
	"cmp"
	"slices"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
)

// A table that is read in the order of the disk: its key does not say which chunk a row is in, so
// that no change can be dropped or made to wait by the rule of package interleave. Instead
//
//   - every change is applied at once: rows are put, whether they are there or not, or removed;
//   - a chunk lands with "what stands, stays": what is on the target at a key came by the log,
//     and whatever is newer comes by the log in its turn;
//   - a chunk whose snapshot is older than a removal brings the row back. So the keys of removed
//     rows are remembered, in the target's transaction that removes them, until every chunk that
//     may bring them back has landed, and the rows are taken away again then. A key that is put
//     by a later change is forgotten.
//
// To take a remembered row away again is right at any time: as far as the log was applied the
// row is not there, and if it was put later, a change to come says so.

// gone is the key of a row that was removed.
type gone struct {
	key domain.KeyValue
	seq int // counts removals
}

// round takes the rows at remembered keys away again, up to one: once every chunk that was being
// read when it began has landed or gone back. One that begins later sees their removal.
type round struct {
	upTo    int
	reading map[int64]int64 // epochs by chunk
}

// disks are the tables that are read in the order of the disk, with what the target remembers.
func (m *Machine) disks() []*table {
	var out []*table
	for _, id := range m.order {
		t := m.tables[id]
		if !t.disk {
			continue
		}
		if !t.asked {
			t.asked, t.gone, t.round = true, map[string]gone{}, nil
			for _, k := range m.want(AskRemembered{id}).Keys {
				t.removed(k)
			}
		}
		out = append(out, t)
	}
	return out
}

// removed notes a key, and reports whether it was not there yet.
func (t *table) removed(key domain.KeyValue) bool {
	text := domain.KeyText(t.rowAt(key), t.key)
	_, is := t.gone[text]
	t.seq++
	t.gone[text] = gone{key, t.seq}
	return !is
}

// rowAt is a row of which only the key is said.
func (t *table) rowAt(key domain.KeyValue) domain.Row {
	row := make(domain.Row, len(t.Plan.CopiedColumns()))
	for i, at := range t.key {
		row[at] = domain.Value{Kind: domain.Present, Data: []byte(key[i])}
	}
	return row
}

// remember notes which rows a net effect removes, and forgets those that it puts. Every new read
// must see the batch already.
func (m *Machine) remember(t *table, n fold.Net) {
	if !t.disk || !m.b.loading {
		return
	}
	ask := Remember{Table: t.ID}
	for _, r := range n.Puts {
		text := domain.KeyText(r, t.key)
		if was, is := t.gone[text]; is {
			ask.Forget = append(ask.Forget, was.key)
			delete(t.gone, text)
		}
	}
	for _, r := range n.Removes {
		if key := keyOf(r, t.key); t.removed(key) {
			ask.Keep = append(ask.Keep, key)
		}
	}
	if len(ask.Keep) > 0 && m.unswept != yes {
		m.unswept = yes
		m.want(Unswept{true})
	}
	m.change(ask)
}

// sweep takes rows away again that chunks may have brought back. At the end of the load all of
// them are.
func (m *Machine) sweep(loading bool) {
	for _, t := range m.disks() {
		if len(t.gone) == 0 {
			t.round = nil
			continue
		}
		now := map[int64]int64{}
		if loading {
			for _, k := range m.want(AskChunks{Table: t.ID}).Chunks {
				if k.State == domain.ChunkReading {
					now[k.ID] = k.Epoch
				}
			}
		}
		if t.round == nil {
			t.round = &round{t.seq, now}
		}
		open := false
		for chunk, epoch := range t.round.reading {
			was, still := now[chunk]
			open = open || still && was == epoch
		}
		if !open {
			m.takeAgain(t, t.round.upTo)
			t.round = nil
		}
	}
}

// takeAgain removes the rows at keys that were remembered up to one, and forgets these.
func (m *Machine) takeAgain(t *table, upTo int) {
	var again []gone
	for _, g := range t.gone {
		if g.seq <= upTo {
			again = append(again, g)
		}
	}
	slices.SortFunc(again, func(a, b gone) int { return cmp.Compare(a.seq, b.seq) })
	if len(again) == 0 {
		return
	}
	var n fold.Net
	ask := Remember{Table: t.ID}
	for _, g := range again {
		row := t.rowAt(g.key)
		n.Removes = append(n.Removes, row)
		ask.Forget = append(ask.Forget, g.key)
		delete(t.gone, domain.KeyText(row, t.key))
	}
	m.change(ask)
	m.change(Write{Table: t.ID, Net: n, Replace: t.replace})
}

// Whether keys are remembered, as the records know it.
const (
	unknown = iota
	yes
	no
)

// remembers reports whether the target remembers any key.
func (m *Machine) remembers() bool {
	for _, t := range m.disks() {
		if len(t.gone) > 0 {
			return true
		}
	}
	return false
}

// swept says so, once nothing is remembered any more.
func (m *Machine) swept() {
	any := false
	for _, t := range m.tables {
		if t.disk && (!t.asked || len(t.gone) > 0) {
			return
		}
		any = any || t.disk
	}
	if any && m.unswept != no {
		m.unswept = no
		m.want(Unswept{false})
	}
}

// emptied forgets what is remembered of tables whose load begins anew; their rows are removed
// with it.
func (m *Machine) emptied(ids []int64) {
	for _, id := range ids {
		t := m.tables[id]
		if !t.disk || len(t.gone) == 0 {
			continue
		}
		ask := Remember{Table: id}
		for _, g := range t.gone {
			ask.Forget = append(ask.Forget, g.key)
		}
		slices.SortFunc(ask.Forget, func(a, b domain.KeyValue) int { return slices.Compare(a, b) })
		t.gone, t.round = map[string]gone{}, nil
		m.change(ask)
	}
}

// undone has what is remembered asked for again, as the target's transaction was dropped.
func (m *Machine) undone() {
	for _, t := range m.tables {
		t.asked = false
	}
}
