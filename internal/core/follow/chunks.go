package follow

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/interleave"
	"dustyferry/internal/domain"
)

// forget drops what is known about chunks: a table may have begun again.
func (m *Machine) forget() {
	for _, t := range m.tables {
		t.known, t.landed, t.bounds = false, nil, nil
	}
}

// beginBatch forgets what was found out for the batch before.
func (m *Machine) beginBatch() {
	for _, t := range m.tables {
		t.at, t.notBegun, t.reading, t.settled = map[int][]int{}, map[int]bool{}, map[int]domain.Snapshot{}, false
	}
}

// locate finds the chunk of every atom of the batch from one change on: by our own comparison
// where that is provably the source's, by one question to the source for the rest.
func (m *Machine) locate(from int) {
	type open struct {
		change, atom int
		key          domain.KeyValue
	}
	asks := map[int64][]open{}
	for i := from; i < len(m.b.changes); i++ {
		ch := m.b.changes[i].ch
		t := m.tables[ch.Table]
		if t == nil || len(t.key) == 0 || t.disk {
			continue
		}
		m.know(t)
		for n, a := range fold.Split(ch, t.key) {
			k := keyOf(a.Row, t.key)
			at, ok := 0, true
			if len(t.bounds) > 0 {
				ok = false
				if t.ours {
					at, ok = t.sorts.Locate(t.bounds, k)
				}
			}
			t.at[i] = append(t.at[i], at)
			if !ok {
				asks[t.ID] = append(asks[t.ID], open{i, n, k})
			}
		}
	}
	for _, id := range m.order {
		list := asks[id]
		if len(list) == 0 {
			continue
		}
		t := m.tables[id]
		keys := make([]domain.KeyValue, len(list))
		for i := range list {
			keys[i] = list[i].key
		}
		at := m.want(AskLocate{Table: id, Bounds: t.bounds, Keys: keys}).At
		for i, o := range list {
			t.at[o.change][o.atom] = at[i]
		}
	}
}

// look reads how the chunks of the located changes stand, once the whole batch is visible
// to every new read. A chunk that has not begun then is settled, whenever it begins: only
// those that were being read at that one moment are ever waited for, and of those only for
// what their reads do not see.
func (m *Machine) look() {
	of := map[int64]map[int]bool{}
	for i := range m.b.changes {
		t := m.tables[m.b.changes[i].ch.Table]
		if t == nil || t.disk {
			continue
		}
		at := t.at[i]
		if len(t.key) == 0 {
			at = []int{0}
		}
		for _, n := range at {
			if _, landed := t.landed[n]; landed || t.notBegun[n] {
				continue
			}
			if of[t.ID] == nil {
				of[t.ID] = map[int]bool{}
			}
			of[t.ID][n] = true
		}
	}
	for _, id := range m.order {
		if len(of[id]) == 0 {
			continue
		}
		t := m.tables[id]
		m.know(t)
		for _, c := range m.want(AskChunks{Table: id, Only: slices.Sorted(maps.Keys(of[id]))}).Chunks {
			switch c.State {
			case domain.ChunkLanded:
				t.landed[c.Ordinal] = c.Snapshot
			case domain.ChunkReading:
				t.reading[c.Ordinal] = c.Snapshot
			case domain.ChunkPending, domain.ChunkHeld:
				t.notBegun[c.Ordinal] = true
			default:
				m.want(Fail{fmt.Sprintf("the ledger says that a chunk is %q, which is not known", c.State)})
			}
		}
	}
}

// know reads a table's chunk bounds once.
func (m *Machine) know(t *table) {
	if t.known {
		return
	}
	chunks := m.want(AskChunks{Table: t.ID}).Chunks
	t.bounds, t.landed = nil, map[int]domain.Snapshot{}
	for _, c := range chunks {
		if c.Ordinal > 0 {
			t.bounds = append(t.bounds, c.Lower)
		}
		if c.State == domain.ChunkLanded {
			t.landed[c.Ordinal] = c.Snapshot
		}
	}
	t.known = len(chunks) > 0
}

// decide applies the rule to a change in a chunk, waiting while the chunk is being read.
func (m *Machine) decide(t *table, ordinal int, tx domain.Tx) bool {
	m.know(t)
	defer func() { m.why = "" }()
	for pause := 20 * time.Millisecond; ; pause = min(pause*3/2, 200*time.Millisecond) {
		if snap, ok := t.landed[ordinal]; ok {
			return interleave.Decide(domain.ChunkLanded, snap, tx) == interleave.Apply
		}
		if t.notBegun[ordinal] {
			return false // found so after the whole batch was visible: good for all of it
		}
		if interleave.Decide(domain.ChunkReading, t.reading[ordinal], tx) == interleave.Drop {
			return false
		}
		chunks := m.want(AskChunks{Table: t.ID, Only: []int{ordinal}}).Chunks
		if len(chunks) == 0 {
			return false // not cut yet: its read is still to come
		}
		c := &chunks[0]
		switch c.State {
		case domain.ChunkLanded:
			t.landed[ordinal] = c.Snapshot
		case domain.ChunkReading:
			t.reading[ordinal] = c.Snapshot
		}
		switch interleave.Decide(c.State, c.Snapshot, tx) {
		case interleave.Drop:
			if c.State != domain.ChunkLanded && c.State != domain.ChunkReading {
				t.notBegun[ordinal] = true
			}
			return false
		case interleave.Apply:
			return true
		}
		m.why = fmt.Sprintf("changes wait for chunk %d of %s, which is being read", ordinal+1, t.Plan.Source)
		m.want(Pause{pause})
	}
}

// ofWhole says what a change of a whole table means while it loads, waiting while a chunk
// is being read. The transaction must be visible to every new read already.
func (m *Machine) ofWhole(t *table, tx domain.Tx) interleave.TruncateVerdict {
	for {
		if v := interleave.DecideTruncate(m.want(AskChunks{Table: t.ID}).Chunks, tx); v != interleave.TruncateWait {
			return v
		}
		m.want(Pause{50 * time.Millisecond})
	}
}

// settled waits until every chunk of a table that is being read now has landed or gone back;
// one that begins later sees all of the batch, and so may one that is being read. Once a
// batch is enough.
func (m *Machine) settled(t *table) {
	if t.settled {
		return
	}
	defer func() { m.why = "" }()
	var reading map[int64]int64
	for {
		now := map[int64]int64{}
		for _, k := range m.want(AskChunks{Table: t.ID}).Chunks {
			if k.State == domain.ChunkReading && !interleave.AllVisible(k.Snapshot, m.b.txs) {
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
			return
		}
		m.why = "a foreign key's own changes wait for chunks of " + t.Plan.Source.String() + " that are being read"
		m.want(Pause{20 * time.Millisecond})
	}
}
