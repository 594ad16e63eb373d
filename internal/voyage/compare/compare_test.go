package compare

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

func TestEqualSidesAreClean(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		r := b.book.results[5]
		if b.book.ended != "clean" || r.State != "done" || r.Parts != 2 || r.DifferingParts != 0 || r.SourceRows != 4 ||
			r.TargetRows != 4 || r.SourceHash != r.TargetHash {
			t.Errorf("it ended %s: %+v", b.book.ended, r)
		}
		if b.book.recon.Position != domain.PositionAt(70) || b.source.beats == 0 || b.book.let != 1 ||
			b.book.stand.Request.What != "" {
			t.Errorf("at %s, after %d heartbeats, let go %d times, and the applier is asked for %+v", b.book.recon.Position,
				b.source.beats, b.book.let, b.book.stand.Request)
		}
	})
}

func TestEveryKindOfDifferenceIsFound(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.target.rows = []domain.Row{row("1", "a"), row("2", "else"), row("4", "d"), row("9", "z")}
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		want := []string{string(domain.Differing) + " 2 name", string(domain.ExtraOnTarget) + " 9",
			string(domain.MissingOnTarget) + " 3"}
		slices.Sort(want)
		if got := b.found(); !slices.Equal(got, want) || b.book.ended != "differing" || !slices.Contains(b.lines.told,
			"differs") {
			t.Errorf("found %q, it is %q; ended %s, told %v", got, want, b.book.ended, b.lines.told)
		}
	})
}

func TestRowsWithoutAKeyAreCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.table.Plan.Key, b.book.table.Plan.KeyOrder = nil, "none"
		b.source.rows = []domain.Row{row("1", "a"), row("1", "a"), row("1", "a")}
		b.target.rows = []domain.Row{row("1", "a"), row("2", "b")}
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		if r := b.book.results[5]; r.Parts != 16 || r.Findings != 2 {
			t.Errorf("%+v", r)
		}
		for _, f := range b.book.findings {
			if f.Detail.Copies != map[string]int{"1": 2, "2": 1}[b.id(f)] {
				t.Errorf("%d copies of %s", f.Detail.Copies, b.id(f))
			}
		}
	})
}

// id is the first column of a finding's row, whichever side has it.
func (b *bench) id(f domain.KeptFinding) string {
	for _, side := range []map[string]*string{f.Detail.Source, f.Detail.Target} {
		if v := side["id"]; v != nil {
			return *v
		}
	}
	return ""
}

func TestOnlyCounting(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.recon.Depth = domain.DepthCounts
		b.target.rows = b.target.rows[:1]
		if err := b.run(); err != nil || b.book.ended != "differing" || b.book.results[5].Findings != 3 {
			t.Errorf("%v; ended %s: %+v", err, b.book.ended, b.book.results[5])
		}
	})
}

// A part that differs without a row that does is never called clean.
func TestSumsWithoutFindingsAreAnError(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.target.other = true
		err := b.run()
		if err == nil || !strings.Contains(err.Error(), "whether the tables are equal is not known") ||
			!strings.HasPrefix(b.book.ended, "failed") {
			t.Errorf("it says %v, and ended %s", err, b.book.ended)
		}
	})
}

func TestAFailureOnEitherSideIsSaid(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.target.broken = errors.New("the barn is shut")
		if err := b.run(); err == nil || !strings.Contains(err.Error(), "the barn is shut") || b.book.let == 0 {
			t.Errorf("it says %v; the applier was let go %d times", err, b.book.let)
		}
	})
}

func TestPatternsChooseTables(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.recon.Patterns = []string{"s.other*"}
		if err := b.run(); !domain.IsKind(err, domain.ProblemInvalid) {
			t.Errorf("no table is chosen: %v", err)
		}
		b.book.recon.Patterns = []string{"s.h*"}
		if err := b.run(); err != nil || len(b.book.results) != 1 {
			t.Errorf("%v, %v", err, b.book.results)
		}
	})
}

