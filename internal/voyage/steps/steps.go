// Package steps carries out a list of steps of which each is one value: what must hold before
// it, what it does, how that is taken back, and how long it may take. Where a step stands is
// kept before and after it, so that whoever goes on after a crash knows what may have begun.
package steps

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/domain"
)

// Skipped is the note of a step that had nothing to do.
const Skipped = "skipped"

// Step is one of them. R is what they work on.
type Step[R any] struct {
	Name domain.StepName
	// Order is its place among the others.
	Order int
	// Limit is how long Do may take; 0: as long as the whole.
	Limit time.Duration
	// Check says what keeps it from being done; nil: nothing does.
	Check func(ctx context.Context, r R) error
	// Do carries it out, and returns what came of it.
	Do func(ctx context.Context, r R) (note string, err error)
	// Undo gives back what Do may have changed, however far it came and whoever carried it out;
	// nil: that is nothing. It is repeated until it works.
	Undo func(ctx context.Context, r R) error
	// Real: a rehearsal does without it.
	Real bool
	// Forward: it is done when there is no way back, and so are all after it.
	Forward bool
}

// List is steps in their order.
type List[R any] []Step[R]

// Add puts a step in its place, and returns it: each step is added where it is written.
func (l *List[R]) Add(s Step[R]) Step[R] {
	*l = append(*l, s)
	slices.SortStableFunc(*l, func(a, b Step[R]) int { return cmp.Compare(a.Order, b.Order) })
	return s
}

// Names are those of the whole, or of a rehearsal.
func (l List[R]) Names(rehearsal bool) []domain.StepName {
	var out []domain.StepName
	for _, s := range l {
		if !rehearsal || !s.Real {
			out = append(out, s.Name)
		}
	}
	return out
}

// Get returns the step of that name.
func (l List[R]) Get(name domain.StepName) (Step[R], error) {
	for _, s := range l {
		if s.Name == name {
			return s, nil
		}
	}
	return Step[R]{}, fmt.Errorf("there is no step %q: a newer program has begun this; it goes on there", name)
}

// Records are where it is kept how each step stands.
type Records interface {
	SetStep(ctx context.Context, name domain.StepName, state domain.StepState, note string) error
}

// keepLimit bounds the keeping of an outcome: it is kept also where the work was called off.
const keepLimit = 5 * time.Second

// Do carries out one step. before is called when it counts as begun; it may wait.
func Do[R any](ctx context.Context, kept Records, s Step[R], r R, before func(context.Context,
	domain.StepName) error) error {
	if err := kept.SetStep(ctx, s.Name, domain.StepRunning, ""); err != nil {
		return err
	}
	note, err := "", before(ctx, s.Name)
	if err == nil && s.Check != nil {
		err = s.Check(ctx, r)
	}
	if err == nil {
		note, err = within(ctx, s, r)
	}
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), keepLimit)
	defer cancel()
	switch {
	case err != nil:
		return errors.Join(err, kept.SetStep(end, s.Name, domain.StepFailed, err.Error()))
	case note == Skipped:
		return kept.SetStep(end, s.Name, domain.StepSkipped, note)
	}
	return kept.SetStep(end, s.Name, domain.StepDone, note)
}

// within carries a step out within its limit.
func within[R any](ctx context.Context, s Step[R], r R) (string, error) {
	if s.Limit == 0 {
		return s.Do(ctx, r)
	}
	limit, cancel := context.WithTimeout(ctx, s.Limit)
	defer cancel()
	note, err := s.Do(limit, r)
	if err != nil && ctx.Err() == nil && limit.Err() != nil {
		err = fmt.Errorf("it took longer than its limit of %s: %w", s.Limit, err)
	}
	return note, err
}

// Undo takes back, from the last to the first, all steps that have begun. One that cannot be
// taken back keeps none before it from being.
func (l List[R]) Undo(ctx context.Context, r R, begun func(domain.StepName) bool) error {
	var all []error
	for _, s := range slices.Backward(l) {
		if s.Undo != nil && begun(s.Name) {
			if err := s.Undo(ctx, r); err != nil {
				all = append(all, err)
			}
		}
	}
	return errors.Join(all...)
}
