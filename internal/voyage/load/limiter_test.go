package load

import (
	"context"
	"testing"
	"time"

	"golang.org/x/time/rate"

	"dustyferry/internal/core/pace"
)

// TestTheLimiterFollowsTheSettings: a crossing's lanes share one, whose limits change while it
// holds them back.
func TestTheLimiterFollowsTheSettings(t *testing.T) {
	l := empty()
	b := l.limiter(1, pace.Limits{Bytes: 5 << 20})
	if l.limiter(1, pace.Limits{Bytes: 5 << 20}) != b || l.limiter(2, pace.Limits{Bytes: 5 << 20}) == b {
		t.Error("the limiter is not the crossing's own")
	}
	if l.limiter(1, pace.Limits{}); b.bytes.Limit() != rate.Inf || b.rows.Limit() != rate.Inf {
		t.Errorf("without a limit it still holds back: %v", b.bytes.Limit())
	}
	if l.limiter(1, pace.Limits{Bytes: 1000, Rows: 7}); b.bytes.Limit() != 1000 || b.bytes.Burst() < 1<<20 ||
		b.rows.Limit() != 7 {
		t.Errorf("limits %v and %v, burst %d", b.bytes.Limit(), b.rows.Limit(), b.bytes.Burst())
	}
}

// TestLiftingALimitEndsTheWait: a block that waits under a tiny limit goes on as
// soon as the limit is lifted, not when its turn under the old one would have come.
func TestLiftingALimitEndsTheWait(t *testing.T) {
	l := empty()
	b := l.limiter(1, pace.Limits{Bytes: 1000})
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	begun, ended := make(chan bool), make(chan error, 1)
	go func() {
		close(begun)
		ended <- b.pass(ctx, 3<<20, 0) // the better part of an hour
	}()
	<-begun
	for b.bytes.Tokens() > 0 { // until it waits
		time.Sleep(time.Millisecond)
	}
	l.limiter(1, pace.Limits{})
	if err := <-ended; err != nil {
		t.Error(err)
	}
}

// TestReadingTakesItsShare: a lane that may read a quarter of the time rests three
// times as long as it read.
func TestReadingTakesItsShare(t *testing.T) {
	b := empty().limiter(1, pace.Limits{Share: 0.25})
	began := time.Now()
	if err := b.rest(t.Context(), 20*time.Millisecond); err != nil || time.Since(began) < 60*time.Millisecond {
		t.Errorf("rested %s, %v", time.Since(began), err)
	}
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	if err := b.rest(stopped, time.Hour); err == nil {
		t.Error("the rest goes on although the lane is to end")
	}
}

func empty() *Loader { return New(nil, nil, nil, nil, Config{}) }
