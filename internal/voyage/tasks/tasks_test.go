package tasks

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
)

// kept is tasks, and what was said of them, in memory.
type kept struct {
	mu     sync.Mutex
	tasks  map[int64]*domain.Task
	taken  bool // somebody else has taken the lease
	gone   bool // the records cannot be reached
	idle   bool // nobody carries tasks out
	said   []string
	held   []string
	told   []string
	notes  []string
	woken  []int64
	placed []string // how tasks ended, or were given back
}

func (k *kept) ClaimTask(_ context.Context, id int64, worker string) (*domain.Task, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	t := k.tasks[id]
	if t == nil || t.State != "waiting" {
		return nil, nil
	}
	t.State, t.Worker = "running", worker
	t.Epoch++
	claimed := *t
	return &claimed, nil
}

func (k *kept) RenewTask(_ context.Context, id, _ int64) (bool, string, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.gone {
		return false, "", errors.New("away")
	}
	return !k.taken, k.tasks[id].Cancel, nil
}

func (k *kept) NoteTask(_ context.Context, _ int64, note string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.notes = append(k.notes, note)
	return nil
}

func (k *kept) EndTask(_ context.Context, id, _ int64, state domain.TaskState, cause string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.tasks[id].State = state
	k.placed = append(k.placed, strings.TrimSpace(string(state)+" "+cause))
	return nil
}

func (k *kept) ReleaseTask(context.Context, int64, int64) error {
	k.placed = append(k.placed, "released")
	return nil
}

func (k *kept) EndTasks(_ context.Context, _ int64, kinds []domain.Work, why string) ([]domain.Ending, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	var out []domain.Ending
	for id, t := range k.tasks {
		if slices.Contains(kinds, t.Kind) && t.State.Open() {
			t.Cancel = why
			out = append(out, domain.Ending{ID: id, Kind: t.Kind, Idle: k.idle})
		}
	}
	return out, nil
}

func (k *kept) TaskOf(_ context.Context, _, id int64) (domain.Task, error) {
	if t := k.tasks[id]; t != nil {
		return *t, nil
	}
	return domain.Task{}, domain.NotFound("no task %d", id)
}

func (k *kept) CancelTask(_ context.Context, _, id int64, why string) (domain.Task, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.tasks[id].Cancel = why
	return *k.tasks[id], nil
}

func (k *kept) CrossingByID(context.Context, int64) (domain.Crossing, error) {
	return domain.Crossing{ID: 7, Name: "spring"}, nil
}

func (k *kept) Recordf(_ context.Context, severity, _, _, _, _, format string, args ...any) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.said = append(k.said, severity+": "+fmt.Sprintf(format, args...))
}

func (k *kept) Hold(_ context.Context, _ *domain.Crossing, _, reason string) {
	k.held = append(k.held, reason)
}
func (k *kept) Notify(_ context.Context, _ *domain.Crossing, event, _ string) {
	k.told = append(k.told, event)
}
func (k *kept) Wake(_ context.Context, task int64) error { k.woken = append(k.woken, task); return nil }

// errAway is the error of a server that is.
var errAway = fmt.Errorf("the target: %w", io.ErrUnexpectedEOF)

type told struct{ error }

func (told) Reported() bool { return true }

// runs carries out one task of a kind, done so.
func runs(t *testing.T, k *kept, kind domain.Work, w Work) (*Runner, *domain.Task) {
	t.Helper()
	task := &domain.Task{ID: 1, CrossingID: 7, Kind: kind, State: "waiting"}
	k.tasks = map[int64]*domain.Task{1: task}
	return New(k, k, k, map[domain.Work]Work{kind: w}, Config{Worker: "me", Renew: time.Millisecond,
		Lease:   20 * time.Millisecond,
		Fault:   func(err error) bool { return errors.As(err, new(*domain.Fault)) },
		BackOff: func(int) time.Duration { return 0 }}), task
}

func does(err ...error) func(context.Context, *domain.Crossing, *domain.Task, func(string)) error {
	n := 0
	return func(_ context.Context, _ *domain.Crossing, _ *domain.Task, note func(string)) error {
		note("at it")
		n++
		return err[min(n, len(err))-1]
	}
}