// Whoever comes while the applier stands for somebody else waits for its turn, and says so.
func TestOneAfterTheOther(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.stand.Request, b.book.stand.For = domain.Request{What: "holding", By: "another"}, "a repair"
		var notes []string
		if err := b.Comparer.Run(t.Context(), &b.book.crossing, 7, false, func(s string) {
			notes = append(notes, s)
		}); err != nil {
			t.Fatal(err)
		}
		if len(notes) != 1 || !strings.Contains(notes[0], "a repair") {
			t.Errorf("it noted %q", notes)
		}
	})
}

// Every wait for the applier ends, and says why.
func TestTheApplierDoesNotCome(t *testing.T) {
	for what, c := range map[string]struct {
		set  func(*bench)
		says string
		kind domain.ProblemKind
	}{
		"nobody follows": {func(b *bench) { b.book.stand = nil }, "follows no changes", domain.ProblemConflict},
		"it never answers": {func(b *bench) { b.book.deaf = true }, "did not come to a stand",
			domain.ProblemUnavailable},
		"it comes nearer and no end": {func(b *bench) { b.book.advances = true }, "did not come to a stand",
			domain.ProblemUnavailable},
		"another has it meanwhile": {func(b *bench) { b.book.stolen = true }, "was lost again", domain.ProblemUnavailable},
		"its request lapsed":       {func(b *bench) { b.book.lapse = true }, "was lost again", domain.ProblemUnavailable},
		"tables are loaded again": {func(b *bench) { b.book.deaf, b.book.crossing.Phase = true, domain.PhaseLoading },
			"being loaded again", domain.ProblemConflict},
		"it was paused": {func(b *bench) {
			b.book.deaf, b.book.crossing.Condition = true, domain.ConditionPaused
		}, "resume it first", domain.ProblemConflict},
		"capture waits for a person": {func(b *bench) {
			b.book.deaf, b.book.crossing.Condition, b.book.stand.Failures = true, domain.ConditionHeld, -1
		}, "is held", domain.ProblemConflict},
		"one side cannot be compared": {func(b *bench) { b.Comparer.databases = half{pair{b.source, b.target}} },
			"cannot be compared", domain.ProblemConflict},
		"there is no such comparison": {func(b *bench) { b.book.recon.ID = 8 }, "no reconciliation 7",
			domain.ProblemNotFound},
		"the asker is called off first": {func(b *bench) { b.book.deaf = true }, "", ""},
	} {
		t.Run(what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				b := newBench(t)
				c.set(b)
				ctx, cancel := context.WithCancel(t.Context())
				defer cancel()
				if c.says == "" {
					time.AfterFunc(3*time.Second, cancel)
				}
				err := b.Comparer.Run(ctx, &b.book.crossing, 7, false, nil)
				switch {
				case c.says == "" && !errors.Is(err, context.Canceled):
					t.Errorf("it says %v", err)
				case c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says) || !domain.IsKind(err, c.kind)):
					t.Errorf("it says %v, want a %s with %q", err, c.kind, c.says)
				}
				if b.book.stand != nil && b.book.stand.Request.By == "us" {
					t.Errorf("the applier is still asked for %+v", b.book.stand.Request)
				}
			})
		})
	}
}

