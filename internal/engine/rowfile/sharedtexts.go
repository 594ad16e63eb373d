package rowfile

import (
	"bufio"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"

	"dustyferry/internal/domain"
)

// sharedTexts are those that the cells of a workbook name by numbers. There may be more of them than memory:
// they lie in a file without a name, but for where each sixteenth begins and those that were read last.
type sharedTexts struct {
	file   *os.File
	begins []int64
	n      int
	size   int64

	block int // that is read
	texts []string
}

// together is how many texts are read at once.
const together = 16

func (s *sharedTexts) close() {
	if s.file != nil {
		_ = s.file.Close()
	}
}

// sharedTexts reads all of them.
func (w *workbook) sharedTexts() (_ *sharedTexts, err error) {
	s := &sharedTexts{block: -1}
	if w.texts == "" || w.files[w.texts] == nil {
		return s, nil
	}
	in, err := w.part(w.texts)
	if err != nil {
		return nil, err
	}
	defer func() { _ = in.Close() }()
	if s.file, err = os.CreateTemp("", "dusty-ferry-texts-*"); err != nil {
		return nil, domain.Unavailable(err, "the workbook's texts cannot be laid aside: %s", err)
	}
	_ = os.Remove(s.file.Name()) // it goes with its last user
	defer func() {
		if err != nil {
			s.close()
		}
	}()
	out := bufio.NewWriterSize(s.file, 64<<10)
	if err := s.readAll(xml.NewDecoder(in), out); err != nil {
		return nil, domain.Invalid("the workbook's texts cannot be read: %s", err)
	}
	if err := out.Flush(); err != nil {
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

// get returns the text of a number.
func (s *sharedTexts) get(n int) (string, error) {
	if n < 0 || n >= s.n {
		return "", fmt.Errorf("there are %d", s.n)
	}
	if block := n / together; s.block != block {
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
		s.block = block
	}
	return s.texts[n%together], nil
}
