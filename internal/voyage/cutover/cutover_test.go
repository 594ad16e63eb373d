package cutover

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/domain"
)

const whole = "check readiness=done stop writes=done take end position=done drain=done reconcile=done " +
	"move sequences=done build deferred=done close source=done hand over=done release=done"

// TestAWholeCutover: step after step, and at its end the target is in charge and the source closed.
func TestAWholeCutover(t *testing.T) {
	for _, method := range []domain.StopMethod{domain.StopLock, domain.StopReadOnly} {
		synctest.Test(t, func(t *testing.T) {
			q := newQuay(method)
			q.plan(false)
			if err := q.goes(t.Context(), 1); err != nil {
				t.Fatal(err)
			}
			if q.states() != whole || q.k.State != "done" || q.c.Phase != domain.PhaseCutOver {
				t.Errorf("%s: %s; it is %s and the crossing %s", method, q.states(), q.k.State, q.c.Phase)
			}
			if !q.dropped || q.built != 1 || len(q.set) != 1 || q.set[0].Last != 41 || !slices.Equal(q.compares, []bool{true}) ||
				q.reopens != 0 || q.released != 1 || q.k.PausedAt == nil || q.k.ReleasedAt == nil {
				t.Errorf("%s: what came of it: %+v", method, q)
			}
			if !strings.Contains(q.closed, "has moved to database cloud") || !slices.Equal(q.told, []string{"cut over"}) {
				t.Errorf("%s: the source says %q, webhooks were told %q", method, q.closed, q.told)
			}
			if q.stand.Request.What != "" {
				t.Errorf("%s: capture still stands for %v", method, q.stand.Request)
			}
		})
	}
}

// TestARehearsal: stops and compares, takes no step that changes the target, and lets the source
// write again.
func TestARehearsal(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := newQuay(domain.StopLock)
		q.plan(true)
		if err := q.goes(t.Context(), 1); err != nil {
			t.Fatal(err)
		}
		want := "check readiness=done stop writes=done take end position=done drain=done reconcile=done"
		if q.states() != want || q.k.State != "done" || q.c.Phase != domain.PhaseInStep {
			t.Errorf("%s; it is %s, the crossing %s", q.states(), q.k.State, q.c.Phase)
		}
		if q.reopens != 1 || q.stopped || q.built != 0 || q.dropped || q.set != nil || q.stand.Request.What != "" {
			t.Errorf("what came of it: %+v", q)
		}
	})
}

// TestWhatWasTouchedIsComparedBefore: rounds of vouching leave little to compare inside the pause; what
// they find ends the cutover before it.
func TestWhatWasTouchedIsComparedBefore(t *testing.T) {
	for name, c := range map[string]struct {
		depth   domain.Depth
		vouched []domain.Vouched
		rounds  int
		state   domain.CutoverState
	}{
		"little was":         {domain.DepthVouched, []domain.Vouched{{Rows: 7}}, 1, "done"},
		"less each time":     {domain.DepthVouched, []domain.Vouched{{Rows: 90_000}, {Rows: 9_000}, {Rows: 900}}, 3, "done"},
		"it never gets less": {domain.DepthVouched, slices.Repeat([]domain.Vouched{{Rows: 90_000}}, 9), roundsBefore, "done"},
		"rows differ":        {domain.DepthVouched, []domain.Vouched{{Rows: 7, Findings: 2}}, 1, "undone"},
		"all is compared":    {domain.DepthHashes, nil, 0, "done"},
	} {
		synctest.Test(t, func(t *testing.T) {
			q := newQuay(domain.StopLock)
			q.plan(false)
			q.k.Settings.CutoverDepth, q.vouched = c.depth, c.vouched
			_ = q.goes(t.Context(), 1)
			if q.rounds != c.rounds || q.k.State != c.state {
				t.Errorf("%s: %d rounds, and it is %s (%s)", name, q.rounds, q.k.State, q.states())
			}
		})
	}
}

// TestARoundIsTriedAgain: where a transaction that is open for a while keeps both sides from one position, and
// not for ever.
func TestARoundIsTriedAgain(t *testing.T) {
	for unaligned, state := range map[int]domain.CutoverState{0: "done", 2: "done", 99: "undone"} {
		synctest.Test(t, func(t *testing.T) {
			q := newQuay(domain.StopLock, func(s *domain.Settings) { s.CutoverDepth = domain.DepthVouched })
			q.unaligned = unaligned
			q.plan(false)
			_ = q.goes(t.Context(), 1)
			if q.k.State != state || state == "undone" && q.k.PausedAt != nil || state == "done" && q.settled != 1 {
				t.Errorf("%d: it is %s, paused: %v", unaligned, q.k.State, q.k.PausedAt != nil)
			}
		})
	}
}

