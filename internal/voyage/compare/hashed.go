package compare

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Where rows are hashed: here, to where each of them has to come, or by the servers, so that one line a part
// does. The servers need longer for a row than we do, and a link may need longer still.

const (
	// triedRows is how many rows are read to see how fast they come, at most.
	triedRows = 2000
	// worthIt is what part of the time the servers may take at most: they have applications to serve.
	worthIt = 0.7
	// triedParts is into how many parts a table is cut at least that both ways are tried on.
	triedParts = 8
	// farTrip is from which round trip on a server is taken to be far, where nothing was tried.
	farTrip = 2 * time.Millisecond
	// mostUnlike is how many parts that differ by the servers' word are read row by row at once in any case.
	mostUnlike = 8
	// askedAtOnce is how many parts are asked for at once, at most.
	askedAtOnce = 64
)

// table is one to compare, seen from both sides.
type table struct {
	views [2]engine.View
	plans [2]*domain.TablePlan
	part  engine.Part
	read  [2]func(rows int64)
	share float64
	rows  int64 // about so many
}

// hashed compares all rows of a table: its sums, and what differs.
func (k *Comparer) hashed(ctx context.Context, a *aligned, t *table) (summed, []domain.Finding, error) {
	there := false
	if servers, ok := t.alike(); ok {
		var err error
		if there, err = a.far(ctx, servers, t); err != nil {
			return summed{}, nil, err
		}
		if there {
			s, ok, err := t.sumsThere(ctx, servers)
			switch {
			case errors.Is(err, engine.ErrHashLost): // and here it may be
			case err != nil:
				return s, nil, err
			case ok && len(s.differing) == 0:
				return s, nil, nil
			case ok && t.part.Bounds != nil && len(s.differing) <= max(mostUnlike, s.parts/2):
				found, err := k.narrowDown(ctx, t.views, t.plans, t.part, s.differing)
				if err != nil || len(found) > 0 {
					return s, found, err
				} // else the servers write what is equal in two ways
			} // where nearly all parts differ they may too, and pairing all rows would take room for all of them
			for i := range t.read { // all of it is read again
				t.read[i](-s.total[i].Rows)
			}
		}
	}
	s, err := k.sums(ctx, t.views, t.plans, t.part, t.read)
	if err != nil || len(s.differing) == 0 {
		return s, nil, err
	}
	found, err := k.differences(ctx, t.views, t.plans, t.part, s.differing)
	return s, found, err
}

// alike gives both sides as servers that hash rows of the table alike.
func (t *table) alike() (out [2]engine.Hashes, _ bool) {
	var forms [2]string
	for i, v := range t.views {
		h, ok := v.(engine.Hashes)
		if !ok {
			return out, false
		}
		out[i], forms[i] = h, h.HashForm(t.plans[i])
	}
	return out, forms[0] != "" && forms[0] == forms[1]
}

// far reports whether the servers are to hash: as the crossing's settings say, or by what both ways took
// for some rows of this table, or of one before, or else by how far the servers are.
func (a *aligned) far(ctx context.Context, servers [2]engine.Hashes, t *table) (bool, error) {
	switch a.hashBy {
	case domain.HashByServers:
		return true, nil
	case domain.HashByService:
		return false, nil
	}
	var trips [2]time.Duration
	if err := both(func(i int) (err error) {
		trips[i], err = servers[i].RoundTrip(ctx)
		return err
	}); err != nil {
		return false, err
	}
	if len(t.part.Bounds)+1 >= triedParts {
		there, err := t.try(ctx, servers, trips)
		a.tried = &there
		return there, err
	}
	if a.tried != nil {
		return *a.tried, nil
	}
	return max(trips[0], trips[1]) >= farTrip, nil
}

// try has both sides read some rows of a part in the middle to here, and hash those behind them, and reports
// whether they hash faster than rows come: each part's take a round trip besides, and sums nearly none.
func (t *table) try(ctx context.Context, servers [2]engine.Hashes, trips [2]time.Duration) (bool, error) {
	mid := len(t.part.Bounds) / 2
	parts := float64(len(t.part.Bounds) + 1)
	var here, there [2]time.Duration // for the rows of a part
	var lost atomic.Bool
	err := both(func(i int) error {
		tried, err := servers[i].TryHashes(ctx, t.plans[i], t.part, mid, triedRows)
		if errors.Is(err, engine.ErrHashLost) {
			lost.Store(true)
			return nil
		}
		scale := float64(t.rows) / parts / float64(max(tried.Rows, 1))
		here[i] = trips[i] + time.Duration(scale*float64(max(tried.Here-trips[i], 0)))
		there[i] = time.Duration(scale * float64(max(tried.There-trips[i], 0)))
		return err
	})
	gain := float64(max(there[0], there[1])) / float64(max(here[0], here[1], 1))
	return err == nil && !lost.Load() && gain < worthIt, err
}

// sumsThere has both servers sum the parts; false: some were asked for and did not come.
func (t *table) sumsThere(ctx context.Context, servers [2]engine.Hashes) (out summed, _ bool, _ error) {
	parts := max(len(t.part.Bounds)+1, 1)
	var sums [2][]rowhash.Sum
	err := both(func(i int) error {
		group := 1 // grows, so that there is word soon, and few round trips
		for at := 0; at < parts; {
			n := min(group, parts-at)
			var want []int
			for w := range n {
				want = append(want, at+w)
			}
			got, err := servers[i].HashThere(ctx, t.plans[i], t.part, want, t.read[i])
			if err != nil {
				return err
			}
			sums[i] = append(sums[i], got...)
			at += n
			if t.share <= 0 || t.share >= 1 { // else it rests behind each
				group = min(group*2, askedAtOnce)
			}
		}
		return nil
	})
	for i := range sums {
		for _, s := range sums[i] {
			out.total[i].Merge(s)
		}
	}
	if err != nil || len(sums[0]) != len(sums[1]) || len(sums[0]) != parts {
		return out, false, err
	}
	out.parts, out.differing = parts, narrow.Parts(sums[0], sums[1])
	return out, true, nil
}
