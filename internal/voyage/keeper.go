package voyage

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/pace"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
)

const keeperLock = 7262820

// keep is the keeper: every second, on any one process at a time, it returns
// what dead workers held, tops lanes up, wakes stalled tasks, and moves phases
// on.
func (v *Voyage) keep(ctx context.Context) {
	beat := 0
	every(ctx, time.Second, func() {
		beat++
		_, err := v.Store.Alone(ctx, keeperLock, func() error {
			return errors.Join(v.mendClock(ctx), v.returnLost(ctx), v.topUp(ctx), v.clearTables(ctx), v.pace(ctx, beat), v.movePhases(ctx), v.startDue(ctx), v.watchLag(ctx), v.sample(ctx, beat))
		})
		if err != nil && ctx.Err() == nil {
			v.Log.Warn("the keeper met an error", "error", err)
		}
	})
}

// mendClock lets nothing wait for a clock that was set back.
func (v *Voyage) mendClock(ctx context.Context) error {
	back, err := v.Store.MendClock(ctx)
	if err != nil || back == 0 {
		return err
	}
	v.Say(ctx, "warning", System, "", "", "keeper", "the clock of the control database's server was set back by %s; leases and waits begin anew", back.Round(time.Second))
	return v.Queue.DueNow(ctx)
}

func (v *Voyage) sample(ctx context.Context, beat int) error {
	if beat%2 != 0 {
		return nil
	}
	if beat%600 == 0 {
		if err := errors.Join(v.Store.ThinSamples(ctx), v.Store.ThinDeliveries(ctx)); err != nil {
			return err
		}
	}
	return errors.Join(v.Store.TakeSamples(ctx), v.Store.RateTables(ctx))
}

func (v *Voyage) returnLost(ctx context.Context) error {
	lost, err := v.Store.Lost(ctx)
	if err != nil {
		return err
	}
	away := map[int64]bool{}
	for i := range lost {
		if away[lost[i].CrossingID] {
			continue
		}
		c, err := v.Store.CrossingByID(ctx, lost[i].CrossingID)
		if err != nil {
			return err
		}
		v.Say(ctx, "warning", System, c.Name, "", "keeper", "worker %s fell silent while carrying a chunk; the chunk is taken back", lost[i].Worker)
		before := time.Now()
		v.returnChunk(ctx, &c, &lost[i], context.Canceled)
		away[c.ID] = time.Since(before) > 3*time.Second
	}
	jobs, err := v.Store.DeadLanes(ctx)
	for _, j := range jobs {
		err = errors.Join(err, v.Queue.Cancel(ctx, j))
	}
	return err
}

