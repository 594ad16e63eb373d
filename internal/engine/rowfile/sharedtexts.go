package rowfile

import (
	"bufio"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"dustyferry/internal/domain"
)

// sharedTexts are those that the cells of a workbook name by numbers. There may be more of them than memory:
// they lie in a file without a name, which goes with its last user, but for where each sixteenth begins.
type sharedTexts struct {
	file   *os.File
	begins []int64
	n      int
	size   int64
}

// together is how many texts are read at once.
const together = 16

// lastTexts are those of the workbook that was opened last: each of its sheets needs them, again and again.
var lastTexts struct {
	sync.Mutex
	of    string // which workbook, and as of when
	texts *sharedTexts
}

// sharedTexts reads all of them, or has them still.
func (w *workbook) sharedTexts() (*sharedTexts, error) {
	if w.texts == "" || w.files[w.texts] == nil {
		return &sharedTexts{}, nil
	}
	lastTexts.Lock()
	defer lastTexts.Unlock()
	if lastTexts.of == w.state {
		return lastTexts.texts, nil
	}
	s, err := w.layAside()
	if err == nil {
		lastTexts.of, lastTexts.texts = w.state, s
	}
	return s, err
}

func (w *workbook) layAside() (*sharedTexts, error) {
	in, err := w.part(w.texts)
	if err != nil {
		return nil, err
	}
	defer func() { _ = in.Close() }()
	s := &sharedTexts{}
	if s.file, err = os.CreateTemp("", "dusty-ferry-texts-*"); err != nil {
		return nil, domain.Unavailable(err, "the workbook's texts cannot be laid aside: %s", err)
	}
	_ = os.Remove(s.file.Name())
	out := bufio.NewWriterSize(s.file, 64<<10)
	if err := s.readAll(xml.NewDecoder(in), out); err != nil {
		_ = s.file.Close()
		return nil, domain.Invalid("the workbook's texts cannot be read: %s", err)
	}
	if err := out.Flush(); err != nil {
		_ = s.file.Close()
		return nil, domain.Unavailable(err, "the workbook's texts cannot be laid aside: %s", err)
	}
	return s, nil
}

func (s *sharedTexts) readAll(in *xml.Decoder, out *bufio.Writer) error {
	var text []byte
	var within []string
	for {
		t, err := in.RawToken()
		if errors.Is(err, io.EOF) && len(within) == 0 {
			return nil
		}
		if err != nil {
			return err
		}
		switch x := t.(type) {
		case xml.StartElement:
			within = append(within, x.Name.Local)
			if x.Name.Local == "si" {
				text = text[:0]
			}
		case xml.CharData:
			n := len(within)
			if n > 1 && within[n-1] == "t" && within[n-2] != "rPh" {
				if text = append(text, x...); len(text) > longestText {
					return fmt.Errorf("a text is longer than %d MiB", longestText>>20)
				}
			}
		case xml.EndElement:
			if len(within) == 0 {
				return errors.New("it ends what did not begin")
			}
			within = within[:len(within)-1]
			if x.Name.Local == "si" {
				if err := s.add(out, text); err != nil {
					return err
				}
			}
		}
	}
}

func (s *sharedTexts) add(out *bufio.Writer, text []byte) error {
	if s.n%together == 0 {
		s.begins = append(s.begins, s.size)
	}
	var length [binary.MaxVarintLen64]byte
	n := binary.PutUvarint(length[:], uint64(len(text)))
	s.n++
	s.size += int64(n + len(text))
	if _, err := out.Write(length[:n]); err != nil {
		return err
	}
	_, err := out.Write(text)
	return err
}

// textsAt reads shared texts, those that lie beside each other at once.
type textsAt struct {
	*sharedTexts
	block int // that is read, from 1 on
	texts []string
}

// get returns the text of a number.
func (s *textsAt) get(n int) (string, error) {
	if n < 0 || n >= s.n {
		return "", fmt.Errorf("there are %d", s.n)
	}
	if block := n / together; s.block != block+1 {
		end := s.size
		if block+1 < len(s.begins) {
			end = s.begins[block+1]
		}
		buf := make([]byte, end-s.begins[block])
		if _, err := s.file.ReadAt(buf, s.begins[block]); err != nil {
			return "", err
		}
		s.texts = s.texts[:0]
		for len(buf) > 0 {
			size, skip := binary.Uvarint(buf)
			s.texts = append(s.texts, string(buf[skip:skip+int(size)]))
			buf = buf[skip+int(size):]
		}
		s.block = block + 1
	}
	return s.texts[n%together], nil
}
