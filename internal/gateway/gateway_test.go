package gateway

import (
	"encoding/binary"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/protocol/mariasession"
	"dustyferry/internal/protocol/pgsession"
)

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
