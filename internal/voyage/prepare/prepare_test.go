package prepare

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// dock is a crossing that is to begin, with its databases and what is kept of it, in memory. What
// is done, wherever, is kept in order.
type dock struct {
	c        domain.Crossing
	entries  []domain.Entry
	plans    []domain.TablePlan
	open     []string // transactions on the source
	capture  time.Duration
	place    domain.Position // from which the source gives changes
	resolved domain.Position // of a name of all servers
	engine   string
	breaks   map[string]error // by what is done
	sample   []domain.KeyValue
	made     error // of a table
	deferred []engine.Object
	quiet    bool
	moves    bool // somebody else moves the crossing on

	did   []string
	noted []string
}

func newDock() *dock {
	k := &dock{place: domain.PositionAt(100), resolved: domain.PositionAt(150), engine: "postgres",
		breaks: map[string]error{}}
	k.c = domain.Crossing{ID: 7, UID: "u7", Name: "spring", Source: "old", Target: "new", Kind: domain.KindLoadCapture,
		Phase: domain.PhaseDraft, Settings: domain.DefaultSettings()}
	for _, n := range []string{"lots", "hives"} {
		name := domain.TableName{Schema: "marsh", Name: n}
		cols := []domain.Column{{Name: "id", Type: "integer", BaseType: "integer", NotNull: true}}
		k.plans = append(k.plans, domain.TablePlan{Source: name, Target: name, Columns: cols, Key: []string{"id"},
			KeyOrder: "ours", Table: domain.Table{TableName: name, Bytes: 1000, Columns: cols}})
	}
	return k
}

func (k *dock) preparer() *Preparer {
	return New(k, k, planner{k}, k, k, k, func(context.Context) error { return k.do("lanes") })
}

func (k *dock) do(format string, args ...any) error {
	text := fmt.Sprintf(format, args...)
	k.did = append(k.did, text)
	for part, err := range k.breaks {
		if strings.Contains(text, part) {
			return err
		}
	}
	return nil
}

func (k *dock) all() string { return strings.Join(k.did, "\n") }

// begins carries a task out that begins a load.
func (k *dock) begins(ctx context.Context, kind domain.Work, epoch int64, begun bool) (domain.Task, error) {
	c := k.c
	t := domain.Task{ID: 9, Kind: kind, Epoch: epoch, Begun: begun, Args: []byte(`{"run": 5}`), Actor: "ann"}
	err := k.preparer().Begin(ctx, &c, &t, func(text string) { k.noted = append(k.noted, text) })
	return t, err
}