// TestASecondLook: what seems to differ while both sides take writes is compared at another position
// before it is a finding: a table that is emptied behind a view is empty in it. So where too many rows
// differ, all of the table is.
func TestASecondLook(t *testing.T) {
	everything := func(b *bench) {
		b.source.rows = nil
		for i := range maxFindings + 1 {
			b.source.rows = append(b.source.rows, row(fmt.Sprint(i), "a"))
		}
		b.target.rows = nil
	}
	one := func(b *bench) { b.target.rows = b.target.rows[1:] }
	keyless := func(b *bench) {
		b.book.table.Plan.Key, b.book.table.Plan.KeyOrder = nil, "none"
		one(b)
	}
	there := func(b *bench) { b.target.rows = b.source.rows }
	for name, c := range map[string]struct {
		first, second func(b *bench)
		depth         domain.Depth
		findings      int64
		scans         int
	}{
		"a row is there after all":  {one, there, "", 0, 4},
		"a row differs again":       {one, nil, "", 1, 2},
		"all are there after all":   {everything, there, "", 0, 4},
		"the source is empty":       {everything, func(b *bench) { b.source.rows = nil }, "", 0, 4},
		"one of many":               {everything, func(b *bench) { b.target.rows = b.source.rows[1:] }, "", 1, 4},
		"counts again":              {one, nil, domain.DepthCounts, 1, 0},
		"counts, and not again":     {one, there, domain.DepthCounts, 0, 0},
		"rows without a key, again": {keyless, nil, "", 1, 4},
		"no other position":         {one, func(b *bench) { b.source.broken = errors.New("away") }, "", 1, 2},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				b := newBench(t)
				b.book.recon.Depth = cmp.Or(c.depth, domain.DepthHashes)
				c.first(b)
				b.source.looked = func(n int) {
					if n == 1 && c.second != nil {
						c.second(b)
					}
				}
				if err := b.run(); err != nil {
					t.Fatal(err)
				}
				r := b.book.results[5]
				if scans := b.source.scans + b.target.scans; r.Findings != c.findings || r.State != "done" || scans != c.scans ||
					b.book.ended != map[bool]string{true: "differing", false: "clean"}[c.findings > 0] {
					t.Errorf("ended %s with %d findings after %d scans", b.book.ended, r.Findings, scans)
				}
				if r.Findings == 0 && r.SourceHash != r.TargetHash {
					t.Errorf("the hashes are %s and %s", r.SourceHash, r.TargetHash)
				}
				if kept := int64(len(b.book.findings)); c.depth == "" && kept != c.findings {
					t.Errorf("%d findings are kept", kept)
				}
			})
		})
	}
}

// TestAViewHoldsOneTable: whoever empties several tables at once would wait for us, and we for them.
func TestAViewHoldsOneTable(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		second := b.book.table
		second.ID = 6
		b.book.more = []domain.CrossingTable{second}
		if err := b.run(); err != nil || b.source.scans != 2 {
			t.Fatal(err, b.source.scans)
		}
		if b.source.most != 1 || b.target.most != 1 || b.source.held != 0 {
			t.Errorf("%d and %d tables were held at once", b.source.most, b.target.most)
		}
	})
}

// half is a pair whose target cannot be compared.
type half struct{ pair }

func (h half) OpenPair(ctx context.Context, c *domain.Crossing) (src, dst *engine.Opened, err error) {
	src, dst, err = h.pair.OpenPair(ctx, c)
	dst.Compares = nil
	return src, dst, err
}

// Where writes are stopped, or nothing is followed, no applier is asked.
func TestPlainViewsAreEnough(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, set := range []func(*bench) bool{
			func(*bench) bool { return true },
			func(b *bench) bool { b.book.crossing.Kind = domain.KindLoad; return false },
			func(b *bench) bool { b.book.crossing.Phase = domain.PhaseCutOver; return false },
		} {
			b := newBench(t)
			quiet := set(b)
			b.book.stand = nil
			if err := b.Comparer.Run(t.Context(), &b.book.crossing, 7, quiet, nil); err != nil || b.book.ended != "clean" {
				t.Errorf("%v, ended %s", err, b.book.ended)
			}
		}
	})
}

func TestRepairAndCompareAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.target.rows = []domain.Row{row("1", "a"), row("2", "else"), row("4", "d"), row("9", "z")}
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		args := RepairArgs{Reconciliation: 7}
		if err := b.StartRepair(t.Context(), &b.book.crossing, args, "ada"); err != nil {
			t.Fatal(err)
		}
		if err := b.Repair(t.Context(), &b.book.crossing, args, "ada", nil); err != nil {
			t.Fatal(err)
		}
		fixes := map[string]string{}
		for _, f := range b.target.fixed {
			fixes[f.Key[0]] = text(f.Row)
		}
		want := map[string]string{"2": text(row("2", "b")), "3": text(row("3", "c")), "9": ""}
		if !maps.Equal(fixes, want) || b.target.at != domain.PositionAt(70) {
			t.Errorf("repaired %q at %s, it is %q at 70", fixes, b.target.at, want)
		}
		if err := b.StartRepair(t.Context(), &b.book.crossing, args, "ada"); !domain.IsKind(err, domain.ProblemConflict) {
			t.Errorf("nothing is open any more: %v", err)
		}
		// One was repaired, the others were not in truth: comparing again says so.
		b.target.rows = []domain.Row{row("1", "a"), row("2", "b"), row("4", "d"), row("9", "y")}
		if err := b.StartRecheck(t.Context(), &b.book.crossing, args, "ada"); err != nil {
			t.Fatal(err)
		}
		if err := b.Recheck(t.Context(), &b.book.crossing, args, "ada", nil); err != nil {
			t.Fatal(err)
		}
		states := map[string]string{}
		for _, f := range b.book.findings {
			states[f.Detail.Key[0]] = f.State
		}
		if !maps.Equal(states, map[string]string{"2": "equal", "3": "open", "9": "open"}) {
			t.Errorf("the findings are %v", states)
		}
		if !slices.ContainsFunc(b.lines.said, func(l string) bool { return strings.HasPrefix(l, "warning 1 of 3 rows") }) {
			t.Errorf("the journal says %q", b.lines.said)
		}
	})
}

func TestRowsWithoutAKeyAreRepairedByCopies(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.table.Plan.Key, b.book.table.Plan.KeyOrder = nil, "none"
		b.source.rows = []domain.Row{row("1", "a"), row("1", "a"), row("1", "a")}
		b.target.rows = []domain.Row{row("1", "a"), row("2", "b")}
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		if err := b.Repair(t.Context(), &b.book.crossing, RepairArgs{Reconciliation: 7}, "ada", nil); err != nil {
			t.Fatal(err)
		}
		got := map[string]int{}
		for _, f := range b.target.fixed {
			got["put "+text(f.Row)+", remove "+text(f.Old)] = f.Copies
		}
		want := map[string]int{"put " + text(row("1", "a")) + ", remove ": 2, "put , remove " + text(row("2", "b")): 1}
		if !maps.Equal(got, want) {
			t.Errorf("repaired %v, it is %v", got, want)
		}
	})
}

func TestWhatIsRefused(t *testing.T) {
	b := newBench(t)
	c := &b.book.crossing
	refused := func(what string, kind domain.ProblemKind, err error) {
		t.Helper()
		if !domain.IsKind(err, kind) {
			t.Errorf("%s: %v", what, err)
		}
	}
	start := func(depth domain.Depth) error {
		_, err := b.Start(t.Context(), c, depth, nil, 0, "ada")
		return err
	}
	refused("a depth that is none", domain.ProblemInvalid, start("deep"))
	if err := start(domain.DepthCounts); err != nil || !slices.Contains(b.work.added, "counts") {
		t.Errorf("%v, %v", err, b.work.added)
	}
	for _, share := range []float64{-0.1, 1.5} {
		_, err := b.Start(t.Context(), c, domain.DepthHashes, nil, share, "ada")
		refused("a share that is none", domain.ProblemInvalid, err)
	}
	c.Phase, c.ReturnBy = domain.PhaseCutOver, "spring-back"
	refused("one whose way back is open", domain.ProblemConflict, start(domain.DepthHashes))
	c.Phase, c.ReturnBy = domain.PhaseInStep, ""
	refused("findings that are not there", domain.ProblemConflict, b.StartRecheck(t.Context(), c,
		RepairArgs{Reconciliation: 7}, "ada"))
	refused("another comparison", domain.ProblemNotFound, b.StartRecheck(t.Context(), c, RepairArgs{Reconciliation: 8},
		"ada"))
	refused("a repair of another comparison", domain.ProblemNotFound, b.StartRepair(t.Context(), c,
		RepairArgs{Reconciliation: 8}, "ada"))
	c.Condition = domain.ConditionPaused
	refused("while it is paused", domain.ProblemConflict, start(domain.DepthHashes))
	c.Phase, c.Condition = domain.PhaseDraft, domain.ConditionRunning
	refused("a draft", domain.ProblemConflict, start(domain.DepthHashes))
	refused("a repair of a draft", domain.ProblemConflict, b.StartRepair(t.Context(), c, RepairArgs{Reconciliation: 7},
		"ada"))
	refused("comparing rows of a draft again", domain.ProblemConflict, b.StartRecheck(t.Context(), c,
		RepairArgs{Reconciliation: 7}, "ada"))
}

