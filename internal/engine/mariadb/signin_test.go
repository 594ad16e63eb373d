package mariadb

import (
	"bytes"
	"crypto/tls"
	"encoding/binary"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/engine/enginetest"
)

// TestAStrangerAtTheAddressGetsNoPassword lets a stranger answer at a database's
// address and ask for more than a proof of the password, in every way that a client
// could be asked, with and without an encryption whose certificate nobody checks.
func TestAStrangerAtTheAddressGetsNoPassword(t *testing.T) {
	const password = "thyme-and-clover"
	cert := enginetest.Certificate(t)
	for _, plugin := range []string{"mysql_clear_password", "sha256_password", "caching_sha2_password",
		"mysql_old_password", "dialog"} {
		for _, way := range []string{"disable", "prefer", "require"} {
			t.Run(plugin+" over "+way, func(t *testing.T) {
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
						go stranger(conn, cert, plugin, way != "disable", &mu, &heard)
					}
				}()
				_, err = Driver{}.Open(t.Context(), engine.Endpoint{Host: "127.0.0.1", Port: ln.Addr().(*net.TCPAddr).Port,
					Database: "marsh", User: "dusty", Password: password, TLS: way})
				if !domain.IsKind(err, domain.ProblemUnavailable) || !strings.Contains(err.Error(), plugin) ||
					!strings.Contains(err.Error(), "ed25519") {
					t.Errorf("the error does not say what to do: %v", err)
				}
				mu.Lock()
				defer mu.Unlock()
				if !bytes.Contains(heard.Bytes(), []byte("dusty")) {
					t.Fatal("the stranger heard nothing at all")
				}
				if bytes.Contains(heard.Bytes(), []byte(password)) {
					t.Errorf("the stranger heard %q", heard.Bytes())
				}
			})
		}
	}
}

// stranger greets as a server does and asks for a sign-in by the plugin, then for more.
func stranger(conn net.Conn, cert tls.Certificate, plugin string, encrypt bool, mu *sync.Mutex, heard *bytes.Buffer) {
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	can := uint32(canLongPassword | canDatabase | canProtocol41 | canTransactions | canSecure | canPluginAuth)
	if encrypt {
		can |= canTLS
	}
	hello := append([]byte{10}, "10.11.0-stranger\x00\x01\x00\x00\x0012345678\x00"...)
	hello = binary.LittleEndian.AppendUint16(hello, uint16(can))
	hello = append(hello, utf8mb4GeneralCI, 2, 0)
	hello = binary.LittleEndian.AppendUint16(hello, uint16(can>>16))
	hello = append(append(hello, 21), make([]byte, 10)...)
	hello = append(hello, "123456789012\x00mysql_native_password\x00"...)
	_, _ = conn.Write(framed(0, hello))
	answer := func() []byte {
		head := make([]byte, 4)
		if _, err := io.ReadFull(conn, head); err != nil {
			return nil
		}
		b := make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
		_, _ = io.ReadFull(conn, b)
		mu.Lock()
		defer mu.Unlock()
		heard.Write(b)
		return append(head, b...)
	}
	first := answer()
	if encrypt && len(first) == 4+32 {
		conn = tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{cert}})
		first = answer()
	}
	if first == nil {
		return
	}
	_, _ = conn.Write(framed(first[3]+1, append(append([]byte{0xfe}, plugin...), "\x0012345678901234567890\x00"...)))
	if next := answer(); next != nil {
		_, _ = conn.Write(framed(next[3]+1, []byte{1, 4})) // "tell me all of it"
		answer()
	}
}
