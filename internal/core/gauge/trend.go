package gauge

import "time"

// trendOver is how far back a trend looks: long enough that one large transaction does
// not turn it, short enough to follow what a person just changed.
const trendOver = 30 * time.Second

// Trend follows a figure that should go down to nothing.
type Trend struct{ points []point }

type point struct {
	at    time.Time
	value float64
}

// Add takes what the figure is at a moment.
func (t *Trend) Add(at time.Time, value float64) {
	t.points = append(t.points, point{at, value})
	for len(t.points) > 2 && at.Sub(t.points[1].at) >= trendOver {
		t.points = t.points[1:]
	}
}

// Zero is in how many seconds the figure will be nothing as it goes: 0 when it is
// nothing, -1 when it does not go down, or is not known for long enough.
func (t *Trend) Zero() float64 {
	if len(t.points) == 0 {
		return -1
	}
	first, last := t.points[0], t.points[len(t.points)-1]
	span := last.at.Sub(first.at).Seconds()
	switch {
	case last.value <= 0:
		return 0
	case span < 3 || last.value >= first.value:
		return -1
	}
	return last.value / ((first.value - last.value) / span)
}
