package pgsession

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// What a client's first message asks for, by its code.
const (
	version3   = 3 << 16
	askCancel  = 1234<<16 | 5678
	askTLS     = 1234<<16 | 5679
	askGSS     = 1234<<16 | 5680
	startLimit = 10_000 // bytes, as servers have it
)

// Start is a client's first message.
type Start struct {
	TLS    bool   // it asks to go on encrypted, and waits for one byte
	GSS    bool   // likewise, in another way
	Cancel []byte // it asks to cancel what the session with this key does
	code   uint32
	params [][2]string
}

// ErrNotStart says that what came is no start message.
var ErrNotStart = errors.New("this is no start of a PostgreSQL session")

// ReadStart reads a client's first message.
func ReadStart(r io.Reader) (Start, error) {
	var head [8]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return Start{}, err
	}
	size, code := binary.BigEndian.Uint32(head[:4]), binary.BigEndian.Uint32(head[4:])
	if size < 8 || size > startLimit {
		return Start{}, ErrNotStart
	}
	body := make([]byte, size-8)
	if _, err := io.ReadFull(r, body); err != nil {
		return Start{}, err
	}
	s := Start{code: code}
	switch {
	case code == askTLS:
		s.TLS = true
	case code == askGSS:
		s.GSS = true
	case code == askCancel:
		s.Cancel = body
	case code>>16 != version3>>16:
		return s, fmt.Errorf("%w: it asks for version %d.%d of the protocol", ErrNotStart, code>>16, code&0xffff)
	default:
		for {
			name, rest, ok := bytes.Cut(body, []byte{0})
			if !ok {
				return s, ErrNotStart
			}
			if len(name) == 0 {
				break
			}
			value, after, ok := bytes.Cut(rest, []byte{0})
			if !ok {
				return s, ErrNotStart
			}
			s.params, body = append(s.params, [2]string{string(name), string(value)}), after
		}
	}
	return s, nil
}

// Param is what the client says of a name, or "".
func (s *Start) Param(name string) string {
	for _, p := range s.params {
		if p[0] == name {
			return p[1]
		}
	}
	return ""
}

// Database is the database that is asked for: the user's name where none is given.
func (s *Start) Database() string {
	if d := s.Param("database"); d != "" {
		return d
	}
	return s.Param("user")
}

// For is the message for a server on which the database has that name.
func (s *Start) For(database string) []byte {
	out := binary.BigEndian.AppendUint32(make([]byte, 4, 256), s.code)
	put := func(name, value string) {
		out = append(append(append(append(out, name...), 0), value...), 0)
	}
	for _, p := range s.params {
		if p[0] != "database" {
			put(p[0], p[1])
		}
	}
	put("database", database)
	out = append(out, 0)
	binary.BigEndian.PutUint32(out, uint32(len(out)))
	return out
}

// The SQLSTATEs by which a server says that a session has to begin anew, that none can begin now,
// that there is no such database, and that something is not supported.
const (
	AdminShutdown    = "57P01"
	CannotConnectNow = "57P03"
	NoSuchDatabase   = "3D000"
	NotSupported     = "0A000"
)

// Fatal is the message by which a server ends a session.
func Fatal(sqlstate, text string) []byte {
	out := append(make([]byte, 0, 64+len(text)), 'E', 0, 0, 0, 0)
	for _, f := range []string{"SFATAL", "VFATAL", "C" + sqlstate, "M" + text} {
		out = append(append(out, f...), 0)
	}
	out = append(out, 0)
	binary.BigEndian.PutUint32(out[1:], uint32(len(out)-1))
	return out
}

// CancelFor is the message that asks a server to cancel what the session with that key does.
func CancelFor(key []byte) []byte {
	out := binary.BigEndian.AppendUint32(nil, uint32(8+len(key)))
	return append(binary.BigEndian.AppendUint32(out, askCancel), key...)
}

// AskTLS is the message that asks a server to go on encrypted; it answers S or N.
func AskTLS() []byte {
	return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, 8), askTLS)
}
