package stuck

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// server says what waits in it.
type server struct {
	engine.Tells
	locked []string
	what   string
	works  bool
	fails  error
}

func (s *server) Locked(context.Context, time.Duration) ([]string, error) { return s.locked, s.fails }
func (s *server) Doing(context.Context, string) (string, bool, error) {
	return s.what, s.works, s.fails
}

// servers are those that answer.
type servers map[string]*server

func (s servers) Open(_ context.Context, name string) (*engine.Opened, error) {
	if s[name] == nil {
		return nil, errors.New(name + " is away")
	}
	if s[name].what == "mute" {
		return &engine.Opened{}, nil
	}
	return &engine.Opened{Tells: s[name]}, nil
}

// TestWhatATaskWaitsFor is noted while it lasts, and told of once; a task that has just begun, and a
// server that is away, are let be.
func TestWhatATaskWaitsFor(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var noted, said []string
		w := &Tasks{Databases: servers{"new": {locked: []string{"CREATE INDEX waits for ann's VACUUM"}}}, Limit: time.Minute,
			Note: func(_ context.Context, task int64, text string) error {
				noted = append(noted, fmt.Sprint(task, " ", text))
				return nil
			},
			Recordf: func(_ context.Context, _, _, _, _, _, format string, args ...any) {
				said = append(said, fmt.Sprintf(format, args...))
			}}
		ctx, cancel := context.WithTimeout(t.Context(), 170*time.Second)
		defer cancel()
		w.Watch(ctx, &domain.Crossing{Name: "spring", Source: "old", Target: "new"}, &domain.Task{ID: 9, Kind: "build"})
		if len(noted) != 4 || !strings.Contains(noted[0], "9 nothing has moved for 1m0s: on the target, CREATE INDEX waits") {
			t.Errorf("noted %q", noted)
		}
		if len(said) != 1 || !strings.HasPrefix(said[0], "build of spring: nothing has moved for 1m0s") {
			t.Errorf("said %q", said)
		}
	})
}

// TestWhatStandsStill: a number that grows with every sign of life.
func TestWhatStandsStill(t *testing.T) {
	var w Watch
	at := time.Unix(1000, 0)
	for _, x := range []struct {
		after time.Duration
		steps int64
		want  time.Duration
	}{{0, 5, 0}, {59 * time.Second, 5, 0}, {60 * time.Second, 5, time.Minute}, {61 * time.Second, 6, 0},
		{130 * time.Second, 6, 69 * time.Second}} {
		if d := w.Since(at.Add(x.after), x.steps, time.Minute); d != x.want {
			t.Errorf("after %s: %s, not %s", x.after, d, x.want)
		}
	}
}

// TestWhoIsAtWork: one side is enough; who does not answer is not, who does not know may be for a
// while.
func TestWhoIsAtWork(t *testing.T) {
	c := &domain.Crossing{Source: "old", Target: "new"}
	doing := func(s servers, stood time.Duration) (string, bool) {
		return Asker{Databases: s, Limit: time.Minute}.Doing(t.Context(), c, &Sessions{"r", "w"}, stood)
	}
	for _, x := range []struct {
		s     servers
		stood time.Duration
		want  string
		works bool
	}{
		{servers{"old": {what: "waits for us"}, "new": {what: "builds", works: true}}, time.Minute,
			"on the source waits for us, on the target builds", true},
		{servers{"old": {what: "waits for us"}, "new": {what: "a lock"}}, time.Minute, "a lock", false},
		{servers{"old": {what: "idle"}}, time.Minute, "nobody answers: new is away", false},
		{servers{"old": {what: "idle"}, "new": {fails: errors.New("cut")}}, time.Minute, "nobody answers: cut", false},
		{servers{"old": {what: engine.UnknownSession}, "new": {what: "idle"}}, time.Minute, engine.UnknownSession, true},
		{servers{"old": {what: engine.UnknownSession}, "new": {what: "idle"}}, 11 * time.Minute, engine.UnknownSession,
			false},
		{servers{"old": {what: "mute"}, "new": {what: "idle"}}, time.Minute, "its engine does not tell", true},
	} {
		if word, works := doing(x.s, x.stood); works != x.works || !strings.Contains(word, x.want) {
			t.Errorf("%q, %v; not %q, %v", word, works, x.want, x.works)
		}
	}
	if word, works := (Asker{}).Doing(t.Context(), c, nil, time.Minute); works ||
		!slices.Contains([]string{"the connections could not be opened"}, word) {
		t.Errorf("%q", word)
	}
}
