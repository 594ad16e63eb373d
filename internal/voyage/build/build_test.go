package build

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// yard is a target on which things are built, and what the records keep of it.
type yard struct {
	engine.Database
	engine.Defines
	engine.Applies

	mu      sync.Mutex
	objects []domain.TargetObject
	tables  []domain.CrossingTable
	quiet   bool // changes are applied past foreign keys
	beside  bool // several are built at once
	away    error
	fails   map[string]error // by name
	locked  map[string]int   // by name: how often it collides
	needs   map[string]string
	slow    time.Duration
	made    []string // in the order of their making
	running int
	most    int // at once
	late    *bool
	said    []string
	saved   domain.Listing
	panics  string
}

func (y *yard) Open(context.Context, string) (*engine.Opened, error) {
	return &engine.Opened{Database: y, Defines: y, Applies: y}, y.away
}
func (y *yard) AppliesQuietly(context.Context) bool            { return y.quiet }
func (y *yard) BuildsBeside(engine.Object) bool                { return y.beside }
func (y *yard) Build(_ context.Context, o engine.Object) error { return y.do(o.Name) }
func (y *yard) Run(_ context.Context, sql string) error        { return y.do(sql) }
func (y *yard) do(name string) error {
	y.mu.Lock()
	y.running++
	y.most = max(y.most, y.running)
	y.mu.Unlock()
	if y.slow > 0 {
		time.Sleep(y.slow)
	}
	y.mu.Lock()
	defer y.mu.Unlock()
	y.running--
	if name == y.panics && name != "" {
		panic("the builder fell")
	}
	if y.locked[name] > 0 {
		y.locked[name]--
		return &engine.ServerError{Text: "deadlock", Class: engine.Collision}
	}
	if need := y.needs[name]; need != "" && !slices.Contains(y.made, need) {
		return fmt.Errorf("there is no %s", need)
	}
	if err := y.fails[name]; err != nil {
		return err
	}
	y.made = append(y.made, name)
	return nil
}

func (y *yard) Tables(context.Context, int64) ([]domain.CrossingTable, error) { return y.tables, nil }
func (y *yard) CatalogOf(context.Context, int64) (*domain.Catalog, error) {
	return &domain.Catalog{}, nil
}
func (y *yard) Objects(context.Context, int64) ([]domain.TargetObject, error) {
	return slices.Clone(y.objects), nil
}
func (y *yard) ObjectOf(_ context.Context, _, id int64) (domain.TargetObject, error) {
	if id < 1 || int(id) > len(y.objects) {
		return domain.TargetObject{}, domain.NotFound("there is no object %d", id)
	}
	return y.objects[id-1], nil
}
func (y *yard) SaveObjects(_ context.Context, _ int64, list []domain.TargetObject, l domain.Listing) error {
	y.objects, y.saved = nil, l
	for _, o := range list {
		y.add(o.Stage, o.Kind, o.Name, o.Table)
	}
	return nil
}
func (y *yard) RewriteObject(_ context.Context, _, id int64, statement string) error {
	o := &y.objects[id-1]
	if o.Statement = statement; statement == "" {
		o.State = domain.ObjectLeftOut
	}
	return nil
}
func (y *yard) BeginObject(_ context.Context, id int64) (int64, error) {
	y.mu.Lock()
	defer y.mu.Unlock()
	o := &y.objects[id-1]
	if o.Settled() {
		return 0, nil
	}
	o.Try++
	o.State = domain.ObjectRunning
	return o.Try, nil
}
func (y *yard) EndObject(_ context.Context, id, try int64, state, text string, _ time.Duration) (bool, error) {
	y.mu.Lock()
	defer y.mu.Unlock()
	o := &y.objects[id-1]
	o.State, o.Error = state, text
	return o.Try == try, nil
}
func (y *yard) SetLate(_ context.Context, _ int64, late bool) error { y.late = &late; return nil }
func (y *yard) Recordf(_ context.Context, severity, _, _, _, _, format string, args ...any) {
	y.said = append(y.said, severity+": "+fmt.Sprintf(format, args...))
}
func (y *yard) Record(_ context.Context, e domain.JournalEntry) {
	y.said = append(y.said, e.Severity+": "+e.Message)
}