// TestGatewaysEndWhatStaysOpen: behind gateways a transaction that stays open puts nothing off: the pause ends it,
// and what changes touched is compared there.
func TestGatewaysEndWhatStaysOpen(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := newQuay(domain.StopLock, func(s *domain.Settings) { s.CutoverDepth = domain.DepthVouched })
		q.unaligned, q.route = roundsBefore, &domain.Route{Live: "marsh"}
		q.plan(false)
		_ = q.goes(t.Context(), 1)
		if q.k.State != domain.CutoverDone || !strings.Contains(q.steps[0].Note, "is compared inside the pause") {
			t.Errorf("it is %s: %s; %s", q.k.State, q.states(), q.steps[0].Note)
		}
	})
}

// TestAGuardedTarget takes writes of everybody before applications are told of it; where the cutover is
// taken back, it is closed again, and what was compared before proves nothing.
func TestAGuardedTarget(t *testing.T) {
	for _, lost := range []error{nil, errors.New("the session ended")} {
		synctest.Test(t, func(t *testing.T) {
			q := newQuay(domain.StopLock)
			q.plan(false)
			q.c.Settings.GuardTarget, q.lost, q.guarded = domain.GuardRefuse, lost, true
			_ = q.goes(t.Context(), 1)
			open, anew, unguarded := []bool{true}, 0, 1
			if lost != nil {
				open, anew, unguarded = []bool{true, false}, 1, 0
			}
			if !slices.Equal(q.guards, open) || q.anew != anew || q.unguarded != unguarded {
				t.Errorf("lost %v: opened %v, proved anew %d times, removed %d times; %s", lost, q.guards, q.anew, q.unguarded,
					q.states())
			}
		})
	}
}

// TestWhatTakesACutoverBack: whatever fails before the hand-over leaves the source writable and the
// crossing in step, and says why.
func TestWhatTakesACutoverBack(t *testing.T) {
	blocker := []domain.Entry{{Verdict: domain.Blocker, Subject: "spring", Measured: "the lag is 9 s"}}
	for what, c := range map[string]struct {
		method domain.StopMethod
		change func(*quay)
		says   string
	}{
		"it is not ready":  {domain.StopLock, func(q *quay) { q.ready = blocker }, "not ready: spring: the lag is 9 s"},
		"rows differ":      {domain.StopLock, func(q *quay) { q.findings = 3 }, "reconciliation 12 found 3 differences"},
		"a prepared write": {domain.StopLock, func(q *quay) { q.unended = blocker }, "writes cannot be stopped"},
		"the stop was lost": {domain.StopLock, func(q *quay) { q.lost = errors.New("the session ended") },
			"the hold on the source's writes was lost"},
		"somebody still writes": {domain.StopReadOnly, func(q *quay) {
			q.late = 4
		}, "4 changes of marsh.lots came to the source after its writes were stopped"},
		"a table not captured": {domain.StopLock, func(q *quay) {
			q.missing = []domain.TableName{{Schema: "marsh", Name: "lots"}}
		}, "changes of marsh.lots are not in what capture reads"},
		"a table altered": {domain.StopLock, func(q *quay) { q.catalog.Tables[0].ID = "2" },
			"another table has its name"},
		"the pause is too long": {domain.StopLock, func(q *quay) {
			q.slow = 10 * time.Minute
		}, "the write pause exceeded its budget"},
		"capture has stopped": {domain.StopLock, func(q *quay) { q.stand = domain.Stand{Error: "the target is read-only"} },
			"exceeded its budget of 2m0s; changes were not applied, as capture stopped: the target is read-only"},
		"the command fails": {domain.StopLock, func(q *quay) { q.k.Settings.HandoverCommand = "echo no; exit 3" },
			"the hand-over command failed"},
		"its source cannot": {domain.StopLock, func(q *quay) { q.noStop = true }, "marsh cannot stop writes"},
	} {
		run := func(t *testing.T) {
			q := newQuay(c.method)
			q.plan(false)
			c.change(q)
			err := q.goes(t.Context(), 1)
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v", what, err)
			}
			if q.stand.Error != "" && q.hurried < 5 {
				t.Errorf("%s: it was hurried %d times", what, q.hurried)
			}
			var known interface{ Reported() bool }
			if !errors.As(err, &known) || errors.Unwrap(err) == nil {
				t.Errorf("%s: it is reported twice: %v", what, err)
			}
			if q.k.State != "undone" || q.c.Phase != domain.PhaseInStep || q.stopped || q.closed != "" ||
				q.stand.Request.What != "" {
				t.Errorf("%s: the cutover is %s, the crossing %s, stopped %v, closed %q", what, q.k.State, q.c.Phase, q.stopped,
					q.closed)
			}
			if q.dropped || strings.Contains(q.states(), "=done") || !slices.Equal(q.told, []string{"undone"}) {
				t.Errorf("%s: %s; webhooks were told %q", what, q.states(), q.told)
			}
		}
		if what == "the command fails" { // a process is none of a bubble's
			run(t)
			continue
		}
		synctest.Test(t, run)
	}
}

