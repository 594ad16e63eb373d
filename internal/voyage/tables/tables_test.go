package tables

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// shelf is a crossing under way with its tables, its databases and what is kept of it, in memory.
// What is done, wherever, is kept in order.
type shelf struct {
	mu       sync.Mutex
	c        domain.Crossing
	tables   []domain.CrossingTable
	plans    []domain.TablePlan // of the wider crossing
	entries  []domain.Entry     // of a table's survey
	catalog  domain.Catalog
	deferred []engine.Object
	change   planning.SchemaChange
	identity string // that a new table gets
	refuses  string // a statement
	endings  []domain.Ending
	stand    []domain.Stand // one after the other; the last stays
	busy     bool           // another process has the lock
	stands   chan struct{}  // until then the first crossing's target does not answer
	panics   bool
	trouble  []string
	fences   error
	taken    error // of taking the stream

	did []string
}

func name(table string) domain.TableName { return domain.TableName{Schema: "marsh", Name: table} }

func newShelf() *shelf {
	s := &shelf{stand: []domain.Stand{{Epoch: 5, Live: true, Reading: true}}}
	s.c = domain.Crossing{ID: 7, UID: "u7", Name: "spring", Source: "old", Target: "new", Kind: domain.KindLoadCapture,
		Phase: domain.PhaseInStep, Condition: domain.ConditionRunning, Settings: domain.DefaultSettings(),
		Patterns: []string{"marsh.lots"}}
	for i, n := range []string{"lots", "hives", "jars"} {
		t := domain.Table{TableName: name(n), ID: fmt.Sprint(i + 1), Written: "1"}
		p := domain.TablePlan{Source: name(n), Target: name(n), Key: []string{"id"}, Table: t}
		s.plans, s.catalog.Tables = append(s.plans, p), append(s.catalog.Tables, t)
		if n != "jars" {
			s.tables = append(s.tables, domain.CrossingTable{ID: int64(i + 1), CrossingID: 7, SourceName: "marsh." + n,
				TargetName: "marsh." + n, State: domain.TableLanded, Chunks: 2, RowsLanded: 10, Plan: p})
		}
	}
	return s
}

func (s *shelf) room() *Tables {
	return New(s, s, s, s, s, s, Config{
		Lanes: func(context.Context) error { return s.do("lanes") },
		Fault: func(err error) bool { var f *domain.Fault; return errors.As(err, &f) },
		Troubled: func(_ context.Context, _ *domain.Crossing, _ string, err error) error {
			s.trouble = append(s.trouble, fmt.Sprint(err))
			return nil
		},
		Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
}

func (s *shelf) do(format string, args ...any) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.did = append(s.did, fmt.Sprintf(format, args...))
	return nil
}

func (s *shelf) all() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Join(s.did, "\n")
}

// wants checks that things were done in this order.
func (s *shelf) wants(t *testing.T, list ...string) {
	t.Helper()
	rest := s.all()
	for _, want := range list {
		_, after, found := strings.Cut(rest, want)
		if !found {
			t.Errorf("no %q (in this order) in\n%s", want, s.all())
			return
		}
		rest = after
	}
}

// ---- records

