package mariasession

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Capabilities of the protocol.
const (
	withDatabase   = 1 << 3
	compressed     = 1 << 5
	encrypted      = 1 << 11
	secureSignIn   = 1 << 15
	namedSignIn    = 1 << 19
	longSignIn     = 1 << 21
	optionalHeads  = 1 << 25
	noEOF          = 1 << 24
	compressedZstd = 1 << 26
	attributes     = 1 << 27

	mysqlFlag = 1 << 0
	// MariaDB's own: progress in the place of an answer, several commands in one, and answers without
	// definitions.
	progress     = 1 << 0
	manyCommands = 1 << 1
	cachedHeads  = 1 << 4
	unitResults  = 1 << 5
)

// ErrNotStart says that what came is no start of a session.
var ErrNotStart = errors.New("this is no start of a MariaDB session")

// Packet is one packet: its number, and what it carries.
type Packet struct {
	Number byte
	Body   []byte
}

// startLimit is how large a packet of a sign-in may be, in bytes.
const startLimit = 64 << 10

// ReadPacket reads one of the packets that a session begins with.
func ReadPacket(r io.Reader) (Packet, error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return Packet{}, err
	}
	size := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
	if size == 0 || size > startLimit {
		return Packet{}, ErrNotStart
	}
	p := Packet{Number: head[3], Body: make([]byte, size)}
	_, err := io.ReadFull(r, p.Body)
	return p, err
}

// Bytes are the packet as it is sent.
func (p Packet) Bytes() []byte {
	n := len(p.Body)
	return append([]byte{byte(n), byte(n >> 8), byte(n >> 16), p.Number}, p.Body...)
}

// Refused reports whether the server's first packet is an error.
func (p Packet) Refused() bool { return p.Body[0] == failed }

// Greeting takes out of a server's greeting what a session may not use that is to be followed:
// encryption and compression, and answers of other forms.
func Greeting(p Packet) (Packet, error) {
	b := bytes.Clone(p.Body)
	if b[0] != 10 {
		return p, fmt.Errorf("%w: the greeting is of version %d", ErrNotStart, b[0])
	}
	version := bytes.IndexByte(b, 0)
	at := version + 1 + 4 + 8 + 1 // number of the session, a part of the scramble, a filler
	if version < 0 || len(b) < at+18 {
		return p, ErrNotStart
	}
	low, high := b[at:], b[at+5:]
	flags := uint32(binary.LittleEndian.Uint16(low)) | uint32(binary.LittleEndian.Uint16(high))<<16
	flags &^= compressed | encrypted | noEOF | optionalHeads | compressedZstd | attributes
	binary.LittleEndian.PutUint16(low, uint16(flags))
	binary.LittleEndian.PutUint16(high, uint16(flags>>16))
	if flags&mysqlFlag == 0 {
		own := b[at+14:]
		binary.LittleEndian.PutUint32(own, binary.LittleEndian.Uint32(own)&^(progress|manyCommands|cachedHeads|unitResults))
	}
	return Packet{p.Number, b}, nil
}

// Answer is the client's answer to the greeting.
type Answer struct {
	Packet
	Database string
	from, to int // where it stands, with its end
}

// ReadAnswer takes a client's answer to the greeting apart.
func ReadAnswer(p Packet) (Answer, error) {
	a, b := Answer{Packet: p}, p.Body
	if len(b) < 33 {
		return a, ErrNotStart
	}
	flags := binary.LittleEndian.Uint32(b)
	if flags&(encrypted|compressed) != 0 {
		return a, fmt.Errorf("%w: encryption or compression is asked for, which was not offered", ErrNotStart)
	}
	at := 32
	user := bytes.IndexByte(b[at:], 0)
	if user < 0 {
		return a, ErrNotStart
	}
	at += user + 1
	switch {
	case flags&longSignIn != 0:
		n, size, ok := number(b[at:])
		if !ok || n > uint64(len(b)) {
			return a, ErrNotStart
		}
		at += size + int(n)
	case flags&secureSignIn != 0:
		if at >= len(b) {
			return a, ErrNotStart
		}
		at += 1 + int(b[at])
	default:
		end := bytes.IndexByte(b[at:], 0)
		if end < 0 {
			return a, ErrNotStart
		}
		at += end + 1
	}
	if at > len(b) {
		return a, ErrNotStart
	}
	if flags&withDatabase == 0 {
		return a, nil
	}
	end := bytes.IndexByte(b[at:], 0)
	if end < 0 { // the last of a packet may go without its end
		end = len(b) - at
	}
	a.Database, a.from, a.to = string(b[at:at+end]), at, min(at+end+1, len(b))
	return a, nil
}

// For is the answer for a server on which the database has that name.
func (a *Answer) For(database string) Packet {
	if a.from == 0 || a.Database == "" || a.Database == database {
		return a.Packet
	}
	out := append([]byte(nil), a.Body[:a.from]...)
	out = append(append(out, database...), 0)
	return Packet{a.Number, append(out, a.Body[a.to:]...)}
}

// Errors by which a server ends a session, that there is no such database, and that none can begin.
const (
	Killed         = 1927
	NoSuchDatabase = 1049
	NoHandshake    = 1043
)

// Failure is the packet of an error: its number is that of the packet it answers, and one.
func Failure(number byte, code uint16, sqlstate, text string) []byte {
	body := append([]byte{failed}, byte(code), byte(code>>8), '#')
	body = append(append(body, sqlstate...), text...)
	return Packet{number, body}.Bytes()
}

// First is the packet of an error in the place of a greeting, where there is no SQLSTATE yet.
func First(code uint16, text string) []byte {
	return Packet{0, append([]byte{failed, byte(code), byte(code >> 8)}, text...)}.Bytes()
}

// Number is that of the last packet the client sent whole.
func (s *Session) Number() byte { return s.client.count }
