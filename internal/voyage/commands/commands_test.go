package commands

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// counter is where people come with a crossing: what is kept of it, and what is done for them.
type counter struct {
	c        domain.Crossing
	tables   []domain.CrossingTable
	catalog  domain.Catalog
	policy   domain.Policy
	review   planning.Review
	begun    domain.Work // how it was begun last
	marks    bool
	again    []domain.TargetObject
	server   string // that answers now; it began with "one"
	applied  domain.Position
	worked   error // of a task that is run at once
	busy     error
	changed  bool // by somebody else meanwhile
	adds     error
	policies error

	did []string
}

func newCounter(kind domain.Kind, phase domain.Phase) *counter {
	k := &counter{server: "one", applied: domain.PositionAt(100)}
	k.c = domain.Crossing{ID: 7, UID: "u7", Name: "spring", Source: "old", Target: "new", Kind: kind, Phase: phase,
		Condition: domain.ConditionRunning, Settings: domain.DefaultSettings(), MaxRead: domain.PositionAt(50)}
	for i, n := range []string{"lots", "hives"} {
		name := domain.TableName{Schema: "marsh", Name: n}
		k.tables = append(k.tables, domain.CrossingTable{ID: int64(i + 1), SourceName: name.String(), RowsLanded: 10,
			TargetName: name.String(), Plan: domain.TablePlan{Source: name, Target: name}})
		k.catalog.Tables = append(k.catalog.Tables, domain.Table{TableName: name})
	}
	k.catalog.Tables = append(k.catalog.Tables, domain.Table{TableName: domain.TableName{Schema: "marsh", Name: "jars"}})
	return k
}

func (k *counter) commands() *Commands { return New(k, k, k, k, k, k, k) }

func (k *counter) do(format string, args ...any) error {
	k.did = append(k.did, fmt.Sprintf(format, args...))
	return nil
}

func (k *counter) all() string { return strings.Join(k.did, "\n") }

// refuses checks that an error says so, and that nothing was done.
func (k *counter) refuses(t *testing.T, err error, want string) {
	t.Helper()
	if err == nil || !strings.Contains(err.Error(), want) || len(k.did) > 0 {
		t.Errorf("%v, not %q; done: %q", err, want, k.did)
	}
}

// does checks that there is no error, and what was done.
func (k *counter) does(t *testing.T, err error, list ...string) {
	t.Helper()
	if err != nil {
		t.Error(err)
		return
	}
	rest := k.all()
	for _, want := range list {
		_, after, found := strings.Cut(rest, want)
		if !found {
			t.Errorf("no %q (in this order) in\n%s", want, k.all())
			return
		}
		rest = after
	}
}

