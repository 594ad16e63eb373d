package mariadb

import (
	"context"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// Two-phase transactions. What one did stands in the log where it was prepared; that it
// happened, or not, stands at some later place. Between the two its rows are kept here. A
// stream that begins between the two looks back in the log for them, so that nothing has to
// be remembered over a restart.
//
// A server that dies while it ends one may have its end in the log, and have it prepared
// again when it is back: the log's end is on the disk before the tables' (seen on MariaDB
// 10.11). Whoever ends it then adds another end to the log, and only the last one is
// true. Its rows were locked all the while, so what it did is exactly carried out again, or
// turned back.

// preparing collects events of a group until it is known what becomes of them: one that ends
// with a prepare, or what comes after a savepoint.
type preparing struct {
	xid  binlog.XID
	rows *kept           // the tables' and rows' events
	ours map[uint64]bool // by the log's number of the table
}

// keep takes an event of the group, if it is of a table that is followed.
func (p *preparing) keep(h binlog.Header, body []byte, ours func(t *binlog.Table) bool) error {
	id, err := binlog.TableID(body)
	if err != nil {
		return err
	}
	if h.Type == binlog.TypeTableMap {
		t, err := new(binlog.Reader).TableMap(body)
		if err != nil {
			return err
		}
		p.ours[id] = ours(t)
	}
	if !p.ours[id] {
		return nil
	}
	return p.rows.keep(h.Type, body)
}

func newPreparing(xid binlog.XID) *preparing {
	return &preparing{xid: xid, rows: &kept{}, ours: map[uint64]bool{}}
}

// ours reports whether a table is followed.
func (c *capture) ours(t *binlog.Table) bool {
	return c.tables[domain.TableName{Schema: t.Database, Name: t.Name}] != nil || t.Database == bookkeeping
}

// prepared takes the group as one that waits for its end.
func (c *capture) prepared(ctx context.Context, end domain.Position) error {
	p := c.preparing
	c.preparing = nil
	c.waiting[p.xid].Close() // of a name that was used before, and whose end was not seen
	c.waiting[p.xid] = p.rows
	return c.over(ctx, end)
}

// ended carries out how a prepared transaction ended.
func (c *capture) ended(ctx context.Context, h binlog.Header, xid binlog.XID, statement string,
	end domain.Position) error {
	committed := commits(statement)
	rows, before := c.waiting[xid], isPrepared
	if rows == nil {
		var err error
		if rows, before, err = c.lookBack(ctx, xid, c.tx.Commit); err != nil {
			return err
		}
	}
	delete(c.waiting, xid)
	defer func() { rows.Close() }()
	if rows == nil && committed {
		return domain.Conflict("the source committed the two-phase transaction %s, whose rows are not in the log that "+
			"it keeps (it was prepared in a part that is removed): restart the crossing to load again, and end prepared "+
			"transactions sooner", xid)
	}
	if rows == nil || !committed && before != wasCommitted {
		return c.over(ctx, end)
	}
	var err error
	switch {
	case before == isPrepared || before == wasRolledBack:
		err = c.replay(ctx, rows)
	case committed:
		err = c.again(ctx, xid, rows)
	default:
		err = c.undo(ctx, xid, rows)
	}
	if err != nil {
		return err
	}
	return c.commit(ctx, h, end)
}

func (c *capture) replay(ctx context.Context, rows *kept) error {
	return rows.each(func(kind binlog.Type, body []byte) error {
		if kind == binlog.TypeQuery {
			return c.unsaid(ctx, nil, string(body))
		}
		return c.content(ctx, kind, slices.Clone(body)) // what is made of it outlives the next
	})
}

// over is the end of a group that changed nothing.
func (c *capture) over(ctx context.Context, end domain.Position) error {
	c.begun = false
	return c.commit(ctx, binlog.Header{}, end)
}

// fate is what the log said last of a two-phase transaction.
type fate int

const (
	unheard fate = iota
	isPrepared
	wasCommitted
	wasRolledBack
)

// commits reports whether the statement that ended a two-phase transaction committed it.
func commits(statement string) bool {
	return strings.HasPrefix(strings.ToUpper(strings.TrimSpace(statement)), "XA COMMIT")
}

// lookBack finds what a transaction did that was prepared before this stream began, whose
// server wrote it there, or that the log ended before: from the file in which its end stands
// back to the first. It says too what the log said last of it.
func (c *capture) lookBack(ctx context.Context, xid binlog.XID, end domain.Position) (*kept, fate, error) {
	first := c.file
	if err := c.d.logFiles(ctx, func(_ string, n uint64, _ int64) { first = min(first, n) }); err != nil {
		return nil, unheard, err
	}
	last := unheard
	for file := c.file; file >= first; file-- {
		rows, said, err := c.preparedIn(ctx, file, xid, end)
		if last == unheard {
			last = said
		}
		if rows != nil || err != nil {
			return rows, last, err
		}
	}
	return nil, last, nil
}

// preparedIn looks through one file of the log for the last preparation under that name, and
// for what the file said last of it.
func (c *capture) preparedIn(ctx context.Context, file uint64, xid binlog.XID, end domain.Position) (*kept, fate,
	error) {
	var found, open *preparing
	said := unheard
	ends := false
	drop := func() {
		for _, p := range []*preparing{found, open} {
			if p != nil {
				p.rows.Close()
			}
		}
		found, open = nil, nil
	}
	err := c.d.walk(ctx, position(file, firstEvent), end, func(h binlog.Header, body []byte, at domain.Position) error {
		switch {
		case at.Number()>>fileBits != file:
			return errEnough
		case h.Type == binlog.TypeGtid:
			g, err := binlog.DecodeGtid(body)
			if err != nil {
				return err
			}
			ends = g.Completed && g.XID == xid && at.Before(end)
			if g.Prepared && g.XID == xid && at.Before(end) {
				drop()
				open = newPreparing(xid)
			}
		case ends && (h.Type == binlog.TypeQuery || h.Type == binlog.TypeQueryCompressed):
			q, err := binlog.DecodeQuery(h.Type, body)
			if err != nil {
				return err
			}
			if ends, said = false, wasRolledBack; commits(q.SQL) {
				said = wasCommitted
			}
		case open != nil && (h.Type == binlog.TypeTableMap || isRows(h.Type)):
			return open.keep(h, body, c.ours)
		case open != nil && (h.Type == binlog.TypeQuery || h.Type == binlog.TypeQueryCompressed):
			q, err := binlog.DecodeQuery(h.Type, body)
			if err != nil {
				return err
			}
			return open.rows.statement(understand(&q), q.SQL)
		case open != nil && h.Type == binlog.TypeXAPrepare:
			found, open, said = open, nil, isPrepared
		}
		return nil
	})
	if open != nil { // its server died while it prepared
		open.rows.Close()
	}
	if err != nil {
		if found != nil {
			found.rows.Close()
		}
		return nil, unheard, err
	}
	if found == nil {
		return nil, said, nil
	}
	return found.rows, said, nil
}

func isRows(t binlog.Type) bool {
	switch t {
	case binlog.TypeWriteRows, binlog.TypeUpdateRows, binlog.TypeDeleteRows, binlog.TypeWriteRowsPacked,
		binlog.TypeUpdateRowsPacked, binlog.TypeDeleteRowsPacked:
		return true
	}
	return false
}

// nameOf is the transaction number by which a snapshot knows a two-phase transaction.
func nameOf(x binlog.XID) uint64 {
	h := fnv.New64a()
	_, _ = fmt.Fprintf(h, "%d %d %s", x.Format, x.Global, x.Data)
	return h.Sum64() | 1 // 0 is no number
}
