package pace_test

import (
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/pace"
	"dustyferry/internal/domain"
)

var start = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// server is a model of two servers: what n lanes bring together, and how long a small
// query takes beside them.
type server struct {
	rate func(lanes int) float64 // bytes/s
	trip func(lanes int) float64 // seconds
}

// run looks every 2 seconds for a while and returns the number of lanes at each look.
func run(s server, least, most int, long time.Duration) ([]int, pace.State) {
	var st pace.State
	var seen []int
	moved := 0.0
	for at := start; at.Before(start.Add(long)); at = at.Add(2 * time.Second) {
		st = pace.Next(st, pace.Look{At: at, Moved: int64(moved), Trips: [2]float64{s.trip(st.Lanes), 0.001}, Least: least,
			Most: most, Busy: st.Lanes})
		seen = append(seen, st.Lanes)
		moved += 2 * s.rate(st.Lanes)
	}
	return seen, st
}

func quick(int) float64 { return 0.001 }

func TestLanesGrowWhileThroughputDoes(t *testing.T) {
	// Four lanes fill the servers; a fifth brings nothing.
	seen, _ := run(server{func(n int) float64 { return 50e6 * float64(min(n, 4)) }, quick}, 1, 16, 10*time.Minute)
	at4, over := 0, 0
	for i, n := range seen {
		switch {
		case i < len(seen)/4:
		case n == 4:
			at4++
		case n > 5 || n < 4:
			over++
		}
	}
	if over > 0 || at4 < len(seen)/2 {
		t.Errorf("with room for 4: %v", seen)
	}
}

func TestLanesYieldToASufferingSource(t *testing.T) {
	// Throughput grows with every lane, but beyond three the source's own work suffers.
	trip := func(n int) float64 {
		if n > 3 {
			return 0.2
		}
		return 0.002
	}
	seen, st := run(server{func(n int) float64 { return 50e6 * float64(n) }, trip}, 1, 16, 10*time.Minute)
	most, high := 0, 0
	for _, n := range seen {
		most = max(most, n)
		if n > 3 {
			high++
		}
	}
	if most > 4 || high > len(seen)/3 || st.Lanes < 2 {
		t.Errorf("up to %d lanes, %d of %d looks above three: %v", most, high, len(seen), seen)
	}
}

func TestLanesStayWithinBounds(t *testing.T) {
	seen, st := run(server{func(n int) float64 { return 50e6 * float64(n) }, quick}, 2, 5, 5*time.Minute)
	if seen[0] != 2 || st.Lanes != 5 {
		t.Errorf("%v", seen)
	}
	st = pace.Next(st, pace.Look{At: start.Add(time.Hour), Least: 1, Most: 3, Busy: 5})
	if st.Lanes != 3 || !strings.Contains(st.Reason, "most is 3") {
		t.Errorf("lowered: %+v", st)
	}
	// Too little work for another lane: nothing is made of it.
	idle := pace.State{Lanes: 2, Since: start}
	for i := range 20 {
		idle = pace.Next(idle, pace.Look{At: start.Add(time.Duration(i) * 5 * time.Second), Least: 1, Most: 8, Busy: 1})
	}
	if idle.Lanes != 2 {
		t.Errorf("lanes were added with nothing to carry: %+v", idle)
	}
}

func TestLimitsOfAMoment(t *testing.T) {
	s := domain.Settings{SpeedLimit: 100, RowLimit: 7, SourceShare: 1, QuietHours: []string{"mon-fri 08:00-18:00"}}
	if l := pace.Of(s, start); !l.Stop || l.Bytes != 100 { // a Monday at noon
		t.Errorf("quiet: %+v", l)
	}
	s.QuietSpeed = 10
	if l := pace.Of(s, start); l != (pace.Limits{Bytes: 10, Rows: 7}) {
		t.Errorf("quiet with a speed: %+v", l)
	}
	s.QuietSpeed = 1000
	if l := pace.Of(s, start); l.Bytes != 100 {
		t.Errorf("the lower limit holds: %+v", l)
	}
	if l := pace.Of(s, start.Add(8*time.Hour)); l.Stop || l.Bytes != 100 {
		t.Errorf("in the evening: %+v", l)
	}
}
