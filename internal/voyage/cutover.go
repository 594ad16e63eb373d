package voyage

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/steps"
	"dustyferry/internal/voyage/waits"
)

// cutoverSteps are the steps of a cutover; each is written, and added, in a file of its own.
var cutoverSteps steps.List[*run]

// StartCutover begins a cutover, or a rehearsal of one.
func (v *Voyage) StartCutover(ctx context.Context, c *domain.Crossing, rehearsal bool, set domain.Settings,
	actor string) (int64, error) {
	if err := lifecycle.AllowOn(lifecycle.Cutover, c); err != nil {
		return 0, err
	}
	if err := set.Validate(); err != nil {
		return 0, err
	}
	if c.Kind == domain.KindLoad {
		return 0, domain.Conflict("crossing %s only loads; without capture its target cannot be cut over to without losing "+
			"what was written since", c.Name)
	}
	if err := v.CheckStopMethod(ctx, c.Source, set.StopMethod); err != nil {
		return 0, err
	}
	other := c.Settings.Changes(set)
	if err := v.cutoverSettings(ctx, c, other, set); err != nil {
		return 0, err
	}
	ready, err := v.Readiness(ctx, c, set, Asks)
	if err != nil {
		return 0, err
	}
	if block := domain.Blocking(forRehearsal(ready, rehearsal), "dustyferry cutover ready "+c.Name); block != "" {
		return 0, domain.Conflict("crossing %s is not ready to cut over: %s", c.Name, block)
	}
	if err := v.yieldTo(ctx, c, "a "+cutoverWord(rehearsal)+" was asked for"); err != nil {
		return 0, err
	}
	list := cutoverSteps.Names(rehearsal)
	var id int64
	err = v.Queue.In(ctx, func(tx pgx.Tx) error {
		task, err := records.AddTaskTx(ctx, tx, c.ID, TaskCutover, struct{}{}, actor)
		if err != nil {
			return err
		}
		if id, err = records.AddCutoverTx(ctx, tx, c.ID, task, rehearsal, set, list, actor); err != nil {
			return err
		}
		return v.Queue.AddTask(ctx, tx, task)
	})
	if err == nil {
		e := domain.JournalEntry{Actor: actor, Crossing: c.Name, Act: "cutover", Severity: "info",
			Message: fmt.Sprintf("%s started a %s", actor, cutoverWord(rehearsal))}
		if len(other) > 0 {
			var public string
			public, e.Detail = domain.ChangesText(other)
			e.Message += ", with other settings than the crossing's: " + public
			e.Severity = "warning"
		}
		v.Record(ctx, e)
	}
	return id, err
}

// cutoverSettings refuses settings given with a cutover that are none of its own, or that
// the house rules lock to something else.
func (v *Voyage) cutoverSettings(ctx context.Context, c *domain.Crossing, given []domain.SettingChange,
	set domain.Settings) error {
	for _, g := range given {
		if !g.Setting.Cutover {
			return domain.Invalid("%s is no setting of a cutover; change the crossing's own ('dustyferry crossing set %s'). "+
				"With a cutover go %s", g.Setting.Key, c.Name, withACutover())
		}
	}
	house, err := v.Store.House(ctx)
	if err != nil {
		return err
	}
	base, err := v.Store.Defaults(ctx)
	if err != nil {
		return err
	}
	for _, g := range base.Changes(set) {
		if !house.Locks(g.Setting) || !g.Setting.Cutover {
			continue
		}
		if g.Setting.Key == "stop_method" && v.CheckStopMethod(ctx, c.Source, base.StopMethod) != nil {
			continue // the house's way is not there for this source
		}
		return domain.Conflict("%s is %s, and this service's house rules lock it to %s; set it to that ('dustyferry "+
			"crossing set %s'), or have an admin change the house rules ('dustyferry house')",
			g.Setting.Key, g.New, g.Old, c.Name)
	}
	return nil
}

// withACutover lists the settings that can be given with a cutover.
func withACutover() string {
	var keys []string
	for _, d := range domain.SettingsList() {
		if d.Cutover {
			keys = append(keys, d.Key)
		}
	}
	return strings.Join(keys, ", ")
}

func cutoverWord(rehearsal bool) string {
	if rehearsal {
		return "rehearsal of the cutover"
	}
	return "cutover"
}

// AbortCutover asks the running cutover to undo itself.
func (v *Voyage) AbortCutover(ctx context.Context, c *domain.Crossing, actor string) error {
	k, err := v.Store.RunningCutover(ctx, c.ID)
	if err != nil {
		return err
	}
	if k == nil {
		return domain.Conflict("no cutover of %s is under way; there is nothing to abort", c.Name)
	}
	v.Say(ctx, "warning", actor, c.Name, "", "cutover", "%s asked to abort the %s", actor, cutoverWord(k.Rehearsal))
	return v.Store.AskAbort(ctx, k.ID, actor)
}

