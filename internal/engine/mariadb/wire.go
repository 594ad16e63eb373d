package mariadb

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/resultset"
)

// wire is a connection of our own in the server's protocol (MariaDB documentation,
// "Client/Server Protocol"): rows and the log's events come as the bytes that the
// server sent, without a value made of each.
type wire struct {
	net  *engine.Bulk
	in   *bufio.Reader
	seq  byte
	long []byte // a packet that the reading buffer does not hold
	id   uint32 // of the connection on the server
	kill func(id uint32)
}

const (
	largestAnswer     = 1<<30 + 1<<20 // the greatest max_allowed_packet, and what stands around a value
	largestPacket     = 1<<24 - 1
	commandQuery      = 0x03
	commandPrepare    = 0x16
	commandExecute    = 0x17
	commandForget     = 0x19
	commandBinlogDump = 0x12
)

// setConn replaces the underlying connection.
func (c *wire) setConn(conn net.Conn) {
	c.net = engine.NewBulk(conn)
	c.in = bufio.NewReaderSize(c.net, engine.GatherSize)
}

// packet reads one packet, also one that was sent in several. It is good until
// the next.
func (c *wire) packet() ([]byte, error) {
	c.long = c.long[:0]
	for {
		head, err := c.in.Peek(4)
		if err != nil {
			return nil, err
		}
		n := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
		c.seq = head[3] + 1
		if len(c.long) == 0 && 4+n <= c.in.Size() {
			b, err := c.in.Peek(4 + n)
			if err != nil {
				return nil, err
			}
			_, err = c.in.Discard(4 + n)
			return b[4:], err
		}
		if _, err := c.in.Discard(4); err != nil {
			return nil, err
		}
		from := len(c.long)
		if from+n > largestAnswer {
			return nil, fmt.Errorf("the server sends more than %d bytes as one packet", largestAnswer)
		}
		c.long = slices.Grow(c.long, n)[:from+n]
		if _, err := io.ReadFull(c.in, c.long[from:]); err != nil {
			return nil, err
		}
		if n < largestPacket {
			return c.long, nil
		}
	}
}

// rows runs a statement and hands on the fields of each row as the server's texts;
// nil is NULL. They are good until the next row. After an error of visit, or the
// context's end, the connection is of no more use.
func (c *wire) rows(ctx context.Context, sql string, visit func(fields [][]byte) error) error {
	return c.together(ctx, []string{sql}, func(_ int, fields [][]byte) error { return visit(fields) })
}

