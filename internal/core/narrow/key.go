package narrow

import (
	"encoding/binary"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

// AppendKey appends what a row is paired by, which is the same for every engine:
// the key's fields, each after its length (4 bytes, big-endian), or for a table
// without a key the hash of the whole row (8 bytes, big-endian).
func AppendKey(dst, row []byte, fields [][]byte, key []int) []byte {
	if len(key) == 0 {
		return binary.BigEndian.AppendUint64(dst, rowhash.Of(row))
	}
	for _, k := range key {
		dst = append(binary.BigEndian.AppendUint32(dst, uint32(len(fields[k]))), fields[k]...)
	}
	return dst
}

// JoinKey is what [AppendKey] writes for a key's values.
func JoinKey(k domain.KeyValue) string {
	var b []byte
	for _, v := range k {
		b = append(binary.BigEndian.AppendUint32(b, uint32(len(v))), v...)
	}
	return string(b)
}

// SplitKey gives the n values of a key that [AppendKey] or [JoinKey] wrote.
func SplitKey(key string, n int) domain.KeyValue {
	var out domain.KeyValue
	b := []byte(key)
	for range n {
		size := binary.BigEndian.Uint32(b)
		out = append(out, string(b[4:4+size]))
		b = b[4+size:]
	}
	return out
}
