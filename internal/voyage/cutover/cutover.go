// Package cutover hands a crossing's tables over from its source to its target: step by step,
// each of which is one value with what must hold before it, what it does and how that is taken
// back. Before the hand-over everything can be undone, and is when something fails or the
// process dies; after it there is only forward.
package cutover

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/steps"
	"dustyferry/internal/voyage/waits"
)

// Records keep how a cutover stands, and its crossing.
type Records interface {
	// ProveAnew has no comparison made until now prove anything.
	ProveAnew(ctx context.Context, crossing int64) error
	Policy(ctx context.Context) (domain.Policy, error)
	Defaults(ctx context.Context) (domain.Settings, error)
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	CatalogOf(ctx context.Context, crossing int64) (*domain.Catalog, error)
	SetPhase(ctx context.Context, crossing int64, from, to domain.Phase) (bool, error)
	SetCondition(ctx context.Context, crossing int64, from []domain.Condition, to domain.Condition, reason string,
		keepCapture bool) (bool, error)

	Cutover(ctx context.Context, id int64) (domain.Cutover, error)
	CutoverOfTask(ctx context.Context, task int64) (domain.Cutover, error)
	// Cutovers are all of a crossing, the newest first.
	Cutovers(ctx context.Context, crossing int64) ([]domain.Cutover, error)
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	Crossing(ctx context.Context, name string) (domain.Crossing, error)
	// RunningCutover is the crossing's cutover under way, or nil.
	RunningCutover(ctx context.Context, crossing int64) (*domain.Cutover, error)
	EndCutover(ctx context.Context, id int64, state domain.CutoverState, cause string) error
	SaveReadiness(ctx context.Context, id int64, list []domain.Entry) error
	// SetEnd keeps the end position and the comparison, of which 0 leaves what is kept.
	SetEnd(ctx context.Context, id int64, at domain.Position, reconciliation int64) error
	// SetPause keeps when writes were stopped and let go, of which nil leaves what is kept.
	SetPause(ctx context.Context, id int64, from, until *time.Time) error
	AskAbort(ctx context.Context, id int64, who string) error
	GiveWord(ctx context.Context, id int64, who string) error
	GoOn(ctx context.Context, id int64, point domain.StepName, who string) error

	Steps(ctx context.Context, cutover int64) ([]domain.CutoverStep, error)
	SetStep(ctx context.Context, cutover int64, name domain.StepName, state domain.StepState, note string) error
	NoteStep(ctx context.Context, cutover int64, name domain.StepName, note string) error
	AwaitPerson(ctx context.Context, cutover int64, name domain.StepName, what domain.Awaits, note string) error

	// HoldsTask reports whether a task is held under that epoch.
	HoldsTask(ctx context.Context, task, epoch int64) (bool, error)
	NoteTask(ctx context.Context, task int64, note string) error

	// Ask asks whoever follows for something; false while it does somebody else's wish.
	Ask(ctx context.Context, crossing int64, by, sake, what string, at domain.Position) (bool, error)
	KeepAsking(ctx context.Context, crossing int64, by string) error
	LetGo(ctx context.Context, crossing int64, by string) error
	// Hurry lets capture that failed be tried again at once.
	Hurry(ctx context.Context, crossing int64) error
	Stand(ctx context.Context, crossing int64) (*domain.Stand, error)
	RecentlyApplied(ctx context.Context, crossing int64) ([]domain.AppliedTx, error)

	// AddComparison keeps a comparison that belongs to a cutover.
	AddComparison(ctx context.Context, crossing int64, depth domain.Depth) (int64, error)
	Reconciliation(ctx context.Context, crossing, id int64) (domain.Reconciliation, error)
}

// Databases opens registered databases.
type Databases interface {
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	Catalog(ctx context.Context, name string, fresh bool) (*domain.Catalog, error)
	CheckStopMethod(ctx context.Context, source string, m domain.StopMethod) error
	Position(ctx context.Context, name string, p domain.Position) string
}

// Readiness says what must hold before a cutover.
type Readiness interface {
	List(ctx context.Context, c *domain.Crossing, set domain.Settings, patience time.Duration) ([]domain.Entry, error)
	// Unended says which two-phase transactions could still be committed on the source.
	Unended(ctx context.Context, c *domain.Crossing, plans []domain.TablePlan, patience time.Duration) []domain.Entry
}