func (s *shelf) CrossingByID(context.Context, int64) (domain.Crossing, error) { return s.c, nil }
func (s *shelf) CatalogOf(context.Context, int64) (*domain.Catalog, error)    { return &s.catalog, nil }
func (s *shelf) SetCondition(_ context.Context, _ int64, from []domain.Condition, to domain.Condition, _ string,
	_ bool) (bool, error) {
	return true, s.do("%v → %s", from, to)
}
func (s *shelf) EditPlan(_ context.Context, _ int64, edit func([]string, *domain.Planning) []string) error {
	return s.do("tables %v", edit(s.c.Patterns, &s.c.Planning))
}
func (s *shelf) SaveObjects(_ context.Context, _ int64, list []domain.TargetObject, l domain.Listing) error {
	return s.do("%d objects %+v", len(list), l)
}
func (s *shelf) UnmakeForeignKeys(context.Context, int64) error { return s.do("unmake foreign keys") }
func (s *shelf) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	return slices.Clone(s.tables), nil
}
func (s *shelf) Table(_ context.Context, id int64) (domain.CrossingTable, error) {
	return s.tables[id-1], nil
}
func (s *shelf) AddTable(_ context.Context, _ *domain.Crossing, p domain.TablePlan,
	_ *domain.Catalog) (domain.CrossingTable, error) {
	return domain.CrossingTable{ID: 3, SourceName: p.Source.String(), Plan: p}, s.do("add %s", p.Source)
}
func (s *shelf) ReleaseTable(_ context.Context, id int64) error { return s.do("release %d", id) }
func (s *shelf) StopTable(_ context.Context, id int64, why string) error {
	return s.do("stop %d: %s", id, why)
}
func (s *shelf) DropTable(_ context.Context, _ int64, t *domain.CrossingTable, left []domain.TargetObject) error {
	return s.do("drop %s, %d objects stay", t.SourceName, len(left))
}
func (s *shelf) ResetTable(_ context.Context, id int64) error  { return s.do("reset %d", id) }
func (s *shelf) LoadInPlace(_ context.Context, id int64) error { return s.do("in place %d", id) }
func (s *shelf) ToClear(context.Context) ([]domain.CrossingTable, error) {
	var out []domain.CrossingTable
	for _, t := range s.tables {
		if t.State == domain.TablePlanned {
			out = append(out, t)
		}
	}
	return out, nil
}
func (s *shelf) OpenTable(_ context.Context, id int64) error { return s.do("open %d", id) }
func (s *shelf) Amend(_ context.Context, _, _, table int64, p domain.TablePlan, _ []int64) error {
	return s.do("amend %d: %s written %s, partitions %v, identity %q %q", table, p.Table.ID, p.Table.Written,
		p.Table.Partitions, p.SetIdentity, p.Table.Identity)
}
func (s *shelf) Chunks(context.Context, int64) ([]domain.Chunk, error) {
	return []domain.Chunk{{ID: 11, Epoch: 1}, {ID: 12, Epoch: 1}}, nil
}
func (s *shelf) KickStream(context.Context, int64) (int64, error) { return 4, s.do("kick") }
func (s *shelf) Stand(context.Context, int64) (*domain.Stand, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.stand) == 0 {
		return nil, nil
	}
	now := s.stand[0]
	if len(s.stand) > 1 {
		s.stand = s.stand[1:]
	}
	return &now, nil
}
func (s *shelf) Alone(_ context.Context, _ int64, f func() error) (bool, error) {
	if s.busy {
		return false, nil
	}
	return true, f()
}

// ---- databases, planner, preparer, work, journal

