package databases

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// box seals by writing what it is bound to beside the secret.
type box struct{}

func (box) Seal(plain, bound string) []byte { return []byte(bound + "|" + plain) }
func (box) Open(sealed []byte, bound string) (string, error) {
	plain, ok := strings.CutPrefix(string(sealed), bound+"|")
	if !ok {
		return "", errors.New("its password was sealed for another place")
	}
	return plain, nil
}

// kept is the registered databases, and what was said, in memory.
type kept struct {
	server   string // on which crossings began
	other    string // that was seen in its place
	known    map[string]domain.Crossing
	rows     map[string]domain.Database
	underway []domain.Crossing
	said     []string
}

func (k *kept) Database(_ context.Context, name string) (domain.Database, error) {
	d, ok := k.rows[name]
	if !ok {
		return d, domain.NotFound("no database named %s", name)
	}
	return d, nil
}

func (k *kept) AddDatabase(_ context.Context, d domain.Database) error {
	d.ID = int64(len(k.rows) + 1)
	k.rows[d.Name] = d
	return nil
}

func (k *kept) ChangeDatabase(_ context.Context, d domain.Database) error {
	k.rows[d.Name] = d
	return nil
}

func (k *kept) Underway(context.Context) ([]domain.Crossing, error) { return k.underway, nil }

func (k *kept) ServerOf(context.Context, int64) (string, error) { return k.server, nil }

func (k *kept) SetOtherServer(_ context.Context, _ int64, server string) error {
	k.other = server
	return nil
}

func (k *kept) Recordf(_ context.Context, severity, _, _, _, _, format string, args ...any) {
	k.said = append(k.said, severity+": "+fmt.Sprintf(format, args...))
}

func (k *kept) CrossingsByUID(context.Context) (map[string]domain.Crossing, error) {
	return k.known, nil
}

// fake is an engine whose databases are at the hosts that are up, for the right password.
type fake struct {
	identity string // of the server
	up       map[string]bool
	opened   []string
	closed   atomic.Int64
	streams  bool // crossings keep something there
	catalogs int
}

func (f *fake) Name() string                                  { return "fake" }
func (f *fake) FormatPosition(p domain.Position) string       { return fmt.Sprintf("at %s", p) }
func (f *fake) ParsePosition(string) (domain.Position, error) { return domain.Position{}, nil }
func (f *fake) CheckPlace(string) error                       { return nil }
func (f *fake) StopMethods() []domain.StopMethod              { return []domain.StopMethod{domain.StopWord} }
func (f *fake) Open(_ context.Context, e engine.Endpoint) (engine.Database, error) {
	if !f.up[e.Host] || e.Password != "honey" {
		return nil, domain.Unavailable(nil, "%s cannot be reached", e.Host)
	}
	f.opened = append(f.opened, e.Host+" "+e.TLS)
	return &fakeDatabase{of: f}, nil
}

type fakeDatabase struct {
	engine.Database // what no test calls
	engine.Applies
	of *fake
}

func (d *fakeDatabase) Close() { d.of.closed.Add(1) }
func (d *fakeDatabase) Catalog(context.Context) (*domain.Catalog, error) {
	d.of.catalogs++
	return &domain.Catalog{}, nil
}
func (d *fakeDatabase) StreamAt(context.Context, string) (domain.Position, string, error) {
	if !d.of.streams {
		return domain.Position{}, "", domain.NotFound("nothing of it")
	}
	return domain.PositionAt(1), "", nil
}

func (d *fakeDatabase) Identity(context.Context) (string, error) { return d.of.identity, nil }

