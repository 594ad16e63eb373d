package gateway

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/protocol/mariasession"
	"dustyferry/internal/protocol/pgsession"
)

// front speaks as much of an engine's protocol as it takes to begin a session and to end one.
type front struct {
	encrypts bool // sessions can be encrypted
	// open begins a session on the server in charge; what it cannot begin it has told the client.
	open func(s *session) error
	// end tells the client of a session that rests that it has ended.
	end func(s *session)
	// reply answers what the client asks of one that has ended.
	reply func(s *session, p []byte)
}

// fronts are those there are, by engine.
var fronts = map[string]front{
	"postgres": {encrypts: true, open: openPostgres, end: func(s *session) {
		_, _ = s.client.Write(pgsession.Fatal(pgsession.AdminShutdown, endText))
		s.g.loops.Go(func() { linger(s.client); _ = s.client.Close() })
	}, reply: func(*session, []byte) {}},
	"mariadb": {open: openMariaDB, end: func(s *session) {
		// A client that asked for nothing expects no answer: it gets one when it asks.
		_ = s.client.SetReadDeadline(time.Now().Add(endedLimit))
	}, reply: func(s *session, p []byte) {
		if len(p) < 4 {
			return
		}
		_, _ = s.client.Write(mariasession.Failure(p[3]+1, mariasession.Killed, "70100", endText))
	}},
}

const (
	endText    = "the administrator ended this connection, as the database is being moved; connect anew"
	endedLimit = 10 * time.Minute // in which a client finds out that its session has ended
	dialLimit  = 10 * time.Second
)

// dial connects to the server in charge.
func dial(s *session, r contract.GatewayRoute) (net.Conn, error) {
	d := net.Dialer{Timeout: dialLimit}
	c, err := d.DialContext(s.g.run, "tcp", net.JoinHostPort(r.Host, strconv.Itoa(r.Port)))
	if err != nil {
		return nil, fmt.Errorf("the gateway cannot reach database %s: %w", r.Live, err)
	}
	if c.RemoteAddr().String() == s.g.Address() || c.RemoteAddr().String() == s.client.LocalAddr().String() {
		_ = c.Close()
		return nil, fmt.Errorf("database %s is registered with this gateway's own address; register the server's", r.Live)
	}
	return c, nil
}

// errDone says that nothing is left to be passed.
var errDone = errors.New("nothing is left to be passed")

// through makes what was begun a session that is passed.
func (s *session) through(server net.Conn, f follower) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.server, s.follow = server, f
	if s.ended { // while it began
		_ = server.Close()
	}
}

// openPostgres begins a PostgreSQL session.
func openPostgres(s *session) error {
	fatal := func(state, text string) error {
		_, _ = s.client.Write(pgsession.Fatal(state, text))
		return errors.New(text)
	}
	start, err := pgsession.ReadStart(s.client)
	for ; err == nil && (start.TLS || start.GSS); start, err = pgsession.ReadStart(s.client) {
		if !start.TLS || s.g.set.TLS == nil {
			if _, err := s.client.Write([]byte("N")); err != nil {
				return err
			}
			continue
		}
		if _, err := s.client.Write([]byte("S")); err != nil {
			return err
		}
		t := tls.Server(s.client, s.g.set.TLS)
		if err := t.HandshakeContext(s.g.run); err != nil {
			return err
		}
		s.mu.Lock()
		s.client = t
		s.mu.Unlock()
	}
	if err != nil {
		return err
	}
	if start.Cancel != nil { // which is all that comes
		return errors.Join(errDone, s.g.cancel(s, start.Cancel))
	}
	if v := start.Param("replication"); v != "" && v != "false" && v != "off" && v != "0" && v != "no" {
		return fatal(pgsession.NotSupported, "a gateway passes no replication; connect to the server itself")
	}
	if _, encrypted := s.client.(*tls.Conn); !encrypted && s.g.set.TLS != nil {
		return fatal("28000", "this gateway takes encrypted connections only (sslmode=require)")
	}
	r, err := s.g.admit(s)
	if err != nil {
		return fatal(pgsession.CannotConnectNow, err.Error())
	}
	if !slices.Contains(r.Databases, start.Database()) {
		return fatal(pgsession.NoSuchDatabase, fmt.Sprintf("this gateway leads to database %q, not to %q", r.Database,
			start.Database()))
	}
	server, err := dialPostgres(s, r)
	if err != nil {
		return fatal(pgsession.CannotConnectNow, err.Error())
	}
	if _, err := server.Write(start.For(r.Database)); err != nil {
		_ = server.Close()
		return err
	}
	s.through(server, &pgsession.Session{})
	return nil
}