func (k *counter) Policy(context.Context) (domain.Policy, error) { return k.policy, nil }
func (k *counter) Defaults(context.Context) (domain.Settings, error) {
	return domain.DefaultSettings(), nil
}
func (k *counter) SaveDefaults(context.Context, domain.Settings) error { return k.do("save defaults") }
func (k *counter) SaveSettings(_ context.Context, _ *domain.Crossing, s domain.Settings, planned bool) error {
	return k.do("save settings, %d lanes, of the plan: %v", s.Lanes, planned)
}
func (k *counter) SavePlanning(_ context.Context, _ *domain.Crossing, patterns []string, rules []domain.Rule,
	p domain.Planning) error {
	return k.do("save planning: %v, %d rules, %d queries", patterns, len(rules), len(p.Queries))
}
func (k *counter) SurveyOf(context.Context, int64) ([]domain.Entry, error) {
	return []domain.Entry{{Subject: "marsh.lots"}}, nil
}
func (k *counter) SetCondition(_ context.Context, _ int64, from []domain.Condition, to domain.Condition, _ string,
	keep bool) (bool, error) {
	return !k.changed, k.do("%v → %s, capture goes on: %v", from, to, keep)
}
func (k *counter) Resume(_ context.Context, _ int64, from domain.Condition) (bool, error) {
	return !k.changed, k.do("resume from %s", from)
}
func (k *counter) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	return k.tables, nil
}
func (k *counter) HasWatermark(context.Context, int64) (bool, error) { return k.marks, nil }
func (k *counter) RunAgain(context.Context, int64) ([]domain.TargetObject, error) {
	return k.again, nil
}
func (k *counter) LastBegun(context.Context, int64) (domain.Work, error) { return k.begun, nil }
func (k *counter) NotBusy(context.Context, int64, string, ...domain.Work) error {
	return k.busy
}
func (k *counter) CancelTask(_ context.Context, _, id int64, why string) (domain.Task, error) {
	return domain.Task{}, k.do("cancel %d: %s", id, why)
}
func (k *counter) SaveSchedule(_ context.Context, s domain.Schedule) error {
	return k.do("schedule %q at %v by %s, missed: %s", s.Cron, s.NextAt != nil, s.Actor, s.Missed)
}
func (k *counter) RemoveSchedule(context.Context, int64) error { return k.do("no schedule") }
func (k *counter) PauseSchedule(_ context.Context, _ int64, by string) error {
	return k.do("schedule paused by %q", by)
}
func (k *counter) KickStream(context.Context, int64) (int64, error) { return 9, k.do("kick") }
func (k *counter) ServerOf(context.Context, int64) (string, error)  { return "one", nil }
func (k *counter) Rebase(_ context.Context, _ int64, at domain.Position, server string) error {
	return k.do("rebase to %s of %s", at, server)
}
func (k *counter) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	d := db{k: k}
	return &engine.Opened{Database: d, Captures: d}, &engine.Opened{Applies: d}, nil
}
func (k *counter) Catalog(context.Context, string, bool) (*domain.Catalog, error) {
	return &k.catalog, nil
}
func (k *counter) CheckStopMethod(_ context.Context, _ string, m domain.StopMethod) error {
	if m == domain.StopWord {
		return domain.Invalid("there is no such way to stop")
	}
	return nil
}
func (k *counter) Position(_ context.Context, _ string, p domain.Position) string {
	return fmt.Sprint(p.Number())
}
func (k *counter) CheckCaptureSettings(_ context.Context, _ string, _ domain.Kind, s domain.Settings) error {
	if s.StopAt == "never" {
		return domain.Invalid("stop_at is never")
	}
	return nil
}
func (k *counter) CheckPolicy(context.Context, domain.Policy, domain.Settings, []string) error {
	return k.policies
}
func (k *counter) Review(context.Context, *domain.Crossing) (planning.Review, error) {
	return k.review, nil
}
func (k *counter) Restart(_ context.Context, _ *domain.Crossing, _ []domain.CrossingTable, table, by string) error {
	return k.do("restart table %s for %s", table, by)
}
func (k *counter) Drop(_ context.Context, _ *domain.Crossing, tables []domain.CrossingTable, at int) error {
	return k.do("drop %s", tables[at].SourceName)
}
func (k *counter) AddTask(_ context.Context, _ *domain.Crossing, kind domain.Work, args any, by string) (int64, error) {
	return 1, errors.Join(k.do("task %s %+v for %s", kind, args, by), k.adds)
}
func (k *counter) Begin(_ context.Context, _ *domain.Crossing, kind domain.Work, b Beginning, by string) error {
	return k.do("begin %s %+v for %s", kind, b, by)
}
func (k *counter) AddOwn(_ context.Context, _ *domain.Crossing, kind domain.Work, by string) (int64, error) {
	return 4, k.do("own task %s for %s", kind, by)
}
func (k *counter) Run(ctx context.Context, id int64) (worked, kept error) {
	return k.worked, k.do("run %d", id)
}
func (k *counter) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	_ = k.do("said: "+format, args...)
}
func (k *counter) Record(_ context.Context, e domain.JournalEntry) {
	_ = k.do("said: %s (%s)", e.Message, e.Detail)
}

// db is either database.
type db struct {
	engine.Database
	engine.Captures
	engine.Applies
	k *counter
}

func (d db) Identity(context.Context) (string, error) { return d.k.server, nil }
func (d db) ResolveGTID(_ context.Context, portable string) (domain.Position, error) {
	return domain.PositionAt(777), d.k.do("resolve %s", portable)
}
func (d db) TakeStream(_ context.Context, _ string, epoch int64, _ domain.Position) (domain.Position, error) {
	return domain.Position{}, d.k.do("take stream %d", epoch)
}
func (d db) StreamAt(context.Context, string) (domain.Position, string, error) {
	return d.k.applied, "0-1-9", nil
}
func (d db) MoveStream(_ context.Context, _ string, _ int64, to domain.Position) error {
	return d.k.do("move stream to %s", to)
}