// TestAnotherServerAtTheAddress: places of a log mean something else on another server.
func TestAnotherServerAtTheAddress(t *testing.T) {
	s, k, f := open(t)
	src, err := s.Open(t.Context(), "old")
	if err != nil {
		t.Fatal(err)
	}
	c := &domain.Crossing{ID: 1, Name: "spring", Source: "old"}
	for _, x := range []struct {
		began, now string
		told       bool
	}{{"a", "a", false}, {"", "a", false}, {"a", "", false}, {"a", "b", true}, {"a", "a", false}} {
		k.server, f.identity = x.began, x.now
		err := s.SameSource(t.Context(), c, src)
		if domain.IsKind(err, domain.ProblemConflict) != x.told || !x.told && err != nil {
			t.Errorf("began on %q, now %q: %v", x.began, x.now, err)
		}
		if want := map[bool]string{true: x.now}[x.told]; k.other != want {
			t.Errorf("began on %q, now %q: %q is kept as the other server", x.began, x.now, k.other)
		}
		if x.told && (!strings.Contains(err.Error(), "another server answers for old now (b; it was a)") || !strings.Contains(
			err.Error(), "failover spring")) {
			t.Errorf("it says %v", err)
		}
	}
}

func open(t *testing.T) (*Databases, *kept, *fake) {
	t.Helper()
	k, f := &kept{rows: map[string]domain.Database{}}, &fake{up: map[string]bool{"old": true, "new": true}}
	n := 0
	s := New(k, box{}, k, []engine.Driver{f}, func() string { n++; return fmt.Sprint("uid", n) })
	for _, name := range []string{"old", "new"} {
		if err := s.AddDatabase(t.Context(), domain.Database{Name: name, Engine: "fake", Host: name, Port: 1, DBName: "hive",
			Username: "dusty", TLS: "require"}, "honey", "ann"); err != nil {
			t.Fatal(err)
		}
	}
	return s, k, f
}

func TestADatabaseIsReachedBeforeItIsKept(t *testing.T) {
	s, k, f := open(t)
	if len(f.opened) != 2 || f.closed.Load() != 2 {
		t.Errorf("opened %q, closed %d", f.opened, f.closed.Load())
	}
	good := domain.Database{Name: "x", Engine: "fake", Host: "old", Port: 1, DBName: "hive", Username: "dusty",
		TLS: "require"}
	for word, change := range map[string]func(*domain.Database){
		"name":      func(d *domain.Database) { d.Name = "a b" },
		"host":      func(d *domain.Database) { d.Host = " " },
		"database":  func(d *domain.Database) { d.DBName = "" },
		"user":      func(d *domain.Database) { d.Username = "" },
		"port":      func(d *domain.Database) { d.Port = 70000 },
		"tls":       func(d *domain.Database) { d.TLS = "perhaps" },
		"no engine": func(d *domain.Database) { d.Engine = "oven" },
		"reached":   func(d *domain.Database) { d.Host = "away" },
	} {
		d := good
		change(&d)
		if err := s.AddDatabase(t.Context(), d, "honey", "ann"); err == nil || !strings.Contains(err.Error(), word) {
			t.Errorf("%s: %v", word, err)
		}
	}
	if len(k.rows) != 2 {
		t.Errorf("kept: %v", k.rows)
	}
	for _, said := range k.said {
		if strings.Contains(said, "honey") {
			t.Errorf("the password was said: %s", said)
		}
	}
}

func TestOneConnectionUntilTheWayChanges(t *testing.T) {
	s, k, f := open(t)
	first, err := s.Open(t.Context(), "old")
	if err != nil {
		t.Fatal(err)
	}
	if again, _ := s.Open(t.Context(), "old"); again != first {
		t.Error("it was opened twice")
	}
	row := k.rows["old"]
	row.TLS = "verify-full"
	row.Secret = box{}.Seal("honey", row.Bound())
	k.rows["old"] = row
	if other, err := s.Open(t.Context(), "old"); err != nil || other == first {
		t.Errorf("the old way is still used (%v)", err)
	}
	src, dst, err := s.OpenPair(t.Context(), &domain.Crossing{Source: "old", Target: "new"})
	if err != nil || src == dst {
		t.Errorf("%v", err)
	}
	for side, c := range map[string]*domain.Crossing{"source": {Source: "none", Target: "new"}, "target": {Source: "old",
		Target: "none"}} {
		if _, _, err := s.OpenPair(t.Context(), c); err == nil || !strings.HasPrefix(err.Error(), side) {
			t.Errorf("%s: %v", side, err)
		}
	}
	was := f.closed.Load()
	s.Close()
	if f.closed.Load() < was+2 {
		t.Error("what was open is not closed")
	}
}

