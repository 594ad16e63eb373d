package postgres

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// blockSize is how much row data moves at a time: large enough that system
// calls do not count, small enough that a lane holds little.
const blockSize = engine.GatherSize

// wire is a connection taken out of pgx's hands while row data flows over it.
type wire struct {
	hc   *pgconn.HijackedConn
	on   *engine.Bulk
	stop func() bool
}

// takeWire takes the raw connection. It must be idle. While it is out, a
// cancelled context cuts it.
func takeWire(ctx context.Context, conn *pgconn.PgConn) (*wire, error) {
	// The driver may still read in the background after a slow write; what it has read, or
	// will, would be lost to us.
	if err := conn.SyncConn(ctx); err != nil {
		return nil, err
	}
	hc, err := conn.Hijack()
	if err != nil {
		return nil, err
	}
	w := &wire{hc: hc, on: engine.NewBulk(hc.Conn)}
	w.stop = context.AfterFunc(ctx, w.on.CallOff)
	return w, nil
}

// giveBack returns the connection to pgx. The server must be ready for a query.
func (w *wire) giveBack() (*pgconn.PgConn, error) {
	if !w.stop() {
		_ = w.on.Close()
		return nil, context.Canceled
	}
	w.on.Plain()
	w.hc.Conn = w.on.Conn
	return pgconn.Construct(w.hc)
}

func (w *wire) cut() {
	w.stop()
	_ = w.on.Close()
}

func (w *wire) query(sql string) error {
	b := binary.BigEndian.AppendUint32([]byte{'Q'}, uint32(len(sql)+5))
	_, err := w.on.Write(append(append(b, sql...), 0))
	return err
}

// control reads the messages around row data, which are small, from pieces of
// any size. It knows the messages that may come there; any other is an error, as what it
// means for the rows is not known.
type control struct {
	buf  []byte
	err  error
	rows int64 // what the server says it copied
	told bool  // and it did say so

	before bool // statements come before the COPY, which answer first
}

// feed takes bytes until one message has passed, and returns how many it took and the
// message's kind, 0 when it is not whole yet. A server's error is kept in err.
func (c *control) feed(p []byte) (int, byte, error) {
	at := 0
	for at < len(p) {
		need := 5 - len(c.buf)
		if need <= 0 {
			need = int(binary.BigEndian.Uint32(c.buf[1:5])) + 1 - len(c.buf)
		}
		n := min(need, len(p)-at)
		c.buf = append(c.buf, p[at:at+n]...)
		at += n
		if len(c.buf) < 5 {
			continue
		}
		size := int(binary.BigEndian.Uint32(c.buf[1:5])) + 1
		if size < 5 || size > maxControl {
			return at, 0, fmt.Errorf("the server sent a control message of %d bytes", size)
		}
		if len(c.buf) < size {
			continue
		}
		kind, body := c.buf[0], c.buf[5:]
		c.buf = c.buf[:0]
		return at, kind, c.message(kind, body)
	}
	return at, 0, nil
}

// maxControl bounds a message that is not row data; a notice holds what a function put into it.
const maxControl = 64 << 20

// message understands one message, or refuses it.
// Source: PostgreSQL documentation, "Message Formats".
func (c *control) message(kind byte, body []byte) error {
	if c.before {
		switch kind {
		case 'T', 'D', 'C': // what they gave, and that they are done
			return nil
		case 'G':
			c.before = false
		}
	}
	switch kind {
	case 'N', 'S', 'A': // notices, settings and notifications come at any time and end nothing
	case 'G', 'H', 'c', 'Z': // a copy begins, its data is over, the server is ready
	case 'C':
		tag, _, _ := bytes.Cut(body, []byte{0})
		n, err := strconv.ParseInt(strings.TrimPrefix(string(tag), "COPY "), 10, 64)
		if err != nil {
			return fmt.Errorf("the server ended a COPY by saying %q", tag)
		}
		c.rows, c.told = n, true
	case 'E':
		if c.err != nil {
			break
		}
		var e pgproto3.ErrorResponse
		if err := e.Decode(body); err != nil {
			return err
		}
		c.err = pgconn.ErrorResponseToPgError(&e)
	default:
		return fmt.Errorf("the server sent a message of the kind %q amid a COPY", kind)
	}
	return nil
}

// copied is the outcome of a COPY that is over: the server must have counted as many rows as
// passed here.
func (c *control) copied(rows int64) error {
	switch {
	case c.err != nil:
		return c.err
	case !c.told:
		return errors.New("the server ended a COPY without saying how many rows it copied")
	case c.rows != rows:
		return fmt.Errorf("the server says that it copied %d rows, but %d passed", c.rows, rows)
	}
	return nil
}

// hearing reads what the server says while it takes row data: it may send notices without
// end, as from triggers, and stops taking rows when nobody reads them.
type hearing struct {
	done chan struct{}
	ctl  control
	err  error
}

// hear begins to read until the server is ready for the next statement. Statements may stand
// before the COPY. Rows can be sent at once: a server that does not come to take them drops them
// (PostgreSQL documentation, "COPY Operations").
func (w *wire) hear() *hearing {
	h := &hearing{done: make(chan struct{}), ctl: control{before: true}}
	go func() {
		defer close(h.done)
		defer domain.Recover("hearing what the target answers", &h.err)
		var b [4096]byte
		for {
			n, err := w.on.Read(b[:])
			if err != nil {
				h.err = err
				return
			}
			for at := 0; at < n; {
				took, kind, err := h.ctl.feed(b[at:n])
				if err != nil {
					h.err = err
					return
				}
				at += took
				if kind == 'Z' {
					return
				}
			}
		}
	}()
	return h
}

// failed is the server's error so far, after the wire could not be written.
func (h *hearing) failed() error {
	select {
	case <-h.done:
		return h.ctl.err
	case <-time.After(closeGrace):
		return nil
	}
}

// over reports whether the server has ended the COPY by itself.
func (h *hearing) over() bool {
	select {
	case <-h.done:
		return true
	default:
		return false
	}
}

// end waits for the outcome of a COPY of so many rows.
func (h *hearing) end(rows int64) error {
	<-h.done
	if h.err != nil {
		return h.err
	}
	return h.ctl.copied(rows)
}
