package follow_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/domain"
)

// write begins the target's transaction where none is open.
func (w *world) writes() {
	if w.before == nil {
		w.before = w.target.clone()
	}
}

// drive does one thing that the machine asks for.
func (w *world) drive() {
	in := follow.Input{Now: w.now}
	switch a := w.machine.Ready().(type) {
	case *follow.More:
		if e := w.nextEvent(); e != nil {
			w.machine.Take(e)
			return
		}
	case follow.Between:
		if w.before != nil {
			w.t.Errorf("it stands between two transactions, and one is open")
		}
		if a.Reached == follow.Goal {
			w.atGoal()
		}
		w.machine.Aim(w.goal, follow.Stop{})
	case follow.Pause:
		w.saw["pause"]++
	case follow.AskLoad:
		in.Load = w.load()
	case follow.AskSnapshot:
		if in.Snapshot = w.snapshot(); w.blind {
			in.Snapshot = domain.Snapshot{Xmin: 1 << 60, Xmax: 1 << 60}
		}
	case follow.AskChunks:
		for _, c := range w.chunks[a.Table] {
			if a.Only == nil || slices.Contains(a.Only, c.Ordinal) {
				k := c.Chunk
				if w.short && w.disk && a.Table == lots && k.State == domain.ChunkReading {
					k.State = domain.ChunkPending
				}
				in.Chunks = append(in.Chunks, k)
			}
		}
	case follow.AskLocate:
		for _, k := range a.Keys {
			in.At = append(in.At, chunkOf(a.Table, k[0]))
		}
	case follow.AskRow:
		w.saw["fetch"]++
		w.fetched = w.snapshot().Log
		in.Row = rowOf(w.rows[a.Table][a.Key[0]])
	case follow.AskRemembered:
		state := w.target
		if w.before != nil {
			state = w.before
		}
		for _, k := range slices.Sorted(maps.Keys(state[removed])) {
			in.Keys = append(in.Keys, domain.KeyValue{k})
		}
	case follow.Unswept:
		w.unswept = a.Yes
	case follow.Passed, follow.NoteSchemaChange:
	case follow.Abort:
		w.saw["abort"]++
		w.rollback()
	case follow.Restart:
		w.saw["restart of a table"]++
		for _, t := range a.With {
			w.resetTable(t)
		}
	case follow.Hold: // a person has it loaded again
		w.saw["hold"]++
		w.rollback()
		w.resetTable(a.Table)
		w.restart()
		return
	case follow.Commit:
		w.writes()
		w.before, w.wrote = nil, false
		if a.Last.End.Before(w.applied) {
			w.t.Errorf("the target goes back from %s to %s", w.applied, a.Last.End)
		}
		w.applied, w.at = a.Last.End, a.Last.At
	default:
		w.writes()
		in = w.change(a, in)
	}
	w.machine.Step(in)
}

func (w *world) nextEvent() *domain.Event {
	if w.entry == len(w.log) {
		if w.event == 0 && len(w.log) > 0 && w.rng.IntN(3) == 0 {
			return &domain.Event{Kind: domain.EventProgress, Position: w.log[len(w.log)-1].tx.End}
		}
		return nil
	}
	t := w.log[w.entry]
	n := w.event
	w.event++
	switch {
	case n == 0:
		return &domain.Event{Kind: domain.EventBegin, Tx: t.tx}
	case n <= len(t.changes):
		return &domain.Event{Kind: domain.EventChange, Tx: t.tx, Change: t.changes[n-1], Size: 10}
	}
	w.entry, w.event = w.entry+1, 0
	if t.void {
		return &domain.Event{Kind: domain.EventVoid, Tx: t.tx}
	}
	return &domain.Event{Kind: domain.EventCommit, Tx: t.tx}
}

// atGoal holds the target against the source as it was at the goal.
func (w *world) atGoal() {
	goal := w.goal
	w.goal = domain.Position{}
	if v := w.load(); v.Landed < v.Chunks || w.applied.Before(v.MaxRead) || goal.Before(w.fetched) ||
		goal.Before(w.applied) {
		return
	}
	w.saw["goal"]++
	want := w.first()
	for i, t := range w.log {
		if t.tx.Commit.Before(goal) {
			want = w.states[i]
		}
	}
	if !want.equals(w.target) {
		w.t.Errorf("at %d the source was\n%s\nand the target is\n%s", goal, want, w.target)
	}
}

