package share_test

import (
	"fmt"
	"testing"
	"time"

	"dustyferry/internal/core/share"
)

func TestReadsFindTheirSize(t *testing.T) {
	// A chunk takes 0.1 s: sixty of them are a read, found in four steps.
	run := 1
	for range 4 {
		run = share.NextBatch(run, time.Duration(run)*100*time.Millisecond)
	}
	if run != 60 {
		t.Errorf("%d chunks a read, want 60", run)
	}
	// The target becomes five times slower.
	if run = share.NextBatch(run, 30*time.Second); run != 12 {
		t.Errorf("then %d, want 12", run)
	}
	if run = share.NextBatch(1, time.Minute); run != 1 {
		t.Errorf("a chunk that takes a minute is read alone, not %d", run)
	}
	for _, c := range []struct{ most, left, lanes, want int }{{60, 1000, 4, 60}, {60, 100, 4, 12}, {60, 7, 4, 1},
		{60, 0, 4, 1}, {5, 1000, 0, 5}} {
		if got := share.FairShare(c.most, c.left, c.lanes); got != c.want {
			t.Errorf("%+v: %d", c, got)
		}
	}
}

func TestChunksOfASlowLoadAreSmall(t *testing.T) {
	for _, c := range []struct {
		chunk, limit int64
		lanes        int
		want         int64
	}{{16 << 20, 0, 4, 16 << 20}, {16 << 20, 4 << 20, 4, 6 << 20}, {16 << 20, 1 << 30, 4, 16 << 20},
		{16 << 20, 1000, 4, 256 << 10}, {64 << 10, 1000, 4, 64 << 10}, {16 << 20, 1 << 20, 0, 6 << 20}} {
		if got := share.Aim(c.chunk, c.limit, c.lanes); got != c.want {
			t.Errorf("%+v: %d", c, got)
		}
	}
}

// tables are 2,000 of 100 TB together, the largest a tenth of it.
func tables() []int64 {
	var out []int64
	sum := 0.0
	for i := range 2000 {
		sum += 1 / float64(i+1)
	}
	for i := range 2000 {
		out = append(out, int64(100e12/sum/float64(i+1)))
	}
	return out
}

// A claim and its landing were measured at 1 ms together, without waiting for a disk
// (BenchmarkClaim); twice that is taken here. What a table costs by itself is of
// bench/tables.sh.
var measured = share.Fleet{Lanes: 4, Rate: 60e6, Claim: 1200 * time.Microsecond, Land: 800 * time.Microsecond,
	PerTable: 10 * time.Millisecond, Recovery: 10 * time.Second}

func TestAHundredTerabytesShareOut(t *testing.T) {
	var one time.Duration
	for _, workers := range []int{1, 10, 100} {
		f := measured
		f.Workers = workers
		r := share.Simulate(tables(), 16<<20, f)
		if workers == 1 {
			one = r.Took
		}
		efficiency := one.Seconds() / r.Took.Seconds() / float64(workers)
		t.Logf("%3d workers: %s, %.1f%% of linear, lanes busy %.1f%%, ledger held %.1f%%, %d claims, longest read %s",
			workers, r.Took.Round(time.Minute), 100*efficiency, 100*r.Busy, 100*r.Ledger, r.Claims, r.Largest.Round(time.Second))
		if efficiency < 0.95 || r.Busy < 0.95 || r.Ledger > 0.5 {
			t.Errorf("%d workers: %+v", workers, r)
		}
		if workers != 10 {
			continue
		}
		// A worker dies every hour: what that costs is a few seconds of one worker.
		f.DeadEach = time.Hour
		d := share.Simulate(tables(), 16<<20, f)
		if lost := d.Took.Seconds()/r.Took.Seconds() - 1; lost > 0.01 || d.Again <= 0 {
			t.Errorf("%d workers that die every hour: %.2f%% longer, %d bytes again", workers, 100*lost, d.Again)
		}
	}
	// Where the servers are the bound, more lanes help no more.
	f := measured
	f.Workers, f.Cap = 100, 1e9
	if r := share.Simulate(tables(), 16<<20, f); r.Took < 99*time.Hour/4 || r.Took.Hours() < 100e12/1e9/3600 {
		t.Errorf("beyond what the servers take: %+v", r)
	}
}

// ExampleSimulate: one lane needs four times as long as four.
func ExampleSimulate() {
	for _, lanes := range []int{1, 4} {
		r := share.Simulate([]int64{64 << 30}, 16<<20, share.Fleet{Workers: 1, Lanes: lanes, Rate: 64 << 20})
		fmt.Println(lanes, r.Took.Round(10*time.Second))
	}
	// Output:
	// 1 17m0s
	// 4 4m20s
}
