package follow

import (
	"slices"

	"dustyferry/internal/core/interleave"
	"dustyferry/internal/domain"
)

// redefined handles a change of a table's columns that shows in a transaction. When nothing
// is to be done, the batch goes on as if nothing had been said. Otherwise what was collected
// before the transaction is committed; the log is then to be opened anew, from the
// transaction on.
func (m *Machine) redefined(tx domain.Tx, ch domain.Change) {
	t := m.tables[ch.Table]
	if t == nil {
		return
	}
	m.want(NoteSchemaChange{Table: t.ID, At: tx.Commit})
	loading, reads := m.readsSee(t, tx)
	if m.want(AskSchemaChange{Tx: tx, Change: ch, Reads: reads}).Yes {
		return
	}
	m.settleBefore()
	a := ApplySchemaChange{Change: ch, Loading: loading}
	if loading {
		a.With = m.dependents(t)
	}
	m.want(a)
}

// unsaid handles rows that have changed without the log saying which. While the table loads,
// reads that come see them; otherwise a person has it loaded again.
func (m *Machine) unsaid(tx domain.Tx, ch domain.Change) {
	t := m.tables[ch.Table]
	if t == nil {
		return
	}
	switch loading, reads := m.readsSee(t, tx); {
	case reads:
		return
	case loading && t.disk: // no read takes away what stands there, but an empty table does
		m.waitVisible(m.b.txs)
		with := m.restart(t)
		for i := range m.b.changes { // which reads that come see
			if c := &m.b.changes[i].ch; slices.Contains(with, c.Table) {
				c.Table = 0
			}
		}
		return
	}
	m.settleBefore()
	m.want(Hold{Table: t.ID, Note: ch.Note})
}

// readsSee reports whether a load is under way, and whether every read of the table has seen,
// or will see, what a transaction did to it as a whole.
func (m *Machine) readsSee(t *table, tx domain.Tx) (loading, reads bool) {
	if !m.loading() {
		return false, false
	}
	m.waitVisible([]domain.Tx{tx})
	if t.disk { // rows that stand came by the log, from before
		return true, false
	}
	return true, m.ofWhole(t, tx) == interleave.TruncateDrop
}

// settleBefore makes durable what was collected before the transaction at hand, which is read
// again.
func (m *Machine) settleBefore() {
	b := &m.b
	if b.written { // of this transaction alone
		m.abort()
		return
	}
	b.split()
	if b.committed > 0 {
		m.settle(b.last, false)
	}
}
