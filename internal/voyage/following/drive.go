package following

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/touched"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// A follower's machine decides (core/follow); here its questions are put to source, target
// and ledger, and what it wants done is done.

// side is one table of a stream, as it stands in the records and as the target knows it.
type side struct {
	row     *domain.CrossingTable
	there   domain.TablePlan
	key     []int        // where the key is in a row there
	touched touched.Rows // in the open transaction
}

// drive follows the log until it cannot or may not go on.
func (f *follower) drive(ctx context.Context) error {
	for {
		switch ask := f.machine.Ready().(type) {
		case *follow.More:
			if err := f.more(ctx, ask); err != nil {
				return err
			}
		case follow.Between:
			if err := f.between(ctx, ask.Reached); err != nil {
				return err
			}
			f.machine.Step(follow.Input{Now: time.Now()})
		default:
			in, err := f.answer(ctx, ask)
			if err != nil {
				return err
			}
			in.Now = time.Now()
			f.machine.Step(in)
			f.waitsFor(f.machine.Why())
		}
	}
}

// waitsFor keeps what the applier waits for, empty when it does not.
func (f *follower) waitsFor(what string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.note = what
}

// more hands the next event of the log on, or that none has come.
func (f *follower) more(ctx context.Context, ask *follow.More) error {
	select {
	case e, ok := <-f.cap.Events():
		return f.take(&e, ok)
	default:
	}
	now := time.Now()
	if ask.Patience == 0 || !ask.Before.IsZero() && now.After(ask.Before) {
		f.machine.Step(follow.Input{Now: now})
		return nil
	}
	t := time.NewTimer(ask.Patience)
	defer t.Stop()
	select {
	case e, ok := <-f.cap.Events():
		return f.take(&e, ok)
	case <-t.C:
		f.machine.Step(follow.Input{Now: time.Now()})
		return nil
	case <-f.heard:
		f.poked = true
		f.machine.Step(follow.Input{Now: time.Now()})
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (f *follower) take(e *domain.Event, ok bool) error {
	if !ok {
		if err := f.cap.Err(); err != nil {
			return err
		}
		return errors.New("the replication stream ended")
	}
	f.cap.Took(e)
	switch e.Kind {
	case domain.EventBegin:
		f.recent.begin()
	case domain.EventChange:
		f.recent.change(e.Change.Table, e.Change.Kind)
	case domain.EventCommit:
		f.recent.commit(e.Tx)
		f.taken.Add(1)
	}
	f.machine.Take(e)
	return nil
}

// between serves requests between two transactions of the target: hold where it is, then go
// exactly up to a position, then wait to be let go.
func (f *follower) between(ctx context.Context, reached follow.Reached) error {
	f.taken.Store(f.machine.Waiting())
	if now, was := f.stop.Load(), f.aim.stop; reached == follow.Stopped && now != nil && was != nil &&
		now.text == was.text {
		return f.stopped(ctx, was)
	}
	if !f.mayBeAsked(reached) {
		return ctx.Err()
	}
	for first := true; ; first = false {
		request, err := f.of.records.Requested(ctx, f.c.ID, f.epoch)
		switch {
		case errors.Is(err, domain.ErrTakenOver):
			return err
		case err != nil && first:
			return ctx.Err() // the control database is away; nobody was told that this one holds
		case err != nil:
			return err
		case request.What == "":
			f.aimAt(domain.Request{}, domain.Position{})
			return ctx.Err()
		case request.What == "go" && (request != f.aim.request || reached != follow.Goal):
			if request != f.aim.request {
				f.beatNow(ctx)
			}
			f.aimAt(request, request.At)
			return ctx.Err()
		case request.What == "go":
			err = f.of.records.Respond(ctx, f.c.ID, f.epoch, request, domain.Request{What: "reached", At: request.At},
				f.counted())
		case request.What == "hold":
			err = f.of.records.Respond(ctx, f.c.ID, f.epoch, request, domain.Request{What: "holding", At: f.machine.Applied()},
				f.counted())
		}
		if err == nil && !slices.Contains([]string{"hold", "holding", "go", "reached"}, request.What) {
			err = fmt.Errorf("capture is asked for %q, which it does not know", request.What)
		}
		if err != nil {
			return err
		}
		if !waits.Sleep(ctx, 40*time.Millisecond) {
			return ctx.Err()
		}
	}
}

// For how long the records are not asked what is requested, where a request is heard at once, and
// where it is not.
const (
	askHearing = 2 * time.Second
	askDeaf    = 200 * time.Millisecond
)

// mayBeAsked reports whether something else may be requested than when the records were asked last.
func (f *follower) mayBeAsked(reached follow.Reached) bool {
	select {
	case <-f.heard:
		f.poked = true
	default:
	}
	asks := askDeaf
	if f.of.listens.Load() {
		asks = askHearing
	}
	if !f.poked && reached == follow.NotYet && f.aim.request.What == "" && f.aim.stop == f.stop.Load() &&
		time.Since(f.aim.asked) < asks {
		return false
	}
	f.poked, f.aim.asked = false, time.Now()
	return true
}

// aimAt tells the machine where to go to, and where a person wants it to stop.
func (f *follower) aimAt(request domain.Request, goal domain.Position) {
	f.aim.request, f.aim.stop = request, f.stop.Load()
	var stop follow.Stop
	if s := f.aim.stop; s != nil {
		stop = s.Stop
	}
	f.machine.Aim(goal, stop)
}

// answer puts a question of the machine, or does what it wants done.
func (f *follower) answer(ctx context.Context, ask follow.Ask) (in follow.Input, err error) {
	switch a := ask.(type) {
	case follow.Pause:
		if !waits.Sleep(ctx, a.For) {
			return in, ctx.Err()
		}
	case follow.AskLoad:
		in.Load, err = f.of.records.View(ctx, f.c.ID)
	case follow.AskSnapshot:
		in.Snapshot, err = f.src.Snapshot(ctx)
	case follow.AskChunks:
		in.Chunks, err = f.chunks(ctx, a)
	case follow.AskLocate:
		if in.At, err = f.src.Locate(ctx, &f.tables[a.Table].row.Plan, a.Bounds, a.Keys); err != nil {
			err = fmt.Errorf("asking the source which chunk a key is in: %w", err)
		}
	case follow.AskRow:
		in.Row, err = f.src.FetchRow(ctx, &f.tables[a.Table].row.Plan, a.Key)
	case follow.AskRemembered:
		if f.dst.Remembers == nil {
			return in, errors.New("the target cannot remember which rows were removed")
		}
		in.Keys, err = f.dst.Remembered(ctx, f.c.UID, &f.tables[a.Table].there)
	case follow.Unswept:
		err = f.of.records.SetUnswept(ctx, f.c.ID, f.epoch, a.Yes)
	case follow.Passed:
		f.passed(a.At)
	case follow.Restart:
		err = f.restart(ctx, a)
	case follow.NoteSchemaChange:
		err = f.of.records.NoteColumnChange(ctx, a.Table, a.At)
	case follow.AskSchemaChange:
		in.Yes, err = f.askSchemaChange(ctx, a)
	case follow.ApplySchemaChange:
		err = f.applySchemaChange(ctx, a)
	case follow.Hold:
		err = f.unsaid(a)
	case follow.Fail:
		err = errors.New(a.Text)
	case follow.Abort:
		f.apply.Abort()
		f.begun = false
		f.forgetTouched()
	default:
		return f.write(ctx, ask)
	}
	return in, err
}

// write does what becomes part of the target's transaction, or ends it.
func (f *follower) write(ctx context.Context, ask follow.Ask) (in follow.Input, err error) {
	if !f.begun {
		if err := f.apply.Begin(ctx); err != nil {
			return in, err
		}
		f.begun = true
	}
	switch a := ask.(type) {
	case follow.AskReferring:
		t := f.tables[a.Table]
		there := t.row.Plan.TargetColumns()
		match := make([]domain.Column, len(a.Cols))
		for i, c := range a.Cols {
			match[i] = there[c]
		}
		in.Keys, err = f.apply.Find(ctx, &t.there, match, a.Values)
	case follow.Write:
		t := f.tables[a.Table]
		f.touch(t, &a.Net)
		if err := f.keepEarly(ctx); err != nil {
			return in, err
		}
		if in.Rows, err = f.apply.Apply(ctx, &t.there, a.Net, a.Replace); err != nil {
			err = f.partitioned(ctx, t, err)
		}
	case follow.Remember:
		err = f.apply.Remember(ctx, &f.tables[a.Table].there, a.Keep, a.Forget)
	case follow.WriteWhole:
		t := f.tables[a.Table]
		f.touchAll(t)
		if err = f.apply.ApplyWhole(ctx, &t.there, a.Changes); err != nil {
			err = fmt.Errorf("%s: %w", t.row.SourceName, err)
		}
	case follow.Move:
		t := f.tables[a.Table]
		f.touchRows(t, a.Change.Old, a.Change.New)
		in.Yes, err = f.apply.Move(ctx, &t.there, a.Change)
	case follow.Truncate:
		var plans []*domain.TablePlan
		for _, id := range a.Tables {
			f.touchAll(f.tables[id])
			plans = append(plans, &f.tables[id].there)
		}
		err = f.apply.Truncate(ctx, plans, a.Note)
	case follow.Commit:
		if err = f.keepTouched(ctx, a.Last.End); err != nil {
			return in, err
		}
		if err = f.apply.Commit(ctx, a.Last.End, f.cap.PortablePosition(a.Last.End), a.Last.At); err == nil {
			f.begun = false
			f.reached(&a)
		}
	default:
		err = fmt.Errorf("capture does not know how to do %T", ask)
	}
	return in, err
}

// chunks reads a table's chunks from the ledger, all or some.
func (f *follower) chunks(ctx context.Context, a follow.AskChunks) ([]domain.Chunk, error) {
	if a.Only == nil {
		return f.of.records.Chunks(ctx, a.Table)
	}
	return f.of.records.ChunkStates(ctx, a.Table, a.Only)
}

// restart has tables loaded again, one of which was truncated while it was loaded.
func (f *follower) restart(ctx context.Context, a follow.Restart) error {
	name := f.tables[a.Table].row.SourceName
	f.of.journal.Recordf(ctx, "warning", journal.System, f.c.Name, name, "restart",
		"%s was truncated on the source during the load; it is loaded again", name)
	for _, id := range a.With {
		if err := f.of.records.ResetTable(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// unsaid says which rows have changed without the log saying how.
func (f *follower) unsaid(a follow.Hold) error {
	name := f.tables[a.Table].row.SourceName
	return domain.Conflict("rows of %s may have changed in a way that the log does not say: %s. Restart the table: "+
		"dustyferry crossing restart %s --table %s; or, if it is not on the source any more, leave it out: dustyferry "+
		"crossing leave-out %s %s",
		name, a.Note, f.c.Name, name, f.c.Name, name)
}

// nameOf is a table's name by its number in the records, empty for one that is not followed.
func (f *follower) nameOf(id int64) string {
	if t := f.tables[id]; t != nil {
		return t.row.SourceName
	}
	return ""
}

// rows are the tables that are followed, in order.
func (f *follower) rows() []domain.CrossingTable {
	out := make([]domain.CrossingTable, 0, len(f.order))
	for _, id := range f.order {
		out = append(out, *f.tables[id].row)
	}
	return out
}
