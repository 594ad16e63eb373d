package gateways

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
)

// locks are crossings with their route and gateways, which act by what they are told at once
// unless they are stuck.
type locks struct {
	crossings map[string]domain.Crossing
	running   map[int64]bool // crossings whose cutover is under way
	route     *domain.Route
	gates     map[string]*domain.Gateway
	stuck     map[string]bool // neither heard of, nor do they act
	slow      map[string]int  // how often they are looked at before nothing is under way
	taken     bool            // the name is another's
	said      []string
	err       error
}

func newLocks() *locks {
	id := int64(1)
	return &locks{crossings: map[string]domain.Crossing{
		"spring":      {ID: 1, Name: "spring", Source: "old", Target: "new", ReturnBy: "spring-back"},
		"spring-back": {ID: 2, Name: "spring-back", Source: "new", Target: "old", ReturnOf: &id},
	}, running: map[int64]bool{}, gates: map[string]*domain.Gateway{}, stuck: map[string]bool{}, slow: map[string]int{}}
}

func (l *locks) Crossing(_ context.Context, name string) (domain.Crossing, error) {
	c, ok := l.crossings[name]
	if !ok {
		return c, errors.New("no such crossing")
	}
	return c, nil
}

func (l *locks) CrossingByID(_ context.Context, id int64) (domain.Crossing, error) {
	for _, c := range l.crossings {
		if c.ID == id {
			return c, nil
		}
	}
	return domain.Crossing{}, errors.New("no such crossing")
}

func (l *locks) RunningCutover(_ context.Context, id int64) (*domain.Cutover, error) {
	if l.running[id] {
		return &domain.Cutover{}, nil
	}
	return nil, nil
}

func (l *locks) Route(context.Context, int64) (*domain.Route, error) {
	if l.route == nil || l.err != nil {
		return nil, l.err
	}
	r := *l.route
	return &r, nil
}

func (l *locks) BeginRoute(_ context.Context, id int64, live string) error {
	if l.route == nil {
		l.route = &domain.Route{Crossing: id, Epoch: 1, Live: live}
	}
	return nil
}

func (l *locks) TurnRoute(_ context.Context, r domain.Route) (domain.Route, error) {
	r.Epoch = l.route.Epoch + 1
	l.route = &r
	return r, nil
}

func (l *locks) Gateways(context.Context, int64) ([]domain.Gateway, error) {
	var out []domain.Gateway
	for _, name := range []string{"a", "b"} {
		g, ok := l.gates[name]
		if !ok {
			continue
		}
		if l.stuck[name] {
			g.Quiet += 2 * time.Second
		} else {
			g.Epoch = l.route.Epoch
			g.Busy = l.slow[name]
			l.slow[name] = max(0, l.slow[name]-1)
		}
		out = append(out, *g)
	}
	return out, nil
}

func (l *locks) SeeGateway(_ context.Context, g domain.Gateway) (bool, error) {
	l.gates[g.Name] = &g
	return !l.taken, nil
}

func (l *locks) RemoveGateway(_ context.Context, _ int64, name string) (bool, error) {
	_, was := l.gates[name]
	delete(l.gates, name)
	return was, nil
}

func (l *locks) Recordf(_ context.Context, severity, _, _, _, _, format string, args ...any) {
	l.said = append(l.said, severity+": "+fmt.Sprintf(format, args...))
}

func (l *locks) gateways() *Gateways { return New(l, l) }

// joined lets gateways join.
func (l *locks) joined(t *testing.T, names ...string) *Gateways {
	t.Helper()
	g := l.gateways()
	for _, n := range names {
		if _, err := g.See(t.Context(), l.crossings["spring"], domain.Gateway{Name: n, Listens: "here"}); err != nil {
			t.Fatal(err)
		}
	}
	return g
}

