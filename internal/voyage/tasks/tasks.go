// Package tasks carries out the longer work on crossings: a task is taken under a lease, kept,
// tried again while a server is away, and ended before its time where somebody wants that.
// What the kinds of work are, and how each is done and taken back, it is given.
package tasks

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// Work is how one kind is done.
type Work struct {
	// Do carries the task out. note says what it is doing.
	Do func(ctx context.Context, c *domain.Crossing, t *domain.Task, note func(string)) error
	// Undo takes back what a task had begun that ends before its time; nil: there is nothing.
	Undo func(ctx context.Context, c *domain.Crossing, t *domain.Task, why string) error
	// Repeats: what was done is found done, so that it waits for a server that is away.
	Repeats bool
	// Whole: it is carried to its end whoever asks, as it takes itself back in its own way or
	// must leave nothing half done.
	Whole bool
	// Answers: whoever asked for it is told how it ended, and nobody else.
	Answers bool
}

// Records are where tasks stand.
type Records interface {
	// ClaimTask takes a waiting task, or one whose holder fell silent; nil: somebody else has it.
	ClaimTask(ctx context.Context, id int64, worker string) (*domain.Task, error)
	// RenewTask prolongs the lease. It returns whether the task is ours still, and why it is to
	// end before its time, if it is.
	RenewTask(ctx context.Context, id, epoch int64) (bool, string, error)
	NoteTask(ctx context.Context, id int64, note string) error
	EndTask(ctx context.Context, id, epoch int64, state domain.TaskState, cause string) error
	// ReleaseTask gives a task back, so that another process takes it at once.
	ReleaseTask(ctx context.Context, id, epoch int64) error
	// EndTasks asks work of some kinds to end, and lists what has not.
	EndTasks(ctx context.Context, crossing int64, kinds []domain.Work, why string) ([]domain.Ending, error)
	TaskOf(ctx context.Context, crossing, id int64) (domain.Task, error)
	CancelTask(ctx context.Context, crossing, id int64, why string) (domain.Task, error)
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
}

// Journal records what becomes of tasks.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Hold(ctx context.Context, c *domain.Crossing, subject, reason string)
	Notify(ctx context.Context, c *domain.Crossing, event, message string)
}

// Queue wakes somebody up for a task.
type Queue interface {
	Wake(ctx context.Context, task int64) error
}

// Config is what a runner is told of its process.
type Config struct {
	Worker string        // this process's name
	Renew  time.Duration // how often a lease is prolonged
	Lease  time.Duration // how long it lasts
	Fault  func(error) bool
	// Mind watches over a task while it is carried out; nil: nobody does.
	Mind func(ctx context.Context, c *domain.Crossing, t *domain.Task)
	// BackOff is how long to wait for a server after so many tries; nil: [waits.BackOff].
	BackOff func(try int) time.Duration
}

// Runner carries out tasks.
type Runner struct {
	records Records
	journal Journal
	queue   Queue
	works   map[domain.Work]Work
	conf    Config
}

// New returns a runner of the works.
func New(r Records, j Journal, q Queue, works map[domain.Work]Work, conf Config) *Runner {
	if conf.BackOff == nil {
		conf.BackOff = waits.BackOff
	}
	return &Runner{records: r, journal: j, queue: q, works: works, conf: conf}
}

// ended is why a task ends before its time.
type ended struct{ why string }

func (e ended) Error() string { return e.why }

// EndedEarly reports whether the context of a task is over as somebody wanted the task ended,
// and why.
func EndedEarly(ctx context.Context) (why string, early bool) {
	var e ended
	early = errors.As(context.Cause(ctx), &e)
	return e.why, early
}

// reported is an error that the journal has told of already.
type reported interface{ Reported() bool }

// RunTask carries out a task if nobody else does. What goes wrong with the work is told
// elsewhere; the error is of the records.
func (r *Runner) RunTask(ctx context.Context, id int64) error {
	_, err := r.Run(ctx, id)
	return err
}

// Run carries out a task if nobody else does. It returns what went wrong with the work, and
// apart from it whether what came of it could not be kept.
func (r *Runner) Run(ctx context.Context, id int64) (work, kept error) {
	t, err := r.records.ClaimTask(ctx, id, r.conf.Worker)
	if err != nil || t == nil {
		return nil, err
	}
	c, err := r.records.CrossingByID(ctx, t.CrossingID)
	if err != nil {
		return nil, err
	}
	run, cancel := context.WithCancelCause(ctx)
	var keep sync.WaitGroup
	keep.Go(func() { r.keep(run, cancel, t) })
	if r.conf.Mind != nil {
		of := c // the work may change its own
		keep.Go(func() { r.conf.Mind(run, &of, t) })
	}
	if t.Cancel == "" {
		err = r.patiently(run, &c, t)
	} else {
		err = ended{t.Cancel}
		cancel(err)
	}
	if r.conf.Fault(err) {
		r.journal.Hold(ctx, &c, "", fmt.Sprintf("%s stopped: %s", t.Kind, err))
	}
	cause := context.Cause(run)
	cancel(nil)
	keep.Wait()
	end, done := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer done()
	var early ended
	switch {
	case errors.Is(cause, domain.ErrTakenOver):
		return cause, nil
	case err != nil && errors.As(cause, &early):
		return r.endEarly(end, &c, t, early.why)
	case ctx.Err() != nil && err != nil: // this process stops: another one goes on
		return err, r.records.ReleaseTask(end, t.ID, t.Epoch)
	case err != nil:
		if !errors.As(err, new(reported)) && !r.works[t.Kind].Answers {
			text := fmt.Sprintf("%s failed: %s", t.Kind, err)
			r.journal.Recordf(end, "error", journal.System, c.Name, "", string(t.Kind), "%s", text)
			r.journal.Notify(end, &c, journal.EventFailed, text)
		}
		return err, r.records.EndTask(end, t.ID, t.Epoch, domain.TaskFailed, err.Error())
	}
	return nil, r.records.EndTask(end, t.ID, t.Epoch, domain.TaskDone, "")
}

