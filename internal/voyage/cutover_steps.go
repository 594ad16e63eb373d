package voyage

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/outgoing"
	"dustyferry/internal/voyage/waits"
)

func (r *run) readiness(ctx context.Context) (string, error) {
	c := *r.c
	c.Phase = domain.PhaseInStep                                  // it was, when the cutover was asked for
	if _, err := r.v.Catalog(ctx, r.c.Source, true); err != nil { // the list takes one that is seconds old
		return "", err
	}
	list, err := r.v.Readiness(ctx, &c, r.k.Settings.V, Decides)
	if err != nil {
		return "", err
	}
	list = forRehearsal(list, r.k.Rehearsal)
	if err := r.v.Store.SaveReadiness(ctx, r.k.ID, list); err != nil {
		return "", err
	}
	if block := blocking(list, "dustyferry cutover ready "+c.Name); block != "" {
		return "", domain.Conflict("not ready: %s", block)
	}
	return fmt.Sprintf("all %d readiness checks pass", len(list)), nil
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
			if !waits.Sleep(ctx, 200*time.Millisecond) {
				return "", context.Cause(ctx)
			}
		}
	}
	if err := r.src.MayStop(ctx, set.StopMethod); err != nil {
		return "", err
	}
	// The pause counts from the moment the first writer may have to wait.
	r.paused = time.Now()
	if err := r.v.Store.SetPause(ctx, r.k.ID, &r.paused, nil); err != nil {
		return "", err
	}
	var err error
	r.stop, err = r.src.StopWrites(ctx, set.StopMethod, r.c.ObjectName(), r.plans, min(set.PauseBudget/2, 30*time.Second))
	if err != nil {
		return "", err
	}
	// What was on its way to its end has a moment for it.
	for end := time.Now().Add(2 * time.Second); ; {
		e := r.v.unended(ctx, r.c, r.plans, Glances)
		if block := blocking(e, "dustyferry cutover ready "+r.c.Name); block == "" {
			break
		} else if time.Now().After(end) {
			return "", domain.Conflict("writes cannot be stopped: %s", block)
		}
		if !waits.Sleep(ctx, 50*time.Millisecond) {
			return "", context.Cause(ctx)
		}
	}
	return fmt.Sprintf("writes to %s are stopped (%s)", domain.Many(len(r.plans), "table"), set.StopMethod), nil
}

