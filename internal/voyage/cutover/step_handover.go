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
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepHandOver, Order: 90, Limit: handOverLimit, Real: true,
	Forward: true, Do: handOver})

// handOverLimit is how long webhook and command may take together.
const handOverLimit = 5 * time.Minute

// handOver tells the applications: a webhook, a command, both or none.
func handOver(ctx context.Context, r *run) (string, error) {
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
				return "", fmt.Errorf("the hand-over webhook: %w. Whether it took effect is not known: it was asked %d times "+
					"with the Idempotency-Key %s; see there whether applications use the target already, as the source takes "+
					"writes again", err, try, key)
			}
			return "", fmt.Errorf("the hand-over webhook: %w", err)
		}
		r.of.journal.Recordf(ctx, "warning", journal.System, r.c.Name, "", "cutover",
			"the hand-over webhook gave no answer (%s); it is asked again with the same key", err)
		if !waits.Sleep(ctx, time.Duration(try)*time.Second) {
			return "", ctx.Err()
		}
	}
}
