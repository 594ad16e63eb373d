package cutover

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/steps"
)

// Gateways were held when writes were stopped, and lead to the target now that it takes writes.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepGateways, Order: 105, Real: true, Forward: true,
	Do: switchGateways})

func switchGateways(ctx context.Context, r *run) (string, error) {
	note, err := r.of.gateways.Switch(ctx, *r.c, r.c.Target)
	if note == "" {
		note = steps.Skipped
	}
	return note, err
}