func TestGatewaysJoin(t *testing.T) {
	l := newLocks()
	g := l.gateways()
	if r, err := g.Leads(t.Context(), l.crossings["spring"]); r != nil || err != nil {
		t.Fatalf("%+v, %v", r, err)
	}
	// By the return path it is the same route, and what a gateway says it knows is no more than there is.
	s, err := g.See(t.Context(), l.crossings["spring-back"], domain.Gateway{Name: "a", Epoch: 99, Listens: "here"})
	if err != nil || s.Root.Name != "spring" || s.Route.Live != "old" || l.gates["a"].Epoch != 1 ||
		l.gates["a"].Crossing != 1 {
		t.Fatalf("%+v, %v; %+v", s.Route, err, l.gates["a"])
	}
	if len(l.said) != 1 || !strings.Contains(l.said[0], "reach old at here") {
		t.Errorf("the journal has %q", l.said)
	}
	if st, err := g.Standing(t.Context(), l.crossings["spring-back"]); err != nil || len(st.Gateways) != 1 {
		t.Errorf("%+v, %v", st, err)
	}
	l.running[2] = true // one that is known goes on, a new one waits
	if _, err := g.See(t.Context(), l.crossings["spring"], domain.Gateway{Name: "a"}); err != nil {
		t.Error(err)
	}
	if _, err := g.See(t.Context(), l.crossings["spring"], domain.Gateway{Name: "b"}); !domain.IsKind(err,
		domain.ProblemConflict) ||
		!strings.Contains(err.Error(), "may join when that is over") {
		t.Error(err)
	}
	l.running[2], l.taken = false, true
	if _, err := g.See(t.Context(), l.crossings["spring"], domain.Gateway{Name: "a"}); !domain.IsKind(err,
		domain.ProblemConflict) ||
		!strings.Contains(err.Error(), "--name") {
		t.Error(err)
	}
}

func TestAGatewayJoinsAfterCutovers(t *testing.T) {
	now := time.Now()
	for want, cut := range map[string][]string{"old": {}, "new": {"spring"}} {
		l := newLocks()
		for _, name := range cut {
			c := l.crossings[name]
			c.CutOverAt = &now
			l.crossings[name] = c
		}
		l.joined(t, "a")
		if l.route.Live != want {
			t.Errorf("after cutovers of %v it leads to %s", cut, l.route.Live)
		}
	}
	l := newLocks()
	for _, name := range []string{"spring", "spring-back"} {
		c := l.crossings[name]
		c.CutOverAt = &now
		l.crossings[name] = c
	}
	if l.joined(t, "a"); l.route.Live != "old" {
		t.Errorf("after going back it leads to %s", l.route.Live)
	}
}

func TestHoldAndSwitch(t *testing.T) {
	l := newLocks()
	c := l.crossings["spring"]
	if note, err := l.gateways().Hold(t.Context(), c, time.Second, true); note != "" || err != nil {
		t.Fatalf("without gateways: %q, %v", note, err)
	}
	g := l.joined(t, "a", "b")
	l.slow["b"] = 3
	note, err := g.Hold(t.Context(), c, time.Second, true)
	if err != nil || note != "2 gateways hold connections" || !l.route.Holding || l.route.Patience != time.Second ||
		l.route.Epoch != 2 {
		t.Fatalf("%q, %v; %+v", note, err, l.route)
	}
	if note, err = g.Switch(t.Context(), c, "new"); err != nil || note != "2 gateways lead to new" || l.route.Holding ||
		l.route.Live != "new" || l.route.Epoch != 3 {
		t.Fatalf("%q, %v; %+v", note, err, l.route)
	}
	if err := g.Release(t.Context(), c); err != nil || l.route.Epoch != 3 {
		t.Errorf("what was not held was released: %+v, %v", l.route, err)
	}
	if _, err := g.Hold(t.Context(), l.crossings["spring-back"], time.Second, true); err != nil {
		t.Fatal(err)
	}
	if err := g.Release(t.Context(), c); err != nil || l.route.Holding || l.route.Live != "new" || l.route.Epoch != 5 {
		t.Errorf("%+v, %v", l.route, err)
	}
}

