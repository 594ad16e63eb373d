// Package pgsession follows a PostgreSQL session from between its two ends: it is shown the bytes
// of both directions, in pieces of any size, and knows whether the session rests and whether a
// transaction is open. It changes nothing and keeps no bytes but a message's head.
//
// Source: PostgreSQL documentation, "Frontend/Backend Protocol", version 3.
package pgsession

import "encoding/binary"

// Session is one session, from the server's first answer to the client's start message. Its zero
// value is one whose sign-in is under way.
type Session struct {
	client, server messages
	ended          int64 // ReadyForQuery messages that have come
	asked          int64 // and that are owed, beside the sign-in's
	unsynced       bool  // an extended query has begun and was not ended by Sync
	status         byte  // of the last ReadyForQuery: I, T or E
	lost           bool  // what came is none of this protocol
	key            []byte
}

// FromClient is shown what goes to the server.
func (s *Session) FromClient(p []byte) {
	s.lost = s.lost || !s.client.take(p, func(kind byte, _ []byte) {
		switch kind {
		case 'Q', 'F': // Query, FunctionCall
			s.asked++
		case 'S': // Sync
			s.asked, s.unsynced = s.asked+1, false
		case 'P', 'B', 'D', 'E', 'H', 'C': // Parse, Bind, Describe, Execute, Flush, Close
			s.unsynced = true
		}
	})
}

// FromServer is shown what goes to the client.
func (s *Session) FromServer(p []byte) {
	s.lost = s.lost || !s.server.take(p, func(kind byte, body []byte) {
		switch {
		case kind == 'Z' && len(body) == 1: // ReadyForQuery
			s.ended++
			s.status = body[0]
		case kind == 'K': // BackendKeyData
			s.key = append([]byte(nil), body...)
		}
	})
	s.lost = s.lost || s.ended > s.asked+1
}

// Rests reports whether neither end owes the other anything: all that was asked is answered, and
// no message is half on its way.
func (s *Session) Rests() bool {
	return !s.lost && !s.unsynced && s.ended == s.asked+1 && s.client.whole() && s.server.whole()
}

// InTransaction reports whether a transaction is open, as the server said last.
func (s *Session) InTransaction() bool { return s.status != 'I' }

// SignedIn reports whether the server has let the client in.
func (s *Session) SignedIn() bool { return s.ended > 0 }

// Key is by which the client can cancel what it asked for, or nil: the server's BackendKeyData.
func (s *Session) Key() []byte { return s.key }

// kept is how much of a message's body is kept: a ReadyForQuery and a BackendKeyData, whose key has
// up to 256 bytes since protocol 3.2.
const kept = 260

// messages cuts one direction's bytes into messages: a kind, and four bytes of length that count
// themselves.
type messages struct {
	head [5]byte
	have int // bytes of the head
	left int // bytes of the body
	body []byte
}

// take cuts p. Of a message that ends in it, ended is told the kind and the first bytes of its body.
// It reports whether p can be of this protocol.
func (m *messages) take(p []byte, ended func(kind byte, body []byte)) bool {
	for len(p) > 0 {
		if m.have < len(m.head) {
			n := copy(m.head[m.have:], p)
			m.have, p = m.have+n, p[n:]
			if m.have < len(m.head) {
				return true
			}
			size := int32(binary.BigEndian.Uint32(m.head[1:]))
			if size < 4 {
				return false
			}
			m.left, m.body = int(size)-4, m.body[:0]
		}
		n := min(m.left, len(p))
		if room := kept - len(m.body); room > 0 && (m.head[0] == 'Z' || m.head[0] == 'K') {
			m.body = append(m.body, p[:min(n, room)]...)
		}
		m.left, p = m.left-n, p[n:]
		if m.left == 0 {
			m.have = 0
			ended(m.head[0], m.body)
		}
	}
	return true
}

func (m *messages) whole() bool { return m.have == 0 }
