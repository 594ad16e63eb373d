package voyage

import (
	"context"
	"errors"
	"time"

	"dustyferry/internal/core/pace"
	"dustyferry/internal/domain"
)

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
			v.Say(ctx, "info", System, p.Name, "", "lanes", "%s of %d: %s", domain.Counted(next.Lanes, "lane", "lanes"),
				set.Lanes, next.Reason)
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
