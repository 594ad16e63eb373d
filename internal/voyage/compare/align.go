package compare

import (
	"cmp"
	"context"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/waits"
)

// aligned is source and target seen at one shared log position.
type aligned struct {
	source, target engine.View
	at             domain.Position
	hashBy         string // see [domain.HashByServers]
	// anew runs f with views of both sides at another, later position; nil: nothing changes on them.
	anew  func(f func(*aligned) error) error
	tried *bool // whether servers hashed faster than we, the last time that both was tried
}

// releaseLocks ends a look at a table, which came to err: others may empty or alter the table again.
func (a *aligned) releaseLocks(ctx context.Context, err error) error {
	for _, v := range []engine.View{a.source, a.target} {
		if l, ok := v.(engine.ReleasesLocks); ok && ctx.Err() == nil {
			err = cmp.Or(err, l.ReleaseLocks(ctx))
		}
	}
	return err
}

// alignment says how views are opened.
type alignment struct {
	quiet    bool          // nothing changes on either side
	standing bool          // the applier stands still until the end
	sake     string        // what for
	limit    time.Duration // how long the source may take to give its snapshot; 0: 20 s
	note     func(string)  // is told of waiting; may be nil
}

func (a *aligned) close() {
	a.source.Close()
	a.target.Close()
}

// align opens views of both sides that hold exactly the same transactions,
// while both databases stay live: the applier stops between two transactions,
// a source snapshot with a known position is taken, the applier goes exactly
// there, the target's view is opened. Then f runs; with standing, the applier
// stands still meanwhile, otherwise it goes on at once. Who comes while the
// applier stands for somebody else waits for its turn, and says so.
//
// With quiet (writes are stopped and everything is drained), or when nothing is
// captured, plain views are enough.
func (k *Comparer) align(ctx context.Context, c *domain.Crossing, how alignment, f func(*aligned) error) error {
	src, dst, err := k.databases.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	if err := cmp.Or(src.Need(c.Source, engine.CanCompare), dst.Need(c.Target, engine.CanCompare)); err != nil {
		return err
	}
	a := &aligned{hashBy: c.Settings.HashBy}
	if how.quiet || c.Kind == domain.KindLoad || c.Phase == domain.PhaseCutOver {
		if a.source, _, err = src.OpenView(ctx, false, 0); err != nil {
			return err
		}
		if a.target, _, err = dst.OpenView(ctx, false, 0); err != nil {
			a.source.Close()
			return err
		}
		defer a.close()
		return f(a)
	}
	if !how.standing {
		a.anew = func(f func(*aligned) error) error {
			return k.align(ctx, c, how, func(now *aligned) error {
				now.anew = nil // a second look is enough
				return f(now)
			})
		}
	}
	by := k.newUID()
	if err := k.turn(ctx, c, by, how); err != nil {
		return err
	}
	run, cancel := context.WithCancel(ctx)
	var keep sync.WaitGroup
	keep.Go(func() {
		waits.Every(run, 3*time.Second, func() { _ = k.records.KeepAsking(run, c.ID, by) })
	})
	letGo := func() {
		cancel()
		keep.Wait()
		end, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer done()
		_ = k.records.LetGo(end, c.ID, by)
	}
	freed := false
	defer func() {
		if !freed {
			letGo()
		}
	}()
	if err := k.awaitAnswer(ctx, c, domain.Request{What: "holding", By: by}, 90*time.Second, nil); err != nil {
		return err
	}
	if a.source, a.at, err = src.OpenView(ctx, true, cmp.Or(how.limit, 20*time.Second)); err != nil {
		return err
	}
	defer a.source.Close()
	lapsed := domain.Unavailable(nil, "the shared position was lost again, as this process stood still too "+
		"long; try again")
	if ok, err := k.records.Follow(ctx, c.ID, by, a.at); err != nil || !ok {
		return cmp.Or(err, lapsed)
	}
	// Something must come after the position, or an idle source would not tell
	// that nothing else does.
	push := func() { _, _ = src.Heartbeat(ctx) }
	push()
	if err := k.awaitAnswer(ctx, c, domain.Request{What: "reached", At: a.at, By: by}, 2*time.Minute, push); err != nil {
		return err
	}
	if a.target, _, err = dst.OpenView(ctx, false, 0); err != nil {
		return err
	}
	defer a.target.Close()
	if st, err := k.records.Stand(ctx, c.ID); err != nil || st == nil ||
		st.Request != (domain.Request{What: "reached", At: a.at, By: by}) {
		return cmp.Or(err, lapsed)
	}
	if !how.standing {
		letGo()
		freed = true
	}
	return f(a)
}

