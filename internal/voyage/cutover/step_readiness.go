package cutover

import (
	"context"
	"fmt"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/readiness"
	"dustyferry/internal/voyage/steps"
)

// The list is asked for once more, with the source as it is now.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepReadiness, Order: 10, Do: checkReadiness})

func checkReadiness(ctx context.Context, r *run) (string, error) {
	c := *r.c
	c.Phase = domain.PhaseInStep                                             // it was, when the cutover was asked for
	if _, err := r.of.databases.Catalog(ctx, r.c.Source, true); err != nil { // the list takes one that is seconds old
		return "", err
	}
	list, err := r.of.readiness.List(ctx, &c, r.k.Settings, readiness.Decides)
	if err != nil {
		return "", err
	}
	list = readiness.ForRehearsal(list, r.k.Rehearsal)
	if err := r.of.records.SaveReadiness(ctx, r.k.ID, list); err != nil {
		return "", err
	}
	if block := domain.Blocking(list, "dustyferry cutover ready "+c.Name); block != "" {
		return "", domain.Conflict("not ready: %s", block)
	}
	return fmt.Sprintf("all %d readiness checks pass", len(list)), nil
}
