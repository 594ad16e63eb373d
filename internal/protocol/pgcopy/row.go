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
