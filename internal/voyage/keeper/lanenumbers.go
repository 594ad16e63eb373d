package keeper

import (
	"context"
	"errors"
	"sync"
	"time"

	"dustyferry/internal/core/pace"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// LaneNumbers finds how many lanes a load is best carried by.
type LaneNumbers struct {
	Records interface {
		Pacings(ctx context.Context) ([]pace.Load, error)
		// SavePace keeps how many lanes a load uses now, 0: as many as its settings say.
		SavePace(ctx context.Context, crossing int64, lanes int, state pace.State) error
	}
	Databases Databases
	Journal   Journal

	mu     sync.Mutex
	asking sync.WaitGroup
	probes map[string]*probe // by database
}

// Wait waits until nothing is asked of a server.
func (n *LaneNumbers) Wait() { n.asking.Wait() }

// Do looks at the number of lanes of the loads that leave it to be found.
func (n *LaneNumbers) Do(ctx context.Context) error {
	list, err := n.Records.Pacings(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		p := &list[i]
		set := p.Settings
		if set.LeastLanes == 0 {
			err = errors.Join(err, n.Records.SavePace(ctx, p.ID, 0, pace.State{}))
			continue
		}
		look := pace.Look{At: time.Now(), Moved: p.Moved, Least: set.LeastLanes, Most: set.Lanes, Busy: p.Busy}
		for i, name := range []string{p.Source, p.Target} {
			look.Trips[i] = n.trip(ctx, name)
		}
		next := pace.Next(p.State, look)
		if next.Lanes != p.Lanes {
			n.Journal.Recordf(ctx, "info", journal.System, p.Name, "", "lanes", "%s of %d: %s",
				domain.Counted(next.Lanes, "lane", "lanes"), set.Lanes, next.Reason)
		}
		err = errors.Join(err, n.Records.SavePace(ctx, p.ID, next.Lanes, next))
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
func (n *LaneNumbers) trip(ctx context.Context, name string) float64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.probes == nil {
		n.probes = map[string]*probe{}
	}
	p := n.probes[name]
	if p == nil {
		p = &probe{}
		n.probes[name] = p
	}
	if !p.asking {
		p.asking = true
		n.asking.Go(func() {
			seconds := n.ask(ctx, name)
			n.mu.Lock()
			defer n.mu.Unlock()
			p.seconds, p.asking = seconds, false
		})
	}
	return p.seconds
}

// ask runs a small query; no answer within five seconds is one of five seconds.
func (n *LaneNumbers) ask(ctx context.Context, name string) float64 {
	limit, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	db, err := n.Databases.Open(limit, name)
	if err != nil || db.Tells == nil {
		return 0
	}
	began := time.Now()
	if _, err := db.Clock(limit); err != nil && limit.Err() == nil {
		return 0
	}
	return time.Since(began).Seconds()
}
