package voyage

import (
	"cmp"
	"context"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
)

// aligned is source and target seen at one shared log position.
type aligned struct {
	source, target engine.View
	at             domain.Position
}

func (a *aligned) close() {
	a.source.Close()
	a.target.Close()
}

// align opens views of both sides that hold exactly the same transactions,
// while both databases stay live: the applier stops between two transactions,
// a source snapshot with a known position is taken, the applier goes exactly
// there, the target's view is opened. Then f runs; with standing, the applier
// stands still meanwhile, otherwise it goes on at once.
//
// With quiet (writes are stopped and everything is drained), or when nothing is
// captured, plain views are enough.
func (v *Voyage) align(ctx context.Context, c *records.Crossing, quiet, standing bool, f func(*aligned) error) error {
	src, dst, err := v.Both(ctx, c)
	if err != nil {
		return err
	}
	a := &aligned{}
	if quiet || c.Kind == domain.KindLoad || c.Phase == domain.PhaseCutOver {
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
	run, cancel := context.WithCancel(ctx)
	var keep sync.WaitGroup
	keep.Go(func() {
		every(run, 3*time.Second, func() { _ = v.Store.KeepAsking(run, c.ID) })
	})
	letGo := func() {
		cancel()
		keep.Wait()
		end, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer done()
		_ = v.Store.Ask(end, c.ID, "", 0)
	}
	freed := false
	defer func() {
		if !freed {
			letGo()
		}
	}()
	if err := v.Store.Ask(ctx, c.ID, "hold", 0); err != nil {
		return err
	}
	if err := v.awaitAnswer(ctx, c, "holding", 30*time.Second, nil); err != nil {
		return err
	}
	if a.source, a.at, err = src.OpenView(ctx, true, 20*time.Second); err != nil {
		return err
	}
	defer a.source.Close()
	lapsed := domain.Unavailable(nil, "the shared position was lost again, as this process stood still too long; try again")
	if ok, err := v.Store.Follow(ctx, c.ID, a.at); err != nil || !ok {
		return cmp.Or(err, lapsed)
	}
	// Something must come after the position, or an idle source would not tell
	// that nothing else does.
	push := func() { _, _ = src.Heartbeat(ctx) }
	push()
	if err := v.awaitAnswer(ctx, c, "reached", 2*time.Minute, push); err != nil {
		return err
	}
	if a.target, _, err = dst.OpenView(ctx, false, 0); err != nil {
		return err
	}
	defer a.target.Close()
	if st, err := v.Store.Stream(ctx, c.ID); err != nil || st == nil || st.Ask != "reached" {
		return cmp.Or(err, lapsed)
	}
	if !standing {
		letGo()
		freed = true
	}
	return f(a)
}

func (v *Voyage) awaitAnswer(ctx context.Context, c *records.Crossing, want string, limit time.Duration, push func()) error {
	end := time.Now().Add(limit)
	for n := 1; time.Now().Before(end); n++ {
		st, err := v.Store.Stream(ctx, c.ID)
		if err != nil {
			return err
		}
		if st != nil && st.Ask == want {
			return nil
		}
		if n%20 == 0 {
			if now, err := v.Store.CrossingByID(ctx, c.ID); err == nil && now.Phase == domain.PhaseLoading {
				return domain.Conflict("tables of %s are being loaded again meanwhile; compare when it is in step", c.Name)
			}
			if push != nil {
				push()
			}
		}
		if !sleep(ctx, 50*time.Millisecond) {
			return ctx.Err()
		}
	}
	return domain.Unavailable(nil, "capture did not stop at a shared position within %s, so both sides cannot be compared; see whether capture runs ('dustyferry crossing show %s') and try again", limit, c.Name)
}
