package pgcopy

import (
	"bytes"
	"encoding/binary"
	"errors"
)

// ErrRow says that bytes are not a row of the binary format.
var ErrRow = errors.New("pgcopy: not a binary row")

// ErrText says that bytes are not a line of the text format.
var ErrText = errors.New("pgcopy: not a line of text format")

// CutHeader returns p without the binary header when it begins with one.
func CutHeader(p []byte) []byte {
	if len(p) >= HeaderSize && bytes.HasPrefix(p, signature) {
		return p[HeaderSize:]
	}
	return p
}

// IsTrailer reports whether p is the end of binary data.
func IsTrailer(p []byte) bool { return bytes.Equal(p, Trailer) }

// Next cuts the row at the front of data into its fields, appending to dst, and
// returns what follows it; a nil field is NULL. The fields point into data.
func Next(dst [][]byte, data []byte) (fields [][]byte, rest []byte, err error) {
	if len(data) < 2 {
		return dst, data, ErrRow
	}
	n := int(int16(binary.BigEndian.Uint16(data)))
	data = data[2:]
	if n < 0 || n > len(data)/4 {
		return dst, data, ErrRow
	}
	for range n {
		if len(data) < 4 {
			return dst, data, ErrRow
		}
		size := int(int32(binary.BigEndian.Uint32(data)))
		data = data[4:]
		switch {
		case size == -1:
			dst = append(dst, nil)
		case size < 0 || size > len(data):
			return dst, data, ErrRow
		default:
			dst = append(dst, data[:size:size])
			data = data[size:]
		}
	}
	return dst, data, nil
}

// Fields is [Next] for a row by itself.
func Fields(dst [][]byte, row []byte) ([][]byte, error) {
	fields, rest, err := Next(dst, row)
	if err == nil && len(rest) != 0 {
		err = ErrRow
	}
	return fields, err
}

// escapes are the characters that COPY's text format writes with a backslash.
var escapes = [256]byte{'\\': '\\', '\n': 'n', '\r': 'r', '\t': 't', '\b': 'b', '\f': 'f', '\v': 'v'}

// Plain returns how many bytes at the front of v are neither control characters
// nor backslashes, eight at a time (the test is of "Bit Twiddling Hacks", S. E.
// Anderson: "Determine if a word has a byte less than n").
func Plain(v []byte) int {
	const ones, highs = 0x0101010101010101, 0x8080808080808080
	i := 0
	for ; i+8 <= len(v); i += 8 {
		w := binary.LittleEndian.Uint64(v[i:])
		slash := w ^ ones*'\\'
		if ((w-ones*0x20)&^w|(slash-ones)&^slash)&highs != 0 {
			break
		}
	}
	for ; i < len(v) && v[i] >= 0x20 && v[i] != '\\'; i++ {
	}
	return i
}

// unescaped are the characters that follow a backslash in COPY's text format, by what they
// stand for.
var unescaped = func() (of [256]byte) {
	for c, e := range escapes {
		if e != 0 {
			of[e] = byte(c)
		}
	}
	return of
}()

// TextFields cuts a line of COPY's text format (PostgreSQL documentation, "COPY", text format),
// without its end, into its fields, appending to dst; nil is NULL. The fields point into the
// line, which is changed where it holds escapes.
func TextFields(dst [][]byte, line []byte) ([][]byte, error) {
	escaped := bytes.IndexByte(line, '\\') >= 0
	for {
		n := bytes.IndexByte(line, '\t')
		f := line
		if n >= 0 {
			f = line[:n:n]
		}
		if escaped {
			var err error
			if f, err = unescape(f); err != nil {
				return dst, err
			}
		}
		dst = append(dst, f)
		if n < 0 {
			return dst, nil
		}
		line = line[n+1:]
	}
}

// unescape takes the escapes of a field out in its own place; nil is NULL.
func unescape(f []byte) ([]byte, error) {
	at := bytes.IndexByte(f, '\\')
	if at < 0 {
		return f, nil
	}
	if len(f) == 2 && f[1] == 'N' {
		return nil, nil
	}
	to := at
	for i := at; i < len(f); i++ {
		c := f[i]
		if c == '\\' {
			if i++; i == len(f) || unescaped[f[i]] == 0 {
				return nil, ErrText
			}
			c = unescaped[f[i]]
		}
		f[to] = c
		to++
	}
	return f[:to:to], nil
}

// AppendText adds the fields of a row in COPY's text format (PostgreSQL
// documentation, "COPY", text format), with the line's end; nil is NULL.
func AppendText(b []byte, fields [][]byte) []byte {
	for i, f := range fields {
		if i > 0 {
			b = append(b, '\t')
		}
		if f == nil {
			b = append(b, '\\', 'N')
			continue
		}
		b = appendEscaped(b, f)
	}
	return append(b, '\n')
}

func appendEscaped(b, v []byte) []byte {
	for {
		n := Plain(v)
		b = append(b, v[:n]...)
		if n == len(v) {
			return b
		}
		if e := escapes[v[n]]; e != 0 {
			b = append(b, '\\', e)
		} else {
			b = append(b, v[n])
		}
		v = v[n+1:]
	}
}

// AppendFields adds a binary row made of the fields; nil is NULL.
func AppendFields(b []byte, fields [][]byte) []byte {
	b = binary.BigEndian.AppendUint16(b, uint16(len(fields)))
	for _, f := range fields {
		if f == nil {
			b = append(b, 0xff, 0xff, 0xff, 0xff)
			continue
		}
		b = append(binary.BigEndian.AppendUint32(b, uint32(len(f))), f...)
	}
	return b
}
