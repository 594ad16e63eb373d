package gateway

import (
	"errors"
	"io"
	"net"
	"runtime/debug"
	"sync"
	"time"
)

// follower knows where a session stands from the bytes that pass.
type follower interface {
	FromClient(p []byte)
	FromServer(p []byte)
	// Rests: neither end owes the other anything.
	Rests() bool
	InTransaction() bool
	SignedIn() bool
}

// session is one connection of an application, with the one to the server that it is passed to.
type session struct {
	g      *Gateway
	client net.Conn
	server net.Conn // nil until it is let through

	out sync.Mutex // held while something is written to the client

	mu     sync.Mutex
	turned sync.Cond
	follow follower // nil until its sign-in is followed
	side   string   // the database it was let through to, "" before
	held   time.Time
	ended  bool // it is told so, or cut
	cut    bool
	told   chan struct{} // closed when it was
}

func newSession(g *Gateway, c net.Conn) *session {
	s := &session{g: g, client: c, told: make(chan struct{})}
	s.turned.L = &s.mu
	return s
}

// startLimit is how long a client may take with its part of the beginning.
const startLimit = 10 * time.Second

// serve passes the session until one end closes it.
func (s *session) serve() {
	_ = s.client.SetDeadline(time.Now().Add(startLimit))
	if err := s.g.front.open(s); err != nil {
		if !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) && !errors.Is(err, errDone) {
			s.g.set.Log.Debug("a session did not begin", "client", s.client.RemoteAddr(), "error", err)
		}
		return
	}
	_ = s.client.SetDeadline(time.Time{})
	s.g.metrics.opened.Inc()
	down := make(chan struct{})
	go func() {
		defer close(down)
		defer s.fault()
		s.down()
	}()
	s.up()
	_ = s.server.Close()
	<-down
}

// fault ends a session that met a fault of ours: the others have nothing to do with it.
func (s *session) fault() {
	if r := recover(); r != nil {
		s.g.set.Log.Error("a session met a fault", "fault", r, "stack", string(debug.Stack()))
		s.close()
	}
}

// pieces is how many bytes are passed at once at most.
const pieces = 32 << 10

// up passes what the client sends.
func (s *session) up() {
	buf := make([]byte, pieces)
	for {
		n, err := s.client.Read(buf)
		if n > 0 {
			if !s.pass(buf[:n]) {
				<-s.told
				s.g.front.reply(s, buf[:n])
				linger(s.client)
				return
			}
			if _, err := s.server.Write(buf[:n]); err != nil {
				// The server has closed it, and may have said why: that still goes to the client.
				_ = s.server.SetReadDeadline(time.Now().Add(time.Second))
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// pass waits with what would begin a transaction until one may begin on this session's side. It
// reports whether the bytes may go to the server; they may not once the session was ended. One of a
// side that was left is ended by whoever adopts the new route: until then it waits as well.
func (s *session) pass(p []byte) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	waits := func() bool {
		lets := s.g.lets.Load()
		return (lets == nil || *lets != s.side) && !s.ended
	}
	if s.between() && waits() {
		s.held = time.Now()
		for waits() {
			s.turned.Wait()
		}
		s.g.metrics.stalled(time.Since(s.held))
		s.held = time.Time{}
	}
	if !s.ended {
		s.follow.FromClient(p)
	}
	return !s.ended
}

// down passes what the server sends.
func (s *session) down() {
	buf := make([]byte, pieces)
	for {
		n, err := s.server.Read(buf)
		if n > 0 {
			s.out.Lock()
			s.mu.Lock()
			s.follow.FromServer(buf[:n])
			s.mu.Unlock()
			_, gone := s.client.Write(buf[:n])
			s.out.Unlock()
			if gone != nil {
				err = gone
			}
		}
		if err != nil {
			break
		}
	}
	s.mu.Lock()
	told := s.ended && !s.cut
	s.mu.Unlock()
	if !told {
		_ = s.client.Close()
	}
	_ = s.server.Close()
}

// between reports whether it rests between two transactions; mu is held.
func (s *session) between() bool {
	return s.follow != nil && s.follow.SignedIn() && s.follow.Rests() && !s.follow.InTransaction()
}

// stand says whether it was let through, whether something is under way in it, and for how long it
// has been held.
func (s *session) stand() (through, busy bool, held time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	through = s.side != "" && !s.ended
	if !s.held.IsZero() {
		held = time.Since(s.held)
	}
	return through, through && !s.between(), held
}

// elsewhere reports whether it was let through to another database than the one in charge.
func (s *session) elsewhere(live string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.side != "" && s.side != live && !s.cut && !s.ended
}

func (s *session) wake() { s.turned.Broadcast() }

// admitted says which database it goes to.
func (s *session) admitted(side string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.side, s.held = side, time.Time{}
}

// holds says since when it is held.
func (s *session) holds(since time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.held = since
	_ = s.client.SetDeadline(time.Now().Add(s.g.set.HoldAt + startLimit))
}

// waited counts that it was held before it was let through.
func (s *session) waited(began time.Time) {
	s.mu.Lock()
	held := !s.held.IsZero()
	s.held = time.Time{}
	s.mu.Unlock()
	if held {
		s.g.metrics.stalled(time.Since(began))
	}
}

// expire ends it if its transaction is open and waits for the application, or if it has not signed
// in: nothing is lost that anybody was told of.
func (s *session) expire() {
	s.mu.Lock()
	late := s.side != "" && (s.follow == nil || !s.follow.SignedIn() || s.follow.Rests() && s.follow.InTransaction())
	s.mu.Unlock()
	if late {
		s.end(true)
	}
}

// overdue ends a session whose request was held for as long as one may be: it was not passed on.
func (s *session) overdue(limit time.Duration) {
	s.mu.Lock()
	late := !s.held.IsZero() && s.side != "" && time.Since(s.held) > limit
	s.mu.Unlock()
	if late {
		s.end(false)
	}
}

// end ends the session where it rests, and tells the client by its protocol. Where something is
// under way nothing happens, unless now: then both ends are cut.
func (s *session) end(now bool) {
	s.mu.Lock()
	rests := s.follow != nil && s.follow.SignedIn() && s.follow.Rests()
	if s.ended || !rests && !now {
		s.mu.Unlock()
		return
	}
	s.ended, s.cut = true, !rests
	client, server := s.client, s.server
	s.mu.Unlock()
	s.wake()
	s.g.metrics.ended.Inc()
	if server != nil {
		_ = server.Close()
	}
	s.g.loops.Go(func() { // nobody waits for a client that does not read
		defer close(s.told)
		if !rests {
			_ = client.Close()
			return
		}
		_ = client.SetWriteDeadline(time.Now().Add(time.Second))
		s.out.Lock()
		defer s.out.Unlock()
		s.g.front.end(s)
	})
}

func (s *session) close() {
	_ = s.client.Close()
	if s.server != nil {
		_ = s.server.Close()
	}
}

// linger lets a client read what it was told last: a connection that is closed with something of
// the client's unread in it would take that away.
func linger(c net.Conn) {
	if half, ok := c.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
	}
	_ = c.SetReadDeadline(time.Now().Add(2 * time.Second))
	_, _ = io.Copy(io.Discard, c)
}
