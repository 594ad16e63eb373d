package mariadb

import (
	"context"
	"database/sql"
	"strings"

	"dustyferry/internal/protocol/binlog"
)

// Transactions of ours say in the log whose rows they bring, before their first change, so
// that a capture of this server can tell them from the application's own: each changes a line
// of its session's in a table that is there for nothing else. That needs no rights beyond
// those of the bookkeeping.

// bringing is that table.
const (
	bringing      = "bringing"
	bringingTable = `
CREATE TABLE IF NOT EXISTS dusty_ferry.bringing (
  origin  varchar(200) NOT NULL,
  session bigint unsigned NOT NULL,
  times   bigint unsigned NOT NULL,
  PRIMARY KEY (origin, session)
) ENGINE = InnoDB ROW_FORMAT = DYNAMIC`
)

// markOrigin says within a transaction whose rows it brings.
func markOrigin(ctx context.Context, c *sql.Conn, origin string) error {
	_, err := c.ExecContext(ctx, "INSERT INTO "+bookkeeping+"."+bringing+
		" VALUES (?, connection_id(), 1) ON DUPLICATE KEY UPDATE times = times + 1", origin)
	return err
}

func beginMarked(ctx context.Context, c *sql.Conn, origin string) error {
	for try := 0; ; try++ {
		if _, err := c.ExecContext(ctx, "START TRANSACTION"); err != nil {
			return err
		}
		err := markOrigin(ctx, c, origin)
		if try > 0 || !said(err, erNoTable) {
			return err
		}
		// The bookkeeping was made by a version that had no such table.
		if _, err := c.ExecContext(ctx, bringingTable); err != nil {
			return err
		}
	}
}

// remark says the same at the end of a statement that is a transaction by itself.
func originComment(origin string) string {
	return " /* " + bookkeeping + " brings " + strings.ReplaceAll(origin, "*/", "") + " */"
}

// Origin names the server and the database.
func (d *database) Origin(ctx context.Context) (string, error) {
	var name string
	err := d.pool.QueryRowContext(ctx, "SELECT concat_ws(' ', 'mariadb', @@global.server_id, @@hostname, @@port, "+
		"database())").Scan(&name)
	return name, d.explain(err)
}

// brings reports whether a row of our own table says that the transaction brings rows of
// the origin that is passed over.
func (c *capture) brings(x *binlog.Rows) (bool, error) {
	more, err := x.Next(&c.before, &c.after, &c.text)
	if err != nil || !more {
		return false, err
	}
	for _, row := range [][]binlog.Value{c.before, c.after} {
		if len(row) > 0 && !row[0].Absent {
			return string(row[0].Data) == c.except, nil
		}
	}
	return false, nil
}