// TestPeople: a hold point, a word that writes have stopped, and an abort while it waits.
func TestPeople(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := newQuay(domain.StopWord, func(s *domain.Settings) { s.HoldPoints = []domain.StepName{domain.StepStopWrites} })
		q.plan(false)
		q.running = true
		done := make(chan error, 1)
		go func() { done <- q.goes(t.Context(), 1) }()
		time.Sleep(time.Second)
		synctest.Wait()
		if !strings.HasPrefix(q.states(), "check readiness=done stop writes=running take") ||
			q.steps[1].Awaits != domain.AwaitsGoOn {
			t.Fatalf("at the hold point: %s", q.states())
		}
		if err := q.cutovers().Confirm(t.Context(), &q.c, "bob"); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Second)
		synctest.Wait()
		if q.steps[1].Awaits != domain.AwaitsWord || q.k.PausedAt != nil {
			t.Fatalf("it waits for a word, and nothing is paused yet: %+v", q.steps[1])
		}
		if err := q.cutovers().Confirm(t.Context(), &q.c, "bob"); err != nil {
			t.Fatal(err)
		}
		if err := <-done; err != nil || q.states() != whole || q.closed != "" {
			t.Errorf("%v; %s; closed %q", err, q.states(), q.closed)
		}
		if q.k.WordBy != "bob" || q.k.GoneOn["stop writes"] != "bob" {
			t.Errorf("who said it: %+v", q.k)
		}

		q = newQuay(domain.StopLock, func(s *domain.Settings) { s.HoldPoints = []domain.StepName{domain.StepClose} })
		q.plan(false)
		q.running = true
		go func() { done <- q.goes(t.Context(), 1) }()
		time.Sleep(time.Second)
		synctest.Wait()
		if err := q.cutovers().Abort(t.Context(), &q.c, "ann"); err != nil {
			t.Fatal(err)
		}
		if err := <-done; err == nil || !strings.Contains(err.Error(), "aborted by ann") || q.k.State != "undone" ||
			q.reopens != 1 {
			t.Errorf("%v; %s; %d times opened", err, q.k.State, q.reopens)
		}

		q.running = false
		for what, f := range map[string]func(context.Context, *domain.Crossing, string) error{
			"abort": q.cutovers().Abort, "confirm": q.cutovers().Confirm} {
			if err := f(t.Context(), &q.c, "ann"); !domain.IsKind(err, domain.ProblemConflict) {
				t.Errorf("%s without a cutover: %v", what, err)
			}
		}
		q.running = true
		if err := q.cutovers().Confirm(t.Context(), &q.c, "ann"); err == nil || !strings.Contains(err.Error(),
			"waits for nobody's word") {
			t.Errorf("a word that nobody waits for: %v", err)
		}
	})
}

