package follow

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/domain"
)

// captured is a change with the transaction that made it.
type captured struct {
	tx domain.Tx
	ch domain.Change
}

// batch is what goes to the target in one transaction.
type batch struct {
	begun   bool // something was written since the last commit
	inTx    bool
	began   time.Time
	txs     []domain.Tx
	changes []captured
	size    int

	last      domain.Tx       // the last whole transaction
	committed int             // whole transactions since the last commit
	progress  domain.Position // everything before it was delivered
	waiting   int64           // whole transactions that were taken and are not durable yet
	taken     int64           // bytes of changes since the last commit

	// Of the transaction that is being collected: where its changes begin, how much was
	// collected before it, and whether some of them are written already.
	mark    int
	before  int
	written bool

	visible bool // reads of the source see all of txs
	loading bool // the load is under way, as far as was found out for the batch
}

// gather is how long changes are collected for a batch during the load, while more are
// there than fit the queue.
const gather = time.Second

// actingChanges make a batch, until indexes stand, where foreign keys act by themselves.
const actingChanges = 1000

// limits are how many changes, and how many bytes of them, make a batch. During the load
// every batch may have to wait until a read has landed, which takes seconds: what has come
// meanwhile must fit the next one, or the lag, and the log that the source keeps, would
// grow with every read. Most of it is dropped by the rule. Not so where foreign keys act: each
// change may look for rows that refer to its row, and no index helps that is built only when a
// batch lets it have the table.
func (m *Machine) limits() (changes, bytes int) {
	if m.consistent {
		return m.set.BatchChanges, 32 << 20
	}
	changes = cmp.Or(m.set.LoadChanges, 200_000)
	if m.acting {
		changes = min(changes, actingChanges)
	}
	return changes, 48 << 20
}

func (m *Machine) full() bool {
	changes, bytes := m.limits()
	return len(m.b.changes) >= changes || m.b.size > bytes
}

// patience is how long an event is waited for.
func (m *Machine) patience() More {
	switch b := &m.b; {
	case b.inTx || b.committed == 0 && b.progress.IsZero():
		if !m.limit.IsZero() {
			return More{Patience: 200 * time.Millisecond}
		}
		return More{Patience: 100 * time.Millisecond}
	case !m.consistent:
		// the reader fills the queue again while it is emptied
		return More{Patience: 10 * time.Millisecond, Before: b.began.Add(gather)}
	}
	return More{}
}

// open begins to collect a transaction.
func (b *batch) open(tx domain.Tx) {
	b.inTx = true
	b.txs = append(b.txs, tx)
	b.mark, b.before, b.written, b.visible = len(b.changes), b.size, false, false
}

func (b *batch) add(e *domain.Event) {
	b.changes = append(b.changes, captured{e.Tx, e.Change})
	b.size += e.Size
	b.taken += int64(e.Size)
}

func (b *batch) close(tx domain.Tx) {
	b.inTx, b.last = false, tx
	b.committed++
	b.waiting++
}

// emptied is the room for changes without them: what they hold is free again.
func (b *batch) emptied() []captured {
	if cap(b.changes) > 50_000 {
		return nil
	}
	clear(b.changes)
	return b.changes[:0]
}

// split takes the changes of the transaction that is being collected out of the batch.
func (b *batch) split() (rest []captured, size int) {
	rest, size = slices.Clone(b.changes[b.mark:]), b.size-b.before
	b.changes, b.size = b.changes[:b.mark], b.before
	b.txs = b.txs[:len(b.txs)-1]
	return rest, size
}

// simple takes an event that only adds to the batch, and reports whether it was one: the
// way that nearly all events go.
func (m *Machine) simple(e *domain.Event) bool {
	switch b := &m.b; e.Kind {
	case domain.EventBegin:
		b.open(e.Tx)
	case domain.EventChange:
		changes, bytes := m.limits()
		if !e.Change.OfRows() || len(b.changes)+1 >= changes || b.size+e.Size > bytes {
			return false
		}
		b.add(e)
	case domain.EventCommit:
		if m.full() {
			return false
		}
		b.close(e.Tx)
	default:
		return false
	}
	return true
}

