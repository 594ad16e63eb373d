package voyage

import (
	"context"
	"errors"
	"math"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"dustyferry/internal/core/pace"
	"dustyferry/internal/voyage/waits"
)

// rateLimiter hold a crossing's lanes in this process back together.
type rateLimiter struct {
	bytes, rows *rate.Limiter
	share       atomic.Uint64 // bits of the share of its time for which a lane may read
}

// brakesOf returns the crossing's rateLimiter, set to the limits of this moment.
func (v *Voyage) brakesOf(crossing int64, l pace.Limits) *rateLimiter {
	v.mu.Lock()
	defer v.mu.Unlock()
	b := v.rateLimiter[crossing]
	if b == nil {
		if v.rateLimiter == nil {
			v.rateLimiter = map[int64]*rateLimiter{}
		}
		b = &rateLimiter{bytes: rate.NewLimiter(rate.Inf, 1<<20), rows: rate.NewLimiter(rate.Inf, 1<<20)}
		v.rateLimiter[crossing] = b
	}
	set(b.bytes, l.Bytes, 1<<20)
	set(b.rows, l.Rows, 1000)
	b.share.Store(math.Float64bits(l.Share))
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
func (b *rateLimiter) pass(ctx context.Context, n int, density float64) error {
	if b.rows.Limit() != rate.Inf {
		if err := wait(ctx, b.rows, int(float64(n)*density)); err != nil {
			return err
		}
	}
	return wait(ctx, b.bytes, n)
}

// wait lets n pass, a quarter of a second's worth at a time: a wait that has begun
// keeps to the limit it began with, and a person who lifts a low limit must not wait
// for what a whole block would have taken.
func wait(ctx context.Context, limit *rate.Limiter, n int) error {
	for n > 0 {
		step := min(n, limit.Burst(), max(int(min(limit.Limit()/4, 1<<20)), 1))
		if err := limit.WaitN(ctx, step); err != nil {
			return err
		}
		n -= step
	}
	return nil
}

// rest lets the source rest after a lane has read for a while, so that reading takes
// its share of the time.
func (b *rateLimiter) rest(ctx context.Context, read time.Duration) error {
	share := math.Float64frombits(b.share.Load())
	if share <= 0 || read <= 0 {
		return nil
	}
	if pause := time.Duration(float64(read) * (1 - share) / share); pause > 0 && !waits.Sleep(ctx, min(pause, 5*time.Second)) {
		return ctx.Err()
	}
	return nil
}

// pace looks at the number of lanes of the loads that leave it to be found.
func (v *Voyage) pace(ctx context.Context) error {
	list, err := v.Store.Pacings(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		p := &list[i]
		set := p.Settings.V
		if set.LeastLanes == 0 {
			err = errors.Join(err, v.Store.SavePace(ctx, p.ID, 0, pace.State{}))
			continue
		}
		look := pace.Look{At: time.Now(), Moved: p.Moved, Least: set.LeastLanes, Most: set.Lanes, Busy: p.Busy}
		for i, name := range []string{p.Source, p.Target} {
			look.Trips[i] = v.trip(ctx, name)
		}
		next := pace.Next(p.State.V, look)
		if next.Lanes != int(p.Now.Int64) {
			v.Say(ctx, "info", System, p.Name, "", "lanes", "%s of %d: %s", counted(next.Lanes, "lane", "lanes"), set.Lanes, next.Reason)
		}
		err = errors.Join(err, v.Store.SavePace(ctx, p.ID, next.Lanes, next))
	}
	return err
}

// probe is the last round trip of a small query to a database.
type probe struct {
	seconds float64
	asking  bool
}

// trip is what a small query beside the load took last, seconds; 0 when that is not
// known. It asks anew beside the keeper, who waits for no server.
func (v *Voyage) trip(ctx context.Context, name string) float64 {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.probes == nil {
		v.probes = map[string]*probe{}
	}
	p := v.probes[name]
	if p == nil {
		p = &probe{}
		v.probes[name] = p
	}
	if !p.asking {
		p.asking = true
		v.loops.Go(func() {
			seconds := v.ask(ctx, name)
			v.mu.Lock()
			defer v.mu.Unlock()
			p.seconds, p.asking = seconds, false
		})
	}
	return p.seconds
}

// ask runs a small query; no answer within five seconds is one of five seconds.
func (v *Voyage) ask(ctx context.Context, name string) float64 {
	limit, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	db, err := v.Open(limit, name)
	if err != nil || db.Tells == nil {
		return 0
	}
	began := time.Now()
	if _, err := db.Clock(limit); err != nil && limit.Err() == nil {
		return 0
	}
	return time.Since(began).Seconds()
}
