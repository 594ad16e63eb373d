package prepare

import (
	"context"
	"slices"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// restart begins again from nothing: chunks, marks, capture and the target's
// rows are dropped, and the crossing prepares anew.
func (pr *Preparer) restart(ctx context.Context, c *domain.Crossing, t telling) error {
	src, dst, err := pr.databases.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	t.say("stopping what is under way")
	if err := pr.work.EndWork(ctx, c, lifecycle.All(lifecycle.WorkRestart, lifecycle.WorkCutover, lifecycle.WorkClose,
		lifecycle.WorkSurvey, lifecycle.WorkFit),
		"the crossing was restarted"); err != nil {
		return err
	}
	tables, err := pr.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	// From here on no lane can claim: the phase says so. Old holders are fenced.
	if err := pr.records.ResetAll(ctx, c.ID); err != nil {
		return err
	}
	for _, table := range tables {
		if err := pr.Fence(ctx, dst, c, table.ID); err != nil {
			return err
		}
	}
	if src.Captures != nil {
		if err := src.DropCapture(ctx, c.ObjectName(), c.Undo); err != nil {
			return err
		}
	}
	inPlace := planning.RepeatsInPlace(c)
	deferred := dst.Deferred(nil, planning.OnTarget(planning.PlansOf(tables)))
	if inPlace {
		deferred = InTheWay(ctx, dst, deferred)
	}
	if err := dst.Unbuild(ctx, deferred); err != nil {
		return err
	}
	if dst.Applies != nil {
		if err := dst.ForgetStream(ctx, c.UID); err != nil {
			return err
		}
	}
	fresh := *c
	fresh.Phase = domain.PhasePrepared
	fresh.Settings.ExistingRows = "empty" // the rows there are our own
	if inPlace {
		fresh.Settings.ExistingRows = engine.ReplaceRange
	}
	fresh.Rules = slices.Clone(fresh.Rules)
	for i := range fresh.Rules {
		fresh.Rules[i].ExistingRows, fresh.Rules[i].OldStanding = "", ""
	}
	return pr.prepare(ctx, &fresh, true, t)
}

// Fence makes sure that nobody who still holds a chunk of the table can
// land it.
func (pr *Preparer) Fence(ctx context.Context, dst *engine.Opened, c *domain.Crossing, table int64) error {
	chunks, err := pr.records.Chunks(ctx, table)
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
