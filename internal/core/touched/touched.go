// Package touched packs the keys of the rows that changes have touched, as a target keeps them
// beside the changes themselves, until these rows have been compared. It holds keys alone: the
// bytes of what it packs are DEFLATE (RFC 1951) over keys in the form of [narrow.JoinKey], one after
// the other.
package touched

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"fmt"
	"io"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/domain"
)

// Rows collects the rows of one table that a transaction of the target touches.
type Rows struct {
	raw   []byte
	n     int64
	whole bool
}

// Add notes the row at a key. A key twice counts twice.
func (r *Rows) Add(key domain.KeyValue) {
	r.raw = append(r.raw, narrow.JoinKey(key)...)
	r.n++
}

// AddRow notes the row whose key is at the given positions.
func (r *Rows) AddRow(row domain.Row, key []int) {
	for _, k := range key {
		v := row[k].Data
		r.raw = append(binary.BigEndian.AppendUint32(r.raw, uint32(len(v))), v...)
	}
	r.n++
}

// AddTable notes that any row of the table may have been touched.
func (r *Rows) AddTable() { r.whole = true }

// Whole reports whether AddTable was called: no key says then which rows were touched.
func (r *Rows) Whole() bool { return r.whole }

// Size returns how many bytes it holds.
func (r *Rows) Size() int { return len(r.raw) }

// Len returns how many keys were noted.
func (r *Rows) Len() int64 { return r.n }

// Clear begins anew.
func (r *Rows) Clear() { *r = Rows{raw: r.raw[:0]} }

// Pack returns the keys, packed, and begins anew.
func (r *Rows) Pack() ([]byte, error) {
	var b bytes.Buffer
	w, err := flate.NewWriter(&b, flate.BestSpeed)
	if err != nil {
		return nil, err
	}
	if _, err = w.Write(r.raw); err == nil {
		err = w.Close()
	}
	r.Clear()
	return b.Bytes(), err
}

// most bounds what a packed list may unpack to, in bytes, whatever a broken server gives.
const most = 1 << 30

// Unpack gives each of the keys, of so many columns, in the form of [narrow.JoinKey].
func Unpack(packed []byte, columns int, give func(key string)) error {
	raw, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), most+1))
	if err != nil {
		return fmt.Errorf("a list of touched keys cannot be read: %w", err)
	}
	if len(raw) > most {
		return fmt.Errorf("a list of touched keys has more than %d bytes", most)
	}
	for len(raw) > 0 {
		end := 0
		for range columns {
			if len(raw)-end < 4 {
				return errCut
			}
			size := int(binary.BigEndian.Uint32(raw[end:]))
			if end += 4; size < 0 || size > len(raw)-end {
				return errCut
			}
			end += size
		}
		if end == 0 {
			return fmt.Errorf("a list of touched keys of no column has %d bytes", len(raw))
		}
		give(string(raw[:end]))
		raw = raw[end:]
	}
	return nil
}

var errCut = fmt.Errorf("a list of touched keys ends within a key")
