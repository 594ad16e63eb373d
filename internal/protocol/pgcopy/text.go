package pgcopy

import (
	"bytes"
	"errors"
)

// ErrText says that bytes are not a row of the text format.
var ErrText = errors.New("pgcopy: not a text row")

// AppendText adds one field of the text format, escaped. NULL is written with
// [AppendNull].
func AppendText(b, value []byte) []byte {
	for {
		i := bytes.IndexAny(value, "\\\n\r\t\b\f\v")
		if i < 0 {
			return append(b, value...)
		}
		b = append(b, value[:i]...)
		b = append(b, '\\')
		switch c := value[i]; c {
		case '\n':
			b = append(b, 'n')
		case '\r':
			b = append(b, 'r')
		case '\t':
			b = append(b, 't')
		case '\b':
			b = append(b, 'b')
		case '\f':
			b = append(b, 'f')
		case '\v':
			b = append(b, 'v')
		default:
			b = append(b, c)
		}
		value = value[i+1:]
	}
}

// AppendNull adds a NULL field.
func AppendNull(b []byte) []byte { return append(b, '\\', 'N') }

// TextFields cuts a text row (with or without its newline) into unescaped
// fields, appending to dst; nil is NULL. Fields without escapes point into row.
func TextFields(dst [][]byte, row []byte) ([][]byte, error) {
	row = bytes.TrimSuffix(row, []byte("\n"))
	for {
		field, rest, more := bytes.Cut(row, []byte("\t"))
		switch {
		case bytes.Equal(field, []byte(`\N`)):
			dst = append(dst, nil)
		case bytes.IndexByte(field, '\\') < 0:
			dst = append(dst, field[:len(field):len(field)])
		default:
			f, err := unescape(field)
			if err != nil {
				return dst, err
			}
			dst = append(dst, f)
		}
		if !more {
			return dst, nil
		}
		row = rest
	}
}

func unescape(field []byte) ([]byte, error) {
	out := make([]byte, 0, len(field))
	for i := 0; i < len(field); i++ {
		c := field[i]
		if c != '\\' {
			out = append(out, c)
			continue
		}
		i++
		if i == len(field) {
			return nil, ErrText
		}
		switch field[i] {
		case 'n':
			out = append(out, '\n')
		case 'r':
			out = append(out, '\r')
		case 't':
			out = append(out, '\t')
		case 'b':
			out = append(out, '\b')
		case 'f':
			out = append(out, '\f')
		case 'v':
			out = append(out, '\v')
		default:
			out = append(out, field[i])
		}
	}
	return out, nil
}
