package cutover

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// quay is a crossing that is in step, with its source and target, and what is kept of its cutover.
type quay struct {
	mu      sync.Mutex
	c       domain.Crossing
	k       domain.Cutover
	steps   []domain.CutoverStep
	stand   domain.Stand
	house   domain.House
	holder  int64 // the epoch under which the task is held
	running bool

	// The source.
	noStop   bool // it cannot stop writes
	head     domain.Position
	stopped  bool
	closed   string // what it says to writers
	reopens  int
	stuck    int   // how often it cannot be opened again
	lost     error // the hold on writes
	late     int64 // changes that come although writes are stopped
	unended  []domain.Entry
	gone     error // the databases are away
	dropped  bool
	missing  []domain.TableName // from what capture reads
	released int

	ready    []domain.Entry
	findings int64
	compares []bool
	slow     time.Duration // of the comparison
	built    int
	set      []engine.SequenceValue
	notes    []string // of the task
	said     []string
	told     []string
	began    []string
	catalog  domain.Catalog
}

func newQuay(method domain.StopMethod, change ...func(*domain.Settings)) *quay {
	set := domain.DefaultSettings()
	set.StopMethod, set.CutoverDepth = method, domain.DepthHashes
	for _, f := range change {
		f(&set)
	}
	table := domain.Table{TableName: domain.TableName{Schema: "marsh", Name: "lots"}, ID: "1", Written: "1"}
	q := &quay{holder: 1, head: 100, stand: domain.Stand{Epoch: 3, Live: true},
		catalog: domain.Catalog{Tables: []domain.Table{table}}}
	q.c = domain.Crossing{ID: 7, UID: "u7", Name: "spring", Source: "marsh", Target: "cloud", Kind: domain.KindLoadCapture,
		Phase: domain.PhaseInStep, Condition: domain.ConditionRunning, Settings: set, Undo: []string{"ALTER TABLE"}}
	q.k = domain.Cutover{ID: 5, CrossingID: 7, State: "running", Settings: set, Actor: "ann"}
	return q
}

// plan gives the cutover its steps.
func (q *quay) plan(rehearsal bool) {
	q.k.Rehearsal, q.steps = rehearsal, nil
	for i, n := range cutoverSteps.Names(rehearsal) {
		q.steps = append(q.steps, domain.CutoverStep{CutoverID: 5, Ordinal: i, Name: n, State: domain.StepWaiting})
	}
}

func (q *quay) cutovers() *Cutovers {
	return New(q, q, q, comparer{q}, q, q, func(_ context.Context, c *domain.Crossing, rehearsal bool, set domain.Settings,
		list []domain.StepName, actor string) (int64, error) {
		q.began = append(q.began, fmt.Sprintf("%s %v %s %d by %s", c.Name, rehearsal, set.StopMethod, len(list), actor))
		return 5, nil
	})
}

// goes carries the cutover out, as the process that holds its task under an epoch.
func (q *quay) goes(ctx context.Context, epoch int64) error {
	c := q.c
	return q.cutovers().Run(ctx, &c, &domain.Task{ID: 9, Epoch: epoch})
}

// states are the steps with how they stand.
func (q *quay) states() string {
	q.mu.Lock()
	defer q.mu.Unlock()
	var out []string
	for _, s := range q.steps {
		out = append(out, string(s.Name)+"="+string(s.State))
	}
	return strings.Join(out, " ")
}

// ---- records

