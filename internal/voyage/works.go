package voyage

import (
	"context"
	"encoding/json"
	"fmt"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/closing"
	"dustyferry/internal/voyage/compare"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/prepare"
	"dustyferry/internal/voyage/tables"
	"dustyferry/internal/voyage/tasks"
)

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
	begins := tasks.Work{Do: func(ctx context.Context, c crossing, t task, n note) error {
		return v.prepare.Begin(ctx, c, t, n)
	}, Undo: v.unbegin, Repeats: true}
	return map[lifecycle.Work]tasks.Work{
		lifecycle.WorkPrepare: begins,
		lifecycle.WorkRestart: begins,
		lifecycle.WorkSurvey: {Do: func(ctx context.Context, c crossing, _ task, n note) error {
			return v.surveyTask(ctx, c, n)
		}, Answers: true},
		lifecycle.WorkBuild: {Do: func(ctx context.Context, c crossing, _ task, n note) error {
			return v.buildTask(ctx, c, n)
		}, Repeats: true},
		lifecycle.WorkRefresh: {Do: func(ctx context.Context, c crossing, t task, n note) error {
			return decoded(t, func(a prepare.Args) error { return v.refreshes.Run(ctx, c, t, a.Run, n) })
		}, Undo: v.endRun},
		lifecycle.WorkReconcile: {
			Do: func(ctx context.Context, c crossing, t task, n note) error {
				return decoded(t, func(a compare.Args) error { return v.Comparer.RunAt(ctx, c, a, false, n) })
			},
			Undo: func(ctx context.Context, _ crossing, t task, why string) error {
				return decoded(t, func(a compare.Args) error {
					return v.Store.EndReconciliation(ctx, a.Reconciliation, domain.ComparisonCancelled, why)
				})
			},
		},
		lifecycle.WorkRepair: {Do: func(ctx context.Context, c crossing, t task, n note) error {
			return decoded(t, func(a compare.RepairArgs) error { return v.Comparer.Repair(ctx, c, a, t.Actor, n) })
		}},
		lifecycle.WorkRecheck: {Do: func(ctx context.Context, c crossing, t task, n note) error {
			return decoded(t, func(a compare.RepairArgs) error { return v.Comparer.Recheck(ctx, c, a, t.Actor, n) })
		}},
		lifecycle.WorkFit: {Do: func(ctx context.Context, c crossing, t task, n note) error {
			return decoded(t, func(a planning.FitArgs) error { return v.Planning.CheckValues(ctx, c, a, n) })
		}},
		lifecycle.WorkAdd: {
			Do: func(ctx context.Context, c crossing, t task, n note) error {
				return decoded(t, func(a tables.Args) error { return v.tables.Add(ctx, c, a, n) })
			},
			Undo: func(ctx context.Context, c crossing, t task, _ string) error {
				return decoded(t, func(a tables.Args) error { return v.tables.TakeBack(ctx, c, a) })
			},
		},
		lifecycle.WorkCutover: {Do: func(ctx context.Context, c crossing, t task, _ note) error {
			return v.Cutovers.Run(ctx, c, t)
		}, Whole: true},
		lifecycle.WorkClose: {Do: func(ctx context.Context, c crossing, t task, _ note) error {
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
	return v.phases.MoveNow(ctx)
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
	return decoded(t, func(a prepare.Args) error {
		if a.Run != 0 {
			if _, err := v.Store.SettleRun(ctx, a.Run, domain.RunFailed, why); err != nil {
				return err
			}
		}
		return v.Store.EndRun(ctx, c.ID, domain.RunGivenUp, why)
	})
}

// surveyTask looks at both sides and keeps what it found.
func (v *Voyage) surveyTask(ctx context.Context, c *domain.Crossing, note func(string)) error {
	note("looking at both sides")
	s, err := v.Planning.Survey(ctx, c, true)
	if err != nil {
		return err
	}
	return v.Store.SaveSurvey(ctx, c, s.Entries)
}
