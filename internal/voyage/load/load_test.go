package load

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

func TestALaneCarriesEveryChunk(t *testing.T) {
	l, b, s := scene()
	if err := l.Run(t.Context(), 1, 4); err != nil {
		t.Fatal(err)
	}
	if len(b.landed) != 3 || len(s.rows) != 30 || b.landed[2].Rows != 10 || len(b.back) != 0 {
		t.Errorf("landed %v, %d rows, given back %q", b.landed, len(s.rows), b.back)
	}
	if s.open != 0 || !slices.Equal(b.ended, []int64{4}) || !slices.Equal(b.said, []string{"none left"}) {
		t.Errorf("%d connections are open, ended %v, said %q", s.open, b.ended, b.said)
	}
}

// TestWhoDoesNotCarry: a lane that is another's, or one too many, claims nothing.
func TestWhoDoesNotCarry(t *testing.T) {
	l, b, _ := scene()
	b.lost = true
	if err := l.Run(t.Context(), 1, 4); err != nil || len(b.waiting) != 3 || len(b.ended) != 1 {
		t.Errorf("%v, %d chunks wait, ended %v", err, len(b.waiting), b.ended)
	}
	l, b, _ = scene()
	l.Lanes = 0
	if err := l.Run(t.Context(), 1, 4); err != nil || len(b.waiting) != 3 {
		t.Errorf("%v, %d chunks wait", err, len(b.waiting))
	}
	if l.Lanes = 1; !l.begins() || l.begins() {
		t.Error("two lanes where there is room for one")
	}
	l.ends()
	if !l.begins() {
		t.Error("a lane that ended left no room")
	}
}

// TestAFarServerGetsTwoHands: while a chunk lands far away the lane reads the next one, and never two.
func TestAFarServerGetsTwoHands(t *testing.T) {
	for trip, hands := range map[time.Duration]int{0: 1, 4 * time.Millisecond: 1, 50 * time.Millisecond: 2} {
		synctest.Test(t, func(t *testing.T) {
			l, b, s := scene()
			s.trip, s.slow = trip, 20*time.Millisecond
			if err := l.Run(t.Context(), 1, 4); err != nil {
				t.Fatal(err)
			}
			if len(b.landed) != 3 || len(s.rows) != 30 || s.most != 1 || s.open != 0 || len(b.ended) != 1 {
				t.Errorf("%s away: landed %v, %d rows, %d read at once, %d connections open, ended %v", trip, b.landed,
					len(s.rows), s.most, s.open, b.ended)
			}
			if two := hands == 2; two != (s.waiting > 0) || two != (b.landing == 3) {
				t.Errorf("%s away: %d chunks landed while another was read, %d were said to", trip, s.waiting, b.landing)
			}
		})
	}
	// What goes wrong with one hand's chunk is the other's no matter.
	l, b, s := scene()
	s.trip, s.refused = 6*time.Millisecond, bad("3", "17")
	if err := l.Run(t.Context(), 1, 4); err != nil || len(b.landed) != 1 || len(b.back) != 2 {
		t.Errorf("%v: landed %v, given back %q", err, b.landed, b.back)
	}
}

// TestLanesTakeTurns: who has carried for a while makes room where others wait.
func TestLanesTakeTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l, b, s := scene()
		s.slow, b.others = 1200*time.Millisecond, true // a chunk takes twelve seconds
		if err := l.Run(t.Context(), 1, 4); err != nil || len(b.landed) != 1 || len(b.waiting) != 2 {
			t.Errorf("%v, landed %v, %d wait", err, b.landed, len(b.waiting))
		}
	})
}