// until waits for the end of the context, as work does that is under way.
func until(ctx context.Context, _ *domain.Crossing, _ *domain.Task, _ func(string)) error {
	<-ctx.Done()
	return ctx.Err()
}

func TestHowATaskEnds(t *testing.T) {
	broken := errors.New("the disk is full")
	for _, x := range []struct {
		name   string
		work   Work
		placed string
		said   string // part of the last line of the journal; empty: nothing
		held   string
		told   bool
	}{
		{"done", Work{Do: does(nil)}, "done", "", "", false},
		{"failed", Work{Do: does(broken)}, "failed the disk is full", "error: fit check failed: the disk is full", "", true},
		{"failed, and the journal knows", Work{Do: does(told{broken})}, "failed the disk is full", "", "", false},
		{"failed, and who asked is told", Work{Do: does(broken), Answers: true}, "failed the disk is full", "", "", false},
		{"a server is away and comes back", Work{Do: does(errAway, errAway, nil), Repeats: true}, "done", "", "", false},
		{"a server stays away", Work{Do: does(errAway), Repeats: true}, "failed the target: unexpected EOF",
			"error: fit check failed", "could not be done", true},
		{"a server stays away from work that goes to its end", Work{Do: does(errAway), Repeats: true, Whole: true},
			"failed the target: unexpected EOF", "error: fit check failed", "", true},
		{"a server is away from what cannot be repeated", Work{Do: does(errAway, nil)}, "failed the target: unexpected EOF",
			"error: fit check failed", "", true},
		{"a fault", Work{Do: func(context.Context, *domain.Crossing, *domain.Task, func(string)) error { panic("a bug") }},
			"failed", "error: fit check failed", "fit check stopped", true},
	} {
		k := &kept{}
		r, _ := runs(t, k, lifecycle.WorkFit, x.work)
		if err := r.RunTask(t.Context(), 1); err != nil {
			t.Errorf("%s: %v", x.name, err)
		}
		if len(k.placed) != 1 || !strings.HasPrefix(k.placed[0], x.placed) {
			t.Errorf("%s: it ended %q, want %q", x.name, k.placed, x.placed)
		}
		if said := strings.Join(k.said, "; "); (x.said == "") != (said == "") || !strings.Contains(said, x.said) {
			t.Errorf("%s: it said %q, want %q", x.name, said, x.said)
		}
		if held := strings.Join(k.held, "; "); (x.held == "") != (held == "") || !strings.Contains(held, x.held) {
			t.Errorf("%s: it held with %q, want %q", x.name, held, x.held)
		}
		if x.told != (len(k.told) > 0) {
			t.Errorf("%s: webhooks heard %q", x.name, k.told)
		}
		if x.name == "a server is away and comes back" && !slices.ContainsFunc(k.notes, func(n string) bool {
			return strings.Contains(n, "try 2 of 12")
		}) {
			t.Errorf("%s: it noted %q", x.name, k.notes)
		}
	}
}

func TestOnlyOneCarriesATaskOut(t *testing.T) {
	k := &kept{}
	r, task := runs(t, k, lifecycle.WorkFit, Work{Do: does(errors.New("twice"))})
	task.State = "running"
	if work, err := r.Run(t.Context(), 1); work != nil || err != nil || len(k.placed) > 0 {
		t.Errorf("%v, %v, %q", work, err, k.placed)
	}
	task.State, task.Kind = "waiting", "dance"
	if work, _ := r.Run(t.Context(), 1); work == nil || !strings.Contains(work.Error(), "dance") {
		t.Errorf("a kind that nobody knows: %v", work)
	}
}

// TestATaskIsLetGo: by who lost its lease without a word, by a process that stops for the next
// one, and by who cannot tell any more.
func TestATaskIsLetGo(t *testing.T) {
	for name, x := range map[string]struct {
		kept   *kept
		placed string
	}{"taken over": {&kept{taken: true}, ""}, "the records are away": {&kept{gone: true}, ""}} {
		r, _ := runs(t, x.kept, lifecycle.WorkFit, Work{Do: until})
		if work, err := r.Run(t.Context(), 1); !errors.Is(work, domain.ErrTakenOver) || err != nil ||
			strings.Join(x.kept.placed, "") != x.placed {
			t.Errorf("%s: %v, %v, %q", name, work, err, x.kept.placed)
		}
	}
	k := &kept{}
	r, _ := runs(t, k, lifecycle.WorkFit, Work{Do: until})
	ctx, stop := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer stop()
	if err := r.RunTask(ctx, 1); err != nil || strings.Join(k.placed, "") != "released" {
		t.Errorf("a process that stops: %v, %q", err, k.placed)
	}
}

