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

// preparing collects events of a group until it is known what becomes of them: one that ends
// with a prepare, or what comes after a savepoint.
type preparing struct {
	xid  binlog.XID
	rows *kept           // the tables' and rows' events
	ours map[uint64]bool // by the log's number of the table
}

// keep takes an event of the group, if it is of a table that is followed.
func (p *preparing) keep(h binlog.Header, body []byte, ours func(t *binlog.Table) bool) error {
	if len(body) < 6 {
		return binlog.ErrShort
	}
	var id uint64
	for i := range 6 {
		id |= uint64(body[i]) << (8 * i)
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
	rows := c.waiting[xid]
	delete(c.waiting, xid)
	defer func() { rows.Close() }()
	if !strings.HasPrefix(strings.ToUpper(strings.TrimSpace(statement)), "XA COMMIT") {
		return c.over(ctx, end)
	}
	if rows == nil {
		var err error
		if rows, err = c.lookBack(ctx, xid, c.tx.Commit); err != nil {
			return err
		}
	}
	if err := c.replay(ctx, rows); err != nil {
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

// lookBack finds what a transaction did that was prepared before this stream began, or
// whose server wrote it there: from the file in which its end stands back to the first.
func (c *capture) lookBack(ctx context.Context, xid binlog.XID, end domain.Position) (*kept, error) {
	first := c.file
	if err := c.d.logFiles(ctx, func(_ string, n uint64, _ int64) { first = min(first, n) }); err != nil {
		return nil, err
	}
	for file := c.file; file >= first; file-- {
		rows, err := c.preparedIn(ctx, file, xid, end)
		if rows != nil || err != nil {
			return rows, err
		}
	}
	return nil, domain.Conflict("the source committed the two-phase transaction %s, whose rows are not in the log that "+
		"it keeps (it was prepared in a part that is removed, or said to be rolled back before a crash): restart the "+
		"crossing to load again, and end prepared transactions sooner", xid)
}

// preparedIn looks through one file of the log for the last preparation under that name,
// unless it has ended there as well.
func (c *capture) preparedIn(ctx context.Context, file uint64, xid binlog.XID, end domain.Position) (*kept, error) {
	var found, open *preparing
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
			if (g.Prepared || g.Completed) && g.XID == xid && at.Before(end) {
				drop()
			}
			if g.Prepared && g.XID == xid {
				open = newPreparing(xid)
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
			found, open = open, nil
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
		return nil, err
	}
	if found == nil {
		return nil, nil
	}
	return found.rows, nil
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
