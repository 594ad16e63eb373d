package cutover

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// quay is a crossing that is in step, with its source and target, and what is kept of its cutover.
type quay struct {
	starts    []error // that a return path meets when it is to begin
	settled   int
	unaligned int             // how often both sides cannot be brought to one position
	noWay     error           // why no return path can be made
	marked    domain.Position // where it begins
	returns   bool            // it follows
	route     *domain.Route   // of gateways
	turns     []string        // what they were told
	unheld    error           // why they do not hold
	before    []domain.Cutover
	far       []string // what was done to the target's gate
	farStuck  int      // how often it cannot be closed

	rounds    int
	anew      int    // how often nothing of before proves anything any more
	guards    []bool // whether the target was opened
	unguarded int
	guarded   bool             // the target can be
	vouched   []domain.Vouched // what rounds come to

	mu      sync.Mutex
	c       domain.Crossing
	k       domain.Cutover
	steps   []domain.CutoverStep
	stand   domain.Stand
	policy  domain.Policy
	holder  int64 // the epoch under which the task is held
	running bool

	// The source.
	noStop   bool // it cannot stop writes
	head     domain.Position
	stopped  bool
	closed   string // what it says to writers
	except   string // the crossing that may write all the same
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
	hurried  int
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
	q := &quay{holder: 1, head: domain.PositionAt(100), stand: domain.Stand{Epoch: 3, Live: true},
		catalog: domain.Catalog{Tables: []domain.Table{table}}}
	q.c = domain.Crossing{ID: 7, UID: "u7", Name: "spring", Source: "marsh", Target: "cloud", Kind: domain.KindLoadCapture,
		Phase: domain.PhaseInStep, Condition: domain.ConditionRunning, Settings: set, Undo: []string{"ALTER TABLE"}}
	q.k = domain.Cutover{ID: 5, CrossingID: 7, State: "running", Settings: set, Actor: "ann"}
	return q
}

// plan gives the cutover its steps.
func (q *quay) plan(rehearsal bool) {
	q.k.Rehearsal, q.steps = rehearsal, nil
	for i, n := range stepsOf(&q.c, rehearsal, q.k.Settings, q.route != nil) {
		q.steps = append(q.steps, domain.CutoverStep{CutoverID: 5, Ordinal: i, Name: n, State: domain.StepWaiting})
	}
}

// sluices are the crossing's gateways.
type sluices struct{ q *quay }

func (g sluices) Leads(context.Context, domain.Crossing) (*domain.Route, error) {
	return g.q.route, nil
}

func (g sluices) Hold(_ context.Context, _ domain.Crossing, patience time.Duration, all bool) (string, error) {
	if g.q.route == nil {
		return "", nil
	}
	g.q.turns = append(g.q.turns, fmt.Sprintf("hold %s %v, stopped %v", patience, all, g.q.stopped))
	g.q.route.Holding = true
	return "1 gateway holds connections", g.q.unheld
}

func (g sluices) Release(context.Context, domain.Crossing) error {
	if g.q.route != nil && g.q.route.Holding {
		g.q.turns = append(g.q.turns, fmt.Sprintf("release, stopped %v", g.q.stopped))
		g.q.route.Holding = false
	}
	return nil
}

func (g sluices) Switch(_ context.Context, _ domain.Crossing, live string) (string, error) {
	if g.q.route == nil {
		return "", nil
	}
	g.q.turns = append(g.q.turns, "switch to "+live)
	g.q.route.Holding, g.q.route.Live = false, live
	return "1 gateway leads to " + live, nil
}