// TestALostGateway: where the source refuses writes by itself the cutover goes on, and says so;
// where a person's word is all there is, it does not.
func TestALostGateway(t *testing.T) {
	l := newLocks()
	c := l.crossings["spring"]
	g := l.joined(t, "a", "b")
	l.stuck["b"] = true
	note, err := g.Hold(t.Context(), c, time.Second, false)
	if err != nil || !strings.Contains(note, "1 gateway holds connections, but b has said nothing for") {
		t.Fatalf("%q, %v", note, err)
	}
	if last := l.said[len(l.said)-1]; !strings.HasPrefix(last, "warning: the cutover goes on") {
		t.Errorf("the journal has %q", last)
	}
	if _, err := g.Hold(t.Context(), c, time.Second, true); !domain.IsKind(err, domain.ProblemConflict) ||
		!strings.Contains(err.Error(), "dustyferry gateway remove") {
		t.Fatal(err)
	}
	if note, err := g.Switch(t.Context(), c, "new"); err != nil || !strings.Contains(note,
		"1 gateway leads to new, but b has") {
		t.Errorf("%q, %v", note, err)
	}
	if err := g.Remove(t.Context(), c, "b", "wren"); err != nil {
		t.Fatal(err)
	}
	if err := g.Remove(t.Context(), c, "b", "wren"); !domain.IsKind(err, domain.ProblemNotFound) {
		t.Error(err)
	}
	if _, err := g.Hold(t.Context(), c, time.Second, true); err != nil {
		t.Error(err)
	}
}

// TestWorkThatDoesNotEnd: what is under way for longer than applications are given.
func TestWorkThatDoesNotEnd(t *testing.T) {
	l := newLocks()
	c := l.crossings["spring"]
	g := l.joined(t, "a")
	l.slow["a"] = 1 << 30
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, err := g.Hold(ctx, c, time.Second, true); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("an aborted cutover goes on waiting: %v", err)
	}
	if _, err := g.Hold(t.Context(), c, -grace, true); !domain.IsKind(err, domain.ProblemConflict) ||
		!strings.Contains(err.Error(), "connections are at work through a") {
		t.Error(err)
	}
	// That they lead elsewhere waits for nobody's work.
	if note, err := g.Switch(t.Context(), c, "new"); err != nil || note != "1 gateway leads to new" {
		t.Errorf("%q, %v", note, err)
	}
}

func TestWhetherTheyCanBeTurned(t *testing.T) {
	l := newLocks()
	c := l.crossings["spring"]
	if list, err := l.gateways().Ready(t.Context(), c, domain.StopWord); list != nil || err != nil {
		t.Errorf("without gateways: %+v, %v", list, err)
	}
	g := l.joined(t, "a", "b")
	l.gates["a"].Sessions = 12
	list, err := g.Ready(t.Context(), c, domain.StopWord)
	if err != nil || list[0].Verdict != domain.OK || list[0].Measured != "2 gateways lead to old, with 12 connections" {
		t.Errorf("%+v, %v", list, err)
	}
	l.stuck["b"], l.gates["b"].Quiet = true, time.Minute
	for stop, verdict := range map[domain.StopMethod]domain.Verdict{domain.StopLock: domain.Notice,
		domain.StopReadOnly: domain.Notice, domain.StopWord: domain.Blocker} {
		list, err := g.Ready(t.Context(), c, stop)
		if err != nil || list[0].Verdict != verdict || !strings.Contains(list[0].Measured, "b has said nothing for 1m") ||
			!strings.Contains(list[0].Remedy, "gateway remove spring") {
			t.Errorf("%s: %+v, %v", stop, list, err)
		}
	}
}

func TestRecordsThatFail(t *testing.T) {
	l := newLocks()
	l.err = errors.New("the control database is away")
	g, c := l.gateways(), l.crossings["spring"]
	if _, err := g.Leads(t.Context(), c); err == nil {
		t.Error("no route was taken for none")
	}
	if _, err := g.Hold(t.Context(), c, 0, true); err == nil {
		t.Error("nothing was held, and nobody told")
	}
	if err := g.Release(t.Context(), c); err == nil {
		t.Error("nothing was released, and nobody told")
	}
	if _, err := g.Switch(t.Context(), c, "new"); err == nil {
		t.Error("nothing was switched, and nobody told")
	}
	id := int64(77)
	if _, err := g.See(t.Context(), domain.Crossing{ReturnOf: &id}, domain.Gateway{}); err == nil {
		t.Error("a crossing that came from none has a route")
	}
}
