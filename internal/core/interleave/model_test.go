package interleave_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"testing"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/interleave"
	"dustyferry/internal/domain"
)

// model is a small database with snapshots, a log, chunk readers that can die
// and an applier that can be replaced. It uses the real rule and the real fold.
type model struct {
	rng      *rand.Rand
	keys     int
	chunks   []domain.Chunk
	held     []map[int]string // rows read but not landed yet, per chunk
	heldSnap []domain.Snapshot

	rows    map[int]string // committed and visible
	nextTx  uint64
	open    []*txn // written, commit record not in the log
	logged  []*txn // commit record in the log, not yet visible to new snapshots
	visible map[uint64]bool
	log     []*txn

	target  map[int]string
	applied int // transactions of the log applied, durable with target
	waitFor bool
}

type txn struct {
	id  uint64
	ops []op
	pos domain.Position
}

type op struct {
	kind     domain.ChangeKind
	old, new int
	value    string
}

func (m *model) chunkOf(key int) int { return key * len(m.chunks) / m.keys }

// snapshot sees what is visible now: transactions open or merely logged are
// running in it, as a server's own snapshots have it.
func (m *model) snapshot() domain.Snapshot {
	s := domain.Snapshot{Xmax: m.nextTx, Xmin: m.nextTx}
	for id := uint64(1); id < m.nextTx; id++ {
		if !m.visible[id] {
			if s.Xmin == m.nextTx {
				s.Xmin = id
			}
			s.Running = append(s.Running, id)
		}
	}
	return s
}

func (m *model) begin() {
	t := &txn{id: m.nextTx}
	m.nextTx++
	busy := map[int]bool{} // row locks held by others
	for _, other := range append(append([]*txn{}, m.open...), m.logged...) {
		for _, o := range other.ops {
			busy[o.old], busy[o.new] = true, true
		}
	}
	view := maps.Clone(m.rows)
	for n := 1 + m.rng.IntN(3); n > 0; n-- {
		k, k2 := m.rng.IntN(m.keys), m.rng.IntN(m.keys)
		if busy[k] || busy[k2] {
			continue
		}
		v := fmt.Sprintf("%d.%d", t.id, n)
		_, has := view[k]
		_, has2 := view[k2]
		switch {
		case !has:
			t.ops = append(t.ops, op{domain.Insert, k, k, v})
			view[k] = v
		case m.rng.IntN(3) == 0:
			t.ops = append(t.ops, op{domain.Delete, k, k, ""})
			delete(view, k)
		case m.rng.IntN(2) == 0 && k != k2 && !has2:
			t.ops = append(t.ops, op{domain.Update, k, k2, v})
			delete(view, k)
			view[k2] = v
		default:
			t.ops = append(t.ops, op{domain.Update, k, k, v})
			view[k] = v
		}
	}
	m.open = append(m.open, t)
}

func take(list *[]*txn, i int) *txn {
	t := (*list)[i]
	*list = append((*list)[:i:i], (*list)[i+1:]...)
	return t
}

func (m *model) step() { m.do(m.rng.IntN(13)) }

func (m *model) do(what int) {
	switch what {
	case 0, 1, 2:
		m.begin()
	case 3, 4: // the commit record reaches the log
		if len(m.open) > 0 {
			t := take(&m.open, m.rng.IntN(len(m.open)))
			t.pos = domain.PositionAt(uint64(len(m.log) + 1))
			m.log = append(m.log, t)
			m.logged = append(m.logged, t)
		}
	case 5, 6: // new snapshots begin to see it, not always in log order
		if len(m.logged) > 0 {
			t := take(&m.logged, m.rng.IntN(len(m.logged)))
			for _, o := range t.ops {
				delete(m.rows, o.old)
				if o.kind != domain.Delete {
					m.rows[o.new] = o.value
				}
			}
			m.visible[t.id] = true
		}
	case 7, 8:
		m.beginRead(m.rng.IntN(len(m.chunks)))
	case 9: // who reads says in what snapshot
		if i := m.rng.IntN(len(m.chunks)); m.chunks[i].State == domain.ChunkReading {
			m.chunks[i].Snapshot = m.heldSnap[i]
		}
	case 10, 11:
		m.endRead(m.rng.IntN(len(m.chunks)), m.rng.IntN(4) == 0)
	default:
		m.apply()
	}
}

func (m *model) beginRead(i int) {
	c := &m.chunks[i]
	if c.State != domain.ChunkPending {
		return
	}
	c.State, c.Snapshot = domain.ChunkReading, domain.Snapshot{}
	m.heldSnap[i] = m.snapshot()
	m.held[i] = map[int]string{}
	for k, v := range m.rows {
		if m.chunkOf(k) == i {
			m.held[i][k] = v
		}
	}
}

func (m *model) endRead(i int, dies bool) {
	c := &m.chunks[i]
	if c.State != domain.ChunkReading {
		return
	}
	if dies {
		c.State = domain.ChunkPending
		return
	}
	for k, v := range m.held[i] {
		m.target[k] = v
	}
	c.State, c.Snapshot = domain.ChunkLanded, m.heldSnap[i]
}

