package mariadb

import (
	"context"
	"fmt"
	"slices"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// What becomes of a two-phase transaction whose end the log says a second time.

// mending is under way while a transaction that the log has committed before is carried out
// once more, or turned back.
type mending struct {
	back bool
	note string
	told []*captured // tables of which it was said that they must be loaded again
}

// again carries a transaction out a second time, for those who read its rows while it was
// prepared again.
func (c *capture) again(ctx context.Context, xid binlog.XID, rows *kept) error {
	c.mend = &mending{note: fmt.Sprintf("the source's server died while it committed the two-phase transaction %s, "+
		"which was committed once more", xid)}
	defer func() { c.mend = nil }()
	return c.replay(ctx, rows)
}

// undo turns back what a transaction did.
func (c *capture) undo(ctx context.Context, xid binlog.XID, rows *kept) error {
	c.mend = &mending{back: true, note: fmt.Sprintf("the source's server died while it committed the two-phase "+
		"transaction %s, which was rolled back afterwards although the log says that it was committed", xid)}
	defer func() { c.mend = nil }()
	return rows.back(func(kind binlog.Type, table, body []byte) error {
		if kind == binlog.TypeQuery {
			return c.unsaid(ctx, nil, string(body))
		}
		if err := c.content(ctx, binlog.TypeTableMap, slices.Clone(table)); err != nil {
			return err
		}
		return c.content(ctx, kind, body)
	})
}

// mended hands on a row event's changes as they mend what was done. Where that is not sure to
// end right, the table is told of instead: rows without a key may not have been done at all
// by a chunk that was read in between, and what foreign keys took along is in no log.
func (c *capture) mended(ctx context.Context, k *captured, list []domain.Event) error {
	for i := range list {
		ch := &list[i].Change
		sure := len(k.key) > 0
		if c.mend.back {
			for _, child := range c.takenAlong(k, ch) {
				if err := c.tell(ctx, child); err != nil {
					return err
				}
			}
			sure = turn(ch) && sure
		}
		if !sure {
			return c.tell(ctx, k)
		}
	}
	if c.mend.back {
		slices.Reverse(list)
	}
	for _, e := range list {
		if err := c.emit(ctx, e); err != nil {
			return err
		}
	}
	return nil
}

// tell says of a table, once, that its rows may differ.
func (c *capture) tell(ctx context.Context, k *captured) error {
	if slices.Contains(c.mend.told, k) {
		return nil
	}
	c.mend.told = append(c.mend.told, k)
	return c.unsaid(ctx, []*captured{k}, c.mend.note)
}

// turn makes of a change the one that takes it back; not ok: the log does not hold enough.
func turn(ch *domain.Change) (ok bool) {
	switch ch.Kind {
	case domain.Insert:
		ch.Kind, ch.Old, ch.New, ch.OldWhole = domain.Delete, ch.New, nil, true
		return true
	case domain.Delete:
		ch.Kind, ch.Old, ch.New, ok = domain.Insert, nil, ch.Old, ch.OldWhole
	case domain.Update:
		ch.Old, ch.New, ok = ch.New, ch.Old, ch.OldWhole && !ch.Unsure
	}
	return ok
}

// takenAlong are the tables whose rows foreign keys took along with a change, and with those
// rows in turn.
func (c *capture) takenAlong(k *captured, ch *domain.Change) (out []*captured) {
	if ch.Unchecked || ch.Kind == domain.Insert {
		return nil
	}
	cols := k.table.Plan.CopiedColumns()
	differs := func(name string) bool {
		i := slices.IndexFunc(cols, func(c domain.Column) bool { return c.Name == name })
		return i < 0 || ch.Old[i].Kind != ch.New[i].Kind || string(ch.Old[i].Data) != string(ch.New[i].Data)
	}
	out = c.referring(k, func(f *domain.Constraint) bool {
		if ch.Kind == domain.Delete {
			return f.RuleOn("DELETE") != ""
		}
		return f.RuleOn("UPDATE") != "" && slices.ContainsFunc(f.ReferenceColumns, differs)
	})
	for i := 0; i < len(out); i++ {
		for _, next := range c.referring(out[i], func(f *domain.Constraint) bool { return f.Rules != "" }) {
			if !slices.Contains(out, next) {
				out = append(out, next)
			}
		}
	}
	return out
}

// referring are the tables with such a foreign key to a table.
func (c *capture) referring(k *captured, such func(f *domain.Constraint) bool) (out []*captured) {
	for _, child := range c.tables {
		if slices.ContainsFunc(child.table.Plan.Table.Constraints, func(f domain.Constraint) bool {
			return f.Kind == "foreign" && f.Unlogged && f.References == k.table.Plan.Source && such(&f)
		}) {
			out = append(out, child)
		}
	}
	return inOrder(out)
}
