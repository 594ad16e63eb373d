package gateway

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/protocol/mariasession"
	"dustyferry/internal/protocol/pgsession"
)

// depot is a database server that knows of transactions and nothing else: it notes what it was asked.
type depot struct {
	net.Listener
	engine string
	mu     sync.Mutex
	asked  []string
	open   int
}

func newDepot(t *testing.T, engine string) *depot {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	d := &depot{Listener: ln, engine: engine}
	t.Cleanup(func() { _ = ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go d.serve(c)
		}
	}()
	return d
}

func (d *depot) note(what string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asked = append(d.asked, what)
}

func (d *depot) saw(what string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return strings.Contains(strings.Join(d.asked, "|"), what)
}

func (d *depot) serve(c net.Conn) {
	defer func() { _ = c.Close() }()
	d.mu.Lock()
	d.open++
	d.mu.Unlock()
	defer func() {
		d.mu.Lock()
		d.open--
		d.mu.Unlock()
	}()
	if d.engine == "mariadb" {
		d.maria(c)
		return
	}
	s, err := pgsession.ReadStart(c)
	if err != nil {
		return
	}
	if s.Cancel != nil {
		d.note("cancel " + string(s.Cancel[4:]))
		return
	}
	d.note("start " + s.Database())
	_, _ = c.Write(bytes.Join([][]byte{msg('R', "\x00\x00\x00\x00"), msg('K', "\x00\x00\x00\x07secr"), msg('Z', "I")},
		nil))
	for open := "I"; ; {
		q, err := readMsg(c)
		if err != nil {
			return
		}
		d.note(q)
		switch q {
		case "BEGIN":
			open = "T"
		case "COMMIT":
			open = "I"
		case "slow":
			time.Sleep(300 * time.Millisecond)
		}
		_, _ = c.Write(append(msg('C', "OK\x00"), msg('Z', open)...))
	}
}

func (d *depot) maria(c net.Conn) {
	hello := append([]byte{10}, "11.8\x00\x07\x00\x00\x0012345678\x00"...)
	hello = append(hello, 0xfe, 0xf7, 45, 2, 0, 0xff, 0, 21, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	_, _ = c.Write(mariasession.Packet{Body: append(hello, "123456789012\x00native\x00"...)}.Bytes())
	p, err := mariasession.ReadPacket(c)
	if err != nil {
		return
	}
	a, err := mariasession.ReadAnswer(p)
	if err != nil {
		return
	}
	d.note("start " + a.Database)
	_, _ = c.Write(mariasession.Packet{Number: 2, Body: []byte{0, 0, 0, 2, 0, 0, 0}}.Bytes())
	for open := byte(2); ; {
		p, err := mariasession.ReadPacket(c)
		if err != nil {
			return
		}
		q := string(p.Body[1:])
		d.note(q)
		switch q {
		case "BEGIN":
			open = 3
		case "COMMIT":
			open = 2
		}
		_, _ = c.Write(mariasession.Packet{Number: 1, Body: []byte{0, 0, 0, open, 0, 0, 0}}.Bytes())
	}
}

func msg(kind byte, body string) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{kind}, uint32(4+len(body))), body...)
}

// readMsg reads a query, or what a server says: its kind and its words.
func readMsg(c io.Reader) (string, error) {
	var head [5]byte
	if _, err := io.ReadFull(c, head[:]); err != nil {
		return "", err
	}
	body := make([]byte, binary.BigEndian.Uint32(head[1:])-4)
	_, err := io.ReadFull(c, body)
	if head[0] != 'Q' {
		return string(head[0]) + " " + string(body), err
	}
	return strings.TrimRight(string(body), "\x00"), err
}

// tower is the service: it says where to, and hears how the gateway stands.
type tower struct {
	*httptest.Server
	mu     sync.Mutex
	route  contract.GatewayRoute
	heard  contract.GatewayReport
	away   bool
	status int
}

