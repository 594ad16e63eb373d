package voyage

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/interleave"
	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/waits"
)

// followed is one table of a stream.
type followed struct {
	row      *records.Table
	there    domain.TablePlan // the plan as the target knows it
	key      []int            // positions of the key among the carried columns
	order    *keyorder.Order
	ours     bool
	replace  bool // unique values other than the key can change places
	bounds   []domain.KeyValue
	known    bool // bounds are read
	landed   map[int]domain.Snapshot
	at       map[int][]int           // change index -> chunk of each atom, for the present batch
	notBegun map[int]bool            // chunks found not begun after the batch became visible
	reading  map[int]domain.Snapshot // what reads that went on then see, as far as it is known
	settled  bool                    // what was being read when the batch became visible has landed
}

// tableSet is what a stream knows of its tables.
type tableSet struct {
	store  *records.Store
	src    engine.Source
	tables map[int64]*followed
	order  []int64
	acts   map[int64][]act   // of foreign keys, by the table they refer to
	waits  func(what string) // told what is waited for, and "" when it is over
}

func newTableSet(store *records.Store, src engine.Source, rows []records.Table) *tableSet {
	s := &tableSet{store: store, src: src, tables: map[int64]*followed{}, waits: func(string) {}}
	for i := range rows {
		p := &rows[i].Plan.V
		t := &followed{row: &rows[i], there: p.OnTarget(), key: p.KeyIndexes(p.Carried())}
		t.order, t.ours = keyorder.New(p.KeyColumns())
		t.ours = t.ours && p.KeyOrder == "ours"
		t.replace = replaces(p)
		s.tables[rows[i].ID] = t
		s.order = append(s.order, rows[i].ID)
	}
	s.acts = acts(s.tables, s.order)
	return s
}

