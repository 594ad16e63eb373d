package mariadb

import (
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/sha512"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"syscall"
	"time"

	"filippo.io/edwards25519"
	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/domain"
)

// Capabilities of the protocol that are used.
const (
	canLongPassword  = 1
	canDatabase      = 1 << 3
	canProtocol41    = 1 << 9
	canTLS           = 1 << 11
	canTransactions  = 1 << 13
	canSecure        = 1 << 15
	canPluginAuth    = 1 << 19
	canListsUnended  = 1 << 24
	utf8mb4GeneralCI = 45

	canBulk = 1 << 2 // of MariaDB's own, which stand elsewhere
)

// signInLimit is how long connecting and signing in may take.
const signInLimit = 15 * time.Second

// connect opens a connection to the server, on which nothing was said yet.
func (d *database) connect(ctx context.Context) (net.Conn, error) {
	nd := net.Dialer{Timeout: 10 * time.Second}
	conn, err := nd.DialContext(ctx, "tcp", net.JoinHostPort(d.end.Host, strconv.Itoa(d.end.Port)))
	if err != nil {
		return nil, err
	}
	return conn, conn.SetDeadline(time.Now().Add(signInLimit))
}

// dial connects, signs in and makes settings of the session.
func (d *database) dial(ctx context.Context, settings ...string) (*wire, error) {
	conn, err := d.connect(ctx)
	if err != nil {
		return nil, d.explain(err)
	}
	c := &wire{kill: d.kill}
	c.setConn(conn)
	if err := c.signIn(d); err != nil {
		_ = conn.Close()
		return nil, d.explain(err)
	}
	if err := d.pin(ctx, c); err != nil {
		c.close()
		return nil, d.explain(err)
	}
	for _, q := range settings {
		if err := c.run("SET SESSION " + q); err != nil {
			c.close()
			return nil, d.explain(err)
		}
	}
	_ = conn.SetDeadline(time.Time{})
	return c, nil
}

func (c *wire) signIn(d *database) error {
	hello, err := c.packet()
	if err != nil {
		return err
	}
	c.id = connectionOf(hello)
	can := uint32(canLongPassword | canDatabase | canProtocol41 | canTransactions | canSecure | canPluginAuth)
	head := binary.LittleEndian.AppendUint32(nil, can)
	head = binary.LittleEndian.AppendUint32(head, largestPacket)
	head = append(append(head, utf8mb4GeneralCI), make([]byte, 23)...)
	answer, err := c.enter(d, hello, head, nil)
	if err == nil && len(answer) > 0 && answer[0] == 0xff {
		return serverSaid(answer)
	}
	return err
}

// connectionOf is the number of the connection in a greeting (protocol version, server
// version ended by 0, number), 0 where it has none.
func connectionOf(hello []byte) uint32 {
	if at := bytes.IndexByte(hello, 0); at > 0 && len(hello) >= at+5 {
		return binary.LittleEndian.Uint32(hello[at+1:])
	}
	return 0
}

// enter signs in by the server's greeting and returns its last answer, OK or an error.
// head is the fixed part of our answer (capabilities, largest packet, collation, filler)
// and attributes are its end.
//
// The password itself is never sent, in whatever form the server asks for it: only a proof
// that we know it (mysql_native_password, client_ed25519). A server that wants more, such
// as a stranger at the server's address, gets nothing.
func (c *wire) enter(d *database, hello, head, attributes []byte) ([]byte, error) {
	if len(hello) > 0 && hello[0] == 0xff {
		return hello, nil
	}
	scramble, server, err := greeting(hello)
	if err != nil {
		return nil, err
	}
	if d.end.TLS != "disable" && server&canTLS != 0 {
		binary.LittleEndian.PutUint32(head, binary.LittleEndian.Uint32(head)|canTLS)
		if err := c.send(head); err != nil {
			return nil, err
		}
		t := tls.Client(c.net, &tls.Config{ServerName: d.end.Host,
			InsecureSkipVerify: d.end.TLS != "verify-full"}) //nolint:gosec // as the person chose
		if err := t.Handshake(); err != nil {
			return nil, fmt.Errorf("encrypting the connection: %w", err)
		}
		c.setConn(t)
	} else if d.end.TLS == "require" || d.end.TLS == "verify-full" {
		return nil, domain.Unavailable(nil, "%s offers no encryption; set it up there, or choose tls: prefer", d.name)
	}
	word := nativePassword(d.end.Password, scramble)
	b := append(append(bytes.Clone(head), d.end.User...), 0)
	b = append(append(b, byte(len(word))), word...)
	if binary.LittleEndian.Uint32(head)&canDatabase != 0 {
		b = append(append(b, d.end.Database...), 0)
	}
	b = append(append(b, "mysql_native_password"...), 0)
	if err := c.send(append(b, attributes...)); err != nil {
		return nil, err
	}
	answer, err := c.packet()
	if err != nil || len(answer) == 0 || answer[0] != 0xfe {
		return answer, err
	}
	// The server wants another way of signing in.
	plugin, rest, _ := strings.Cut(string(answer[1:]), "\x00")
	switch plugin {
	case "mysql_native_password":
		word = nativePassword(d.end.Password, []byte(strings.TrimRight(rest, "\x00")))
	case "client_ed25519":
		word = signed(d.end.Password, []byte(rest))
	default:
		return nil, domain.Unavailable(nil, "%s wants user %q to sign in by %s, which could tell the password to whoever "+
			"answers there; give a user that signs in by ed25519 or mysql_native_password", d.name, d.end.User, plugin)
	}
	if err := c.send(word); err != nil {
		return nil, err
	}
	if answer, err = c.packet(); err == nil && (len(answer) == 0 || answer[0] != 0 && answer[0] != 0xff) {
		return nil, domain.Unavailable(nil, "%s asked for more than a proof of the password of %q; give a user that signs "+
			"in by ed25519 or mysql_native_password", d.name, d.end.User)
	}
	return answer, err
}