func newTower(t *testing.T, live *depot) *tower {
	t.Helper()
	w := &tower{}
	w.route = contract.GatewayRoute{Crossing: "spring", Epoch: 1, State: contract.Live, Engine: live.engine,
		Tls:       "disable",
		Databases: []string{"shed", "cloud"}}
	w.leads(live, "shed")
	w.Server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/events") {
			w.stream(rw, r)
			return
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		switch {
		case r.Method == http.MethodDelete:
			rw.WriteHeader(http.StatusNoContent)
		case w.away:
			http.Error(rw, "away", http.StatusServiceUnavailable)
		case w.status != 0:
			rw.WriteHeader(w.status)
			_ = json.NewEncoder(rw).Encode(contract.Problem{Status: w.status, Detail: "refused"})
		default:
			_ = json.NewDecoder(r.Body).Decode(&w.heard)
			_ = json.NewEncoder(rw).Encode(w.route)
		}
	}))
	t.Cleanup(func() { w.CloseClientConnections(); w.Close() })
	return w
}

// stream tells of each change at once.
func (w *tower) stream(rw http.ResponseWriter, r *http.Request) {
	for told := int64(0); r.Context().Err() == nil; time.Sleep(2 * time.Millisecond) {
		w.mu.Lock()
		route := w.route
		w.mu.Unlock()
		if route.Epoch > told {
			told = route.Epoch
			b, _ := json.Marshal(map[string]any{"status": 200, "body": contract.Gateways{Route: &route}})
			_, _ = fmt.Fprintf(rw, "event: answer\ndata: %s\n\n", b)
			_ = http.NewResponseController(rw).Flush()
		}
	}
}

func (w *tower) leads(d *depot, name string) {
	host, port, _ := net.SplitHostPort(d.Addr().String())
	w.route.Host, w.route.Live, w.route.Database = host, name, name
	w.route.Port, _ = strconv.Atoi(port)
}

// turn changes the route.
func (w *tower) turn(change func(r *contract.GatewayRoute)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.route.Epoch++
	change(&w.route)
}

func hold(r *contract.GatewayRoute) { r.State, r.Patience = contract.Holding, 0.2 }
func free(r *contract.GatewayRoute) { r.State = contract.Live }

// told waits until the gateway says that it acts by the latest route with so much under way.
func (w *tower) told(t *testing.T, busy int) {
	t.Helper()
	var last contract.GatewayReport
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		w.mu.Lock()
		last = w.heard
		now := w.route.Epoch
		w.mu.Unlock()
		if last.Epoch == now && last.Busy == busy {
			return
		}
	}
	t.Fatalf("it last said %+v", last)
}

func (w *tower) gateway(t *testing.T) *Gateway {
	t.Helper()
	api, err := client.New(w.URL, "token")
	if err != nil {
		t.Fatal(err)
	}
	g, err := Start(t.Context(), Settings{Service: api, Crossing: "spring", Name: "gate", Listen: "127.0.0.1:0",
		HoldAt: 700 * time.Millisecond, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Stop)
	return g
}

// app is a client of PostgreSQL.
type app struct {
	net.Conn
	t *testing.T
}

func dialApp(t *testing.T, g *Gateway, database string) *app {
	t.Helper()
	c, err := net.Dial("tcp", g.Address())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Close() })
	s, err := pgsession.ReadStart(bytes.NewReader(startOf(database)))
	if err != nil {
		t.Fatal(err)
	}
	_, _ = c.Write(s.For(database))
	return &app{c, t}
}

func startOf(database string) []byte {
	body := append(binary.BigEndian.AppendUint32(nil, 3<<16), "user\x00kea\x00database\x00"+database+"\x00\x00"...)
	return append(binary.BigEndian.AppendUint32(nil, uint32(4+len(body))), body...)
}

