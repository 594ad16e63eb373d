// Package gauge turns counters into what a person watches: rates now and on
// average, remaining time with its uncertainty, lag. Time comes in as a value.
package gauge

import (
	"math"
	"time"
)

// Point is one reading of growing counters.
type Point struct {
	At      time.Time
	Rows    int64
	Bytes   int64
	Changes int64
}

// Rate is a speed per second.
type Rate struct {
	Rows    float64 `json:"rows"`
	Bytes   float64 `json:"bytes"`
	Changes float64 `json:"changes"`
}

// Between returns the speed from a to b, zero when no time passed.
func Between(a, b Point) Rate {
	s := b.At.Sub(a.At).Seconds()
	if s <= 0 {
		return Rate{}
	}
	return Rate{
		Rows:    float64(b.Rows-a.Rows) / s,
		Bytes:   float64(b.Bytes-a.Bytes) / s,
		Changes: float64(b.Changes-a.Changes) / s,
	}
}

// Over returns the speed over the newest part of points, ascending in time,
// that lies within window of the last one.
func Over(points []Point, window time.Duration) Rate {
	if len(points) < 2 {
		return Rate{}
	}
	last := points[len(points)-1]
	first := last
	for i := len(points) - 2; i >= 0; i-- {
		if last.At.Sub(points[i].At) > window {
			break
		}
		first = points[i]
	}
	return Between(first, last)
}

// Remaining is how long is left: an expected time and the range that the rates
// seen so far span.
type Remaining struct {
	Expected time.Duration
	Low      time.Duration
	High     time.Duration
	Known    bool
}

// What an estimate needs before it can be believed: a load begins slowly, and its first rows
// say nothing of the rest.
const (
	believedAfter = 5 * time.Second
	believedShare = 0.01 // of what there is to do
)

// Left estimates how long the rest of a load takes that has not ended, from its recent and
// its average speed; the two disagreeing is what makes the range wide. It is not known
// before enough is done, nor when more is done than there was thought to be, and it is
// never 0, as the load has not ended.
func Left(done, total int64, now, average float64, elapsed time.Duration) Remaining {
	rest := float64(total - done)
	if rest <= 0 || now <= 0 && average <= 0 {
		return Remaining{}
	}
	if elapsed < believedAfter || float64(done) < believedShare*float64(total) {
		return Remaining{}
	}
	if now <= 0 {
		now = average / 4
	}
	if average <= 0 {
		average = now
	}
	at := func(rate float64) time.Duration {
		d := time.Duration(math.Min(rest/rate, 10*365*24*3600) * float64(time.Second)).Round(time.Second)
		return max(d, time.Second)
	}
	fast, slow := math.Max(now, average)*1.05, math.Min(now, average)*0.95
	return Remaining{Expected: at((now + average) / 2), Low: at(fast), High: at(slow), Known: true}
}