func (r *run) markEnd(ctx context.Context) (string, error) {
	// No table can be altered any more: now it is certain that none was.
	cat, err := r.v.Catalog(ctx, r.c.Source, true)
	if err != nil {
		return "", err
	}
	tables, err := r.v.Store.Tables(ctx, r.c.ID)
	if err != nil {
		return "", err
	}
	if block := blocking(provedInside(columnEntries(r.c, cat, tables), r.k.Settings.V.CutoverDepth), "dustyferry cutover ready "+r.c.Name); block != "" {
		return "", domain.Conflict("not ready: %s", block)
	}
	lost, err := r.src.Mind(ctx, r.c.CaptureName(), r.plans, func(string) error { return nil })
	if err != nil {
		return "", err
	}
	if len(lost) > 0 {
		return "", domain.Conflict("not ready: changes of %s are not in what capture reads any more; load it again: dustyferry crossing restart %s --table %s", lost[0], r.c.Name, lost[0])
	}
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
	ask := func() (bool, error) {
		return r.v.Store.Ask(ctx, r.c.ID, r.by(), "the cutover", "go", domain.Position(r.k.EndPosition))
	}
	for { // what stood still for somebody else has been let go, or lapses
		mine, err := ask()
		if err != nil {
			return "", err
		}
		if mine {
			break
		}
		if !waits.Sleep(ctx, 50*time.Millisecond) {
			return "", context.Cause(ctx)
		}
	}
	defer func() { _ = r.v.Store.LetGo(context.WithoutCancel(ctx), r.c.ID, r.by()) }()
	for n := 1; ; n++ {
		st, err := r.v.Store.Stream(ctx, r.c.ID)
		if err != nil {
			return "", err
		}
		if st != nil && st.Wish() == (records.Wish{What: "reached", At: domain.Position(r.k.EndPosition), By: r.by()}) {
			r.drained = drained{epoch: st.Epoch, changes: st.Answered}
			return fmt.Sprintf("everything up to it was applied in %s", time.Since(from).Round(time.Millisecond)), nil
		}
		if n%100 == 0 { // the wish lapses unless it is repeated
			if st == nil || st.Ask == "" {
				_, err = ask()
			} else {
				err = r.v.Store.KeepAsking(ctx, r.c.ID, r.by())
			}
			if err != nil {
				return "", err
			}
			_, _ = r.src.Heartbeat(ctx)
		}
		if !waits.Sleep(ctx, 20*time.Millisecond) {
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
	if err := r.v.reconcile(ctx, r.c, id, r.k.Settings.V.StopMethod != domain.StopWord, nil); err != nil {
		return "", err
	}
	res, err := r.v.Store.Reconciliation(ctx, r.c.ID, id)
	if err != nil {
		return "", err
	}
	if res.Findings > 0 {
		return "", domain.Conflict("reconciliation %d found %d differences; see 'dustyferry findings %s'", id, res.Findings, r.c.Name)
	}
	return fmt.Sprintf("%s, %s alike on both sides (%s)", domain.Many(res.Tables, "table"), domain.Many(res.SourceRows, "row"), depth), nil
}

func (r *run) sequences(ctx context.Context) (string, error) {
	cat, err := r.v.Store.CatalogOf(ctx, r.c.ID)
	if err != nil {
		return "", err
	}
	values, err := r.src.SequenceValues(ctx, cat.SequencesOf(r.plans))
	if err != nil {
		return "", err
	}
	for i := range values {
		values[i].Sequence = ownedThere(values[i].Sequence, r.plans)
	}
	return domain.Many(len(values), "sequence") + " moved", r.dst.SetSequences(ctx, values)
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
		return "the person's word stands; the source is not closed by us", r.stillQuiet(ctx)
	}
	if err := r.stop.CloseWrites(ctx, msg); err != nil {
		return "", err
	}
	// Locks bind everyone; that nobody wrote in spite of another way is looked for.
	if r.k.Settings.V.StopMethod != domain.StopLock {
		if err := r.stillQuiet(ctx); err != nil {
			return "", err
		}
	}
	return "writes to the source now fail, saying that the tables have moved", nil
}

// drained is what whoever follows had applied when the end was reached.
type drained struct{ epoch, changes int64 }

// stillQuiet makes sure that no row has changed on the source since its writes were stopped,
// as by what it is a replica of, by an event of its own, or by users whom nothing binds: the
// log is applied to where it ends now, and must hold nothing of the tables.
func (r *run) stillQuiet(ctx context.Context) error {
	before, end := r.drained, domain.Position(r.k.EndPosition)
	at, err := r.src.Heartbeat(ctx)
	if err != nil {
		return err
	}
	if at <= domain.Position(r.k.EndPosition) {
		return nil
	}
	r.k.EndPosition = records.Pos(at)
	if err := r.v.Store.SetEnd(ctx, r.k.ID, at, 0); err != nil {
		return err
	}
	if _, err := r.drain(ctx); err != nil {
		return err
	}
	if r.drained.epoch != before.epoch {
		return domain.Conflict("capture was taken over while writes were stopped, so it is not known whether rows changed since: cut over again")
	}
	n := r.drained.changes - before.changes
	if n == 0 {
		return nil
	}
	var tables []string
	for range 30 { // whoever follows tells of them once a second
		list, err := r.v.Store.RecentlyApplied(ctx, r.c.ID)
		if err == nil && len(list) > 0 && list[0].Position > end {
			tables = list[0].Tables
			break
		}
		if !waits.Sleep(ctx, 50*time.Millisecond) {
			break
		}
	}
	return domain.Conflict("%s of %s came to the source after its writes were stopped: something writes that the stop does not bind (a replica's own source, an event, a user above it). Find and stop it, then cut over again",
		domain.Many(int(n), "change"), cmp.Or(strings.Join(tables, ", "), "the tables"))
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
		answer, err := r.askWebhook(ctx, set.HandoverURL, body)
		if err != nil {
			return "", err
		}
		note = "the webhook answered " + answer
	}
	if set.HandoverCommand != "" {
		limit, cancel := context.WithTimeout(ctx, time.Minute)
		defer cancel()
		cmd := exec.CommandContext(limit, "/bin/sh", "-c", set.HandoverCommand)
		cmd.Env = append(os.Environ(), "DUSTYFERRY_CROSSING="+r.c.Name, "DUSTYFERRY_TARGET="+r.c.Target)
		cmd.Stdin = bytes.NewReader(body)
		out, err := cmd.CombinedOutput()
		ended := "ran"
		if err != nil {
			ended = "failed: " + err.Error()
		}
		r.v.Record(ctx, domain.JournalEntry{Actor: r.k.Actor, Crossing: r.c.Name, Act: "hand over", Severity: "warning",
			Message: "the hand-over command " + ended, Detail: set.HandoverCommand + "\n→\n" + strings.TrimSpace(string(out[:min(len(out), 4000)]))})
		if err != nil {
			return "", fmt.Errorf("the hand-over command failed: %w: %s", err, strings.TrimSpace(string(out)))
		}
		note = "the command ran"
	}
	return note, nil
}

// handOverTries is how often a hand-over's webhook is asked.
const handOverTries = 3

// askWebhook tells a webhook of the hand-over. One that does not answer may have acted all the
// same: it is asked again with the same key, by which it can tell that it is the same
// hand-over, before anything is undone; and what is not known then is said.
func (r *run) askWebhook(ctx context.Context, url string, body []byte) (string, error) {
	key := fmt.Sprintf("%s-cutover-%d", r.c.UID, r.k.ID)
	unknown := false
	for try := 1; ; try++ {
		answer, err := outgoing.Post(ctx, url, body, map[string]string{"Idempotency-Key": key})
		if err == nil {
			return answer, nil
		}
		var op *net.OpError
		never := errors.As(err, &op) && op.Op == "dial" // it was not even reached
		refused := outgoing.Answered(err)
		unknown = unknown || !never && !refused
		if refused || ctx.Err() != nil || try == handOverTries {
			if unknown {
				return "", fmt.Errorf("the hand-over webhook: %w. Whether it took effect is not known: it was asked %d times with the Idempotency-Key %s; see there whether applications use the target already, as the source takes writes again", err, try, key)
			}
			return "", fmt.Errorf("the hand-over webhook: %w", err)
		}
		r.v.Say(ctx, "warning", System, r.c.Name, "", "cutover", "the hand-over webhook gave no answer (%s); it is asked again with the same key", err)
		if !waits.Sleep(ctx, time.Duration(try)*time.Second) {
			return "", ctx.Err()
		}
	}
}

func (r *run) release(ctx context.Context) (string, error) {
	if r.stop != nil {
		_ = r.stop.Release(ctx)
	}
	now := time.Now()
	return "the source answers reads only", r.v.Store.SetPause(ctx, r.k.ID, nil, &now)
}