// until reads messages up to one of a kind, or an error, and returns it.
func (a *app) until(kind string) string {
	a.t.Helper()
	_ = a.SetReadDeadline(time.Now().Add(10 * time.Second))
	for {
		m, err := readMsg(a)
		if err != nil {
			return err.Error()
		}
		if strings.HasPrefix(m, kind) || m[0] == 'E' {
			return m
		}
	}
}

func (a *app) ask(q string) string {
	a.t.Helper()
	a.say(q)
	return a.until("Z")
}

func (a *app) say(q string) { _, _ = a.Write(msg('Q', q+"\x00")) }

func TestSessionsAreHeldReleasedAndTurned(t *testing.T) {
	shed, cloud := newDepot(t, "postgres"), newDepot(t, "postgres")
	w := newTower(t, shed)
	g := w.gateway(t)
	one, two, late := dialApp(t, g, "shed"), dialApp(t, g, "cloud"), dialApp(t, g, "shed")
	for _, a := range []*app{one, two, late} {
		if m := a.until("Z"); m != "Z I" {
			t.Fatal(m)
		}
	}
	if !shed.saw("start shed|start shed|start shed") {
		t.Errorf("the server was asked for %q", shed.asked)
	}
	one.ask("BEGIN")
	late.ask("BEGIN")
	w.turn(hold)
	w.told(t, 2)
	two.say("held")
	if m := one.ask("goes on"); m != "Z T" {
		t.Errorf("what was open does not go on: %s", m)
	}
	if m := one.ask("COMMIT"); m != "Z I" {
		t.Error(m)
	}
	if m := late.until("E"); !strings.Contains(m, "57P01") { // its transaction waited for its application
		t.Errorf("an open transaction that asks for nothing: %s", m)
	}
	w.told(t, 0)
	if shed.saw("held") {
		t.Error("a session that was held got through")
	}
	newcomer := dialApp(t, g, "shed")
	time.Sleep(50 * time.Millisecond)
	w.turn(free)
	if m := two.until("Z"); m != "Z I" || !shed.saw("held") {
		t.Errorf("released: %s", m)
	}
	if m := newcomer.until("Z"); m != "Z I" {
		t.Errorf("one that came meanwhile: %s", m)
	}
	w.turn(hold)
	w.told(t, 0)
	two.say("never")
	w.turn(func(r *contract.GatewayRoute) { free(r); w.leads(cloud, "cloud") })
	for _, a := range []*app{one, two, newcomer} {
		if m := a.until("E"); !strings.Contains(m, "57P01") {
			t.Errorf("of the side that was left: %s", m)
		}
	}
	if shed.saw("never") || cloud.saw("never") {
		t.Error("what was held was passed on after the turn")
	}
	after := dialApp(t, g, "shed")
	if after.until("Z"); after.ask("on the new side") != "Z I" || !cloud.saw("start cloud|on the new side") {
		t.Errorf("the new side was asked %q", cloud.asked)
	}
	if g.stand().stall <= 0 {
		t.Error("nothing was held, by its own account")
	}
}

// TestAStatementUnderWayIsWaitedFor: it ends, and is told of, on the side where it began.
func TestAStatementUnderWayIsWaitedFor(t *testing.T) {
	shed, cloud := newDepot(t, "postgres"), newDepot(t, "postgres")
	w := newTower(t, shed)
	a := dialApp(t, w.gateway(t), "shed")
	a.until("Z")
	a.say("slow")
	for !shed.saw("slow") {
		time.Sleep(time.Millisecond)
	}
	w.turn(hold)
	w.told(t, 1)
	w.turn(func(r *contract.GatewayRoute) { r.State, r.Patience = contract.Live, 5; w.leads(cloud, "cloud") })
	if m := a.until("Z"); m != "Z I" {
		t.Errorf("its answer: %s", m)
	}
	if m := a.until("E"); !strings.Contains(m, "57P01") {
		t.Errorf("and then: %s", m)
	}
}

