package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// bookkeeping is the database we keep our own tables in.
const bookkeeping = "dusty_ferry"

// bookkeepingTables is what we keep on a target. Positions and marks commit
// together with the rows they speak of, which is what makes restarts exact. A
// session that writes a line notes itself there, so that one that was frozen
// half way can be found and ended.
var bookkeepingTables = []string{
	"CREATE DATABASE IF NOT EXISTS dusty_ferry CHARACTER SET utf8mb4 COLLATE utf8mb4_bin COMMENT 'Bookkeeping of Dusty " +
		"Ferry: what has landed and how far changes are applied. Closing the last crossing removes it.'",
	`
CREATE TABLE IF NOT EXISTS dusty_ferry.chunk_mark (
  crossing varchar(64) NOT NULL,
  chunk    bigint NOT NULL,
  epoch    bigint NOT NULL,
  landed   boolean NOT NULL,
  snapshot longtext NOT NULL DEFAULT '',
  count    bigint NOT NULL DEFAULT 0,
  bytes    bigint NOT NULL DEFAULT 0,
  hash     bigint NOT NULL DEFAULT 0,
  session  bigint unsigned NOT NULL DEFAULT 0,
  at       timestamp(6) NOT NULL DEFAULT current_timestamp(6),
  PRIMARY KEY (crossing, chunk)
) ENGINE = InnoDB ROW_FORMAT = DYNAMIC`, `
CREATE TABLE IF NOT EXISTS dusty_ferry.stream (
  crossing  varchar(64) NOT NULL PRIMARY KEY,
  epoch     bigint NOT NULL,
  position  bigint unsigned NOT NULL,
  committed bigint NOT NULL DEFAULT 0,
  waymark   text NOT NULL DEFAULT '',
  session   bigint unsigned NOT NULL DEFAULT 0,
  at        timestamp(6) NOT NULL DEFAULT current_timestamp(6)
) ENGINE = InnoDB ROW_FORMAT = DYNAMIC`, bringingTable, touchedRows,
}

// said reports whether the server answered with one of the error numbers.
func said(err error, numbers ...uint16) bool {
	var se *mysql.MySQLError
	if !errors.As(err, &se) {
		return false
	}
	for _, n := range numbers {
		if se.Number == n {
			return true
		}
	}
	return false
}

// Numbers of the server's errors.
const (
	erLockWait = 1205 // a lock was not got in time
	erDeadlock = 1213
	erNoThread = 1094
	erNoTable  = 1146
)

// session opens a connection with settings of its own, which end with it: it
// does not go back to the pool.
func (d *database) session(ctx context.Context, settings ...string) (*sql.Conn, error) {
	conn, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, d.explain(err)
	}
	for _, s := range settings {
		if _, err := conn.ExecContext(ctx, "SET SESSION "+s); err != nil {
			drop(conn)
			return nil, d.explain(err)
		}
	}
	return conn, nil
}

// drop ends a connection, and with it whatever is open on it.
func drop(conn *sql.Conn) {
	_ = conn.Raw(func(any) error { return errDrop })
	_ = conn.Close()
}

// kill ends a connection on the server, with what it is doing. A user may end its own. It
// does not wait.
func (d *database) kill(id uint32) {
	if id == 0 {
		return
	}
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_, _ = d.pool.ExecContext(ctx, "KILL "+strconv.FormatUint(uint64(id), 10))
	}()
}

// endsWith has a session's statement end on the server when the context does, until the
// function returned is called.
func (d *database) endsWith(ctx context.Context, conn *sql.Conn) (func() bool, error) {
	var id uint32
	if err := conn.QueryRowContext(ctx, "SELECT connection_id()").Scan(&id); err != nil {
		return nil, d.explain(err)
	}
	return context.AfterFunc(ctx, func() { d.kill(id) }), nil
}

// landing is how sessions that write to the target are set: what foreign keys and
// gaps between keys would do was done on the source.
var landing = []string{"TRANSACTION ISOLATION LEVEL READ COMMITTED", "foreign_key_checks = 0"}

// transaction runs f in a transaction on a session of its own.
func (d *database) transaction(ctx context.Context, f func(*sql.Conn) error, settings ...string) error {
	conn, err := d.session(ctx, append(settings, landing...)...)
	if err != nil {
		return err
	}
	defer drop(conn)
	if _, err := conn.ExecContext(ctx, "START TRANSACTION"); err != nil {
		return d.explain(err)
	}
	if err := f(conn); err != nil {
		return d.explain(err)
	}
	_, err = conn.ExecContext(ctx, "COMMIT")
	return d.explain(err)
}

