// Package pgstream decodes and encodes the frames that carry PostgreSQL's
// replication stream inside CopyData, as described in the PostgreSQL
// documentation, "Streaming Replication Protocol".
package pgstream

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"
)

// ErrShort says that a frame ended before its last field.
var ErrShort = errors.New("pgstream: frame is cut short")

// epoch is the server's zero of time.
var epoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// Micros returns a server time as microseconds since 1970.
func Micros(server int64) int64 { return server + epoch.UnixMicro() }

// Data carries a piece of the log's decoded stream.
type Data struct {
	Start   uint64 // position of the data
	End     uint64 // end of the server's log
	At      int64  // server time, microseconds since 2000
	Payload []byte // points into the frame
}

// Keepalive says how far the server has come when it has nothing to send.
type Keepalive struct {
	End   uint64 // everything before it that concerns us has been sent
	At    int64
	Reply bool // the server wants a status at once
}

// Status tells the server how far we have come.
type Status struct {
	Written, Flushed, Applied uint64
	At                        int64
	Reply                     bool
}

// Decode reads one frame: a Data, a Keepalive or a Status.
func Decode(b []byte) (any, error) {
	if len(b) == 0 {
		return nil, ErrShort
	}
	u64 := func(at int) uint64 { return binary.BigEndian.Uint64(b[at:]) }
	switch b[0] {
	case 'w':
		if len(b) < 25 {
			return nil, ErrShort
		}
		return Data{Start: u64(1), End: u64(9), At: int64(u64(17)), Payload: b[25:]}, nil
	case 'k':
		if len(b) != 18 {
			return nil, ErrShort
		}
		return Keepalive{End: u64(1), At: int64(u64(9)), Reply: b[17] != 0}, nil
	case 'r':
		if len(b) != 34 {
			return nil, ErrShort
		}
		return Status{Written: u64(1), Flushed: u64(9), Applied: u64(17), At: int64(u64(25)), Reply: b[33] != 0}, nil
	}
	return nil, fmt.Errorf("pgstream: unknown frame kind %q", b[0])
}

// Append adds the wire form to b.
func (m Data) Append(b []byte) []byte {
	b = binary.BigEndian.AppendUint64(append(b, 'w'), m.Start)
	b = binary.BigEndian.AppendUint64(b, m.End)
	return append(binary.BigEndian.AppendUint64(b, uint64(m.At)), m.Payload...)
}

// Append adds the wire form to b.
func (m Keepalive) Append(b []byte) []byte {
	b = binary.BigEndian.AppendUint64(append(b, 'k'), m.End)
	return append(binary.BigEndian.AppendUint64(b, uint64(m.At)), flag(m.Reply))
}

// Append adds the wire form to b.
func (m Status) Append(b []byte) []byte {
	b = append(b, 'r')
	for _, v := range []uint64{m.Written, m.Flushed, m.Applied, uint64(m.At)} {
		b = binary.BigEndian.AppendUint64(b, v)
	}
	return append(b, flag(m.Reply))
}

func flag(v bool) byte {
	if v {
		return 1
	}
	return 0
}

// ServerTime returns t as the server counts it, microseconds since 2000.
func ServerTime(t time.Time) int64 { return t.UnixMicro() - epoch.UnixMicro() }