func (s *shelf) both() *engine.Opened {
	d := db{s: s}
	return &engine.Opened{Database: d, Reads: d, Captures: d, Lands: d, Applies: d, Defines: d}
}
func (s *shelf) Catalog(context.Context, string, bool) (*domain.Catalog, error) {
	return &s.catalog, nil
}
func (s *shelf) Open(context.Context, string) (*engine.Opened, error) { return s.both(), nil }
func (s *shelf) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	return s.both(), s.both(), nil
}
func (s *shelf) Plan(ctx context.Context, c *domain.Crossing) (*planning.Surveyed, []domain.Entry, error) {
	return &planning.Surveyed{Source: s.both(), Target: s.both(), Catalog: &s.catalog, Plans: slices.Clone(s.plans)},
		[]domain.Entry{{Subject: "marsh.other", Verdict: domain.Blocker, Topic: "types"}}, nil
}
func (s *shelf) Objects(_ context.Context, c *domain.Crossing, su *planning.Surveyed) ([]domain.TargetObject, error) {
	return make([]domain.TargetObject, len(su.Plans)), nil
}
func (s *shelf) PlanSchemaChange(context.Context, *domain.Crossing, *engine.Opened, *engine.Opened,
	[]domain.TablePlan, *domain.TablePlan, *domain.Change, domain.Position) (*planning.SchemaChange, error) {
	return &s.change, nil
}
func (s *shelf) Cut(_ context.Context, _ *domain.Crossing, t *domain.CrossingTable) (int, error) {
	return 4, s.do("cut %s", t.SourceName)
}
func (s *shelf) MakeTables(_ context.Context, _ *domain.Crossing, _ *planning.Surveyed,
	plans []domain.TablePlan) error {
	return s.do("make %d tables", len(plans))
}
func (s *shelf) MakeCapture(_ context.Context, _ *domain.Crossing, _ *engine.Opened,
	plans []domain.TablePlan) (domain.Position, error) {
	return domain.Position{}, s.do("capture %d tables", len(plans))
}
func (s *shelf) Fence(_ context.Context, _ *engine.Opened, _ *domain.Crossing, table int64) error {
	_ = s.do("fence %d", table)
	if s.stands != nil && table == 1 {
		<-s.stands
	}
	if s.panics {
		panic("the fence broke")
	}
	return s.fences
}
func (s *shelf) EndIdle(_ context.Context, _ *domain.Crossing, _ []domain.Work, why string) ([]domain.Ending, error) {
	return s.endings, s.do("end work: %s", why)
}
func (s *shelf) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	_ = s.do("said: "+format, args...)
}

// ---- the databases themselves

type db struct {
	engine.Database
	engine.Reads
	engine.Captures
	engine.Lands
	engine.Applies
	engine.Defines
	s *shelf
}

func (d db) Origin(context.Context) (string, error) { return "old", nil }
func (d db) Plan(*domain.Table) (domain.TablePlan, error) {
	return domain.TablePlan{SetIdentity: d.s.identity}, nil
}
func (d db) SurveySource(context.Context, []domain.TablePlan, bool) ([]domain.Entry, error) {
	return d.s.entries, nil
}
func (d db) SurveyTarget(context.Context, *domain.Catalog, []domain.TablePlan, domain.Settings) ([]domain.Entry,
	error) {
	return nil, nil
}
func (d db) Deferred(*domain.Catalog, []domain.TablePlan) []engine.Object {
	return slices.Clone(d.s.deferred)
}
func (d db) Unbuild(_ context.Context, list []engine.Object) error {
	return d.s.do("unbuild %d", len(list))
}
func (d db) ClearTable(_ context.Context, _, origin string, p *domain.TablePlan, chunks []int64) error {
	return d.s.do("clear %s of %s, chunks %v", p.Target, origin, chunks)
}
func (d db) AppliesQuietly(context.Context) bool { return false }
func (d db) TakeStream(_ context.Context, _ string, epoch int64, _ domain.Position) (domain.Position, error) {
	_ = d.s.do("take stream %d", epoch)
	return domain.Position{}, d.s.taken
}
func (d db) Run(_ context.Context, sql string) error {
	if sql == d.s.refuses {
		return errors.New("no")
	}
	return d.s.do("run %s", sql)
}

// ---- tests

