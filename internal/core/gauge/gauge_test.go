package gauge_test

import (
	"testing"
	"time"

	"dustyferry/internal/core/gauge"
)

func TestOverLooksOnlyAtTheWindow(t *testing.T) {
	t0 := time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)
	var pts []gauge.Point
	for i := range 60 {
		rows := int64(i * 10)
		if i >= 50 {
			rows = 500 + int64(i-50)*1000
		}
		pts = append(pts, gauge.Point{At: t0.Add(time.Duration(i) * time.Second), Rows: rows})
	}
	if r := gauge.Over(pts, 5*time.Second).Rows; r != 1000 {
		t.Errorf("recent rate %v rows/s, want 1000", r)
	}
	if r := gauge.Over(pts[:1], time.Minute); r != (gauge.Rate{}) {
		t.Errorf("one reading is no rate: %v", r)
	}
}

func TestLeft(t *testing.T) {
	if r := gauge.Left(50, 100, 10, 10); !r.Known || r.Expected != 5*time.Second || r.Low > r.Expected || r.High < r.Expected {
		t.Errorf("half done at 10/s: %+v", r)
	}
	if r := gauge.Left(50, 100, 0, 0); r.Known {
		t.Errorf("no rate, no estimate: %+v", r)
	}
	steady, jumpy := gauge.Left(0, 1000, 10, 10), gauge.Left(0, 1000, 2, 10)
	if jumpy.High-jumpy.Low <= steady.High-steady.Low {
		t.Error("a rate far from its average must widen the range")
	}
	if r := gauge.Left(120, 100, 5, 5); !r.Known || r.Expected != 0 {
		t.Errorf("more landed than estimated is nothing left, not negative: %+v", r)
	}
}