// pooled is a connection for the driver's pool. It signs in as every connection of ours
// does, in the place of the driver, which is given no password: it sees the server's
// greeting, and the server's last answer to what we made of its own.
type pooled struct {
	net.Conn          // the one that is signed in, encrypted where that was asked for
	tcp      net.Conn // the one below
	d        *database
	w        *wire  // until it is signed in
	hello    []byte // the server's greeting
	ready    []byte // what the driver reads before anything else
	bulk     bool   // the server takes many rows of parameters at once
	ends     bool   // lists end by a packet of their own
}

// Close implements net.Conn.
func (p *pooled) Close() error {
	p.d.pooled.CompareAndDelete(connectionOf(p.hello), p)
	return p.Conn.Close()
}

// dialPooled connects; signing in follows when the driver has answered the greeting.
func (d *database) dialPooled(ctx context.Context, _, _ string) (net.Conn, error) {
	conn, err := d.connect(ctx)
	if err != nil {
		return nil, err
	}
	p := &pooled{Conn: conn, tcp: conn, d: d, w: &wire{}}
	p.w.setConn(conn)
	hello, err := p.w.packet()
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	p.hello = bytes.Clone(hello)
	p.ready = framed(0, p.hello)
	return p, nil
}

// framed is a packet of the protocol.
func framed(seq byte, payload []byte) []byte {
	return append([]byte{byte(len(payload)), byte(len(payload) >> 8), byte(len(payload) >> 16), seq}, payload...)
}

// Read implements net.Conn.
func (p *pooled) Read(b []byte) (int, error) {
	if len(p.ready) > 0 {
		n := copy(b, p.ready)
		p.ready = p.ready[n:]
		return n, nil
	}
	return p.Conn.Read(b)
}

// Write implements net.Conn. The first thing the driver writes is its answer to the
// greeting; what it is told then is the server's answer to ours, or why there was none.
func (p *pooled) Write(b []byte) (int, error) {
	if p.w == nil {
		return p.Conn.Write(b)
	}
	w := p.w
	p.w = nil
	answer, err := p.enter(w, b)
	if err != nil {
		answer = refusal(err)
	}
	p.ready = framed(b[3]+1, answer)
	return len(b), nil
}

func (p *pooled) enter(w *wire, b []byte) ([]byte, error) {
	const fixed = 32
	if len(b) < 4+fixed {
		return nil, errors.New("the answer to the greeting is cut short")
	}
	attributes, err := attributesOf(b[4:], fixed)
	if err != nil {
		return nil, err
	}
	head := bytes.Clone(b[4 : 4+fixed])
	if p.bulk = bulkOffered(p.hello); p.bulk {
		can := binary.LittleEndian.Uint32(head)
		p.ends = can&canListsUnended == 0
		own := head[fixed-4:] // MariaDB's own, unless the first of the others is set
		if can&canLongPassword != 0 {
			clear(own)
		}
		binary.LittleEndian.PutUint32(head, can&^canLongPassword)
		binary.LittleEndian.PutUint32(own, binary.LittleEndian.Uint32(own)|canBulk)
	}
	answer, err := w.enter(p.d, p.hello, head, attributes)
	if err != nil {
		return nil, err
	}
	answer = bytes.Clone(answer)
	if w.in.Buffered() > 0 {
		return nil, errors.New("the server said more than it was asked")
	}
	if _, plain := w.net.Conn.(*net.TCPConn); !plain {
		p.Conn = w.net.Conn
	}
	p.d.pooled.Store(connectionOf(p.hello), p)
	return answer, p.tcp.SetDeadline(time.Time{})
}