func TestStarting(t *testing.T) {
	begin := "begin prepare {Run:0 SamePlan:true GoesOn:true} for ann"
	k := newCounter(domain.KindLoadCapture, domain.PhaseSurveyed)
	k.does(t, k.commands().StartCrossing(t.Context(), &k.c, "", "ann"), begin, "said: ann started spring")

	k = newCounter(domain.KindLoadCapture, domain.PhaseInStep)
	k.refuses(t, k.commands().StartCrossing(t.Context(), &k.c, "", "ann"), "it has been started already")
	k = newCounter(domain.KindLoadCapture, domain.PhaseSurveyed)
	k.c.Condition, k.c.Reason = domain.ConditionPaused, "for the night"
	k.refuses(t, k.commands().StartCrossing(t.Context(), &k.c, "", "ann"), "is paused (for the night)")
	k = newCounter(domain.KindLoadCapture, domain.PhaseSurveyed)
	k.c.Settings.StopAt = "never"
	k.refuses(t, k.commands().StartCrossing(t.Context(), &k.c, "", "ann"), "stop_at is never")

	// Rows that would go are told of first, by settings or by a rule.
	for _, lose := range []func(*domain.Crossing){
		func(c *domain.Crossing) { c.Settings.ExistingRows = "empty" },
		func(c *domain.Crossing) { c.Rules = []domain.Rule{{Tables: "*", ExistingRows: "replace"}} },
	} {
		k = newCounter(domain.KindLoadCapture, domain.PhaseDraft)
		lose(&k.c)
		k.review = planning.Review{RowsLost: 12, Losses: []planning.Loss{{Table: "marsh.lots"}}}
		k.refuses(t, k.commands().StartCrossing(t.Context(), &k.c, "", "ann"),
			"removes 12 rows from 1 tables of new (marsh.lots first)")
		k.does(t, k.commands().StartCrossing(t.Context(), &k.c, "new", "ann"), begin)
		k.did, k.review = nil, planning.Review{}
		k.does(t, k.commands().StartCrossing(t.Context(), &k.c, "", "ann"), begin) // none is there
	}
}

func TestPausingAndResuming(t *testing.T) {
	k := newCounter(domain.KindLoadCapture, domain.PhaseLoading)
	k.does(t, k.commands().PauseCrossing(t.Context(), &k.c, true, "ann"), "[running] → paused, capture goes on: true",
		"said: paused by ann; capture goes on")
	k.does(t, k.commands().PauseCrossing(t.Context(), &k.c, false, "ann"), "capture goes on: false",
		"the source keeps its log")
	k.changed = true
	if err := k.commands().PauseCrossing(t.Context(), &k.c, false, "ann"); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("changed meanwhile: %v", err)
	}
	k = newCounter(domain.KindLoadCapture, domain.PhaseDraft)
	k.refuses(t, k.commands().PauseCrossing(t.Context(), &k.c, false, "ann"), "only a crossing under way")
	k.refuses(t, k.commands().ResumeCrossing(t.Context(), &k.c, "ann"), "there is nothing to resume")

	k = newCounter(domain.KindLoadCapture, domain.PhaseInStep)
	k.c.Condition = domain.ConditionHeld
	k.does(t, k.commands().ResumeCrossing(t.Context(), &k.c, "ann"), "resume from held", "ann resumed spring")
	if strings.Contains(k.all(), "task") {
		t.Errorf("something begins anew: %s", k.all())
	}
	// What has not come to its end begins again as it had begun.
	for begun, want := range map[domain.Work]string{"": "task prepare", lifecycle.WorkPrepare: "task prepare",
		lifecycle.WorkRestart: "task restart"} {
		k = newCounter(domain.KindLoadCapture, domain.PhasePrepared)
		k.c.Condition, k.begun = domain.ConditionHeld, begun
		k.does(t, k.commands().ResumeCrossing(t.Context(), &k.c, "ann"), want)
		k.adds = domain.Conflict("it is under way")
		k.does(t, k.commands().ResumeCrossing(t.Context(), &k.c, "ann"))
		k.adds = errors.New("the records are away")
		if err := k.commands().ResumeCrossing(t.Context(), &k.c, "ann"); err == nil {
			t.Error("a task that could not be kept is passed over")
		}
	}
	k.changed = true
	if err := k.commands().ResumeCrossing(t.Context(), &k.c, "ann"); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("changed meanwhile: %v", err)
	}
}

