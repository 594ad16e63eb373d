package postgres

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgoutput"
	"dustyferry/internal/protocol/pgstream"
)

// The server streams transactions that are too large for its memory while they are in
// progress, instead of keeping them on its own disk. Nobody knows yet whether they will be
// committed: until then their messages are kept by us.

// spools are the transactions in progress that are being streamed.
type spools struct {
	of   map[uint32]*spool
	open *spool // whose segment is being received

	scratch []byte
}

// spool holds one transaction's messages, each with the number of its subtransaction, as
// they would come by themselves.
type spool struct {
	engine.Spool
	aborted map[uint32]bool // subtransactions
}

func (s *spools) begin(xid uint32) {
	if s.of == nil {
		s.of = map[uint32]*spool{}
	}
	if s.of[xid] == nil {
		s.of[xid] = &spool{aborted: map[uint32]bool{}}
	}
	s.open = s.of[xid]
}

// keep takes a message of the open segment.
func (s *spools) keep(b []byte) error {
	sub, rest, scratch, err := pgoutput.DecodeStreamed(b, s.scratch)
	s.scratch = scratch
	if err != nil {
		return err
	}
	return s.open.Keep(sub, rest)
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
	p.Close()
	delete(s.of, xid)
}

func (s *spools) close() {
	for _, p := range s.of {
		p.Close()
	}
	s.of, s.open = nil, nil
}

// streamed hands a transaction on whose messages have come before its commit.
func (c *capture) streamed(ctx context.Context, m pgoutput.StreamCommit) error {
	p := c.spools.of[m.XID]
	c.tx = domain.Tx{ID: c.fullXID(m.XID), Commit: domain.Position(m.LSN), At: pgstream.Micros(m.At)}
	c.inTx, c.ours = true, false
	if err := c.send(ctx, engine.Event{Kind: engine.EventBegin, Tx: c.tx}); err != nil {
		return err
	}
	if p != nil {
		delete(c.spools.of, m.XID)
		defer p.Close()
		if err := c.replay(ctx, p); err != nil {
			return err
		}
	}
	return c.message(ctx, m.Commit, 0)
}

func (c *capture) replay(ctx context.Context, p *spool) error {
	n := 0
	return p.Each(func(sub uint32, b []byte) error {
		// What a rolled back subtransaction did to rows never happened; how it described a
		// table holds until the server says otherwise.
		if p.aborted[sub] && b[0] != 'R' {
			return nil
		}
		m, err := pgoutput.Decode(b)
		if err != nil {
			return err
		}
		if err := c.message(ctx, m, len(b)); err != nil {
			return err
		}
		if n++; n%1000 == 0 { // the server hears from us however long it takes
			return c.statusIfDue(false)
		}
		return nil
	})
}