// replaces reports whether rows have to be removed and inserted instead of
// updated in place: where another unique rule than the key's may be met half
// way, or a value may only be given at insertion.
func replaces(p *domain.TablePlan) bool {
	for _, k := range p.Table.Constraints {
		if k.Kind == "unique" && !slices.ContainsFunc(p.Table.Keys, func(x domain.Key) bool { return x.Name == k.Name && slices.Equal(x.Columns, p.Key) }) || k.Kind == "exclude" {
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

// forget drops what is known about chunks: a table may have begun again.
func (s *tableSet) forget() {
	for _, t := range s.tables {
		t.known, t.landed, t.bounds = false, nil, nil
	}
}

func keyOf(r domain.Row, key []int) domain.KeyValue {
	out := make(domain.KeyValue, len(key))
	for i, k := range key {
		out[i] = string(r[k].Data)
	}
	return out
}

// begin forgets what was found out for the batch before.
func (s *tableSet) begin() {
	for _, t := range s.tables {
		t.at, t.notBegun, t.reading, t.settled = map[int][]int{}, map[int]bool{}, map[int]domain.Snapshot{}, false
	}
}

// locate finds the chunk of every atom of the batch from one change on: by our own
// comparison where that is provably the source's, by one question to the source for
// the rest.
func (s *tableSet) locate(ctx context.Context, changes []captured, from int) error {
	type open struct {
		change, atom int
		key          domain.KeyValue
	}
	asks := map[int64][]open{}
	for i := from; i < len(changes); i++ {
		t := s.tables[changes[i].ch.Table]
		if t == nil || len(t.key) == 0 {
			continue
		}
		if err := s.know(ctx, t); err != nil {
			return err
		}
		for n, a := range fold.Split(changes[i].ch, t.key) {
			k := keyOf(a.Row, t.key)
			at, ok := 0, true
			if len(t.bounds) > 0 {
				ok = false
				if t.ours {
					at, ok = t.order.Locate(t.bounds, k)
				}
			}
			t.at[i] = append(t.at[i], at)
			if !ok {
				asks[t.row.ID] = append(asks[t.row.ID], open{i, n, k})
			}
		}
	}
	for id, list := range asks {
		t := s.tables[id]
		keys := make([]domain.KeyValue, len(list))
		for i := range list {
			keys[i] = list[i].key
		}
		at, err := s.src.Locate(ctx, &t.row.Plan.V, t.bounds, keys)
		if err != nil {
			return fmt.Errorf("asking the source which chunk a key is in: %w", err)
		}
		for i, o := range list {
			t.at[o.change][o.atom] = at[i]
		}
	}
	return nil
}

// look reads how the chunks of the located changes stand, once the whole batch is visible
// to every new read. A chunk that has not begun then is settled, whenever it begins: only
// those that were being read at that one moment are ever waited for, and of those only for
// what their reads do not see.
func (s *tableSet) look(ctx context.Context, changes []captured) error {
	of := map[int64]map[int]bool{}
	for i := range changes {
		t := s.tables[changes[i].ch.Table]
		if t == nil {
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
			if of[t.row.ID] == nil {
				of[t.row.ID] = map[int]bool{}
			}
			of[t.row.ID][n] = true
		}
	}
	for id, ordinals := range of {
		t := s.tables[id]
		if err := s.know(ctx, t); err != nil {
			return err
		}
		rows, err := s.store.ChunkStates(ctx, id, slices.Collect(maps.Keys(ordinals)))
		if err != nil {
			return err
		}
		for i := range rows {
			switch c := rows[i].Domain(); c.State {
			case domain.ChunkLanded:
				t.landed[c.Ordinal] = c.Snapshot
			case domain.ChunkReading:
				t.reading[c.Ordinal] = c.Snapshot
			default:
				t.notBegun[c.Ordinal] = true
			}
		}
	}
	return nil
}

// know reads a table's chunk bounds once.
func (s *tableSet) know(ctx context.Context, t *followed) error {
	if t.known {
		return nil
	}
	chunks, err := s.store.Chunks(ctx, t.row.ID)
	if err != nil {
		return err
	}
	t.bounds, t.landed = nil, map[int]domain.Snapshot{}
	for _, c := range chunks {
		if c.Ordinal > 0 {
			t.bounds = append(t.bounds, c.Lower.V)
		}
		if c.State == domain.ChunkLanded {
			t.landed[c.Ordinal] = c.Domain().Snapshot
		}
	}
	t.known = len(chunks) > 0
	return nil
}

// decide applies the rule to a change in a chunk, waiting while the chunk is
// being read.
func (s *tableSet) decide(ctx context.Context, t *followed, ordinal int, tx domain.Tx) (bool, error) {
	if err := s.know(ctx, t); err != nil {
		return false, err
	}
	waited := false
	for pause := 20 * time.Millisecond; ; pause = min(pause*3/2, 200*time.Millisecond) {
		if snap, ok := t.landed[ordinal]; ok {
			return interleave.Decide(domain.ChunkLanded, snap, tx) == interleave.Apply, nil
		}
		if t.notBegun[ordinal] {
			return false, nil // found so after the whole batch was visible: good for all of it
		}
		if interleave.Decide(domain.ChunkReading, t.reading[ordinal], tx) == interleave.Drop {
			return false, nil
		}
		rows, err := s.store.ChunkStates(ctx, t.row.ID, []int{ordinal})
		if err != nil {
			return false, err
		}
		if len(rows) == 0 {
			return false, nil // not cut yet: its read is still to come
		}
		c := rows[0].Domain()
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
			return false, nil
		case interleave.Apply:
			return true, nil
		}
		if !waited {
			waited = true
			s.waits(fmt.Sprintf("changes wait for chunk %d of %s, which is being read", ordinal+1, t.row.SourceName))
			defer s.waits("")
		}
		if !waits.Sleep(ctx, pause) {
			return false, ctx.Err()
		}
	}
}

// rows are the tables that are followed, in order.
func (s *tableSet) rows() []records.Table {
	out := make([]records.Table, 0, len(s.order))
	for _, id := range s.order {
		out = append(out, *s.tables[id].row)
	}
	return out
}
