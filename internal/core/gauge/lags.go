package gauge

import (
	"slices"
	"time"
)

// window is how far back the lags that count lie, and keep how many of them there are at most.
const (
	window = time.Minute
	keep   = 2048
)

// Lags are how long transactions of the last minute took from the source's commit to the
// target's. The zero value is empty. Of more than it keeps, the oldest are forgotten.
type Lags struct {
	at   []time.Time
	took []float64 // seconds
}

// Add takes one that was committed on the target at the given time.
func (l *Lags) Add(at time.Time, seconds float64) {
	l.at, l.took = append(l.at, at), append(l.took, max(seconds, 0))
	if over := len(l.at) - keep; over > 0 {
		l.at, l.took = slices.Delete(l.at, 0, over), slices.Delete(l.took, 0, over)
	}
}

// Of returns the newest lag, the median and the 99th percentile of those within a minute of
// now, in seconds; false: there are none, so nothing is known.
func (l *Lags) Of(now time.Time) (last, p50, p99 float64, known bool) {
	first := 0
	for first < len(l.at) && now.Sub(l.at[first]) > window {
		first++
	}
	l.at, l.took = slices.Delete(l.at, 0, first), slices.Delete(l.took, 0, first)
	if len(l.took) == 0 {
		return 0, 0, 0, false
	}
	sorted := slices.Sorted(slices.Values(l.took))
	rank := func(p float64) float64 { return sorted[min(int(p*float64(len(sorted))), len(sorted)-1)] }
	return l.took[len(l.took)-1], rank(0.5), rank(0.99), true
}
