package voyage

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/pace"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

const keeperLock = 7262820

// keep is the keeper: every second, on any one process at a time, it returns
// what dead workers held, tops lanes up, wakes stalled tasks, and moves phases
// on. What goes wrong with one crossing keeps it from none of the others.
func (v *Voyage) keep(ctx context.Context) {
	beat := 0
	waits.Every(ctx, time.Second, func() {
		beat++
		_, err := v.Store.Alone(ctx, keeperLock, func() error {
			return errors.Join(v.mendClock(ctx), v.returnLost(ctx), v.topUp(ctx), v.clearTables(ctx), v.pace(ctx, beat), v.movePhases(ctx), v.noteDue(ctx), v.startDue(ctx), v.watchLag(ctx), v.sample(ctx, beat))
		})
		if err != nil && ctx.Err() == nil {
			v.Log.Warn("the keeper met an error", "error", err)
		}
	})
}

// troubled keeps, on the crossing itself, what keeps it from going on by itself, and says so
// once; without an error, that nothing does.
func (v *Voyage) troubled(ctx context.Context, c *domain.Crossing, doing string, err error) error {
	if ctx.Err() != nil || err == nil && c.Trouble == "" {
		return nil
	}
	text := ""
	if err != nil {
		text = fmt.Sprintf("%s: %s; it is tried again", doing, err)
	}
	fresh, kept := v.Store.SetTrouble(ctx, c.ID, text)
	if kept == nil && fresh && text != "" {
		v.Say(ctx, "warning", System, c.Name, "", "keeper", "%s", text)
	}
	return kept
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
	if beat%60 == 0 { // a step at a time
		if err := v.thin(ctx); err != nil {
			return err
		}
	}
	return errors.Join(v.Store.TakeSamples(ctx), v.Store.RateTables(ctx))
}

// thin removes a step of what is older than the house wants kept.
func (v *Voyage) thin(ctx context.Context) error {
	house, err := v.Store.House(ctx)
	if err != nil || house.JournalDays == 0 && house.HistoryDays == 0 {
		return err
	}
	gone, err := v.Store.Thin(ctx, house)
	var text []string
	for _, name := range slices.Sorted(maps.Keys(gone)) {
		text = append(text, fmt.Sprintf("%s of %s", domain.Many(gone[name], "line"), name))
	}
	if len(text) > 0 {
		v.Say(ctx, "info", System, "", "", "keeper", "removed from the records, as older than the house rules keep: %s", strings.Join(text, ", "))
	}
	return err
}

