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
	for _, gather := range []bool{false, true} {
		b, far := joined(t)
		want := noise(9 << 20)
		go func() { // an echo, in pieces of its own
			buf := make([]byte, 100<<10)
			for {
				n, err := far.Read(buf[:1+rand.IntN(len(buf))])
				if _, werr := far.Write(buf[:n]); err != nil || werr != nil {
					_ = far.CloseWrite()
					return
				}
			}
		}()
		go func() {
			for rest := want; len(rest) > 0; {
				n := min(1+rand.IntN(700<<10), len(rest))
				if n, err := b.Write(rest[:n]); err != nil {
					t.Errorf("%d bytes written: %v", n, err)
					break
				}
				rest = rest[n:]
			}
			_ = b.Conn.(*net.TCPConn).CloseWrite()
		}()
		if gather {
			b.Gather()
		}
		var got []byte
		buf := make([]byte, 300<<10)
		for {
			n, err := b.Read(buf[:1+rand.IntN(len(buf))])
			if got = append(got, buf[:n]...); err != nil {
				if err != io.EOF {
					t.Errorf("the end is %v", err)
				}
				break
			}
		}
		if !bytes.Equal(got, want) {
			t.Errorf("gathered %t: %d bytes came of %d, or others", gather, len(got), len(want))
		}
	}
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
		b.CallOff()
		if err := <-done; !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s that is called off says: %v", c.name, err)
		}
		if err := c.do(b); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s after it was called off says: %v", c.name, err)
		}
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
