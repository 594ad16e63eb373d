package tables

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/prepare"
)

// Clear finishes the restart of tables: fence, empty, open again. Each crossing is seen
// to beside the others, and its databases may take the time they need.
func (ts *Tables) Clear(ctx context.Context) error {
	tables, err := ts.records.ToClear(ctx)
	if err != nil {
		return err
	}
	of := map[int64][]domain.CrossingTable{}
	for _, t := range tables {
		of[t.CrossingID] = append(of[t.CrossingID], t)
	}
	for id, list := range of {
		ts.mu.Lock()
		busy := ts.clearing[id]
		ts.clearing[id] = true
		ts.mu.Unlock()
		if busy {
			continue
		}
		ts.loops.Go(func() {
			defer func() {
				ts.mu.Lock()
				defer ts.mu.Unlock()
				delete(ts.clearing, id)
			}()
			if _, err := ts.records.Alone(ctx, clearLock+id, func() error { return ts.clearOf(ctx, id, list) }); err != nil &&
				ctx.Err() == nil {
				ts.set.Log.Warn("the restart of tables met an error", "error", err)
			}
		})
	}
	return nil
}

// clearLock and the crossing's number are the lock of who empties its tables.
const clearLock = 7262820 << 32

// clearOf empties tables of one crossing.
func (ts *Tables) clearOf(ctx context.Context, id int64, tables []domain.CrossingTable) error {
	c, err := ts.records.CrossingByID(ctx, id)
	if err != nil {
		return err
	}
	err = domain.Guarded("restarting tables", func() error { return ts.clearEach(ctx, &c, tables) })
	ts.set.Fault(err)
	return ts.set.Troubled(ctx, &c, "tables could not begin again", err)
}

func (ts *Tables) clearEach(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable) error {
	// Nobody may write, or build, what is about to be emptied.
	left, err := ts.work.EndIdle(ctx, c, lifecycle.Disturbs(), "a table was restarted")
	if err != nil || len(left) > 0 {
		return err // at the next round
	}
	src, dst, err := ts.databases.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	for i := range tables {
		t := &tables[i]
		if now, err := ts.records.Table(ctx, t.ID); err != nil || now.State != domain.TablePlanned {
			continue // somebody else has done it, or the crossing began anew
		}
		if t.Plan.ReplaceRange {
			if err := ts.loadInPlace(ctx, dst, c, t); err != nil {
				return fmt.Errorf("%s: %w", t.SourceName, err)
			}
			ts.journal.Recordf(ctx, "info", journal.System, c.Name, t.SourceName, "restart", "%s is loaded again in place",
				t.SourceName)
			continue
		}
		if err := ts.clearTable(ctx, src, dst, c, t); err != nil {
			return fmt.Errorf("%s: %w", t.SourceName, err)
		}
		ts.journal.Recordf(ctx, "info", journal.System, c.Name, t.SourceName, "restart",
			"%s has been emptied on the target and is loaded again",
			t.SourceName)
	}
	return nil
}

func (ts *Tables) clearTable(ctx context.Context, src, dst *engine.Opened, c *domain.Crossing,
	t *domain.CrossingTable) error {
	limit, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if err := ts.prepare.Fence(limit, dst, c, t.ID); err != nil {
		return err
	}
	chunks, err := ts.records.Chunks(limit, t.ID)
	if err != nil {
		return err
	}
	var ids []int64
	for _, k := range chunks {
		ids = append(ids, k.ID)
	}
	there := t.Plan.TargetPlan()
	if err := dst.Unbuild(limit, withoutForeign(dst.Deferred(nil, []domain.TablePlan{there}))); err != nil {
		return err
	}
	cat, err := ts.records.CatalogOf(limit, c.ID)
	if err != nil {
		return err
	}
	one := []domain.TablePlan{t.Plan}
	again := slices.DeleteFunc(planning.Deferred(dst, planning.CatalogOnTarget(cat, one), one),
		func(o domain.TargetObject) bool { return o.Kind == "foreign" })
	if err := ts.records.SaveObjects(limit, c.ID, again, domain.Listing{Table: t.TargetName, Anew: true}); err != nil {
		return err
	}
	origin, err := src.Origin(limit)
	if err != nil {
		return err
	}
	if err := dst.ClearTable(limit, c.UID, origin, &there, ids); err != nil {
		return err
	}
	if t.Plan.ReadByDisk() { // its rows lie in other pages now
		_, err := ts.prepare.Cut(ctx, c, t)
		return err
	}
	return ts.records.OpenTable(ctx, t.ID)
}

// loadInPlace lets a table begin again whose rows stay until others take their place. It is
// cut anew, as ranges that a first load may have need not do for that.
func (ts *Tables) loadInPlace(ctx context.Context, dst *engine.Opened, c *domain.Crossing,
	t *domain.CrossingTable) error {
	if err := ts.prepare.Fence(ctx, dst, c, t.ID); err != nil {
		return err
	}
	tables, err := ts.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if away := prepare.InTheWay(ctx, dst, dst.Deferred(nil, planning.OnTarget(planning.PlansOf(tables)))); len(away) > 0 {
		if err := ts.records.UnmakeForeignKeys(ctx, c.ID); err != nil {
			return err
		}
		if err := dst.Unbuild(ctx, away); err != nil {
			return err
		}
	}
	_, err = ts.prepare.Cut(ctx, c, t)
	return err
}

// withoutForeign leaves out foreign keys, which do not stand in a load's way.
func withoutForeign(objects []engine.Object) []engine.Object {
	return slices.DeleteFunc(objects, func(o engine.Object) bool { return o.Kind == "foreign" })
}
