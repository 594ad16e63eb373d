// Package phases moves crossings on: from loading over catching up to in step, and back when
// the lag has grown. What the next phase is, core/lifecycle decides.
package phases

import (
	"context"
	"errors"
	"fmt"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// Records are where crossings stand.
type Records interface {
	// Underway lists the crossings that are.
	Underway(ctx context.Context) ([]domain.Crossing, error)
	View(ctx context.Context, id int64) (lifecycle.View, error)
	// SetPhase moves a crossing on; false when it was in another phase by then.
	SetPhase(ctx context.Context, id int64, from, to domain.Phase) (bool, error)
	// EndRun ends the due run of a crossing that repeats, if one is under way.
	EndRun(ctx context.Context, crossing int64, state domain.RunState, note string) error
	// Alone runs f unless somebody else does under that lock, and reports whether it ran.
	Alone(ctx context.Context, lock int64, f func() error) (bool, error)
}

// Journal records what happens, and tells of it.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Notify(ctx context.Context, c *domain.Crossing, event, message string)
}

// Build asks for the task that builds what waits until the load has ended.
type Build func(ctx context.Context, c *domain.Crossing) error

// Lock is of who moves phases on: the keeper, and whoever has ended what they wait for.
const Lock = 7262820

// Phases moves crossings on.
type Phases struct {
	records Records
	journal Journal
	build   Build
}

// New returns what moves crossings on.
func New(r Records, j Journal, build Build) *Phases {
	return &Phases{records: r, journal: j, build: build}
}

// MoveNow moves every crossing on whose phase can, unless somebody else does.
func (p *Phases) MoveNow(ctx context.Context) error {
	_, err := p.records.Alone(ctx, Lock, func() error { return p.Move(ctx) })
	return err
}

// Move moves every crossing on whose phase can. What goes wrong with one keeps none of the
// others. It is for who holds the lock.
func (p *Phases) Move(ctx context.Context) error {
	under, err := p.records.Underway(ctx)
	if err != nil {
		return err
	}
	var all []error
	for i := range under {
		if err := p.move(ctx, &under[i]); err != nil {
			all = append(all, fmt.Errorf("%s: %w", under[i].Name, err))
		}
	}
	return errors.Join(all...)
}

func (p *Phases) move(ctx context.Context, c *domain.Crossing) error {
	if c.Condition == domain.ConditionPaused || c.Phase == domain.PhaseCuttingOver {
		return nil
	}
	view, err := p.records.View(ctx, c.ID)
	if err != nil {
		return err
	}
	if next := lifecycle.Next(view); next != c.Phase {
		moved, err := p.records.SetPhase(ctx, c.ID, c.Phase, next)
		if err != nil || !moved {
			return err
		}
		p.journal.Recordf(ctx, "info", journal.System, c.Name, "", "phase", "%s is %s now (was %s)", c.Name,
			c.Kind.PhaseLabel(next), c.Kind.PhaseLabel(c.Phase))
		return p.arrived(ctx, c, next)
	}
	if c.Phase == domain.PhaseCatchingUp && !c.Built && c.Condition == domain.ConditionRunning &&
		lifecycle.Consistent(view) {
		if err := p.build(ctx, c); err != nil && !domain.IsKind(err, domain.ProblemConflict) {
			return err
		}
	}
	return nil
}

// arrived tells of a phase that was reached, and ends the run of a load that is complete.
func (p *Phases) arrived(ctx context.Context, c *domain.Crossing, phase domain.Phase) error {
	switch phase {
	case domain.PhaseCatchingUp:
		if c.Phase == domain.PhaseLoading {
			p.journal.Notify(ctx, c, journal.EventLoaded, fmt.Sprintf("every row of %s has landed", c.Name))
		}
	case domain.PhaseInStep:
		if err := p.records.EndRun(ctx, c.ID, domain.RunDone, ""); err != nil {
			return err
		}
		why := "the lag is below its threshold"
		if c.Kind == domain.KindLoad {
			why = "the load is complete, its indexes stand"
		}
		p.journal.Notify(ctx, c, journal.EventInStep, fmt.Sprintf("%s is %s: %s", c.Name,
			c.Kind.PhaseLabel(domain.PhaseInStep), why))
	}
	return nil
}