// TestWhatBecomesOfAFailedChunk goes through the reasons for which one does not land.
func TestWhatBecomesOfAFailedChunk(t *testing.T) {
	for name, c := range map[string]struct {
		do           func(b *ledger, s *pair)
		attempts     int
		back, said   string
		rests, lands int
	}{
		"a side is away": {do: func(_ *ledger, s *pair) {
			s.reading = domain.Unavailable(engine.MarkGone(io.EOF), "old cut the connection")
		}, back: "1 waits true, counts true", said: "try 1 of 3"},
		"the source is another": {do: func(_ *ledger, s *pair) { s.another = domain.Conflict("another server answers") },
			attempts: 5, back: "counts true", said: "held hive.jars: chunk 1 of hive.jars (id from 0 to below 10) failed 6 " +
				"times: another server answers."},
		"no room on the target": {do: func(_ *ledger, s *pair) {
			s.reading = &engine.ServerError{Text: "the disk is full", Class: engine.NoRoom}
		}, back: "1 waits false, counts false", said: "warning away: the load waits, and goes on by itself: the disk is full",
			rests: 1},
		"it fails": {do: func(_ *ledger, s *pair) { s.reading = errors.New("no luck") },
			back: "1 waits true, counts true: no luck", said: "failed (try 1 of 3) and will be tried again: no luck"},
		"it fails once too often": {do: func(_ *ledger, s *pair) { s.reading = errors.New("no luck") }, attempts: 2,
			back: "failed 3 times: no luck", said: "held hive.jars"},
		"our own code fails": {do: func(_ *ledger, s *pair) { s.panics = true }, back: "counts true",
			said: "held hive.jars"},
		"it had landed": {do: func(_ *ledger, s *pair) {
			s.reading, s.marked = errors.New("no luck"), &engine.Mark{Sum: rowhash.Sum{Rows: 10}}
		}, lands: 1},
		"its table was written anew": {do: func(b *ledger, s *pair) { s.reading = engine.ErrRewritten },
			said: "warning restart: hive.jars is loaded again: all rows of the table were written anew"},
		"what was read is too old": {do: func(b *ledger, _ *pair) {
			b.crossing.StartAt = domain.PositionAt(99)
		}, back: "1 waits true, counts false", said: "taken down and will be tried again: what can be read of the source " +
			"is older than the place from which its changes are captured (place 50 before place 99)"},
	} {
		t.Run(name, func(t *testing.T) {
			l, b, s := scene()
			c.do(b, s)
			b.waiting = b.waiting[:1]
			b.waiting[0].Attempts = c.attempts
			if err := l.Run(t.Context(), 1, 4); err != nil {
				t.Fatal(err)
			}
			if got := strings.Join(b.back, "; "); !strings.Contains(got, c.back) || (c.back == "") != (got == "") {
				t.Errorf("given back: %q, want %q", got, c.back)
			}
			if got := strings.Join(b.said, "; "); !strings.Contains(got, c.said) {
				t.Errorf("said %q, want %q", got, c.said)
			}
			if again := len(b.reset) > 0; again != strings.Contains(c.said, "loaded again") {
				t.Errorf("the tables %v begin again", b.reset)
			}
			if len(b.rests) != c.rests || len(b.landed) != c.lands || s.open != 0 {
				t.Errorf("rests %q, landed %v, %d connections open", b.rests, b.landed, s.open)
			}
		})
	}
}

// TestATargetThatIsAway: a chunk whose target cannot be asked stays with the keeper, and the
// crossing rests.
func TestATargetThatIsAway(t *testing.T) {
	l, b, s := scene()
	s.away = domain.Unavailable(engine.MarkGone(io.EOF), "new is not there")
	b.waiting = b.waiting[:1]
	if err := l.Run(t.Context(), 1, 4); err != nil || len(b.back) != 0 || len(b.rests) != 1 ||
		!strings.Contains(b.rests[0], "new is not there") {
		t.Errorf("%v, given back %q, rests %q", err, b.back, b.rests)
	}
	// Who lost a chunk leaves it to its new holder.
	l, b, s = scene()
	b.waiting, b.lost, s.reading = b.waiting[:1], true, domain.ErrTakenOver
	chunk := b.waiting[0]
	l.Return(t.Context(), &b.crossing, chunk, domain.ErrTakenOver)
	if len(b.back) != 0 {
		t.Errorf("a chunk of another's was given back: %q", b.back)
	}
}

