package gateway

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
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