// together sends statements at once, so that the server runs them without waiting for us
// between two, and hands on the rows of each. After an error the connection is of no more
// use.
func (c *wire) together(ctx context.Context, statements []string, visit func(i int, fields [][]byte) error) error {
	return c.within(ctx, func() error {
		for _, sql := range statements {
			c.seq = 0
			if err := c.send(append([]byte{commandQuery}, sql...)); err != nil {
				return err
			}
		}
		for i := range statements {
			n, err := c.head(nil)
			if err != nil {
				return err
			}
			if n == 0 {
				continue
			}
			fields := make([][]byte, n)
			if err := c.each(func(row []byte) error {
				if err := resultset.Texts(fields, row); err != nil {
					return err
				}
				return visit(i, fields)
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

// values runs a statement as a prepared one, whose values come in binary form:
// nothing of a float is lost, and neither side makes texts of numbers twice. Each row
// is cut; its texts are visit's to ask for.
func (c *wire) values(ctx context.Context, sql string, visit func(*resultset.Decoder) error) error {
	return c.within(ctx, func() error {
		statement, err := c.prepare(sql, func(resultset.Column) {})
		if err != nil {
			return err
		}
		var d resultset.Decoder
		run := append(append([]byte{commandExecute}, statement...), 0, 1, 0, 0, 0)
		if _, err := c.ask(run, &d); err != nil {
			return err
		}
		err = c.each(func(row []byte) error {
			if err := d.Cut(row); err != nil {
				return err
			}
			return visit(&d)
		})
		if err != nil {
			return err
		}
		return c.forget(statement)
	})
}

// prepared hands on the columns that a statement would give.
func (c *wire) prepared(ctx context.Context, sql string, visit func(resultset.Column)) error {
	return c.within(ctx, func() error {
		_, err := c.prepare(sql, visit)
		return err
	})
}

// prepare has the server parse a statement without parameters, and returns its
// number there.
func (c *wire) prepare(sql string, visit func(resultset.Column)) ([]byte, error) {
	statement, columns, _, err := c.parse(sql)
	if err != nil || columns == 0 {
		return statement, err
	}
	for range columns {
		b, err := c.packet()
		if err != nil {
			return nil, err
		}
		col, err := resultset.ParseColumn(b)
		if err != nil {
			return nil, err
		}
		visit(col)
	}
	_, err = c.packet() // their end
	return statement, err
}

// parse has the server parse a statement, and returns its number there and how many columns and
// parameters it has, whose descriptions follow.
func (c *wire) parse(sql string) (statement []byte, columns, parameters int, err error) {
	c.seq = 0
	if err := c.send(append([]byte{commandPrepare}, sql...)); err != nil {
		return nil, 0, 0, err
	}
	b, err := c.packet()
	switch {
	case err != nil:
		return nil, 0, 0, err
	case len(b) > 0 && b[0] == 0xff:
		return nil, 0, 0, serverSaid(b)
	case len(b) < 9:
		return nil, 0, 0, resultset.ErrShort
	}
	return bytes.Clone(b[1:5]), int(binary.LittleEndian.Uint16(b[5:])), int(binary.LittleEndian.Uint16(b[7:])), nil
}

// forget has the server drop a prepared statement, if there is one; it says nothing to that.
func (c *wire) forget(statement []byte) error {
	if statement == nil {
		return nil
	}
	c.seq = 0
	return c.send(append([]byte{commandForget}, statement...))
}

// idleWires is how many connections wait for a short question.
const idleWires = 2

// briefly asks something short on a connection that waits for it, or on a new one;
// one that turns out to be cut is replaced once. What f begins it ends.
func (d *database) briefly(ctx context.Context, f func(*wire) error) error {
	var c *wire
	select {
	case c = <-d.idle:
	default:
	}
	waited := c != nil
	for {
		if c == nil {
			var err error
			if c, err = d.dial(ctx, append([]string{"max_sort_length = 16384"}, reading...)...); err != nil {
				return err
			}
		}
		err := f(c)
		if err == nil {
			select {
			case d.idle <- c:
			default:
				c.close()
			}
			return nil
		}
		c.close()
		if !waited || ctx.Err() != nil || errors.As(err, new(*mysql.MySQLError)) || errors.As(err, new(*domain.Problem)) {
			return d.explain(err)
		}
		c, waited = nil, false
	}
}

// within ends the connection when the context ends first, and what the server does for it:
// that the connection is gone the server would notice only when it has something to send.
func (c *wire) within(ctx context.Context, f func() error) error {
	stop := context.AfterFunc(ctx, func() {
		c.close()
		if c.kill != nil {
			c.kill(c.id)
		}
	})
	defer stop()
	err := f()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// ask sends a command and reads the head of its answer: how many columns there
// are, none where the answer is no rows.
func (c *wire) ask(command []byte, d *resultset.Decoder) (int, error) {
	c.seq = 0
	if err := c.send(command); err != nil {
		return 0, err
	}
	return c.head(d)
}

func (c *wire) head(d *resultset.Decoder) (int, error) {
	b, err := c.packet()
	switch {
	case err != nil:
		return 0, err
	case len(b) == 0:
		return 0, resultset.ErrShort
	case b[0] == 0xff:
		return 0, serverSaid(b)
	}
	n, _, ok := resultset.Length(b)
	if !ok {
		return 0, resultset.ErrShort
	}
	for range n {
		b, err := c.packet()
		if err != nil {
			return 0, err
		}
		if d != nil {
			col, err := resultset.ParseColumn(b)
			if err != nil {
				return 0, err
			}
			d.Columns = append(d.Columns, col)
		}
	}
	if n > 0 {
		_, err = c.packet()
	}
	return n, err
}

// each hands on the rows that follow.
func (c *wire) each(row func([]byte) error) error {
	for {
		b, err := c.packet()
		switch {
		case err != nil:
			return err
		case len(b) > 0 && b[0] == 0xff:
			return serverSaid(b)
		case len(b) > 0 && b[0] == 0xfe && len(b) < 9:
			return nil
		}
		if err := row(b); err != nil {
			c.close() // what still comes is nobody's
			return err
		}
	}
}

func (c *wire) send(b []byte) error {
	for {
		n := min(len(b), largestPacket)
		head := []byte{byte(n), byte(n >> 8), byte(n >> 16), c.seq}
		if _, err := c.net.Write(append(head, b[:n]...)); err != nil {
			return err
		}
		c.seq++
		if b = b[n:]; n < largestPacket {
			return nil
		}
	}
}

// run sends a statement that gives no rows.
func (c *wire) run(sql string) error {
	_, err := c.ask(append([]byte{commandQuery}, sql...), nil)
	return err
}

func (c *wire) close() { _ = c.net.Close() }
