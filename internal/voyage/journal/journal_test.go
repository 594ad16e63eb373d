package journal

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

// kept is a journal's records in memory.
type kept struct {
	lines    []domain.JournalEntry
	holds    []string
	troubles []string
	paused   bool // the crossing is: it cannot be held
	hooks    []domain.Webhook
	sent     map[int64][]string
	broken   error
}

func (k *kept) Write(_ context.Context, e domain.JournalEntry) error {
	k.lines = append(k.lines, e)
	return k.broken
}

func (k *kept) Hold(_ context.Context, _ int64, reason string) (bool, error) {
	k.holds = append(k.holds, reason)
	return !k.paused, k.broken
}

func (k *kept) SetTrouble(_ context.Context, _ int64, text string) (bool, error) {
	k.troubles = append(k.troubles, text)
	return true, nil
}

func (k *kept) CrossingByID(context.Context, int64) (domain.Crossing, error) {
	return domain.Crossing{Phase: domain.PhaseInStep, Condition: domain.ConditionHeld}, nil
}

func (k *kept) Webhooks(context.Context) ([]domain.Webhook, error) { return k.hooks, k.broken }

func (k *kept) AddDelivery(_ context.Context, webhook int64, _, body string) error {
	if k.sent == nil {
		k.sent = map[int64][]string{}
	}
	k.sent[webhook] = append(k.sent[webhook], body)
	return nil
}

func with(k *kept) (*Journal, *bytes.Buffer) {
	var log bytes.Buffer
	return New(k, slog.New(slog.NewTextHandler(&log, nil))), &log
}

var spring = &domain.Crossing{ID: 7, Name: "spring"}

func TestALineIsWrittenWhateverBecomesOfTheWork(t *testing.T) {
	k := &kept{}
	j, log := with(k)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	j.Recordf(ctx, "warning", "ann", "spring", "a.jars", "pause", "%s paused %s", "ann", "spring")
	want := domain.JournalEntry{Actor: "ann", Crossing: "spring", Subject: "a.jars", Act: "pause", Severity: "warning",
		Message: "ann paused spring"}
	if len(k.lines) != 1 || k.lines[0] != want {
		t.Errorf("written: %+v", k.lines)
	}
	if !strings.Contains(log.String(), "level=WARN") || !strings.Contains(log.String(), "ann paused spring") {
		t.Errorf("logged: %s", log)
	}
	k.broken = errors.New("no room")
	j.Recordf(ctx, "info", "ann", "", "", "start", "more")
	if !strings.Contains(log.String(), "no room") {
		t.Errorf("a line that was lost is not logged: %s", log)
	}
}

func TestAHoldIsKeptEvenBesideAPause(t *testing.T) {
	for _, paused := range []bool{false, true} {
		k := &kept{paused: paused, hooks: []domain.Webhook{{ID: 1, Crossings: "*"}}}
		j, _ := with(k)
		j.Hold(t.Context(), spring, "a.jars", "the disk is full")
		if !slices.Equal(k.holds, []string{"the disk is full"}) || (len(k.troubles) == 1) != paused {
			t.Errorf("paused %v: holds %q, troubles %q", paused, k.holds, k.troubles)
		}
		if len(k.lines) != 1 || k.lines[0].Act != "hold" || k.lines[0].Severity != "error" || k.lines[0].Actor != System {
			t.Errorf("written: %+v", k.lines)
		}
		var n Notice
		if len(k.sent[1]) != 1 || json.Unmarshal([]byte(k.sent[1][0]), &n) != nil || n.Event != EventHeld ||
			n.Phase != "in step" || n.Condition != "held" || n.Message != "the disk is full" {
			t.Errorf("on its way: %v", k.sent)
		}
	}
}

func TestWebhooksHearWhatTheyAskedFor(t *testing.T) {
	k := &kept{hooks: []domain.Webhook{
		{ID: 1, Crossings: "*"}, {ID: 2, Crossings: "*", Events: []string{EventLag}}, {ID: 3, Crossings: "autumn*"},
		{ID: 4, Crossings: "spr*", Events: []string{EventLag, EventLoaded}}}}
	j, log := with(k)
	j.Notify(t.Context(), spring, EventLoaded, "all rows have landed")
	for id, want := range map[int64]int{1: 1, 2: 0, 3: 0, 4: 1} {
		if len(k.sent[id]) != want {
			t.Errorf("webhook %d is sent %d things, want %d", id, len(k.sent[id]), want)
		}
	}
	k.broken = errors.New("away")
	j.Notify(t.Context(), spring, EventLoaded, "again")
	if !strings.Contains(log.String(), "webhooks could not be read") {
		t.Errorf("logged: %s", log)
	}
}
