package commands

import (
	"context"
	"slices"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/prepare"
)

// StartCrossing begins the journey: prepare, then load and capture.
//
// Where rows on the target will be removed, confirm must be the target's name.
func (k *Commands) StartCrossing(ctx context.Context, c *domain.Crossing, confirm, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Start, c); err != nil {
		return err
	}
	if removes(c) && confirm != c.Target {
		look, err := k.planner.Review(ctx, c)
		if err != nil {
			return err
		}
		if look.RowsLost > 0 {
			return domain.Invalid("starting %s removes %s from %d tables of %s (%s first); confirm it by giving the "+
				"target's name, %s",
				c.Name, domain.Many(look.RowsLost, "row"), len(look.Losses), c.Target, look.Losses[0].Table, c.Target)
		}
	}
	if err := k.rules.CheckCaptureSettings(ctx, c.Source, c.Kind, c.Settings); err != nil {
		return err
	}
	return k.startAs(ctx, c, 0, actor)
}

// startAs begins the first load, by the plan that was read; run is the due run that asked for
// it, or 0.
func (k *Commands) startAs(ctx context.Context, c *domain.Crossing, run int64, actor string) error {
	if c.Condition == domain.ConditionPaused {
		return domain.Conflict("crossing %s is paused (%s); resume it first", c.Name, c.Reason)
	}
	if err := k.work.Begin(ctx, c, lifecycle.WorkPrepare, Beginning{Run: run, SamePlan: true, GoesOn: true},
		actor); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "start", "%s started %s", actor, c.Name)
	return nil
}

// removes reports whether starting the crossing may remove rows from the target.
func removes(c *domain.Crossing) bool {
	goes := func(way string) bool { return way == "empty" || way == "replace" }
	return goes(c.Settings.ExistingRows) || slices.ContainsFunc(c.Rules, func(r domain.Rule) bool {
		return goes(r.Existing())
	})
}

// PauseCrossing stops the load, and capture too unless it is to go on.
func (k *Commands) PauseCrossing(ctx context.Context, c *domain.Crossing, keepCapture bool, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Pause, c); err != nil {
		return err
	}
	reason := "paused by " + actor + "; the source keeps its log until capture goes on"
	if keepCapture {
		reason = "paused by " + actor + "; capture goes on"
	}
	paused, err := k.records.SetCondition(ctx, c.ID, []domain.Condition{c.Condition}, domain.ConditionPaused, reason,
		keepCapture)
	if err != nil {
		return err
	}
	if !paused {
		return domain.ChangedMeanwhile(c)
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "pause", "%s", reason)
	return nil
}

// ResumeCrossing lets a paused or held crossing go on.
func (k *Commands) ResumeCrossing(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Resume, c); err != nil {
		return err
	}
	if c.Condition == domain.ConditionRunning {
		return domain.Conflict("crossing %s is running; there is nothing to resume", c.Name)
	}
	begin, err := k.records.LastBegun(ctx, c.ID)
	if err != nil {
		return err
	}
	resumed, err := k.records.Resume(ctx, c.ID, c.Condition)
	if err != nil {
		return err
	}
	if !resumed {
		return domain.ChangedMeanwhile(c)
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "resume", "%s resumed %s", actor, c.Name)
	if c.Phase != domain.PhaseDraft && c.Phase != domain.PhaseSurveyed && c.Phase != domain.PhasePrepared {
		return nil
	}
	// What has not come to its end begins again as it had begun: a restart would find the
	// rows of the load before it.
	if begin != lifecycle.WorkRestart {
		begin = lifecycle.WorkPrepare
	}
	if _, err := k.work.AddTask(ctx, c, begin, prepare.Args{}, actor); err != nil && !domain.IsKind(err,
		domain.ProblemConflict) {
		return err
	}
	return nil
}