// TestRowsThatTheTargetRefuses are found one by one: named, set aside, or too many.
func TestRowsThatTheTargetRefuses(t *testing.T) {
	l, b, s := scene()
	s.refused = bad("3", "17")
	if err := l.Run(t.Context(), 1, 4); err != nil {
		t.Fatal(err)
	}
	said := strings.Join(b.said, "; ")
	for _, want := range []string{"chunk 1 of hive.jars (id from 0 to below 10): 1 row cannot land: key 3: the value " +
		"is too sweet", "key 17", "Correct the rows or the target's table and resume"} {
		if !strings.Contains(said, want) {
			t.Errorf("said %q, want %q", said, want)
		}
	}
	if len(b.landed) != 1 || len(s.rows) != 10 || len(b.rejected) != 0 {
		t.Errorf("landed %v, rows %v, rejected %v", b.landed, s.rows, b.rejected)
	}

	l, b, s = scene()
	s.refused = bad("3", "17")
	b.crossing.Settings.BadRows, b.crossing.Settings.BadRowsLimit = "set aside", 5
	if err := l.Run(t.Context(), 1, 4); err != nil {
		t.Fatal(err)
	}
	if len(b.landed) != 3 || len(s.rows) != 28 || len(b.rejected) != 2 ||
		b.rejected[1].String() != "key 17: the value is too sweet" || *b.rejected[0].Row["note"] != "honey 3" {
		t.Errorf("landed %v, %d rows, rejected %v", b.landed, len(s.rows), b.rejected)
	}
	if b.landed[1].Rows != 9 || !strings.Contains(strings.Join(b.said, "; "), "1 row of hive.jars, chunk 1, set aside") {
		t.Errorf("%v, %q", b.landed, b.said)
	}

	for _, limit := range []int{0, 1} { // of a chunk, and with those of other chunks
		l, b, s = scene()
		s.refused = bad("3", "17")
		b.crossing.Settings.BadRows, b.crossing.Settings.BadRowsLimit = "set aside", limit
		if err := l.Run(t.Context(), 1, 4); err != nil {
			t.Fatal(err)
		}
		if said := strings.Join(b.said, "; "); !strings.Contains(said,
			fmt.Sprintf("more than bad_rows_limit, %d, of the table would be set aside", limit)) || len(b.rejected) > limit {
			t.Errorf("limit %d: %q, rejected %v", limit, said, b.rejected)
		}
	}
}

// TestValuesThatAreCut are kept by their rows, before the chunk lands.
func TestValuesThatAreCut(t *testing.T) {
	l, b, s := scene()
	s.cutting = "12"
	if err := l.Run(t.Context(), 1, 4); err != nil {
		t.Fatal(err)
	}
	if len(b.landed) != 3 || len(b.cut) != 1 || b.cut[0].Error != "cut: it is longer than 5 bytes" ||
		b.cut[0].Column != "note" {
		t.Errorf("landed %v, cut %v", b.landed, b.cut)
	}
}

// TestWhatStandsStill: where a server is at work it is shown, otherwise the chunk is taken
// down; a lease that is lost ends the work at once.
func TestWhatStandsStill(t *testing.T) {
	for name, c := range map[string]struct {
		works, lost bool
		want        string
	}{
		"nobody is at work":   {want: "1 waits true, counts false"},
		"a server is at work": {works: true, lost: true},
		"it is another's":     {lost: true},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				l, b, s := scene()
				s.stands, s.at = true, c.works
				b.waiting = b.waiting[:1]
				if c.lost {
					after := time.Second
					if c.works {
						after = 5 * time.Minute
					}
					time.AfterFunc(after, func() { b.mu.Lock(); b.lost = true; b.mu.Unlock() })
				}
				began := time.Now()
				_ = l.Run(t.Context(), 1, 4)
				took := time.Since(began)
				switch {
				case c.works && (took < 5*time.Minute || len(b.shown) == 0 || !strings.Contains(b.shown[0],
					"nothing has moved for 1m0s: on the source it thinks")):
					t.Errorf("after %s: shown %q", took, b.shown)
				case !c.works && !c.lost && (took < time.Minute || took > 2*time.Minute):
					t.Errorf("taken down after %s", took)
				case !c.works && c.lost && took > 10*time.Second:
					t.Errorf("it went on for %s", took)
				}
				if got := strings.Join(b.back, "; "); !strings.Contains(got, c.want) || c.want == "" && got != "" {
					t.Errorf("given back: %q", got)
				}
			})
		})
	}
}

// TestBounds are told as a person reads them.
func TestBounds(t *testing.T) {
	byDisk := &domain.TablePlan{Key: []string{"code"}, ReadOrder: domain.ByDisk}
	if got := boundsText(byDisk, domain.KeyValue{"0", "16423"}, domain.KeyValue{"90", "16423"}); got !=
		"page from 0 to below 90" {
		t.Errorf("%q", got)
	}
	p := &domain.TablePlan{Key: []string{"apiary", "id"}}
	a, z := domain.KeyValue{"dyke", "1"}, domain.KeyValue{"marsh", "9"}
	for want, got := range map[string]string{"all rows": boundsText(p, nil, nil), "apiary, id below marsh, 9": boundsText(
		p, nil, z), "apiary, id from dyke, 1": boundsText(p, a, nil), "apiary, id from dyke, 1 to below marsh, 9": boundsText(
		p, a, z)} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