// endEarly takes back what a task had begun that ends before its time.
func (r *Runner) endEarly(ctx context.Context, c *domain.Crossing, t *domain.Task, why string) (work, kept error) {
	gone := domain.Conflict("%s of %s ended before its time: %s", t.Kind, c.Name, why)
	if undo := r.works[t.Kind].Undo; undo != nil {
		if err := undo(ctx, c, t, why); err != nil {
			return gone, r.records.EndTask(ctx, t.ID, t.Epoch, domain.TaskFailed,
				why+", and what it had begun could not be taken back: "+
					err.Error())
		}
	}
	r.journal.Recordf(ctx, "info", journal.System, c.Name, "", string(t.Kind), "%s", gone)
	return gone, r.records.EndTask(ctx, t.ID, t.Epoch, domain.TaskCancelled, why)
}

// awayTries is how often work is tried again while a server is away: some minutes.
const awayTries = 12

// patiently carries out a task. Work that can be repeated waits for a server that is away for
// a moment, as in a restart: what was done is found done. A cutover takes itself back, and a
// person waits for the others.
func (r *Runner) patiently(ctx context.Context, c *domain.Crossing, t *domain.Task) error {
	work, known := r.works[t.Kind]
	if !known {
		return fmt.Errorf("there is no task kind %q", t.Kind)
	}
	note := func(s string) { _ = r.records.NoteTask(ctx, t.ID, s) }
	for try := 1; ; try++ {
		err := domain.Guarded(string(t.Kind), func() error { return work.Do(ctx, c, t, note) })
		if !work.Repeats || !engine.Away(err) {
			return err
		}
		if try > awayTries {
			if !work.Whole && ctx.Err() == nil {
				r.journal.Hold(ctx, c, "", fmt.Sprintf("%s could not be done: %s. Fix the cause, then resume", t.Kind, err))
			}
			return err
		}
		note(fmt.Sprintf("waits for a server, and goes on by itself (try %d of %d): %s", try, awayTries, err))
		if !waits.Sleep(ctx, r.conf.BackOff(try)) {
			return err
		}
		if now, found := r.records.CrossingByID(ctx, c.ID); found == nil {
			*c = now
		}
	}
}

// keep prolongs the lease of a task, and ends the work when it is not ours any more, when that
// can no longer be known, or when somebody wants it ended.
func (r *Runner) keep(ctx context.Context, cancel context.CancelCauseFunc, t *domain.Task) {
	last := time.Now()
	waits.Every(ctx, r.conf.Renew, func() {
		mine, why, err := r.records.RenewTask(ctx, t.ID, t.Epoch)
		switch {
		case err != nil && time.Since(last) > r.conf.Lease, err == nil && !mine:
			cancel(domain.ErrTakenOver)
		case err == nil && why != "" && !r.works[t.Kind].Whole:
			cancel(ended{why})
		}
		if err == nil {
			last = time.Now()
		}
	})
}

// endingLimit is how long work is waited for that was asked to end.
const endingLimit = 2 * time.Minute

// EndWork has work of some kinds on a crossing end for the sake of other work, and waits until
// it has. What nobody carries out is ended here.
func (r *Runner) EndWork(ctx context.Context, c *domain.Crossing, kinds []domain.Work, why string) error {
	var left []domain.Ending
	for end := time.Now().Add(endingLimit); time.Now().Before(end); {
		var err error
		if left, err = r.EndIdle(ctx, c, kinds, why); err != nil || len(left) == 0 {
			return err
		}
		if !waits.Sleep(ctx, 200*time.Millisecond) {
			return ctx.Err()
		}
	}
	return domain.Conflict("%s of %s has been asked to end and has not; try again", left[0].Kind, c.Name)
}

// EndIdle asks work of some kinds to end, ends itself what nobody carries out, and returns what
// had not ended before.
func (r *Runner) EndIdle(ctx context.Context, c *domain.Crossing, kinds []domain.Work,
	why string) ([]domain.Ending, error) {
	left, err := r.records.EndTasks(ctx, c.ID, kinds, why)
	if err != nil {
		return nil, err
	}
	for _, t := range left {
		if t.Idle {
			if err := r.RunTask(ctx, t.ID); err != nil {
				return nil, err
			}
		}
	}
	return left, nil
}

// CancelTask ends a task before its time.
func (r *Runner) CancelTask(ctx context.Context, c *domain.Crossing, id int64, actor string) (domain.Task, error) {
	t, err := r.records.TaskOf(ctx, c.ID, id)
	if err != nil {
		return t, err
	}
	if why := lifecycle.Cancel(t.Kind); why != "" {
		return t, domain.Conflict("task %d is a %s: %s", id, t.Kind, why)
	}
	if t, err = r.records.CancelTask(ctx, c.ID, id, "cancelled by "+actor); err != nil {
		return t, err
	}
	r.journal.Recordf(ctx, "info", actor, c.Name, "", string(t.Kind), "%s cancelled task %d (%s) of %s", actor, id, t.Kind,
		c.Name)
	return t, r.queue.Wake(ctx, id) // one that nobody has begun is ended at once
}
