// Package gateways turns the route of a crossing's gateways: the small switches between
// applications and the database in charge. A route belongs to the crossing that went first; its
// return path, and that one's, turn the same one. Each change makes a new epoch, and a gateway
// says by which epoch it acts: a cutover goes on when all act by the latest.
package gateways

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// Records keep routes and gateways.
type Records interface {
	Crossing(ctx context.Context, name string) (domain.Crossing, error)
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	// RunningCutover is the crossing's cutover under way, or nil.
	RunningCutover(ctx context.Context, crossing int64) (*domain.Cutover, error)
	// Route is nil where a crossing has no gateways.
	Route(ctx context.Context, crossing int64) (*domain.Route, error)
	// BeginRoute leaves a route alone that is there.
	BeginRoute(ctx context.Context, crossing int64, live string) error
	// TurnRoute keeps a route as that of the next epoch.
	TurnRoute(ctx context.Context, r domain.Route) (domain.Route, error)
	Gateways(ctx context.Context, crossing int64) ([]domain.Gateway, error)
	// SeeGateway reports false where another one of that name is heard of.
	SeeGateway(ctx context.Context, g domain.Gateway) (bool, error)
	RemoveGateway(ctx context.Context, crossing int64, name string) (bool, error)
}

// Journal records what happens.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
}

// Gateways of all crossings.
type Gateways struct {
	records Records
	journal Journal
}

// New returns them.
func New(r Records, j Journal) *Gateways { return &Gateways{r, j} }

// root is the crossing that went first.
func (g *Gateways) root(ctx context.Context, c domain.Crossing) (domain.Crossing, error) {
	for c.ReturnOf != nil {
		before, err := g.records.CrossingByID(ctx, *c.ReturnOf)
		if err != nil {
			return c, err
		}
		c = before
	}
	return c, nil
}

// way are the crossing that went first and all that came from it.
func (g *Gateways) way(ctx context.Context, root domain.Crossing) ([]domain.Crossing, error) {
	out := []domain.Crossing{root}
	for c := root; c.ReturnBy != ""; {
		next, err := g.records.Crossing(ctx, c.ReturnBy)
		if err != nil {
			return out, err
		}
		out, c = append(out, next), next
	}
	return out, nil
}

// Standing is how a crossing's gateways stand.
type Standing struct {
	Root     domain.Crossing
	Route    *domain.Route // nil: there are none
	Gateways []domain.Gateway
}

// Standing returns it.
func (g *Gateways) Standing(ctx context.Context, c domain.Crossing) (Standing, error) {
	root, err := g.root(ctx, c)
	if err != nil {
		return Standing{}, err
	}
	s := Standing{Root: root}
	if s.Route, err = g.records.Route(ctx, root.ID); err != nil || s.Route == nil {
		return s, err
	}
	s.Gateways, err = g.records.Gateways(ctx, root.ID)
	return s, err
}

// Leads is where a crossing's gateways lead, nil where it has none.
func (g *Gateways) Leads(ctx context.Context, c domain.Crossing) (*domain.Route, error) {
	s, err := g.Standing(ctx, c)
	return s.Route, err
}

// Ready says whether the gateways of a crossing can be held and turned at a cutover; nothing where
// there are none.
func (g *Gateways) Ready(ctx context.Context, c domain.Crossing, stop domain.StopMethod) ([]domain.Entry, error) {
	s, err := g.Standing(ctx, c)
	if err != nil || s.Route == nil || len(s.Gateways) == 0 {
		return nil, err
	}
	e := domain.Entry{Verdict: domain.OK, Topic: "gateways", Subject: c.Name}
	sessions := 0
	var lost []string
	name := "…"
	for _, x := range s.Gateways {
		if !x.Lost() {
			sessions += x.Sessions
			continue
		}
		name = x.Name
		lost = append(lost, fmt.Sprintf("%s has said nothing for %s", x.Name, x.Quiet.Round(time.Second)))
	}
	e.Measured = fmt.Sprintf("%s to %s, with %s", domain.Counted(len(s.Gateways)-len(lost), "gateway leads",
		"gateways lead"), s.Route.Live, domain.Many(sessions, "connection"))
	if len(lost) > 0 {
		e.Verdict = domain.Notice
		e.Measured += "; " + strings.Join(lost, ", ")
		e.Remedy = "see whether it runs; forget one that nobody uses any more: dustyferry gateway remove " +
			s.Root.Name + " " + name
		if stop == domain.StopWord { // the source would take what still comes through it
			e.Verdict = domain.Blocker
		}
	}
	return []domain.Entry{e}, nil
}

