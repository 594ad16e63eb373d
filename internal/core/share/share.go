// Package share says how the chunks of a load are shared among lanes: how many a lane
// carries in one read, and, as a simulation under the same rules, how long a whole load
// takes with a number of workers. It holds no clock; the simulation's time is a number.
package share

import (
	"container/heap"
	"time"
)

// ReadTime is how long one read should take: short enough that little is lost when it
// has to be done again, and that changes to its rows wait for seconds only; long enough
// that its beginning and end cost little.
const ReadTime = 6 * time.Second

// leastChunk is what a chunk is worth its cost at, however slowly it is read.
const leastChunk = 256 << 10

// Aim is how many bytes a chunk is to have: chunk, but where a load's speed is limited, to
// limit bytes a second of all its lanes, no more than a lane reads in [ReadTime].
func Aim(chunk, limit int64, lanes int) int64 {
	if limit <= 0 {
		return chunk
	}
	return min(chunk, max(int64(float64(limit)*ReadTime.Seconds())/int64(max(lanes, 1)), leastChunk))
}

// mostTogether bounds what one read takes at once.
const mostTogether = 4096

// NextBatch is how many neighbouring chunks a lane would carry at once after a read of run
// chunks took so long: about as many as take [ReadTime], at most four times as many.
func NextBatch(run int, took time.Duration) int {
	n := float64(run) * ReadTime.Seconds() / max(took.Seconds(), 0.01)
	return max(1, int(min(n, float64(4*run), mostTogether)))
}

// SmallTable is up to how many bytes a table is carried together with others: what it costs by
// itself, a few trips to either server, is then more than its rows.
const SmallTable = 256 << 10

// mostTables bounds how many small tables are carried at once, and togetherTime for how long: what
// fails of them is all done again.
const (
	mostTables   = 64
	togetherTime = time.Second
)

// NextTables is how many small tables a lane would carry at once after n took so long.
func NextTables(n int, took time.Duration) int {
	fit := float64(n) * togetherTime.Seconds() / max(took.Seconds(), 0.001)
	return max(1, int(min(fit, float64(4*n), mostTables)))
}

// FairShare is how many of the chunks that are left of a whole load a lane may take at once:
// no more than leave every other lane, and itself, another turn. What is left of one
// table does not count: who finds it taken goes on with the next.
func FairShare(most, left, lanes int) int { return max(1, min(most, left/(2*max(lanes, 1)))) }

// Fleet is what a simulated load is carried by.
type Fleet struct {
	Workers  int
	Lanes    int           // of each worker
	Rate     float64       // bytes/s that a lane moves, if nothing else holds it
	Cap      float64       // bytes/s that both servers can take together, 0: no bound
	Claim    time.Duration // for which a claim holds the crossing's line in the ledger
	Land     time.Duration // for which a landing does
	PerTable time.Duration // what the first read of a table costs beside its bytes
	DeadEach time.Duration // a worker dies so often, anywhere; 0: none does
	Recovery time.Duration // until its chunks are free again, and another is in its place
}

// Result is how a simulated load went.
type Result struct {
	Took    time.Duration
	Claims  int
	Ledger  float64 // share of the time for which the crossing's line in the ledger was held
	Busy    float64 // share of the lanes' time for which they moved bytes
	Again   int64   // bytes that were moved again
	Largest time.Duration
}

type lane struct {
	free float64 // when, seconds
	most int
	at   int // table of its last read

	landing bool // a read has ended and is to be recorded
}

type lanes []*lane

func (l lanes) Len() int           { return len(l) }
func (l lanes) Less(i, j int) bool { return l[i].free < l[j].free }
func (l lanes) Swap(i, j int)      { l[i], l[j] = l[j], l[i] }

// Push and Pop implement [heap.Interface].
func (l *lanes) Push(x any) { *l = append(*l, x.(*lane)) }

// Pop implements [heap.Interface].
func (l *lanes) Pop() any {
	last := (*l)[len(*l)-1]
	*l = (*l)[:len(*l)-1]
	return last
}

// Simulate carries tables of so many bytes, in their order, in chunks of so many bytes,
// by the rules above. Deaths strike the lane that would read at that moment.
func Simulate(tables []int64, chunk int64, f Fleet) Result {
	var r Result
	n := f.Workers * f.Lanes
	q := make(lanes, n)
	for i := range q {
		q[i] = &lane{most: 1, at: -1}
	}
	heap.Init(&q)
	table, left := 0, int64(0)
	if len(tables) > 0 {
		left = tables[0]
	}
	begun := false
	whole := int64(0)
	for _, t := range tables {
		whole += (t + chunk - 1) / chunk
	}
	ledger, held, busy := 0.0, 0.0, 0.0
	hold := func(at float64, long time.Duration) float64 {
		ledger = max(ledger, at) + long.Seconds()
		held += long.Seconds()
		return ledger
	}
	speed := f.Rate
	if f.Cap > 0 {
		speed = min(speed, f.Cap/float64(n))
	}
	death, end := f.DeadEach.Seconds(), 0.0
	for table < len(tables) {
		l := q[0] // the first that is free; put in its place again by Fix
		if l.landing {
			l.free, l.landing = hold(l.free, f.Land), false
			end = max(end, l.free)
			heap.Fix(&q, 0)
			continue
		}
		at := hold(l.free, f.Claim)
		r.Claims++
		most := l.most
		if l.at != table {
			most /= 2
		}
		most = FairShare(most, int(whole), n)
		size := min(left, int64(most)*chunk)
		long := float64(size) / speed
		if !begun {
			long += f.PerTable.Seconds()
		}
		if l.at = table; f.DeadEach > 0 && at+long > death {
			// What it held is free again after a while; it is carried later, as is the rest.
			r.Again += int64(max(0, death-at) * speed)
			l.free = max(death, at) + f.Recovery.Seconds()
			death += f.DeadEach.Seconds()
			heap.Fix(&q, 0)
			continue
		}
		begun = true
		busy += long
		l.free, l.landing = at+long, true
		l.most = NextBatch(most, time.Duration(long*float64(time.Second)))
		r.Largest = max(r.Largest, time.Duration(long*float64(time.Second)))
		end = max(end, l.free+f.Land.Seconds())
		heap.Fix(&q, 0)
		whole -= (size + chunk - 1) / chunk
		if left -= size; left <= 0 {
			begun = false
			if table++; table < len(tables) {
				left = tables[table]
			}
		}
	}
	r.Took = time.Duration(end * float64(time.Second))
	if end > 0 {
		r.Ledger, r.Busy = held/end, busy/(end*float64(n))
	}
	return r
}