// TestAddingATable: its changes are captured and whoever follows knows of it before its first
// chunk can be read.
func TestAddingATable(t *testing.T) {
	s := newShelf()
	s.stand = []domain.Stand{{Epoch: 4, Live: true, Reading: true}, {Epoch: 5, Live: true}, {Epoch: 5, Live: true,
		Reading: true}}
	synctest.Test(t, func(t *testing.T) {
		if err := s.room().Add(t.Context(), &s.c, Args{"marsh.jars"}, func(string) {}); err != nil {
			t.Fatal(err)
		}
	})
	s.wants(t, "1 objects {Table: Adds:true", "make 1 tables", "capture 3 tables", "tables [marsh.lots marsh.jars]",
		"add marsh.jars", "cut marsh.jars", "kick", "take stream 4", "release 3", "marsh.jars belongs to spring now", "lanes")
	if len(s.stand) != 1 {
		t.Error("the table is released before whoever follows has read the tables")
	}
	// A process that died at it is followed by one that goes on.
	s = newShelf()
	s.tables = append(s.tables, domain.CrossingTable{ID: 3, SourceName: "marsh.jars", Reason: domain.BeingAdded,
		Plan: s.plans[2]})
	if err := s.room().Add(t.Context(), &s.c, Args{"marsh.jars"}, func(string) {}); err != nil || strings.Contains(s.all(),
		"add marsh.jars") {
		t.Errorf("%v\n%s", err, s.all())
	}
	s.wants(t, "cut marsh.jars", "release 3")
	s.tables[2].Reason, s.did = "", nil
	if err := s.room().Add(t.Context(), &s.c, Args{"marsh.jars"}, func(string) {}); err != nil || len(s.did) > 0 {
		t.Errorf("it was added already: %v, %q", err, s.did)
	}
	// Ended before its time, it is taken out again; what belongs to the crossing is not.
	s.tables[2].Reason = domain.BeingAdded
	for _, table := range []string{"marsh.lots", "marsh.nothing", "marsh.jars"} {
		if err := s.room().TakeBack(t.Context(), &s.c, Args{table}); err != nil {
			t.Fatal(err)
		}
	}
	if n := strings.Count(s.all(), "drop "); n != 1 {
		t.Errorf("%d tables were dropped\n%s", n, s.all())
	}
	s.wants(t, "stop 3: it is being left out", "fence 3", "drop marsh.jars", "kick")
	s.fences = errors.New("away")
	if err := s.room().TakeBack(t.Context(), &s.c, Args{"marsh.jars"}); err == nil || !strings.Contains(err.Error(),
		"not yet left out") {
		t.Errorf("a fence that fails: %v", err)
	}
	// One that only loads needs nobody who follows.
	s = newShelf()
	s.c.Kind, s.stand = domain.KindLoad, nil
	if err := s.room().Add(t.Context(), &s.c, Args{"marsh.jars"}, func(string) {}); err != nil || strings.Contains(s.all(),
		"capture") {
		t.Errorf("%v, %s", err, s.all())
	}
}

// TestATableThatCannotBeAdded.
func TestATableThatCannotBeAdded(t *testing.T) {
	for want, change := range map[string]func(*shelf){
		"the source has no table marsh.jars": func(s *shelf) { s.plans = s.plans[:2] },
		"the survey of marsh.jars found what blocks": func(s *shelf) {
			s.entries = []domain.Entry{{Subject: "marsh.jars", Verdict: domain.Blocker, Topic: "log"}}
		},
		"cannot be added alone": func(s *shelf) { s.plans[0].After = []domain.TableName{name("jars")} },
		"capture is held. When that is fixed, add the table again": func(s *shelf) {
			s.stand = []domain.Stand{{Epoch: 5, Failures: -1}}
			s.c.Condition, s.c.Reason = domain.ConditionHeld, "capture is held"
		},
		"nobody follows the changes of spring yet": func(s *shelf) { s.stand = []domain.Stand{{Epoch: 4}} },
	} {
		synctest.Test(t, func(t *testing.T) {
			s := newShelf()
			change(s)
			err := s.room().Add(t.Context(), &s.c, Args{"marsh.jars"}, func(string) {})
			if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(s.all(), "release") {
				t.Errorf("%v, not %q\n%s", err, want, s.all())
			}
		})
	}
}

