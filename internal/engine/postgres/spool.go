package postgres

import (
	"context"
	"io"
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

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
}

// spool holds one transaction's messages, each with the number of its subtransaction, as
// they would come by themselves.
type spool struct {
	engine.Spool
	top  uint32
	subs map[uint32]outcome // subtransactions that have messages, and those rolled back
}

// outcome is what became of a subtransaction.
type outcome byte

const (
	unknown outcome = iota
	committed
	aborted
)

func (s *spools) begin(xid uint32) {
	if s.of == nil {
		s.of = map[uint32]*spool{}
	}
	if s.of[xid] == nil {
		s.of[xid] = &spool{top: xid, subs: map[uint32]outcome{}}
	}
	s.open = s.of[xid]
}

// keep takes a message of the open segment, which goes on with n bytes of a reader.
func (s *spools) keep(b []byte, rest io.Reader, n int) error {
	sub, b, err := pgoutput.DecodeStreamed(b)
	if err != nil {
		return err
	}
	if _, known := s.open.subs[sub]; !known && sub != 0 && sub != s.open.top {
		s.open.subs[sub] = unknown
	}
	return s.open.KeepFrom(sub, b, rest, n)
}

func (s *spools) abort(xid, sub uint32) {
	p := s.of[xid]
	if p == nil {
		return
	}
	if xid != sub {
		p.subs[sub] = aborted
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
	c.tx = domain.Tx{ID: c.fullXID(m.XID), Commit: domain.PositionAt(m.LSN), At: pgstream.Micros(m.At)}
	c.inTx, c.ours = true, false
	if err := c.send(ctx, domain.Event{Kind: domain.EventBegin, Tx: c.tx}); err != nil {
		return err
	}
	if p != nil {
		delete(c.spools.of, m.XID)
		defer p.Close()
		if err := c.settle(ctx, p); err != nil {
			return err
		}
		if err := c.replay(ctx, p); err != nil {
			return err
		}
	}
	return c.message(ctx, m.Commit, 0)
}

// statusPiece is for how many subtransactions the server is asked at once.
const statusPiece = 10_000

// settle asks the server what became of the subtransactions of a transaction that was
// committed: it does not always say in the stream that one was rolled back (seen of versions
// 14 to 18, of what was rolled back before the server came to decode it).
func (c *capture) settle(ctx context.Context, p *spool) error {
	open := map[string]uint32{}
	for sub, became := range p.subs {
		if became == unknown {
			open[strconv.FormatUint(c.fullXID(sub), 10)] = sub
		}
	}
	for ids := slices.Collect(maps.Keys(open)); len(ids) > 0; {
		piece := ids[:min(len(ids), statusPiece)]
		later := 0
		asking, cancel := context.WithTimeout(ctx, statusLimit)
		rows, err := c.d.pool.Query(asking, "SELECT x, coalesce(pg_xact_status(x::xid8), '') FROM unnest($1::text[]) x",
			piece)
		if err == nil {
			var id, status string
			_, err = pgx.ForEachRow(rows, []any{&id, &status}, func() error {
				switch status {
				case "committed":
					p.subs[open[id]] = committed
				case "aborted":
					p.subs[open[id]] = aborted
				case "in progress": // the commit is in the log, and not yet to be seen
					later++
				default:
					c.d.plain.Store(true)
					return domain.Unavailable(nil, "the source does not know any more whether part of a large transaction was "+
						"rolled back; its log is read without streaming from now on")
				}
				return nil
			})
		}
		cancel()
		if err != nil {
			return c.d.explain(err)
		}
		if later == 0 {
			ids = ids[len(piece):]
		} else {
			time.Sleep(5 * time.Millisecond)
		}
		if err := c.statusIfDue(false); err != nil {
			return err
		}
	}
	return nil
}

// statusLimit bounds one such question.
const statusLimit = 30 * time.Second

func (c *capture) replay(ctx context.Context, p *spool) error {
	n := 0
	return p.Each(func(sub uint32, b []byte) error {
		// What a rolled back subtransaction did to rows never happened; how it described a
		// table holds until the server says otherwise.
		if p.subs[sub] == aborted && b[0] != 'R' {
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
