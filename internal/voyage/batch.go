package voyage

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/interleave"
	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
)

// captured is a change with the transaction that made it.
type captured struct {
	tx domain.Tx
	ch domain.Change
}

// batch is what is applied to the target in one transaction.
type batch struct {
	f       *follower
	begun   bool
	txs     []domain.Tx
	changes []captured
	size    int

	folds map[int64]*fold.Fold
	whole map[int64][]domain.Change
}

func (b *batch) begin(ctx context.Context) error {
	if b.begun {
		return nil
	}
	b.begun = true
	return b.f.apply.Begin(ctx)
}

func (b *batch) abort() {
	if b.begun {
		b.f.apply.Abort()
	}
}

// flush applies the changes collected so far, without committing.
func (b *batch) flush(ctx context.Context) error {
	if len(b.changes) == 0 {
		b.txs = b.txs[:0]
		return nil
	}
	loading, err := b.f.loading(ctx)
	if err != nil {
		return err
	}
	if loading {
		if err := b.waitVisible(ctx); err != nil {
			return err
		}
		b.f.set.begin()
		if err := b.f.set.locate(ctx, b.changes, 0); err != nil {
			return err
		}
	}
	b.folds, b.whole = map[int64]*fold.Fold{}, map[int64][]domain.Change{}
	for i := range b.changes {
		c := &b.changes[i]
		t := b.f.set.tables[c.ch.Table]
		if t == nil {
			continue
		}
		if c.ch.Kind == domain.Redefine {
			if err := b.f.v.Store.NoteColumnChange(ctx, t.row.ID, c.tx.Commit); err != nil {
				return err
			}
			return domain.Conflict("the columns of %s have changed on the source: %s. Change the target's table alike and restart the table, or restart the crossing", t.row.SourceName, c.ch.Note)
		}
		if err := b.one(ctx, t, i, loading); err != nil {
			return err
		}
		if err := b.cascade(ctx, t, b.changes[i], loading); err != nil {
			return err
		}
	}
	err = b.write(ctx)
	// A transaction may go on in the next part: its changes are judged anew.
	if n := len(b.txs); n > 0 {
		b.txs = b.txs[n-1:]
	}
	b.changes, b.size = b.changes[:0], 0
	return err
}

// waitVisible waits until a fresh snapshot of the source sees every transaction
// of the batch; only then may the ledger be looked at.
func (b *batch) waitVisible(ctx context.Context) error {
	for pause := time.Millisecond; ; pause = min(pause*2, 50*time.Millisecond) {
		s, err := b.f.src.Snapshot(ctx)
		if err != nil {
			return err
		}
		if interleave.AllVisible(s, b.txs) {
			return nil
		}
		if !sleep(ctx, pause) {
			return ctx.Err()
		}
	}
}

// loading reports whether the interleaving rule is still needed: until every
// chunk has landed and the applied position has passed every snapshot.
func (f *follower) loading(ctx context.Context) (bool, error) {
	view, err := f.v.Store.View(ctx, f.c.ID)
	if err != nil {
		return false, err
	}
	done := view.Landed == view.Chunks && view.Phase != domain.PhaseLoading && f.applied >= view.MaxRead
	if done != f.consist {
		f.consist = done
		f.set.forget() // a table may have begun again
	}
	return !done, nil
}

// one passes a change through the rule into the folds.
func (b *batch) one(ctx context.Context, t *followed, i int, loading bool) error {
	c := &b.changes[i]
	if c.ch.Kind == domain.Truncate {
		return b.truncate(ctx, t, i, loading)
	}
	if len(t.key) == 0 {
		ok := true
		if loading {
			var err error
			if ok, err = b.f.set.decide(ctx, t, 0, c.tx); err != nil {
				return err
			}
		}
		if ok {
			b.f.count(t.row.ID, c.ch.Kind)
			b.whole[t.row.ID] = append(b.whole[t.row.ID], c.ch)
		}
		return nil
	}
	if fold.Moves(c.ch, t.key) {
		return b.move(ctx, t, i, loading)
	}
	counted := false
	for n, a := range fold.Split(c.ch, t.key) {
		ok := true
		if loading {
			var err error
			if ok, err = b.f.set.decide(ctx, t, t.at[i][n], c.tx); err != nil {
				return err
			}
		}
		if ok {
			b.fold(t).Add(a)
			if !counted {
				b.f.count(t.row.ID, c.ch.Kind)
				counted = true
			}
		}
	}
	return nil
}

func (b *batch) fold(t *followed) *fold.Fold {
	f := b.folds[t.row.ID]
	if f == nil {
		f = fold.New(t.key)
		b.folds[t.row.ID] = f
	}
	return f
}