// add lists an object whose statement is its name.
func (y *yard) add(stage, kind, name, table string) *domain.TargetObject {
	y.objects = append(y.objects, domain.TargetObject{ID: int64(len(y.objects) + 1), Stage: stage, Kind: kind, Name: name,
		Table: table, Statement: name, State: domain.ObjectWaiting})
	return &y.objects[len(y.objects)-1]
}

func (y *yard) builder() *Builder {
	return New(y, y, y, func(*engine.Opened, *domain.Catalog, []domain.CrossingTable) []domain.TargetObject {
		return []domain.TargetObject{{Stage: domain.StageDeferred, Kind: "index", Name: "found", Table: "hive.jars"}}
	})
}

func (y *yard) states() string {
	var out []string
	for _, o := range y.objects {
		out = append(out, o.Name+" "+o.State)
	}
	return strings.Join(out, ", ")
}

func spring() *domain.Crossing {
	set := domain.DefaultSettings()
	set.BuildLanes = 2
	return &domain.Crossing{ID: 1, Name: "spring", Kind: domain.KindLoadCapture, Settings: set}
}

func landed(name string) domain.CrossingTable {
	return domain.CrossingTable{TargetName: name, Chunks: 2, ChunksLanded: 2, State: domain.TableLanded}
}

func deaf(string) {}

// TestWhatIsMadeAfterTheLoad: indexes first, then foreign keys, then statements, then what is
// carried along, which may need one another; triggers and, where changes cannot be applied past
// them, foreign keys wait for the cutover.
func TestWhatIsMadeAfterTheLoad(t *testing.T) {
	for name, c := range map[string]struct {
		quiet, last bool
		made        string
		late        bool
	}{
		"before the cutover":                   {made: "by_id after 1 functions view", late: true},
		"at the cutover":                       {last: true, made: "by_id to_hive after 1 functions act view"},
		"where changes pass over foreign keys": {quiet: true, made: "by_id to_hive after 1 functions view"},
	} {
		t.Run(name, func(t *testing.T) {
			y := &yard{quiet: c.quiet, tables: []domain.CrossingTable{landed("hive.jars")},
				needs: map[string]string{"view": "functions"}}
			y.add(domain.StageDeferred, "foreign", "to_hive", "hive.jars")
			y.add(domain.StageDeferred, "index", "by_id", "hive.jars")
			y.add(domain.StageAfter, "statement", "after 1", "")
			y.add(domain.StageCarried, "view", "view", "")
			y.add(domain.StageCarried, "function", "functions", "")
			y.add(domain.StageCarried, "trigger", "act", "")
			y.add(domain.StageBefore, "statement", "before 1", "")
			if err := y.builder().Build(t.Context(), spring(), deaf, c.last); err != nil {
				t.Fatal(err)
			}
			if got := strings.Join(y.made, " "); got != c.made {
				t.Errorf("made %q, want %q", got, c.made)
			}
			if y.late == nil || *y.late != c.late {
				t.Errorf("foreign keys wait: %v", y.late)
			}
			before := len(y.made)
			if err := y.builder().Build(t.Context(), spring(), deaf, c.last); err != nil || len(y.made) != before {
				t.Errorf("a second time: %v, made %q", err, y.made[before:])
			}
		})
	}
}

// TestOneThatFailsKeepsNoOther of its stage; later stages wait for it.
func TestOneThatFailsKeepsNoOther(t *testing.T) {
	y := &yard{fails: map[string]error{"by_note": errors.New("the note is twice there")}, tables: []domain.CrossingTable{
		landed("hive.jars")}}
	for _, n := range []string{"by_note", "by_id", "by_day"} {
		y.add(domain.StageDeferred, "index", n, "hive.jars")
	}
	y.add(domain.StageAfter, "statement", "after 1", "")
	err := y.builder().Build(t.Context(), spring(), deaf, false)
	if err == nil || !strings.Contains(err.Error(), "1 of 3 objects could not be made; the first: the note is twice "+
		"there ('dustyferry crossing objects spring' lists them)") {
		t.Errorf("it was said: %v", err)
	}
	if got := y.states(); got != "by_note failed, by_id made, by_day made, after 1 waiting" {
		t.Errorf("they are %s", got)
	}
	delete(y.fails, "by_note")
	if err := y.builder().Build(t.Context(), spring(), deaf, false); err != nil || len(y.made) != 4 {
		t.Errorf("mended: %v, made %q", err, y.made)
	}
	// A fault of our own is one object's.
	y = &yard{panics: "by_id", tables: []domain.CrossingTable{landed("hive.jars")}}
	y.add(domain.StageDeferred, "index", "by_id", "hive.jars")
	if err := y.builder().Build(t.Context(), spring(), deaf, false); err == nil || !errors.As(err, new(*domain.Fault)) {
		t.Errorf("it was said: %v", err)
	}
}