// ConfirmCutover gives a person's word that writes have stopped.
func (v *Voyage) ConfirmCutover(ctx context.Context, c *domain.Crossing, actor string) error {
	k, err := v.Store.RunningCutover(ctx, c.ID)
	if err != nil {
		return err
	}
	if k == nil {
		return domain.Conflict("no cutover of %s is under way; nothing waits for a person's word", c.Name)
	}
	stand, err := v.Store.Steps(ctx, k.ID)
	if err != nil {
		return err
	}
	for _, s := range stand {
		if s.State == domain.StepRunning && s.Awaits == domain.AwaitsGoOn {
			v.Say(ctx, "info", actor, c.Name, "", "cutover", "%s lets the %s go on past the hold point before \"%s\"", actor,
				cutoverWord(k.Rehearsal), s.Name)
			return v.Store.GoOn(ctx, k.ID, s.Name, actor)
		}
	}
	if k.Settings.StopMethod != domain.StopWord {
		return domain.Conflict("the cutover of %s waits for nobody's word at the moment", c.Name)
	}
	v.Say(ctx, "info", actor, c.Name, "", "cutover", "%s says that writes to the source have stopped", actor)
	return v.Store.GiveWord(ctx, k.ID, actor)
}

// run is one cutover being carried out by this process.
type run struct {
	v      *Voyage
	c      *domain.Crossing
	k      domain.Cutover
	task   *domain.Task
	src    *engine.Opened
	dst    *engine.Opened
	plans  []domain.TablePlan
	stop   engine.WriteStop
	paused time.Time

	drained drained
}

