package gauge_test

import (
	"testing"
	"time"

	"dustyferry/internal/core/gauge"
)

func TestTrend(t *testing.T) {
	at := time.Unix(0, 0)
	var g gauge.Trend
	see := func(seconds int, value, want float64) {
		t.Helper()
		at = at.Add(time.Duration(seconds) * time.Second)
		g.Add(at, value)
		if got := g.Zero(); got < want-0.01 || got > want+0.01 {
			t.Errorf("at %d s with %g: %g, want %g", at.Unix(), value, got, want)
		}
	}
	see(0, 1000, -1) // one moment says nothing
	see(1, 900, -1)  // nor does a second
	see(9, 500, 10)  // 50 a second
	see(10, 0, 0)    // gone
	see(1, 300, 9)   // from 1000 in 21 s: a jump back does not turn it at once
	see(60, 300, -1) // it stays
	see(10, 400, -1) // it grows
}
