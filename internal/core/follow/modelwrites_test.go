package follow_test

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"dustyferry/internal/domain"
)

// writing is a transaction that is being made.
type writing struct {
	w    *world
	t    *txn
	view state
	busy map[string]bool // locked by others
	// stuck: it would have to wait in the middle of a statement, and is taken back whole.
	stuck bool
}

func lock(t int64, key string) string { return fmt.Sprint(t, "/", key) }

func (x *writing) free(t int64, key string) bool {
	return !x.busy[lock(t, key)] && !x.busy[lock(t, "*")]
}

func (x *writing) put(t int64, key string, row []string) {
	x.t.locks[lock(t, key)] = true
	page := x.w.rng.IntN(keys / perChunk)
	if at, is := x.w.pages[key]; is && x.w.rng.IntN(2) == 0 {
		page = at
	}
	x.t.effects = append(x.t.effects, effect{t, key, row, page})
	if row == nil {
		delete(x.view[t], key)
	} else {
		x.view[t][key] = row
	}
}

func rowOf(cols []string) domain.Row {
	if cols == nil {
		return nil
	}
	r := make(domain.Row, len(cols))
	for i, c := range cols {
		if c != null {
			r[i] = domain.Value{Kind: domain.Present, Data: []byte(c)}
		}
	}
	return r
}

func (x *writing) log(kind domain.ChangeKind, t int64, old, now []string) {
	c := domain.Change{Kind: kind, Table: t, Old: rowOf(old), New: rowOf(now), OldWhole: old != nil}
	if t == lots {
		c.OldWhole = false
		switch {
		case kind == domain.Update:
			if old[0] == now[0] {
				c.Old = nil
			} else {
				c.Old = domain.Row{c.Old[0], {}, {}}
			}
			if old[2] == now[2] {
				c.New[2] = domain.Value{Kind: domain.Unchanged}
			}
			if x.w.rng.IntN(5) == 0 { // a log that also leaves out what has changed
				c.Unsure = true
				c.New[1+x.w.rng.IntN(2)] = domain.Value{Kind: domain.Unchanged}
			}
		case kind == domain.Delete:
			c.Old = domain.Row{c.Old[0], {}, {}}
		}
	}
	x.t.changes = append(x.t.changes, c)
}

// referring are the rows of the child table that refer to a key, or whether one of them is
// locked by others.
func (x *writing) referring(child int64, key string) (found []string, ok bool) {
	for _, k := range slices.Sorted(maps.Keys(x.view[child])) {
		if x.view[child][k][1] == key {
			if !x.free(child, k) {
				return nil, false
			}
			found = append(found, k)
		}
	}
	return found, true
}

// follows does what foreign keys do by themselves when a row's key goes or changes.
func (x *writing) follows(parent int64, from, to string, setNull bool) bool {
	child := parent + 1
	if parent > frames {
		return true
	}
	found, ok := x.referring(child, from)
	if !ok {
		return false
	}
	for _, k := range found {
		row := slices.Clone(x.view[child][k])
		switch {
		case to != "":
			row[1] = to
		case setNull:
			row[1] = null
		default:
			if !x.follows(child, k, "", false) {
				return false
			}
			row = nil
		}
		x.put(child, k, row)
	}
	return true
}

// begin makes a transaction of a few operations, without those that would have to wait for
// another's lock.
func (w *world) begin() {
	x := &writing{w: w, t: &txn{tx: domain.Tx{ID: w.nextTx}, locks: map[string]bool{}}, view: w.rows.clone(),
		busy: map[string]bool{}}
	for _, o := range slices.Concat(w.open, w.logged) {
		maps.Copy(x.busy, o.locks)
	}
	n := 1 + w.rng.IntN(3)
	if w.rng.IntN(12) == 0 {
		n = 15
	}
	for range n {
		x.operation()
	}
	if len(x.t.changes) == 0 || x.stuck {
		return
	}
	w.nextTx++
	if w.rng.IntN(15) == 0 { // the log has it, and its server dies before it is committed
		x.t.void, x.t.effects = true, nil
		w.write(x.t)
		return
	}
	w.running[x.t.tx.ID] = true
	w.open = append(w.open, x.t)
}

