package mariadb

import (
	"bufio"
	"context"
	"crypto/sha1"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/domain"
)

// dump is a connection of the server's replication protocol (MariaDB
// documentation, "Clients & Utilities: Connecting", "Replication Protocol"): it
// signs in, asks for the log from a place, and reads events.
type dump struct {
	net net.Conn
	in  *bufio.Reader
	seq byte
}

// Capabilities of the protocol that are used.
const (
	canLongPassword   = 1
	canProtocol41     = 1 << 9
	canTLS            = 1 << 11
	canTransactions   = 1 << 13
	canSecure         = 1 << 15
	canPluginAuth     = 1 << 19
	largestPacket     = 1<<24 - 1
	utf8mb4GeneralCI  = 45
	commandQuery      = 0x03
	commandBinlogDump = 0x12
)

// openDump connects and signs in.
func (d *database) openDump(ctx context.Context) (*dump, error) {
	nd := net.Dialer{Timeout: 10 * time.Second}
	conn, err := nd.DialContext(ctx, "tcp", net.JoinHostPort(d.end.Host, strconv.Itoa(d.end.Port)))
	if err != nil {
		return nil, d.explain(err)
	}
	c := &dump{net: conn, in: bufio.NewReaderSize(conn, 256<<10)}
	_ = conn.SetDeadline(time.Now().Add(15 * time.Second))
	if err := c.signIn(d); err != nil {
		_ = conn.Close()
		return nil, d.explain(err)
	}
	_ = conn.SetDeadline(time.Time{})
	return c, nil
}

func (c *dump) signIn(d *database) error {
	hello, err := c.packet()
	if err != nil {
		return err
	}
	if len(hello) > 0 && hello[0] == 0xff {
		return serverSaid(hello)
	}
	scramble, server, err := greeting(hello)
	if err != nil {
		return err
	}
	can := uint32(canLongPassword | canProtocol41 | canTransactions | canSecure | canPluginAuth)
	head := func() []byte {
		b := binary.LittleEndian.AppendUint32(nil, can)
		b = binary.LittleEndian.AppendUint32(b, largestPacket)
		return append(append(b, utf8mb4GeneralCI), make([]byte, 23)...)
	}
	if d.end.TLS != "disable" && server&canTLS != 0 {
		can |= canTLS
		if err := c.send(head()); err != nil {
			return err
		}
		t := tls.Client(c.net, &tls.Config{ServerName: d.end.Host, InsecureSkipVerify: d.end.TLS != "verify-full"}) //nolint:gosec // as the person chose
		if err := t.Handshake(); err != nil {
			return fmt.Errorf("encrypting the connection: %w", err)
		}
		c.net, c.in = t, bufio.NewReaderSize(t, 256<<10)
	} else if d.end.TLS == "require" || d.end.TLS == "verify-full" {
		return domain.Unavailable(nil, "%s offers no encryption; set it up there, or choose tls: prefer", d.name)
	}
	word := nativePassword(d.end.Password, scramble)
	b := append(append(head(), d.end.User...), 0)
	b = append(append(b, byte(len(word))), word...)
	b = append(append(b, "mysql_native_password"...), 0)
	if err := c.send(b); err != nil {
		return err
	}
	answer, err := c.packet()
	if err != nil {
		return err
	}
	if len(answer) > 0 && answer[0] == 0xfe { // the server wants another way of signing in
		plugin, rest, _ := strings.Cut(string(answer[1:]), "\x00")
		if plugin != "mysql_native_password" {
			return domain.Unavailable(nil, "%s wants user %q to sign in by %s; give us a user that signs in by mysql_native_password", d.name, d.end.User, plugin)
		}
		if err := c.send(nativePassword(d.end.Password, []byte(strings.TrimRight(rest, "\x00")))); err != nil {
			return err
		}
		if answer, err = c.packet(); err != nil {
			return err
		}
	}
	if len(answer) > 0 && answer[0] == 0xff {
		return serverSaid(answer)
	}
	return nil
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

// packet reads one packet, also one that was sent in several.
func (c *dump) packet() ([]byte, error) {
	var out []byte
	for {
		var head [4]byte
		if _, err := io.ReadFull(c.in, head[:]); err != nil {
			return nil, err
		}
		n := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
		c.seq = head[3] + 1
		from := len(out)
		out = append(out, make([]byte, n)...)
		if _, err := io.ReadFull(c.in, out[from:]); err != nil {
			return nil, err
		}
		if n < largestPacket {
			return out, nil
		}
	}
}

func (c *dump) send(b []byte) error {
	head := []byte{byte(len(b)), byte(len(b) >> 8), byte(len(b) >> 16), c.seq}
	_, err := c.net.Write(append(head, b...))
	return err
}

// run sends a statement that gives no rows.
func (c *dump) run(sql string) error {
	c.seq = 0
	if err := c.send(append([]byte{commandQuery}, sql...)); err != nil {
		return err
	}
	b, err := c.packet()
	if err == nil && len(b) > 0 && b[0] == 0xff {
		return serverSaid(b)
	}
	return err
}

// start asks for the log's events from a place on. The server sends a heartbeat
// when nothing has happened for a moment.
func (c *dump) start(file string, offset uint32, server uint32) error {
	for _, q := range []string{
		"SET @master_binlog_checksum = @@global.binlog_checksum",
		"SET @mariadb_slave_capability = 4",
		"SET @master_heartbeat_period = " + strconv.Itoa(int(heartbeat)),
		"SET SESSION net_write_timeout = 3600",
	} {
		if err := c.run(q); err != nil {
			return err
		}
	}
	b := []byte{commandBinlogDump}
	b = binary.LittleEndian.AppendUint32(b, offset)
	b = append(b, 0, 0)
	b = binary.LittleEndian.AppendUint32(b, server)
	c.seq = 0
	return c.send(append(b, file...))
}

// heartbeat is how long the server waits before it says that nothing happened.
const heartbeat = 200 * time.Millisecond

// event reads the next event.
func (c *dump) event() ([]byte, error) {
	// A server that says nothing for far longer than a heartbeat is gone.
	_ = c.net.SetReadDeadline(time.Now().Add(30 * time.Second))
	b, err := c.packet()
	switch {
	case err != nil:
		return nil, err
	case len(b) == 0:
		return nil, io.ErrUnexpectedEOF
	case b[0] == 0xff:
		return nil, serverSaid(b)
	case b[0] == 0xfe && len(b) < 9:
		return nil, io.EOF
	}
	return b[1:], nil
}

func (c *dump) close() { _ = c.net.Close() }