func (v *Voyage) topUp(ctx context.Context) error {
	wanted, err := v.Store.LanesWanted(ctx)
	if err != nil {
		return err
	}
	for _, w := range wanted {
		if pace.Of(w.Settings.V, time.Now()).Stop {
			continue // quiet hours: lanes come again when they are over
		}
		for range w.Want - w.Have {
			err := v.Queue.In(ctx, func(tx pgx.Tx) error {
				lane, err := records.AddLaneTx(ctx, tx, w.CrossingID)
				if err != nil {
					return err
				}
				job, err := v.Queue.AddLane(ctx, tx, w.CrossingID, lane, w.Settings.V.WorkerLabel)
				if err != nil {
					return err
				}
				return records.SetLaneJobTx(ctx, tx, lane, job)
			})
			if err != nil {
				return err
			}
		}
	}
	stalled, err := v.Store.Stalled(ctx)
	if err != nil {
		return err
	}
	for _, id := range stalled {
		if err := v.Queue.Wake(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// clearTables finishes the restart of tables: fence, empty, open again.
func (v *Voyage) clearTables(ctx context.Context) error {
	tables, err := v.Store.ToClear(ctx)
	if err != nil {
		return err
	}
	for _, t := range tables {
		c, err := v.Store.CrossingByID(ctx, t.CrossingID)
		if err != nil {
			return err
		}
		src, dst, err := v.Both(ctx, &c)
		if err != nil {
			return err
		}
		if t.Plan.V.InPlace {
			if err := v.loadInPlace(ctx, dst, &c, &t); err != nil {
				return err
			}
			v.Say(ctx, "info", System, c.Name, t.SourceName, "restart", "%s is loaded again in place", t.SourceName)
			continue
		}
		if err := v.clearTable(ctx, src, dst, &c, &t); err != nil {
			return err
		}
		v.Say(ctx, "info", System, c.Name, t.SourceName, "restart", "%s has been emptied on the target and is loaded again", t.SourceName)
	}
	return nil
}

func (v *Voyage) clearTable(ctx context.Context, src, dst engine.Database, c *records.Crossing, t *records.Table) error {
	if err := v.fenceTable(ctx, dst, c, t.ID); err != nil {
		return err
	}
	chunks, err := v.Store.Chunks(ctx, t.ID)
	if err != nil {
		return err
	}
	var ids []int64
	for _, k := range chunks {
		ids = append(ids, k.ID)
	}
	there := t.Plan.V.OnTarget()
	limit, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if err := dst.Unbuild(limit, withoutForeign(dst.Deferred(nil, []domain.TablePlan{there}))); err != nil {
		return err
	}
	if err := v.Store.UnmakeObjects(limit, t.CrossingID, there.Target.String()); err != nil {
		return err
	}
	origin, err := src.Origin(limit)
	if err != nil {
		return err
	}
	if err := dst.ClearTable(limit, c.UID, origin, &there, ids); err != nil {
		return err
	}
	return v.Store.OpenTable(ctx, t.ID)
}

// loadInPlace lets a table begin again whose rows stay until others take their place. It is
// cut anew, as ranges that a first load may have need not do for that.
func (v *Voyage) loadInPlace(ctx context.Context, dst engine.Database, c *records.Crossing, t *records.Table) error {
	if err := v.fenceTable(ctx, dst, c, t.ID); err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if away := inTheWay(ctx, dst, dst.Deferred(nil, onTarget(plansOf(tables)))); len(away) > 0 {
		if err := v.Store.UnmakeForeignKeys(ctx, c.ID); err != nil {
			return err
		}
		if err := dst.Unbuild(ctx, away); err != nil {
			return err
		}
	}
	_, err = v.cut(ctx, c, t)
	return err
}

// withoutForeign leaves out foreign keys, which do not stand in a load's way.
func withoutForeign(objects []engine.Object) []engine.Object {
	return slices.DeleteFunc(objects, func(o engine.Object) bool { return o.Kind == "foreign" })
}

// fenceTable makes sure that nobody who still holds a chunk of the table can
// land it.
func (v *Voyage) fenceTable(ctx context.Context, dst engine.Database, c *records.Crossing, table int64) error {
	chunks, err := v.Store.Chunks(ctx, table)
	if err != nil {
		return err
	}
	for _, k := range chunks {
		if _, err := dst.Fence(ctx, c.UID, k.ID, k.Epoch); err != nil {
			return err
		}
	}
	return nil
}

func (v *Voyage) movePhases(ctx context.Context) error {
	under, err := v.Store.Underway(ctx)
	if err != nil {
		return err
	}
	for i := range under {
		c := &under[i]
		if c.Condition == domain.ConditionPaused || c.Phase == domain.PhaseCuttingOver {
			continue
		}
		view, err := v.Store.View(ctx, c.ID)
		if err != nil {
			return err
		}
		if next := lifecycle.Next(view); next != c.Phase {
			moved, err := v.Store.SetPhase(ctx, c.ID, c.Phase, next)
			if err != nil {
				return err
			}
			if moved {
				v.Say(ctx, "info", System, c.Name, "", "phase", "%s is %s now (was %s)", c.Name, next, c.Phase)
				if err := v.arrived(ctx, c, next); err != nil {
					return err
				}
			}
			continue
		}
		if c.Phase == domain.PhaseCatchingUp && !c.Built && c.Condition == domain.ConditionRunning && lifecycle.Consistent(view) {
			if _, err := v.AddTask(ctx, c, TaskBuild, struct{}{}, System); err != nil && !domain.IsKind(err, domain.ProblemConflict) {
				return err
			}
		}
	}
	return nil
}

// arrived tells of a phase that was reached, and keeps the figures of a load that is
// complete.
func (v *Voyage) arrived(ctx context.Context, c *records.Crossing, phase domain.Phase) error {
	switch phase {
	case domain.PhaseCatchingUp:
		if c.Phase == domain.PhaseLoading {
			v.tell(ctx, c, EventLoaded, fmt.Sprintf("every row of %s has landed", c.Name))
		}
	case domain.PhaseInStep:
		if err := v.Store.EndRun(ctx, c.ID, "done", ""); err != nil {
			return err
		}
		v.tell(ctx, c, EventInStep, fmt.Sprintf("%s is %s: %s", c.Name, c.Kind.PhaseLabel(domain.PhaseInStep), map[bool]string{true: "the load is complete, its indexes stand", false: "the lag is below its threshold"}[c.Kind == domain.KindLoad]))
	}
	return nil
}

// report says that this process is alive.
func (v *Voyage) report(ctx context.Context) {
	host, _ := os.Hostname()
	see := func() {
		// Two versions side by side: an older program gives back what it holds and ends
		// as soon as a newer one has changed the records.
		if stands, err := v.Store.Schema(ctx); err == nil && stands > records.Known() {
			select {
			case v.Outdated <- records.Newer(stands):
			default:
			}
			return
		}
		if err := v.Store.SeeWorker(ctx, records.Worker{Name: v.Worker, Host: host, PID: os.Getpid(), Version: v.Version, Labels: records.JSON[[]string]{V: append([]string{}, v.Labels...)}}); err != nil && ctx.Err() == nil {
			v.Log.Warn("the control database cannot be written", "error", err)
		}
	}
	see()
	every(ctx, 3*time.Second, see)
}