// TestRestartingATable: with those that refer to it, and between two kicks of whoever follows.
func TestRestartingATable(t *testing.T) {
	s := newShelf()
	r := s.room()
	if err := r.Restart(t.Context(), &s.c, s.tables, "marsh.lots", "ann"); err != nil {
		t.Fatal(err)
	}
	s.wants(t, "said: ann restarts table marsh.lots", "kick", "take stream 4", "reset 1", "kick", "[held] → running")
	if strings.Contains(s.all(), "reset 2") || strings.Contains(s.all(), "in place") {
		t.Errorf("too much:\n%s", s.all())
	}
	for want, change := range map[string]func(*shelf){
		"has no table":          func(s *shelf) { s.tables = s.tables[1:] },
		"has not begun to load": func(s *shelf) { s.tables[0].Chunks = 0 },
		"was planned to keep":   func(s *shelf) { s.c.Settings.ExistingRows = "keep" },
		"cannot be brought to them (REFUSED)": func(s *shelf) {
			s.change = planning.SchemaChange{Changes: []columns.Change{{Kind: columns.Dropped}}, Todo: []string{"REFUSED"}}
			s.refuses = "REFUSED"
		},
	} {
		s := newShelf()
		change(s)
		if err := s.room().Restart(t.Context(), &s.c, s.tables, "marsh.lots", "ann"); err == nil ||
			!strings.Contains(err.Error(), want) || strings.Contains(s.all(), "reset") {
			t.Errorf("%v, not %q\n%s", err, want, s.all())
		}
	}
	// In place, where the crossing only loads and repeats so.
	s = newShelf()
	s.c.Kind, s.c.Settings.Repeat = domain.KindLoad, engine.ReplaceRange
	if err := s.room().Restart(t.Context(), &s.c, s.tables, "marsh.lots", "ann"); err != nil || strings.Contains(s.all(),
		"take stream") {
		t.Errorf("%v\n%s", err, s.all())
	}
	s.wants(t, "in place 1", "reset 1")
	// Somebody who follows under a newer epoch already is no error.
	s = newShelf()
	s.taken = domain.ErrTakenOver
	if err := s.room().Restart(t.Context(), &s.c, s.tables, "marsh.lots", "ann"); err != nil {
		t.Error(err)
	}
}

// TestATableThatBeginsAgainIsPlannedAnew: by the columns, the name, the partitions it has now.
func TestATableThatBeginsAgainIsPlannedAnew(t *testing.T) {
	part := func(n, identity string) domain.Partition { return domain.Partition{Table: name(n), Identity: identity} }
	for what, x := range map[string]struct {
		change func(*shelf)
		want   []string
		not    string
	}{
		"nothing": {change: func(*shelf) {}, not: "amend"},
		"a query": {change: func(s *shelf) { s.tables[0].Plan.From = "SELECT 1"; s.catalog.Tables[0].ID = "9" },
			not: "amend"},
		"gone": {change: func(s *shelf) { s.catalog.Tables = s.catalog.Tables[1:] }, not: "amend"},
		"columns": {change: func(s *shelf) {
			s.change = planning.SchemaChange{Changes: []columns.Change{{Kind: columns.Dropped,
				Was: domain.Column{Name: "honey"}}}, Todo: []string{"ALTER"}}
		}, want: []string{"run ALTER",
			"said: marsh.lots is planned anew, as its definition has changed: column honey was dropped", "amend 1"}},
		"written anew": {change: func(s *shelf) { s.catalog.Tables[0].Written = "2" }, want: []string{"capture 1 tables",
			"amend 1: 1 written 2"}},
		"another table": {change: func(s *shelf) {
			s.catalog.Tables[0].ID, s.catalog.Tables[0].Identity, s.identity = "9", "default", "full"
		}, want: []string{"marsh.lots is another table on the source now",
			`amend 1: 9 written 1, partitions [], identity "full" "default"`}},
		"partitions": {change: func(s *shelf) {
			s.tables[0].Plan.SetIdentity = "full"
			s.tables[0].Plan.Table.Partitions = []domain.Partition{part("lots_1", "index")}
			s.catalog.Tables[0].Partitions = []domain.Partition{part("lots_1", "full"), part("lots_2", "full")}
		}, want: []string{"lots_1", "index", "lots_2"}},
		"a slot of theirs": {change: func(s *shelf) { s.c.Settings.Slot, s.catalog.Tables[0].Written = "theirs", "2" },
			want: []string{"amend 1: 1 written 2"}, not: "capture"},
	} {
		t.Run(what, func(t *testing.T) {
			s := newShelf()
			x.change(s)
			if err := s.room().Restart(t.Context(), &s.c, slices.Clone(s.tables), "marsh.lots", "ann"); err != nil {
				t.Fatal(err)
			}
			s.wants(t, x.want...)
			if x.not != "" && strings.Contains(s.all(), x.not) {
				t.Errorf("%s in\n%s", x.not, s.all())
			}
		})
	}
}

