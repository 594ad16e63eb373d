package keeper

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"
)

// house has locks that others may hold.
type house struct {
	mu    sync.Mutex
	taken map[int64]bool
}

func (h *house) Alone(_ context.Context, lock int64, f func() error) (bool, error) {
	h.mu.Lock()
	taken := h.taken[lock]
	h.taken[lock] = true
	h.mu.Unlock()
	if taken {
		return false, nil
	}
	defer func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.taken[lock] = false
	}()
	return true, f()
}

// TestNoServiceHindersAnother: one that stands still, one that fails, one that meets a fault
// and one that another process does.
func TestNoServiceHindersAnother(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	h := &house{taken: map[int64]bool{4: true}}
	var log bytes.Buffer
	var mu sync.Mutex
	done := map[string]int{}
	did := func(name string) int {
		mu.Lock()
		defer mu.Unlock()
		done[name]++
		return done[name]
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		Run(ctx, h, slog.New(slog.NewTextHandler(&log, nil)), []Service{
			{Name: "still", Every: time.Millisecond, Lock: 1, Do: func(ctx context.Context) error {
				did("still")
				<-ctx.Done()
				return ctx.Err()
			}},
			{Name: "fails", Every: time.Millisecond, Lock: 2, Do: func(context.Context) error {
				did("fails")
				return errors.New("no disk")
			}},
			{Name: "faulty", Every: time.Millisecond, Do: func(context.Context) error { did("faulty"); panic("a bug") }},
			{Name: "elsewhere", Every: time.Millisecond, Lock: 4, Do: func(context.Context) error {
				did("elsewhere")
				return nil
			}},
			{Name: "once", Every: time.Hour, Now: true, Do: func(context.Context) error { did("once"); return nil }},
			{Name: "last", Every: time.Millisecond, Lock: 3, Do: func(context.Context) error {
				mu.Lock()
				enough := done["fails"] > 2 && done["faulty"] > 2 && done["still"] > 0
				mu.Unlock()
				if did("last") > 2 && enough {
					cancel()
				}
				return nil
			}},
		})
	}()
	<-ended
	if done["still"] != 1 || done["elsewhere"] != 0 || done["once"] != 1 {
		t.Errorf("rounds: %v", done)
	}
	for _, want := range []string{"service=fails", "no disk", "while=faulty", "a bug"} {
		if !strings.Contains(log.String(), want) {
			t.Errorf("the log lacks %q", want)
		}
	}
	if strings.Contains(log.String(), "service=still") {
		t.Error("a service that was called off is logged as one that failed")
	}
}
