package cutover

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/steps"
)

// Whoever goes back comes to a database that the cutover before has closed. It is opened when the other
// one is closed, so that never both take writes, and closed again if the cutover is taken back.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepOpenTarget, Order: 85, Real: true, Do: openTarget,
	Undo: closeTarget})

// errNotCut says that nothing closed the target.
var errNotCut = errors.New("nothing was cut over to it before, so there is nothing to go back from")

// came is the cutover that closed the target, and the crossing whose it was.
func (r *run) came(ctx context.Context) (domain.Crossing, []domain.TablePlan, domain.Cutover, error) {
	if r.c.ReturnOf == nil {
		return domain.Crossing{}, nil, domain.Cutover{}, errNotCut
	}
	c, err := r.of.records.CrossingByID(ctx, *r.c.ReturnOf)
	if err != nil {
		return c, nil, domain.Cutover{}, err
	}
	tables, err := r.of.records.Tables(ctx, c.ID)
	if err != nil {
		return c, nil, domain.Cutover{}, err
	}
	cuts, err := r.of.records.Cutovers(ctx, c.ID)
	if err != nil {
		return c, nil, domain.Cutover{}, err
	}
	for _, k := range cuts {
		if !k.Rehearsal && k.State == domain.CutoverDone {
			return c, planning.PlansOf(tables), k, nil
		}
	}
	return c, nil, domain.Cutover{}, errNotCut
}

func openTarget(ctx context.Context, r *run) (string, error) {
	c, plans, k, err := r.came(ctx)
	if err != nil {
		return "", err
	}
	if r.dst.StopsWrites == nil || k.Settings.StopMethod == domain.StopWord {
		return "it was not closed by us", nil
	}
	err = r.dst.Reopen(ctx, k.Settings.StopMethod, c.ObjectName(), plans)
	if left := (engine.Left{}); errors.As(err, &left) {
		r.of.journal.Recordf(ctx, "warning", journal.System, r.c.Name, "", "cutover", "%s takes writes again; %s", r.c.Target,
			left.What)
	} else if err != nil {
		return "", fmt.Errorf("opening %s for writes: %w", r.c.Target, err)
	}
	return r.c.Target + " takes writes again", nil
}

// closeTarget closes it again, for everybody but this crossing, which goes on to bring changes. What was
// compared before proves nothing of it any more: somebody may have written there meanwhile.
func closeTarget(ctx context.Context, r *run) error {
	err := r.closeAgain(ctx)
	r.bothOpen = err != nil
	if err != nil {
		err = fmt.Errorf("closing %s again: %w", r.c.Target, err)
	}
	return err
}

func (r *run) closeAgain(ctx context.Context) error {
	c, plans, k, err := r.came(ctx)
	if errors.Is(err, errNotCut) {
		return nil // it was not opened either
	}
	if err != nil {
		return err
	}
	if r.dst.StopsWrites == nil || k.Settings.StopMethod == domain.StopWord {
		return nil
	}
	stop, err := r.dst.StopWrites(ctx, k.Settings.StopMethod, c.ObjectName(), plans, 10*time.Second)
	if err != nil {
		return err
	}
	defer func() { _ = stop.Release(context.WithoutCancel(ctx)) }()
	msg := fmt.Sprintf("this table has moved to database %s (crossing %s)", r.c.Source, c.Name)
	if err := stop.CloseWrites(ctx, msg, r.c.UID); err != nil {
		return err
	}
	return r.of.records.ProveAnew(ctx, r.c.ID)
}