func (k *dock) wants(t *testing.T, list ...string) {
	t.Helper()
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

func (k *dock) Database(context.Context, string) (domain.Database, error) {
	return domain.Database{Engine: k.engine}, nil
}
func (k *dock) SetPhase(_ context.Context, _ int64, from, to domain.Phase) (bool, error) {
	if k.c.Phase != from || k.moves {
		return false, nil
	}
	k.c.Phase = to
	return true, k.do("%s → %s", from, to)
}
func (k *dock) SaveSurvey(context.Context, *domain.Crossing, []domain.Entry) error {
	if k.c.Phase == domain.PhaseDraft {
		k.c.Phase = domain.PhaseSurveyed
	}
	return k.do("save the survey")
}
func (k *dock) SavePlans(_ context.Context, _ *domain.Crossing, plans []domain.TablePlan) error {
	return k.do("save %d plans, in place %v", len(plans), plans[0].ReplaceRange)
}
func (k *dock) SaveObjects(_ context.Context, _ int64, list []domain.TargetObject, l domain.Listing) error {
	return k.do("save %d objects, anew %v", len(list), l.Anew)
}
func (k *dock) Objects(ctx context.Context, _ int64) ([]domain.TargetObject, error) {
	return make([]domain.TargetObject, 3), nil
}
func (k *dock) TellTables(_ context.Context, _ int64, list []domain.ObjectOutcome) error {
	return k.do("tell %+v", list)
}
func (k *dock) SaveStart(_ context.Context, _ int64, at domain.Position, undo []string, _ *domain.Catalog) error {
	return k.do("start at %s, undo %q", at, undo)
}
func (k *dock) SaveUndo(_ context.Context, _ int64, undo []string) error {
	return k.do("undo %q", undo)
}
func (k *dock) NothingToLoad(context.Context, int64) error { return k.do("nothing to load") }
func (k *dock) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	var out []domain.CrossingTable
	for i, p := range k.plans {
		out = append(out, domain.CrossingTable{ID: int64(i + 1), SourceName: p.Source.String(), Plan: p})
	}
	return out, nil
}
func (k *dock) Chunks(_ context.Context, table int64) ([]domain.Chunk, error) {
	return []domain.Chunk{{ID: 10 + table, Epoch: 2}}, nil
}
func (k *dock) SaveChunks(_ context.Context, cuts ...domain.CutTable) error {
	for _, x := range cuts {
		if err := k.do("%d chunks of %s", len(x.Chunks), x.Table.SourceName); err != nil {
			return err
		}
	}
	return nil
}
func (k *dock) SetWatermark(_ context.Context, _ int64, mark string) error {
	return k.do("mark %s", mark)
}
func (k *dock) ResetAll(context.Context, int64) error {
	k.c.Phase = domain.PhasePrepared
	return k.do("reset all")
}
func (k *dock) BeginRun(_ context.Context, _, run int64, by string, anew bool) error {
	return k.do("run %d by %s, anew %v", run, by, anew)
}
func (k *dock) Begun(_ context.Context, task, epoch int64) error {
	return k.do("task %d has begun under %d", task, epoch)
}
func (k *dock) both() *engine.Opened {
	d := db{k: k}
	return &engine.Opened{Database: d, Reads: d, Captures: d, Lands: d, Applies: d, Defines: d}
}
func (k *dock) Open(context.Context, string) (*engine.Opened, error) { return k.both(), nil }
func (k *dock) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	return k.both(), k.both(), nil
}
func (k *dock) Driver(string) (engine.Driver, error) { return plain{}, nil }
func (k *dock) Position(_ context.Context, _ string, p domain.Position) string {
	return fmt.Sprint(p.Number())
}
func (k *dock) Survey(_ context.Context, c *domain.Crossing, _ bool) (*planning.Surveyed, error) {
	return &planning.Surveyed{Source: k.both(), Target: k.both(), Catalog: &domain.Catalog{}, Plans: k.plans,
		Entries: k.entries}, k.do("survey, existing rows %s", c.Settings.ExistingRows)
}
func (k *dock) EndWork(_ context.Context, _ *domain.Crossing, kinds []domain.Work, why string) error {
	return k.do("end %d kinds of work: %s", len(kinds), why)
}
func (k *dock) Statements(_ context.Context, _ *domain.Crossing, _ *engine.Opened, list []domain.TargetObject,
	stage string, _ func(string)) error {
	return k.do("statements %s of %d", stage, len(list))
}
func (k *dock) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	_ = k.do("said: "+format, args...)
}
func (k *dock) Hold(_ context.Context, _ *domain.Crossing, _, reason string) {
	_ = k.do("held: %s", reason)
}

// plain is an engine whose places are written as numbers.
type plain struct{ engine.Driver }

func (plain) ParsePosition(text string) (p domain.Position, err error) {
	n, err := strconv.ParseUint(text, 10, 64)
	return domain.PositionAt(n), err
}

// db is either database.
type db struct {
	engine.Database
	engine.Reads
	engine.Captures
	engine.Lands
	engine.Applies
	engine.Defines
	k *dock
}

func (d db) PrepareTarget(_ context.Context, _ string, _ *domain.Catalog, plans []domain.TablePlan, _ domain.Settings,
	told func(engine.Object, error)) error {
	for _, p := range plans {
		told(engine.Object{Kind: "table", Table: p.Target}, d.k.made)
	}
	return d.k.made
}
func (d db) CaptureUndo([]domain.TablePlan) []string { return []string{"ALTER TABLE lots"} }
func (d db) KeepsEarlier() bool                      { return d.k.engine == "mariadb" }
func (d db) PrepareCapture(ctx context.Context, name string, plans []domain.TablePlan) (domain.Position, error) {
	time.Sleep(d.k.capture)
	return d.k.place, d.k.do("capture of %d tables", len(plans))
}
func (d db) CheckCapture(_ context.Context, slot string, _ []domain.TablePlan) (domain.Position, error) {
	return d.k.place, d.k.do("check %s", slot)
}
func (d db) ResolveGTID(_ context.Context, name string) (domain.Position, error) {
	return d.k.resolved, d.k.do("resolve %s", name)
}
func (d db) OpenTransactions(context.Context, time.Duration) ([]string, error) { return d.k.open, nil }
func (d db) DropCapture(context.Context, string, []string) error               { return d.k.do("drop capture") }
func (d db) Sample(_ context.Context, p *domain.TablePlan, want int) ([]domain.KeyValue, error) {
	return d.k.sample, d.k.do("sample %d keys of %s", want, p.Source)
}
func (d db) Greatest(_ context.Context, p *domain.TablePlan, column string) (string, error) {
	return "2026", d.k.do("greatest %s of %s", column, p.Source)
}
func (d db) Fence(_ context.Context, _ string, chunk, epoch int64) (*engine.Mark, error) {
	return nil, d.k.do("fence %d at %d", chunk, epoch)
}
func (d db) Deferred(*domain.Catalog, []domain.TablePlan) []engine.Object {
	return slices.Clone(d.k.deferred)
}
func (d db) AppliesQuietly(context.Context) bool { return d.k.quiet }
func (d db) Unbuild(_ context.Context, list []engine.Object) error {
	return d.k.do("unbuild %d", len(list))
}
func (d db) ForgetStream(context.Context, string) error { return d.k.do("forget stream") }

