package returnpath

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// landing is the records, both databases and the rooms that return paths ask, in memory.
type landing struct {
	list    []domain.Crossing
	nextID  int64
	survey  []domain.Entry
	did     []string
	cannot  error // stand ready
	noStops bool  // the new side knows a person's word alone
	unlike  bool  // it is of another engine
	lost    error
}

func newLanding() *landing {
	return &landing{nextID: 8, list: []domain.Crossing{{ID: 7, UID: "u7", Name: "spring", SourceID: 1, TargetID: 2,
		Source: "old", Target: "new",
		Kind: domain.KindLoadCapture, Phase: domain.PhaseInStep, Settings: func() domain.Settings {
			s := domain.DefaultSettings()
			s.StopMethod, s.GuardTarget, s.StopAt = domain.StopLock, domain.GuardRefuse, "noon"
			return s
		}()}}}
}

func (l *landing) do(format string, args ...any) error {
	l.did = append(l.did, fmt.Sprintf(format, args...))
	return nil
}

func (l *landing) returns() *Returns { return New(l, l, l, l, func() string { return "u8" }) }

func (l *landing) find(ok func(c *domain.Crossing) bool) (domain.Crossing, error) {
	for i := range l.list {
		if ok(&l.list[i]) {
			c := l.list[i]
			for _, r := range l.list {
				if r.ReturnOf != nil && *r.ReturnOf == c.ID && r.Phase != domain.PhaseClosed {
					c.ReturnBy = r.Name
				}
			}
			return c, nil
		}
	}
	return domain.Crossing{}, domain.NotFound("there is none")
}
func (l *landing) Crossing(_ context.Context, name string) (domain.Crossing, error) {
	return l.find(func(c *domain.Crossing) bool { return c.Name == name })
}
func (l *landing) CrossingByID(_ context.Context, id int64) (domain.Crossing, error) {
	return l.find(func(c *domain.Crossing) bool { return c.ID == id })
}
func (l *landing) AddCrossing(_ context.Context, c domain.Crossing) (int64, error) {
	c.ID, c.Phase = l.nextID, domain.PhaseDraft
	l.nextID++
	l.list = append(l.list, c)
	return c.ID, l.do("add %s from %s to %s", c.Name, c.Source, c.Target)
}
func (l *landing) RemoveCrossing(_ context.Context, id int64) error {
	l.list = slices.DeleteFunc(l.list, func(c domain.Crossing) bool { return c.ID == id })
	return l.do("remove %d", id)
}
func (l *landing) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	n := domain.TableName{Schema: "marsh", Name: "lots"}
	return []domain.CrossingTable{{Plan: domain.TablePlan{Source: n, Target: n}}}, nil
}
func (l *landing) CatalogOf(context.Context, int64) (*domain.Catalog, error) {
	return &domain.Catalog{}, nil
}
func (l *landing) SaveStart(_ context.Context, id int64, at domain.Position, undo []string, _ *domain.Catalog) error {
	return l.do("crossing %d from %d, undo %v", id, at.Number(), undo)
}
func (l *landing) Database(_ context.Context, name string) (domain.Database, error) {
	return domain.Database{Name: name, Engine: map[bool]string{true: "other", false: "postgres"}[name == "new" &&
		l.unlike]}, nil
}
func (l *landing) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	return &engine.Opened{Captures: db{l: l}}, &engine.Opened{Lands: db{l: l}}, l.lost
}
func (l *landing) Driver(string) (engine.Driver, error) { return word{}, nil }
func (l *landing) CheckStopMethod(_ context.Context, _ string, m domain.StopMethod) error {
	if l.noStops && m != domain.StopWord {
		return errors.New("not there")
	}
	return nil
}
func (l *landing) Survey(_ context.Context, c *domain.Crossing, try bool) (*planning.Surveyed, error) {
	_ = l.do("survey from %s, try %v, return: %v", c.Source, try, c.ReturnOf != nil)
	return &planning.Surveyed{Entries: l.survey}, nil
}
func (l *landing) Stand(_ context.Context, c *domain.Crossing, note func(string)) error {
	note("surveying")
	for i := range l.list {
		if l.list[i].ID == c.ID {
			l.list[i].Phase = domain.PhasePrepared
		}
	}
	return errors.Join(l.do("stand %s", c.Name), l.cannot)
}
func (l *landing) Follow(_ context.Context, c *domain.Crossing) error {
	return l.do("follow %s", c.Name)
}

type word struct{ engine.Driver }

func (word) StopMethods() []domain.StopMethod {
	return []domain.StopMethod{domain.StopLock, domain.StopWord}
}

type db struct {
	engine.Captures
	engine.Lands
	l *landing
}

func (d db) DropCapture(_ context.Context, name string, _ []string) error {
	return d.l.do("drop capture %s", name)
}
func (d db) Forget(_ context.Context, uid string) error { return d.l.do("forget %s", uid) }

func (l *landing) spring(t *testing.T) *domain.Crossing {
	t.Helper()
	c, err := l.Crossing(t.Context(), "spring")
	if err != nil {
		t.Fatal(err)
	}
	return &c
}

