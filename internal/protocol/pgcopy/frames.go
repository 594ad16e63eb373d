// Package pgcopy knows PostgreSQL's COPY data: the CopyData frames that carry
// it over a connection, and the binary row format inside them.
// Source: the PostgreSQL documentation, "Frontend/Backend Protocol" and "COPY",
// "File Formats".
package pgcopy

import (
	"encoding/binary"
	"errors"
	"fmt"

	"dustyferry/internal/core/rowhash"
)

// HeaderSize is the size of the binary format's signature, flags and extension
// length; the server sends it in front of the first row.
const HeaderSize = 19

var signature = []byte("PGCOPY\n\xff\r\n\x00")

// Header returns the binary format's header.
func Header() []byte { return append(append([]byte{}, signature...), 0, 0, 0, 0, 0, 0, 0, 0) }

// Trailer is the end of binary data: a field count of -1.
var Trailer = []byte{0xff, 0xff}

// Frames follows a stream of CopyData frames that arrives in pieces of any
// size. It counts and hashes the rows (the server sends one row per frame) and
// tells how much of each piece is row data to be passed on as it is.
//
// Invariant: between two calls, either need > 0 bytes of the current frame's
// body are missing, or the first head bytes of the next frame's header are kept
// in buf.
type Frames struct {
	Sum    rowhash.Sum
	Binary bool

	buf    [5]byte
	head   int
	need   int
	begun  bool
	digest rowhash.Digest
	skip   int // bytes of the binary header still to be left out of the hash
	tail   [2]byte
	seen   int // body bytes of the current frame after the skipped header
	inBody bool
}

// ErrEnd says that a frame that is not CopyData begins: the data is over.
var ErrEnd = errors.New("pgcopy: end of row data")

// maxFrame bounds what a length field may say; the server's own limit is 1 GB.
const maxFrame = 1<<30 + 1<<20

// Feed takes the next piece. It returns how many of its bytes belong to
// CopyData frames; with [ErrEnd], what follows is another message.
func (f *Frames) Feed(p []byte) (int, error) {
	at := 0
	for at < len(p) {
		if n := f.whole(p[at:]); n > 0 {
			at += n
			continue
		}
		if f.inBody {
			n := min(f.need, len(p)-at)
			f.body(p[at : at+n])
			at += n
			continue
		}
		if f.head == 0 && p[at] != 'd' {
			return at, ErrEnd
		}
		n := copy(f.buf[f.head:], p[at:])
		f.head += n
		at += n
		if f.head < 5 {
			break
		}
		size := int(binary.BigEndian.Uint32(f.buf[1:])) - 4
		if size < 0 || size > maxFrame {
			return at, fmt.Errorf("pgcopy: a frame says it has %d bytes", size)
		}
		f.begin(size)
	}
	return at, nil
}

// whole takes the usual frame, which lies in one piece at the front of p and is not the
// first, and returns how many bytes it has; 0: it is another.
func (f *Frames) whole(p []byte) int {
	if f.inBody || f.head > 0 || !f.begun || len(p) < 5 || p[0] != 'd' {
		return 0
	}
	end := int(binary.BigEndian.Uint32(p[1:])) + 1
	if end < 5 || end > len(p) {
		return 0
	}
	row := p[5:end]
	if len(row) > 0 && !(f.Binary && IsTrailer(row)) {
		f.Sum.AddHash(rowhash.Of(row), len(row))
	}
	return end
}

func (f *Frames) begin(size int) {
	f.head, f.need, f.seen, f.inBody = 0, size, 0, true
	f.skip = 0
	if f.Binary && !f.begun {
		f.skip = HeaderSize
	}
	f.begun = true
	if size == 0 {
		f.end(0, false)
	}
}

func (f *Frames) body(p []byte) {
	f.need -= len(p)
	if f.skip > 0 {
		n := min(f.skip, len(p))
		f.skip -= n
		p = p[n:]
	}
	if len(p) > 0 {
		if f.seen == 0 {
			f.digest.Reset()
		}
		if f.seen < 2 {
			copy(f.tail[f.seen:], p)
		}
		_, _ = f.digest.Write(p)
		f.seen += len(p)
	}
	if f.need == 0 {
		f.end(f.digest.Sum64(), true)
	}
}

func (f *Frames) end(hash uint64, row bool) {
	f.inBody = false
	if !row || f.seen == 0 {
		return
	}
	if f.Binary && f.seen == 2 && f.tail == [2]byte{0xff, 0xff} {
		return // the trailer
	}
	f.Sum.AddHash(hash, f.seen)
}

// AtBoundary reports whether the last piece ended with a whole frame.
func (f *Frames) AtBoundary() bool { return !f.inBody && f.head == 0 }

// Cutter cuts a stream of CopyData frames, which [Frames] has seen to, into their bodies.
type Cutter struct {
	Row func(body []byte) error // good until it returns

	rest []byte // the front of a frame that is not whole yet
}

// Take takes the next piece, cut anywhere.
func (c *Cutter) Take(p []byte) error {
	if len(c.rest) > 0 {
		n := min(max(5-len(c.rest), 0), len(p))
		c.rest, p = append(c.rest, p[:n]...), p[n:]
		if len(c.rest) < 5 {
			return nil
		}
		n = min(int(binary.BigEndian.Uint32(c.rest[1:]))+1-len(c.rest), len(p))
		c.rest, p = append(c.rest, p[:n]...), p[n:]
		if len(c.rest) <= int(binary.BigEndian.Uint32(c.rest[1:])) {
			return nil
		}
		if err := c.Row(c.rest[5:]); err != nil {
			return err
		}
		if c.rest = c.rest[:0]; cap(c.rest) > keptCapacity {
			c.rest = nil
		}
	}
	for len(p) >= 5 {
		end := int(binary.BigEndian.Uint32(p[1:])) + 1
		if end > len(p) {
			break
		}
		if err := c.Row(p[5:end]); err != nil {
			return err
		}
		p = p[end:]
	}
	c.rest = append(c.rest, p...)
	return nil
}

// keptCapacity is how much memory of a wide row a Cutter keeps.
const keptCapacity = 1 << 20
