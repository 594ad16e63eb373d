// Package mariasession follows a MariaDB session from between its two ends: it is shown the bytes
// of both directions, in pieces of any size, and knows whether the session rests and whether a
// transaction is open. It changes nothing and keeps no bytes but a packet's head.
//
// Source: MariaDB documentation, "Client/Server Protocol". What would hide answers from it, or
// have more kinds of them, is not offered to the client (see [Greeting]).
package mariasession

import "encoding/binary"

// Commands with answers of their own; all others are answered by OK, ERR or rows.
const (
	comQuit         = 0x01
	comFieldList    = 0x04
	comStatistics   = 0x09
	comChangeUser   = 0x11
	comBinlogDump   = 0x12
	comTableDump    = 0x13
	comStmtPrepare  = 0x16
	comSendLongData = 0x18
	comStmtClose    = 0x19
	comStmtFetch    = 0x1c
	signIn          = 0xfe // none that a client sends: what a session begins with
)

// Flags of a server's status.
const (
	inTransaction = 0x0001
	moreResults   = 0x0008
	cursorExists  = 0x0040
)

// First bytes of packets.
const (
	ok        = 0x00
	moreData  = 0x01
	localFile = 0xfb
	eof       = 0xfe
	failed    = 0xff
)

// Session is one session, after the client's answer to the greeting. Make one with [New].
type Session struct {
	client, server packets
	asked          []byte // commands that are not answered to the end, the oldest first
	part           part   // what comes next of the oldest one's answer
	after          part   // and after the definitions
	left           int    // definitions of columns, or of parameters
	then           int    // definitions after those
	sending        bool   // the client sends a file
	status         uint16 // the server's, as it said last
	signedIn       bool
	lost           bool // what came is none of this protocol
}

// part is a part of an answer.
type part int

const (
	first       part = iota
	definitions      // of columns, ended by EOF
	rows             // ended by EOF
)

// New returns a session whose sign-in is under way.
func New() *Session { return &Session{asked: []byte{signIn}} }

// FromClient is shown what goes to the server.
func (s *Session) FromClient(p []byte) { s.client.take(p, s.command) }

// FromServer is shown what goes to the client.
func (s *Session) FromServer(p []byte) { s.server.take(p, s.answer) }

// Rests reports whether neither end owes the other anything: all that was asked is answered, and
// no packet is half on its way.
func (s *Session) Rests() bool {
	return !s.lost && len(s.asked) == 0 && !s.sending && s.client.whole() && s.server.whole()
}

// InTransaction reports whether a transaction is open, as the server said last.
func (s *Session) InTransaction() bool { return s.status&inTransaction != 0 }

// SignedIn reports whether the server has let the client in.
func (s *Session) SignedIn() bool { return s.signedIn }

// command meets a packet of the client.
func (s *Session) command(head []byte, size int) {
	switch {
	case s.sending:
		s.sending = size > 0 // an empty packet ends the file
		return
	case len(s.asked) > 0 && (s.asked[0] == signIn || s.asked[0] == comChangeUser):
		return // a part of signing in
	case size == 0:
		s.lost = true
		return
	}
	switch c := head[0]; c {
	case comQuit, comSendLongData, comStmtClose: // not answered
	case signIn:
		s.lost = true
	default:
		s.asked = append(s.asked, c)
	}
}

// answer meets a packet of the server.
func (s *Session) answer(head []byte, size int) {
	if len(s.asked) == 0 || size == 0 {
		s.lost = s.lost || size > 0 && head[0] != failed // a server that ends a session says so unasked
		return
	}
	switch s.part {
	case definitions:
		s.definition(head, size)
	case rows:
		switch {
		case head[0] == failed:
			s.end()
		case isEOF(head, size):
			s.result(binary.LittleEndian.Uint16(head[3:]))
		}
	default:
		s.begin(head, size)
	}
}