// cutover carries out a cutover task. A process that takes the task over from a
// dead one undoes everything when the hand-over had not been reached, and goes
// on when it had.
func (v *Voyage) cutover(ctx context.Context, c *domain.Crossing, t *domain.Task) error {
	k, err := v.Store.CutoverOfTask(ctx, t.ID)
	if err != nil {
		return err
	}
	if k.State != "running" {
		return nil // the process before us had ended it, but for saying so
	}
	r := &run{v: v, c: c, k: k, task: t}
	for r.src == nil {
		if r.src, r.dst, err = v.OpenPair(ctx, c); err == nil {
			break
		}
		// What was begun is ended by somebody, however long a server is away.
		if t.Epoch <= 1 || !domain.IsKind(err, domain.ProblemUnavailable) {
			return err
		}
		r.src = nil
		_ = v.Store.NoteTask(ctx, t.ID, fmt.Sprintf("waits for both servers: %s", err))
		if !waits.Sleep(ctx, 2*time.Second) {
			return ctx.Err()
		}
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	r.plans = planning.PlansOf(tables)
	before, err := v.Store.Steps(ctx, k.ID)
	if err != nil {
		return err
	}
	begun, handedOver := false, false
	for _, s := range before {
		begun = begun || s.State != domain.StepWaiting
		handedOver = handedOver || forward(s.Name) && (s.State == domain.StepRunning || s.State == domain.StepDone)
	}
	if begun && !handedOver {
		return r.undo(ctx, errors.New("the process that carried out the cutover died before the hand-over"))
	}
	if handedOver { // the source is durably closed: only forward
		r.c.Phase = domain.PhaseCuttingOver
		return r.finish(ctx, before)
	}
	if c.Condition == domain.ConditionRunning {
		if ok, err := v.Store.SetPhase(ctx, c.ID, domain.PhaseInStep, domain.PhaseCuttingOver); err != nil || !ok {
			if err == nil {
				err = domain.Conflict("crossing %s is not in step any more", c.Name)
			}
			_ = v.Store.EndCutover(ctx, k.ID, "failed", err.Error())
			return err
		}
	}
	guarded, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go r.guard(guarded, cancel)
	for _, s := range before {
		if forward(s.Name) {
			break
		}
		if err := r.step(guarded, s.Name); err != nil {
			if cause := context.Cause(guarded); cause != nil && ctx.Err() == nil {
				err = cause
			}
			if ctx.Err() != nil { // this process stops: undo quickly, then let another report
				return r.undo(context.WithoutCancel(ctx), errors.New("the service was stopped"))
			}
			return r.undo(ctx, fmt.Errorf("step \"%s\": %w", s.Name, err))
		}
	}
	if err := context.Cause(guarded); err != nil {
		return r.undo(ctx, err)
	}
	if k.Rehearsal {
		return r.rehearsed(ctx)
	}
	cancel(nil) // from here on there is no abort
	return r.finish(ctx, before)
}

// forward reports whether a step is one of those from which there is no way back.
func forward(name domain.StepName) bool {
	s, err := cutoverSteps.Get(name)
	return err == nil && s.Forward
}

// by is whose request it is that the applier stands at the end position.
func (r *run) by() string { return fmt.Sprintf("cutover %d", r.k.ID) }

// guard watches for an abort, an exhausted pause budget and lost locks.
func (r *run) guard(ctx context.Context, cancel context.CancelCauseFunc) {
	waits.Every(ctx, 250*time.Millisecond, func() {
		k, err := r.v.Store.Cutover(ctx, r.k.ID)
		if err != nil {
			return
		}
		if k.AbortBy != "" {
			cancel(fmt.Errorf("aborted by %s", k.AbortBy))
		}
		if k.PausedAt != nil && time.Since(*k.PausedAt) > r.k.Settings.PauseBudget {
			cancel(fmt.Errorf("the write pause exceeded its budget of %s", r.k.Settings.PauseBudget))
		}
	})
}

// mine returns an error when another process has taken the cutover over, as
// happens to one that was frozen: it must neither undo nor hand over any more.
func (r *run) mine(ctx context.Context) error {
	ok, err := r.v.Store.HoldsTask(ctx, r.task.ID, r.task.Epoch)
	if err == nil && !ok {
		if r.stop != nil {
			_ = r.stop.Release(ctx)
		}
		return domain.ErrTakenOver
	}
	return err
}

// holdBefore waits at a hold point until a person lets the cutover go on, while
// capture follows the source. What held before the wait is checked again after
// it.
func (r *run) holdBefore(ctx context.Context, name domain.StepName) error {
	if !slices.Contains(r.k.Settings.HoldPoints, name) {
		return nil
	}
	if err := r.v.Store.AwaitPerson(ctx, r.k.ID, name, domain.AwaitsGoOn,
		fmt.Sprintf("waiting for a person to go on (hold point before %q)", name)); err != nil {
		return err
	}
	for {
		k, err := r.v.Store.Cutover(ctx, r.k.ID)
		if err != nil {
			return err
		}
		if k.GoneOn[string(name)] != "" {
			break
		}
		if !waits.Sleep(ctx, 200*time.Millisecond) {
			return context.Cause(ctx)
		}
	}
	if err := r.v.Store.AwaitPerson(ctx, r.k.ID, name, domain.AwaitsNobody, ""); err != nil {
		return err
	}
	if name == domain.StepStopWrites {
		_, err := checkReadiness(ctx, r)
		return err
	}
	return nil
}

// step carries out one step before the hand-over and records it.
func (r *run) step(ctx context.Context, name domain.StepName) error {
	s, err := cutoverSteps.Get(name)
	if err != nil {
		return err
	}
	if err := r.mine(ctx); err != nil {
		return err
	}
	return steps.Do(ctx, r, s, r, r.holdBefore)
}

// SetStep keeps how a step stands.
func (r *run) SetStep(ctx context.Context, name domain.StepName, state domain.StepState, note string) error {
	return r.v.Store.SetStep(ctx, r.k.ID, name, state, note)
}

// finish carries out what cannot be undone: hand over and release.
func (r *run) finish(ctx context.Context, before []records.Step) error {
	for _, s := range before {
		if !forward(s.Name) || s.State == domain.StepDone || s.State == domain.StepSkipped {
			continue
		}
		if err := r.step(ctx, s.Name); err != nil {
			if ctx.Err() != nil {
				return err
			}
			if s.Name == domain.StepHandOver { // nobody took it up: this can still be taken back
				return r.undo(ctx, fmt.Errorf("hand-over: %w", err))
			}
			return err
		}
	}
	if _, err := r.v.Store.SetPhase(ctx, r.c.ID, domain.PhaseCuttingOver, domain.PhaseCutOver); err != nil {
		return err
	}
	// The source need not keep its log for us any longer.
	if r.src.Captures == nil { // it kept none
	} else if err := r.src.DropCapture(ctx, r.c.ObjectName(), r.c.Undo); err != nil {
		r.v.Say(ctx, "warning", System, r.c.Name, "", "cutover",
			"capture could not be removed from the source yet (%s); closing the crossing tries again", err)
	}
	text := fmt.Sprintf("%s is in charge now; writes were paused for %s", r.c.Target, r.pause(ctx))
	r.v.Say(ctx, "info", r.k.Actor, r.c.Name, "", "cutover", "cut over: %s", text)
	r.v.Notify(ctx, r.c, journal.EventCutOver, text)
	return r.v.Store.EndCutover(ctx, r.k.ID, "done", "")
}

func (r *run) pause(ctx context.Context) string {
	k, err := r.v.Store.Cutover(ctx, r.k.ID)
	if err != nil || k.PausedAt == nil || k.ReleasedAt == nil {
		return "an unknown time"
	}
	return k.ReleasedAt.Sub(*k.PausedAt).Round(time.Millisecond).String()
}

// rehearsed ends a rehearsal: the source takes writes again, and the pause that
// was measured is the prediction.
func (r *run) rehearsed(ctx context.Context) error {
	if err := r.openAgain(ctx, errors.New("the rehearsal is over")); err != nil {
		return err
	}
	if err := r.v.Store.EndCutover(ctx, r.k.ID, "done", ""); err != nil {
		return err
	}
	r.v.Say(ctx, "info", r.k.Actor, r.c.Name, "", "cutover",
		"rehearsal ended: writes were paused for %s; the cutover's pause will be about as long", r.pause(ctx))
	return nil
}