// TestAnotherProcessGoesOn: before the hand-over it takes back, after it it goes forward, and one
// that has lost the cutover does neither.
func TestAnotherProcessGoesOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		paused := time.Now()
		q := newQuay(domain.StopLock)
		q.plan(false)
		q.k.PausedAt, q.c.Phase, q.holder, q.stopped = &paused, domain.PhaseCuttingOver, 2, true
		for i := range 4 {
			q.steps[i].State = domain.StepDone
		}
		q.steps[4].State = domain.StepRunning
		q.stand.Request = domain.Request{What: "reached", At: domain.PositionAt(300), By: "cutover 5"}
		q.gone = domain.Unavailable(errors.New("refused"), "the source is away")
		if err := q.goes(t.Context(), 2); err == nil || !strings.Contains(err.Error(), "died before the hand-over") ||
			q.stopped || q.k.State != "undone" {
			t.Errorf("%v; stopped %v, %s", err, q.stopped, q.k.State)
		}
		if q.stand.Request.What != "" {
			t.Errorf("capture stands for a cutover that is undone: %v", q.stand.Request)
		}
		if len(q.notes) == 0 || !strings.Contains(q.notes[0], "waits for both servers") {
			t.Errorf("a source that is away is not waited for: %q", q.notes)
		}

		q = newQuay(domain.StopLock)
		q.plan(false)
		q.k.PausedAt, q.c.Phase, q.holder, q.closed = &paused, domain.PhaseCuttingOver, 2, "moved"
		for i := range 8 {
			q.steps[i].State = domain.StepDone
		}
		q.steps[8].State = domain.StepRunning
		if err := q.goes(t.Context(), 2); err != nil || q.states() != whole || q.reopens != 0 ||
			q.c.Phase != domain.PhaseCutOver {
			t.Errorf("after the hand-over: %v; %s", err, q.states())
		}

		q = newQuay(domain.StopLock)
		q.plan(false)
		q.holder = 2 // taken over meanwhile
		if err := q.goes(t.Context(), 1); !errors.Is(err, domain.ErrTakenOver) || q.reopens != 0 ||
			q.k.State != domain.CutoverRunning {
			t.Errorf("one that lost it: %v; opened %d times, %s", err, q.reopens, q.k.State)
		}

		q = newQuay(domain.StopLock)
		q.k.State = "done"
		if err := q.goes(t.Context(), 2); err != nil || q.stopped {
			t.Errorf("one that was done: %v", err)
		}

		q = newQuay(domain.StopLock)
		q.plan(false)
		q.c.Phase = domain.PhaseCatchingUp
		if err := q.goes(t.Context(), 1); !domain.IsKind(err, domain.ProblemConflict) || q.k.State != "failed" || q.stopped {
			t.Errorf("one that is in step no more: %v; %s", err, q.k.State)
		}
	})
}

// TestAnUndoIsTriedUntilItWorks: the crossing is held meanwhile, and says that the source may
// refuse writes.
func TestAnUndoIsTriedUntilItWorks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := newQuay(domain.StopLock)
		q.plan(false)
		q.findings, q.stuck = 1, 3
		err := q.goes(t.Context(), 1)
		if err == nil || q.k.State != "undone" || q.stopped || q.reopens != 4 || q.c.Condition != domain.ConditionRunning ||
			q.c.Phase != domain.PhaseInStep {
			t.Errorf("%v; %s, stopped %v, tried %d times, the crossing is %s", err, q.k.State, q.stopped, q.reopens,
				q.c.Condition)
		}
		if len(q.notes) != 3 || !slices.ContainsFunc(q.said, func(s string) bool {
			return strings.HasPrefix(s, "held: ") && strings.Contains(s, "the source may still refuse writes")
		}) {
			t.Errorf("it was said %q, noted %q", q.said, q.notes)
		}

		// A process that is stopped undoes quickly and leaves the rest to another.
		q = newQuay(domain.StopLock)
		q.plan(false)
		q.slow = time.Hour
		over, cancel := context.WithCancel(t.Context())
		done := make(chan error, 1)
		go func() { done <- q.goes(over, 1) }()
		time.Sleep(time.Second)
		synctest.Wait()
		cancel()
		if err := <-done; err == nil || !strings.Contains(err.Error(), "the service was stopped") || q.stopped ||
			q.k.State != "undone" {
			t.Errorf("%v; stopped %v, %s", err, q.stopped, q.k.State)
		}
	})
}

// TestTheHandOversWebhook: it is asked with one key, and what it refuses takes the cutover back.
func TestTheHandOversWebhook(t *testing.T) {
	var keys []string
	answer := http.StatusAccepted
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		keys = append(keys, r.Header.Get("Idempotency-Key"))
		w.WriteHeader(answer)
	}))
	defer server.Close()
	q := newQuay(domain.StopLock)
	q.plan(false)
	q.k.Settings.HandoverURL, q.k.Settings.HandoverCommand = server.URL, `test "$DUSTYFERRY_TARGET" = cloud`
	if err := q.goes(t.Context(), 1); err != nil || !slices.Equal(keys, []string{"u7-cutover-5"}) || q.states() != whole {
		t.Errorf("%v; keys %q; %s", err, keys, q.states())
	}
	q = newQuay(domain.StopLock)
	q.plan(false)
	q.k.Settings.HandoverURL, answer, keys = server.URL, http.StatusConflict, nil
	if err := q.goes(t.Context(), 1); err == nil || !strings.Contains(err.Error(), "the hand-over webhook") ||
		len(keys) != 1 ||
		strings.Contains(err.Error(), "not known") || q.closed != "" || q.k.State != "undone" {
		t.Errorf("one that refuses: %v, asked %d times", err, len(keys))
	}
}