// change does what becomes part of the target's transaction.
func (w *world) change(a follow.Ask, in follow.Input) follow.Input {
	switch a := a.(type) {
	case follow.Write:
		w.wrote = w.wrote || a.Table == lots
		if again := a.Table == lots && w.kept == 0 && len(a.Net.Puts)+len(a.Net.Patches) == 0; again && w.loose {
			break
		}
		w.kept = 0
		in.Rows = w.net(a.Table, a.Net)
	case follow.Remember:
		if len(a.Keep) > 0 && !w.unswept {
			w.t.Errorf("keys are remembered, and nobody was told")
		}
		if len(a.Forget) > 0 {
			w.saw["forgotten key"]++
		}
		w.kept = len(a.Keep)
		for _, k := range a.Keep {
			w.saw["remembered key"]++
			w.target[removed][k[0]] = []string{}
		}
		for _, k := range a.Forget {
			delete(w.target[removed], k[0])
		}
	case follow.WriteWhole:
		for _, c := range a.Changes {
			w.whole(c)
		}
	case follow.Move:
		w.saw["move"]++
		rows := w.target[a.Table]
		from, to := string(a.Change.Old[0].Data), string(a.Change.New[0].Data)
		row, there := rows[from]
		if in.Yes = there; !there {
			break
		}
		if _, taken := rows[to]; taken {
			w.t.Errorf("a row is moved to key %s, where one is", to)
		}
		delete(rows, from)
		rows[to] = merged(row, a.Change.New)
	case follow.Truncate:
		w.wrote = w.wrote || slices.Contains(a.Tables, lots)
		w.saw[fmt.Sprint("truncate of ", len(a.Tables))]++
		for _, t := range a.Tables {
			clear(w.target[t])
		}
	case follow.AskReferring:
		for k, row := range w.target[a.Table] {
			if row[a.Cols[0]] == string(a.Values[0].Data) && !w.mute {
				in.Keys = append(in.Keys, domain.KeyValue{k})
			}
		}
		slices.SortFunc(in.Keys, func(a, b domain.KeyValue) int { return strings.Compare(a[0], b[0]) })
	default:
		w.t.Fatalf("the machine asks for %T", a)
	}
	return in
}

func merged(row []string, with domain.Row) []string {
	out := slices.Clone(row)
	for i, v := range with {
		switch v.Kind {
		case domain.Present:
			out[i] = string(v.Data)
		case domain.Null:
			out[i] = null
		}
	}
	return out
}

func (w *world) net(t int64, n fold.Net) (missing []domain.Row) {
	rows := w.target[t]
	for _, r := range n.Removes {
		delete(rows, string(r[0].Data))
	}
	for _, r := range n.Patches {
		k := string(r[0].Data)
		if row, there := rows[k]; there {
			rows[k] = merged(row, r)
		} else {
			missing = append(missing, r)
		}
	}
	for _, r := range n.Puts {
		if fold.HasUnchanged(r) {
			w.t.Errorf("a whole row leaves values unsaid: table %d key %s", t, r[0].Data)
		}
		rows[string(r[0].Data)] = merged(make([]string, len(r)), r)
	}
	return missing
}

// whole applies a change of a table without a key: exactly one row for each.
func (w *world) whole(c domain.Change) {
	if c.Old != nil {
		want, found := merged(make([]string, 2), c.Old), false
		for k, row := range w.target[visits] {
			if slices.Equal(row, want) {
				delete(w.target[visits], k)
				found = true
				break
			}
		}
		if !found {
			w.t.Errorf("no row %q is there to be changed or removed", want)
		}
	}
	if c.New != nil {
		w.fresh++
		w.target[visits][fmt.Sprint("t", w.fresh)] = merged(make([]string, 2), c.New)
	}
}
