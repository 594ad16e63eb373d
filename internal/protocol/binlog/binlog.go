// Package binlog decodes the events of MariaDB's binary log, as its replication
// protocol sends them and as the MariaDB documentation describes them
// ("Replication Protocol", "Binlog Event Types"): the events that begin and end
// transactions, those that carry rows, and the map that says how to read them.
//
// It turns bytes into messages and values, nothing more: it opens no connection,
// knows no catalog and no character sets. Texts come in the bytes of their
// column's own character set.
package binlog

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
)

// Errors of a log that cannot be read.
var (
	ErrShort    = errors.New("binlog: event is cut short")
	ErrChecksum = errors.New("binlog: an event's checksum is wrong")
)

// Type is the kind of an event.
type Type byte

// The kinds of event that are told apart.
const (
	TypeQuery              Type = 2
	TypeStop               Type = 3
	TypeIntVar             Type = 5
	TypeAppendBlock        Type = 9
	TypeDeleteFile         Type = 11
	TypeRand               Type = 13
	TypeUserVar            Type = 14
	TypeRotate             Type = 4
	TypeFormat             Type = 15
	TypeXid                Type = 16
	TypeBeginLoad          Type = 17
	TypeExecuteLoad        Type = 18
	TypeTableMap           Type = 19
	TypeWriteRows          Type = 23
	TypeUpdateRows         Type = 24
	TypeDeleteRows         Type = 25
	TypeIncident           Type = 26
	TypeHeartbeat          Type = 27
	TypeXAPrepare          Type = 38
	TypeAnnotate           Type = 160
	TypeCheckpoint         Type = 161
	TypeGtid               Type = 162
	TypeGtidList           Type = 163
	TypeStartEncryption    Type = 164
	TypeQueryCompressed    Type = 165
	TypeWriteRowsPacked    Type = 166
	TypeUpdateRowsPacked   Type = 167
	TypeDeleteRowsPacked   Type = 168
	headerSize                  = 19
	checksumSize                = 4
	checksumAlgorithmCRC32      = 1
)

// Header stands before every event.
type Header struct {
	At       uint32 // seconds since 1970, by the server's clock
	Type     Type
	ServerID uint32
	Size     uint32 // of the whole event
	Next     uint32 // offset in the log file after the event; 0 for made-up ones
	Flags    uint16
}

// Artificial reports whether the server made the event up for the stream: it
// stands in no log file.
func (h Header) Artificial() bool { return h.Flags&0x20 != 0 }

// Ignorable reports whether the server says that a reader that does not know the event may
// pass over it.
func (h Header) Ignorable() bool { return h.Flags&0x80 != 0 }

// Reader takes events apart. It remembers from the format event whether they
// carry checksums, and the tables that were mapped.
type Reader struct {
	// Checksums says whether events end with a checksum; the format event sets it.
	Checksums bool
	Tables    map[uint64]*Table
}

// Event splits an event into its header and its body, and verifies the checksum
// if there is one. The body points into b.
func (r *Reader) Event(b []byte) (Header, []byte, error) {
	if len(b) < headerSize {
		return Header{}, nil, ErrShort
	}
	h := Header{
		At: binary.LittleEndian.Uint32(b), Type: Type(b[4]), ServerID: binary.LittleEndian.Uint32(b[5:]),
		Size: binary.LittleEndian.Uint32(b[9:]), Next: binary.LittleEndian.Uint32(b[13:]), Flags: binary.LittleEndian.Uint16(
			b[17:]),
	}
	if int(h.Size) != len(b) {
		return h, nil, fmt.Errorf("%w: it says %d bytes, there are %d", ErrShort, h.Size, len(b))
	}
	body := b[headerSize:]
	summed := r.Checksums
	if h.Type == TypeFormat {
		// It says how the events after it are summed, and has room for a checksum of its own
		// in any case: one that heads a log without checksums may hold anything there.
		if len(body) < 1+checksumSize {
			return h, nil, ErrShort
		}
		if summed = body[len(body)-1-checksumSize] == checksumAlgorithmCRC32; !summed {
			body = body[:len(body)-checksumSize]
		}
	}
	if summed {
		if len(body) < checksumSize {
			return h, nil, ErrShort
		}
		end := len(b) - checksumSize
		if crc32.ChecksumIEEE(b[:end]) != binary.LittleEndian.Uint32(b[end:]) {
			return h, nil, fmt.Errorf("%w at offset %d", ErrChecksum, h.Next)
		}
		body = b[headerSize:end]
	}
	return h, body, nil
}

// cursor reads fields from the front of a body; after the first that is missing
// it reads zeros and remembers.
type cursor struct {
	b     []byte
	short bool
}

func (c *cursor) take(n int) []byte {
	if n < 0 || n > len(c.b) {
		c.short, c.b = true, nil
		return nil
	}
	out := c.b[:n]
	c.b = c.b[n:]
	return out
}

// uint reads a little-endian number of n bytes.
func (c *cursor) uint(n int) uint64 {
	var v uint64
	for i, x := range c.take(n) {
		v |= uint64(x) << (8 * i)
	}
	return v
}

// big reads a big-endian number of n bytes.
func (c *cursor) big(n int) uint64 {
	var v uint64
	for _, x := range c.take(n) {
		v = v<<8 | uint64(x)
	}
	return v
}

// packed reads a number in the protocol's variable length.
func (c *cursor) packed() uint64 {
	switch first := c.uint(1); first {
	case 0xfc:
		return c.uint(2)
	case 0xfd:
		return c.uint(3)
	case 0xfe:
		return c.uint(8)
	default:
		return first
	}
}

func (c *cursor) err() error {
	if c.short {
		return ErrShort
	}
	return nil
}
