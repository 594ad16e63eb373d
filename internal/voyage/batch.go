package voyage

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/interleave"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/waits"
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
	taken   int64 // bytes of changes since the last commit

	// Of the transaction that is being collected: where its changes begin, how much was
	// collected before it, and whether some of them are written already.
	mark    int
	before  int
	written bool

	folds map[int64]*fold.Fold
	whole map[int64][]domain.Change
}

// open begins to collect a transaction.
func (b *batch) open(tx domain.Tx) {
	b.txs = append(b.txs, tx)
	b.mark, b.before, b.written = len(b.changes), b.size, false
}

// split takes the changes of the transaction that is being collected out of the batch.
func (b *batch) split() (rest []captured, size int) {
	rest, size = slices.Clone(b.changes[b.mark:]), b.size-b.before
	b.changes, b.size = b.changes[:b.mark], b.before
	b.txs = b.txs[:len(b.txs)-1]
	return rest, size
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
		if err := b.f.set.look(ctx, b.changes); err != nil {
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
	b.changes, b.size, b.mark, b.before, b.written = b.changes[:0], 0, 0, 0, true
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
		if !waits.Sleep(ctx, pause) {
			return ctx.Err()
		}
	}
}

// loading reports whether the interleaving rule is still needed: until every
// chunk has landed and the applied position has passed every snapshot.
func (f *follower) loading(ctx context.Context) (bool, error) {
	if f.c.Kind == domain.KindCapture {
		f.consist = true
		return false, nil
	}
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
		moved, err := b.f.apply.Move(ctx, &t.there, c.ch)
		if err != nil || moved {
			return err
		}
		// It came there under another key since, or not at all: it is fetched as it is now.
		return b.fetch(ctx, t, c.ch.New)
	case from:
		b.fold(t).Add(fold.Atom{Remove: true, Row: c.ch.Old})
	case to:
		return b.fetch(ctx, t, c.ch.New)
	}
	return nil
}

// fetch puts a row as it is on the source now: what came after the change at hand comes again
// and changes nothing by that. A row that is gone, or has another key, a later change of the
// log tells of.
func (b *batch) fetch(ctx context.Context, t *followed, of domain.Row) error {
	return b.fetchInto(ctx, t, of, b.fold(t))
}

func (b *batch) fetchInto(ctx context.Context, t *followed, of domain.Row, to *fold.Fold) error {
	row, err := b.f.src.FetchRow(ctx, &t.row.Plan.V, keyOf(of, t.key))
	if err == nil && row != nil {
		to.Add(fold.Atom{Row: row})
	}
	return err
}

// truncate empties all tables of one statement, or begins a table again when
// only some of its chunks have seen it.
func (b *batch) truncate(ctx context.Context, t *followed, i int, loading bool) error {
	c := &b.changes[i]
	if loading {
		verdict, err := b.f.ofWhole(ctx, t, c.tx)
		if err != nil {
			return err
		}
		switch verdict {
		case interleave.TruncateDrop:
			return nil
		case interleave.TruncateRestart:
			b.f.v.Say(ctx, "warning", System, b.f.c.Name, t.row.SourceName, "restart", "%s was truncated on the source during the load; it is loaded again", t.row.SourceName)
			for _, d := range withDependents(b.f.set.rows(), t.row.SourceName) {
				if err := b.f.v.Store.ResetTable(ctx, d.ID); err != nil {
					return err
				}
				delete(b.folds, d.ID)
				delete(b.whole, d.ID)
			}
			b.f.set.forget()
			return nil
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

// ofWhole says what a change of a whole table means while it loads, waiting while a chunk
// is being read. The transaction must be visible to every new read already.
func (f *follower) ofWhole(ctx context.Context, t *followed, tx domain.Tx) (interleave.TruncateVerdict, error) {
	for {
		chunks, err := f.v.Store.Chunks(ctx, t.row.ID)
		if err != nil {
			return 0, err
		}
		var list []domain.Chunk
		for k := range chunks {
			list = append(list, chunks[k].Domain())
		}
		if v := interleave.DecideTruncate(list, tx); v != interleave.TruncateWait {
			return v, nil
		}
		if !waits.Sleep(ctx, 50*time.Millisecond) {
			return 0, ctx.Err()
		}
	}
}

// missing puts rows that a change took for there, with values that it left unsaid, and that
// are not: as the source has them now.
func (b *batch) missing(ctx context.Context, t *followed, rows []domain.Row) error {
	if len(rows) == 0 {
		return nil
	}
	whole := fold.New(t.key)
	for _, r := range rows {
		if err := b.fetchInto(ctx, t, r, whole); err != nil {
			return err
		}
	}
	_, err := b.f.apply.Apply(ctx, &t.there, whole.Net(), t.replace)
	return err
}

// write brings the folds to the target.
func (b *batch) write(ctx context.Context) error {
	for _, id := range b.f.set.order {
		t := b.f.set.tables[id]
		if f := b.folds[id]; f != nil && f.Len() > 0 {
			if err := b.begin(ctx); err != nil {
				return err
			}
			missing, err := b.f.apply.Apply(ctx, &t.there, f.Net(), t.replace)
			if err != nil {
				return b.f.partitioned(ctx, t, err)
			}
			if err := b.missing(ctx, t, missing); err != nil {
				return err
			}
		}
		if list := b.whole[id]; len(list) > 0 {
			if err := b.begin(ctx); err != nil {
				return err
			}
			if err := b.f.apply.ApplyWhole(ctx, &t.there, list); err != nil {
				return fmt.Errorf("%s: %w", t.row.SourceName, err)
			}
		}
	}
	clear(b.folds)
	clear(b.whole)
	return nil
}