func TestRestarting(t *testing.T) {
	k := newCounter(domain.KindLoad, domain.PhaseInStep)
	k.again = []domain.TargetObject{{Name: "grants"}, {Name: "notes"}}
	k.does(t, k.commands().RestartCrossing(t.Context(), &k.c, "", "ann"),
		"begin restart {Run:0 SamePlan:false GoesOn:true} for ann",
		"ann restarts spring from nothing; statements that run again: grants, notes")
	k.c.Condition = domain.ConditionPaused
	k.does(t, k.commands().RestartCrossing(t.Context(), &k.c, "", "ann"), "it stays paused")
	k.does(t, k.commands().RestartCrossing(t.Context(), &k.c, "marsh.lots", "ann"), "restart table marsh.lots for ann")
	k.did, k.busy = nil, domain.Conflict("a refresh is under way")
	k.refuses(t, k.commands().RestartCrossing(t.Context(), &k.c, "marsh.lots", "ann"), "a refresh is under way")
	k.c.Settings.ExistingRows = "keep"
	k.refuses(t, k.commands().RestartCrossing(t.Context(), &k.c, "", "ann"), "was planned to keep the rows")
	k = newCounter(domain.KindCapture, domain.PhaseInStep)
	k.refuses(t, k.commands().RestartCrossing(t.Context(), &k.c, "", "ann"), "there is no load to restart")
	k = newCounter(domain.KindLoadCapture, domain.PhaseCutOver)
	k.refuses(t, k.commands().RestartCrossing(t.Context(), &k.c, "", "ann"), "its target is in use")
}

func TestRefreshing(t *testing.T) {
	k := newCounter(domain.KindLoad, domain.PhaseInStep)
	k.refuses(t, k.commands().StartRefresh(t.Context(), &k.c, "", "ann"), "no table of spring has a watermark")
	k.tables[0].Plan.Watermark = "changed"
	k.refuses(t, k.commands().StartRefresh(t.Context(), &k.c, "", "ann"),
		"empties those of its tables on new that have no watermark")
	k.c.Settings.Repeat = engine.ReplaceRange
	k.refuses(t, k.commands().StartRefresh(t.Context(), &k.c, "", "ann"), "replaces all rows of those of its tables")
	k.does(t, k.commands().StartRefresh(t.Context(), &k.c, "new", "ann"),
		"begin refresh {Run:0 SamePlan:false GoesOn:false} for ann")
	k.did, k.tables[1].Plan.ExistingRows = nil, "keep"
	k.refuses(t, k.commands().StartRefresh(t.Context(), &k.c, "new", "ann"), "loads marsh.hives anew, and that cannot be")
	k = newCounter(domain.KindLoad, domain.PhaseLoading)
	k.refuses(t, k.commands().StartRefresh(t.Context(), &k.c, "new", "ann"), "when the load before has ended")
}

// TestADueRun begins as the crossing stands.
func TestADueRun(t *testing.T) {
	for want, change := range map[string]func(*counter){
		"begin prepare {Run:5 SamePlan:true": func(k *counter) { k.c.Phase = domain.PhaseSurveyed },
		"begin refresh {Run:5 SamePlan:false GoesOn:true}": func(k *counter) {
			k.marks, k.tables[0].Plan.Watermark, k.tables[1].Plan.Watermark = true, "a", "b"
		},
		"begin restart {Run:5": func(*counter) {},
	} {
		k := newCounter(domain.KindLoad, domain.PhaseInStep)
		change(k)
		k.does(t, k.commands().BeginDue(t.Context(), &k.c, 5, "its schedule"), want)
	}
	k := newCounter(domain.KindLoad, domain.PhaseInStep)
	k.c.Settings.ExistingRows = "keep"
	k.refuses(t, k.commands().BeginDue(t.Context(), &k.c, 5, "its schedule"), "was planned to keep the rows")
}

