package voyage

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/journal"
)

// The kinds of task.
const (
	TaskSurvey    = lifecycle.WorkSurvey
	TaskPrepare   = lifecycle.WorkPrepare
	TaskRestart   = lifecycle.WorkRestart
	TaskBuild     = lifecycle.WorkBuild
	TaskReconcile = lifecycle.WorkReconcile
	TaskRepair    = lifecycle.WorkRepair
	TaskRecheck   = lifecycle.WorkRecheck
	TaskCutover   = lifecycle.WorkCutover
	TaskClose     = lifecycle.WorkClose
	TaskFit       = lifecycle.WorkFit
	TaskAdd       = lifecycle.WorkAdd
	TaskRefresh   = lifecycle.WorkRefresh
)

// AddTask adds a task and its job in one transaction.
func (v *Voyage) AddTask(ctx context.Context, c *domain.Crossing, kind lifecycle.Work, args any, actor string) (int64, error) {
	return v.addTask(ctx, c, kind, args, actor, nil)
}

// addTask adds a task, its job and whatever else belongs to it in one transaction: either all
// of it comes about, or nothing.
func (v *Voyage) addTask(ctx context.Context, c *domain.Crossing, kind lifecycle.Work, args any, actor string, with func(pgx.Tx) error) (int64, error) {
	if actor != System && lifecycle.Beside(kind, TaskReconcile) == lifecycle.Refused {
		if err := v.yieldTo(ctx, c, fmt.Sprintf("%s asked for other work: %s", actor, kind)); err != nil {
			return 0, err
		}
	}
	var id int64
	err := v.Queue.In(ctx, func(tx pgx.Tx) error {
		var err error
		if id, err = records.AddTaskTx(ctx, tx, c.ID, kind, args, actor); err != nil {
			return err
		}
		if with != nil {
			if err := with(tx); err != nil {
				return err
			}
		}
		return v.Queue.AddTask(ctx, tx, id)
	})
	return id, err
}

// ended is why a task ends before its time.
type ended struct{ why string }

func (e ended) Error() string { return e.why }

// RunTask carries out a task if nobody else does.
func (v *Voyage) RunTask(ctx context.Context, id int64) error {
	_, err := v.runTask(ctx, id)
	return err
}

// runTask carries out a task if nobody else does. It returns what went wrong with the work,
// and apart from it whether what came of it could not be kept.
func (v *Voyage) runTask(ctx context.Context, id int64) (work, kept error) {
	t, err := v.Store.ClaimTask(ctx, id, v.Worker)
	if err != nil || t == nil {
		return nil, err
	}
	c, err := v.Store.CrossingByID(ctx, t.CrossingID)
	if err != nil {
		return nil, err
	}
	run, cancel := context.WithCancelCause(ctx)
	var keep sync.WaitGroup
	keep.Go(func() { v.keepTask(run, cancel, t) })
	of := c // the work may change its own
	keep.Go(func() { v.mindTask(run, &of, t) })
	if t.Cancel == "" {
		err = v.patiently(run, &c, t)
	} else {
		err = ended{t.Cancel}
		cancel(err)
	}
	if v.logFault(err) {
		v.Hold(ctx, &c, "", fmt.Sprintf("%s stopped: %s", t.Kind, err))
	}
	cause := context.Cause(run)
	cancel(nil)
	keep.Wait()
	end, done := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer done()
	var early ended
	switch {
	case errors.Is(cause, domain.ErrTakenOver):
		return cause, nil
	case err != nil && errors.As(cause, &early):
		gone := domain.Conflict("%s of %s ended before its time: %s", t.Kind, c.Name, early.why)
		if mended := v.cleared(end, &c, t, early.why); mended != nil {
			return gone, v.Store.EndTask(end, t.ID, t.Epoch, "failed", early.why+", and what it had begun could not be taken back: "+mended.Error())
		}
		v.Say(end, "info", System, c.Name, "", string(t.Kind), "%s", gone)
		return gone, v.Store.EndTask(end, t.ID, t.Epoch, "cancelled", early.why)
	case ctx.Err() != nil && err != nil: // this process stops: another one goes on
		return err, v.Store.ReleaseTask(end, t.ID, t.Epoch)
	case err != nil:
		if !errors.As(err, new(undone)) && t.Kind != TaskSurvey { // who asked for a survey is told there
			v.Say(end, "error", System, c.Name, "", string(t.Kind), "%s failed: %s", t.Kind, err)
			v.Notify(end, &c, journal.EventFailed, fmt.Sprintf("%s failed: %s", t.Kind, err))
		}
		return err, v.Store.EndTask(end, t.ID, t.Epoch, "failed", err.Error())
	}
	return nil, v.Store.EndTask(end, t.ID, t.Epoch, "done", "")
}