func (v *Voyage) returnLost(ctx context.Context) error {
	lost, err := v.Store.Lost(ctx)
	if err != nil {
		return err
	}
	// Crossings side by side, so that a target that does not answer keeps no other waiting.
	of := map[int64][]records.Chunk{}
	for i := range lost {
		of[lost[i].CrossingID] = append(of[lost[i].CrossingID], lost[i])
	}
	var all sync.WaitGroup
	for id, chunks := range of {
		all.Go(func() {
			c, err := v.Store.CrossingByID(ctx, id)
			if err != nil {
				return
			}
			for i := range chunks {
				v.Say(ctx, "warning", System, c.Name, "", "keeper", "worker %s fell silent while carrying a chunk; the chunk is taken back", chunks[i].Worker)
				before := time.Now()
				v.returnChunk(ctx, &c, &chunks[i], context.Canceled)
				if time.Since(before) > 3*time.Second {
					return // the side is away: at the next round
				}
			}
		})
	}
	all.Wait()
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

// clearTables finishes the restart of tables: fence, empty, open again. Each crossing is seen
// to beside the others, and its databases may take the time they need.
func (v *Voyage) clearTables(ctx context.Context) error {
	tables, err := v.Store.ToClear(ctx)
	if err != nil {
		return err
	}
	of := map[int64][]records.Table{}
	for _, t := range tables {
		of[t.CrossingID] = append(of[t.CrossingID], t)
	}
	for id, list := range of {
		v.mu.Lock()
		busy := v.clearing[id]
		v.clearing[id] = true
		v.mu.Unlock()
		if busy {
			continue
		}
		v.loops.Go(func() {
			defer func() {
				v.mu.Lock()
				defer v.mu.Unlock()
				delete(v.clearing, id)
			}()
			if _, err := v.Store.Alone(ctx, clearLock+id, func() error { return v.clearOf(ctx, id, list) }); err != nil && ctx.Err() == nil {
				v.Log.Warn("the restart of tables met an error", "error", err)
			}
		})
	}
	return nil
}

// clearLock and the crossing's number are the lock of who empties its tables.
const clearLock = 7262820 << 32

// clearOf empties tables of one crossing.
func (v *Voyage) clearOf(ctx context.Context, id int64, tables []records.Table) error {
	c, err := v.Store.CrossingByID(ctx, id)
	if err != nil {
		return err
	}
	err = domain.Guarded("restarting tables", func() error { return v.clearEach(ctx, &c, tables) })
	v.logFault(err)
	return v.troubled(ctx, &c, "tables could not begin again", err)
}

func (v *Voyage) clearEach(ctx context.Context, c *domain.Crossing, tables []records.Table) error {
	// Nobody may write, or build, what is about to be emptied.
	left, err := v.EndIdle(ctx, c, lifecycle.Disturbs(), "a table was restarted")
	if err != nil || len(left) > 0 {
		return err // at the next round
	}
	src, dst, err := v.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	for i := range tables {
		t := &tables[i]
		if now, err := v.Store.Table(ctx, t.ID); err != nil || now.State != domain.TablePlanned {
			continue // somebody else has done it, or the crossing began anew
		}
		if t.Plan.V.InPlace {
			if err := v.loadInPlace(ctx, dst, c, t); err != nil {
				return fmt.Errorf("%s: %w", t.SourceName, err)
			}
			v.Say(ctx, "info", System, c.Name, t.SourceName, "restart", "%s is loaded again in place", t.SourceName)
			continue
		}
		if err := v.clearTable(ctx, src, dst, c, t); err != nil {
			return fmt.Errorf("%s: %w", t.SourceName, err)
		}
		v.Say(ctx, "info", System, c.Name, t.SourceName, "restart", "%s has been emptied on the target and is loaded again", t.SourceName)
	}
	return nil
}

func (v *Voyage) clearTable(ctx context.Context, src, dst engine.Database, c *domain.Crossing, t *records.Table) error {
	limit, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if err := v.fenceTable(limit, dst, c, t.ID); err != nil {
		return err
	}
	chunks, err := v.Store.Chunks(limit, t.ID)
	if err != nil {
		return err
	}
	var ids []int64
	for _, k := range chunks {
		ids = append(ids, k.ID)
	}
	there := t.Plan.V.OnTarget()
	if err := dst.Unbuild(limit, withoutForeign(dst.Deferred(nil, []domain.TablePlan{there}))); err != nil {
		return err
	}
	cat, err := v.Store.CatalogOf(limit, c.ID)
	if err != nil {
		return err
	}
	one := []domain.TablePlan{t.Plan.V}
	again := slices.DeleteFunc(deferred(dst, catalogThere(cat, one), one), func(o records.Object) bool { return o.Kind == "foreign" })
	if err := v.Store.SaveObjects(limit, c.ID, again, records.Listing{Table: t.TargetName, Anew: true}); err != nil {
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
func (v *Voyage) loadInPlace(ctx context.Context, dst engine.Database, c *domain.Crossing, t *records.Table) error {
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
func (v *Voyage) fenceTable(ctx context.Context, dst engine.Database, c *domain.Crossing, table int64) error {
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
	var all []error
	for i := range under {
		if err := v.movePhase(ctx, &under[i]); err != nil {
			all = append(all, fmt.Errorf("%s: %w", under[i].Name, err))
		}
	}
	return errors.Join(all...)
}

func (v *Voyage) movePhase(ctx context.Context, c *domain.Crossing) error {
	if c.Condition == domain.ConditionPaused || c.Phase == domain.PhaseCuttingOver {
		return nil
	}
	view, err := v.Store.View(ctx, c.ID)
	if err != nil {
		return err
	}
	if next := lifecycle.Next(view); next != c.Phase {
		moved, err := v.Store.SetPhase(ctx, c.ID, c.Phase, next)
		if err != nil || !moved {
			return err
		}
		v.Say(ctx, "info", System, c.Name, "", "phase", "%s is %s now (was %s)", c.Name, c.Kind.PhaseLabel(next), c.Kind.PhaseLabel(c.Phase))
		return v.arrived(ctx, c, next)
	}
	if c.Phase == domain.PhaseCatchingUp && !c.Built && c.Condition == domain.ConditionRunning && lifecycle.Consistent(view) {
		if _, err := v.AddTask(ctx, c, TaskBuild, struct{}{}, System); err != nil && !domain.IsKind(err, domain.ProblemConflict) {
			return err
		}
	}
	return nil
}

// arrived tells of a phase that was reached, and keeps the figures of a load that is
// complete.
func (v *Voyage) arrived(ctx context.Context, c *domain.Crossing, phase domain.Phase) error {
	switch phase {
	case domain.PhaseCatchingUp:
		if c.Phase == domain.PhaseLoading {
			v.Notify(ctx, c, journal.EventLoaded, fmt.Sprintf("every row of %s has landed", c.Name))
		}
	case domain.PhaseInStep:
		if err := v.Store.EndRun(ctx, c.ID, "done", ""); err != nil {
			return err
		}
		v.Notify(ctx, c, journal.EventInStep, fmt.Sprintf("%s is %s: %s", c.Name, c.Kind.PhaseLabel(domain.PhaseInStep), map[bool]string{true: "the load is complete, its indexes stand", false: "the lag is below its threshold"}[c.Kind == domain.KindLoad]))
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
	waits.Every(ctx, 3*time.Second, see)
}