func TestScheduling(t *testing.T) {
	soon, long := time.Now().Add(time.Hour), time.Now().Add(-time.Hour)
	for _, x := range []struct {
		s       domain.Schedule
		kind    domain.Kind
		phase   domain.Phase
		confirm string
		empty   bool
		want    string // refused for that; otherwise kept
	}{
		{s: domain.Schedule{OnceAt: &soon}, phase: domain.PhaseDraft},
		{s: domain.Schedule{OnceAt: &soon, Missed: "never"}, want: "choose run once or skip"},
		{s: domain.Schedule{}, want: "give either the time"},
		{s: domain.Schedule{OnceAt: &soon, Cron: "* * * * *"}, want: "give either the time"},
		{s: domain.Schedule{OnceAt: &soon}, phase: domain.PhaseInStep, want: "has been started already"},
		{s: domain.Schedule{OnceAt: &long}, phase: domain.PhaseDraft, want: "is over; give a time to come"},
		{s: domain.Schedule{OnceAt: &soon}, phase: domain.PhaseDraft, empty: true, want: "may remove rows from new"},
		{s: domain.Schedule{OnceAt: &soon}, phase: domain.PhaseDraft, empty: true, confirm: "new"},
		{s: domain.Schedule{Cron: "0 2 * * *"}, kind: domain.KindLoad, phase: domain.PhaseInStep, confirm: "new"},
		{s: domain.Schedule{Cron: "0 2 * * *"}, kind: domain.KindLoad, phase: domain.PhaseInStep,
			want: "empties its tables on new"},
		{s: domain.Schedule{Cron: "0 2 * * *"}, kind: domain.KindLoad, phase: domain.PhaseClosed, confirm: "new",
			want: "is closed"},
		{s: domain.Schedule{Cron: "often"}, kind: domain.KindLoad, want: "often"},
		{s: domain.Schedule{Cron: "0 2 * * *"}, phase: domain.PhaseInStep, confirm: "new", want: "follows changes"},
	} {
		kind := x.kind
		if kind == "" {
			kind = domain.KindLoadCapture
		}
		k := newCounter(kind, x.phase)
		if x.empty {
			k.c.Settings.ExistingRows = "empty"
		}
		err := k.commands().Schedule(t.Context(), &k.c, x.s, x.confirm, "ann")
		if x.want != "" {
			k.refuses(t, err, x.want)
			continue
		}
		k.does(t, err, "schedule", "at true by ann, missed: run once", "said: ann scheduled spring")
	}
	k := newCounter(domain.KindLoad, domain.PhaseInStep)
	r := k.commands()
	k.does(t, errors.Join(r.PauseSchedule(t.Context(), &k.c, "ann"), r.ResumeSchedule(t.Context(), &k.c, "bob"),
		r.Unschedule(t.Context(), &k.c, "eve")), `schedule paused by "ann"`, "ann paused the schedule",
		`schedule paused by ""`,
		"bob resumed", "no schedule", "eve removed")
}