// awayTries is how often work is tried again while a server is away: some minutes.
const awayTries = 12

// patiently carries out a task. Work that can be repeated waits for a server that is away for
// a moment, as in a restart: what was done is found done. A cutover takes itself back, and a
// person waits for the others.
func (v *Voyage) patiently(ctx context.Context, c *domain.Crossing, t *records.Task) error {
	for try := 1; ; try++ {
		err := domain.Guarded(string(t.Kind), func() error { return v.doTask(ctx, c, t) })
		repeats := t.Kind == TaskPrepare || t.Kind == TaskRestart || t.Kind == TaskClose || t.Kind == TaskBuild
		if !repeats || !engine.Away(err) {
			return err
		}
		if try > awayTries {
			if t.Kind != TaskClose && ctx.Err() == nil {
				v.Hold(ctx, c, "", fmt.Sprintf("%s could not be done: %s. Mend the cause and resume", t.Kind, err))
			}
			return err
		}
		_ = v.Store.NoteTask(ctx, t.ID, fmt.Sprintf("waits for a server, and goes on by itself (try %d of %d): %s", try, awayTries, err))
		if !sleep(ctx, backoff(try)) {
			return err
		}
		now, found := v.Store.CrossingByID(ctx, c.ID)
		if found == nil {
			*c = now
		}
	}
}

// keepTask prolongs the lease of a task, and ends the work when it is not ours any more, when
// that can no longer be known, or when somebody wants it ended.
func (v *Voyage) keepTask(ctx context.Context, cancel context.CancelCauseFunc, t *records.Task) {
	last := time.Now()
	every(ctx, records.Renew, func() {
		mine, why, err := v.Store.RenewTask(ctx, t.ID, t.Epoch)
		switch {
		case err != nil && time.Since(last) > records.Lease, err == nil && !mine:
			cancel(domain.ErrTakenOver)
		case err == nil && why != "" && !uncancelled(t.Kind):
			cancel(ended{why})
		}
		if err == nil {
			last = time.Now()
		}
	})
}

// uncancelled reports whether work of a kind is carried to its end whoever asks: it takes
// itself back in its own way, or must leave nothing half done.
func uncancelled(kind lifecycle.Work) bool { return kind == TaskCutover || kind == TaskClose }

// cleared takes back what a task that ended before its time had begun.
func (v *Voyage) cleared(ctx context.Context, c *domain.Crossing, t *records.Task, why string) error {
	switch t.Kind {
	case TaskPrepare, TaskRestart:
		var a BeginArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		if a.Run != 0 {
			if _, err := v.Store.SettleRun(ctx, a.Run, "failed", why); err != nil {
				return err
			}
		}
		if err := v.Store.EndRun(ctx, c.ID, "given up", why); err != nil {
			return err
		}
		if now, err := v.Store.CrossingByID(ctx, c.ID); err != nil || now.Phase == domain.PhaseDraft || now.Phase == domain.PhaseSurveyed {
			return err
		}
		v.Hold(ctx, c, "", fmt.Sprintf("%s of %s has not come to its end (%s). Resume to begin it again, or close the crossing", t.Kind, c.Name, why))
	case TaskReconcile:
		var a ReconcileArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.Store.EndReconciliation(ctx, a.Reconciliation, "cancelled", why)
	case TaskRefresh:
		var a BeginArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		if a.Run != 0 {
			if _, err := v.Store.SettleRun(ctx, a.Run, "failed", why); err != nil {
				return err
			}
		}
		return v.Store.EndRun(ctx, c.ID, "given up", why)
	case TaskAdd:
		var a AddArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.unadd(ctx, c, a)
	}
	return nil
}