// TestAComparisonGoesOn: what a process before had done is not read again, and counts.
func TestAComparisonGoesOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.done = map[int64]int64{5: 3}
		b.source.rows = nil // which nobody reads
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		if b.book.ended != "differing" || len(b.book.results) != 0 {
			t.Errorf("it ended %s: %+v", b.book.ended, b.book.results)
		}
	})
}

// TestAShareOfTheTime: for each moment of reading a comparison rests as the share wants.
func TestAShareOfTheTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for share, want := range map[float64]time.Duration{0: 4 * time.Second, 1: 4 * time.Second, 0.5: 8 * time.Second,
			0.1: 40 * time.Second} {
			var read atomic.Int64
			began, told := time.Now(), paced(t.Context(), share, &read)
			for range 4 {
				time.Sleep(time.Second)
				told(10)
			}
			if took := time.Since(began); took < want-time.Millisecond || took > want+time.Millisecond || read.Load() != 40 {
				t.Errorf("a share of %g: %s for %d rows, not %s", share, took, read.Load(), want)
			}
		}
	})
}

// TestAComparisonRestsInQuietHours: one that takes a share of the time begins none, and ends its views before a
// table that would come in them; one that was asked for now does not wait.
func TestAComparisonRestsInQuietHours(t *testing.T) {
	run := func(share float64, hours ...string) (b *bench, took time.Duration, notes []string) {
		t.Helper()
		synctest.Test(t, func(t *testing.T) { // it is Saturday, 0 o'clock
			b = newBench(t)
			b.book.crossing.Settings.QuietHours = hours
			second := b.book.table
			second.ID = 6
			b.book.more = []domain.CrossingTable{second}
			b.source.looked = func(n int) {
				if n == 0 {
					time.Sleep(10 * time.Minute)
				} else {
					b.book.done = map[int64]int64{5: 0} // as the records have it by then
				}
			}
			began := time.Now()
			if err := b.Comparer.RunAt(t.Context(), &b.book.crossing, Args{Reconciliation: 7, Share: share}, false,
				func(n string) { notes = append(notes, n) }); err != nil {
				t.Error(err)
			}
			took = time.Since(began)
		})
		return b, took, slices.Compact(notes)
	}
	b, took, notes := run(0.5, "sat 00:00-02:00")
	if took < 2*time.Hour || took > 3*time.Hour || len(b.source.limits) != 1 ||
		!slices.ContainsFunc(notes, func(n string) bool { return strings.Contains(n, "quiet hours") }) {
		t.Errorf("it took %s and %d views, and said %q", took, len(b.source.limits), notes)
	}
	b, took, _ = run(0.5, "sat 00:05-01:00")
	if took < time.Hour || took > 2*time.Hour || len(b.source.limits) != 2 || b.book.ended != "clean" ||
		b.book.results[5].State != "done" || b.book.results[6].State != "done" {
		t.Errorf("it took %s and %d views, and ended %s: %+v", took, len(b.source.limits), b.book.ended, b.book.results)
	}
	for _, share := range []float64{0, 1} {
		if b, took, _ := run(share, "sat 00:00-02:00"); took > time.Hour || len(b.source.limits) != 1 {
			t.Errorf("with a share of %g it took %s and %d views", share, took, len(b.source.limits))
		}
	}
}
