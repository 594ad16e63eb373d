package steps

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
)

// work notes what was done to it.
type work struct{ did []string }

type ledger struct {
	states []string
	broken bool
}

func (l *ledger) SetStep(ctx context.Context, name domain.StepName, state domain.StepState, note string) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if l.broken {
		return errors.New("no records")
	}
	l.states = append(l.states, strings.TrimSpace(fmt.Sprintf("%s %s %s", name, state, note)))
	return nil
}

func list() List[*work] {
	var l List[*work]
	for _, x := range []struct {
		order   int
		name    string
		forward bool
	}{{30, "hand over", true}, {10, "stop", false}, {20, "drain", false}} {
		l.Add(Step[*work]{Name: domain.StepName(x.name), Order: x.order, Real: x.forward, Forward: x.forward,
			Do:   func(_ context.Context, w *work) (string, error) { w.did = append(w.did, x.name); return "well", nil },
			Undo: func(_ context.Context, w *work) error { w.did = append(w.did, "un"+x.name); return nil }})
	}
	return l
}

func nothing(context.Context, domain.StepName) error { return nil }

func TestStepsStandInTheirOrder(t *testing.T) {
	l := list()
	if got := l.Names(false); !slices.Equal(got, []domain.StepName{"stop", "drain", "hand over"}) {
		t.Errorf("the whole: %v", got)
	}
	if got := l.Names(true); !slices.Equal(got, []domain.StepName{"stop", "drain"}) {
		t.Errorf("a rehearsal: %v", got)
	}
	if s, err := l.Get("drain"); err != nil || s.Order != 20 {
		t.Errorf("%v %v", s.Order, err)
	}
	if _, err := l.Get("dance"); err == nil {
		t.Error("a step that is not there was found")
	}
}

func TestHowAStepStands(t *testing.T) {
	broken := errors.New("the source is away")
	slow := func(ctx context.Context, _ *work) (string, error) { <-ctx.Done(); return "", ctx.Err() }
	for _, x := range []struct {
		name   string
		change func(*Step[*work])
		before error
		last   string
		word   string // of the error; empty: none
	}{
		{"done", func(*Step[*work]) {}, nil, "stop done well", ""},
		{"skipped", func(s *Step[*work]) { s.Do = func(context.Context, *work) (string, error) { return Skipped, nil } }, nil,
			"stop skipped skipped", ""},
		{"failed", func(s *Step[*work]) { s.Do = func(context.Context, *work) (string, error) { return "", broken } }, nil,
			"stop failed the source is away", "the source is away"},
		{"not to be done", func(s *Step[*work]) { s.Check = func(context.Context, *work) error { return broken } }, nil,
			"stop failed the source is away", "the source is away"},
		{"not let go on", func(*Step[*work]) {}, broken, "stop failed the source is away", "the source is away"},
		{"over its limit", func(s *Step[*work]) { s.Limit, s.Do = time.Millisecond, slow }, nil,
			"stop failed it took longer than its limit of 1ms: context deadline exceeded", "limit of 1ms"},
	} {
		kept, w := &ledger{}, &work{}
		s, _ := list().Get("stop")
		x.change(&s)
		err := Do(t.Context(), kept, s, w, func(context.Context, domain.StepName) error { return x.before })
		if (err == nil) != (x.word == "") || err != nil && !strings.Contains(err.Error(), x.word) {
			t.Errorf("%s: %v", x.name, err)
		}
		if len(kept.states) != 2 || kept.states[0] != "stop running" || kept.states[1] != x.last {
			t.Errorf("%s: it stood %q", x.name, kept.states)
		}
		if x.name != "done" && len(w.did) > 0 {
			t.Errorf("%s: it did %q", x.name, w.did)
		}
	}
}

// TestAStepThatIsCalledOffIsKept: how it stood then is what whoever goes on needs most.
func TestAStepThatIsCalledOffIsKept(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	kept := &ledger{}
	s := Step[*work]{Name: "stop", Limit: time.Hour, Do: func(ctx context.Context, _ *work) (string, error) {
		cancel()
		<-ctx.Done()
		return "", ctx.Err()
	}}
	if err := Do(ctx, kept, s, &work{}, nothing); !errors.Is(err, context.Canceled) ||
		strings.Contains(err.Error(), "limit") || len(kept.states) != 2 {
		t.Errorf("%v, %q", err, kept.states)
	}
	w := &work{}
	s, _ = list().Get("stop")
	if err := Do(t.Context(), &ledger{broken: true}, s, w, nothing); err == nil || len(w.did) > 0 {
		t.Errorf("a step whose beginning could not be kept was done: %v, %q", err, w.did)
	}
}

func TestWhatHasBegunIsTakenBack(t *testing.T) {
	l, w := list(), &work{}
	if err := l.Undo(t.Context(), w, func(n domain.StepName) bool { return n != "hand over" }); err != nil ||
		strings.Join(w.did, " ") != "undrain unstop" {
		t.Errorf("%v, %q", err, w.did)
	}
	l[1].Undo = func(context.Context, *work) error { return errors.New("cannot be let go") }
	w.did = nil
	if err := l.Undo(t.Context(), w, func(domain.StepName) bool { return true }); err == nil ||
		strings.Join(w.did, " ") != "unhand over unstop" {
		t.Errorf("%v, %q", err, w.did)
	}
}
