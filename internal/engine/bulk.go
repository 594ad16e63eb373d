package engine

import (
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A server sends row data in small pieces. Woken for each, a lane would spend its time on
// system calls; so the kernel wakes it for GatherSize bytes, or after gatherWait for less.
const (
	GatherSize = 256 << 10
	gatherWait = 4 * time.Millisecond
)

// Bulk is a connection for much data, made so that moving it costs little beside the
// kernel's own work:
//
// The scheduler is not told of its system calls. None of them waits, as its socket is
// non-blocking, yet each takes as long to move its bytes as the scheduler grants a call that
// might; taking the processor away and finding another cost a third of the whole.
//
// Between Gather and Plain reads wait for more than the next piece (SO_RCVLOWAT of
// socket(7)), and the socket is out of the runtime's poller: that would be woken for each
// piece that comes while the lane is busy writing.
//
// A connection that is no socket of its own, as under TLS, reads and writes as ever. One
// goroutine may read and write; CallOff and Close are for any.
type Bulk struct {
	net.Conn                 // closed while own is set
	raw      syscall.RawConn // its socket; nil: none of its own

	mu   sync.Mutex // of what follows, and of Conn as others see it
	own  *socket    // set while reads gather
	over bool
}

// NewBulk takes a connection.
func NewBulk(conn net.Conn) *Bulk {
	b := &Bulk{}
	b.set(conn)
	return b
}

// Gather lets reads wait for more from now on.
func (b *Bulk) Gather() {
	if b.raw == nil || b.own != nil {
		return
	}
	s, err := takeSocket(b.raw)
	if err != nil {
		return // it can do without
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.over {
		s.close()
		return
	}
	b.own = s
	_ = b.Conn.Close() // out of the poller; the socket lives on
}

// Plain lets reads return what is there again.
func (b *Bulk) Plain() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.own == nil {
		return
	}
	if conn, err := b.own.conn(); err == nil {
		b.set(conn)
	}
	b.own = nil
}

func (b *Bulk) set(conn net.Conn) {
	b.Conn, b.raw = conn, nil
	if c, ok := conn.(syscall.Conn); ok {
		if raw, err := c.SyscallConn(); err == nil {
			b.raw = raw
		}
	}
}

// CallOff ends reads and writes, those under way too, from any goroutine.
func (b *Bulk) CallOff() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.over = true
	if b.own != nil {
		b.own.shut()
		return
	}
	_ = b.SetDeadline(time.Unix(1, 0))
}

// Close closes the connection.
func (b *Bulk) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.own != nil {
		b.own.close()
		return nil
	}
	return b.Conn.Close()
}

// Read reads what has come, at least a byte.
func (b *Bulk) Read(p []byte) (n int, err error) {
	switch {
	case b.raw == nil || len(p) == 0:
		return b.Conn.Read(p)
	case b.own != nil:
		if n, err = b.own.read(p); (err != nil || n == 0) && b.calledOff() {
			return 0, os.ErrDeadlineExceeded
		}
	default:
		n, err = b.direct("read", b.raw.Read, syscall.SYS_READ, p)
	}
	if n == 0 && err == nil {
		err = io.EOF
	}
	return n, err
}

func (b *Bulk) calledOff() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.over
}

// Write writes all of p.
func (b *Bulk) Write(p []byte) (int, error) {
	b.Plain()
	if b.raw == nil {
		return b.Conn.Write(p)
	}
	done := 0
	for done < len(p) {
		n, err := b.direct("write", b.raw.Write, syscall.SYS_WRITE, p[done:])
		if err != nil {
			return done, err
		}
		done += n
	}
	return done, nil
}

// direct reads into p or writes it by one system call, when the poller says that it can,
// and returns how many bytes moved.
func (b *Bulk) direct(name string, ready func(func(fd uintptr) bool) error, call uintptr, p []byte) (n int, err error) {
	var errno syscall.Errno
	if err := ready(func(fd uintptr) bool {
		n, errno = move(call, fd, p)
		return errno != syscall.EAGAIN
	}); err != nil {
		return 0, err
	}
	if errno != 0 {
		return 0, &net.OpError{Op: name, Net: b.LocalAddr().Network(), Source: b.LocalAddr(), Addr: b.RemoteAddr(),
			Err: os.NewSyscallError(name, errno)}
	}
	return n, nil
}