// endWork has work of some kinds on a crossing end for the sake of other work, and waits until
// it has. What nobody carries out is ended here.
func (v *Voyage) endWork(ctx context.Context, c *domain.Crossing, kinds []lifecycle.Work, why string) error {
	var left []records.Ending
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); {
		var err error
		if left, err = v.Store.EndTasks(ctx, c.ID, kinds, why); err != nil || len(left) == 0 {
			return err
		}
		for _, t := range left {
			if t.Idle {
				if err := v.RunTask(ctx, t.ID); err != nil {
					return err
				}
			}
		}
		if !sleep(ctx, 200*time.Millisecond) {
			return ctx.Err()
		}
	}
	return domain.Conflict("%s of %s has been asked to end and has not; try again", left[0].Kind, c.Name)
}

// CancelTask ends a task before its time.
func (v *Voyage) CancelTask(ctx context.Context, c *domain.Crossing, id int64, actor string) (records.Task, error) {
	t, err := v.Store.TaskOf(ctx, c.ID, id)
	if err != nil {
		return t, err
	}
	if why := lifecycle.Cancel(t.Kind); why != "" {
		return t, domain.Conflict("task %d is a %s: %s", id, t.Kind, why)
	}
	if t, err = v.Store.CancelTask(ctx, c.ID, id, "cancelled by "+actor); err != nil {
		return t, err
	}
	v.Say(ctx, "info", actor, c.Name, "", string(t.Kind), "%s cancelled task %d (%s) of %s", actor, id, t.Kind, c.Name)
	return t, v.Queue.Wake(ctx, id) // one that nobody has begun is ended at once
}

func (v *Voyage) doTask(ctx context.Context, c *domain.Crossing, t *records.Task) error {
	note := func(s string) {
		if err := v.Store.NoteTask(ctx, t.ID, s); err != nil {
			v.Log.Debug("a task's note was not kept", "error", err)
		}
	}
	switch t.Kind {
	case TaskSurvey:
		return v.surveyTask(ctx, c, note)
	case TaskPrepare, TaskRestart:
		return v.begin(ctx, c, t, note)
	case TaskBuild:
		if err := v.build(ctx, c, note, false); err != nil {
			if ctx.Err() == nil && !engine.Away(err) {
				v.Hold(ctx, c, "", fmt.Sprintf("%s. Mend the cause and resume", err))
			}
			return err
		}
		_, err := v.Store.Alone(ctx, keeperLock, func() error { return v.movePhases(ctx) })
		return err
	case TaskRefresh:
		return v.refresh(ctx, c, t, note)
	case TaskReconcile:
		var a ReconcileArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.reconcile(ctx, c, a.Reconciliation, false, note)
	case TaskRepair:
		var a RepairArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.repair(ctx, c, a, t.Actor, note)
	case TaskRecheck:
		var a RepairArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.recheck(ctx, c, a, t.Actor, note)
	case TaskFit:
		var a FitArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.fit(ctx, c, a, note)
	case TaskAdd:
		var a AddArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.addTable(ctx, c, a, note)
	case TaskCutover:
		return v.cutover(ctx, c, t)
	case TaskClose:
		var a CloseArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.close(ctx, c, a, t.Actor)
	}
	return fmt.Errorf("there is no task kind %q", t.Kind)
}
