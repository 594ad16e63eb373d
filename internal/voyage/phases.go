package voyage

import (
	"context"
	"errors"
	"fmt"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// phasesLock is of who moves phases on: the keeper, and whoever has ended what they wait for.
const phasesLock = 7262820

// movePhases moves every crossing on whose phase can.
func (v *Voyage) movePhases(ctx context.Context) error {
	under, err := v.Store.Underway(ctx)
	if err != nil {
		return err
	}
	var all []error
	for i := range under {
		if err := v.movePhase(ctx, &under[i]); err != nil {
			all = append(all, fmt.Errorf("%s: %w", under[i].Name, err))
		}
	}
	return errors.Join(all...)
}

func (v *Voyage) movePhase(ctx context.Context, c *domain.Crossing) error {
	if c.Condition == domain.ConditionPaused || c.Phase == domain.PhaseCuttingOver {
		return nil
	}
	view, err := v.Store.View(ctx, c.ID)
	if err != nil {
		return err
	}
	if next := lifecycle.Next(view); next != c.Phase {
		moved, err := v.Store.SetPhase(ctx, c.ID, c.Phase, next)
		if err != nil || !moved {
			return err
		}
		v.Say(ctx, "info", System, c.Name, "", "phase", "%s is %s now (was %s)", c.Name, c.Kind.PhaseLabel(next), c.Kind.PhaseLabel(c.Phase))
		return v.arrived(ctx, c, next)
	}
	if c.Phase == domain.PhaseCatchingUp && !c.Built && c.Condition == domain.ConditionRunning && lifecycle.Consistent(view) {
		if _, err := v.AddTask(ctx, c, TaskBuild, struct{}{}, System); err != nil && !domain.IsKind(err, domain.ProblemConflict) {
			return err
		}
	}
	return nil
}

// arrived tells of a phase that was reached, and keeps the figures of a load that is
// complete.
func (v *Voyage) arrived(ctx context.Context, c *domain.Crossing, phase domain.Phase) error {
	switch phase {
	case domain.PhaseCatchingUp:
		if c.Phase == domain.PhaseLoading {
			v.Notify(ctx, c, journal.EventLoaded, fmt.Sprintf("every row of %s has landed", c.Name))
		}
	case domain.PhaseInStep:
		if err := v.Store.EndRun(ctx, c.ID, "done", ""); err != nil {
			return err
		}
		v.Notify(ctx, c, journal.EventInStep, fmt.Sprintf("%s is %s: %s", c.Name, c.Kind.PhaseLabel(domain.PhaseInStep), map[bool]string{true: "the load is complete, its indexes stand", false: "the lag is below its threshold"}[c.Kind == domain.KindLoad]))
	}
	return nil
}
