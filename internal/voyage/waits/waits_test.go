package waits

import (
	"context"
	"testing"
	"time"
)

func TestNothingWaitsBeyondItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	if !Sleep(ctx, time.Millisecond) {
		t.Error("a wait that came to its end was taken for one that was called off")
	}
	n := 0
	Every(ctx, time.Millisecond, func() {
		if n++; n == 3 {
			cancel()
		}
	})
	if n != 3 {
		t.Errorf("it was called %d times", n)
	}
	if Sleep(ctx, time.Hour) {
		t.Error("a wait that was called off was taken for one that came to its end")
	}
}

func TestWaitsGrowToAMinute(t *testing.T) {
	for failures, most := range map[int]time.Duration{0: time.Second, 1: 2 * time.Second, 5: 32 * time.Second,
		6: time.Minute, 4000: time.Minute} {
		for range 100 {
			if d := BackOff(failures); d < most/2 || d > most {
				t.Fatalf("after %d failures it waits %s, of %s at most", failures, d, most)
			}
		}
	}
}
