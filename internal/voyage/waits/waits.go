// Package waits is how the work waits: for a while, at a pace, longer after each failure, and
// never beyond its context.
package waits

import (
	"context"
	"math/rand/v2"
	"time"

	"golang.org/x/time/rate"
)

// Sleep waits, and reports whether the context is still alive.
func Sleep(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return ctx.Err() == nil
	}
}

// Every calls f at the given pace until the context ends.
func Every(ctx context.Context, pace time.Duration, f func()) {
	t := time.NewTicker(pace)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			if ctx.Err() != nil { // both were ready
				return
			}
			f()
		}
	}
}

// BackOff is how long to wait after so many failures: from a second to a minute, half of it by
// chance, so that lanes do not march in step.
func BackOff(failures int) time.Duration {
	d := min(time.Second<<min(failures, 6), time.Minute)
	return d/2 + rand.N(d/2+1)
}

// Pass lets n pass a limiter, a quarter of a second's worth at a time: a wait that has begun
// keeps to the limit it began with, and a person who lifts a low limit must not wait
// for what a whole block would have taken.
func Pass(ctx context.Context, limit *rate.Limiter, n int) error {
	for n > 0 {
		step := min(n, limit.Burst(), max(int(min(limit.Limit()/4, 1<<20)), 1))
		if err := limit.WaitN(ctx, step); err != nil {
			return err
		}
		n -= step
	}
	return nil
}
