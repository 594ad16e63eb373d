package cutover

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/steps"
)

// Counters go on where they stood. Before the hand-over nobody has taken from them.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepSequences, Order: 60, Real: true, Do: moveSequences})

func moveSequences(ctx context.Context, r *run) (string, error) {
	if r.src.Sequences == nil || r.dst.Sequences == nil {
		return "there are none", nil
	}
	cat, err := r.of.records.CatalogOf(ctx, r.c.ID)
	if err != nil {
		return "", err
	}
	values, err := r.src.SequenceValues(ctx, cat.SequencesOf(r.plans))
	if err != nil {
		return "", err
	}
	for i := range values {
		values[i].Sequence = planning.SequenceOnTarget(values[i].Sequence, r.plans)
	}
	return domain.Many(len(values), "sequence") + " moved", r.dst.SetSequences(ctx, values)
}