// fenced runs a short transaction on one line of our bookkeeping, which a process
// that is frozen or cut off may hold; after a moment it ends that process's
// session. The holder's number is read from the very line, uncommitted as it is.
func (d *database) fenced(ctx context.Context, table, line string, f func(*sql.Conn) error) error {
	for try := 0; ; try++ {
		err := d.transaction(ctx, f, "innodb_lock_wait_timeout = 2")
		if err == nil || !said(err, erLockWait, erDeadlock) || try >= 4 {
			return err
		}
		conn, err := d.session(ctx, "TRANSACTION ISOLATION LEVEL READ UNCOMMITTED")
		if err != nil {
			return err
		}
		var holder uint64
		err = conn.QueryRowContext(ctx, "SELECT session FROM dusty_ferry."+table+" WHERE "+line).Scan(&holder)
		if err == nil && holder != 0 {
			_, err = conn.ExecContext(ctx, fmt.Sprintf("KILL %d", holder))
		}
		drop(conn)
		if err != nil && !errors.Is(err, sql.ErrNoRows) && !said(err, erNoThread) {
			return d.explain(err)
		}
	}
}

func markLine(crossing string, chunk int64) string {
	return fmt.Sprintf("crossing = '%s' AND chunk = %d", escape.Replace(crossing), chunk)
}

func streamLine(crossing string) string {
	return fmt.Sprintf("crossing = '%s'", escape.Replace(crossing))
}

// Fence raises the chunk's epoch on the target. After it, a holder with a lower
// epoch cannot land the chunk.
func (d *database) Fence(ctx context.Context, crossing string, chunk, epoch int64) (*engine.Mark, error) {
	m := engine.Mark{Crossing: crossing, Chunk: chunk}
	var landed bool
	var snapshot string
	var hash int64
	line := markLine(crossing, chunk)
	err := d.fenced(ctx, "chunk_mark", line, func(c *sql.Conn) error {
		if _, err := c.ExecContext(ctx, `
INSERT INTO dusty_ferry.chunk_mark (crossing, chunk, epoch, landed, session) VALUES (?, ?, ?, false, connection_id())
ON DUPLICATE KEY UPDATE epoch = IF(landed, epoch, greatest(epoch, VALUES(epoch))), session = connection_id()`, crossing,
			chunk, epoch); err != nil {
			return err
		}
		return c.QueryRowContext(ctx, "SELECT epoch, landed, snapshot, count, bytes, hash FROM dusty_ferry.chunk_mark WHERE "+
			line).
			Scan(&m.Epoch, &landed, &snapshot, &m.Sum.Rows, &m.Sum.Bytes, &hash)
	})
	if err != nil || !landed {
		return nil, err
	}
	m.Sum = rowhash.Sum{Rows: m.Sum.Rows, Bytes: m.Sum.Bytes, Hash: uint64(hash)}
	m.Snapshot, err = domain.ParseSnapshot(snapshot)
	return &m, err
}

// mark notes a landed chunk in the open transaction.
func mark(ctx context.Context, c *sql.Conn, m engine.Mark) error {
	if _, err := c.ExecContext(ctx, `
INSERT INTO dusty_ferry.chunk_mark (crossing, chunk, epoch, landed, session) VALUES (?, ?, ?, false, connection_id())
ON DUPLICATE KEY UPDATE session = connection_id()`, m.Crossing, m.Chunk, m.Epoch); err != nil {
		return err
	}
	res, err := c.ExecContext(ctx, `
UPDATE dusty_ferry.chunk_mark
   SET epoch = ?, landed = true, snapshot = ?, count = ?, bytes = ?, hash = ?, at = current_timestamp(6)
 WHERE crossing = ? AND chunk = ? AND NOT landed AND epoch <= ?`,
		m.Epoch, m.Snapshot.JSON(), m.Sum.Rows, m.Sum.Bytes, int64(m.Sum.Hash), m.Crossing, m.Chunk, m.Epoch)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n != 1 {
		return errors.Join(err, domain.ErrTakenOver)
	}
	return nil
}

// Marked lists the chunks of a crossing that have landed.
func (d *database) Marked(ctx context.Context, crossing string) (map[int64]bool, error) {
	rows, err := d.pool.QueryContext(ctx, "SELECT chunk FROM dusty_ferry.chunk_mark WHERE crossing = ? AND landed",
		crossing)
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	out := map[int64]bool{}
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, d.explain(err)
		}
		out[id] = true
	}
	return out, d.explain(rows.Err())
}

// TakeStream makes epoch the only one that can commit applied changes.
func (d *database) TakeStream(ctx context.Context, crossing string, epoch int64,
	start domain.Position) (domain.Position, error) {
	var at uint64
	var now int64
	line := streamLine(crossing)
	err := d.fenced(ctx, "stream", line, func(c *sql.Conn) error {
		if _, err := c.ExecContext(ctx, `
INSERT INTO dusty_ferry.stream (crossing, epoch, position, session) VALUES (?, ?, ?, connection_id())
ON DUPLICATE KEY UPDATE epoch = greatest(epoch, VALUES(epoch)), session = connection_id()`, crossing, epoch,
			start.Number()); err != nil {
			return err
		}
		return c.QueryRowContext(ctx, "SELECT epoch, position FROM dusty_ferry.stream WHERE "+line).Scan(&now, &at)
	})
	if err == nil && now != epoch {
		return domain.Position{}, domain.ErrTakenOver
	}
	return domain.PositionAt(at), err
}

