package load

import (
	"context"
	"math"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"dustyferry/internal/core/pace"
	"dustyferry/internal/voyage/waits"
)

// limiter holds a crossing's lanes in this process back together.
type limiter struct {
	bytes, rows *rate.Limiter
	share       atomic.Uint64 // bits of the share of its time for which a lane may read
}

// limiter returns what holds the crossing back, set to the limits of this moment.
func (l *Loader) limiter(crossing int64, now pace.Limits) *limiter {
	l.mu.Lock()
	defer l.mu.Unlock()
	b := l.limiters[crossing]
	if b == nil {
		b = &limiter{bytes: rate.NewLimiter(rate.Inf, 1<<20), rows: rate.NewLimiter(rate.Inf, 1<<20)}
		l.limiters[crossing] = b
	}
	set(b.bytes, now.Bytes, 1<<20)
	set(b.rows, now.Rows, 1000)
	b.share.Store(math.Float64bits(now.Share))
	return b
}

// set gives a limiter its limit per second, 0 for none, with a burst of a second's worth.
func set(l *rate.Limiter, perSecond int64, least int) {
	limit, burst := rate.Limit(perSecond), int(max(perSecond, int64(least)))
	if perSecond <= 0 {
		limit, burst = rate.Inf, least
	}
	if l.Limit() != limit {
		l.SetBurst(burst)
		l.SetLimit(limit)
	}
}

// pass waits until n bytes may pass, and the rows that are likely in them.
func (b *limiter) pass(ctx context.Context, n int, density float64) error {
	if b.rows.Limit() != rate.Inf {
		if err := waits.Pass(ctx, b.rows, int(float64(n)*density)); err != nil {
			return err
		}
	}
	return waits.Pass(ctx, b.bytes, n)
}

// rest lets the source rest after a lane has read for a while, so that reading takes
// its share of the time.
func (b *limiter) rest(ctx context.Context, read time.Duration) error {
	share := math.Float64frombits(b.share.Load())
	if share <= 0 || read <= 0 {
		return nil
	}
	if pause := time.Duration(float64(read) * (1 - share) / share); pause > 0 &&
		!waits.Sleep(ctx, min(pause, 5*time.Second)) {
		return ctx.Err()
	}
	return nil
}
