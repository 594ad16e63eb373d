package voyage

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
)

// steps of a cutover, in order. A rehearsal takes those before "close source".
var steps = []domain.StepName{
	domain.StepReadiness, domain.StepStopWrites, domain.StepMarkEnd, domain.StepDrain, domain.StepReconcile,
	domain.StepSequences, domain.StepBuild, domain.StepClose, domain.StepHandOver, domain.StepRelease,
}

// StartCutover begins a cutover, or a rehearsal of one.
func (v *Voyage) StartCutover(ctx context.Context, c *records.Crossing, rehearsal bool, set domain.Settings, actor string) (int64, error) {
	if err := allow(lifecycle.Cutover, c); err != nil {
		return 0, err
	}
	set = set.WithDefaults()
	if err := set.Validate(); err != nil {
		return 0, err
	}
	if c.Kind == domain.KindLoad {
		return 0, domain.Conflict("crossing %s only loads; without capture its target cannot be cut over to without losing what was written since", c.Name)
	}
	ready, err := v.Readiness(ctx, c, set)
	if err != nil {
		return 0, err
	}
	if block := blocking(ready); block != "" {
		return 0, domain.Conflict("crossing %s is not ready to cut over: %s", c.Name, block)
	}
	list := steps
	if rehearsal {
		list = steps[:5]
	}
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
		v.Say(ctx, "info", actor, c.Name, "", "cutover", "%s started a %s", actor, cutoverWord(rehearsal))
	}
	return id, err
}

func cutoverWord(rehearsal bool) string {
	if rehearsal {
		return "rehearsal of the cutover"
	}
	return "cutover"
}

