package cutover

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/steps"
)

// What had to wait for the end of the load and of capture is made. It may stay, whatever comes.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepBuild, Order: 70, Real: true, Do: buildLast})

func buildLast(ctx context.Context, r *run) (string, error) {
	err := r.of.builder.Build(ctx, r.c, func(s string) { _ = r.of.records.NoteStep(ctx, r.k.ID, domain.StepBuild, s) },
		true)
	return "every index and constraint stands", err
}
