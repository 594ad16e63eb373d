package cutover

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/outgoing"
	"dustyferry/internal/voyage/steps"
	"dustyferry/internal/voyage/waits"
)

// From here on there is no way back, unless nobody took the hand-over up.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepHandOver, Order: 90, Real: true, Forward: true,
	Do: handOver})

// handOver tells the applications: a webhook, a command, both or none.
func handOver(ctx context.Context, r *run) (string, error) {
	if _, _, err := r.said(ctx); err != nil {
		return "", err // an abort that came just in time: nobody was told yet
	}
	set := r.k.Settings
	note := "no webhook or command is set; the target is ready"
	body, err := json.Marshal(map[string]any{"event": "hand over", "crossing": r.c.Name, "source": r.c.Source,
		"target":       r.c.Target,
		"end_position": r.of.databases.Position(ctx, r.c.Source, r.k.EndPosition)})
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
		r.of.journal.Record(ctx, domain.JournalEntry{Actor: r.k.Actor, Crossing: r.c.Name, Act: "hand over",
			Severity: "warning", Message: "the hand-over command " + ended,
			Detail: set.HandoverCommand + "\n→\n" + strings.TrimSpace(string(out[:min(len(out), 4000)]))})
		if err != nil {
			return "", fmt.Errorf("the hand-over command failed: %w: %s", err, strings.TrimSpace(string(out)))
		}
		note = "the command ran"
	}
	return note, nil
}

// handOverTries is how often a hand-over's webhook is asked before a person is.
const handOverTries = 3

// askAgain is how often it is asked while a person is waited for.
const askAgain = 10 * time.Second

// askWebhook tells a webhook of the hand-over. One that does not answer may have acted all the
// same: it is asked again with the same key, by which it can tell that it is the same
// hand-over. If it still gives no answer neither side can be opened without the danger that
// applications write to both: the source stays closed until it answers, or a person decides.
func (r *run) askWebhook(ctx context.Context, url string, body []byte) (string, error) {
	key := fmt.Sprintf("%s-cutover-%d", r.c.UID, r.k.ID)
	unknown, asked := false, false
	for try := 1; ; try++ {
		answer, err := outgoing.Post(ctx, url, body, map[string]string{"Idempotency-Key": key})
		if err == nil {
			return answer, nil
		}
		var op *net.OpError
		never := errors.As(err, &op) && op.Op == "dial" // it was not even reached
		refused := outgoing.Answered(err)
		unknown = unknown || !never && !refused
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		wait := time.Duration(try) * time.Second
		switch enough := refused || try >= handOverTries; {
		case enough && !unknown:
			return "", fmt.Errorf("the hand-over webhook: %w", err)
		case enough:
			if !asked {
				asked = true
				if err := r.tellUnknown(ctx, err, try, key); err != nil {
					return "", err
				}
			}
			wait = askAgain
		default:
			r.of.journal.Recordf(ctx, "warning", journal.System, r.c.Name, "", "cutover",
				"the hand-over webhook gave no answer (%s); it is asked again with the same key", err)
		}
		if by, decided, err := r.decided(ctx, wait); err != nil || decided {
			return "nothing; " + by + " said that it took effect", err
		}
	}
}

// tellUnknown has a person asked what came of the hand-over.
func (r *run) tellUnknown(ctx context.Context, why error, tries int, key string) error {
	text := fmt.Sprintf("the hand-over webhook was told, its answer is unknown (%s; asked %s with Idempotency-Key %s): "+
		"the source stays closed. See whether applications use %s; if so: dustyferry cutover confirm %s, if not: dustyferry "+
		"cutover abort %s", why, domain.Counted(tries, "time", "times"), key, r.c.Target, r.c.Name, r.c.Name)
	r.of.journal.Recordf(ctx, "error", journal.System, r.c.Name, "", "cutover", "%s", text)
	r.of.journal.Notify(ctx, r.c, journal.EventHeld, text)
	return r.of.records.AwaitPerson(ctx, r.k.ID, domain.StepHandOver, domain.AwaitsOutcome, text)
}

// said is what a person has said of the hand-over: who said that it took effect; an error where it did
// not.
func (r *run) said(ctx context.Context) (by string, yes bool, err error) {
	k, err := r.of.records.Cutover(ctx, r.k.ID)
	switch by = k.GoneOn[string(domain.StepHandOver)]; {
	case err != nil: // the records are away for a moment: nobody has said anything
		return "", false, nil
	case by != "":
		return by, true, nil
	case k.AbortBy != "":
		return "", false, fmt.Errorf("aborted by %s, before the hand-over took effect", k.AbortBy)
	}
	return "", false, nil
}

// decided waits a while for a person to say it.
func (r *run) decided(ctx context.Context, wait time.Duration) (by string, yes bool, err error) {
	for end := time.Now().Add(wait); time.Now().Before(end); {
		if by, yes, err = r.said(ctx); yes || err != nil {
			return by, yes, err
		}
		if !waits.Sleep(ctx, min(200*time.Millisecond, max(time.Until(end), time.Millisecond))) {
			return "", false, ctx.Err()
		}
	}
	return "", false, nil
}