// TestAStolenRecordOpensNothing: a password is sent to the address alone that it was given for.
func TestAStolenRecordOpensNothing(t *testing.T) {
	s, k, f := open(t)
	row := k.rows["old"]
	row.Host, f.up["thief"] = "thief", true
	k.rows["old"] = row
	if _, err := s.Open(t.Context(), "old"); err == nil || !strings.Contains(err.Error(), "sealed for another place") {
		t.Errorf("%v", err)
	}
}

func TestAChangedWayNeedsThePasswordAgain(t *testing.T) {
	ptr := func(s string) *string { return &s }
	for _, x := range []struct {
		name   string
		change Change
		word   string // of the refusal; empty: it is kept
	}{
		{"another host", Change{Host: ptr("new")}, "give the password again"},
		{"another host with the password", Change{Host: ptr("new"), Password: ptr("honey")}, ""},
		{"a weaker connection", Change{TLS: ptr("prefer")}, "over no weaker"},
		{"a stronger one", Change{TLS: ptr("verify-full")}, ""},
		{"a wrong password", Change{Password: ptr("salt")}, "cannot be reached"},
		{"another user", Change{User: ptr("mover")}, ""},
		{"no user", Change{User: ptr("")}, "user is missing"},
	} {
		s, k, _ := open(t)
		before := k.rows["old"]
		err := s.ChangeDatabase(t.Context(), "old", x.change, "ann")
		said := k.said[len(k.said)-1]
		if x.word == "" {
			if err != nil || k.rows["old"].SameWay(before) || !strings.HasPrefix(said, "warning: ann changed") {
				t.Errorf("%s: %v; said %q", x.name, err, said)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), x.word) || !k.rows["old"].SameWay(before) ||
			!strings.Contains(said, "in vain") {
			t.Errorf("%s: %v; said %q", x.name, err, said)
		}
	}
}

// TestATargetIsNotMovedAway: a crossing that is under way finds there what it keeps beside the
// rows, or the address stays.
func TestATargetIsNotMovedAway(t *testing.T) {
	s, k, f := open(t)
	k.underway = []domain.Crossing{{Name: "spring", UID: "u", Kind: domain.KindLoadCapture, TargetID: k.rows["new"].ID},
		{Name: "other", TargetID: 99}}
	host, pw := "old", "honey"
	if err := s.ChangeDatabase(t.Context(), "new", Change{Host: &host, Password: &pw}, "ann"); err == nil ||
		!strings.Contains(err.Error(), "spring is under way") {
		t.Errorf("%v", err)
	}
	f.streams = true
	if err := s.ChangeDatabase(t.Context(), "new", Change{Host: &host, Password: &pw}, "ann"); err != nil {
		t.Error(err)
	}
}

func TestACatalogIsReadWhenItIsOld(t *testing.T) {
	s, _, f := open(t)
	for _, fresh := range []bool{false, false, true} {
		if _, err := s.Catalog(t.Context(), "old", fresh); err != nil {
			t.Fatal(err)
		}
	}
	if f.catalogs != 2 {
		t.Errorf("it was read %d times, want 2", f.catalogs)
	}
	if _, err := s.CatalogOf(t.Context(), "old", time.Hour); err != nil || f.catalogs != 2 {
		t.Errorf("it was read %d times (%v)", f.catalogs, err)
	}
	s.Forget(1)
	if _, err := s.CatalogOf(t.Context(), "old", time.Hour); err != nil || f.catalogs != 3 {
		t.Errorf("after it was forgotten it was read %d times (%v)", f.catalogs, err)
	}
}

