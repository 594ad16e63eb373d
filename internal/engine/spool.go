package engine

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
)

// Spool keeps messages of a transaction in their order until it is known whether the
// transaction happened. What is more than a few kilobytes is kept in a file of this
// machine, which has no name and is gone with the process.
type Spool struct {
	few  []byte // until there is a file
	file *os.File
	out  *bufio.Writer

	scratch []byte
}

// fewBytes is how much is kept in memory for one transaction.
const fewBytes = 16 << 10

// OwnFrom is from how many bytes on a message is the one's who is handed it, and not only
// good until the next: copying it would take as much memory again.
const OwnFrom = 1 << 20

// Keep adds a message, with a number by which the keeper tells its kind or owner.
func (s *Spool) Keep(of uint32, b []byte) error { return s.KeepFrom(of, b, nil, 0) }

// KeepFrom adds a message that begins with b and goes on with n bytes of a reader.
func (s *Spool) KeepFrom(of uint32, b []byte, rest io.Reader, n int) error {
	var head [8]byte
	binary.BigEndian.PutUint32(head[:], of)
	binary.BigEndian.PutUint32(head[4:], uint32(len(b)+n))
	if s.file == nil {
		if n == 0 && len(s.few)+len(head)+len(b) <= fewBytes {
			s.few = append(append(s.few, head[:]...), b...)
			return nil
		}
		f, err := os.CreateTemp("", "dusty-ferry-")
		if err != nil {
			return spoolError(err)
		}
		_ = os.Remove(f.Name())
		s.file, s.out = f, bufio.NewWriterSize(f, 256<<10)
		if _, err := s.out.Write(s.few); err != nil {
			return spoolError(err)
		}
		s.few = nil
	}
	if _, err := s.out.Write(head[:]); err != nil {
		return spoolError(err)
	}
	if _, err := s.out.Write(b); err != nil || n == 0 {
		return spoolError(err)
	}
	for left := n; left > 0; { // in pieces, so that no more is in memory
		took, err := rest.Read(s.piece(left))
		if _, kept := s.out.Write(s.scratch[:took]); kept != nil {
			return spoolError(kept)
		}
		if left -= took; err != nil && left > 0 {
			return err
		}
	}
	return nil
}

// piece is room for what is read at a time.
func (s *Spool) piece(left int) []byte {
	if s.scratch == nil {
		s.scratch = make([]byte, 64<<10)
	}
	return s.scratch[:min(left, len(s.scratch))]
}

// Each gives the messages back, from the first; each is good until the next, or the
// visitor's from [OwnFrom] bytes on. Nothing can be kept any more.
func (s *Spool) Each(visit func(of uint32, b []byte) error) error {
	if s.file == nil {
		for rest := s.few; len(rest) > 0; {
			n := 8 + int(binary.BigEndian.Uint32(rest[4:]))
			if err := visit(binary.BigEndian.Uint32(rest), rest[8:n]); err != nil {
				return err
			}
			rest = rest[n:]
		}
		return nil
	}
	if err := s.out.Flush(); err != nil {
		return spoolError(err)
	}
	if _, err := s.file.Seek(0, io.SeekStart); err != nil {
		return spoolError(err)
	}
	in := bufio.NewReaderSize(s.file, 256<<10)
	var head [8]byte
	var b []byte
	for {
		if _, err := io.ReadFull(in, head[:]); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return spoolError(err)
		}
		size := int(binary.BigEndian.Uint32(head[4:]))
		if size >= OwnFrom {
			b = nil
		}
		if cap(b) < size {
			b = make([]byte, size)
		}
		b = b[:size]
		if _, err := io.ReadFull(in, b); err != nil {
			return spoolError(err)
		}
		if err := visit(binary.BigEndian.Uint32(head[:]), b); err != nil {
			return err
		}
		if size >= OwnFrom {
			b = nil
		}
	}
}

// Back gives the messages back from the last to the first. Before each, it asks whether it
// belongs to a message that was kept before it: that one's number among all, from 0, or -1.
// Both are good until the next. Nothing can be kept any more.
func (s *Spool) Back(belongs func(n int, of uint32, b []byte) (to int, err error),
	visit func(of uint32, head, b []byte) error) error {
	var at []int64
	var heads []int
	place := int64(0)
	err := s.Each(func(of uint32, b []byte) error {
		to, err := belongs(len(at), of, b)
		at, heads = append(at, place), append(heads, to)
		place += int64(8 + len(b))
		return err
	})
	if err != nil {
		return err
	}
	for i := len(at) - 1; i >= 0; i-- {
		var head []byte
		if heads[i] >= 0 {
			if _, head, err = s.read(at[heads[i]]); err != nil {
				return err
			}
		}
		of, b, err := s.read(at[i])
		if err != nil {
			return err
		}
		if err := visit(of, head, b); err != nil {
			return err
		}
	}
	return nil
}

// read reads the message at a place.
func (s *Spool) read(at int64) (uint32, []byte, error) {
	if s.file == nil {
		b := s.few[at:]
		return binary.BigEndian.Uint32(b), b[8 : 8+binary.BigEndian.Uint32(b[4:])], nil
	}
	var head [8]byte
	if _, err := s.file.ReadAt(head[:], at); err != nil {
		return 0, nil, spoolError(err)
	}
	b := make([]byte, binary.BigEndian.Uint32(head[4:]))
	_, err := s.file.ReadAt(b, at+8)
	return binary.BigEndian.Uint32(head[:]), b, spoolError(err)
}

// Close gives what is kept up. A nil spool has nothing to give up.
func (s *Spool) Close() {
	if s != nil && s.file != nil {
		_ = s.file.Close()
	}
}

func spoolError(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("keeping a large transaction in %s until it is committed: %w; give the machine more room there, "+
		"or another TMPDIR", os.TempDir(), err)
}