// StreamAt reads how far changes are applied.
func (d *database) StreamAt(ctx context.Context, crossing string) (domain.Position, string, error) {
	var at uint64
	var portable string
	err := d.pool.QueryRowContext(ctx, "SELECT position, waymark FROM dusty_ferry.stream WHERE crossing = ?",
		crossing).Scan(&at, &portable)
	return domain.PositionAt(at), portable, d.explain(err)
}

// MoveStream says the applied place anew.
func (d *database) MoveStream(ctx context.Context, crossing string, epoch int64, to domain.Position) error {
	return d.fenced(ctx, "stream", streamLine(crossing), func(c *sql.Conn) error {
		res, err := c.ExecContext(ctx, "UPDATE dusty_ferry.stream SET position = ?, session = connection_id(), at = "+
			"current_timestamp(6) WHERE crossing = ? AND epoch = ?",
			to.Number(), crossing, epoch)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n != 1 {
			return errors.Join(err, domain.ErrTakenOver)
		}
		return nil
	})
}

// ForgetStream removes the crossing's applied position.
func (d *database) ForgetStream(ctx context.Context, crossing string) error {
	return d.fenced(ctx, "stream", streamLine(crossing), func(c *sql.Conn) error {
		_, err := c.ExecContext(ctx, "DELETE FROM dusty_ferry.stream WHERE crossing = ?", crossing)
		return err
	})
}

// Forget removes the crossing's bookkeeping, and all of it with the last one.
func (d *database) Forget(ctx context.Context, crossing string) error {
	var there, others bool
	if err := d.pool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM information_schema.tables WHERE table_schema = "+
		"? AND table_name = 'stream')", bookkeeping).Scan(&there); err != nil || !there {
		return d.explain(err)
	}
	for _, q := range []string{"DELETE FROM dusty_ferry.chunk_mark WHERE crossing = ?",
		"DELETE FROM dusty_ferry.stream WHERE crossing = ?", "DELETE FROM dusty_ferry.touched WHERE crossing = ?"} {
		// A version before made no table of what was touched.
		if _, err := d.pool.ExecContext(ctx, q, crossing); err != nil && !said(err, erNoTable) {
			return d.explain(err)
		}
	}
	if err := d.pool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM dusty_ferry.chunk_mark) OR EXISTS (SELECT 1 "+
		"FROM dusty_ferry.stream)").Scan(&others); err != nil || others {
		return d.explain(err)
	}
	_, err := d.pool.ExecContext(ctx, "DROP DATABASE IF EXISTS dusty_ferry")
	return d.explain(err)
}

// SetSequences moves the numbering of columns that the target numbers.
func (d *database) SetSequences(ctx context.Context, values []engine.SequenceValue) error {
	can := map[[2]string]bool{} // table and column, in the one database that this is
	rows, err := d.pool.QueryContext(ctx, "SELECT table_name, column_name FROM information_schema.columns WHERE "+
		"table_schema = ? AND extra LIKE '%auto_increment%'", d.end.Database)
	if err != nil {
		return d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var x [2]string
		if err := rows.Scan(&x[0], &x[1]); err != nil {
			return d.explain(err)
		}
		can[x] = true
	}
	if err := rows.Err(); err != nil {
		return d.explain(err)
	}
	for _, v := range values {
		t := v.Sequence.OwnedBy
		next := v.Last
		if v.Called {
			next++
		}
		if !can[[2]string{t.Name, v.Sequence.OwnedColumn}] || next < 1 {
			continue
		}
		if _, err := d.pool.ExecContext(ctx, fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %d", qualified(t),
			next)); err != nil {
			return fmt.Errorf("setting the numbering of %s: %w", t, d.explain(err))
		}
	}
	return nil
}

// ClearTable forgets the table's marks, and then empties it. An interruption
// between the two is mended by clearing again: the ledger takes the table's
// chunks up only after this has come back.
func (d *database) ClearTable(ctx context.Context, crossing, origin string, p *domain.TablePlan, chunks []int64) error {
	for len(chunks) > 0 {
		n := min(len(chunks), 5000)
		list := strings.Trim(strings.ReplaceAll(fmt.Sprint(chunks[:n]), " ", ", "), "[]")
		if _, err := d.pool.ExecContext(ctx, "UPDATE dusty_ferry.chunk_mark SET landed = false WHERE crossing = ? "+
			"AND chunk IN ("+list+")", crossing); err != nil {
			return d.explain(err)
		}
		chunks = chunks[n:]
	}
	conn, err := d.session(ctx, landing...)
	if err != nil {
		return err
	}
	defer drop(conn)
	_, err = conn.ExecContext(ctx, "TRUNCATE TABLE "+qualified(p.Target)+originComment(origin))
	return d.explain(err)
}