func (d db) Plan(*domain.Table) (domain.TablePlan, error) { return domain.TablePlan{}, nil }

// planner is the dock as it surveys and plans.
type planner struct{ *dock }

func (planner) Objects(context.Context, *domain.Crossing, *planning.Surveyed) ([]domain.TargetObject, error) {
	return make([]domain.TargetObject, 2), nil
}

// TestAFirstLoadBegins, with everything that it needs, in the order in which a process may die.
func TestAFirstLoadBegins(t *testing.T) {
	k := newDock()
	k.sample = []domain.KeyValue{}
	task, err := k.begins(t.Context(), lifecycle.WorkPrepare, 1, false)
	if err != nil || !task.Begun || k.c.Phase != domain.PhaseLoading {
		t.Fatalf("%v, begun %v, %s", err, task.Begun, k.c.Phase)
	}
	k.wants(t, "run 5 by ann, anew false", "survey", "save the survey", "save 2 plans, in place false",
		"save 2 objects, anew false", "tell [{Kind:table Table:marsh.lots", "statements before of 3",
		`undo ["ALTER TABLE lots"]`, "capture of 2 tables", `start at 100, undo ["ALTER TABLE lots"]`,
		"surveyed → prepared", "1 chunks of marsh.lots", "1 chunks of marsh.hives", "task 9 has begun under 1",
		"prepared → loading", "lanes", "said: the load begins: 2 tables in 2 chunks", "captured from log position 100")
	// Who takes the task over, which had begun but for saying so, begins nothing again.
	k = newDock()
	k.c.Phase = domain.PhasePrepared
	if _, err := k.begins(t.Context(), lifecycle.WorkPrepare, 2, true); err != nil || k.all() != "prepared → loading" {
		t.Errorf("%v: %s", err, k.all())
	}
	k = newDock()
	k.c.Kind = domain.KindLoad
	if _, err := k.begins(t.Context(), lifecycle.WorkPrepare, 1, false); err != nil || strings.Contains(k.all(),
		"capture") {
		t.Errorf("a load alone: %v\n%s", err, k.all())
	}
	k.wants(t, "start at 0")
	k = newDock()
	k.c.Kind = domain.KindCapture
	if _, err := k.begins(t.Context(), lifecycle.WorkPrepare, 1, false); err != nil || strings.Contains(k.all(),
		"chunks of") {
		t.Errorf("changes alone: %v\n%s", err, k.all())
	}
	k.wants(t, "nothing to load", "said: changes of 2 tables are followed from log position 100")
}

// TestWhatKeepsALoadFromBeginning: it is said, and holds the crossing; a server that is away is
// waited for instead.
func TestWhatKeepsALoadFromBeginning(t *testing.T) {
	for want, x := range map[string]struct {
		change func(*dock)
		waits  bool
	}{
		"found what blocks: marsh.lots: it is odd (mend it)": {change: func(k *dock) {
			k.entries = []domain.Entry{{Subject: "marsh.lots", Measured: "it is odd", Remedy: "mend it",
				Verdict: domain.Blocker}}
		}},
		"no room":                  {change: func(k *dock) { k.made = errors.New("no room") }},
		"is not surveyed any more": {change: func(k *dock) { k.moves = true }},
		"finding chunk bounds of marsh.lots: no": {change: func(k *dock) {
			k.plans[0].Table.Bytes, k.breaks["sample"] = 1<<40, errors.New("no")
		}},
		"reading the watermark of marsh.lots: no": {change: func(k *dock) {
			k.plans[0].Watermark, k.breaks["greatest"] = "at", errors.New("no")
		}},
		"the source is away": {change: func(k *dock) {
			k.breaks["capture of"] = &engine.ServerError{Text: "the source is away", Class: engine.Gone}
		}, waits: true},
	} {
		k := newDock()
		x.change(k)
		task, err := k.begins(t.Context(), lifecycle.WorkPrepare, 1, false)
		if err == nil || !strings.Contains(err.Error(), want) || task.Begun || strings.Contains(k.all(), "→ loading") {
			t.Errorf("%v, not %q", err, want)
		}
		if strings.Contains(k.all(), "held: prepare could not be done: ") == x.waits {
			t.Errorf("%s: held or not:\n%s", want, k.all())
		}
	}
	k := newDock()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	k.made = errors.New("called off")
	if _, err := k.begins(ctx, lifecycle.WorkPrepare, 1, false); err == nil || strings.Contains(k.all(), "held") {
		t.Errorf("a task that was called off holds the crossing: %v", err)
	}
}

