package postgres

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"dustyferry/internal/engine"
)

// feed reads the messages of a replication stream. A row of the log may be as large as the
// server can make one: its message lies in memory once, and never where it is kept in a file
// anyway.
// Source: PostgreSQL documentation, "Message Flow", "COPY Operations", and "Message Formats".
type feed struct {
	hc   *pgconn.HijackedConn
	in   *bufio.Reader
	skip int    // bytes of the last message that still lie in the reader
	buf  []byte // of messages larger than the reader
	idle func() error
	stop func() bool
}

// feedSize is how much is read at a time, and maxMessage more than any message can be:
// the server's rows have at most a gigabyte, as text twice that.
const (
	feedSize   = 64 << 10
	maxMessage = 1<<31 - 1
)

// takeFeed takes the raw connection, which must be idle. A cancelled context ends every wait.
// While nothing comes, and while much of one message does, idle is called about once a second.
func takeFeed(ctx context.Context, conn *pgconn.PgConn) (*feed, error) {
	if err := conn.SyncConn(ctx); err != nil {
		return nil, err
	}
	hc, err := conn.Hijack()
	if err != nil {
		return nil, err
	}
	return &feed{hc: hc, in: bufio.NewReaderSize(hc.Conn, feedSize), idle: func() error { return nil }}, nil
}

// under makes the context end every wait from here on.
func (f *feed) under(ctx context.Context) {
	if f.stop != nil {
		f.stop()
	}
	_ = f.hc.Conn.SetDeadline(time.Time{})
	f.stop = context.AfterFunc(ctx, func() { _ = f.hc.Conn.SetDeadline(time.Unix(1, 0)) })
}

func (f *feed) close() {
	if f.stop != nil {
		f.stop()
	}
	_ = f.hc.Conn.SetDeadline(time.Now().Add(closeGrace))
	f.hc.Frontend.Send(&pgproto3.Terminate{})
	_ = f.hc.Frontend.Flush()
	_ = f.hc.Conn.Close()
}

func (f *feed) send(m pgproto3.FrontendMessage) error {
	f.hc.Frontend.Send(m)
	return f.hc.Frontend.Flush()
}

// wait lets the next read end after a while.
func (f *feed) wait(ctx context.Context) error {
	if err := f.hc.Conn.SetReadDeadline(time.Now().Add(statusEvery / 2)); err != nil {
		return err
	}
	return ctx.Err() // cancelled since: the deadline that ended the wait was overwritten
}

// passed says whether a read that failed is to be tried again.
func (f *feed) passed(ctx context.Context, err error) error {
	var late net.Error
	if !errors.As(err, &late) || !late.Timeout() {
		if errors.Is(err, io.EOF) {
			return fmt.Errorf("%w: the server closed the connection", io.ErrUnexpectedEOF)
		}
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return f.idle()
}

// peek returns the next n bytes, at most feedSize, which stay unread.
func (f *feed) peek(ctx context.Context, n int) ([]byte, error) {
	for {
		if f.in.Buffered() < n {
			if err := f.wait(ctx); err != nil {
				return nil, err
			}
		}
		b, err := f.in.Peek(n)
		if err == nil {
			return b, nil
		}
		if err := f.passed(ctx, err); err != nil {
			return nil, err
		}
	}
}

// head returns the next message's kind and the length of its body, which is unread.
func (f *feed) head(ctx context.Context) (kind byte, size int, err error) {
	if _, err := f.in.Discard(f.skip); err != nil {
		return 0, 0, err
	}
	f.skip = 0
	b, err := f.peek(ctx, 5)
	if err != nil {
		return 0, 0, err
	}
	kind, size = b[0], int(binary.BigEndian.Uint32(b[1:]))-4
	if size < 0 || size > maxMessage {
		return 0, 0, fmt.Errorf("the server sent a message of %d bytes, which none can have", size)
	}
	_, err = f.in.Discard(5)
	return kind, size, err
}

// body reads a message's body. It is good until the next message, unless it is as large as
// [engine.OwnFrom]: then it is the caller's.
func (f *feed) body(ctx context.Context, size int) ([]byte, error) {
	if size <= feedSize {
		b, err := f.peek(ctx, size)
		f.skip = len(b)
		return b, err
	}
	b := f.buf
	if size >= engine.OwnFrom {
		b = nil
	}
	if cap(b) < size {
		b = make([]byte, size)
	}
	b = b[:size]
	if size < engine.OwnFrom {
		f.buf = b
	}
	_, err := io.ReadFull(f.reader(ctx, size), b)
	return b, err
}

// reader reads the next n bytes.
func (f *feed) reader(ctx context.Context, n int) io.Reader {
	return &feedReader{f: f, ctx: ctx, left: n}
}

type feedReader struct {
	f    *feed
	ctx  context.Context
	left int
}

func (r *feedReader) Read(p []byte) (int, error) {
	if r.left == 0 {
		return 0, io.EOF
	}
	for {
		if r.f.in.Buffered() == 0 {
			if err := r.f.wait(r.ctx); err != nil {
				return 0, err
			}
		}
		n, err := r.f.in.Read(p[:min(len(p), r.left)])
		r.left -= n
		if n > 0 {
			return n, r.f.idle() // the server hears from us however large the message is
		}
		if err == nil {
			err = os.ErrDeadlineExceeded
		}
		if err := r.f.passed(r.ctx, err); err != nil {
			return 0, err
		}
	}
}