// bulkOffered reports whether a greeting says that the server takes many rows of parameters
// at once: MariaDB's own capabilities stand before the second half of the scramble, where
// the first of the others is not set.
func bulkOffered(hello []byte) bool {
	end := bytes.IndexByte(hello, 0)
	if end < 0 || len(hello) < end+5+27 {
		return false
	}
	b := hello[end+5:]
	return b[9]&canLongPassword == 0 && binary.LittleEndian.Uint32(b[23:])&canBulk != 0
}

// attributesOf returns what follows user, proof, database and plugin in an answer to a
// greeting.
func attributesOf(b []byte, at int) ([]byte, error) {
	short := errors.New("the answer to the greeting is cut short")
	can := binary.LittleEndian.Uint32(b)
	rest := b[at:]
	word := func() bool { // skips a word that ends with a zero
		n := bytes.IndexByte(rest, 0)
		if n < 0 {
			return false
		}
		rest = rest[n+1:]
		return true
	}
	if !word() || len(rest) == 0 || len(rest) < 1+int(rest[0]) {
		return nil, short
	}
	rest = rest[1+int(rest[0]):]
	if can&canDatabase != 0 && !word() || !word() {
		return nil, short
	}
	return rest, nil
}

// signInRefused is the error number with which the driver is told that we do not sign in.
const signInRefused = 2059

// refusal is an error as a server would say it.
func refusal(err error) []byte {
	b := binary.LittleEndian.AppendUint16([]byte{0xff}, signInRefused)
	return append(append(b, "#HY000"...), err.Error()...)
}

// SyscallConn lets the driver see whether the server has closed the connection.
func (p *pooled) SyscallConn() (syscall.RawConn, error) {
	c, ok := p.tcp.(syscall.Conn)
	if !ok {
		return nil, errors.New("no socket")
	}
	return c.SyscallConn()
}

// greeting reads the server's first packet: the scramble and what it can do.
func greeting(b []byte) ([]byte, uint32, error) {
	short := errors.New("the server's greeting is cut short")
	if len(b) < 2 || b[0] != 10 {
		return nil, 0, fmt.Errorf("this is no MariaDB server, or one of another protocol")
	}
	end := strings.IndexByte(string(b[1:]), 0)
	if end < 0 || len(b) < 1+end+1+4+8+1+2+1+2+2+1+10 {
		return nil, 0, short
	}
	b = b[1+end+1+4:]
	scramble := append([]byte{}, b[:8]...)
	can := uint32(binary.LittleEndian.Uint16(b[9:])) | uint32(binary.LittleEndian.Uint16(b[14:]))<<16
	rest := b[27:]
	if n := min(12, len(rest)); n > 0 {
		scramble = append(scramble, rest[:n]...)
	}
	return scramble, can, nil
}

// nativePassword proves that we know the password without sending it:
// SHA1(password) XOR SHA1(scramble, SHA1(SHA1(password))).
func nativePassword(password string, scramble []byte) []byte {
	if password == "" {
		return nil
	}
	one := sha1.Sum([]byte(password))
	two := sha1.Sum(one[:])
	h := sha1.New()
	h.Write(scramble)
	h.Write(two[:])
	out := h.Sum(nil)
	for i := range out {
		out[i] ^= one[i]
	}
	return out
}

// signed proves that we know the password by an Ed25519 signature of the scramble,
// whose secret is the password's SHA-512 (MariaDB documentation, "Authentication
// Plugin - ed25519"; RFC 8032, 5.1.6).
func signed(password string, scramble []byte) []byte {
	h := sha512.Sum512([]byte(password))
	digest := func(parts ...[]byte) *edwards25519.Scalar {
		sum := sha512.Sum512(bytes.Join(parts, nil))
		s, _ := edwards25519.NewScalar().SetUniformBytes(sum[:]) // takes any 64 bytes
		return s
	}
	secret, _ := edwards25519.NewScalar().SetBytesWithClamping(h[:32]) // takes any 32 bytes
	public := new(edwards25519.Point).ScalarBaseMult(secret)
	nonce := digest(h[32:], scramble)
	r := new(edwards25519.Point).ScalarBaseMult(nonce).Bytes()
	k := digest(r, public.Bytes(), scramble)
	return append(r, k.MultiplyAdd(k, secret, nonce).Bytes()...)
}

func serverSaid(b []byte) error {
	e := &mysql.MySQLError{}
	if len(b) >= 3 {
		e.Number = binary.LittleEndian.Uint16(b[1:])
		text := b[3:]
		if len(text) > 6 && text[0] == '#' {
			copy(e.SQLState[:], text[1:6])
			text = text[6:]
		}
		e.Message = string(text)
	}
	return e
}