// TestAHandOverWithoutAnAnswer: whoever was told may have acted. The source stays closed until the
// webhook answers, or a person says what came of it.
func TestAHandOverWithoutAnAnswer(t *testing.T) {
	for name, c := range map[string]struct {
		answers []int // of the webhook; the last goes on
		says    func(q *quay)
		state   domain.CutoverState
		note    string
	}{
		"it answers after a while": {[]int{504, 504, 504, 200}, nil, "done", "the webhook answered 200 OK"},
		"a person says that it took effect": {[]int{500}, func(q *quay) {
			if err := q.cutovers().Confirm(context.Background(), &q.c, "wren"); err != nil {
				t.Error(err)
			}
		}, "done", "wren said that it took effect"},
		"a person says that it did not": {[]int{500}, func(q *quay) {
			if err := q.cutovers().Abort(context.Background(), &q.c, "wren"); err != nil {
				t.Error(err)
			}
		}, "undone", "aborted by wren"},
		"it refuses after no answer": {[]int{502, 409}, func(q *quay) {
			if err := q.cutovers().Abort(context.Background(), &q.c, "kea"); err != nil {
				t.Error(err)
			}
		}, "undone", "aborted by kea"},
	} {
		synctest.Test(t, func(t *testing.T) {
			keys := map[string]int{}
			asked := 0
			q := newQuay(domain.StopLock)
			q.plan(false)
			q.k.Settings.HandoverURL, q.running = "http://told.example", true
			was := http.DefaultTransport
			http.DefaultTransport = answers(func(r *http.Request) int {
				keys[r.Header.Get("Idempotency-Key")]++
				asked++
				return c.answers[min(asked, len(c.answers))-1]
			})
			defer func() { http.DefaultTransport = was }()
			waited := false
			go func() {
				for !waited {
					time.Sleep(time.Second)
					q.mu.Lock()
					waited = slices.ContainsFunc(q.steps, func(s domain.CutoverStep) bool { return s.Awaits == domain.AwaitsOutcome })
					closed := q.closed
					q.mu.Unlock()
					if waited && closed == "" {
						t.Errorf("%s: the source takes writes while nobody knows", name)
					}
				}
				if c.says != nil {
					time.Sleep(time.Minute)
					c.says(q)
				}
			}()
			err := q.goes(t.Context(), 1)
			said := fmt.Sprint(err)
			for _, s := range q.steps {
				said += s.Note
			}
			if q.k.State != c.state || !waited || len(keys) != 1 || !strings.Contains(said, c.note) {
				t.Errorf("%s: it is %s, a person was waited for: %v, keys %v: %s", name, q.k.State, waited, keys, said)
			}
			if (q.closed == "") != (c.state == "undone") {
				t.Errorf("%s: the source says %q", name, q.closed)
			}
		})
	}
}

// answers is a webhook somewhere.
type answers func(*http.Request) int

func (a answers) RoundTrip(r *http.Request) (*http.Response, error) {
	code := a(r)
	return &http.Response{StatusCode: code, Status: fmt.Sprintf("%d %s", code, http.StatusText(code)), Body: http.NoBody,
		Request: r}, nil
}

// TestGatewaysAreHeldAndTurned: they hold before locks are taken and lead to the target when it takes
// writes; a rehearsal and a cutover that is undone let them go where they went, once the source is open.
func TestGatewaysAreHeldAndTurned(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := newQuay(domain.StopLock)
		q.route = &domain.Route{Live: "shed"}
		q.k.Settings.GatewayPatience = 3 * time.Second
		q.plan(false)
		if err := q.goes(t.Context(), 1); err != nil {
			t.Fatal(err)
		}
		want := []string{"hold 3s false, stopped false", "switch to cloud"}
		if !slices.Equal(q.turns, want) || q.states() != whole+" switch gateways=done" {
			t.Errorf("%q; %s", q.turns, q.states())
		}
		q = newQuay(domain.StopLock)
		q.route = &domain.Route{Live: "shed"}
		q.plan(true)
		if err := q.goes(t.Context(), 1); err != nil || !slices.Equal(q.turns[1:], []string{"release, stopped false"}) {
			t.Errorf("a rehearsal: %v, %q", err, q.turns)
		}
		q = newQuay(domain.StopLock)
		q.route, q.unheld = &domain.Route{Live: "shed"}, errors.New("kea's gateway is lost")
		q.plan(false)
		if err := q.goes(t.Context(), 1); err == nil || q.k.State != "undone" || q.route.Holding || q.stopped {
			t.Errorf("one that does not hold: %v, %s, %q", err, q.k.State, q.turns)
		}
	})
}