func (q *quay) House(context.Context) (domain.House, error) { return q.house, nil }
func (q *quay) Defaults(context.Context) (domain.Settings, error) {
	return domain.DefaultSettings(), nil
}
func (q *quay) CatalogOf(context.Context, int64) (*domain.Catalog, error) {
	return &domain.Catalog{Sequences: []domain.Sequence{{Name: domain.TableName{Schema: "marsh", Name: "lots_no"},
		OwnedBy: domain.TableName{Schema: "marsh", Name: "lots"}}}}, nil
}
func (q *quay) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	t := q.catalog.Tables[0]
	return []domain.CrossingTable{{SourceName: "marsh.lots", Plan: domain.TablePlan{Source: t.TableName,
		Target: t.TableName, Table: domain.Table{TableName: t.TableName, ID: "1", Written: "1"}}}}, nil
}
func (q *quay) SetPhase(_ context.Context, _ int64, from, to domain.Phase) (bool, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.c.Phase != from {
		return false, nil
	}
	q.c.Phase = to
	return true, nil
}
func (q *quay) SetCondition(_ context.Context, _ int64, _ []domain.Condition, to domain.Condition, _ string,
	_ bool) (bool, error) {
	q.c.Condition = to
	return true, nil
}
func (q *quay) Cutover(context.Context, int64) (domain.Cutover, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.k, nil
}
func (q *quay) CutoverOfTask(ctx context.Context, _ int64) (domain.Cutover, error) {
	return q.Cutover(ctx, 5)
}
func (q *quay) RunningCutover(context.Context, int64) (*domain.Cutover, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if !q.running {
		return nil, nil
	}
	k := q.k
	return &k, nil
}
func (q *quay) change(f func()) error {
	q.mu.Lock()
	defer q.mu.Unlock()
	f()
	return nil
}
func (q *quay) EndCutover(_ context.Context, _ int64, state domain.CutoverState, cause string) error {
	return q.change(func() { q.k.State, q.k.Error = state, cause })
}
func (q *quay) SaveReadiness(_ context.Context, _ int64, list []domain.Entry) error {
	return q.change(func() { q.k.Readiness = list })
}
func (q *quay) SetEnd(_ context.Context, _ int64, at domain.Position, id int64) error {
	return q.change(func() {
		if at != 0 {
			q.k.EndPosition = at
		}
		if id != 0 {
			q.k.ReconciliationID = &id
		}
	})
}
func (q *quay) SetPause(_ context.Context, _ int64, from, until *time.Time) error {
	return q.change(func() {
		if from != nil {
			q.k.PausedAt = from
		}
		if until != nil {
			q.k.ReleasedAt = until
		}
	})
}
func (q *quay) AskAbort(_ context.Context, _ int64, who string) error {
	return q.change(func() { q.k.AbortBy = who })
}
func (q *quay) GiveWord(_ context.Context, _ int64, who string) error {
	return q.change(func() { q.k.WordBy = who })
}
func (q *quay) GoOn(_ context.Context, _ int64, point domain.StepName, who string) error {
	return q.change(func() { q.k.GoneOn = map[string]string{string(point): who} })
}
func (q *quay) Steps(context.Context, int64) ([]domain.CutoverStep, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return slices.Clone(q.steps), nil
}
func (q *quay) step(name domain.StepName, f func(*domain.CutoverStep)) error {
	return q.change(func() {
		for i := range q.steps {
			if q.steps[i].Name == name {
				f(&q.steps[i])
			}
		}
	})
}
func (q *quay) SetStep(_ context.Context, _ int64, name domain.StepName, state domain.StepState, note string) error {
	return q.step(name, func(s *domain.CutoverStep) { s.State, s.Note, s.Awaits = state, note, domain.AwaitsNobody })
}
func (q *quay) NoteStep(_ context.Context, _ int64, name domain.StepName, note string) error {
	return q.step(name, func(s *domain.CutoverStep) { s.Note = note })
}
func (q *quay) AwaitPerson(_ context.Context, _ int64, name domain.StepName, what domain.Awaits, note string) error {
	return q.step(name, func(s *domain.CutoverStep) { s.Awaits, s.Note = what, note })
}
func (q *quay) HoldsTask(_ context.Context, _, epoch int64) (bool, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.holder == epoch, nil
}
func (q *quay) NoteTask(_ context.Context, _ int64, note string) error {
	return q.change(func() { q.notes = append(q.notes, note) })
}

// Ask is fulfilled at once, as by a follower that has nothing left to apply.
func (q *quay) Ask(_ context.Context, _ int64, by, _, what string, at domain.Position) (bool, error) {
	return true, q.change(func() {
		if what == "go" {
			q.stand.Request = domain.Request{What: "reached", At: at, By: by}
			if q.closed != "" || q.stopped && at > 200 {
				q.stand.Answered += q.late
			}
		}
	})
}
func (q *quay) KeepAsking(context.Context, int64, string) error { return nil }
func (q *quay) LetGo(context.Context, int64, string) error {
	return q.change(func() { q.stand.Request = domain.Request{} })
}
func (q *quay) Stand(context.Context, int64) (*domain.Stand, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	st := q.stand
	return &st, nil
}
func (q *quay) RecentlyApplied(context.Context, int64) ([]domain.AppliedTx, error) {
	return []domain.AppliedTx{{Position: 1 << 40, Tables: []string{"marsh.lots"}}}, nil
}
func (q *quay) AddComparison(context.Context, int64, domain.Depth) (int64, error) { return 12, nil }
func (q *quay) Reconciliation(context.Context, int64, int64) (domain.Reconciliation, error) {
	return domain.Reconciliation{Findings: q.findings, Tables: 1, SourceRows: 40}, nil
}