// AbortCutover asks the running cutover to undo itself.
func (v *Voyage) AbortCutover(ctx context.Context, c *records.Crossing, actor string) error {
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
func (v *Voyage) ConfirmCutover(ctx context.Context, c *records.Crossing, actor string) error {
	k, err := v.Store.RunningCutover(ctx, c.ID)
	if err != nil {
		return err
	}
	if k == nil || k.Settings.V.StopMethod != domain.StopWord {
		return domain.Conflict("no cutover of %s waits for a person's word", c.Name)
	}
	v.Say(ctx, "info", actor, c.Name, "", "cutover", "%s says that writes to the source have stopped", actor)
	return v.Store.GiveWord(ctx, k.ID, actor)
}

// Readiness is the readiness list: what must hold before a cutover may start,
// each entry with what was measured.
func (v *Voyage) Readiness(ctx context.Context, c *records.Crossing, set domain.Settings) ([]domain.Entry, error) {
	var out []domain.Entry
	add := func(ok bool, otherwise domain.Verdict, topic, remedy, format string, args ...any) {
		e := domain.Entry{Verdict: otherwise, Topic: topic, Subject: c.Name, Measured: fmt.Sprintf(format, args...), Remedy: remedy}
		if ok {
			e.Verdict, e.Remedy = domain.Fine, ""
		}
		out = append(out, e)
	}
	view, err := v.Store.View(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	add(view.Chunks > 0 && view.Landed == view.Chunks, domain.Blocks, "load", "wait until every chunk has landed", "%d of %d chunks have landed", view.Landed, view.Chunks)
	add(c.Built, domain.Blocks, "deferred objects", "wait until they are built", "indexes and constraints on the target: %s", yesNo(c.Built, "built", "not built yet"))
	add(c.Phase == domain.PhaseInStep, domain.Blocks, "phase", "wait until the crossing is in step", "the crossing is %s", c.Phase)
	add(c.Condition == domain.ConditionRunning, domain.Blocks, "condition", "resume the crossing", "the crossing is %s%s", c.Condition, prefixed(": ", c.Reason))
	st, err := v.Store.Stream(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	live := st != nil && st.Live
	add(live, domain.Blocks, "capture", "see why capture does not run: dustyferry journal --crossing "+c.Name, "capture %s", yesNo(live, "runs", "does not run"))
	if st != nil {
		limit := set.InStepLag.Seconds()
		add(st.LagSeconds <= limit, domain.Blocks, "lag", "wait until capture has caught up", "the lag is %.1f s, the threshold %.1f s", st.LagSeconds, limit)
	}
	recs, err := v.Store.Reconciliations(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	remedy := "dustyferry reconcile " + c.Name
	verdict := domain.ToKnow
	switch {
	case len(recs) == 0:
		add(false, verdict, "reconciliation", remedy, "source and target have never been compared; the cutover itself compares them (%s)", set.CutoverDepth)
	case recs[0].State == "clean":
		add(recs[0].Depth == domain.DepthHashes, verdict, "reconciliation", remedy, "the last comparison (%s, %s) was clean over %d tables and %d rows",
			recs[0].Depth, recs[0].CreatedAt.UTC().Format(time.DateTime), recs[0].Tables, recs[0].SourceRows)
	case recs[0].State == "differing" && recs[0].Open == 0:
		add(false, verdict, "reconciliation", remedy, "the findings of the last comparison were repaired, but not compared again")
	case recs[0].State == "differing":
		add(false, domain.Blocks, "reconciliation", "dustyferry repair "+c.Name, "the last comparison left %d open findings", max(recs[0].Open, recs[0].Findings))
	default:
		add(false, verdict, "reconciliation", remedy, "the last comparison is %s", recs[0].State)
	}
	cuts, err := v.Store.Cutovers(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	rehearsed := false
	for _, k := range cuts {
		if k.Rehearsal && k.State == "done" && k.PausedAt.Valid && k.ReleasedAt.Valid {
			pause := k.ReleasedAt.Time.Sub(k.PausedAt.Time)
			add(pause <= set.PauseBudget, domain.ToKnow, "write pause", "raise the pause budget, or reconcile less inside the pause", "the last rehearsal paused writes for %s; the budget is %s", pause.Round(time.Millisecond), set.PauseBudget)
			rehearsed = true
			break
		}
	}
	if !rehearsed {
		add(false, domain.ToKnow, "write pause", "dustyferry cutover rehearse "+c.Name, "the cutover has not been rehearsed, so its write pause is not known")
	}
	return out, nil
}

func yesNo(b bool, yes, no string) string {
	if b {
		return yes
	}
	return no
}

func prefixed(p, s string) string {
	if s == "" {
		return ""
	}
	return p + s
}

// run is one cutover being carried out by this process.
type run struct {
	v      *Voyage
	c      *records.Crossing
	k      records.Cutover
	src    engine.Database
	dst    engine.Database
	plans  []domain.TablePlan
	stop   engine.WriteStop
	paused time.Time
}

// cutover carries out a cutover task. A process that takes the task over from a
// dead one undoes everything when the hand-over had not been reached, and goes
// on when it had.
func (v *Voyage) cutover(ctx context.Context, c *records.Crossing, t *records.Task) error {
	k, err := v.Store.CutoverOfTask(ctx, t.ID)
	if err != nil {
		return err
	}
	r := &run{v: v, c: c, k: k}
	if r.src, r.dst, err = v.Both(ctx, c); err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	r.plans = plansOf(tables)
	before, err := v.Store.Steps(ctx, k.ID)
	if err != nil {
		return err
	}
	begun, handedOver := false, false
	for _, s := range before {
		begun = begun || s.State != domain.StepWaiting
		handedOver = handedOver || s.Name == domain.StepHandOver && (s.State == domain.StepRunning || s.State == domain.StepDone)
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
		if s.Name == domain.StepHandOver {
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
		return r.undo(context.WithoutCancel(ctx), err)
	}
	if k.Rehearsal {
		return r.rehearsed(ctx)
	}
	cancel(nil) // from here on there is no abort
	return r.finish(ctx, before)
}

// guard watches for an abort, an exhausted pause budget and lost locks.
func (r *run) guard(ctx context.Context, cancel context.CancelCauseFunc) {
	every(ctx, 250*time.Millisecond, func() {
		k, err := r.v.Store.Cutover(ctx, r.k.ID)
		if err != nil {
			return
		}
		if k.AbortBy != "" {
			cancel(fmt.Errorf("aborted by %s", k.AbortBy))
		}
		if k.PausedAt.Valid && time.Since(k.PausedAt.Time) > r.k.Settings.V.PauseBudget {
			cancel(fmt.Errorf("the write pause exceeded its budget of %s", r.k.Settings.V.PauseBudget))
		}
	})
}

// step carries out one step before the hand-over and records it.
func (r *run) step(ctx context.Context, name domain.StepName) error {
	act := map[domain.StepName]func(context.Context) (string, error){
		domain.StepReadiness:  r.readiness,
		domain.StepStopWrites: r.stopWrites,
		domain.StepMarkEnd:    r.markEnd,
		domain.StepDrain:      r.drain,
		domain.StepReconcile:  r.reconcile,
		domain.StepSequences:  r.sequences,
		domain.StepBuild:      r.build,
		domain.StepClose:      r.closeSource,
		domain.StepHandOver:   r.handOver,
		domain.StepRelease:    r.release,
	}[name]
	if err := r.v.Store.SetStep(ctx, r.k.ID, name, domain.StepRunning, ""); err != nil {
		return err
	}
	note, err := act(ctx)
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err != nil {
		_ = r.v.Store.SetStep(end, r.k.ID, name, domain.StepFailed, err.Error())
		return err
	}
	state := domain.StepDone
	if note == "skipped" {
		state = domain.StepSkipped
	}
	return r.v.Store.SetStep(end, r.k.ID, name, state, note)
}

func (r *run) readiness(ctx context.Context) (string, error) {
	c := *r.c
	c.Phase = domain.PhaseInStep // it was, when the cutover was asked for
	list, err := r.v.Readiness(ctx, &c, r.k.Settings.V)
	if err != nil {
		return "", err
	}
	if err := r.v.Store.SaveReadiness(ctx, r.k.ID, list); err != nil {
		return "", err
	}
	if block := blocking(list); block != "" {
		return "", domain.Conflict("not ready: %s", block)
	}
	return fmt.Sprintf("%d points hold", len(list)), nil
}

func (r *run) stopWrites(ctx context.Context) (string, error) {
	set := r.k.Settings.V
	if set.StopMethod == domain.StopWord {
		_ = r.v.Store.NoteStep(ctx, r.k.ID, domain.StepStopWrites, "waiting for a person's word that writes have stopped (dustyferry cutover confirm "+r.c.Name+")")
		for {
			k, err := r.v.Store.Cutover(ctx, r.k.ID)
			if err != nil {
				return "", err
			}
			if k.WordBy != "" {
				break
			}
			if !sleep(ctx, 200*time.Millisecond) {
				return "", context.Cause(ctx)
			}
		}
	}
	// The pause counts from the moment the first writer may have to wait.
	r.paused = time.Now()
	if err := r.v.Store.SetPause(ctx, r.k.ID, &r.paused, nil); err != nil {
		return "", err
	}
	var err error
	r.stop, err = r.src.StopWrites(ctx, set.StopMethod, r.c.Domain().ObjectName(), r.plans, min(set.PauseBudget/2, 30*time.Second))
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("writes to %d tables are stopped (%s)", len(r.plans), set.StopMethod), nil
}

func (r *run) markEnd(ctx context.Context) (string, error) {
	at, err := r.src.Heartbeat(ctx)
	if err != nil {
		return "", err
	}
	r.k.EndPosition = records.Pos(at)
	if err := r.v.Store.SetEnd(ctx, r.k.ID, at, 0); err != nil {
		return "", err
	}
	return "log position " + r.v.Position(ctx, r.c.Source, at), nil
}

// drain lets the applier go exactly up to the end position; writes are stopped,
// so nothing of the tables comes after it.
func (r *run) drain(ctx context.Context) (string, error) {
	from := time.Now()
	if err := r.v.Store.Ask(ctx, r.c.ID, "go", domain.Position(r.k.EndPosition)); err != nil {
		return "", err
	}
	defer func() { _ = r.v.Store.Ask(context.WithoutCancel(ctx), r.c.ID, "", 0) }()
	for n := 1; ; n++ {
		st, err := r.v.Store.Stream(ctx, r.c.ID)
		if err != nil {
			return "", err
		}
		if st != nil && st.Ask == "reached" {
			return fmt.Sprintf("everything up to it was applied in %s", time.Since(from).Round(time.Millisecond)), nil
		}
		if n%100 == 0 { // the wish lapses unless it is repeated
			if st == nil || st.Ask == "" {
				err = r.v.Store.Ask(ctx, r.c.ID, "go", domain.Position(r.k.EndPosition))
			} else {
				err = r.v.Store.KeepAsking(ctx, r.c.ID)
			}
			if err != nil {
				return "", err
			}
			_, _ = r.src.Heartbeat(ctx)
		}
		if !sleep(ctx, 20*time.Millisecond) {
			return "", context.Cause(ctx)
		}
	}
}

func (r *run) reconcile(ctx context.Context) (string, error) {
	depth := r.k.Settings.V.CutoverDepth
	if depth == domain.DepthNone {
		return "skipped", nil
	}
	var id int64
	err := r.v.Queue.In(ctx, func(tx pgx.Tx) error {
		var err error
		id, err = records.AddReconciliationTx(ctx, tx, r.c.ID, depth, nil)
		return err
	})
	if err != nil {
		return "", err
	}
	if err := r.v.Store.SetEnd(ctx, r.k.ID, 0, id); err != nil {
		return "", err
	}
	if err := r.v.reconcile(ctx, r.c, id, r.k.Settings.V.StopMethod != domain.StopWord); err != nil {
		return "", err
	}
	res, err := r.v.Store.Reconciliation(ctx, r.c.ID, id)
	if err != nil {
		return "", err
	}
	if res.Findings > 0 {
		return "", domain.Conflict("reconciliation %d found %d differences; see 'dustyferry findings %s'", id, res.Findings, r.c.Name)
	}
	return fmt.Sprintf("%d tables, %d rows alike on both sides (%s)", res.Tables, res.SourceRows, depth), nil
}

func (r *run) sequences(ctx context.Context) (string, error) {
	cat, err := r.v.Store.CatalogOf(ctx, r.c.ID)
	if err != nil {
		return "", err
	}
	var mine []domain.Sequence
	for _, q := range cat.Sequences {
		owned := q.OwnedBy.Name == ""
		for i := range r.plans {
			owned = owned || r.plans[i].Source == q.OwnedBy
		}
		if owned {
			mine = append(mine, q)
		}
	}
	values, err := r.src.SequenceValues(ctx, mine)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%d sequences moved", len(values)), r.dst.SetSequences(ctx, values)
}

func (r *run) build(ctx context.Context) (string, error) {
	err := r.v.build(ctx, r.c, func(s string) { _ = r.v.Store.NoteStep(ctx, r.k.ID, domain.StepBuild, s) }, true)
	return "every index and constraint stands", err
}

func (r *run) closeSource(ctx context.Context) (string, error) {
	if r.stop != nil {
		if err := r.stop.Alive(ctx); err != nil {
			return "", fmt.Errorf("the hold on the source's writes was lost: %w", err)
		}
	}
	msg := fmt.Sprintf("this table has moved to database %s (crossing %s)", r.c.Target, r.c.Name)
	if r.k.Settings.V.StopMethod == domain.StopWord {
		return "the person's word stands; the source is not closed by us", nil
	}
	return "writes to the source now fail, saying that the tables have moved", r.stop.CloseWrites(ctx, msg)
}

// finish carries out what cannot be undone: hand over and release.
func (r *run) finish(ctx context.Context, before []records.Step) error {
	for _, s := range before {
		if s.Name != domain.StepHandOver && s.Name != domain.StepRelease || s.State == domain.StepDone || s.State == domain.StepSkipped {
			continue
		}
		if err := r.step(ctx, s.Name); err != nil {
			if ctx.Err() != nil {
				return err
			}
			if s.Name == domain.StepHandOver && r.k.Settings.V.StopMethod != domain.StopWord {
				// Nobody was told yet: this can still be taken back.
				return r.undo(ctx, fmt.Errorf("hand-over: %w", err))
			}
			return err
		}
	}
	if _, err := r.v.Store.SetPhase(ctx, r.c.ID, domain.PhaseCuttingOver, domain.PhaseCutOver); err != nil {
		return err
	}
	// The source need not keep its log for us any longer.
	if err := r.src.DropCapture(ctx, r.c.Domain().ObjectName(), r.c.Undo.V); err != nil {
		r.v.Say(ctx, "warning", System, r.c.Name, "", "cutover", "capture could not be removed from the source yet (%s); closing the crossing tries again", err)
	}
	r.v.Say(ctx, "info", r.k.Actor, r.c.Name, "", "cutover", "cut over: %s is in charge now; writes were paused for %s", r.c.Target, r.pause(ctx))
	return r.v.Store.EndCutover(ctx, r.k.ID, "done", "")
}

func (r *run) pause(ctx context.Context) string {
	k, err := r.v.Store.Cutover(ctx, r.k.ID)
	if err != nil || !k.PausedAt.Valid || !k.ReleasedAt.Valid {
		return "an unknown time"
	}
	return k.ReleasedAt.Time.Sub(k.PausedAt.Time).Round(time.Millisecond).String()
}

// handOver tells the applications: a webhook, a command, both or none.
func (r *run) handOver(ctx context.Context) (string, error) {
	set := r.k.Settings.V
	note := "no webhook or command is set; the target is ready"
	body, err := json.Marshal(map[string]any{"event": "hand over", "crossing": r.c.Name, "source": r.c.Source, "target": r.c.Target,
		"end_position": r.v.Position(ctx, r.c.Source, domain.Position(r.k.EndPosition))})
	if err != nil {
		return "", err
	}
	if set.HandoverURL != "" {
		limit, cancel := context.WithTimeout(ctx, 15*time.Second)
		defer cancel()
		req, err := http.NewRequestWithContext(limit, http.MethodPost, set.HandoverURL, bytes.NewReader(body))
		if err != nil {
			return "", domain.Invalid("the hand-over address %q cannot be called: %s", set.HandoverURL, err)
		}
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return "", fmt.Errorf("the hand-over webhook did not answer: %w", err)
		}
		_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 1<<20))
		_ = res.Body.Close()
		if res.StatusCode >= 300 {
			return "", fmt.Errorf("the hand-over webhook answered %s", res.Status)
		}
		note = "the webhook answered " + res.Status
	}
	if set.HandoverCommand != "" {
		limit, cancel := context.WithTimeout(ctx, time.Minute)
		defer cancel()
		cmd := exec.CommandContext(limit, "/bin/sh", "-c", set.HandoverCommand)
		cmd.Env = append(os.Environ(), "DUSTYFERRY_CROSSING="+r.c.Name, "DUSTYFERRY_TARGET="+r.c.Target)
		cmd.Stdin = bytes.NewReader(body)
		out, err := cmd.CombinedOutput()
		if err != nil {
			return "", fmt.Errorf("the hand-over command failed: %w: %s", err, strings.TrimSpace(string(out)))
		}
		note = "the command ran"
	}
	return note, nil
}

func (r *run) release(ctx context.Context) (string, error) {
	if r.stop != nil {
		_ = r.stop.Release(ctx)
	}
	now := time.Now()
	return "the source answers reads only", r.v.Store.SetPause(ctx, r.k.ID, nil, &now)
}

// rehearsed ends a rehearsal: the source takes writes again, and the pause that
// was measured is the prediction.
func (r *run) rehearsed(ctx context.Context) error {
	if err := r.reopen(ctx); err != nil {
		return err
	}
	if err := r.v.Store.EndCutover(ctx, r.k.ID, "done", ""); err != nil {
		return err
	}
	r.v.Say(ctx, "info", r.k.Actor, r.c.Name, "", "cutover", "rehearsal ended: writes were paused for %s; the cutover's pause will be about as long", r.pause(ctx))
	return nil
}

// reopen lets the source take writes again and the crossing follow it.
func (r *run) reopen(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer cancel()
	if r.stop != nil {
		_ = r.stop.Release(ctx)
		r.stop = nil
	}
	if err := r.src.Reopen(ctx, r.k.Settings.V.StopMethod, r.c.Domain().ObjectName(), r.plans); err != nil {
		return err
	}
	now := time.Now()
	if err := r.v.Store.SetPause(ctx, r.k.ID, nil, &now); err != nil {
		return err
	}
	_, err := r.v.Store.SetPhase(ctx, r.c.ID, domain.PhaseCuttingOver, domain.PhaseInStep)
	return err
}

// undo takes everything back: the source takes writes again and capture goes
// on, as if the cutover had not been.
func (r *run) undo(ctx context.Context, cause error) error {
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 40*time.Second)
	defer cancel()
	if err := r.reopen(end); err != nil {
		r.v.Hold(end, r.c, "cutover", fmt.Sprintf("the cutover failed (%s) and could not be undone: %s. The source may still refuse writes", cause, err))
		return err
	}
	done, err := r.v.Store.Steps(end, r.k.ID)
	if err != nil {
		return err
	}
	for _, s := range done {
		if s.State == domain.StepDone || s.State == domain.StepRunning {
			_ = r.v.Store.SetStep(end, r.k.ID, s.Name, domain.StepUndone, s.Note)
		}
	}
	_ = r.v.Store.EndCutover(end, r.k.ID, "undone", cause.Error())
	r.v.Say(end, "warning", System, r.c.Name, "", "cutover", "the %s was undone, the source takes writes again: %s", cutoverWord(r.k.Rehearsal), cause)
	return cause
}