// dialPostgres connects to the server in charge, encrypted as the database is registered.
func dialPostgres(s *session, r contract.GatewayRoute) (net.Conn, error) {
	c, err := dial(s, r)
	if err != nil || r.Tls == "disable" {
		return c, err
	}
	_ = c.SetDeadline(time.Now().Add(dialLimit))
	answer := []byte{0}
	if _, err = c.Write(pgsession.AskTLS()); err == nil {
		_, err = c.Read(answer)
	}
	switch {
	case err != nil:
	case answer[0] == 'S':
		// Names are checked where the database is registered so; otherwise it is as the person chose.
		t := tls.Client(c, &tls.Config{ServerName: r.Host, InsecureSkipVerify: r.Tls != "verify-full"}) //nolint:gosec
		if err = t.HandshakeContext(s.g.run); err == nil {
			_ = c.SetDeadline(time.Time{})
			return t, nil
		}
	case r.Tls == "prefer":
		_ = c.SetDeadline(time.Time{})
		return c, nil
	default:
		err = errors.New("the server does not take encrypted connections")
	}
	_ = c.Close()
	return nil, fmt.Errorf("the gateway cannot reach database %s: %w", r.Live, err)
}

// cancel passes a request to cancel to the server whose session it means.
func (g *Gateway) cancel(s *session, key []byte) error {
	g.mu.Lock()
	r := g.route
	var to net.Addr
	for o := range g.sessions {
		o.mu.Lock()
		if f, ok := o.follow.(*pgsession.Session); ok && bytes.Equal(f.Key(), key) && o.server != nil {
			to = o.server.RemoteAddr()
		}
		o.mu.Unlock()
	}
	g.mu.Unlock()
	if to != nil {
		host, port, err := net.SplitHostPort(to.String())
		if err != nil {
			return err
		}
		r.Host = host
		if r.Port, err = strconv.Atoi(port); err != nil {
			return err
		}
	}
	c, err := dialPostgres(s, r)
	if err != nil {
		return err
	}
	defer func() { _ = c.Close() }()
	if _, err := c.Write(pgsession.CancelFor(key)); err != nil {
		return err
	}
	_ = c.SetReadDeadline(time.Now().Add(dialLimit))
	_, _ = c.Read(make([]byte, 1)) // the server closes it when it has done so
	return nil
}

// openMariaDB begins a MariaDB session: the server speaks first.
func openMariaDB(s *session) error {
	first := func(err error) error {
		_, _ = s.client.Write(mariasession.First(mariasession.NoHandshake, err.Error()))
		return err
	}
	r, err := s.g.admit(s)
	if err != nil {
		return first(err)
	}
	server, err := dial(s, r)
	if err != nil {
		return first(err)
	}
	if err := signInMariaDB(s, r, server); err != nil {
		_ = server.Close()
		return err
	}
	s.through(server, mariasession.New())
	return nil
}

// signInMariaDB passes the greeting and the client's answer to it.
func signInMariaDB(s *session, r contract.GatewayRoute, server net.Conn) error {
	_ = server.SetDeadline(time.Now().Add(startLimit))
	greeting, err := mariasession.ReadPacket(server)
	if err != nil {
		return err
	}
	if greeting.Refused() {
		_, err := s.client.Write(greeting.Bytes())
		return errors.Join(err, errors.New("the server takes no session"))
	}
	if greeting, err = mariasession.Greeting(greeting); err != nil {
		return err
	}
	if _, err := s.client.Write(greeting.Bytes()); err != nil {
		return err
	}
	packet, err := mariasession.ReadPacket(s.client)
	if err != nil {
		return err
	}
	a, err := mariasession.ReadAnswer(packet)
	if err != nil {
		_, _ = s.client.Write(mariasession.Failure(packet.Number+1, mariasession.NoHandshake, "08S01", err.Error()))
		return err
	}
	if a.Database != "" && !slices.Contains(r.Databases, a.Database) {
		text := fmt.Sprintf("this gateway leads to database '%s', not to '%s'", r.Database, a.Database)
		_, _ = s.client.Write(mariasession.Failure(packet.Number+1, mariasession.NoSuchDatabase, "42000", text))
		return errors.New(text)
	}
	name := a.Database
	if name != "" {
		name = r.Database
	}
	_, err = server.Write(a.For(name).Bytes())
	_ = server.SetDeadline(time.Time{})
	return err
}
