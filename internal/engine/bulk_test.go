package engine

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"syscall"
	"testing"
	"time"
)

// joined are the two ends of a connection on loopback.
func joined(t *testing.T) (*Bulk, *net.TCPConn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = l.Close() }()
	near, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	far, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = near.Close(); _ = far.Close() })
	return NewBulk(near), far.(*net.TCPConn)
}

// noise is data in which every piece is its own.
func noise(size int) []byte {
	b := make([]byte, size)
	r := rand.NewChaCha8([32]byte{1})
	_, _ = r.Read(b)
	return b
}

func TestBulkPassesEverythingOnHoweverItIsCut(t *testing.T) {
	want := noise(9 << 20)
	b, far := joined(t)
	go func() { // an echo, in pieces of its own
		buf := make([]byte, 100<<10)
		for {
			n, err := far.Read(buf[:1+rand.IntN(len(buf))])
			if _, werr := far.Write(buf[:n]); err != nil || werr != nil {
				return
			}
		}
	}()
	for _, gather := range []bool{false, true, true} {
		sent := make(chan error, 1)
		if gather {
			b.Gather()
			go func() { _, err := far.Write(want); sent <- err }()
		} else {
			go func() { sent <- inPieces(b, want) }()
		}
		got := make([]byte, 0, len(want))
		for len(got) < len(want) {
			n, err := b.Read(got[len(got):min(len(got)+1+rand.IntN(300<<10), len(want))])
			if got = got[:len(got)+n]; err != nil {
				t.Fatal(err)
			}
		}
		if err := <-sent; err != nil || !bytes.Equal(got, want) {
			t.Errorf("gathered %t: other data came than was sent (%v)", gather, err)
		}
		b.Plain()
		if _, err := b.Write([]byte("and back")); err != nil { // the echo's answer comes as ever
			t.Fatal(err)
		}
		if _, err := io.ReadFull(b, got[:8]); err != nil || string(got[:8]) != "and back" {
			t.Errorf("gathered %t, then plain: %q (%v)", gather, got[:8], err)
		}
	}
	b.Gather()
	_ = far.CloseWrite()
	for range 2 {
		if n, err := b.Read(make([]byte, 10)); err != io.EOF {
			t.Errorf("at the end came %d bytes (%v)", n, err)
		}
	}
}

// inPieces writes p in pieces of any size.
func inPieces(w io.Writer, p []byte) error {
	for len(p) > 0 {
		n := min(1+rand.IntN(700<<10), len(p))
		if _, err := w.Write(p[:n]); err != nil {
			return err
		}
		p = p[n:]
	}
	return nil
}

func TestGatheredReadsAreFew(t *testing.T) {
	b, far := joined(t)
	b.Gather()
	const pieces, size = 2000, 4 << 10
	go func() {
		for range pieces {
			if _, err := far.Write(make([]byte, size)); err != nil {
				t.Error(err)
				return
			}
		}
	}()
	buf := make([]byte, GatherSize)
	reads := 0
	for all := 0; all < pieces*size; reads++ {
		n, err := b.Read(buf)
		if err != nil {
			t.Fatal(err)
		}
		all += n
	}
	if reads > pieces/10 {
		t.Errorf("%d reads for %d pieces", reads, pieces)
	}
	// Little is not kept back for ever, and what was told before reading plainly is not lost.
	for _, plain := range []bool{false, true} {
		if _, err := far.Write([]byte("the last row")); err != nil {
			t.Fatal(err)
		}
		if plain {
			b.Plain()
		}
		if _, err := io.ReadFull(b, buf[:12]); err != nil || string(buf[:12]) != "the last row" {
			t.Errorf("plain %t: %q (%v)", plain, buf[:12], err)
		}
	}
}

