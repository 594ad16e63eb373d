package cutover

import (
	"context"
	"fmt"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/steps"
)

// Both sides are compared where they stand, as deep as the settings say.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepReconcile, Order: 50, Do: compareAtEnd})

func compareAtEnd(ctx context.Context, r *run) (string, error) {
	depth := r.k.Settings.CutoverDepth
	if depth == domain.DepthNone {
		return steps.Skipped, nil
	}
	id, err := r.of.records.AddComparison(ctx, r.c.ID, depth)
	if err != nil {
		return "", err
	}
	if err := r.of.records.SetEnd(ctx, r.k.ID, domain.Position{}, id); err != nil {
		return "", err
	}
	if err := r.of.comparer.Run(ctx, r.c, id, r.k.Settings.StopMethod != domain.StopWord, nil); err != nil {
		return "", err
	}
	res, err := r.of.records.Reconciliation(ctx, r.c.ID, id)
	if err != nil {
		return "", err
	}
	if res.Findings > 0 {
		return "", domain.Conflict("reconciliation %d found %d differences; see 'dustyferry findings %s'", id, res.Findings,
			r.c.Name)
	}
	looked := ""
	if depth == domain.DepthVouched {
		looked = " looked at,"
	}
	return fmt.Sprintf("%s, %s%s alike on both sides (%s)", domain.Many(res.Tables, "table"), domain.Many(res.SourceRows,
		"row"), looked, depth), nil
}