func TestAReturnPath(t *testing.T) {
	l := newLanding()
	l.noStops = true
	w := l.returns()
	name, err := w.Prepare(t.Context(), l.spring(t), func(string) {})
	if err != nil || name != "spring-back" {
		t.Fatal(name, err)
	}
	back := l.list[1]
	s := back.Settings
	if back.Kind != domain.KindCapture || *back.ReturnOf != 7 || back.SourceID != 2 || back.TargetID != 1 ||
		back.UID != "u8" ||
		s.StopMethod != domain.StopLock || s.GuardTarget != "allow" || s.ExistingRows != "keep" || s.StopAt != "" ||
		s.ReturnPath != domain.ReturnOpen || s.Validate() != nil || !slices.Equal(back.Patterns, []string{"marsh.lots"}) {
		t.Errorf("%+v", back)
	}
	if err := w.Mark(t.Context(), l.spring(t), domain.PositionAt(50)); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Start(t.Context(), l.spring(t)); err != nil {
		t.Fatal(err)
	}
	want := []string{"add spring-back from new to old", "stand spring-back", "crossing 8 from 50, undo []",
		"follow spring-back"}
	if !slices.Equal(l.did, want) {
		t.Errorf("%q", l.did)
	}
	// One that was made before, and not used, gives way.
	l.did = nil
	if _, err := w.Prepare(t.Context(), l.spring(t), func(string) {}); err != nil {
		t.Fatal(err)
	}
	want = []string{"drop capture dusty_ferry_u8", "forget u8", "remove 8", "add spring-back from new to old",
		"stand spring-back"}
	if !slices.Equal(l.did, want) {
		t.Errorf("%q", l.did)
	}
	// One that is in use does not.
	l.list[1].Phase = domain.PhaseInStep
	if err := w.Drop(t.Context(), l.spring(t)); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Error(err)
	}
	l.list[1].Phase = domain.PhaseClosed
	if err := w.Drop(t.Context(), l.spring(t)); err != nil {
		t.Error(err)
	}
	if err := w.Mark(t.Context(), l.spring(t), domain.PositionAt(50)); err == nil || !strings.Contains(err.Error(),
		"is gone") {
		t.Error(err)
	}
}

// TestHowOneStopsToGoBack: as on the way forth between servers alike, otherwise as the other engine does best.
func TestHowOneStopsToGoBack(t *testing.T) {
	for _, c := range []struct {
		method          domain.StopMethod
		unlike, noStops bool
		want            domain.StopMethod
	}{{domain.StopReadOnly, false, false, domain.StopReadOnly}, {domain.StopReadOnly, true, false, domain.StopLock},
		{domain.StopWord, true, false, domain.StopWord}, {domain.StopLock, false, true, domain.StopLock}} {
		l := newLanding()
		l.unlike, l.noStops = c.unlike, c.noStops
		l.list[0].Settings.StopMethod = c.method
		back, err := l.returns().draft(t.Context(), &l.list[0])
		if err != nil || back.Settings.StopMethod != c.want {
			t.Errorf("%+v: %s, %v", c, back.Settings.StopMethod, err)
		}
	}
}

func TestTheirNames(t *testing.T) {
	long := strings.Repeat("a", 63)
	for from, want := range map[string]string{"spring": "spring-back", "spring-back": "spring-forth",
		"spring-forth":  "spring-back",
		"spring-back-2": "spring-forth", "spring-forth-3": "spring-back", "way-back": "way-back-back", long: long[:58] +
			"-back"} {
		l := newLanding()
		c := domain.Crossing{Name: from}
		if strings.HasPrefix(from, "spring-") {
			c.ReturnOf = new(int64)
		}
		if got, err := l.returns().freeName(t.Context(), &c); err != nil || got != want {
			t.Errorf("%s: %s, %v, not %s", from, got, err, want)
		}
		l.list = append(l.list, domain.Crossing{ID: 9, Name: want})
		if got, err := l.returns().freeName(t.Context(), &c); err != nil || !strings.HasSuffix(got, "-2") || len(got) > 63 {
			t.Errorf("%s: %s, %v", from, got, err)
		}
	}
}

func TestWhatStandsInItsWay(t *testing.T) {
	l := newLanding()
	l.survey = []domain.Entry{{Verdict: domain.Notice, Topic: "statistics"},
		{Verdict: domain.Blocker, Topic: "log level", Subject: "source", Measured: "wal_level is replica"}}
	list, err := l.returns().Survey(t.Context(), l.spring(t))
	if err != nil || len(list) != 1 || list[0].Subject != "new" || list[0].Topic != "return path" ||
		!strings.Contains(list[0].Measured, "wal_level is replica") {
		t.Errorf("%+v, %v", list, err)
	}
	if len(l.list) != 1 || !slices.Equal(l.did, []string{"survey from new, try false, return: true"}) {
		t.Errorf("%q", l.did)
	}
	l.lost = errors.New("away")
	if _, err := l.returns().Prepare(t.Context(), l.spring(t), func(string) {}); err != nil { // nothing was there to drop
		t.Error(err)
	}
	if err := l.returns().Drop(t.Context(), l.spring(t)); err == nil || len(l.list) != 2 {
		t.Errorf("%v; %d crossings", err, len(l.list))
	}
}