// TestWhatACutoverMayBegin: only with settings of its own, that policy allows, and where it is ready.
func TestWhatACutoverMayBegin(t *testing.T) {
	for what, c := range map[string]struct {
		change func(*quay, *domain.Settings)
		says   string
	}{
		"all is well":            {func(*quay, *domain.Settings) {}, ""},
		"a crossing without log": {func(q *quay, _ *domain.Settings) { q.c.Kind = domain.KindLoad }, "spring"},
		"the wrong phase":        {func(q *quay, _ *domain.Settings) { q.c.Phase = domain.PhaseLoading }, "spring"},
		"an unknown stop":        {func(_ *quay, s *domain.Settings) { s.StopMethod = "prayer" }, "prayer"},
		"a setting of the load":  {func(_ *quay, s *domain.Settings) { s.Lanes = 9 }, "lanes is no setting of a cutover"},
		"another pause budget":   {func(_ *quay, s *domain.Settings) { s.PauseBudget = 77 * time.Second }, ""},
		"one that policy locks": {func(q *quay, s *domain.Settings) {
			s.PauseBudget, q.policy.Locked = 77*time.Second, []string{"pause_budget_seconds", "pause_budget"}
		}, "policy locks it"},
		"what is not ready": {func(q *quay, _ *domain.Settings) {
			q.ready = []domain.Entry{{Verdict: domain.Blocker, Subject: "x", Measured: "not yet"}}
		}, "not ready to cut over: x: not yet"},
	} {
		q := newQuay(domain.StopLock)
		set := q.c.Settings
		c.change(q, &set)
		_, err := q.cutovers().Start(t.Context(), &q.c, false, set, "ann")
		switch {
		case c.says == "" && (err != nil || len(q.began) != 1 || len(q.said) != 1):
			t.Errorf("%s: %v; %q %q", what, err, q.began, q.said)
		case c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says) || len(q.began) != 0):
			t.Errorf("%s: %v; %q", what, err, q.began)
		}
		if what == "another pause budget" && !strings.Contains(q.said[0], "with other settings than the crossing's") {
			t.Errorf("the journal says %q", q.said[0])
		}
	}
}

// TestNobodyCutsOverAlone: where another person has to agree, the cutover waits before anybody notices it,
// and the one who started it cannot let it go on. A rehearsal needs nobody.
func TestNobodyCutsOverAlone(t *testing.T) {
	two := func(s *domain.Settings) { s.SecondPerson = domain.SecondYes }
	synctest.Test(t, func(t *testing.T) {
		q := newQuay(domain.StopLock, two)
		q.plan(false)
		q.running = true
		done := make(chan error, 1)
		go func() { done <- q.goes(t.Context(), 1) }()
		time.Sleep(time.Second)
		synctest.Wait()
		if q.steps[1].Awaits != domain.AwaitsGoOn || !strings.Contains(q.steps[1].Note, "another person than ann") ||
			q.k.PausedAt != nil {
			t.Fatalf("it waits for %q: %s", q.steps[1].Awaits, q.steps[1].Note)
		}
		if err := q.cutovers().Confirm(t.Context(), &q.c, "ann"); !domain.IsKind(err, domain.ProblemConflict) ||
			!strings.Contains(err.Error(), "another person has to let it go on") {
			t.Errorf("ann lets her own go on: %v", err)
		}
		if err := q.cutovers().Confirm(t.Context(), &q.c, "bob"); err != nil {
			t.Fatal(err)
		}
		if err := <-done; err != nil || q.states() != whole || q.k.GoneOn["stop writes"] != "bob" {
			t.Errorf("%v; %s; let go on by %v", err, q.states(), q.k.GoneOn)
		}
	})
	synctest.Test(t, func(t *testing.T) {
		q := newQuay(domain.StopLock, two)
		q.plan(true)
		if err := q.goes(t.Context(), 1); err != nil || q.k.State != "done" {
			t.Errorf("the rehearsal: %v; it is %s", err, q.k.State)
		}
	})
}
