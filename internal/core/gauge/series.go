package gauge

import "time"

// Reading is one reading of a crossing's counters and of its lag.
type Reading struct {
	At                        time.Time
	Rows, BytesIn, BytesOut   int64 // growing
	Inserts, Updates, Deletes int64 // growing
	LagSeconds                float64
	LagBytes                  int64
}

// Series is what a chart draws: for each point the speeds since the point
// before it, per second, and the highest lag in between.
type Series struct {
	At                        []time.Time
	Rows, BytesIn, BytesOut   []float64
	Inserts, Updates, Deletes []float64
	LagSeconds, LagBytes      []float64
}

// Chart puts a window of readings, ascending, into at most n points of equal
// width. Counters that fall (a table began again) count as standing still. The
// first reading only serves as the point the first speed is reckoned from.
func Chart(readings []Reading, from, to time.Time, n int) Series {
	var s Series
	if len(readings) < 2 || n < 1 || !to.After(from) {
		return s
	}
	width := to.Sub(from) / time.Duration(n)
	if width <= 0 {
		width = 1
	}
	slot := func(t time.Time) int64 { return int64(t.Sub(from) / width) }
	last := readings[0]
	for i := 1; i < len(readings); {
		end := i
		var lag float64
		var behind int64
		for end < len(readings) && slot(readings[end].At) == slot(readings[i].At) {
			lag, behind = max(lag, readings[end].LagSeconds), max(behind, readings[end].LagBytes)
			end++
		}
		r := readings[end-1]
		sec := r.At.Sub(last.At).Seconds()
		if sec <= 0 {
			i = end
			continue
		}
		speed := func(a, b int64) float64 { return max(0, float64(b-a)/sec) }
		s.At = append(s.At, r.At)
		s.Rows = append(s.Rows, speed(last.Rows, r.Rows))
		s.BytesIn = append(s.BytesIn, speed(last.BytesIn, r.BytesIn))
		s.BytesOut = append(s.BytesOut, speed(last.BytesOut, r.BytesOut))
		s.Inserts = append(s.Inserts, speed(last.Inserts, r.Inserts))
		s.Updates = append(s.Updates, speed(last.Updates, r.Updates))
		s.Deletes = append(s.Deletes, speed(last.Deletes, r.Deletes))
		s.LagSeconds = append(s.LagSeconds, lag)
		s.LagBytes = append(s.LagBytes, float64(behind))
		last, i = r, end
	}
	return s
}