// Comparer compares both sides.
type Comparer interface {
	Run(ctx context.Context, c *domain.Crossing, id int64, inside bool, note func(string)) error
	Vouch(ctx context.Context, c *domain.Crossing, share float64, note func(string)) (domain.Vouched, error)
}

// Builder makes what had to wait for the end.
type Builder interface {
	Build(ctx context.Context, c *domain.Crossing, note func(string), last bool) error
}

// Returns make and begin return paths.
type Returns interface {
	Prepare(ctx context.Context, c *domain.Crossing, note func(string)) (name string, err error)
	Mark(ctx context.Context, c *domain.Crossing, at domain.Position) error
	Start(ctx context.Context, c *domain.Crossing) (name string, err error)
	// Drop removes one that was prepared, or does nothing.
	Drop(ctx context.Context, c *domain.Crossing) error
}

// Gateways stand between applications and the database in charge.
type Gateways interface {
	// Leads is where they lead, nil where there are none.
	Leads(ctx context.Context, c domain.Crossing) (*domain.Route, error)
	// Hold lets no transaction begin through them, and waits for those that are open; all: one that
	// is lost is an error.
	Hold(ctx context.Context, c domain.Crossing, patience time.Duration, all bool) (note string, err error)
	// Release ends that; connections go where they went before.
	Release(ctx context.Context, c domain.Crossing) error
	// Switch ends it too; they go to the database with that name.
	Switch(ctx context.Context, c domain.Crossing, live string) (note string, err error)
}

// Journal records what happens, and tells of it.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Record(ctx context.Context, e domain.JournalEntry)
	Hold(ctx context.Context, c *domain.Crossing, subject, reason string)
	Notify(ctx context.Context, c *domain.Crossing, event, message string)
}

// Begin adds a cutover with the task that carries it out; other work yields to it.
type Begin func(ctx context.Context, c *domain.Crossing, rehearsal bool, set domain.Settings, list []domain.StepName,
	actor string) (int64, error)

// Cutovers starts, carries out and takes back cutovers.
type Cutovers struct {
	records   Records
	databases Databases
	readiness Readiness
	comparer  Comparer
	builder   Builder
	returns   Returns
	gateways  Gateways
	journal   Journal
	begin     Begin
}

// New returns the cutovers of this process.
func New(r Records, d Databases, ready Readiness, k Comparer, b Builder, w Returns, g Gateways, j Journal,
	begin Begin) *Cutovers {
	return &Cutovers{records: r, databases: d, readiness: ready, comparer: k, builder: b, returns: w, gateways: g,
		journal: j, begin: begin}
}

// cutoverSteps are the steps of a cutover; each is written, and added, in a file of its own.
var cutoverSteps steps.List[*run]

// run is one cutover being carried out by this process.
type run struct {
	of     *Cutovers
	c      *domain.Crossing
	k      domain.Cutover
	task   *domain.Task
	src    *engine.Opened
	dst    *engine.Opened
	plans  []domain.TablePlan
	stop   engine.WriteStop
	paused time.Time

	drained drained

	bothOpen bool // the target could not be closed again, so the source must not be opened
}

