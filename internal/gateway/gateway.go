// Package gateway is the small switch that applications connect to in the place of a database: it
// passes bytes to the side that is in charge, lets nobody begin a transaction while a cutover holds
// it, and passes to the other side afterwards. Where to it leads is a route that the service keeps;
// each change of it has a later epoch, and the gateway acts by the latest that it knows of. It asks
// before each new connection. Where the service cannot be reached it stays as it is.
package gateway

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// Settings of a gateway.
type Settings struct {
	Service  *client.Client
	Crossing string
	Name     string // by which the service knows it; no two that run have the same
	Listen   string
	TLS      *tls.Config   // nil: what comes is not encrypted
	HoldAt   time.Duration // how long a connection is held at most
	Log      *slog.Logger
}

// Gateway passes sessions.
type Gateway struct {
	set      Settings
	listener net.Listener
	front    front
	asks     asks
	lets     atomic.Pointer[string] // the side on which transactions may begin now; nil: on none

	mu       sync.Mutex
	route    contract.GatewayRoute
	changed  chan struct{} // closed when the route is another
	sessions map[*session]bool
	heard    time.Time // when the service said something last

	kick    chan struct{} // something is to be reported at once
	run     context.Context
	stop    context.CancelFunc
	loops   sync.WaitGroup
	stopped sync.Once
	metrics *metrics
}

// Start opens the port, makes itself known to the service and passes sessions until Stop.
func Start(ctx context.Context, set Settings) (*Gateway, error) {
	ln, err := net.Listen("tcp", set.Listen)
	if err != nil {
		return nil, fmt.Errorf("the gateway cannot listen: %w", err)
	}
	g := &Gateway{set: set, listener: ln, changed: make(chan struct{}), sessions: map[*session]bool{},
		kick: make(chan struct{}, 1), metrics: newMetrics()}
	g.asks.ask = g.report
	if err := g.join(ctx); err != nil {
		_ = ln.Close()
		return nil, err
	}
	g.run, g.stop = context.WithCancel(context.WithoutCancel(ctx))
	for _, loop := range []func(){g.accept, g.speak, g.listen} {
		g.loops.Go(loop)
	}
	return g, nil
}

// Address is where it listens.
func (g *Gateway) Address() string { return g.listener.Addr().String() }

// join asks for the first route until it has one: before that it knows of no side to lead to, and
// who connects waits.
func (g *Gateway) join(ctx context.Context) error {
	for said := ""; ; {
		r, err := g.report(ctx)
		if err == nil {
			f, known := fronts[r.Engine]
			switch {
			case !known:
				return fmt.Errorf("a gateway cannot pass sessions of the engine %s", r.Engine)
			case r.Tls != "disable" && !f.encrypts:
				return fmt.Errorf("database %s is registered with tls %s, and a gateway passes sessions of this engine on as "+
					"they are; register it with tls disable, for a network that nobody listens to", r.Live, r.Tls)
			case g.set.TLS != nil && !f.encrypts:
				return errors.New("sessions of this engine reach a gateway as they are, without --tls-cert")
			}
			g.front = f
			g.adopt(r)
			return nil
		}
		var p *client.Problem
		if errors.As(err, &p) && p.Status < 500 && p.Status != 409 && p.Status != 429 {
			return err
		}
		if err.Error() != said {
			said = err.Error()
			g.set.Log.Warn("waiting for a route", "error", said)
		}
		if !sleep(ctx, 250*time.Millisecond) {
			return ctx.Err()
		}
	}
}

// report says how this gateway stands and returns where it is to lead.
func (g *Gateway) report(ctx context.Context) (contract.GatewayRoute, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	host, _ := os.Hostname()
	st := g.stand()
	r, err := client.Do[contract.GatewayRoute](g.set.Service.API.ReportGatewayWithResponse(ctx, g.set.Crossing, g.set.Name,
		contract.GatewayReport{Listens: g.Address() + " on " + host, Epoch: st.epoch, Sessions: st.sessions, Busy: st.busy,
			Waiting: st.waiting, Stall: st.stall.Seconds()}))
	if err == nil {
		g.mu.Lock()
		g.heard = time.Now()
		g.mu.Unlock()
	}
	return r, err
}

// stand is how a gateway stands.
type stand struct {
	epoch                   int64
	sessions, busy, waiting int
	stall                   time.Duration
	quiet                   time.Duration // since the service said something
}

