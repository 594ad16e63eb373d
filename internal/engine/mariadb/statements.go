package mariadb

// What the log holds as statements: the beginning and end of transactions, definitions of
// tables, and whatever a session did not log as rows.

import (
	"context"
	"slices"
	"strings"

	"dustyferry/internal/core/statement"
	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// query handles a statement in the log: the beginning and end of transactions
// without a number, TRUNCATE, and what changes tables.
func (c *capture) query(ctx context.Context, h binlog.Header, body []byte, end domain.Position) error {
	q, err := binlog.DecodeQuery(h.Type, body)
	if err != nil {
		return err
	}
	if c.completing != nil {
		return c.ended(ctx, h, *c.completing, q.SQL, end)
	}
	s := understand(&q)
	if c.preparing != nil {
		return c.preparing.rows.statement(s, q.SQL)
	}
	switch s.Kind {
	case statement.Begin:
		return nil
	case statement.Commit:
		return c.commit(ctx, h, end)
	case statement.Rollback: // its rows of tables without transactions stand, but such tables are not followed
		if err := c.void(ctx); err != nil {
			return err
		}
		return c.commit(ctx, h, end)
	case statement.Savepoint, statement.RollbackTo:
		if c.saved == nil {
			c.saved = newPreparing(binlog.XID{})
		}
		return c.saved.rows.statement(s, q.SQL)
	}
	if !c.inTx { // a server that gives its transactions no numbers
		c.alone, c.tx = true, domain.Tx{Commit: end, At: int64(h.At) * 1e6}
	}
	if err := c.means(ctx, s, &q); err != nil {
		return err
	}
	if !c.alone {
		return nil // it goes on
	}
	return c.commit(ctx, h, end)
}

// means carries out what a statement means for tables that are followed.
func (c *capture) means(ctx context.Context, s statement.Statement, q *binlog.Query) error {
	ran := "the source ran: " + shortened(q.SQL)
	switch s.Kind {
	case statement.Nothing:
		return nil
	case statement.Truncate:
		if c.except != "" && strings.HasSuffix(strings.TrimSpace(q.SQL), strings.TrimSpace(originComment(c.except))) {
			return nil // we brought it
		}
		for _, k := range c.named(s.Tables, q.Database) {
			if err := c.begin(ctx); err != nil {
				return err
			}
			if err := c.emit(ctx, domain.Event{Kind: domain.EventChange, Tx: c.tx, Size: 100,
				Change: domain.Change{Kind: domain.Truncate, Table: k.table.ID, Group: c.group}}); err != nil {
				return err
			}
		}
		return nil
	case statement.Alter:
		for _, k := range c.named(s.Tables, q.Database) {
			if err := c.redefined(ctx, k, ran, q.SQL); err != nil {
				return err
			}
		}
		return nil
	case statement.Replace:
		list := c.named(s.Tables, q.Database)
		if s.Schema != "" {
			list = c.in(s.Schema)
		}
		if len(list) == 0 {
			return nil
		}
		return c.unsaid(ctx, list, ran)
	case statement.Rows:
		ran = "a session changed rows with its log format set to statements, so that the log does not hold the rows (" +
			shortened(q.SQL) + "); sessions that connected before the format was set keep the old one"
		list := c.named(s.Tables, q.Database)
		if len(list) == 0 { // triggers are for us to see only with a right of their own
			ran += ". It names this table not, but may have changed it by a trigger, a view or a routine"
		}
		return c.unsaid(ctx, list, ran)
	}
	return c.unsaid(ctx, nil, "the log holds a statement that is not understood, and may be about this table: "+
		shortened(q.SQL))
}

// named are the followed tables among names that a statement gives.
func (c *capture) named(names []statement.Name, database string) []*captured {
	var out []*captured
	for of, k := range c.tables {
		if slices.ContainsFunc(names, func(n statement.Name) bool {
			if n.Schema == "" {
				n.Schema = database
			}
			return n.Schema == of.Schema && n.Table == of.Name || c.folds && strings.EqualFold(n.Schema, of.Schema) &&
				strings.EqualFold(n.Table, of.Name)
		}) {
			out = append(out, k)
		}
	}
	return inOrder(out)
}

// in are the followed tables of a database.
func (c *capture) in(schema string) []*captured {
	var out []*captured
	for of, k := range c.tables {
		if of.Schema == schema || c.folds && strings.EqualFold(of.Schema, schema) {
			out = append(out, k)
		}
	}
	return inOrder(out)
}

func inOrder(list []*captured) []*captured {
	slices.SortFunc(list, func(a, b *captured) int { return int(a.table.ID - b.table.ID) })
	return list
}

// unsaid tells of tables, or of all, that their rows changed in a way that the log does not
// say.
func (c *capture) unsaid(ctx context.Context, list []*captured, note string) error {
	if list == nil {
		for _, k := range c.tables {
			list = append(list, k)
		}
		list = inOrder(list)
	}
	for _, k := range list {
		if err := c.begin(ctx); err != nil {
			return err
		}
		if err := c.emit(ctx, domain.Event{Kind: domain.EventChange, Tx: c.tx, Size: 100,
			Change: domain.Change{Kind: domain.Unread, Table: k.table.ID, Note: note}}); err != nil {
			return err
		}
	}
	return nil
}

func (c *capture) redefined(ctx context.Context, k *captured, note, statement string) error {
	if err := c.begin(ctx); err != nil {
		return err
	}
	return c.emit(ctx, domain.Event{Kind: domain.EventChange, Tx: c.tx, Size: 100,
		Change: domain.Change{Kind: domain.Redefine, Table: k.table.ID, Note: note, Statement: statement}})
}
