package gauge

import (
	"testing"
	"time"
)

func TestChart(t *testing.T) {
	from := time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)
	var in []Reading
	for i := -1; i < 600; i++ { // ten minutes, a reading a second, 100 rows each
		r := Reading{At: from.Add(time.Duration(i) * time.Second), Rows: int64(i+1) * 100, BytesIn: int64(i+1) * 7}
		if i == 333 {
			r.LagSeconds = 42
		}
		in = append(in, r)
	}
	s := Chart(in, from, from.Add(10*time.Minute), 60)
	if len(s.At) != 60 {
		t.Fatalf("%d points, want 60", len(s.At))
	}
	peak := 0.0
	for i := range s.At {
		if s.Rows[i] != 100 || s.BytesIn[i] != 7 {
			t.Errorf("point %d: %v rows/s, %v bytes/s", i, s.Rows[i], s.BytesIn[i])
		}
		peak = max(peak, s.LagSeconds[i])
	}
	if peak != 42 {
		t.Errorf("a peak of lag between two points was lost: %v", peak)
	}
	in[300].Rows = 0 // a table began again
	for i := 301; i < len(in); i++ {
		in[i].Rows -= 30_000
	}
	for i, r := range Chart(in, from, from.Add(10*time.Minute), 60).Rows {
		if r < 0 || r > 101 {
			t.Errorf("point %d: %v rows/s after a counter fell", i, r)
		}
	}
	if s := Chart(in[:1], from, from, 10); len(s.At) != 0 {
		t.Errorf("one reading gives %d points", len(s.At))
	}
}
