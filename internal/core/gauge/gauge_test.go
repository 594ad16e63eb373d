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
	const minute = time.Minute
	if r := gauge.Left(50, 100, 10, 10, minute); !r.Known || r.Expected != 5*time.Second || r.Low > r.Expected ||
		r.High < r.Expected {
		t.Errorf("half done at 10/s: %+v", r)
	}
	steady, jumpy := gauge.Left(10, 1000, 10, 10, minute), gauge.Left(10, 1000, 2, 10, minute)
	if jumpy.High-jumpy.Low <= steady.High-steady.Low {
		t.Error("a rate far from its average must widen the range")
	}
	for name, r := range map[string]gauge.Remaining{
		"no rate":                           gauge.Left(50, 100, 0, 0, minute),
		"just begun":                        gauge.Left(50, 100, 10, 10, time.Second),
		"534 of 209,598 rows":               gauge.Left(534, 209_598, 140, 140, minute),
		"more done than there seemed to be": gauge.Left(120, 100, 5, 5, minute),
		"as much done as there seemed":      gauge.Left(100, 100, 5, 5, minute),
	} {
		if r.Known {
			t.Errorf("%s: %+v", name, r)
		}
	}
	if r := gauge.Left(999_999, 1_000_000, 1e9, 1e9, minute); !r.Known || r.Expected <= 0 || r.Low <= 0 {
		t.Errorf("almost done is not done: %+v", r)
	}
}