func TestWhoIsHeldForTooLong(t *testing.T) {
	shed := newDepot(t, "postgres")
	w := newTower(t, shed)
	g := w.gateway(t)
	before := dialApp(t, g, "shed")
	before.until("Z")
	w.turn(hold)
	w.told(t, 0)
	if m := dialApp(t, g, "shed").until("E"); !strings.Contains(m, "57P03") || !strings.Contains(m, "being moved") {
		t.Error(m)
	}
	before.say("held for good")
	if m := before.until("E"); !strings.Contains(m, "57P01") || shed.saw("held for good") {
		t.Errorf("a session whose request was held: %s", m)
	}
	w.turn(func(r *contract.GatewayRoute) { r.State, r.Live = contract.Moved, "island" })
	w.told(t, 0)
	if m := dialApp(t, g, "shed").until("E"); !strings.Contains(m, "have moved to database island") {
		t.Error(m)
	}
}

// TestWithoutTheServiceItStays: connections go where they went.
func TestWithoutTheServiceItStays(t *testing.T) {
	shed := newDepot(t, "postgres")
	w := newTower(t, shed)
	g := w.gateway(t)
	status := httptest.NewServer(g.Status())
	defer status.Close()
	get := func(path string) (int, string) {
		res, err := http.Get(status.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = res.Body.Close() }()
		b, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(b)
	}
	w.mu.Lock()
	w.away = true
	w.mu.Unlock()
	if m := dialApp(t, g, "shed").until("Z"); m != "Z I" {
		t.Error(m)
	}
	g.mu.Lock()
	g.heard = time.Now().Add(-time.Minute)
	g.mu.Unlock()
	if code, text := get("/readyz"); code != http.StatusServiceUnavailable || !strings.Contains(text,
		"stays where it is") {
		t.Errorf("%d %s", code, text)
	}
	w.mu.Lock()
	w.away = false
	w.mu.Unlock()
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if code, _ := get("/readyz"); code == http.StatusOK {
			break
		} else if time.Now().After(end) {
			t.Fatal(code)
		}
	}
	if code, text := get("/metrics"); code != http.StatusOK || !strings.Contains(text, "dustyferry_gateway_sessions 1") {
		t.Errorf("%d %s", code, text)
	}
	if code, _ := get("/healthz"); code != http.StatusOK {
		t.Error(code)
	}
}

func TestWhatIsNoSession(t *testing.T) {
	shed := newDepot(t, "postgres")
	w := newTower(t, shed)
	g := w.gateway(t)
	for what, c := range map[string][2]string{"another database": {string(startOf("elsewhere")), "3D000"},
		"HTTP": {"GET / HTTP/1.1\r\n\r\n", "EOF"}} {
		c0, err := net.Dial("tcp", g.Address())
		if err != nil {
			t.Fatal(err)
		}
		_, _ = c0.Write([]byte(c[0]))
		a := &app{c0, t}
		if m := a.until("E"); !strings.Contains(m, c[1]) && !strings.Contains(m, "reset") {
			t.Errorf("%s: %s", what, m)
		}
		_ = c0.Close()
	}
	// A request to cancel goes to the server whose session it means.
	a := dialApp(t, g, "shed")
	a.until("Z")
	c, err := net.Dial("tcp", g.Address())
	if err != nil {
		t.Fatal(err)
	}
	_, _ = c.Write(pgsession.CancelFor([]byte("\x00\x00\x00\x07secr")))
	for end := time.Now().Add(5 * time.Second); !shed.saw("cancel secr"); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("nothing was cancelled")
		}
	}
	_ = shed.Close() // a server that takes no connections
	if m := dialApp(t, g, "shed").until("E"); !strings.Contains(m, "57P03") || !strings.Contains(m, "cannot reach") {
		t.Error(m)
	}
	// Its own address is no database's.
	w.turn(func(r *contract.GatewayRoute) {
		_, port, _ := net.SplitHostPort(g.Address())
		r.Port, _ = strconv.Atoi(port)
	})
	w.told(t, 0)
	if m := dialApp(t, g, "shed").until("E"); !strings.Contains(m, "own address") {
		t.Error(m)
	}
}