// TestClearingTables: fenced, emptied and opened again, when nobody works on them any more.
func TestClearingTables(t *testing.T) {
	clears := func(s *shelf) string {
		r := s.room()
		if err := r.Clear(context.Background()); err != nil {
			t.Fatal(err)
		}
		r.Wait()
		return s.all()
	}
	s := newShelf()
	s.tables[0].State = domain.TablePlanned
	s.deferred = []engine.Object{{Kind: "index"}, {Kind: "foreign"}}
	clears(s)
	s.wants(t, "end work: a table was restarted", "fence 1", "unbuild 1",
		"1 objects {Table:marsh.lots Adds:false Anew:true}",
		"clear marsh.lots of old, chunks [11 12]", "open 1", "said: marsh.lots has been emptied")
	if s.trouble[0] != "<nil>" {
		t.Errorf("trouble: %q", s.trouble)
	}
	s = newShelf()
	s.tables[0].State, s.tables[0].Plan.ReplaceRange = domain.TablePlanned, true
	s.deferred = []engine.Object{{Kind: "index"}, {Kind: "foreign"}}
	clears(s)
	s.wants(t, "fence 1", "unmake foreign keys", "unbuild 1", "cut marsh.lots", "is loaded again in place")
	for what, change := range map[string]func(*shelf){
		"work that has not ended": func(s *shelf) { s.endings = []domain.Ending{{Kind: "build"}} },
		"another process":         func(s *shelf) { s.busy = true },
		"a fence that fails":      func(s *shelf) { s.fences = errors.New("the target is away") },
		"a fault":                 func(s *shelf) { s.panics = true },
		"none":                    func(s *shelf) { s.tables[0].State = domain.TableLanded },
	} {
		s := newShelf()
		s.tables[0].State = domain.TablePlanned
		change(s)
		if did := clears(s); strings.Contains(did, "clear marsh") || strings.Contains(did, "open") {
			t.Errorf("%s: %s", what, did)
		}
		if told := strings.Join(s.trouble, " "); what == "a fence that fails" && !strings.Contains(told,
			"marsh.lots: the target is away") ||
			what == "a fault" && !strings.Contains(told, "fence broke") {
			t.Errorf("%s: trouble %q", what, told)
		}
	}
}

// TestOneTargetAwayKeepsNoOther: while the target of one crossing does not answer, tables of another
// begin again; and nobody begins with the first a second time.
func TestOneTargetAwayKeepsNoOther(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newShelf()
		s.stands = make(chan struct{})
		s.tables[0].State, s.tables[1].State, s.tables[1].CrossingID = domain.TablePlanned, domain.TablePlanned, 8
		r := s.room()
		for range 2 {
			if err := r.Clear(t.Context()); err != nil {
				t.Fatal(err)
			}
			synctest.Wait()
		}
		if strings.Count(s.all(), "fence 1") != 1 || !strings.Contains(s.all(), "open 2") || strings.Contains(s.all(),
			"open 1") {
			t.Errorf("while it does not answer:\n%s", s.all())
		}
		close(s.stands)
		r.Wait()
		s.wants(t, "open 1")
	})
}