// apply takes a batch of the log through the rule and the fold, and commits it
// with its position, or dies before the commit.
func (m *model) apply() {
	n := min(1+m.rng.IntN(4), len(m.log)-m.applied)
	batch := m.log[m.applied : m.applied+n]
	var txs []domain.Tx
	for _, t := range batch {
		txs = append(txs, domain.Tx{ID: t.id, Commit: t.pos})
	}
	if m.waitFor && !interleave.AllVisible(m.snapshot(), txs) {
		return // ask again later
	}
	f := fold.New([]int{0})
	text := func(k int, v string) domain.Row {
		return domain.Row{{Kind: domain.Present, Data: fmt.Append(nil, k)}, {Kind: domain.Present, Data: []byte(v)}}
	}
	for i, t := range batch {
		for _, o := range t.ops {
			ch := domain.Change{Kind: o.kind}
			if o.kind != domain.Insert {
				ch.Old = text(o.old, "")
			}
			if o.kind != domain.Delete {
				ch.New = text(o.new, o.value)
			}
			for _, a := range fold.Split(ch, []int{0}) {
				at := o.new
				if a.Remove {
					at = o.old
				}
				c := m.chunks[m.chunkOf(at)]
				switch interleave.Decide(c.State, c.Snapshot, txs[i]) {
				case interleave.Wait:
					return
				case interleave.Apply:
					f.Add(a)
				}
			}
		}
	}
	if m.rng.IntN(6) == 0 {
		return // killed before the commit: nothing of it stays
	}
	key := func(r domain.Row) int { var k int; fmt.Sscan(string(r[0].Data), &k); return k }
	net := f.Net()
	for _, r := range net.Removes {
		delete(m.target, key(r))
	}
	for _, r := range net.Puts {
		m.target[key(r)] = string(r[1].Data)
	}
	m.applied += n
}

func (m *model) finish() {
	for i := range m.chunks {
		m.endRead(i, true)
		m.beginRead(i)
		m.endRead(i, false)
	}
	for len(m.open)+len(m.logged) > 0 || m.applied < len(m.log) {
		m.do([]int{3, 5, 12}[m.rng.IntN(3)])
	}
}

func history(seed uint64, wait bool) (string, bool) {
	m := &model{
		rng: rand.New(rand.NewPCG(seed, 7)), keys: 12, waitFor: wait,
		chunks: make([]domain.Chunk, 3), held: make([]map[int]string, 3), heldSnap: make([]domain.Snapshot, 3),
		rows: map[int]string{}, target: map[int]string{}, visible: map[uint64]bool{}, nextTx: 1,
	}
	for i := range m.chunks {
		m.chunks[i].State = domain.ChunkPending
	}
	for k := 0; k < m.keys; k += 2 {
		m.rows[k] = "seed"
	}
	for range 60 {
		m.step()
	}
	m.finish()
	return fmt.Sprintf("source %v\ntarget %v", m.rows, m.target), maps.Equal(m.rows, m.target)
}

func TestTargetEqualsSourceAfterRandomHistories(t *testing.T) {
	n := uint64(20_000)
	if testing.Short() {
		n = 2_000
	}
	for seed := range n {
		if got, ok := history(seed, true); !ok {
			t.Fatalf("history %d ends with the target unlike the source:\n%s", seed, got)
		}
	}
}

// Without the wait for visibility some histories must go wrong; if none does,
// the model is too tame to prove anything.
func TestHistoriesGoWrongWithoutTheWait(t *testing.T) {
	wrong := 0
	for seed := range uint64(20_000) {
		if _, ok := history(seed, false); !ok {
			wrong++
		}
	}
	if wrong == 0 {
		t.Fatal("20,000 histories without the visibility wait all ended right: the model cannot tell")
	}
	t.Logf("%d of 20000 histories end wrong without the wait", wrong)
}

func TestTruncate(t *testing.T) {
	saw := domain.Snapshot{Xmin: 10, Xmax: 10}
	missed := domain.Snapshot{Xmin: 5, Xmax: 5}
	tx := domain.Tx{ID: 7}
	chunk := func(s domain.ChunkState, r domain.Snapshot) domain.Chunk { return domain.Chunk{State: s, Snapshot: r} }
	for _, c := range []struct {
		name   string
		chunks []domain.Chunk
		want   interleave.TruncateVerdict
	}{
		{"every landed read saw it", []domain.Chunk{chunk(domain.ChunkLanded, saw), chunk(domain.ChunkPending, saw)},
			interleave.TruncateDrop},
		{"no landed read saw it", []domain.Chunk{chunk(domain.ChunkLanded, missed), chunk(domain.ChunkLanded, missed)},
			interleave.TruncateApply},
		{"one saw it, one did not", []domain.Chunk{chunk(domain.ChunkLanded, missed), chunk(domain.ChunkLanded, saw)},
			interleave.TruncateRestart},
		{"one landed before, one is to come", []domain.Chunk{chunk(domain.ChunkLanded, missed), chunk(domain.ChunkPending,
			saw)}, interleave.TruncateRestart},
		{"one is being read", []domain.Chunk{chunk(domain.ChunkLanded, missed), chunk(domain.ChunkReading, saw)},
			interleave.TruncateWait},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := interleave.DecideTruncate(c.chunks, tx); got != c.want {
				t.Errorf("verdict %v, want %v", got, c.want)
			}
		})
	}
}
