package gauge

import (
	"testing"
	"time"
)

func TestLagsOfTheLastMinute(t *testing.T) {
	var l Lags
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	if _, _, _, known := l.Of(now); known {
		t.Error("nothing was measured, yet a lag is known")
	}
	l.Add(now.Add(-2*time.Minute), 900) // too old to count
	for i := range 100 {
		l.Add(now.Add(time.Duration(i-100)*100*time.Millisecond), float64(i)/100)
	}
	last, p50, p99, known := l.Of(now)
	if !known || last != 0.99 || p50 != 0.5 || p99 != 0.99 {
		t.Errorf("last %v, median %v, p99 %v, known %t", last, p50, p99, known)
	}
	if _, _, _, known := l.Of(now.Add(2 * time.Minute)); known {
		t.Error("what was measured two minutes ago is taken for now")
	}
	for range 3 * keep {
		l.Add(now, 1)
	}
	if len(l.took) != keep || len(l.at) != keep {
		t.Errorf("%d lags are kept", len(l.took))
	}
	l.Add(now, -0.2) // clocks that are not quite alike
	if last, _, _, _ := l.Of(now); last != 0 {
		t.Errorf("a lag of %v", last)
	}
}
