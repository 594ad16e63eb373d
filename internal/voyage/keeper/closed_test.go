package keeper

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// shut is a source that a cutover closed, and its server.
type shut struct {
	*watch
	list     []domain.ClosedSource
	open     bool
	up       time.Duration
	broken   error
	back     bool // a way back begins between the two looks
	looks    int
	marks    []bool
	remained bool
}

func (s *shut) ClosedSources(context.Context) ([]domain.ClosedSource, error) {
	if s.looks++; s.back && s.looks > 1 {
		return nil, nil
	}
	return s.list, nil
}
func (s *shut) ClosedAgain(_ context.Context, _ int64, opened bool) error {
	s.marks = append(s.marks, opened)
	return nil
}
func (s *shut) Open(context.Context, string) (*engine.Opened, error) {
	if s.remained {
		return &engine.Opened{}, nil
	}
	return &engine.Opened{Forgets: s}, nil
}
func (s *shut) TakesWrites(context.Context, domain.StopMethod) (bool, time.Duration, error) {
	return s.open, s.up, s.away
}
func (s *shut) CloseAgain(context.Context, domain.StopMethod) error {
	if s.broken == nil {
		s.open = false
		s.did = append(s.did, "close")
	}
	return s.broken
}

// TestAClosedSourceStaysClosed: one whose server was restarted is closed again, and told of; one that a person
// opened, or to which a way back leads now, is not.
func TestAClosedSourceStaysClosed(t *testing.T) {
	for name, x := range map[string]struct {
		with  func(s *shut)
		want  string // what is done and told
		marks string
	}{
		"it is closed": {func(s *shut) { s.open = false }, "", ""},
		"it was restarted": {func(*shut) {}, "close|warning: old was restarted, took writes for up to 3s, and is closed " +
			"again; look whether anything was written there meanwhile|event held", "false"},
		"a person opened it": {func(s *shut) { s.up = time.Hour },
			"warning: somebody has let old take writes again|event held", "true"},
		"a way back begins": {func(s *shut) { s.back = true }, "", ""},
		"it cannot be closed": {func(s *shut) { s.broken = errors.New("access denied") },
			"warning: old was restarted and takes writes again, and cannot be closed: access denied|event held", ""},
		"it is away":         {func(s *shut) { s.away = errors.New("away") }, "", ""},
		"it forgets nothing": {func(s *shut) { s.remained = true }, "", ""},
	} {
		s := &shut{watch: &watch{}, open: true, up: 2 * time.Second, list: []domain.ClosedSource{{Crossing: domain.Crossing{
			Name: "spring", Source: "old", Target: "new"}, Cutover: 7, Method: domain.StopReadOnly,
			Since: time.Now().Add(-time.Minute)}}}
		x.with(s)
		k := &ClosedSources{Records: s, Databases: s, Journal: s, Log: slog.New(slog.NewTextHandler(io.Discard, nil))}
		for range 2 { // and it is said once
			if err := k.Do(t.Context()); err != nil {
				t.Errorf("%s: %v", name, err)
			}
			if len(s.marks) > 0 && s.marks[0] {
				s.list = nil // as the records then say
			}
		}
		want := strings.Split(x.want, "|")
		if x.want == "" {
			want = nil
		}
		ok := len(s.did) == len(want)
		for i := range want {
			ok = ok && strings.HasPrefix(s.did[i], want[i])
		}
		if marks := strings.Join(boolTexts(s.marks), " "); !ok || marks != x.marks {
			t.Errorf("%s: %q, kept %q", name, s.did, marks)
		}
	}
}

func boolTexts(list []bool) (out []string) {
	for _, b := range list {
		out = append(out, map[bool]string{true: "true", false: "false"}[b])
	}
	return out
}
