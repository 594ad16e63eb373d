// Package waits is how the work waits: for a while, at a pace, longer after each failure, and
// never beyond its context.
package waits

import (
	"context"
	"math/rand/v2"
	"time"
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
