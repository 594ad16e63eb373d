package follow

import (
	"maps"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/interleave"
	"dustyferry/internal/domain"
)

// effects are what a part of a batch does to the tables, before it is written.
type effects struct {
	folds map[int64]*fold.Fold
	whole map[int64][]domain.Change
}

// flush applies the changes collected so far, without committing.
func (m *Machine) flush() {
	b := &m.b
	if len(b.changes) == 0 {
		b.txs = b.txs[:0]
		if m.remembers() {
			m.sweep(m.loading())
		}
		return
	}
	loading := m.loading()
	m.sweep(loading)
	b.loading = loading
	if loading {
		m.batchVisible()
		m.beginBatch()
		m.locate(0)
		m.look()
	}
	e := &effects{folds: map[int64]*fold.Fold{}, whole: map[int64][]domain.Change{}}
	for i, n := 0, len(b.changes); i < n; i++ {
		t := m.tables[b.changes[i].ch.Table]
		if t == nil {
			continue
		}
		m.one(e, t, i, loading)
		m.cascade(e, t, b.changes[i], loading)
	}
	m.write(e)
	// A transaction may go on in the next part: its changes are judged anew.
	if n := len(b.txs); n > 0 {
		b.txs = b.txs[n-1:]
	}
	b.changes, b.size, b.mark, b.before, b.written = b.emptied(), 0, 0, 0, true
}

// batchVisible waits until reads of the source see all of the batch; once is enough.
func (m *Machine) batchVisible() {
	if !m.b.visible {
		m.waitVisible(m.b.txs)
		m.b.visible = true
	}
}

// waitVisible waits until a fresh snapshot of the source sees all transactions; only then
// may the ledger be looked at.
func (m *Machine) waitVisible(txs []domain.Tx) {
	for pause := time.Millisecond; ; pause = min(pause*2, 50*time.Millisecond) {
		if interleave.AllVisible(m.want(AskSnapshot{}).Snapshot, txs) {
			return
		}
		m.want(Pause{pause})
	}
}

// loading reports whether the interleaving rule is still needed: until every chunk has
// landed and the applied position has passed every snapshot.
func (m *Machine) loading() bool {
	if !m.set.Copies {
		return false
	}
	v := m.want(AskLoad{}).Load
	done := v.Landed == v.Chunks && v.Phase != domain.PhaseLoading && !m.set.Applied.Before(v.MaxRead)
	if done != m.consistent {
		m.consistent = done
		m.forget() // a table may have begun again
	}
	return !done
}

// one passes a change through the rule into the effects.
func (m *Machine) one(e *effects, t *table, i int, loading bool) {
	c := &m.b.changes[i]
	if c.ch.Kind == domain.Truncate {
		m.truncate(e, t, i, loading)
		return
	}
	if len(t.key) == 0 {
		if c.ch.Unsure {
			m.want(Fail{"the log gave an update of a table without a key that lacks values; nothing of its " +
				"transaction is applied"})
		}
		if !loading || m.decide(t, 0, c.tx) {
			m.count(t, c.ch.Kind)
			e.whole[t.ID] = append(e.whole[t.ID], c.ch)
		}
		return
	}
	if c.ch.Unsure {
		m.unsure(e, t, i, loading)
		return
	}
	if fold.Moves(c.ch, t.key) {
		m.move(e, t, i, loading)
		return
	}
	counted := false
	for n, a := range fold.Split(c.ch, t.key) {
		if loading && !t.disk && !m.decide(t, t.at[i][n], c.tx) {
			continue
		}
		e.fold(t).Add(a)
		if !counted {
			m.count(t, c.ch.Kind)
			counted = true
		}
	}
}

func (e *effects) fold(t *table) *fold.Fold {
	f := e.folds[t.ID]
	if f == nil {
		f = fold.New(t.key)
		e.folds[t.ID] = f
	}
	return f
}

// move handles the rare update that gives a row another key while leaving large values
// unsaid: they are carried over on the target where the old row is there, and fetched from
// the source where it is not.
func (m *Machine) move(e *effects, t *table, i int, loading bool) {
	c := &m.b.changes[i]
	from, to := true, true
	if loading && !t.disk {
		from = m.decide(t, t.at[i][0], c.tx)
		to = m.decide(t, t.at[i][1], c.tx)
	}
	if from || to {
		m.count(t, domain.Update)
	}
	switch {
	case from && to && (loading && t.disk || m.ahead(t, c.ch.Old, c.tx)):
		e.fold(t).Add(fold.Atom{Remove: true, Row: c.ch.Old})
		m.fetch(t, e.fold(t), c.ch.New)
	case from && to:
		m.write(e)
		if m.change(Move{Table: t.ID, Change: c.ch}).Yes {
			return
		}
		// It came there under another key since, or not at all: it is fetched as it is now.
		m.fetch(t, e.fold(t), c.ch.New)
	case from:
		e.fold(t).Add(fold.Atom{Remove: true, Row: c.ch.Old})
	case to:
		m.fetch(t, e.fold(t), c.ch.New)
	}
}

