package commands

import (
	"cmp"
	"context"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/planning"
)

// Survey looks at both sides without changing anything, and keeps what it found. It is work
// like any other: it ends when somebody cancels it, or when ctx does.
func (k *Commands) Survey(ctx context.Context, c *domain.Crossing, actor string) ([]domain.Entry, error) {
	if err := lifecycle.AllowOn(lifecycle.Survey, c); err != nil {
		return nil, err
	}
	// Without a job for the queue: it is carried out here, and now. Should this process die,
	// the keeper has another one end it.
	id, err := k.work.AddOwn(ctx, c, lifecycle.WorkSurvey, actor)
	if err != nil {
		return nil, err
	}
	stay := context.WithoutCancel(ctx)
	gone := context.AfterFunc(ctx, func() {
		_, _ = k.records.CancelTask(stay, c.ID, id, "whoever asked for it went away")
	})
	defer gone()
	worked, err := k.work.Run(stay, id)
	if err := cmp.Or(worked, err, ctx.Err()); err != nil {
		return nil, err
	}
	return k.records.SurveyOf(ctx, c.ID)
}

// CheckFit begins a fit check.
func (k *Commands) CheckFit(ctx context.Context, c *domain.Crossing, a planning.FitArgs, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Change, c); err != nil {
		return domain.Conflict("crossing %s has started; a fit check belongs before that", c.Name)
	}
	if a.Share <= 0 || a.Share > 1 {
		return domain.Invalid("the share is %g; give a share of the rows above 0 and at most 1", a.Share)
	}
	if a.SpeedLimit < 0 {
		return domain.Invalid("the speed limit is %d; give bytes per second, or 0 for none", a.SpeedLimit)
	}
	if err := domain.ValidPatterns(a.Tables); err != nil {
		return err
	}
	if _, err := k.work.AddTask(ctx, c, lifecycle.WorkFit, a, actor); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "fit check", "%s started a fit check of %s", actor, a.Scope())
	return nil
}