func TestATaskEndsBeforeItsTime(t *testing.T) {
	for _, x := range []struct {
		name    string
		undo    error
		waiting bool // nobody has begun it
		placed  string
	}{
		{"under way", nil, false, "cancelled Ann wants it"},
		{"waiting", nil, true, "cancelled Ann wants it"},
		{"and cannot be taken back", errors.New("no way"), false,
			"failed Ann wants it, and what it had begun could not be taken back: no way"},
	} {
		k := &kept{}
		undone := 0
		var early bool
		var why string
		r, task := runs(t, k, lifecycle.WorkFit, Work{
			Do: func(ctx context.Context, c *domain.Crossing, task *domain.Task, note func(string)) error {
				if x.waiting {
					t.Errorf("%s: it was begun", x.name)
				}
				k.mu.Lock()
				k.tasks[1].Cancel = "Ann wants it"
				k.mu.Unlock()
				<-ctx.Done()
				why, early = EndedEarly(ctx)
				return ctx.Err()
			},
			Undo: func(context.Context, *domain.Crossing, *domain.Task, string) error { undone++; return x.undo },
		})
		if x.waiting {
			task.Cancel = "Ann wants it"
		}
		work, err := r.Run(t.Context(), 1)
		if err != nil || work == nil || undone != 1 || strings.Join(k.placed, "") != x.placed {
			t.Errorf("%s: %v, %v, undone %d times, %q", x.name, work, err, undone, k.placed)
		}
		if !x.waiting && (!early || why != "Ann wants it") {
			t.Errorf("%s: the work knows %v, %q", x.name, early, why)
		}
	}
	k := &kept{}
	n := 0
	r, task := runs(t, k, lifecycle.WorkCutover, Work{Whole: true, Do: func(ctx context.Context, _ *domain.Crossing,
		_ *domain.Task, _ func(string)) error {
		k.mu.Lock()
		k.tasks[1].Cancel = "Ann wants it"
		k.mu.Unlock()
		n++
		time.Sleep(10 * time.Millisecond)
		return ctx.Err()
	}})
	if work, err := r.Run(t.Context(), 1); work != nil || err != nil || task.State != "done" || n != 1 {
		t.Errorf("work that goes to its end: %v, %v, %s", work, err, task.State)
	}
}

func TestOtherWorkEndsFirst(t *testing.T) {
	spring := &domain.Crossing{ID: 7, Name: "spring"}
	k := &kept{idle: true}
	r, task := runs(t, k, lifecycle.WorkFit, Work{Do: does(nil)})
	if err := r.EndWork(t.Context(), spring, []domain.Work{lifecycle.WorkFit}, "it was closed"); err != nil ||
		task.State != "cancelled" {
		t.Errorf("idle work: %v, %s", err, task.State)
	}
	k.idle, task.State, task.Cancel = false, "waiting", ""
	ctx, stop := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer stop()
	if err := r.EndWork(ctx, spring, []domain.Work{lifecycle.WorkFit}, "it was closed"); !errors.Is(err,
		context.DeadlineExceeded) || task.Cancel != "it was closed" {
		t.Errorf("work that goes on: %v, %q", err, task.Cancel)
	}
}

func TestWhatAPersonCanCancel(t *testing.T) {
	spring := &domain.Crossing{ID: 7, Name: "spring"}
	k := &kept{}
	r, task := runs(t, k, lifecycle.WorkFit, Work{})
	if _, err := r.CancelTask(t.Context(), spring, 1, "Ann"); err != nil || task.Cancel != "cancelled by Ann" ||
		!slices.Equal(k.woken, []int64{1}) {
		t.Errorf("%v, %q, woken %v", err, task.Cancel, k.woken)
	}
	task.Kind = lifecycle.WorkCutover
	for _, id := range []int64{1, 2} {
		if _, err := r.CancelTask(t.Context(), spring, id, "Ann"); err == nil {
			t.Errorf("task %d was cancelled", id)
		}
	}
}