// unsure handles an update of which the log may lack values that changed: the row is read from
// the source. Where it is not there any more, it must not stay on the target as it was, as a
// later change of its key would take along what this update had changed.
func (m *Machine) unsure(e *effects, t *table, i int, loading bool) {
	c := &m.b.changes[i]
	counted := false
	for n, a := range fold.Split(c.ch, t.key) {
		if loading && !t.disk && !m.decide(t, t.at[i][n], c.tx) {
			continue
		}
		if !counted {
			m.count(t, domain.Update)
			counted = true
		}
		if a.Remove {
			e.fold(t).Add(a)
		} else if !m.fetch(t, e.fold(t), a.Row) {
			e.fold(t).Add(fold.Atom{Remove: true, Row: a.Row})
		}
	}
}

// fetch puts a row as it is on the source now: what came after the change at hand comes again
// and changes nothing by that. A row that is gone, or has another key, a later change of the
// log tells of.
//
// It may not even be the row that the change is about, but one that has its key since. Then
// values that the log leaves unsaid must not be taken from it: what every such row has seen
// is remembered, until the log has told of all that. It reports whether any of the rows is there.
func (m *Machine) fetch(t *table, to *fold.Fold, of ...domain.Row) bool {
	m.batchVisible() // a read that does not see the change itself says nothing
	var keys []string
	for _, r := range of {
		if row := m.want(AskRow{Table: t.ID, Key: keyOf(r, t.key)}).Row; row != nil {
			to.Add(fold.Atom{Row: row})
			keys = append(keys, domain.KeyText(row, t.key))
		}
	}
	if len(keys) == 0 {
		return false
	}
	saw := m.want(AskSnapshot{}).Snapshot // at or after what was seen
	for _, k := range keys {
		t.fetched[k] = saw
	}
	return true
}

// ahead reports whether the row that the target has at a key may be another than the one that
// a transaction found there, as it was fetched later.
func (m *Machine) ahead(t *table, row domain.Row, tx domain.Tx) bool {
	saw, fetched := t.fetched[domain.KeyText(row, t.key)]
	return tx.Commit.Before(m.began) || fetched && saw.Sees(tx)
}

// passed forgets what was fetched, where the log has told of all that was seen then.
func (m *Machine) passed() {
	for _, t := range m.tables {
		maps.DeleteFunc(t.fetched, func(_ string, saw domain.Snapshot) bool { return !m.set.Applied.Before(saw.Log) })
	}
}

// truncate empties all tables of one statement, or has a table loaded again when only some
// of its chunks have seen it.
func (m *Machine) truncate(e *effects, t *table, i int, loading bool) {
	c := &m.b.changes[i]
	if loading {
		verdict := interleave.TruncateRestart // the pages are others now, and what stands came by the log
		if !t.disk {
			verdict = m.ofWhole(t, c.tx)
		}
		switch verdict {
		case interleave.TruncateDrop:
			return
		case interleave.TruncateRestart:
			for _, id := range m.restart(t) {
				delete(e.folds, id)
				delete(e.whole, id)
			}
			return
		}
	}
	m.count(t, domain.Truncate)
	m.write(e)
	ids := []int64{t.ID}
	if !loading {
		// The tables of one statement go together: foreign keys want it so.
		for j := i + 1; j < len(m.b.changes); j++ {
			o := &m.b.changes[j].ch
			if o.Kind != domain.Truncate || o.Group != c.ch.Group {
				break
			}
			if other := m.tables[o.Table]; other != nil {
				ids = append(ids, other.ID)
				m.count(other, domain.Truncate)
				o.Table = 0
			}
		}
	}
	m.change(Truncate{Tables: ids, Note: c.ch.Note})
}

// restart has a table loaded again, from empty, with those that had to wait for it.
func (m *Machine) restart(t *table) []int64 {
	with := m.dependents(t)
	m.want(Restart{Table: t.ID, With: with})
	m.emptied(with)
	m.forget()
	return with
}

// change asks for something that becomes part of the target's transaction.
func (m *Machine) change(a Ask) Input {
	m.b.begun = true
	return m.want(a)
}

// write brings the effects to the target.
func (m *Machine) write(e *effects) {
	for _, id := range m.order {
		t := m.tables[id]
		if f := e.folds[id]; f != nil && f.Len() > 0 {
			n := f.Net()
			m.remember(t, n)
			m.missing(t, m.change(Write{Table: id, Net: n, Replace: t.replace}).Rows)
		}
		if list := e.whole[id]; len(list) > 0 {
			m.change(WriteWhole{Table: id, Changes: list})
		}
	}
	clear(e.folds)
	clear(e.whole)
}

// missing puts rows that a change took for there, with values that it left unsaid, and that
// are not: as the source has them now.
func (m *Machine) missing(t *table, rows []domain.Row) {
	if len(rows) == 0 {
		return
	}
	whole := fold.New(t.key)
	m.fetch(t, whole, rows...)
	if whole.Len() > 0 {
		n := whole.Net()
		m.remember(t, n)
		m.change(Write{Table: t.ID, Net: n, Replace: t.replace})
	}
}