// Run carries out a cutover task. A process that takes the task over from a
// dead one undoes everything when the hand-over had not been reached, and goes
// on when it had.
func (x *Cutovers) Run(ctx context.Context, c *domain.Crossing, t *domain.Task) error {
	k, err := x.records.CutoverOfTask(ctx, t.ID)
	if err != nil {
		return err
	}
	if k.State != domain.CutoverRunning {
		return nil // the process before us had ended it, but for saying so
	}
	r := &run{of: x, c: c, k: k, task: t}
	for r.src == nil {
		if r.src, r.dst, err = x.databases.OpenPair(ctx, c); err == nil {
			break
		}
		// What was begun is ended by somebody, however long a server is away.
		if t.Epoch <= 1 || !domain.IsKind(err, domain.ProblemUnavailable) {
			return err
		}
		r.src = nil
		_ = x.records.NoteTask(ctx, t.ID, fmt.Sprintf("waits for both servers: %s", err))
		if !waits.Sleep(ctx, 2*time.Second) {
			return ctx.Err()
		}
	}
	tables, err := x.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	r.plans = planning.PlansOf(tables)
	before, err := x.records.Steps(ctx, k.ID)
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
		if ok, err := x.records.SetPhase(ctx, c.ID, domain.PhaseInStep, domain.PhaseCuttingOver); err != nil || !ok {
			if err == nil {
				err = domain.Conflict("crossing %s is not in step any more", c.Name)
			}
			_ = x.records.EndCutover(ctx, k.ID, domain.CutoverFailed, err.Error())
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
			if cause := context.Cause(guarded); cause != nil && ctx.Err() == nil && !errors.Is(err, cause) {
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
		k, err := r.of.records.Cutover(ctx, r.k.ID)
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
	ok, err := r.of.records.HoldsTask(ctx, r.task.ID, r.task.Epoch)
	if err == nil && !ok {
		if r.stop != nil {
			_ = r.stop.Release(ctx)
		}
		return domain.ErrTakenOver
	}
	return err
}

// second reports whether another person than the one who started the cutover has to agree.
func (r *run) second() bool { return agrees(&r.k) }

func agrees(k *domain.Cutover) bool {
	return !k.Rehearsal && k.Settings.SecondPerson == domain.SecondYes
}

// holdBefore waits at a hold point until a person lets the cutover go on, while
// capture follows the source. What held before the wait is checked again after
// it.
func (r *run) holdBefore(ctx context.Context, name domain.StepName) error {
	if !slices.Contains(r.k.Settings.HoldPointsOf(r.k.Rehearsal), name) {
		return nil
	}
	whom := "a person"
	if r.second() {
		whom = "another person than " + r.k.Actor
	}
	if err := r.of.records.AwaitPerson(ctx, r.k.ID, name, domain.AwaitsGoOn,
		fmt.Sprintf("waiting for %s to go on (hold point before %q)", whom, name)); err != nil {
		return err
	}
	for {
		k, err := r.of.records.Cutover(ctx, r.k.ID)
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
	if err := r.of.records.AwaitPerson(ctx, r.k.ID, name, domain.AwaitsNobody, ""); err != nil {
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
	return r.of.records.SetStep(ctx, r.k.ID, name, state, note)
}

// finish carries out what cannot be undone: hand over and release.
func (r *run) finish(ctx context.Context, before []domain.CutoverStep) error {
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
	if _, err := r.of.records.SetPhase(ctx, r.c.ID, domain.PhaseCuttingOver, domain.PhaseCutOver); err != nil {
		return err
	}
	// The source need not keep its log for us any longer.
	if r.src.Captures == nil { // it kept none
	} else if err := r.src.DropCapture(ctx, r.c.ObjectName(), r.c.Undo); err != nil {
		r.of.journal.Recordf(ctx, "warning", journal.System, r.c.Name, "", "cutover",
			"capture could not be removed from the source yet (%s); closing the crossing tries again", err)
	}
	text := fmt.Sprintf("%s is in charge now; writes were paused for %s", r.c.Target, r.pause(ctx))
	if now, err := r.of.records.CrossingByID(ctx, r.c.ID); err == nil && now.ReturnBy != "" {
		text += fmt.Sprintf("; what is written there is brought back to %s by %s", r.c.Source, now.ReturnBy)
	}
	r.of.journal.Recordf(ctx, "info", r.k.Actor, r.c.Name, "", "cutover", "cut over: %s", text)
	r.of.journal.Notify(ctx, r.c, journal.EventCutOver, text)
	return r.of.records.EndCutover(ctx, r.k.ID, domain.CutoverDone, "")
}

func (r *run) pause(ctx context.Context) string {
	k, err := r.of.records.Cutover(ctx, r.k.ID)
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
	if err := r.of.records.EndCutover(ctx, r.k.ID, domain.CutoverDone, ""); err != nil {
		return err
	}
	r.of.journal.Recordf(ctx, "info", r.k.Actor, r.c.Name, "", "cutover",
		"rehearsal ended: writes were paused for %s; the cutover's pause will be about as long", r.pause(ctx))
	return nil
}