func TestBulkCanBeCalledOff(t *testing.T) {
	for _, c := range []struct {
		name   string
		gather bool
		do     func(b *Bulk) error
	}{
		{"a read", false, func(b *Bulk) error { _, err := b.Read(make([]byte, 10)); return err }},
		{"a gathered read", true, func(b *Bulk) error { _, err := b.Read(make([]byte, 10)); return err }},
		{"a write that nobody takes", false, func(b *Bulk) error {
			for {
				if _, err := b.Write(make([]byte, 1<<20)); err != nil {
					return err
				}
			}
		}},
	} {
		b, _ := joined(t)
		if c.gather {
			b.Gather()
		}
		done := make(chan error)
		go func() { done <- c.do(b) }()
		time.Sleep(time.Duration(rand.IntN(20)) * time.Millisecond) // before, or while it waits
		b.CallOff()
		if err := <-done; !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s that is called off says: %v", c.name, err)
		}
		if err := c.do(b); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s after it was called off says: %v", c.name, err)
		}
	}
}

// A connection that is closed while somebody reads it is not read by whoever gets its number.
func TestBulkIsClosedUnderAReader(t *testing.T) {
	for range 50 {
		b, _ := joined(t)
		b.Gather()
		done := make(chan error)
		go func() { _, err := b.Read(make([]byte, 10)); done <- err }()
		time.Sleep(time.Duration(rand.IntN(6000)) * time.Microsecond)
		_ = b.Close()
		if err := <-done; !errors.Is(err, net.ErrClosed) {
			t.Fatalf("a read of a connection that is closed says: %v", err)
		}
		b.Plain()
		if _, err := b.Read(make([]byte, 10)); !errors.Is(err, net.ErrClosed) {
			t.Fatalf("a read after it says: %v", err)
		}
	}
}

// Nothing is left open, however often a connection goes to and fro and wherever it ends.
func TestBulkLeavesNoDescriptor(t *testing.T) {
	open := func() int {
		list, err := os.ReadDir("/proc/self/fd")
		if err != nil {
			t.Skip("this system does not list open files")
		}
		return len(list)
	}
	before := 0
	for i := range 60 {
		b, far := joined(t)
		for range 3 {
			b.Gather()
			_, _ = far.Write([]byte("x"))
			_, _ = b.Read(make([]byte, 10))
			b.Plain()
		}
		if i%2 == 0 {
			b.Gather()
		}
		if i%3 == 0 {
			b.CallOff()
		}
		_, _ = b.Close(), far.Close()
		if i == 0 { // the poller has its own from now on
			before = open()
		}
	}
	if after := open(); after > before+2 {
		t.Errorf("%d descriptors are open, %d were before", after, before)
	}
}

func TestBulkSaysWhatBroke(t *testing.T) {
	var b *Bulk
	for _, gather := range []bool{true, false} {
		var far *net.TCPConn
		b, far = joined(t)
		if gather { // and has waited before
			b.Gather()
			_, _ = far.Write([]byte("x"))
			_, _ = b.Read(make([]byte, 10))
		}
		if err := errors.Join(far.SetLinger(0), far.Close()); err != nil {
			t.Fatal(err)
		}
		var e net.Error
		if _, err := b.Read(make([]byte, 10)); !errors.Is(err, syscall.ECONNRESET) || !errors.As(err, &e) {
			t.Errorf("reading from a connection that was reset says: %v", err)
		}
	}
	if _, err := b.Write([]byte("x")); !errors.Is(err, syscall.EPIPE) {
		t.Errorf("writing to it says: %v", err)
	}
	_ = b.Close()
	if _, err := b.Write([]byte("x")); !errors.Is(err, net.ErrClosed) {
		t.Errorf("writing to a closed connection says: %v", err)
	}
}

// Connections that are no sockets, as under TLS, read and write as ever.
func TestBulkOverSomethingElse(t *testing.T) {
	near, far := net.Pipe()
	b := NewBulk(near)
	b.Gather()
	go func() { _, _ = io.Copy(far, far) }()
	go func() { _, _ = b.Write([]byte("there and back")) }()
	got := make([]byte, 14)
	if _, err := io.ReadFull(b, got); err != nil || string(got) != "there and back" {
		t.Errorf("%q (%v)", got, err)
	}
	b.Plain()
	b.CallOff()
	if _, err := b.Read(got); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("a pipe that is called off says: %v", err)
	}
}
