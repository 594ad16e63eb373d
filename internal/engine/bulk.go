package engine

import (
	"errors"
	"io"
	"net"
	"os"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"
)

// A server sends row data in small pieces. Woken for each, a lane would spend its time on
// system calls; so the kernel wakes it for GatherSize bytes, or after gatherWait for less.
// While it does not wait, the kernel need not tell of anything before quietSize bytes.
const (
	GatherSize = 256 << 10
	gatherWait = 4 * time.Millisecond
	quietSize  = 2 << 20
)

// Bulk is a connection for much data. Its reads can be told to wait for more than the next
// piece (SO_RCVLOWAT of socket(7)). And the scheduler is not told of its system calls:
// none of them waits, as sockets of this runtime are non-blocking, yet each takes as long
// to move its bytes as the scheduler grants a call that might; taking its processor away
// and finding another cost a third of the whole. A connection that is no socket of its own,
// as under TLS, reads and writes as ever.
type Bulk struct {
	net.Conn
	raw    syscall.RawConn // nil: no socket of its own
	gather bool
	little bool        // the last gathered read took all that was there
	over   atomic.Bool // a deadline in the past was set: whoever waits is called off
}

// NewBulk takes a connection.
func NewBulk(conn net.Conn) *Bulk {
	b := &Bulk{Conn: conn}
	if c, ok := conn.(syscall.Conn); ok {
		if raw, err := c.SyscallConn(); err == nil {
			b.raw = raw
		}
	}
	return b
}

// Gather lets reads wait for more from now on.
func (b *Bulk) Gather() {
	if b.raw != nil && !b.gather {
		b.gather = true
		_ = b.raw.Control(func(fd uintptr) { wakeAt(fd, quietSize) })
	}
}

// Plain lets reads return what is there again.
func (b *Bulk) Plain() {
	if b.gather {
		b.gather, b.little = false, false
		_ = b.raw.Control(func(fd uintptr) { wakeAt(fd, 1) })
	}
}

// wakeAt sets how many bytes must have come before the kernel tells of them. If they
// have, it tells at once.
func wakeAt(fd uintptr, size int) {
	_ = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_RCVLOWAT, size)
}

// CallOff ends reads and writes, those under way too, from any goroutine.
func (b *Bulk) CallOff() {
	b.over.Store(true)
	_ = b.SetDeadline(time.Unix(1, 0))
}

// Read reads what has come, at least a byte.
func (b *Bulk) Read(p []byte) (n int, err error) {
	switch {
	case b.raw == nil || len(p) == 0:
		return b.Conn.Read(p)
	case !b.gather:
		n, err = b.direct("read", b.raw.Read, syscall.SYS_READ, p, inTime)
	default:
		n, err = b.gathered(p)
	}
	if n == 0 && err == nil {
		err = io.EOF
	}
	return n, err
}

// gathered reads what is there already, unless the read before has just taken it, and
// waits when that is nothing.
func (b *Bulk) gathered(p []byte) (n int, err error) {
	if b.over.Load() { // waiting clears deadlines
		return 0, os.ErrDeadlineExceeded
	}
	if !b.little {
		n, err = b.direct("read", b.raw.Read, syscall.SYS_READ, p, atOnce)
	}
	if b.little || errors.Is(err, syscall.EAGAIN) {
		n, err = b.await(p)
	}
	b.little = n < len(p)
	return n, err
}

// await reads when enough has come, or after a while what has.
func (b *Bulk) await(p []byte) (n int, err error) {
	defer func() { _ = b.raw.Control(func(fd uintptr) { wakeAt(fd, quietSize) }) }()
	_ = b.SetReadDeadline(time.Now().Add(gatherWait))
	for _, size := range [2]int{GatherSize, 1} {
		if b.over.Load() { // its deadline may just have been overwritten
			return 0, os.ErrDeadlineExceeded
		}
		n, err = b.direct("read", b.raw.Read, syscall.SYS_READ, p, size)
		_ = b.SetReadDeadline(time.Time{})
		if !errors.Is(err, os.ErrDeadlineExceeded) {
			break
		}
	}
	return n, err
}

// Write writes all of p.
func (b *Bulk) Write(p []byte) (int, error) {
	if b.raw == nil {
		return b.Conn.Write(p)
	}
	done := 0
	for done < len(p) {
		n, err := b.direct("write", b.raw.Write, syscall.SYS_WRITE, p[done:], inTime)
		if err != nil {
			return done, err
		}
		done += n
	}
	return done, nil
}

// When a system call is made: inTime, as soon as the socket is ready for it; atOnce, which
// may fail with EAGAIN; above that, when so many bytes have come.
const (
	inTime = 0
	atOnce = -1
)

// direct reads into p or writes it by one system call and returns how many bytes moved.
func (b *Bulk) direct(name string, ready func(func(fd uintptr) bool) error, call uintptr, p []byte, when int) (int, error) {
	var n uintptr
	var errno syscall.Errno
	err := ready(func(fd uintptr) bool {
		if size := when; size > 0 {
			wakeAt(fd, size)
			if when = inTime; size > 1 { // a reset of before now is found by reading, after the wait
				return false
			}
		}
		for {
			n, _, errno = syscall.RawSyscall(call, fd, uintptr(unsafe.Pointer(&p[0])), uintptr(len(p))) //nolint:gosec // memory for the kernel
			if errno != syscall.EINTR {
				return when == atOnce || errno != syscall.EAGAIN
			}
		}
	})
	switch {
	case err != nil:
		return 0, err
	case errno != 0:
		return 0, &net.OpError{Op: name, Net: "tcp", Source: b.LocalAddr(), Addr: b.RemoteAddr(), Err: os.NewSyscallError(name, errno)}
	}
	return int(n), nil
}
