package voyage

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/closing"
	"dustyferry/internal/voyage/compare"
	"dustyferry/internal/voyage/cutover"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/tasks"
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
func (v *Voyage) AddTask(ctx context.Context, c *domain.Crossing, kind lifecycle.Work, args any,
	actor string) (int64, error) {
	return v.addTask(ctx, c, kind, args, actor, nil)
}

// addTask adds a task, its job and whatever else belongs to it in one transaction: either all
// of it comes about, or nothing.
func (v *Voyage) addTask(ctx context.Context, c *domain.Crossing, kind lifecycle.Work, args any, actor string,
	with func(pgx.Tx) error) (int64, error) {
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

// decoded turns a task's arguments into those of its kind.
func decoded[A any](t *domain.Task, f func(A) error) error {
	var a A
	if err := json.Unmarshal(t.Args, &a); err != nil {
		return err
	}
	return f(a)
}

// works says how each kind of work is done, and taken back.
func (v *Voyage) works() map[lifecycle.Work]tasks.Work {
	type (
		crossing = *domain.Crossing
		task     = *domain.Task
		note     = func(string)
	)
	begins := tasks.Work{Do: v.begin, Undo: v.unbegin, Repeats: true}
	return map[lifecycle.Work]tasks.Work{
		TaskPrepare: begins,
		TaskRestart: begins,
		TaskSurvey: {Do: func(ctx context.Context, c crossing, _ task, n note) error { return v.surveyTask(ctx, c, n) },
			Answers: true},
		TaskBuild: {Do: func(ctx context.Context, c crossing, _ task, n note) error { return v.buildTask(ctx, c, n) },
			Repeats: true},
		TaskRefresh: {Do: func(ctx context.Context, c crossing, t task, n note) error {
			return decoded(t, func(a BeginArgs) error { return v.Refreshes.Run(ctx, c, t, a.Run, n) })
		}, Undo: v.endRun},
		TaskReconcile: {
			Do: func(ctx context.Context, c crossing, t task, n note) error {
				return decoded(t, func(a compare.Args) error { return v.Comparer.Run(ctx, c, a.Reconciliation, false, n) })
			},
			Undo: func(ctx context.Context, _ crossing, t task, why string) error {
				return decoded(t, func(a compare.Args) error {
					return v.Store.EndReconciliation(ctx, a.Reconciliation, domain.ComparisonCancelled, why)
				})
			},
		},
		TaskRepair: {Do: func(ctx context.Context, c crossing, t task, n note) error {
			return decoded(t, func(a compare.RepairArgs) error { return v.Comparer.Repair(ctx, c, a, t.Actor, n) })
		}},
		TaskRecheck: {Do: func(ctx context.Context, c crossing, t task, n note) error {
			return decoded(t, func(a compare.RepairArgs) error { return v.Comparer.Recheck(ctx, c, a, t.Actor, n) })
		}},
		TaskFit: {Do: func(ctx context.Context, c crossing, t task, n note) error {
			return decoded(t, func(a planning.FitArgs) error { return v.Planning.CheckValues(ctx, c, a, n) })
		}},
		TaskAdd: {
			Do: func(ctx context.Context, c crossing, t task, n note) error {
				return decoded(t, func(a AddArgs) error { return v.addTable(ctx, c, a, n) })
			},
			Undo: func(ctx context.Context, c crossing, t task, _ string) error {
				return decoded(t, func(a AddArgs) error { return v.unadd(ctx, c, a) })
			},
		},
		TaskCutover: {Do: func(ctx context.Context, c crossing, t task, _ note) error { return v.Cutovers.Run(ctx, c, t) },
			Whole: true},
		TaskClose: {Do: func(ctx context.Context, c crossing, t task, _ note) error {
			return decoded(t, func(a closing.Args) error { return v.Closings.Close(ctx, c, a, t.Actor) })
		}, Whole: true, Repeats: true},
	}
}

// buildTask makes what is made after the load. What cannot be made holds the crossing.
func (v *Voyage) buildTask(ctx context.Context, c *domain.Crossing, note func(string)) error {
	if err := v.Builder.Build(ctx, c, note, false); err != nil {
		if ctx.Err() == nil && !engine.Away(err) {
			v.Hold(ctx, c, "", fmt.Sprintf("%s. Fix the cause, then resume", err))
		}
		return err
	}
	return v.Phases.MoveNow(ctx)
}

// unbegin takes back what a start or a restart had begun that ends before its time.
func (v *Voyage) unbegin(ctx context.Context, c *domain.Crossing, t *domain.Task, why string) error {
	if err := v.endRun(ctx, c, t, why); err != nil {
		return err
	}
	if now, err := v.Store.CrossingByID(ctx, c.ID); err != nil || now.Phase == domain.PhaseDraft ||
		now.Phase == domain.PhaseSurveyed {
		return err
	}
	v.Hold(ctx, c, "", fmt.Sprintf("%s of %s has not come to its end (%s). Resume to begin it again, or close "+
		"the crossing", t.Kind, c.Name, why))
	return nil
}

// endRun ends the run that a task was to carry out.
func (v *Voyage) endRun(ctx context.Context, c *domain.Crossing, t *domain.Task, why string) error {
	return decoded(t, func(a BeginArgs) error {
		if a.Run != 0 {
			if _, err := v.Store.SettleRun(ctx, a.Run, domain.RunFailed, why); err != nil {
				return err
			}
		}
		return v.Store.EndRun(ctx, c.ID, domain.RunGivenUp, why)
	})
}

// AddReconciliation keeps a comparison together with the task that makes it.
func (v *Voyage) AddReconciliation(ctx context.Context, c *domain.Crossing, depth domain.Depth, patterns []string,
	actor string) (id int64, err error) {
	if actor != System {
		if err := v.yieldTo(ctx, c, actor+" asked for a comparison"); err != nil {
			return 0, err
		}
	}
	err = v.Queue.In(ctx, func(tx pgx.Tx) error {
		if id, err = records.AddReconciliationTx(ctx, tx, c.ID, depth, patterns); err != nil {
			return err
		}
		task, err := records.AddTaskTx(ctx, tx, c.ID, TaskReconcile, compare.Args{Reconciliation: id}, actor)
		if err != nil {
			return err
		}
		return v.Queue.AddTask(ctx, tx, task)
	})
	return id, err
}

// yieldTo ends comparisons that nobody asked for.
func (v *Voyage) yieldTo(ctx context.Context, c *domain.Crossing, why string) error {
	tasks, err := v.Store.Tasks(ctx, c.ID)
	if err != nil {
		return err
	}
	for _, t := range tasks {
		if t.Kind == TaskReconcile && t.Actor == System && t.State.Open() {
			return v.EndWork(ctx, c, []lifecycle.Work{TaskReconcile}, why)
		}
	}
	return nil
}

// StartClose ends a crossing: what it left on both servers is removed and its certificate written.
func (v *Voyage) StartClose(ctx context.Context, c *domain.Crossing, a closing.Args, actor string) error {
	if err := v.Closings.Allow(ctx, c); err != nil {
		return err
	}
	_, err := v.AddTask(ctx, c, TaskClose, a, actor)
	return err
}

// beginCutover adds a cutover with its task, before which comparisons that nobody asked for end.
func (v *Voyage) beginCutover(ctx context.Context, c *domain.Crossing, rehearsal bool, set domain.Settings,
	list []domain.StepName, actor string) (id int64, err error) {
	if err := v.yieldTo(ctx, c, "a "+cutover.Label(rehearsal)+" was asked for"); err != nil {
		return 0, err
	}
	err = v.Queue.In(ctx, func(tx pgx.Tx) error {
		task, err := records.AddTaskTx(ctx, tx, c.ID, TaskCutover, struct{}{}, actor)
		if err != nil {
			return err
		}
		if id, err = records.AddCutoverTx(ctx, tx, c.ID, task, rehearsal, set, list, actor); err != nil {
			return err
		}
		return v.Queue.AddTask(ctx, tx, task)
	})
	return id, err
}
