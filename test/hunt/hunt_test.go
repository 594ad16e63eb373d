package hunt

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

var (
	minutes = flag.Float64("hunt.minutes", 0, "how long to hunt with fresh seeds")
	seed    = flag.Uint64("hunt.seed", 0, "the seed to run, or to begin at")
	only    = flag.Int("hunt.seeds", 0, "how many seeds from there; 0: until the time is over")
	binary  = flag.String("hunt.binary", "", "the program that is hunted; empty: this tree's")
	replay  = flag.String("hunt.script", "", "a saved script to run")
	shrinks = flag.Bool("hunt.shrink", true, "shrink what fails")
	pairs   = flag.String("hunt.pairs", "", "pairs of engines to hunt, such as mm,mp,pm,pp; empty: all")
	at      = flag.Int("hunt.at", 4, "how many scripts run at once")
	returns = flag.Float64("hunt.returns", Returns, "how often a crossing opens a return path where it can, from 0 to 1")
	where   = flag.String("hunt.found", "found", "where failing scripts are saved")
)

func program(t *testing.T) string {
	t.Helper()
	if *binary != "" {
		return *binary
	}
	if path := os.Getenv("DUSTYFERRY_TEST_BINARY"); path != "" { // the one that make has built
		return path
	}
	path := filepath.Join(t.TempDir(), "dustyferry")
	if out, err := exec.Command("go", "build", "-o", path, "dustyferry/cmd/dustyferry").CombinedOutput(); err != nil {
		t.Fatalf("building the program: %v\n%s", err, out)
	}
	return path
}

// TestScriptsAreReadAsWritten holds what is saved against what is run.
func TestScriptsAreReadAsWritten(t *testing.T) {
	for n := range uint64(300) {
		s := Generate(n)
		name, err := Save(t.TempDir(), s, Verdict{})
		if err != nil {
			t.Fatal(err)
		}
		f, err := os.Open(name)
		if err != nil {
			t.Fatal(err)
		}
		back, err := Read(f)
		_ = f.Close()
		if err != nil {
			t.Fatalf("seed %d: %v", n, err)
		}
		if len(back.Steps) != len(s.Steps)+1 {
			t.Fatalf("seed %d: %d steps were written, %d read", n, len(s.Steps), len(back.Steps))
		}
		for i := range s.Steps {
			if a, b := s.Steps[i], back.Steps[i]; a.Do != b.Do || a.On != b.On || a.Text != b.Text &&
				len(a.Text) == len(b.Text) {
				t.Fatalf("seed %d, step %d: %+v was written, %+v read", n, i, a, b)
			}
		}
	}
}

// fixed are seeds that run in every test: each does something the others do not.
var fixed = []uint64{8, 9, 10, 17, 3, 11, 22, 36, 7, 5, 21}

// TestHunt runs the fixed seeds, or hunts where it is told to.
func TestHunt(t *testing.T) {
	Returns = *returns
	bin := program(t)
	// A seed has its servers: those that are set as its number says.
	queues := make([]chan *Script, len(Worlds))
	for i := range queues {
		queues[i] = make(chan *Script, 2)
	}
	asked := func(w World) bool {
		return *pairs == "" || slices.Contains(strings.Split(*pairs, ","), w.Pair())
	}
	give := func(s *Script) {
		n := s.Seed % uint64(len(Worlds))
		for i, w := range Worlds { // a script may be of another build's worlds
			if Worlds[n].Pair() != s.Pair && w.Pair() == s.Pair {
				n = uint64(i)
			}
		}
		queues[n] <- s
	}
	turns := make(chan struct{}, *at)
	end := time.Now().Add(time.Duration(*minutes * float64(time.Minute)))
	go func() {
		defer func() {
			for _, q := range queues {
				close(q)
			}
		}()
		switch {
		case *replay != "":
			f, err := os.Open(*replay)
			if err != nil {
				t.Error(err)
				return
			}
			defer func() { _ = f.Close() }()
			s, err := Read(f)
			if err != nil {
				t.Error(err)
				return
			}
			if n := len(s.Steps); n > 0 && s.Steps[n-1].Do == Quiet && s.Steps[n-1].On == "verdict" {
				s.Steps = s.Steps[:n-1]
			}
			give(s)
		case *minutes > 0 || *only > 0 || *seed > 0:
			begin := *seed
			if begin == 0 {
				begin = uint64(time.Now().UnixNano() / 1e6 % 1e9)
			}
			count := *only
			if count == 0 && *minutes == 0 {
				count = 1
			}
			for n := begin; (count == 0 || n < begin+uint64(count)) && (*minutes == 0 || time.Now().Before(end)); n++ {
				if asked(WorldOf(n)) {
					give(Generate(n))
				}
			}
		default:
			for _, n := range fixed {
				give(Generate(n))
			}
		}
	}()
	var tally struct{ equal, told, faults atomic.Int64 }
	var mu sync.Mutex
	kinds := map[string]int{}
	var all sync.WaitGroup
	for n, queue := range queues {
		all.Go(func() {
			var lane *Lane
			defer func() {
				if lane != nil {
					lane.Close()
				}
			}()
			for s := range queue {
				if lane == nil || lane.broken() {
					if lane != nil {
						lane.Close()
					}
					var err error
					if lane, err = NewLane(t.Context(), bin, n); err != nil {
						t.Error(err)
						for range queue { // let the others end
						}
						return
					}
				}
				turns <- struct{}{}
				began := time.Now()
				v := lane.Run(t.Context(), s)
				<-turns
				fmt.Printf("%s lane %d %s seed %-10d %5.1f s  %s\n", time.Now().Format("15:04:05"), n, s.Pair, s.Seed,
					time.Since(began).Seconds(), short(v.String()))
				switch {
				case v.Fault != "":
					tally.faults.Add(1)
					mu.Lock()
					kinds[kindOf(v)]++
					many := kinds[kindOf(v)]
					mu.Unlock()
					t.Errorf("seed %d, lane %d: %s\n  %s", s.Seed, n, v.Fault, strings.Join(v.Notes, "\n  "))
					if *shrinks && many == 1 {
						s, v = lane.Shrink(t.Context(), s, v)
					}
					name, err := Save(*where, s, v)
					t.Logf("saved as %s (%v)", name, err)
				case v.Told != "":
					tally.told.Add(1)
				default:
					tally.equal.Add(1)
				}
			}
		})
	}
	all.Wait()
	fmt.Printf("%d equal, %d told, %d faults\n", tally.equal.Load(), tally.told.Load(), tally.faults.Load())
	for k, n := range kinds {
		fmt.Printf("  %4d  %s\n", n, k)
	}
}