// move handles the rare update that gives a row another key while leaving large
// values unsaid: they are carried over on the target where the old row is
// there, and fetched from the source where it is not.
func (b *batch) move(ctx context.Context, t *followed, i int, loading bool) error {
	c := &b.changes[i]
	from, to := true, true
	if loading {
		var err error
		if from, err = b.f.set.decide(ctx, t, t.at[i][0], c.tx); err != nil {
			return err
		}
		if to, err = b.f.set.decide(ctx, t, t.at[i][1], c.tx); err != nil {
			return err
		}
	}
	if from || to {
		b.f.count(t.row.ID, domain.Update)
	}
	switch {
	case from && to:
		if err := b.write(ctx); err != nil {
			return err
		}
		if err := b.begin(ctx); err != nil {
			return err
		}
		return b.f.apply.Move(ctx, &t.there, c.ch)
	case from:
		b.fold(t).Add(fold.Atom{Remove: true, Row: c.ch.Old})
	case to:
		row, err := b.f.src.FetchRow(ctx, &t.row.Plan.V, keyOf(c.ch.New, t.key))
		if err != nil {
			return err
		}
		if row != nil { // else it is gone again: a later change of the log says so
			b.fold(t).Add(fold.Atom{Row: row})
		}
	}
	return nil
}

// truncate empties all tables of one statement, or begins a table again when
// only some of its chunks have seen it.
func (b *batch) truncate(ctx context.Context, t *followed, i int, loading bool) error {
	c := &b.changes[i]
	if loading {
		for {
			chunks, err := b.f.v.Store.Chunks(ctx, t.row.ID)
			if err != nil {
				return err
			}
			var list []domain.Chunk
			for k := range chunks {
				list = append(list, chunks[k].Domain())
			}
			switch interleave.DecideTruncate(list, c.tx) {
			case interleave.TruncateDrop:
				return nil
			case interleave.TruncateRestart:
				b.f.v.Say(ctx, "warning", System, b.f.c.Name, t.row.SourceName, "restart", "%s was truncated on the source during the load; it is loaded again", t.row.SourceName)
				var all []records.Table
				for _, id := range b.f.set.order {
					all = append(all, *b.f.set.tables[id].row)
				}
				for _, d := range withDependents(all, t.row.SourceName) {
					if err := b.f.v.Store.ResetTable(ctx, d.ID); err != nil {
						return err
					}
					delete(b.folds, d.ID)
					delete(b.whole, d.ID)
				}
				b.f.set.forget()
				return nil
			case interleave.TruncateWait:
				if !sleep(ctx, 50*time.Millisecond) {
					return ctx.Err()
				}
				continue
			}
			break
		}
	}
	b.f.count(t.row.ID, domain.Truncate)
	if err := b.write(ctx); err != nil {
		return err
	}
	plans := []*domain.TablePlan{&t.there}
	if !loading {
		// The tables of one statement go together: foreign keys want it so.
		for j := i + 1; j < len(b.changes) && b.changes[j].ch.Kind == domain.Truncate && b.changes[j].ch.Group == c.ch.Group; j++ {
			if o := b.f.set.tables[b.changes[j].ch.Table]; o != nil {
				plans = append(plans, &o.there)
				b.f.count(o.row.ID, domain.Truncate)
				b.changes[j].ch.Table = 0
			}
		}
	}
	if err := b.begin(ctx); err != nil {
		return err
	}
	return b.f.apply.Truncate(ctx, plans, c.ch.Note)
}

// write brings the folds to the target.
func (b *batch) write(ctx context.Context) error {
	for _, id := range b.f.set.order {
		t := b.f.set.tables[id]
		if f := b.folds[id]; f != nil && f.Len() > 0 {
			if err := b.begin(ctx); err != nil {
				return err
			}
			if err := b.f.apply.Apply(ctx, &t.there, f.Net(), t.replace); err != nil {
				return err
			}
		}
		if list := b.whole[id]; len(list) > 0 {
			if err := b.begin(ctx); err != nil {
				return err
			}
			if err := b.f.apply.ApplyWhole(ctx, &t.there, list); err != nil {
				return err
			}
		}
	}
	clear(b.folds)
	clear(b.whole)
	return nil
}

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
	at       map[int][]int // change index -> chunk of each atom, for the present batch
	notBegun map[int]bool  // chunks found not begun after the batch became visible
	settled  bool          // what was being read when the batch became visible has landed
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
		t.at, t.notBegun, t.settled = map[int][]int{}, map[int]bool{}, false
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
	for {
		if snap, ok := t.landed[ordinal]; ok {
			return interleave.Decide(domain.ChunkLanded, snap, tx) == interleave.Apply, nil
		}
		if t.notBegun[ordinal] {
			return false, nil // found so after the whole batch was visible: good for all of it
		}
		rows, err := s.store.ChunkStates(ctx, t.row.ID, []int{ordinal})
		if err != nil {
			return false, err
		}
		if len(rows) == 0 {
			return false, nil // not cut yet: its read is still to come
		}
		c := rows[0].Domain()
		if c.State == domain.ChunkLanded {
			t.landed[ordinal] = c.Snapshot
		}
		switch interleave.Decide(c.State, c.Snapshot, tx) {
		case interleave.Drop:
			if c.State != domain.ChunkLanded {
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
		if !sleep(ctx, 20*time.Millisecond) {
			return false, ctx.Err()
		}
	}
}
