package cutover

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"dustyferry/internal/domain"
)

func opening(s *domain.Settings) { s.ReturnPath = domain.ReturnOpen }

// TestAWayBackIsOpened: it is ready before writes stop, begins where the target was when both were
// alike, and is the only one that the closed source lets write.
func TestAWayBackIsOpened(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := newQuay(domain.StopLock, opening)
		q.plan(false)
		if err := q.goes(t.Context(), 1); err != nil {
			t.Fatal(err)
		}
		want := "check readiness=done prepare return path=done stop writes=done take end position=done drain=done " +
			"reconcile=done move sequences=done take return position=done build deferred=done close source=done " +
			"hand over=done release=done start return path=done"
		if q.states() != want || q.marked != domain.PositionAt(4711) || !q.returns || q.except != "u8" {
			t.Errorf("%s; from %s on, it follows: %v, the source lets %q write", q.states(), q.marked, q.returns, q.except)
		}
		if said := strings.Join(q.said, "\n"); !strings.Contains(said, "brought back to marsh by spring-back") {
			t.Errorf("said:\n%s", said)
		}
	})
}

// TestNoWayBackIsLeft: a rehearsal, and a cutover that is taken back, leave none; and where none can be
// made nobody waits.
func TestNoWayBackIsLeft(t *testing.T) {
	for name, c := range map[string]struct {
		rehearsal bool
		change    func(q *quay)
		state     domain.CutoverState
		paused    bool
	}{
		"a rehearsal":         {true, func(*quay) {}, domain.CutoverDone, true},
		"rows differ":         {false, func(q *quay) { q.findings = 2 }, "undone", true},
		"the hold is lost":    {false, func(q *quay) { q.lost = errors.New("cut off") }, "undone", true},
		"it cannot be made":   {false, func(q *quay) { q.noWay = errors.New("no log") }, "undone", false},
		"it cannot rehearsed": {true, func(q *quay) { q.noWay = errors.New("no log") }, "undone", false},
	} {
		synctest.Test(t, func(t *testing.T) {
			q := newQuay(domain.StopLock, opening)
			c.change(q)
			q.plan(c.rehearsal)
			_ = q.goes(t.Context(), 1)
			if q.k.State != c.state || q.c.ReturnBy != "" || q.returns || q.c.Phase != domain.PhaseInStep ||
				(q.k.PausedAt != nil) != c.paused {
				t.Errorf("%s: it is %s, the return path %q follows: %v; %s", name, q.k.State, q.c.ReturnBy, q.returns, q.states())
			}
		})
	}
}

// goingBack is the return path of a crossing that was cut over by locks.
func goingBack() *quay {
	q := newQuay(domain.StopLock)
	of := int64(3)
	q.c.ReturnOf, q.c.ReturnOfIs = &of, "forth"
	set := q.k.Settings
	q.before = []domain.Cutover{{ID: 2, Rehearsal: true, State: domain.CutoverDone, Settings: set},
		{ID: 1, State: domain.CutoverDone, Settings: set}}
	q.plan(false)
	return q
}

// TestGoingBack opens what the cutover before closed, when the other side is closed; and closes it again,
// before the other takes writes, if it is taken back.
func TestGoingBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := goingBack()
		if err := q.goes(t.Context(), 1); err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(q.states(), "close source=done open target=done hand over=done") ||
			!slices.Equal(q.far, []string{"opened dusty_ferry_u3"}) || q.anew != 0 {
			t.Errorf("%s; the target was %q", q.states(), q.far)
		}
	})
	synctest.Test(t, func(t *testing.T) {
		q := goingBack()
		q.k.Settings.HandoverCommand = "exit 1"
		q.farStuck = 2
		_ = q.goes(t.Context(), 1)
		if q.k.State != "undone" || !slices.Equal(q.far, []string{"opened dusty_ferry_u3", "closed but for u7"}) ||
			q.anew == 0 || q.closed != "" {
			t.Errorf("it is %s; the target was %q, nothing is proved %d times, the source says %q", q.k.State, q.far, q.anew,
				q.closed)
		}
		if q.reopens != 1 { // not while both would take writes
			t.Errorf("the source was opened %d times", q.reopens)
		}
	})
	synctest.Test(t, func(t *testing.T) {
		q := goingBack()
		q.before = nil
		_ = q.goes(t.Context(), 1)
		if q.k.State != "undone" || !strings.Contains(q.k.Error, "nothing was cut over to it before") {
			t.Errorf("it is %s: %s", q.k.State, q.k.Error)
		}
	})
}

// TestAWayBackBeginsInTheEnd: it is tried until it works; one that is gone is told of, and the cutover ends.
func TestAWayBackBeginsInTheEnd(t *testing.T) {
	away, gone := errors.New("the records do not answer"), domain.Conflict("it is gone")
	for name, c := range map[string]struct {
		starts  []error
		returns bool
	}{"at the third try": {[]error{away, away}, true}, "gone": {[]error{away, gone}, false}} {
		synctest.Test(t, func(t *testing.T) {
			q := newQuay(domain.StopLock, opening)
			q.starts = c.starts
			q.plan(false)
			if err := q.goes(t.Context(), 1); err != nil || q.k.State != domain.CutoverDone ||
				q.c.Phase != domain.PhaseCutOver || q.returns != c.returns {
				t.Errorf("%s: %v; it is %s, the crossing %s, it follows: %v", name, err, q.k.State, q.c.Phase, q.returns)
			}
			if said := strings.Join(q.said, "\n"); strings.Contains(said, "there is no return path: it is gone") == c.returns {
				t.Errorf("%s: said\n%s", name, said)
			}
		})
	}
}
