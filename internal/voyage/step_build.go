package voyage

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/steps"
)

// What had to wait for the end of the load and of capture is made. It may stay, whatever comes.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepBuild, Order: 70, Real: true, Do: buildLast})

func buildLast(ctx context.Context, r *run) (string, error) {
	err := r.v.Builder.Build(ctx, r.c, func(s string) { _ = r.v.Store.NoteStep(ctx, r.k.ID, domain.StepBuild, s) }, true)
	return "every index and constraint stands", err
}
