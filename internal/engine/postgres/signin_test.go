package postgres

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/engine/enginetest"
)

// TestAStrangerAtTheAddressGetsNoPassword lets a stranger answer at a database's
// address and ask for the password, in clear text and as an md5 hash, with and without
// an encrypted connection whose certificate nobody checks.
func TestAStrangerAtTheAddressGetsNoPassword(t *testing.T) {
	const password = "thyme-and-clover"
	cert := enginetest.Certificate(t)
	for _, ask := range []struct {
		name string
		msg  pgproto3.BackendMessage
	}{{"clear text", &pgproto3.AuthenticationCleartextPassword{}},
		{"md5", &pgproto3.AuthenticationMD5Password{Salt: [4]byte{1, 2, 3, 4}}}} {
		for _, way := range []string{"disable", "prefer", "require"} {
			t.Run(ask.name+" over "+way, func(t *testing.T) {
				ln, err := net.Listen("tcp", "127.0.0.1:0")
				if err != nil {
					t.Fatal(err)
				}
				defer func() { _ = ln.Close() }()
				var mu sync.Mutex
				var heard bytes.Buffer
				go func() {
					for {
						conn, err := ln.Accept()
						if err != nil {
							return
						}
						go stranger(conn, cert, ask.msg, way != "disable", &mu, &heard)
					}
				}()
				_, err = Driver{}.Open(t.Context(), engine.Endpoint{Host: "127.0.0.1", Port: ln.Addr().(*net.TCPAddr).Port,
					Database: "marsh", User: "dusty", Password: password, TLS: way})
				if !domain.IsKind(err, domain.ProblemUnavailable) || !strings.Contains(err.Error(), "verify-full") ||
					!strings.Contains(err.Error(), "scram-sha-256") {
					t.Errorf("the error does not say what to do: %v", err)
				}
				mu.Lock()
				defer mu.Unlock()
				if !bytes.Contains(heard.Bytes(), []byte("dusty")) {
					t.Fatal("the stranger heard nothing at all")
				}
				if bytes.Contains(heard.Bytes(), []byte(password)) || bytes.Contains(heard.Bytes(), []byte("md5")) {
					t.Errorf("the stranger heard %q", heard.Bytes())
				}
			})
		}
	}
}

// stranger answers a sign-in with what it wants, and keeps what it hears.
func stranger(conn net.Conn, cert tls.Certificate, want pgproto3.BackendMessage, encrypt bool, mu *sync.Mutex,
	heard *bytes.Buffer) {
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	back := pgproto3.NewBackend(conn, conn)
	m, err := back.ReceiveStartupMessage()
	if _, ok := m.(*pgproto3.SSLRequest); ok && err == nil {
		if !encrypt {
			_, _ = conn.Write([]byte("N"))
		} else {
			_, _ = conn.Write([]byte("S"))
			conn = tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{cert}})
		}
		back = pgproto3.NewBackend(conn, conn)
		m, err = back.ReceiveStartupMessage()
	}
	start, ok := m.(*pgproto3.StartupMessage)
	if err != nil || !ok {
		return
	}
	mu.Lock()
	heard.WriteString(start.Parameters["user"])
	mu.Unlock()
	back.Send(want)
	_ = back.Flush()
	rest, _ := io.ReadAll(conn)
	mu.Lock()
	defer mu.Unlock()
	heard.Write(rest)
}

// TestARoleSetToReplicaIsTold: triggers would be passed over in its sessions, and only a
// superuser can set it back.
func TestARoleSetToReplicaIsTold(t *testing.T) {
	d := fresh(t, "CREATE ROLE quiet_one LOGIN PASSWORD 'honey'",
		"ALTER ROLE quiet_one SET session_replication_role = replica")
	t.Cleanup(func() {
		_, _ = d.pool.Exec(context.Background(), "DROP ROLE quiet_one")
	})
	e := engine.Endpoint{Host: host.Host, Port: host.Port, Database: "postgres", User: "quiet_one", Password: "honey",
		TLS: "disable"}
	db, err := Driver{}.Open(t.Context(), e)
	if err == nil {
		db.Close()
	}
	if err == nil || !strings.Contains(err.Error(), `ALTER ROLE "quiet_one" RESET session_replication_role`) {
		t.Errorf("it was said: %v", err)
	}
	run(t, d, "ALTER ROLE quiet_one SUPERUSER")
	if db, err = (Driver{}).Open(t.Context(), e); err != nil {
		t.Fatalf("a superuser's role sets it back: %v", err)
	}
	db.Close()
}

// TestACutSessionIsAway: whoever goes on with a session that the server has ended is told of
// a server that is away, which is waited for.
func TestACutSessionIsAway(t *testing.T) {
	d := fresh(t)
	conn, err := d.connect(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	run(t, d, "SELECT pg_terminate_backend($1)", conn.PgConn().PID())
	for try := range 2 { // the first is told by the server, the second by nobody
		if _, err = conn.Exec(t.Context(), "SELECT 1"); !engine.Away(d.explain(err)) {
			t.Errorf("try %d: %v does not count as away", try, d.explain(err))
		}
	}
}
