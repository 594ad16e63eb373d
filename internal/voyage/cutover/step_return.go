package cutover

import (
	"context"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/steps"
	"dustyferry/internal/voyage/waits"
)

// A return path is made ready before anybody waits, a rehearsal's too; its place on the target's log is
// taken when the target is as the source was, before anybody else may write there; and it begins when
// there is no way back but it.
var (
	_ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepPrepareReturn, Order: 15, Do: prepareReturn,
		Undo: dropReturn})
	_ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepMarkReturn, Order: 65, Real: true, Do: markReturn})
	_ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepStartReturn, Order: 110, Real: true, Forward: true,
		Do: startReturn})
)

func prepareReturn(ctx context.Context, r *run) (string, error) {
	name, err := r.of.returns.Prepare(ctx, r.c, func(s string) {
		_ = r.of.records.NoteStep(ctx, r.k.ID, domain.StepPrepareReturn, s)
	})
	if err != nil {
		return "", fmt.Errorf("the return path: %w", err)
	}
	return fmt.Sprintf("%s is ready: the log of %s is kept from here on", name, r.c.Target), nil
}

func dropReturn(ctx context.Context, r *run) error { return r.of.returns.Drop(ctx, r.c) }

func markReturn(ctx context.Context, r *run) (string, error) {
	at, err := r.dst.Heartbeat(ctx)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("log position %s of %s", r.of.databases.Position(ctx, r.c.Target, at), r.c.Target),
		r.of.returns.Mark(ctx, r.c, at)
}

// startReturn tries until it works: the hand-over is done, and nothing but this brings changes back. One
// that is gone is told of, and keeps the cutover from no end.
func startReturn(ctx context.Context, r *run) (string, error) {
	name, err := r.of.returns.Start(ctx, r.c)
	for try := 1; err != nil; try++ {
		if domain.IsKind(err, domain.ProblemConflict) {
			r.of.journal.Recordf(ctx, "error", journal.System, r.c.Name, "", "cutover", "there is no return path: %s", err)
			return "there is none: " + err.Error(), nil
		}
		_ = r.of.records.NoteStep(ctx, r.k.ID, domain.StepStartReturn, fmt.Sprintf("try %d: %s", try, err))
		if !waits.Sleep(ctx, min(time.Duration(try)*time.Second, 10*time.Second)) {
			return "", ctx.Err()
		}
		name, err = r.of.returns.Start(ctx, r.c)
	}
	return fmt.Sprintf("what is written to %s is brought back to %s by %s", r.c.Target, r.c.Source, name), nil
}