// See keeps what a gateway says of itself, and returns what it is to do.
func (g *Gateways) See(ctx context.Context, c domain.Crossing, said domain.Gateway) (Standing, error) {
	root, err := g.root(ctx, c)
	if err != nil {
		return Standing{}, err
	}
	said.Crossing = root.ID
	s := Standing{Root: root}
	if s.Route, err = g.records.Route(ctx, root.ID); err != nil {
		return s, err
	}
	known := []domain.Gateway(nil)
	if s.Route != nil {
		if known, err = g.records.Gateways(ctx, root.ID); err != nil {
			return s, err
		}
	}
	if !contains(known, said.Name) {
		if err := g.meet(ctx, root, said); err != nil {
			return s, err
		}
		if s.Route, err = g.records.Route(ctx, root.ID); err != nil {
			return s, err
		}
	}
	said.Epoch = min(said.Epoch, s.Route.Epoch)
	ok, err := g.records.SeeGateway(ctx, said)
	if err == nil && !ok {
		err = domain.Conflict("another gateway of %s runs by the name %s; give this one another (--name)", root.Name,
			said.Name)
	}
	return s, err
}

// meet lets a gateway join that is not known yet: not while a cutover is under way, which counts on
// those that were there when it began.
func (g *Gateways) meet(ctx context.Context, root domain.Crossing, said domain.Gateway) error {
	all, err := g.way(ctx, root)
	if err != nil {
		return err
	}
	live := root.Source
	for i := range all {
		if k, err := g.records.RunningCutover(ctx, all[i].ID); err != nil || k != nil {
			if err == nil {
				err = domain.Conflict("a cutover of %s is under way, which does not know of gateway %s; it may join when that "+
					"is over", all[i].Name, said.Name)
			}
			return err
		}
		if all[i].CutOverAt != nil {
			live = all[i].Target
		}
	}
	if err := g.records.BeginRoute(ctx, root.ID, live); err != nil {
		return err
	}
	g.journal.Recordf(ctx, "info", journal.System, root.Name, said.Name, "gateway",
		"gateway %s lets applications reach %s at %s", said.Name, live, said.Listens)
	return nil
}

func contains(list []domain.Gateway, name string) bool {
	for _, g := range list {
		if g.Name == name {
			return true
		}
	}
	return false
}

// Remove forgets a gateway: it has ended, or a person says that nobody uses it any more.
func (g *Gateways) Remove(ctx context.Context, c domain.Crossing, name, actor string) error {
	root, err := g.root(ctx, c)
	if err != nil {
		return err
	}
	was, err := g.records.RemoveGateway(ctx, root.ID, name)
	if err == nil && !was {
		return domain.NotFound("crossing %s has no gateway %s; see 'dustyferry gateway list %s'", root.Name, name, root.Name)
	}
	if err == nil {
		g.journal.Recordf(ctx, "info", actor, root.Name, name, "gateway", "gateway %s is gone (%s)", name, actor)
	}
	return err
}

// How long gateways have beside what applications are given: where everything depends on them, and where the
// source refuses writes by itself and nobody has to wait for a long report that goes on through one.
const (
	grace  = 3 * time.Second
	little = 500 * time.Millisecond
)