// ---- databases, and what they are

func (q *quay) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	if q.gone != nil {
		err := q.gone
		q.gone = nil
		return nil, nil, err
	}
	s := &source{q: q}
	src = &engine.Opened{Database: s, Captures: s, StopsWrites: s, Sequences: s}
	if q.noStop {
		src.StopsWrites = nil
	}
	return src, &engine.Opened{Sequences: s}, nil
}
func (q *quay) Catalog(context.Context, string, bool) (*domain.Catalog, error) {
	return &q.catalog, nil
}
func (q *quay) CheckStopMethod(_ context.Context, _ string, m domain.StopMethod) error {
	if m == "prayer" {
		return domain.Invalid("there is no such method")
	}
	return nil
}
func (q *quay) Position(_ context.Context, _ string, p domain.Position) string {
	return fmt.Sprint(int64(p))
}

type source struct {
	engine.Database
	engine.Captures
	engine.Sequences
	q *quay
}

func (s *source) Heartbeat(context.Context) (domain.Position, error) {
	s.q.mu.Lock()
	defer s.q.mu.Unlock()
	s.q.head += 100
	return s.q.head, nil
}
func (s *source) Mind(context.Context, string, []domain.TablePlan, func(string) error) ([]domain.TableName, error) {
	return s.q.missing, nil
}
func (s *source) DropCapture(context.Context, string, []string) error {
	s.q.dropped = true
	return nil
}
func (s *source) MayStop(context.Context, domain.StopMethod) error { return nil }
func (s *source) StopWrites(context.Context, domain.StopMethod, string, []domain.TablePlan,
	time.Duration) (engine.WriteStop, error) {
	s.q.stopped = true
	return stop{s.q}, nil
}
func (s *source) Reopen(context.Context, domain.StopMethod, string, []domain.TablePlan) error {
	s.q.reopens++
	if s.q.stuck > 0 {
		s.q.stuck--
		return errors.New("the source does not answer")
	}
	s.q.stopped, s.q.closed = false, ""
	return nil
}
func (s *source) SequenceValues(_ context.Context, seqs []domain.Sequence) ([]engine.SequenceValue, error) {
	out := make([]engine.SequenceValue, len(seqs))
	for i := range seqs {
		out[i] = engine.SequenceValue{Sequence: seqs[i], Last: 41}
	}
	return out, nil
}
func (s *source) SetSequences(_ context.Context, values []engine.SequenceValue) error {
	s.q.set = values
	return nil
}

type stop struct{ *quay }

func (s stop) CloseWrites(_ context.Context, message string) error {
	s.closed = message
	return nil
}
func (s stop) Release(context.Context) error {
	s.released++
	return nil
}
func (s stop) Alive(context.Context) error { return s.lost }

// ---- the other rooms

func (q *quay) List(context.Context, *domain.Crossing, domain.Settings, time.Duration) ([]domain.Entry, error) {
	return slices.Clone(q.ready), nil
}
func (q *quay) Unended(context.Context, *domain.Crossing, []domain.TablePlan, time.Duration) []domain.Entry {
	return q.unended
}

type comparer struct{ *quay }

func (c comparer) Run(ctx context.Context, _ *domain.Crossing, _ int64, inside bool, _ func(string)) error {
	c.compares = append(c.compares, inside)
	select {
	case <-time.After(c.slow):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
func (q *quay) Build(context.Context, *domain.Crossing, func(string), bool) error {
	q.built++
	return nil
}
func (q *quay) Say(_ context.Context, _, _, _, _, _, format string, args ...any) {
	_ = q.change(func() { q.said = append(q.said, fmt.Sprintf(format, args...)) })
}
func (q *quay) Record(_ context.Context, e domain.JournalEntry) {
	q.said = append(q.said, e.Message+" "+e.Detail)
}
func (q *quay) Hold(_ context.Context, _ *domain.Crossing, _, reason string) {
	_ = q.change(func() { q.c.Condition = domain.ConditionHeld; q.said = append(q.said, "held: "+reason) })
}
func (q *quay) Notify(_ context.Context, _ *domain.Crossing, event, _ string) {
	q.told = append(q.told, event)
}

// ---- tests

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
		q.stand.Request = domain.Request{What: "reached", At: 300, By: "cutover 5"}
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
			s.PauseBudget, q.house.Locked = 77*time.Second, []string{"pause_budget_seconds", "pause_budget"}
		}, "house rules lock it"},
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