func TestTablesOfACrossing(t *testing.T) {
	k := newCounter(domain.KindLoadCapture, domain.PhaseInStep)
	k.does(t, k.commands().StartAdd(t.Context(), &k.c, "marsh.jars", "ann"), "task add a table {Table:marsh.jars} for ann",
		"ann adds marsh.jars to spring")
	k.did = nil
	k.refuses(t, k.commands().StartAdd(t.Context(), &k.c, "marsh.lots", "ann"), "belongs to spring already")
	k.refuses(t, k.commands().StartAdd(t.Context(), &k.c, "marsh.nothing", "ann"), "the source has no table marsh.nothing")
	k.refuses(t, k.commands().StartAdd(t.Context(), &k.c, "nothing", "ann"), "")
	k.c.Kind = domain.KindCapture
	k.refuses(t, k.commands().StartAdd(t.Context(), &k.c, "marsh.jars", "ann"), "only follows changes and loads no rows")
	k.c.Phase = domain.PhaseDraft
	k.refuses(t, k.commands().StartAdd(t.Context(), &k.c, "marsh.jars", "ann"), "tables are chosen by its patterns")
	k.refuses(t, k.commands().LeaveOut(t.Context(), &k.c, "marsh.lots", "ann"), "tables are chosen by its patterns")

	k = newCounter(domain.KindLoadCapture, domain.PhaseInStep)
	k.does(t, k.commands().LeaveOut(t.Context(), &k.c, "marsh.lots", "ann"), "drop marsh.lots",
		"ann left marsh.lots out of spring; 10 rows of it stay")
	k.did = nil
	k.refuses(t, k.commands().LeaveOut(t.Context(), &k.c, "marsh.jars", "ann"), "has no table marsh.jars")
	k.busy = domain.Conflict("a cutover is under way")
	k.refuses(t, k.commands().LeaveOut(t.Context(), &k.c, "marsh.lots", "ann"), "a cutover is under way")
	k.tables[1].Plan.After = []domain.TableName{k.tables[0].Plan.Source}
	k.refuses(t, k.commands().LeaveOut(t.Context(), &k.c, "marsh.lots", "ann"), "cannot be left out alone")
	k.tables = k.tables[:1]
	k.refuses(t, k.commands().LeaveOut(t.Context(), &k.c, "marsh.lots", "ann"), "is the only table of spring")
}

func TestSettings(t *testing.T) {
	k := newCounter(domain.KindLoadCapture, domain.PhaseInStep)
	set := k.c.Settings
	set.Lanes = 7
	k.does(t, k.commands().ChangeSettings(t.Context(), &k.c, set, "ann"), "save settings, 7 lanes, of the plan: false",
		"said: ann changed settings of spring: lanes")
	k.did = nil
	for want, change := range map[string]func(*counter, *domain.Settings){
		"lanes":                func(_ *counter, s *domain.Settings) { s.Lanes = -1 },
		"there is no such way": func(_ *counter, s *domain.Settings) { s.StopMethod = domain.StopWord },
		"stop_at is never":     func(_ *counter, s *domain.Settings) { s.StopAt = "never" },
		"the policy": func(k *counter,
			_ *domain.Settings) {
			k.policies = domain.Conflict("the policy has locked it")
		},
		"can be changed until the start": func(_ *counter, s *domain.Settings) { s.ExistingRows = "empty" },
		"its settings stand": func(k *counter, s *domain.Settings) {
			k.c.Phase, s.Lanes = domain.PhaseCuttingOver,
				3
		},
	} {
		k := newCounter(domain.KindLoadCapture, domain.PhaseInStep)
		set := k.c.Settings
		change(k, &set)
		k.refuses(t, k.commands().ChangeSettings(t.Context(), &k.c, set, "ann"), want)
	}
	k = newCounter(domain.KindLoadCapture, domain.PhaseDraft)
	set = k.c.Settings
	set.ExistingRows = "empty"
	k.does(t, k.commands().ChangeSettings(t.Context(), &k.c, set, "ann"), "of the plan: true")
	k.did = nil
	k.does(t, k.commands().ChangeSettings(t.Context(), &k.c, k.c.Settings, "ann"), "save settings")
	if strings.Contains(k.all(), "said") {
		t.Errorf("nothing changed, and it is told of: %s", k.all())
	}

	k.did = nil
	k.does(t, k.commands().ChangeDefaults(t.Context(), set, "ann"), "save defaults",
		"ann changed the defaults for new crossings")
	k.did, set.Lanes = nil, -1
	k.refuses(t, k.commands().ChangeDefaults(t.Context(), set, "ann"), "lanes")
}