// Hold has all gateways let no transaction begin, and waits until none is under way through them.
// all: one that does not say so keeps the cutover from going on; without, the source itself
// refuses what would still come.
func (g *Gateways) Hold(ctx context.Context, c domain.Crossing, patience time.Duration, all bool) (string, error) {
	s, err := g.Standing(ctx, c)
	if err != nil || s.Route == nil || len(s.Gateways) == 0 {
		return "", err
	}
	s.Route.Holding, s.Route.Patience = true, patience
	r, err := g.records.TurnRoute(ctx, *s.Route)
	if err != nil {
		return "", err
	}
	limit := patience + little
	if all {
		limit = patience + grace
	}
	left, n, err := g.await(ctx, r, limit)
	if err != nil {
		return "", err
	}
	note := domain.Counted(n, "gateway holds", "gateways hold") + " connections"
	if len(left) == 0 {
		return note, nil
	}
	text := strings.Join(left, "; ")
	if all {
		return "", domain.Conflict("applications could go on writing through gateways: %s. End what is under way there, or "+
			"say that nobody uses one any more with 'dustyferry gateway remove'", text)
	}
	g.journal.Recordf(ctx, "warning", journal.System, c.Name, "", "cutover",
		"the cutover goes on without a word of all gateways, as %s refuses writes by itself: %s", s.Route.Live, text)
	return note + ", but " + text, nil
}

// Switch has all gateways let connections go to the database in charge now, and waits a moment for
// them. A gateway that is away does so when it asks next, which it does before each connection.
func (g *Gateways) Switch(ctx context.Context, c domain.Crossing, live string) (string, error) {
	s, err := g.Standing(ctx, c)
	if err != nil || s.Route == nil {
		return "", err
	}
	s.Route.Holding, s.Route.Live = false, live
	r, err := g.records.TurnRoute(ctx, *s.Route)
	if err != nil {
		return "", err
	}
	left, n, err := g.await(ctx, domain.Route{Crossing: r.Crossing, Epoch: r.Epoch}, grace)
	if err != nil {
		return "", err
	}
	note := domain.Counted(n, "gateway leads", "gateways lead") + " to " + live
	if len(left) > 0 {
		note += ", but " + strings.Join(left, "; ")
		g.journal.Recordf(ctx, "warning", journal.System, c.Name, "", "cutover", "%s", note)
	}
	return note, nil
}

// Release lets connections go again to where they went before.
func (g *Gateways) Release(ctx context.Context, c domain.Crossing) error {
	s, err := g.Standing(ctx, c)
	if err != nil || s.Route == nil || !s.Route.Holding {
		return err
	}
	s.Route.Holding = false
	_, err = g.records.TurnRoute(ctx, *s.Route)
	return err
}

// await waits until all gateways act by a route, and returns what the others do and how many did.
// Busy ones count as acting where it does not hold.
func (g *Gateways) await(ctx context.Context, r domain.Route, limit time.Duration) (left []string, did int, err error) {
	for end := time.Now().Add(limit); ; {
		list, err := g.records.Gateways(ctx, r.Crossing)
		if err != nil {
			return nil, 0, err
		}
		left, did = nil, 0
		patient := false
		for _, x := range list {
			switch {
			case x.Epoch >= r.Epoch && (!r.Holding || x.Busy == 0):
				did++
			case x.Epoch >= r.Epoch:
				patient = true
				left = append(left, fmt.Sprintf("%s through %s", domain.Counted(x.Busy, "connection is at work",
					"connections are at work"), x.Name))
			default:
				patient = patient || !x.Lost()
				left = append(left, fmt.Sprintf("%s has said nothing for %s", x.Name, x.Quiet.Round(time.Second)))
			}
		}
		if !patient || time.Now().After(end) {
			return left, did, nil
		}
		if !waits.Sleep(ctx, 10*time.Millisecond) {
			return nil, 0, context.Cause(ctx)
		}
	}
}
