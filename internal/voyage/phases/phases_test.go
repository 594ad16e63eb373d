package phases

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
)

// book is what the records would keep of crossings.
type book struct {
	under []domain.Crossing
	views map[int64]lifecycle.View
	fails map[int64]error
	moved []string
	ended []int64
	said  []string
	told  []string
	built []string
	busy  error // why nothing can be built
	held  bool  // the lock is somebody else's
	late  bool  // somebody else moved the crossing first
}

func (b *book) Underway(context.Context) ([]domain.Crossing, error) { return b.under, nil }
func (b *book) View(_ context.Context, id int64) (lifecycle.View, error) {
	return b.views[id], b.fails[id]
}
func (b *book) SetPhase(_ context.Context, id int64, from, to domain.Phase) (bool, error) {
	if !b.late {
		b.moved = append(b.moved, fmt.Sprintf("%d %s to %s", id, from, to))
	}
	return !b.late, nil
}
func (b *book) EndRun(_ context.Context, id int64, state domain.RunState, _ string) error {
	b.ended = append(b.ended, id)
	return nil
}
func (b *book) Alone(_ context.Context, lock int64, f func() error) (bool, error) {
	if b.held || lock != Lock {
		return false, nil
	}
	return true, f()
}
func (b *book) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	b.said = append(b.said, fmt.Sprintf(format, args...))
}
func (b *book) Notify(_ context.Context, _ *domain.Crossing, event, message string) {
	b.told = append(b.told, event+": "+message)
}

func with(b *book) *Phases {
	return New(b, b, func(_ context.Context, c *domain.Crossing) error {
		b.built = append(b.built, c.Name)
		return b.busy
	})
}

// crossing adds one with its view.
func (b *book) crossing(kind domain.Kind, phase domain.Phase, condition domain.Condition,
	view lifecycle.View) *domain.Crossing {
	id := int64(len(b.under) + 1)
	view.Kind, view.Phase = kind, phase
	if b.views == nil {
		b.views = map[int64]lifecycle.View{}
	}
	b.views[id] = view
	b.under = append(b.under, domain.Crossing{ID: id, Name: fmt.Sprint("c", id), Kind: kind, Phase: phase,
		Condition: condition, Built: view.Built})
	return &b.under[id-1]
}

// TestCrossingsMoveOn as far as they have come, each by itself.
func TestCrossingsMoveOn(t *testing.T) {
	b := &book{}
	running := domain.ConditionRunning
	b.crossing(domain.KindLoadCapture, domain.PhaseLoading, running, lifecycle.View{Chunks: 3, Landed: 2})
	b.crossing(domain.KindLoadCapture, domain.PhaseLoading, running, lifecycle.View{Chunks: 3, Landed: 3})
	b.crossing(domain.KindLoad, domain.PhaseCatchingUp, running, lifecycle.View{Chunks: 3, Landed: 3, Built: true})
	b.crossing(domain.KindLoadCapture, domain.PhaseCatchingUp, running, lifecycle.View{Chunks: 3, Landed: 3, Built: true,
		Applied: domain.PositionAt(9), MaxRead: domain.PositionAt(9), BelowSince: 5, Dwell: 2})
	b.crossing(domain.KindLoadCapture, domain.PhaseInStep, running, lifecycle.View{Built: true})
	b.crossing(domain.KindLoadCapture, domain.PhaseLoading, domain.ConditionPaused, lifecycle.View{Chunks: 3, Landed: 3})
	b.crossing(domain.KindLoadCapture, domain.PhaseCuttingOver, running, lifecycle.View{Built: true})
	if err := with(b).MoveNow(t.Context()); err != nil {
		t.Fatal(err)
	}
	if want := []string{"2 loading to catching up", "3 catching up to in step", "4 catching up to in step",
		"5 in step to catching up"}; !slices.Equal(b.moved, want) {
		t.Errorf("moved %q, want %q", b.moved, want)
	}
	if len(b.said) != 4 || !slices.Equal(b.ended, []int64{3, 4}) || len(b.built) != 0 {
		t.Errorf("said %q, runs ended %v, built %q", b.said, b.ended, b.built)
	}
	told := strings.Join(b.told, "; ")
	for _, want := range []string{"every row of c2 has landed", "c3 is ", "the load is complete, its indexes stand",
		"c4 is in step: the lag is below its threshold"} {
		if !strings.Contains(told, want) {
			t.Errorf("told %q, want %q", told, want)
		}
	}
	if len(b.told) != 3 { // falling back is no event
		t.Errorf("told %q", b.told)
	}
}

// TestWhatWaitsIsBuilt once the target is consistent, and by nobody whose crossing stands.
func TestWhatWaitsIsBuilt(t *testing.T) {
	b := &book{busy: domain.Conflict("it is being built")}
	landed := lifecycle.View{Chunks: 3, Landed: 3, Applied: domain.PositionAt(9), MaxRead: domain.PositionAt(9)}
	b.crossing(domain.KindLoadCapture, domain.PhaseCatchingUp, domain.ConditionRunning, landed)
	b.crossing(domain.KindLoadCapture, domain.PhaseCatchingUp, domain.ConditionHeld, landed)
	behind := landed
	behind.Applied = domain.PositionAt(8)
	b.crossing(domain.KindLoadCapture, domain.PhaseCatchingUp, domain.ConditionRunning, behind)
	if err := with(b).MoveNow(t.Context()); err != nil || !slices.Equal(b.built, []string{"c1"}) || len(b.moved) != 0 {
		t.Errorf("%v, built %q, moved %q", err, b.built, b.moved)
	}
	b.busy = errors.New("the queue is away")
	if err := with(b).MoveNow(t.Context()); err == nil || !strings.Contains(err.Error(), "c1: the queue is away") {
		t.Errorf("it was said: %v", err)
	}
}

// TestOneThatFailsKeepsNoOther, and who comes late says nothing.
func TestOneThatFailsKeepsNoOther(t *testing.T) {
	b := &book{fails: map[int64]error{1: errors.New("no view")}}
	landed := lifecycle.View{Chunks: 3, Landed: 3}
	b.crossing(domain.KindLoadCapture, domain.PhaseLoading, domain.ConditionRunning, landed)
	b.crossing(domain.KindLoadCapture, domain.PhaseLoading, domain.ConditionRunning, landed)
	if err := with(b).MoveNow(t.Context()); err == nil || !strings.Contains(err.Error(), "c1: no view") ||
		len(b.moved) != 1 {
		t.Errorf("%v, moved %q", err, b.moved)
	}
	b.late, b.fails, b.said = true, nil, nil
	if err := with(b).MoveNow(t.Context()); err != nil || len(b.said) != 0 {
		t.Errorf("%v, said %q", err, b.said)
	}
	b.held, b.late = true, false
	before := len(b.moved)
	if err := with(b).MoveNow(t.Context()); err != nil || len(b.moved) != before {
		t.Errorf("%v, moved %q", err, b.moved)
	}
}