func TestChoosingTables(t *testing.T) {
	k := newCounter(domain.KindLoadCapture, domain.PhaseSurveyed)
	r := k.commands()
	rules := []domain.Rule{{Tables: "marsh.*", Schema: "honey"}}
	k.does(t, r.ChooseTables(t.Context(), &k.c, []string{"marsh.*"}, rules, domain.Planning{}, "ann"),
		"save planning: [marsh.*], 1 rules, 0 queries", "ann planned spring anew: tables marsh.*; 1 rule, 0 queries",
		`tables: null → ["marsh.*"]`, "rules: ")
	k.does(t, r.ChooseTables(t.Context(), &k.c, nil, nil, domain.Planning{}, "ann"), "tables every one")
	k.does(t, r.ChooseTables(t.Context(), &k.c, nil, nil, domain.Planning{Queries: []domain.Query{{Table: "a.b",
		Query: "SELECT 1"}}}, "ann"), "1 queries")
	k.did, k.policy = nil, domain.Policy{Locked: []string{"rules"}, Rules: rules}
	k.does(t, r.ChooseTables(t.Context(), &k.c, nil, nil, domain.Planning{}, "ann"), "1 rules")
	k.did = nil
	k.refuses(t, r.ChooseTables(t.Context(), &k.c, []string{"lots"}, nil, domain.Planning{}, "ann"), "")
	k.refuses(t, r.ChooseTables(t.Context(), &k.c, nil, []domain.Rule{{}}, domain.Planning{}, "ann"), "rule")
	k.policies = domain.Conflict("the policy has locked it")
	k.refuses(t, r.ChooseTables(t.Context(), &k.c, nil, nil, domain.Planning{}, "ann"), "locked")
	k.c.Phase = domain.PhaseLoading
	k.refuses(t, r.ChooseTables(t.Context(), &k.c, nil, nil, domain.Planning{}, "ann"), "its plan is in use")
}

func TestLooking(t *testing.T) {
	k := newCounter(domain.KindLoadCapture, domain.PhaseDraft)
	found, err := k.commands().Survey(t.Context(), &k.c, "ann")
	k.does(t, err, "own task survey for ann", "run 4")
	if len(found) != 1 || strings.Contains(k.all(), "cancel") {
		t.Errorf("%v, %s", found, k.all())
	}
	k.worked = errors.New("the source is away")
	if _, err := k.commands().Survey(t.Context(), &k.c, "ann"); err == nil {
		t.Error("a survey that failed is shown")
	}
	k = newCounter(domain.KindLoadCapture, domain.PhaseClosed)
	_, err = k.commands().Survey(t.Context(), &k.c, "ann")
	k.refuses(t, err, "can no longer be surveyed")

	k = newCounter(domain.KindLoadCapture, domain.PhaseDraft)
	for want, a := range map[string]planning.FitArgs{"share is 0": {}, "share is 2": {Share: 2},
		"speed limit is -1": {Share: 1, SpeedLimit: -1}} {
		k.refuses(t, k.commands().CheckFit(t.Context(), &k.c, a, "ann"), want)
	}
	k.refuses(t, k.commands().CheckFit(t.Context(), &k.c, planning.FitArgs{Share: 1, Tables: []string{"lots"}}, "ann"), "")
	k.does(t, k.commands().CheckFit(t.Context(), &k.c, planning.FitArgs{Share: 0.5}, "ann"), "task fit",
		"ann started a fit check")
	k = newCounter(domain.KindLoadCapture, domain.PhaseLoading)
	k.refuses(t, k.commands().CheckFit(t.Context(), &k.c, planning.FitArgs{Share: 1}, "ann"), "belongs before that")
}

// TestAnotherServerAnswers: capture goes on there, from where the target stands.
func TestAnotherServerAnswers(t *testing.T) {
	held := func() *counter {
		k := newCounter(domain.KindLoadCapture, domain.PhaseInStep)
		k.c.Condition, k.server = domain.ConditionHeld, "two"
		return k
	}
	k := held()
	k.does(t, k.commands().FailOver(t.Context(), &k.c, "ann"), "kick", "take stream 9", "resolve 0-1-9",
		"move stream to 777",
		"rebase to 777 of two", "another server (two; it was one)", "resume from held")
	k = held()
	k.server = "one"
	k.refuses(t, k.commands().FailOver(t.Context(), &k.c, "ann"), "resume it")
	k = held()
	k.c.Kind = domain.KindLoad
	k.refuses(t, k.commands().FailOver(t.Context(), &k.c, "ann"), "follows no changes")
	k = held()
	k.c.Condition = domain.ConditionRunning
	k.refuses(t, k.commands().FailOver(t.Context(), &k.c, "ann"), "is running")
	k = held()
	k.applied = domain.PositionAt(20)
	if err := k.commands().FailOver(t.Context(), &k.c, "ann"); err == nil || strings.Contains(k.all(), "move stream") {
		t.Errorf("the target equals no moment of the source: %v", err)
	}
}
