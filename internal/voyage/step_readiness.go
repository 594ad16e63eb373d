package voyage

import (
	"context"
	"fmt"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/steps"
)

// The list is asked for once more, with the source as it is now.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepReadiness, Order: 10, Do: checkReadiness})

func checkReadiness(ctx context.Context, r *run) (string, error) {
	c := *r.c
	c.Phase = domain.PhaseInStep                                  // it was, when the cutover was asked for
	if _, err := r.v.Catalog(ctx, r.c.Source, true); err != nil { // the list takes one that is seconds old
		return "", err
	}
	list, err := r.v.Readiness(ctx, &c, r.k.Settings, Decides)
	if err != nil {
		return "", err
	}
	list = forRehearsal(list, r.k.Rehearsal)
	if err := r.v.Store.SaveReadiness(ctx, r.k.ID, list); err != nil {
		return "", err
	}
	if block := domain.Blocking(list, "dustyferry cutover ready "+c.Name); block != "" {
		return "", domain.Conflict("not ready: %s", block)
	}
	return fmt.Sprintf("all %d readiness checks pass", len(list)), nil
}