// batch collects what waits, applies it and commits. With a limit, it ends before the first
// transaction whose commit begins at or after it.
func (m *Machine) batch() {
	m.b = batch{began: m.now, taken: m.b.taken, waiting: m.b.waiting, changes: m.b.emptied(), txs: m.b.txs[:0]}
	m.collect()
	b := &m.b
	if b.committed > 0 {
		m.settle(b.last, m.limit.IsZero())
		return
	}
	if len(b.changes) > 0 {
		m.want(Fail{fmt.Sprintf("%d changes were read that belong to no transaction; nothing of them is applied",
			len(b.changes))})
	}
	if !b.progress.IsZero() {
		m.want(Passed{b.progress})
	}
	// The first change after the load need not wait for more.
	if !m.consistent && m.limit.IsZero() && m.now.Sub(m.lastLook) >= time.Second {
		m.lastLook = m.now
		m.loading()
	}
	// On a source that is quiet the target's position moves on all the same, and what a load has
	// brought back is taken away.
	if m.limit.IsZero() && m.now.Sub(m.lastCommit) >= time.Second && (b.progress.After(m.set.Applied) || m.remembers()) {
		m.settle(domain.Tx{End: b.progress.Later(m.set.Applied), At: m.set.AppliedAt}, true)
	}
}

// collect takes events until nothing comes, the batch is full, or the limit is reached.
func (m *Machine) collect() {
	b := &m.b
	for {
		if !m.get() {
			if b.inTx {
				continue
			}
			return
		}
		e := &m.event
		if m.beyond(e) {
			m.peeked = true
			return
		}
		switch e.Kind {
		case domain.EventBegin:
			b.open(e.Tx)
		case domain.EventChange:
			switch e.Change.Kind {
			case domain.Redefine:
				m.redefined(e.Tx, e.Change)
				continue
			case domain.Unread:
				m.unsaid(e.Tx, e.Change)
				continue
			}
			if !e.Change.OfRows() {
				m.want(Fail{fmt.Sprintf("the log gave a change of kind %d, which is not known; nothing of its "+
					"transaction is applied", e.Change.Kind)})
			}
			b.add(e)
		case domain.EventCommit:
			if b.close(e.Tx); !m.full() {
				continue
			}
			return
		case domain.EventVoid:
			m.void()
		case domain.EventProgress:
			if b.progress = e.Position; !m.limit.IsZero() && !b.progress.Before(m.limit) {
				m.peeked = true
				return
			}
		default:
			m.want(Fail{fmt.Sprintf("the log gave an event of kind %d, which is not known; nothing after it is applied",
				e.Kind)})
		}
		if !m.full() {
			continue
		}
		if !b.inTx {
			return
		}
		m.oversize()
	}
}

// oversize handles a transaction that is larger than a batch: it gets one of the target's for
// itself, into which it is written in parts.
func (m *Machine) oversize() {
	b := &m.b
	if b.committed == 0 {
		m.flush()
		return
	}
	tx := b.txs[len(b.txs)-1]
	rest, size := b.split()
	m.settle(b.last, false)
	b.committed = 0
	b.open(tx)
	b.changes, b.size = append(b.changes, rest...), b.size+size
}

// void drops the transaction that is being collected: its server died before it was committed.
func (m *Machine) void() {
	b := &m.b
	b.inTx = false
	if !b.written {
		b.split()
		return
	}
	m.abort() // the target's transaction is of this one alone
	b.changes, b.txs, b.size = b.emptied(), b.txs[:0], 0
}

func (m *Machine) abort() {
	if m.b.begun {
		m.want(Abort{})
	}
	m.b.begun = false
	clear(m.counts)
	m.undone()
}

// settle writes what was collected and makes it durable with the position after its last
// transaction. Transactions without changes of ours (heartbeats mostly) need no commit of
// their own on the target each time: with lazily, some are left for later.
func (m *Machine) settle(last domain.Tx, lazily bool) {
	m.flush()
	b := &m.b
	if lazily && !b.begun && m.now.Sub(m.lastCommit) < 100*time.Millisecond {
		b.waiting = 0
		return
	}
	m.lastCommit = m.now
	m.want(Commit{Last: last, Txs: b.waiting, Bytes: b.taken, Counts: m.counts})
	m.set.Applied = m.set.Applied.Later(last.End)
	m.set.AppliedAt = max(m.set.AppliedAt, last.At)
	b.begun, b.waiting, b.taken = false, 0, 0
	m.passed()
	m.swept()
	m.counts = map[int64]*Counts{}
}

func (m *Machine) count(t *table, kind domain.ChangeKind) {
	k := m.counts[t.ID]
	if k == nil {
		k = &Counts{}
		m.counts[t.ID] = k
	}
	k.Add(kind)
}
