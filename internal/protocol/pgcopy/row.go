package pgcopy

import (
	"bytes"
	"encoding/binary"
	"errors"
)

// ErrRow says that bytes are not a row of the binary format.
var ErrRow = errors.New("pgcopy: not a binary row")

// CutHeader returns p without the binary header when it begins with one.
func CutHeader(p []byte) []byte {
	if len(p) >= HeaderSize && bytes.HasPrefix(p, signature) {
		return p[HeaderSize:]
	}
	return p
}

// IsTrailer reports whether p is the end of binary data.
func IsTrailer(p []byte) bool { return bytes.Equal(p, Trailer) }

// Fields cuts a binary row into its fields, appending to dst; nil is NULL. The
// fields point into row.
func Fields(dst [][]byte, row []byte) ([][]byte, error) {
	if len(row) < 2 {
		return dst, ErrRow
	}
	n := int(int16(binary.BigEndian.Uint16(row)))
	row = row[2:]
	if n < 0 || n > len(row)/4 {
		return dst, ErrRow
	}
	for range n {
		if len(row) < 4 {
			return dst, ErrRow
		}
		size := int(int32(binary.BigEndian.Uint32(row)))
		row = row[4:]
		switch {
		case size == -1:
			dst = append(dst, nil)
		case size < 0 || size > len(row):
			return dst, ErrRow
		default:
			dst = append(dst, row[:size:size])
			row = row[size:]
		}
	}
	if len(row) != 0 {
		return dst, ErrRow
	}
	return dst, nil
}

// RowSize returns how many bytes the row at the front of b takes.
func RowSize(b []byte) (int, error) {
	if len(b) < 2 {
		return 0, ErrRow
	}
	at := 2
	for range int16(binary.BigEndian.Uint16(b)) {
		if len(b) < at+4 {
			return 0, ErrRow
		}
		n := int32(binary.BigEndian.Uint32(b[at:]))
		at += 4 + int(max(n, 0))
		if at > len(b) {
			return 0, ErrRow
		}
	}
	return at, nil
}

// escapes are the characters that COPY's text format writes with a backslash.
var escapes = [256]byte{'\\': '\\', '\n': 'n', '\r': 'r', '\t': 't', '\b': 'b', '\f': 'f', '\v': 'v'}

// AppendText adds a row in COPY's text format (PostgreSQL documentation, "COPY",
// text format), with the line's end; nil is NULL.
func AppendText(b []byte, fields [][]byte) []byte {
	for i, f := range fields {
		if i > 0 {
			b = append(b, '\t')
		}
		if f == nil {
			b = append(b, '\\', 'N')
			continue
		}
		from := 0
		for k, x := range f {
			if e := escapes[x]; e != 0 {
				b = append(append(b, f[from:k]...), '\\', e)
				from = k + 1
			}
		}
		b = append(b, f[from:]...)
	}
	return append(b, '\n')
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