// stand counts what is under way. It reads the epoch first: what it counts is no older.
func (g *Gateway) stand() stand {
	g.mu.Lock()
	defer g.mu.Unlock()
	st := stand{epoch: g.route.Epoch, stall: g.metrics.longest(), quiet: time.Since(g.heard)}
	for s := range g.sessions {
		admitted, busy, held := s.stand()
		if admitted {
			st.sessions++
		}
		if busy {
			st.busy++
		}
		if held > 0 {
			st.waiting++
			st.stall = max(st.stall, held)
		}
	}
	return st
}

// adopt acts by a route, unless it acts by a later one.
func (g *Gateway) adopt(r contract.GatewayRoute) {
	g.mu.Lock()
	if r.Epoch <= g.route.Epoch {
		g.mu.Unlock()
		return
	}
	was := g.route
	g.route = r
	g.lets.Store(nil)
	if r.State == contract.Live {
		g.lets.Store(&r.Live)
	}
	close(g.changed)
	g.changed = make(chan struct{})
	all := make([]*session, 0, len(g.sessions))
	for s := range g.sessions {
		all = append(all, s)
	}
	g.mu.Unlock()
	if was.Epoch > 0 {
		g.set.Log.Info("another route", "state", r.State, "live", r.Live, "epoch", r.Epoch, "sessions", len(all))
	}
	if r.State != contract.Holding {
		for _, s := range all {
			if s.elsewhere(r.Live) {
				s.end(false)
			}
		}
	}
	for _, s := range all {
		s.wake()
	}
	g.now()
	if was.Epoch > 0 {
		g.loops.Go(func() { g.tend(r) })
	}
}

// tend ends what is left of before a route, as long as the route stands: while it holds, sessions
// whose transactions are open for too long and wait for their application; and afterwards those of
// the other side.
func (g *Gateway) tend(r contract.GatewayRoute) {
	patience := time.Duration(r.Patience * float64(time.Second))
	for began := time.Now(); ; {
		g.mu.Lock()
		another := g.route.Epoch != r.Epoch
		all := make([]*session, 0, len(g.sessions))
		for s := range g.sessions {
			all = append(all, s)
		}
		g.mu.Unlock()
		if another {
			return
		}
		late := time.Since(began) >= patience
		left := false
		for _, s := range all {
			switch {
			case r.State == contract.Holding:
				left = true
				if late {
					s.expire()
				}
				s.overdue(g.set.HoldAt)
			case s.elsewhere(r.Live):
				left = true
				s.end(late)
			}
		}
		if r.State != contract.Holding && !left || !sleep(g.run, 20*time.Millisecond) {
			return
		}
	}
}

// now has the service told at once.
func (g *Gateway) now() {
	select {
	case g.kick <- struct{}{}:
	default:
	}
}

// speak tells the service how it stands: each second, and more often while it holds and something
// is under way, as a cutover waits for that.
func (g *Gateway) speak() {
	often := false
	for {
		wait := time.Second
		if often {
			wait = 20 * time.Millisecond
		}
		select {
		case <-g.run.Done():
			return
		case <-g.kick:
		case <-time.After(wait):
		}
		before := g.stand()
		r, err := g.report(g.run)
		if err != nil {
			often = false
			if g.run.Err() == nil {
				g.set.Log.Debug("the service gave no route", "error", err)
			}
			continue
		}
		g.adopt(r)
		often = r.State == contract.Holding && (before.busy > 0 || before.epoch < r.Epoch)
	}
}

// listen follows the crossing's route by the event stream.
func (g *Gateway) listen() {
	topic := "/api/crossings/" + url.PathEscape(g.set.Crossing) + "/gateways"
	for g.run.Err() == nil {
		_ = g.set.Service.Events(g.run, "", []string{topic}, func(e client.Event) error {
			var a struct {
				Status int
				Body   contract.Gateways
			}
			if e.Kind == "answer" && json.Unmarshal(e.Data, &a) == nil && a.Status == 200 && a.Body.Route != nil {
				g.adopt(*a.Body.Route)
			}
			return nil
		})
		sleep(g.run, time.Second)
	}
}

