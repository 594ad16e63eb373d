package cutover

import (
	"context"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// How a cutover is taken back.

// reopen takes back, from the last to the first, what the steps that have begun may have
// changed, and lets the crossing follow the source.
func (r *run) reopen(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer cancel()
	stand, err := r.of.records.Steps(ctx, r.k.ID)
	if err != nil {
		return err
	}
	begun := map[domain.StepName]bool{}
	for _, s := range stand {
		begun[s.Name] = s.State != domain.StepWaiting
	}
	if err := cutoverSteps.Undo(ctx, r, func(n domain.StepName) bool { return begun[n] }); err != nil {
		return err
	}
	_, err = r.of.records.SetPhase(ctx, r.c.ID, domain.PhaseCuttingOver, domain.PhaseInStep)
	return err
}

// undo takes everything back: the source takes writes again and capture goes
// on, as if the cutover had not been.
func (r *run) undo(ctx context.Context, cause error) error {
	if err := r.openAgain(ctx, cause); err != nil {
		return err
	}
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 40*time.Second)
	defer cancel()
	done, err := r.of.records.Steps(end, r.k.ID)
	if err != nil {
		return err
	}
	for _, s := range done {
		if s.State == domain.StepDone || s.State == domain.StepRunning {
			_ = r.of.records.SetStep(end, r.k.ID, s.Name, domain.StepUndone, s.Note)
		}
	}
	_ = r.of.records.EndCutover(end, r.k.ID, domain.CutoverUndone, cause.Error())
	r.of.journal.Recordf(end, "warning", journal.System, r.c.Name, "", "cutover",
		"the %s was undone, the source takes writes again: %s",
		Label(r.k.Rehearsal), cause)
	if !r.k.Rehearsal {
		r.of.journal.Notify(end, r.c, journal.EventUndone, "the cutover was undone, the source takes writes again: "+
			cause.Error())
	}
	return undone{cause}
}

// openAgain tries to let the source take writes again until that has worked, or another
// process has the cutover: a source that stays closed without anybody in charge is the worst
// that can be left behind. A process that stops, whose context is not cancelled any more,
// tries once: another one goes on.
func (r *run) openAgain(ctx context.Context, cause error) error {
	for try := 1; ; try++ {
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 40*time.Second)
		err := r.mine(end) // whoever took the cutover over has undone it, or finished it
		if err != nil {
			cancel()
			return err
		}
		if err = r.reopen(end); err == nil {
			if try > 1 {
				_, err = r.of.records.SetCondition(end, r.c.ID, []domain.Condition{domain.ConditionHeld}, domain.ConditionRunning,
					"",
					false)
			}
			cancel()
			return err
		}
		text := fmt.Sprintf("the %s (%s) could not be undone yet: %s. It is tried again until it works; the source may "+
			"still refuse writes", Label(r.k.Rehearsal), cause, err)
		if try == 1 {
			r.of.journal.Hold(end, r.c, "cutover", text)
		}
		_ = r.of.records.NoteTask(end, r.task.ID, fmt.Sprintf("try %d: %s", try, text))
		cancel()
		if ctx.Done() == nil || !waits.Sleep(ctx, min(time.Duration(try)*time.Second, 10*time.Second)) {
			return err
		}
	}
}

// undone is the reason why a cutover was taken back: nothing is broken, and the
// journal has said it already.
type undone struct{ error }

// Reported says that the journal knows.
func (undone) Reported() bool { return true }

func (u undone) Unwrap() error { return u.error }