func (x *writing) operation() {
	rng := x.w.rng
	t := hives + int64(rng.IntN(5))
	if x.w.disk && rng.IntN(3) == 0 {
		t = lots
	}
	k, to := strconv.Itoa(rng.IntN(keys)), strconv.Itoa(rng.IntN(keys))
	v := fmt.Sprintf("%d.%d", x.t.tx.ID, len(x.t.changes))
	switch {
	case t == visits:
		x.visit(v)
		return
	case t == lots && rng.IntN(8) == 0:
		x.wholeTable()
		return
	case !x.free(t, k) || !x.free(t, to):
		return
	}
	old := x.view[t][k]
	if old == nil {
		row := []string{k, v}
		if t == frames || t == cells {
			if !x.free(t-1, to) || x.view[t-1][to] == nil {
				return
			}
			x.t.locks[lock(t-1, to)] = true
			row = []string{k, to, v}
		} else if t == lots {
			row = []string{k, v, "large " + v}
		}
		x.put(t, k, row)
		x.log(domain.Insert, t, nil, row)
		return
	}
	now := slices.Clone(old)
	switch what := rng.IntN(5); {
	case what == 0:
		x.log(domain.Delete, t, old, nil)
		x.put(t, k, nil)
		x.stuck = x.stuck || !x.follows(t, k, "", t == hives && strings.Contains(
			x.w.tables[1].Plan.Table.Constraints[0].Rules, "SET NULL"))
		return
	case what == 1 && x.view[t][to] == nil && k != to:
		if now[0] = to; rng.IntN(2) == 0 {
			now[len(now)-1] = "moved " + v
		}
		x.log(domain.Update, t, old, now)
		x.put(t, k, nil)
		x.put(t, to, now)
		x.stuck = x.stuck || !x.follows(t, k, to, false)
		return
	case what == 2 && t == lots:
		now[2] = "large " + v
	default:
		now[len(now)-1] = v
		if t == lots {
			now[1], now[2] = v, old[2]
		}
	}
	x.log(domain.Update, t, old, now)
	x.put(t, k, now)
}

// visit writes rows without a key.
func (x *writing) visit(v string) {
	var mine []string
	for _, k := range slices.Sorted(maps.Keys(x.view[visits])) {
		if x.free(visits, k) {
			mine = append(mine, k)
		}
	}
	if !x.free(visits, "") {
		return
	}
	x.w.fresh++
	row := []string{"1", []string{"a", "b", v}[x.w.rng.IntN(3)]}
	if len(mine) == 0 || x.w.rng.IntN(2) == 0 {
		x.put(visits, fmt.Sprint("n", x.w.fresh), row)
		x.log(domain.Insert, visits, nil, row)
		return
	}
	k := mine[x.w.rng.IntN(len(mine))]
	old := x.view[visits][k]
	if x.w.rng.IntN(2) == 0 {
		row = nil
	}
	x.put(visits, k, row)
	if row == nil {
		x.log(domain.Delete, visits, old, nil)
	} else {
		x.log(domain.Update, visits, old, row)
	}
}

// wholeTable empties tables by one statement, or removes some rows in a way that the log
// does not tell; it needs the table for itself.
func (x *writing) wholeTable() {
	list := []int64{lots}
	unsaid := x.w.rng.IntN(3) == 0
	if !unsaid && x.w.rng.IntN(2) == 0 {
		list = append(list, visits)
	}
	for _, t := range list {
		for l := range x.busy {
			if strings.HasPrefix(l, fmt.Sprint(t, "/")) {
				return
			}
		}
		for _, c := range x.w.chunks[t] {
			if c.State == domain.ChunkReading {
				return
			}
		}
	}
	for _, t := range list {
		x.t.locks[lock(t, "*")] = true
		for _, k := range slices.Sorted(maps.Keys(x.view[t])) {
			if n, _ := strconv.Atoi(k); !unsaid || n >= keys/2 {
				x.put(t, k, nil)
			}
		}
		c := domain.Change{Kind: domain.Truncate, Table: t, Group: len(x.t.changes)/2 + 1}
		if unsaid {
			c.Kind = domain.Unread
		}
		if t != list[0] {
			c.Group = x.t.changes[len(x.t.changes)-1].Group
		}
		x.t.changes = append(x.t.changes, c)
	}
}

func pick(w *world, list *[]*txn) *txn {
	i := w.rng.IntN(len(*list))
	t := (*list)[i]
	*list = slices.Delete(*list, i, i+1)
	return t
}

// write brings a transaction into the log.
func (w *world) write(t *txn) {
	n := uint64(len(w.log)+1) * 10
	t.tx.Commit, t.tx.End, t.tx.At = domain.PositionAt(n), domain.PositionAt(n+5), int64(n)
	next := w.first()
	if n := len(w.states); n > 0 {
		next = w.states[n-1].clone()
	}
	for _, e := range t.effects {
		apply(next, e)
	}
	w.log, w.states = append(w.log, t), append(w.states, next)
}