func (q *quay) cutovers() *Cutovers {
	return New(q, q, q, comparer{q}, q, q, sluices{q}, q, func(_ context.Context, c *domain.Crossing, rehearsal bool,
		set domain.Settings,
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

func (q *quay) Policy(context.Context) (domain.Policy, error) { return q.policy, nil }
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
		if !at.IsZero() {
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
		if what == "go" && q.stand.Live {
			q.stand.Request = domain.Request{What: "reached", At: at, By: by}
			if q.closed != "" || q.stopped && at.After(domain.PositionAt(200)) {
				q.stand.Answered += q.late
			}
		}
	})
}
func (q *quay) KeepAsking(context.Context, int64, string) error { return nil }
func (q *quay) LetGo(context.Context, int64, string) error {
	return q.change(func() { q.stand.Request = domain.Request{} })
}
func (q *quay) Hurry(context.Context, int64) error { return q.change(func() { q.hurried++ }) }
func (q *quay) Stand(context.Context, int64) (*domain.Stand, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	st := q.stand
	return &st, nil
}
func (q *quay) RecentlyApplied(context.Context, int64) ([]domain.AppliedTx, error) {
	return []domain.AppliedTx{{Position: domain.PositionAt(1 << 40), Tables: []string{"marsh.lots"}}}, nil
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
	dst = &engine.Opened{Sequences: s, Captures: far{q: q}, StopsWrites: far{q: q}}
	if q.guarded {
		dst.Guards = q
	}
	return src, dst, nil
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
	return p.String()
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
	s.q.head = domain.PositionAt(s.q.head.Number() + 100)
	return s.q.head, nil
}
func (s *source) Mind(context.Context, string, []domain.TablePlan, func(string) error) ([]domain.TableName, error) {
	return s.q.missing, nil
}
func (s *source) DropCapture(context.Context, string, []string) error {
	s.q.dropped = true
	return nil
}
func (s *source) Settle(context.Context, []domain.TablePlan) error {
	return s.q.change(func() { s.q.settled++ })
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

func (s stop) CloseWrites(_ context.Context, message, except string) error {
	s.closed, s.except = message, except
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

func (q *quay) ProveAnew(context.Context, int64) error {
	q.anew++
	return nil
}

func (q *quay) OpenGuard(_ context.Context, _ string, open bool) error {
	q.guards = append(q.guards, open)
	return nil
}
func (q *quay) Closed(context.Context, string, []domain.TablePlan) (map[domain.TableName]bool, error) {
	return nil, nil
}
func (q *quay) Unguard(context.Context, string) error {
	q.unguarded++
	return nil
}
func (q *quay) Guard(context.Context, string, []domain.TablePlan) error { return nil }
func (q *quay) GuardNew(context.Context, string, []domain.TablePlan) ([]string, error) {
	return nil, nil
}
func (q *quay) Guarded(context.Context, string, []domain.TablePlan) (map[domain.TableName]bool, error) {
	return nil, nil
}

func (c comparer) Vouch(context.Context, *domain.Crossing, float64, func(string)) (domain.Vouched, error) {
	if c.unaligned > 0 {
		c.unaligned--
		return domain.Vouched{}, domain.Unavailable(nil, "a transaction has been open for long")
	}
	c.rounds++
	if len(c.vouched) == 0 {
		return domain.Vouched{}, nil
	}
	v := c.vouched[0]
	c.vouched = c.vouched[1:]
	return v, nil
}

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
func (q *quay) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
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

// ---- the return path, and the crossing that this one brings back

func (q *quay) Prepare(_ context.Context, _ *domain.Crossing, note func(string)) (string, error) {
	if q.noWay != nil {
		return "", q.noWay
	}
	note("surveying")
	return "spring-back", q.change(func() { q.c.ReturnBy = "spring-back" })
}
func (q *quay) Mark(_ context.Context, _ *domain.Crossing, at domain.Position) error {
	return q.change(func() { q.marked = at })
}
func (q *quay) Start(context.Context, *domain.Crossing) (string, error) {
	if len(q.starts) > 0 {
		err := q.starts[0]
		q.starts = q.starts[1:]
		return "", err
	}
	return "spring-back", q.change(func() { q.returns = true })
}
func (q *quay) Drop(context.Context, *domain.Crossing) error {
	return q.change(func() { q.c.ReturnBy = "" })
}
func (q *quay) CrossingByID(_ context.Context, id int64) (domain.Crossing, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if id == q.c.ID {
		return q.c, nil
	}
	return domain.Crossing{ID: id, UID: "u3", Name: "forth", Phase: domain.PhaseCutOver}, nil
}
func (q *quay) Crossing(context.Context, string) (domain.Crossing, error) {
	return domain.Crossing{ID: 8, UID: "u8"}, nil
}
func (q *quay) Cutovers(context.Context, int64) ([]domain.Cutover, error) { return q.before, nil }

// far is the target, which the cutover before may have closed.
type far struct {
	engine.Captures
	q *quay
}

func (f far) Heartbeat(context.Context) (domain.Position, error) { return domain.PositionAt(4711), nil }
func (f far) Settle(context.Context, []domain.TablePlan) error   { return nil }
func (f far) MayStop(context.Context, domain.StopMethod) error   { return nil }
func (f far) StopWrites(context.Context, domain.StopMethod, string, []domain.TablePlan,
	time.Duration) (engine.WriteStop, error) {
	if f.q.farStuck > 0 {
		f.q.farStuck--
		return nil, errors.New("the target's tables are locked")
	}
	return farStop{f.q}, nil
}
func (f far) Reopen(_ context.Context, _ domain.StopMethod, name string, _ []domain.TablePlan) error {
	f.q.far = append(f.q.far, "opened "+name)
	return nil
}

type farStop struct{ q *quay }

func (s farStop) CloseWrites(_ context.Context, _, except string) error {
	s.q.far = append(s.q.far, "closed but for "+except)
	return nil
}
func (s farStop) Release(context.Context) error { return nil }
func (s farStop) Alive(context.Context) error   { return nil }
