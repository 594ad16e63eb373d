// Package pgoutput decodes and encodes the messages of PostgreSQL's built-in
// logical decoding output plugin "pgoutput", protocol versions 1 and 2, as described
// in the PostgreSQL documentation, "Logical Replication Message Formats".
//
// Decode never copies: byte slices of a message point into the buffer it was
// given and are valid as long as that is.
package pgoutput

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Message is one decoded message.
type Message interface {
	// Append adds the message's wire form to b.
	Append(b []byte) []byte
}

// ErrShort says that a message ended before its last field.
var ErrShort = errors.New("pgoutput: message is cut short")

// Decode reads one message. Unknown kinds are an error: the stream's version is
// ours to choose, so nothing unknown may come.
func Decode(b []byte) (Message, error) {
	if len(b) == 0 {
		return nil, ErrShort
	}
	r := reader{b: b[1:]}
	var m Message
	switch b[0] {
	case 'B':
		m = readBegin(&r)
	case 'C':
		m = readCommit(&r)
	case 'O':
		m = Origin{LSN: r.u64(), Name: r.str()}
	case 'R':
		m = readRelation(&r)
	case 'Y':
		m = Type{ID: r.u32(), Schema: r.str(), Name: r.str()}
	case 'I':
		m = readInsert(&r)
	case 'U':
		m = readUpdate(&r)
	case 'D':
		m = readDelete(&r)
	case 'T':
		m = readTruncate(&r)
	case 'M':
		m = readLogical(&r)
	case 'S':
		m = StreamStart{XID: r.u32(), First: r.u8()}
	case 'E':
		m = StreamStop{}
	case 'c':
		m = readStreamCommit(&r)
	case 'A':
		m = StreamAbort{XID: r.u32(), Sub: r.u32()}
	default:
		return nil, fmt.Errorf("pgoutput: unknown message kind %q", b[0])
	}
	if r.bad {
		return nil, ErrShort
	}
	if len(r.b) != 0 {
		return nil, fmt.Errorf("pgoutput: %d bytes left over after a %q message", len(r.b), b[0])
	}
	return m, nil
}

type reader struct {
	b   []byte
	bad bool
}

func (r *reader) take(n int) []byte {
	if r.bad || n < 0 || len(r.b) < n {
		r.bad = true
		return nil
	}
	out := r.b[:n:n]
	r.b = r.b[n:]
	return out
}

func (r *reader) u8() byte {
	if b := r.take(1); b != nil {
		return b[0]
	}
	return 0
}

func (r *reader) u16() uint16 {
	if b := r.take(2); b != nil {
		return binary.BigEndian.Uint16(b)
	}
	return 0
}

func (r *reader) u32() uint32 {
	if b := r.take(4); b != nil {
		return binary.BigEndian.Uint32(b)
	}
	return 0
}

func (r *reader) u64() uint64 {
	if b := r.take(8); b != nil {
		return binary.BigEndian.Uint64(b)
	}
	return 0
}

func (r *reader) str() string {
	for i, c := range r.b {
		if c == 0 {
			s := string(r.b[:i])
			r.b = r.b[i+1:]
			return s
		}
	}
	r.bad = true
	return ""
}

func appendStr(b []byte, s string) []byte { return append(append(b, s...), 0) }

var be = binary.BigEndian
