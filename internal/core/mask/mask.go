// Package mask replaces values by keyed hashes: equal values stay equal, and
// without the key nothing leads back. The hash is HMAC-SHA-256 (RFC 2104).
package mask

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"hash"
	"strconv"
)

// Form is what a masked value looks like.
type Form int

// The forms.
const (
	Text  Form = iota // hexadecimal digits
	Whole             // a whole number of at least zero
	UUID              // a random UUID's form (RFC 9562, version 8)
)

// Mask masks values; it is for one goroutine.
type Mask struct {
	form Form
	room uint64 // Text: digits; Whole: how many numbers there are
	sum  hash.Hash
	out  [sha256.Size]byte
}

// New returns a mask. Room is the number of digits of a text, at most 64, or how
// many numbers there are from zero on.
func New(key []byte, form Form, room uint64) *Mask {
	return &Mask{form: form, room: room, sum: hmac.New(sha256.New, key)}
}

// Append adds the masked value to dst.
func (m *Mask) Append(dst, value []byte) []byte {
	m.sum.Reset()
	_, _ = m.sum.Write(value)
	h := m.sum.Sum(m.out[:0])
	switch m.form {
	case Whole:
		return strconv.AppendUint(dst, binary.BigEndian.Uint64(h)%m.room, 10)
	case UUID:
		h[6], h[8] = h[6]&0x0f|0x80, h[8]&0x3f|0x80
		for i, at := range []int{0, 4, 6, 8, 10} {
			if i > 0 {
				dst = append(dst, '-')
			}
			dst = hex.AppendEncode(dst, h[at:[]int{4, 6, 8, 10, 16}[i]])
		}
		return dst
	}
	from := len(dst)
	return hex.AppendEncode(dst, h)[:from+int(min(m.room, 64))]
}
