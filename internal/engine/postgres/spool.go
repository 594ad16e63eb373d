package postgres

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgoutput"
	"dustyferry/internal/protocol/pgstream"
)

// The server streams transactions that are too large for its memory while they are in
// progress, instead of keeping them on its own disk. Nobody knows yet whether they will be
// committed: until then their messages are kept in a file of this machine, which has no
// name and is gone with the process.

// spools are the transactions in progress that are being streamed.
type spools struct {
	of   map[uint32]*spool
	open *spool // whose segment is being received

	scratch []byte
}

// spool holds one transaction's messages in their order: for each the number of its
// subtransaction, its length, and the message as it would come by itself.
type spool struct {
	file    *os.File
	out     *bufio.Writer
	aborted map[uint32]bool // subtransactions
}

func (s *spools) begin(xid uint32) error {
	if s.of == nil {
		s.of = map[uint32]*spool{}
	}
	p := s.of[xid]
	if p == nil {
		f, err := os.CreateTemp("", "dusty-ferry-")
		if err != nil {
			return fmt.Errorf("making room for a large transaction: %w", err)
		}
		_ = os.Remove(f.Name())
		p = &spool{file: f, out: bufio.NewWriterSize(f, 256<<10), aborted: map[uint32]bool{}}
		s.of[xid] = p
	}
	s.open = p
	return nil
}

// keep takes a message of the open segment.
func (s *spools) keep(b []byte) error {
	sub, rest, scratch, err := pgoutput.DecodeStreamed(b, s.scratch)
	s.scratch = scratch
	if err != nil {
		return err
	}
	var head [8]byte
	binary.BigEndian.PutUint32(head[:], sub)
	binary.BigEndian.PutUint32(head[4:], uint32(len(rest)))
	if _, err := s.open.out.Write(head[:]); err != nil {
		return spoolError(err)
	}
	if _, err := s.open.out.Write(rest); err != nil {
		return spoolError(err)
	}
	return nil
}

func spoolError(err error) error {
	return fmt.Errorf("keeping a large transaction in %s until it is committed: %w; give the machine more room there, or another TMPDIR", os.TempDir(), err)
}

func (s *spools) abort(xid, sub uint32) {
	p := s.of[xid]
	if p == nil {
		return
	}
	if xid != sub {
		p.aborted[sub] = true
		return
	}
	_ = p.file.Close()
	delete(s.of, xid)
}

func (s *spools) close() {
	for _, p := range s.of {
		_ = p.file.Close()
	}
	s.of, s.open = nil, nil
}

// streamed hands a transaction on whose messages have come before its commit.
func (c *capture) streamed(ctx context.Context, m pgoutput.StreamCommit) error {
	p := c.spools.of[m.XID]
	c.tx = domain.Tx{ID: c.fullXID(m.XID), Commit: domain.Position(m.LSN), At: pgstream.Micros(m.At)}
	c.inTx = true
	if err := c.send(ctx, engine.Event{Kind: engine.EventBegin, Tx: c.tx}); err != nil {
		return err
	}
	if p != nil {
		delete(c.spools.of, m.XID)
		defer func() { _ = p.file.Close() }()
		if err := p.out.Flush(); err != nil {
			return spoolError(err)
		}
		if _, err := p.file.Seek(0, io.SeekStart); err != nil {
			return spoolError(err)
		}
		if err := c.replay(ctx, p); err != nil {
			return err
		}
	}
	return c.message(ctx, m.Commit, 0)
}

func (c *capture) replay(ctx context.Context, p *spool) error {
	in := bufio.NewReaderSize(p.file, 256<<10)
	var head [8]byte
	var b []byte
	for n := 0; ; n++ {
		if _, err := io.ReadFull(in, head[:]); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return spoolError(err)
		}
		size := int(binary.BigEndian.Uint32(head[4:]))
		if cap(b) < size {
			b = make([]byte, size)
		}
		b = b[:size]
		if _, err := io.ReadFull(in, b); err != nil {
			return spoolError(err)
		}
		// What a rolled back subtransaction did to rows never happened; how it described a
		// table holds until the server says otherwise.
		if p.aborted[binary.BigEndian.Uint32(head[:])] && b[0] != 'R' {
			continue
		}
		m, err := pgoutput.Decode(b)
		if err != nil {
			return err
		}
		if err := c.message(ctx, m, size); err != nil {
			return err
		}
		if n%1000 == 0 { // the server hears from us however long it takes
			if err := c.statusIfDue(false); err != nil {
				return err
			}
		}
	}
}