func TestWhatAnEngineCan(t *testing.T) {
	s, _, _ := open(t)
	if err := s.CheckStopMethod(t.Context(), "old", domain.StopWord); err != nil {
		t.Error(err)
	}
	if err := s.CheckStopMethod(t.Context(), "old", domain.StopLock); err == nil {
		t.Error("a way to stop writes that is not there was taken")
	}
	for _, x := range []struct {
		name string
		at   domain.Position
		want string
	}{{"old", domain.PositionAt(5), "at 5"}, {"old", domain.PositionAt(6), "at 6"}, {"old", domain.Position{}, ""},
		{"none", domain.PositionAt(5), ""}} {
		if got := s.Position(t.Context(), x.name, x.at); got != x.want {
			t.Errorf("%s at %s: %q", x.name, x.at, got)
		}
	}
}

// traced is a database in which crossings have left something.
type traced struct {
	engine.Database
	engine.Captures
	engine.Lands
	engine.Defines
	engine.Tells
	list []engine.Trace
	did  []string
}

func (d *traced) Traces(context.Context) ([]engine.Trace, error) { return d.list, nil }
func (d *traced) Forget(_ context.Context, uid string) error {
	d.did = append(d.did, "forget "+uid)
	return nil
}
func (d *traced) DropCapture(_ context.Context, name string, _ []string) error {
	d.did = append(d.did, "drop "+name)
	return nil
}
func (d *traced) Run(_ context.Context, sql string) error {
	d.did = append(d.did, sql)
	return nil
}
func (d *traced) Close() {}

// TestTracesOfCrossings: what lost or foreign crossings have left can be removed; what is in use
// cannot, wherever its crossing is known.
func TestTracesOfCrossings(t *testing.T) {
	d := &traced{list: []engine.Trace{{Kind: "bookkeeping", Crossing: "u1"}, {Kind: "replication slot", Crossing: "u1"},
		{Kind: "trigger", Crossing: "u1", Undo: "DROP TRIGGER t"}, {Kind: "publication", Name: "dusty_u2", Crossing: "u2"},
		{Kind: "bookkeeping", Crossing: "u3"}, {Kind: "replication slot", Name: "dusty_u4", Crossing: "u4", Busy: true}}}
	k := &kept{rows: map[string]domain.Database{"old": {ID: 1, Name: "old"}}, known: map[string]domain.Crossing{
		"u2": {Name: "spring", Phase: domain.PhaseInStep, Condition: domain.ConditionRunning},
		"u3": {Name: "winter", Phase: domain.PhaseClosed}}}
	s := New(k, box{}, k, nil, nil)
	s.open[1] = opened{db: &engine.Opened{Database: d, Captures: d, Lands: d, Defines: d, Tells: d}, row: k.rows["old"]}
	list, err := s.Traces(t.Context(), "old")
	if err != nil || len(list) != 6 || list[0].Name != "" || list[3].Name != "spring" || !list[3].InUse || list[4].InUse {
		t.Fatalf("%v, %+v", err, list)
	}
	if err := s.RemoveTraces(t.Context(), "old", "u1", "ann"); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(d.did, ", "); got != "forget u1, drop dusty_ferry_u1, DROP TRIGGER t" {
		t.Errorf("done: %s", got)
	}
	if said := k.said[len(k.said)-1]; !strings.Contains(said,
		"ann removed what crossing u1 had left in old: bookkeeping, ") {
		t.Errorf("said %q", said)
	}
	for uid, want := range map[string]string{"u2": "these belong to crossing spring, which is in step, running; close it",
		"u4": "somebody reads the replication slot dusty_u4 just now", "u9": "no crossing u9 has left anything"} {
		d.did = nil
		if err := s.RemoveTraces(t.Context(), "old", uid, "ann"); err == nil || !strings.Contains(err.Error(), want) ||
			len(d.did) > 0 {
			t.Errorf("%s: %v, done %q", uid, err, d.did)
		}
	}
	s.open[1] = opened{db: &engine.Opened{Database: d}, row: k.rows["old"]}
	if list, err := s.Traces(t.Context(), "old"); err != nil || list != nil {
		t.Errorf("an engine that does not tell: %v, %v", list, err)
	}
}
