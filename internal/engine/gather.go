package engine

import (
	"errors"
	"net"
	"os"
	"sync/atomic"
	"syscall"
	"time"
)

// A server sends row data in small pieces. Woken for each, a lane would spend its time on
// system calls; so the kernel wakes it for GatherSize bytes, or after gatherWait for less.
const (
	GatherSize = 256 << 10
	gatherWait = 4 * time.Millisecond
)

// Gatherer is a connection whose reads can be told to wait for more than the next piece
// (SO_RCVLOWAT of socket(7)). Connections that are no sockets of their own, as under TLS,
// read as ever.
type Gatherer struct {
	net.Conn
	raw  syscall.RawConn // set while it gathers
	over atomic.Bool     // a deadline in the past was set: whoever waits is called off
}

// Gather lets reads wait for more from now on.
func (g *Gatherer) Gather() {
	c, ok := g.Conn.(syscall.Conn)
	if !ok || g.raw != nil {
		return
	}
	if raw, err := c.SyscallConn(); err == nil {
		g.raw = raw
		g.wakeAt(GatherSize)
	}
}

// Plain lets reads return what is there again.
func (g *Gatherer) Plain() {
	if g.raw != nil {
		g.wakeAt(1)
		g.raw = nil
		_ = g.Conn.SetReadDeadline(time.Time{})
	}
}

// wakeAt sets how many bytes must have come before a read is woken.
func (g *Gatherer) wakeAt(size int) {
	_ = g.raw.Control(func(fd uintptr) {
		_ = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_RCVLOWAT, size)
	})
}

// CallOff ends reads and writes, those under way too, from any goroutine.
func (g *Gatherer) CallOff() {
	g.over.Store(true)
	_ = g.SetDeadline(time.Unix(1, 0))
}

// Read reads what has come, at least a byte.
func (g *Gatherer) Read(p []byte) (int, error) {
	if g.raw == nil {
		return g.Conn.Read(p)
	}
	n, err := g.readUntil(p, time.Now().Add(gatherWait))
	if !errors.Is(err, os.ErrDeadlineExceeded) || g.over.Load() {
		return n, err
	}
	g.wakeAt(1)
	n, err = g.readUntil(p, time.Time{})
	g.wakeAt(GatherSize)
	return n, err
}

// readUntil reads with a deadline, or without one when it is zero. It may overwrite the
// deadline of CallOff, and looks at what was meant.
func (g *Gatherer) readUntil(p []byte, deadline time.Time) (int, error) {
	_ = g.SetReadDeadline(deadline)
	if g.over.Load() {
		return 0, os.ErrDeadlineExceeded
	}
	return g.Conn.Read(p)
}