// accept takes connections.
func (g *Gateway) accept() {
	for {
		c, err := g.listener.Accept()
		if err != nil {
			if g.run.Err() != nil {
				return
			}
			g.set.Log.Warn("a connection could not be taken", "error", err)
			sleep(g.run, 50*time.Millisecond)
			continue
		}
		s := newSession(g, c)
		g.mu.Lock()
		g.sessions[s] = true
		g.mu.Unlock()
		g.loops.Go(func() {
			defer func() {
				s.close()
				g.mu.Lock()
				delete(g.sessions, s)
				g.mu.Unlock()
			}()
			defer s.fault()
			s.serve()
		})
	}
}

// errHeld says that a connection was held for as long as it may be.
var errHeld = errors.New("the database is being moved and takes no connections for a moment; try again")

// movedError says that the database in charge cannot be led to.
type movedError struct{ live string }

func (m movedError) Error() string {
	return "the tables have moved to database " + m.live + ", which is of another engine; connect there"
}

// admit lets a session go to the side in charge: it asks the service first, and waits while the
// route holds.
func (g *Gateway) admit(s *session) (contract.GatewayRoute, error) {
	end := time.After(g.set.HoldAt)
	began := time.Now()
	defer func() { s.waited(began) }()
	for {
		r, err := g.asks.fresh(g.run)
		var p *client.Problem
		switch {
		case err == nil:
			g.adopt(r)
		case errors.As(err, &p) && p.Status == 429: // it is there, and asked too often
			select {
			case <-time.After(50 * time.Millisecond):
				continue
			case <-end:
				return r, errHeld
			case <-g.run.Done():
				return r, g.run.Err()
			}
		}
		g.mu.Lock()
		var changed chan struct{}
		r, changed = g.route, g.changed
		if r.State == contract.Live {
			s.admitted(r.Live)
			g.mu.Unlock()
			return r, nil
		}
		g.mu.Unlock()
		if r.State == contract.Moved {
			return r, movedError{r.Live}
		}
		s.holds(began)
		select {
		case <-changed:
		case <-end:
			return r, errHeld
		case <-g.run.Done():
			return r, g.run.Err()
		}
	}
}

// Stop ends all sessions and has the service forget this gateway.
func (g *Gateway) Stop() { g.stopped.Do(g.end) }

func (g *Gateway) end() {
	g.stop()
	_ = g.listener.Close()
	g.mu.Lock()
	all := make([]*session, 0, len(g.sessions))
	for s := range g.sessions {
		all = append(all, s)
	}
	g.mu.Unlock()
	for _, s := range all {
		s.end(true)
	}
	for _, s := range all {
		<-s.told
		_ = s.client.SetReadDeadline(time.Now().Add(time.Second)) // in which one can still read what it was told
	}
	g.loops.Wait()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	_, _ = g.set.Service.API.RemoveGatewayWithResponse(ctx, g.set.Crossing, g.set.Name)
}

func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// asks puts questions together: those that wait are answered by one that began after all of them.
type asks struct {
	ask  func(context.Context) (contract.GatewayRoute, error)
	mu   sync.Mutex
	next *answer // not begun yet
	busy bool
	last time.Time
}

type answer struct {
	done  chan struct{}
	route contract.GatewayRoute
	err   error
}

// apart is how far apart questions are where many connect at once.
const apart = 15 * time.Millisecond

// fresh returns an answer to a question that begins now or later.
func (a *asks) fresh(ctx context.Context) (contract.GatewayRoute, error) {
	a.mu.Lock()
	if a.next == nil {
		a.next = &answer{done: make(chan struct{})}
	}
	mine := a.next
	if !a.busy {
		a.busy = true
		go a.work(ctx)
	}
	a.mu.Unlock()
	select {
	case <-mine.done:
		return mine.route, mine.err
	case <-ctx.Done():
		return contract.GatewayRoute{}, ctx.Err()
	}
}

func (a *asks) work(ctx context.Context) {
	for {
		a.mu.Lock()
		rest := apart - time.Since(a.last)
		a.mu.Unlock()
		if rest > 0 {
			sleep(ctx, rest)
		}
		a.mu.Lock()
		now := a.next
		a.next = nil
		if now == nil {
			a.busy = false
			a.mu.Unlock()
			return
		}
		a.last = time.Now()
		a.mu.Unlock()
		now.route, now.err = a.ask(ctx)
		close(now.done)
	}
}