// turn waits until the applier stands still for nobody else, and asks it to hold.
func (k *Comparer) turn(ctx context.Context, c *domain.Crossing, by string, how alignment) error {
	for n := 0; ; n++ {
		mine, err := k.records.Ask(ctx, c.ID, by, how.sake, "hold", domain.Position{})
		if err != nil || mine {
			return err
		}
		st, err := k.records.Stand(ctx, c.ID)
		if err != nil {
			return err
		}
		if st == nil {
			return domain.Conflict("crossing %s follows no changes, so both sides cannot be brought to a shared position",
				c.Name)
		}
		if n == 1 && how.note != nil {
			how.note("waiting for its turn: " + st.For + " has both sides stand at a shared position")
		}
		if !waits.Sleep(ctx, 200*time.Millisecond) {
			return ctx.Err()
		}
	}
}

// awaitAnswer waits until the applier has done what it was asked for: as long as it comes
// nearer, as through a large transaction, and for the limit while it does not, as when a
// process died and another has yet to take the stream over.
func (k *Comparer) awaitAnswer(ctx context.Context, c *domain.Crossing, want domain.Request, limit time.Duration,
	push func()) error {
	type place struct {
		epoch, changes int64
		applied        domain.Position
	}
	var at place
	began := time.Now()
	end, last := time.Now().Add(limit), time.Now().Add(10*limit)
	for n := 1; time.Now().Before(end) && time.Now().Before(last); n++ {
		st, err := k.records.Stand(ctx, c.ID)
		if err != nil {
			return err
		}
		if st != nil {
			if now := (place{st.Epoch, st.Changes, st.Applied}); now != at {
				at, end = now, time.Now().Add(limit)
			}
			if now := st.Request; now.By == want.By && now.What == want.What && (want.At.IsZero() || now.At == want.At) {
				return nil
			}
			if st.Request.By != want.By {
				return domain.Unavailable(nil, "the shared position was lost again, as this process stood still too "+
					"long; try again")
			}
		}
		if n%20 == 0 {
			if err := k.unalignable(ctx, c, st); err != nil {
				return err
			}
			if push != nil {
				push()
			}
		}
		if !waits.Sleep(ctx, 50*time.Millisecond) {
			return ctx.Err()
		}
	}
	return domain.Unavailable(nil, "capture did not come to a stand at a shared position within %s, so both sides "+
		"cannot be compared; see whether capture runs ('dustyferry crossing show %s') and try again",
		time.Since(began).Round(time.Second), c.Name)
}

// unalignable says why a crossing cannot come to a shared position as it is now.
func (k *Comparer) unalignable(ctx context.Context, c *domain.Crossing, st *domain.Stand) error {
	now, err := k.records.CrossingByID(ctx, c.ID)
	switch {
	case err != nil:
		return err
	case now.Phase == domain.PhaseLoading:
		return domain.Conflict("tables of %s are being loaded again meanwhile; compare when it is in step", c.Name)
	case now.Condition == domain.ConditionPaused && !now.KeepCapture:
		return domain.Conflict("crossing %s is paused (%s), and both sides can only be compared while capture runs; "+
			"resume it first", c.Name, now.Reason)
	case now.Condition == domain.ConditionHeld && st != nil && st.Failures < 0:
		return domain.Conflict("capture of %s is held, so both sides cannot be compared: %s", c.Name, now.Reason)
	}
	return nil
}