// move makes a system call that does not wait, unknown to the scheduler.
func move(call, fd uintptr, p []byte) (int, syscall.Errno) {
	for {
		n, _, errno := syscall.RawSyscall(call, fd, uintptr(unsafe.Pointer(&p[0])),
			uintptr(len(p))) //nolint:gosec // memory for the kernel
		if errno == 0 {
			return int(n), 0
		}
		if errno != syscall.EINTR {
			return 0, errno
		}
	}
}

// socket is one that the runtime does not watch. Its reads wait by poll(2).
type socket struct {
	mu     sync.Mutex
	fd     int
	busy   bool // a read is under way, which closes what was closed meanwhile
	closed bool
	little bool // the last read took all that was there
}

// takeSocket makes another descriptor of a connection's socket.
func takeSocket(raw syscall.RawConn) (*socket, error) {
	s := &socket{fd: -1}
	var failed error
	err := raw.Control(func(fd uintptr) {
		if s.fd, failed = unix.FcntlInt(fd, unix.F_DUPFD_CLOEXEC, 0); failed == nil {
			s.wakeAt(GatherSize)
		}
	})
	return s, errors.Join(err, failed)
}

// conn gives the socket back to the runtime.
func (s *socket) conn() (net.Conn, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return nil, net.ErrClosed
	}
	s.wakeAt(1)
	s.closed = true
	f := os.NewFile(uintptr(s.fd), "")
	defer func() { _ = f.Close() }() // what is given back has a descriptor of its own
	return net.FileConn(f)
}

// wakeAt sets how many bytes must have come before a wait ends.
func (s *socket) wakeAt(size int) {
	_ = unix.SetsockoptInt(s.fd, unix.SOL_SOCKET, unix.SO_RCVLOWAT, size)
}

// shut ends a read under way, and those that follow.
func (s *socket) shut() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.closed {
		_ = unix.Shutdown(s.fd, unix.SHUT_RDWR)
	}
}

func (s *socket) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.closed:
	case s.busy:
		_ = unix.Shutdown(s.fd, unix.SHUT_RDWR)
	default:
		_ = unix.Close(s.fd)
	}
	s.closed = true
}

// read reads what is there already, unless the read before has just taken it, and waits
// when that is nothing. 0 bytes are the end.
func (s *socket) read(p []byte) (n int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return 0, net.ErrClosed
	}
	s.busy = true
	s.mu.Unlock()
	n, errno := s.gather(p)
	s.mu.Lock()
	s.busy, s.little = false, n < len(p)
	if s.closed {
		_ = unix.Close(s.fd)
		return 0, net.ErrClosed
	}
	if errno != 0 {
		return 0, &net.OpError{Op: "read", Net: "socket", Err: os.NewSyscallError("read", errno)}
	}
	return n, nil
}

func (s *socket) gather(p []byte) (n int, errno syscall.Errno) {
	if !s.little {
		if n, errno = move(syscall.SYS_READ, uintptr(s.fd), p); errno != syscall.EAGAIN {
			return n, errno
		}
	}
	s.wait(int(gatherWait.Milliseconds()))
	if n, errno = move(syscall.SYS_READ, uintptr(s.fd), p); errno != syscall.EAGAIN {
		return n, errno
	}
	s.wakeAt(1)
	defer s.wakeAt(GatherSize)
	for errno == syscall.EAGAIN {
		s.wait(-1)
		n, errno = move(syscall.SYS_READ, uintptr(s.fd), p)
	}
	return n, errno
}

// wait waits until enough has come, for so many milliseconds at most, or for ever. A
// signal may end it, or an end of the connection.
func (s *socket) wait(ms int) {
	_, _ = unix.Poll([]unix.PollFd{{Fd: int32(s.fd), Events: unix.POLLIN}}, ms)
}
