package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

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
// any size.
type control struct {
	buf []byte
	err error
}

// feed takes bytes until a message of kind until has passed and returns how
// many it took and whether that was so. A server error is kept in err.
func (c *control) feed(p []byte, until ...byte) (int, byte, error) {
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
		if size < 5 || size > 1<<20 {
			return at, 0, fmt.Errorf("the server sent a control message of %d bytes", size)
		}
		if len(c.buf) < size {
			continue
		}
		kind, body := c.buf[0], c.buf[5:]
		if kind == 'E' && c.err == nil {
			var e pgproto3.ErrorResponse
			if err := e.Decode(body); err != nil {
				return at, 0, err
			}
			c.err = pgconn.ErrorResponseToPgError(&e)
		}
		c.buf = c.buf[:0]
		for _, u := range until {
			if kind == u {
				return at, kind, nil
			}
		}
		if kind == 'Z' {
			return at, kind, nil
		}
	}
	return at, 0, nil
}

// await reads until the wanted message or until the server is ready.
func (w *wire) await(want byte) (byte, error) {
	var c control
	var b [4096]byte
	for {
		n, err := w.on.Read(b[:])
		if err != nil {
			return 0, err
		}
		for at := 0; at < n; {
			took, kind, err := c.feed(b[at:n], want)
			if err != nil {
				return 0, err
			}
			at += took
			if kind == want && want != 'Z' {
				if at != n {
					return 0, errors.New("the server sent more than was asked for")
				}
				return kind, nil
			}
			if kind == 'Z' {
				return kind, c.err
			}
		}
	}
}
