package rig

import (
	"net"
	"sync"
	"time"
)

// Link passes connections on to another address as a long line would: what is sent arrives half a
// round trip later, and each connection carries at most Rate bytes a second each way (0: no limit).
type Link struct {
	Trip time.Duration
	Rate int

	listener net.Listener
}

// Open listens on loopback, for connections to an address.
func (l *Link) Open(to string) (port int, err error) {
	if l.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return 0, err
	}
	go func() {
		for {
			near, err := l.listener.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				_ = near.Close()
				continue
			}
			go l.pass(far, near)
			go l.pass(near, far)
		}
	}()
	return l.listener.Addr().(*net.TCPAddr).Port, nil
}

// Close takes no more connections; those that are open end with their ends.
func (l *Link) Close() { _ = l.listener.Close() }

// window is how much of a connection's data is on its way at most.
const window = 16 << 20

// pass carries one direction. Time in which nothing was to be sent is not made up for.
func (l *Link) pass(to, from net.Conn) {
	type piece struct {
		data []byte
		at   time.Time // when it arrives
	}
	var mu sync.Mutex
	room := sync.NewCond(&mu)
	under, broken := 0, false
	line := make(chan piece, 1<<16)
	go func() {
		for p := range line {
			time.Sleep(time.Until(p.at))
			_, err := to.Write(p.data)
			mu.Lock()
			under -= len(p.data)
			broken = broken || err != nil
			mu.Unlock()
			room.Signal()
		}
		_ = to.Close()
	}()
	defer close(line)
	var free time.Time // when the line has sent what it was given
	for {
		buf := make([]byte, 32<<10)
		n, err := from.Read(buf)
		if n > 0 {
			now := time.Now()
			if free.Before(now) {
				free = now
			}
			if l.Rate > 0 {
				free = free.Add(time.Duration(n) * time.Second / time.Duration(l.Rate))
			}
			line <- piece{buf[:n], free.Add(l.Trip / 2)}
			mu.Lock()
			for under += n; under > window && !broken; {
				room.Wait()
			}
			stop := broken
			mu.Unlock()
			if stop {
				_ = from.Close()
				return
			}
		}
		if err != nil {
			return
		}
	}
}