func TestAGatewayThatMayNotBegin(t *testing.T) {
	for what, c := range map[string]struct {
		change func(w *tower)
		says   string
	}{
		"no such crossing":  {func(w *tower) { w.status = 404 }, "refused"},
		"no right":          {func(w *tower) { w.status = 403 }, "refused"},
		"another engine":    {func(w *tower) { w.route.Engine = "cards" }, "engine cards"},
		"MariaDB encrypted": {func(w *tower) { w.route.Engine, w.route.Tls = "mariadb", "require" }, "tls disable"},
	} {
		w := newTower(t, newDepot(t, "postgres"))
		c.change(w)
		api, err := client.New(w.URL, "token")
		if err != nil {
			t.Fatal(err)
		}
		_, err = Start(t.Context(), Settings{Service: api, Crossing: "spring", Name: "gate", Listen: "127.0.0.1:0",
			Log: slog.New(slog.DiscardHandler)})
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// TestSessionsOfMariaDB: held, released, turned; one that asks for something after the turn is told so.
func TestSessionsOfMariaDB(t *testing.T) {
	shed, cloud := newDepot(t, "mariadb"), newDepot(t, "mariadb")
	w := newTower(t, shed)
	g := w.gateway(t)
	dial := func() net.Conn {
		c, err := net.Dial("tcp", g.Address())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = c.Close() })
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		hello, err := mariasession.ReadPacket(c)
		if err != nil || hello.Refused() {
			t.Fatalf("%+v, %v", hello, err)
		}
		body := append(binary.LittleEndian.AppendUint32(nil, 1<<3|1<<15), make([]byte, 28)...)
		_, _ = c.Write(mariasession.Packet{Number: 1, Body: append(body, "kea\x00\x00shed\x00"...)}.Bytes())
		if p, err := mariasession.ReadPacket(c); err != nil || p.Refused() {
			t.Fatalf("%q, %v", p.Body, err)
		}
		return c
	}
	ask := func(c net.Conn, q string) (mariasession.Packet, error) {
		_, _ = c.Write(mariasession.Packet{Body: append([]byte{3}, q...)}.Bytes())
		return mariasession.ReadPacket(c)
	}
	one, silent := dial(), dial()
	if p, err := ask(one, "BEGIN"); err != nil || p.Refused() {
		t.Fatal(err)
	}
	w.turn(hold)
	w.told(t, 1)
	if p, err := ask(one, "COMMIT"); err != nil || p.Refused() {
		t.Fatal(err)
	}
	w.told(t, 0)
	answered := make(chan string, 1)
	go func() {
		p, err := ask(one, "never")
		answered <- string(p.Body) + errors.Join(err, errors.New("")).Error()
	}()
	time.Sleep(50 * time.Millisecond)
	w.turn(func(r *contract.GatewayRoute) { free(r); w.leads(cloud, "cloud") })
	if said := <-answered; !strings.Contains(said, "#70100the administrator ended") {
		t.Errorf("%q", said)
	}
	if p, err := ask(silent, "late"); err != nil || !p.Refused() || p.Number != 1 {
		t.Errorf("%+v, %v", p, err)
	}
	defer func(began time.Time) {
		if g.Stop(); time.Since(began) > 5*time.Second {
			t.Errorf("it took %s to stop", time.Since(began))
		}
	}(time.Now())
	if p, err := ask(dial(), "anew"); err != nil || p.Refused() || !cloud.saw("start cloud|anew") || shed.saw("never") ||
		cloud.saw("never") || cloud.saw("late") {
		t.Errorf("%q, %v; %q, %q", p.Body, err, shed.asked, cloud.asked)
	}
}