// TestCaptureSaysWhatItWaitsFor.
func TestCaptureSaysWhatItWaitsFor(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		k := newDock()
		k.open, k.capture = []string{"ann since 8:00", "bob", "eve"}, 5*time.Second
		if _, err := k.begins(t.Context(), lifecycle.WorkPrepare, 1, false); err != nil {
			t.Fatal(err)
		}
		if !slices.Contains(k.noted,
			"capture can begin when what is open on the source now has ended: ann since 8:00 and 2 more") {
			t.Errorf("noted %q", k.noted)
		}
	})
}

// TestFromWhereChangesAreFollowed: where capture was made, a place that a person gave, or one of
// their own slot.
func TestFromWhereChangesAreFollowed(t *testing.T) {
	for _, x := range []struct{ engine, slot, from, want string }{
		{"postgres", "", "", "start at 100"},
		{"postgres", "", " 120 ", "start at 120"},
		{"postgres", "", "80", "is before that. Before a copy is made there has to be a slot"},
		{"postgres", "", "0-1-9", "start at 150"},
		{"mariadb", "", "80", "start at 80"},
		{"postgres", "theirs", "", "start at 100"},
		{"postgres", "theirs", "120", "start at 120"},
		{"postgres", "theirs", "80", "start_from is 80, before that"},
	} {
		k := newDock()
		k.engine, k.c.Kind, k.c.Settings.Slot, k.c.Settings.StartFrom = x.engine, domain.KindCapture, x.slot, x.from
		_, err := k.begins(t.Context(), lifecycle.WorkPrepare, 1, false)
		if got := k.all() + fmt.Sprint(err); !strings.Contains(got, x.want) {
			t.Errorf("%+v: %s", x, got)
		}
		if made := strings.Contains(k.all(), "capture of"); made == (x.slot != "") {
			t.Errorf("%+v: our own capture made: %v", x, made)
		}
	}
}

// TestARestartFromNothing: nobody lands any more, what was made goes, and the rows with it.
func TestARestartFromNothing(t *testing.T) {
	k := newDock()
	k.c.Phase = domain.PhaseInStep
	k.c.Rules = []domain.Rule{{Tables: "*", ExistingRows: "keep"}}
	k.deferred = []engine.Object{{Kind: "index"}, {Kind: "foreign"}}
	if _, err := k.begins(t.Context(), lifecycle.WorkRestart, 1, false); err != nil {
		t.Fatal(err)
	}
	k.wants(t, "run 5 by ann, anew true", "end ", "reset all", "fence 11 at 2", "fence 12 at 2", "drop capture",
		"unbuild 2",
		"forget stream", "survey, existing rows empty", "anew true", "→ loading")
	if k.c.Rules[0].ExistingRows != "keep" {
		t.Error("the crossing's own rules were changed")
	}
	// In place: only what would act stands in the way, and rows stay until others take their place.
	k = newDock()
	k.c.Kind, k.c.Settings.Repeat, k.c.Phase = domain.KindLoad, engine.ReplaceRange, domain.PhaseInStep
	k.deferred = []engine.Object{{Kind: "index"}, {Kind: "foreign"}}
	if _, err := k.begins(t.Context(), lifecycle.WorkRestart, 2, false); err != nil {
		t.Fatal(err)
	}
	k.wants(t, "anew false", "unbuild 1", "survey, existing rows "+engine.ReplaceRange, "in place true")
	if k.quiet = true; len(InTheWay(t.Context(), k.both(), k.deferred)) != 0 {
		t.Error("foreign keys that do not act are in the way")
	}
}

// TestCutting: a large table by a sample of its keys, and the watermark before the first row.
func TestCutting(t *testing.T) {
	k := newDock()
	for i := range 1000 {
		k.sample = append(k.sample, domain.KeyValue{fmt.Sprint(1000 + i)})
	}
	k.plans[0].Table.Bytes, k.plans[0].Watermark = 1<<30, "changed"
	tables, _ := k.Tables(t.Context(), 7)
	n, err := k.preparer().Cut(t.Context(), &k.c, &tables[0])
	if err != nil || n < 4 {
		t.Fatalf("%d chunks, %v", n, err)
	}
	k.wants(t, "sample", "greatest changed of marsh.lots", "mark 2026", fmt.Sprintf("%d chunks of marsh.lots", n))
	tables[0].Plan.ReplaceRange, tables[0].Plan.KeyOrder = true, "source"
	tables[0].Plan.Columns = []domain.Column{{Name: "id", Type: "text", BaseType: "text"}}
	if n, err := k.preparer().Cut(t.Context(), &k.c, &tables[0]); err != nil || n != 1 {
		t.Errorf("%d chunks in place, where keys sort otherwise on the target; %v", n, err)
	}
}
