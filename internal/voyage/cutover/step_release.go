package cutover

import (
	"context"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/steps"
)

// Reading waits for nobody any longer.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepRelease, Order: 100, Real: true, Forward: true, Do: release})

func release(ctx context.Context, r *run) (string, error) {
	if r.stop != nil {
		_ = r.stop.Release(ctx)
	}
	now := time.Now()
	if err := r.of.records.SetPause(ctx, r.k.ID, nil, &now); err != nil {
		return "", err
	}
	if r.dst.Guards != nil { // what it leaves refuses nobody, and closing removes it
		if err := r.dst.Unguard(ctx, r.c.UID); err != nil {
			r.of.journal.Recordf(ctx, "warning", journal.System, r.c.Name, "", "cutover",
				"triggers that refuse nobody any more are "+
					"left on the target until the crossing is closed: %s", err)
		}
	}
	return "the source answers reads only", nil
}