// TestTablesThatStillLoad wait, and all foreign keys with them.
func TestTablesThatStillLoad(t *testing.T) {
	loading := landed("hive.frames")
	loading.ChunksLanded = 1
	y := &yard{quiet: true, tables: []domain.CrossingTable{landed("hive.jars"), loading}}
	y.add(domain.StageDeferred, "index", "by_id", "hive.jars")
	y.add(domain.StageDeferred, "index", "by_frame", "hive.frames")
	y.add(domain.StageDeferred, "foreign", "to_frame", "hive.jars")
	if err := y.builder().Build(t.Context(), spring(), deaf, false); err != nil ||
		y.states() != "by_id made, by_frame waiting, to_frame waiting" {
		t.Errorf("%v: %s", err, y.states())
	}
}

// TestTablesThatAreBeingAdded: their objects are listed before they are among the tables, and stand on the target.
func TestTablesThatAreBeingAdded(t *testing.T) {
	y := &yard{quiet: true, tables: []domain.CrossingTable{landed("hive.jars")}}
	y.add(domain.StageDeferred, "index", "by_id", "hive.jars")
	y.add(domain.StageDeferred, "index", "late_code", "hive.late")
	if err := y.builder().Build(t.Context(), spring(), deaf, false); err != nil ||
		y.states() != "by_id made, late_code waiting" {
		t.Errorf("%v: %s", err, y.states())
	}
}

// TestCollisions: what collides with others is tried again; for ever it is not.
func TestCollisions(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y := &yard{locked: map[string]int{"by_id": 3}, tables: []domain.CrossingTable{landed("hive.jars")}}
		y.add(domain.StageDeferred, "index", "by_id", "hive.jars")
		if err := y.builder().Build(t.Context(), spring(), deaf, false); err != nil || y.states() != "by_id made" {
			t.Errorf("%v: %s", err, y.states())
		}
		y = &yard{locked: map[string]int{"by_id": 99}, tables: []domain.CrossingTable{landed("hive.jars")}}
		y.add(domain.StageDeferred, "index", "by_id", "hive.jars")
		if err := y.builder().Build(t.Context(), spring(), deaf, false); !engine.Collided(err) ||
			y.locked["by_id"] != 99-collisions {
			t.Errorf("%v after %d tries", err, 99-y.locked["by_id"])
		}
	})
}

// TestSeveralAtOnce, as many as the settings say, and each is told of.
func TestSeveralAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y := &yard{beside: true, slow: time.Second, tables: []domain.CrossingTable{landed("hive.jars"), landed("hive.frames"),
			landed("hive.keepers")}}
		for i, table := range []string{"hive.jars", "hive.frames", "hive.keepers"} {
			y.add(domain.StageDeferred, "index", fmt.Sprint("by_", i), table)
		}
		var notes []string
		if err := y.builder().Build(t.Context(), spring(), func(s string) { notes = append(notes, s) }, false); err != nil ||
			y.most != 2 || len(y.made) != 3 {
			t.Errorf("%v: %d at once, made %q", err, y.most, y.made)
		}
		if !slices.ContainsFunc(notes, func(s string) bool {
			return strings.Contains(s, ", index") && strings.Contains(s, "of 3 built")
		}) {
			t.Errorf("notes %q", notes)
		}
	})
}

