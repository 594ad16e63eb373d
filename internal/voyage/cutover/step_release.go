package cutover

import (
	"context"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/steps"
)

// Reading waits for nobody any longer.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepRelease, Order: 100, Real: true, Forward: true, Do: release})

func release(ctx context.Context, r *run) (string, error) {
	if r.stop != nil {
		_ = r.stop.Release(ctx)
	}
	now := time.Now()
	return "the source answers reads only", r.of.records.SetPause(ctx, r.k.ID, nil, &now)
}