// begin meets the first packet of an answer.
func (s *Session) begin(head []byte, size int) {
	c := s.asked[0]
	switch {
	case c == comStatistics:
		s.end()
	case head[0] == failed:
		s.end()
	case c == signIn || c == comChangeUser:
		if head[0] == ok {
			s.signedIn = true
			s.okay(head)
		}
	case c == comBinlogDump || c == comTableDump:
	case c == comFieldList:
		s.left, s.then, s.part, s.after = -1, 0, definitions, first
		s.definition(head, size)
	case c == comStmtFetch:
		s.part = rows
		s.answer(head, size)
	case c == comStmtPrepare && head[0] == ok && len(head) >= 9:
		columns, params := int(binary.LittleEndian.Uint16(head[5:])), int(binary.LittleEndian.Uint16(head[7:]))
		s.left, s.then, s.part, s.after = params, columns, definitions, first
		if params == 0 {
			s.left, s.then = columns, 0
		}
		if s.left == 0 {
			s.end()
		}
	case head[0] == ok:
		s.okay(head)
	case head[0] == localFile:
		s.sending = true
		s.lost = s.lost || len(s.asked) > 1 // whether what came meanwhile is a file or a command
	case isEOF(head, size):
		s.result(binary.LittleEndian.Uint16(head[3:]))
	default:
		n, _, ok := number(head)
		s.left, s.then, s.part, s.after = int(n), 0, definitions, rows
		s.lost = s.lost || !ok || n == 0
	}
}

// definition meets the definition of a column or parameter, or the EOF after the last.
func (s *Session) definition(head []byte, size int) {
	switch {
	case head[0] == failed && s.left <= 0:
		s.end()
	case s.left > 0:
		s.left--
	case !isEOF(head, size):
		s.lost = s.lost || s.left == 0 // below 0 nobody said how many there are
	case s.then > 0:
		s.left, s.then = s.then, 0
	case s.after == rows && binary.LittleEndian.Uint16(head[3:])&cursorExists == 0:
		s.part = rows
	default:
		s.result(binary.LittleEndian.Uint16(head[3:]))
	}
}

// okay meets an OK.
func (s *Session) okay(head []byte) {
	rest := head[1:]
	for range 2 { // rows changed, and the last number that was given
		_, n, ok := number(rest)
		if !ok {
			s.lost = true
			return
		}
		rest = rest[n:]
	}
	if len(rest) < 2 {
		s.lost = true
		return
	}
	s.result(binary.LittleEndian.Uint16(rest))
}

// result ends a result; another one may follow.
func (s *Session) result(status uint16) {
	s.status, s.part = status, first
	if status&moreResults == 0 {
		s.end()
	}
}

func (s *Session) end() { s.asked, s.part = s.asked[1:], first }

func isEOF(head []byte, size int) bool { return head[0] == eof && size < 9 && len(head) >= 5 }

// number reads a length-encoded number and how many bytes it has.
func number(p []byte) (uint64, int, bool) {
	if len(p) == 0 {
		return 0, 0, false
	}
	size := 1
	switch p[0] {
	case 0xfc:
		size = 3
	case 0xfd:
		size = 4
	case 0xfe:
		size = 9
	case 0xfb, 0xff:
		return 0, 0, false
	default:
		return uint64(p[0]), 1, true
	}
	if len(p) < size {
		return 0, 0, false
	}
	var b [8]byte
	copy(b[:], p[1:size])
	return binary.LittleEndian.Uint64(b[:]), size, true
}

// kept is how much of a packet is kept: an OK up to its status.
const kept = 24

// packets cuts one direction's bytes into packets: three bytes of length, one that counts them.
type packets struct {
	head  [4]byte
	have  int  // bytes of the head
	left  int  // bytes of the body
	size  int  // of the body
	goes  bool // the packet before was full, so that this one goes on with it
	body  []byte
	count byte // of the last packet that has ended
}

// take cuts p. Of a packet that ends in it, ended is told its first bytes and its size.
func (m *packets) take(p []byte, ended func(head []byte, size int)) {
	for len(p) > 0 {
		if m.have < len(m.head) {
			n := copy(m.head[m.have:], p)
			m.have, p = m.have+n, p[n:]
			if m.have < len(m.head) {
				return
			}
			m.size = int(m.head[0]) | int(m.head[1])<<8 | int(m.head[2])<<16
			m.left, m.body = m.size, m.body[:0]
		}
		n := min(m.left, len(p))
		if room := kept - len(m.body); room > 0 {
			m.body = append(m.body, p[:min(n, room)]...)
		}
		m.left, p = m.left-n, p[n:]
		if m.left == 0 {
			m.have, m.count = 0, m.head[3]
			goes := m.goes
			m.goes = m.size == 0xffffff
			if !goes {
				ended(m.body, m.size)
			}
		}
	}
}

func (m *packets) whole() bool { return m.have == 0 && !m.goes }