// TestStatementsOfAPerson run in their order, and one that may have run already is not run
// again unasked.
func TestStatementsOfAPerson(t *testing.T) {
	y := &yard{fails: map[string]error{"second": errors.New("no such table")}}
	y.add(domain.StageBefore, "statement", "first", "")
	y.add(domain.StageBefore, "statement", "second", "")
	y.add(domain.StageBefore, "statement", "third", "")
	y.add(domain.StageAfter, "statement", "later", "")
	run := func() error {
		dst, _ := y.Open(t.Context(), "")
		list, _ := y.Objects(t.Context(), 1)
		return y.builder().Statements(t.Context(), spring(), dst, list, domain.StageBefore, deaf)
	}
	if err := run(); err == nil || err.Error() != "statement second: no such table" ||
		y.states() != "first made, second failed, third waiting, later waiting" {
		t.Errorf("%v: %s", err, y.states())
	}
	if !slices.Contains(y.said, "info: statement first ran on the target") ||
		!slices.Contains(y.said, "error: statement second failed on the target: no such table") {
		t.Errorf("said %q", y.said)
	}
	y.objects[1].State = domain.ObjectRunning // its process ended
	if err := run(); !domain.IsKind(err, domain.ProblemConflict) || !strings.Contains(err.Error(),
		"objects spring --id 2 --leave-out") || len(y.made) != 1 {
		t.Errorf("%v, made %q", err, y.made)
	}
	if o, err := y.builder().ChangeObject(t.Context(), spring(), 2, "  ", "ann"); err != nil ||
		o.State != domain.ObjectLeftOut || !strings.Contains(y.said[len(y.said)-1], "ann leaves out statement second") {
		t.Errorf("%v: %+v, said %q", err, o, y.said[len(y.said)-1])
	}
	if err := run(); err != nil || strings.Join(y.made, " ") != "first third" {
		t.Errorf("%v, made %q", err, y.made)
	}
	if _, err := y.builder().ChangeObject(t.Context(), spring(), 3, "SELECT 1", "ann"); err != nil ||
		y.objects[2].Statement != "SELECT 1" || !strings.Contains(y.said[len(y.said)-1],
		"ann wrote statement third by hand") {
		t.Errorf("%v: %+v", err, y.objects[2])
	}
	if _, err := y.builder().ChangeObject(t.Context(), spring(), 99, "x", "ann"); !domain.IsKind(err,
		domain.ProblemNotFound) {
		t.Errorf("an object that is not there: %v", err)
	}
}

// TestWhatCannotBeCarried is told, and stops nothing.
func TestWhatCannotBeCarried(t *testing.T) {
	y := &yard{needs: map[string]string{"seen": "a function of the house"}, tables: []domain.CrossingTable{
		landed("hive.jars")}}
	y.add(domain.StageCarried, "view", "seen", "")
	y.add(domain.StageCarried, "view", "plain", "")
	if err := y.builder().Build(t.Context(), spring(), deaf, true); err != nil {
		t.Fatal(err)
	}
	said := strings.Join(y.said, "; ")
	if y.states() != "seen failed, plain made" ||
		!strings.Contains(said, "warning: view seen could not be made on the target: there is no a function of the house") ||
		!strings.Contains(said, "views, routines and triggers made on the target: 1") {
		t.Errorf("%s; said %q", y.states(), said)
	}
}

// TestWithoutAnAccount: what an older version prepared is counted anew, and a target that is
// away is no failure of an object.
func TestWithoutAnAccount(t *testing.T) {
	y := &yard{tables: []domain.CrossingTable{landed("hive.jars")}}
	if err := y.builder().Build(t.Context(), spring(), deaf, false); err != nil || y.states() != "found made" ||
		!y.saved.Adds {
		t.Errorf("%v: %s, %+v", err, y.states(), y.saved)
	}
	y.away = errors.New("new is not there")
	if err := y.builder().Build(t.Context(), spring(), deaf, false); err == nil {
		t.Error("it was built on a target that is away")
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	y = &yard{tables: []domain.CrossingTable{landed("hive.jars")}}
	y.add(domain.StageDeferred, "index", "by_id", "hive.jars")
	if err := y.builder().Build(ended, spring(), deaf, false); !errors.Is(err, context.Canceled) ||
		y.objects[0].State == domain.ObjectFailed {
		t.Errorf("called off: %v, %s", err, y.states())
	}
}
