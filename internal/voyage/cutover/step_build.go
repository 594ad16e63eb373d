package cutover

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/steps"
)

// What had to wait for the end of the load and of capture is made, which may stay, whatever comes; and
// the target takes writes of everybody, which it does not if the cutover is taken back.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepBuild, Order: 70, Real: true, Do: buildLast,
	Undo: guardAgain})

func buildLast(ctx context.Context, r *run) (string, error) {
	err := r.of.builder.Build(ctx, r.c, func(s string) { _ = r.of.records.NoteStep(ctx, r.k.ID, domain.StepBuild, s) },
		true)
	if err != nil {
		return "", err
	}
	return "every index and constraint stands", openGuard(ctx, r, true)
}

// guardAgain closes a target that was open to everybody for a while: what was compared before proves
// nothing of it any more.
func guardAgain(ctx context.Context, r *run) error {
	if err := openGuard(ctx, r, false); err != nil || r.c.Settings.GuardTarget != domain.GuardRefuse {
		return err
	}
	return r.of.records.ProveAnew(ctx, r.c.ID)
}

// openGuard lets everybody write on the target, or nobody but us, where it was guarded.
func openGuard(ctx context.Context, r *run, open bool) error {
	if r.dst.Guards == nil {
		return nil
	}
	return r.dst.OpenGuard(ctx, r.c.UID, open)
}
