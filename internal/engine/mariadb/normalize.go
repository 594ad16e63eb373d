package mariadb

import (
	"encoding/hex"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// normal brings a value of the log to the form in which a SELECT gives it, which
// is what the catalogue of types converts from.
type normal struct {
	unsigned bool
	charset  decoder  // nil: UTF-8, or bytes
	labels   []string // of an enum or set
	set      bool
	pad      int // binary(n): the log leaves trailing zero bytes out
	form     func([]byte) ([]byte, error)
}

func newNormal(c domain.Column, charsets decoders) (_ *normal, err error) {
	n := &normal{unsigned: strings.HasSuffix(c.BaseType, " unsigned")}
	switch c.BaseType {
	case "enum", "set":
		n.labels, n.set = typemap.Labels(c.Type), c.BaseType == "set"
		return n, nil // the labels come from the catalog, in UTF-8
	case "binary":
		n.pad, _ = strconv.Atoi(strings.Trim(strings.TrimPrefix(c.Type, "binary"), "()"))
	case "uuid":
		n.form = uuidText
	case "inet4":
		n.form = inet4Text
	case "inet6":
		n.form = inet6Text
	}
	n.charset, err = charsets(c.Charset)
	return n, err
}

func (n *normal) value(v []byte) ([]byte, error) {
	switch {
	case n.labels != nil:
		return n.label(v)
	case n.form != nil:
		return n.form(v)
	case n.charset != nil:
		return n.charset(make([]byte, 0, len(v)+len(v)/2), v), nil
	case n.pad > len(v):
		return append(append(make([]byte, 0, n.pad), v...), make([]byte, n.pad-len(v))...), nil
	}
	return v, nil
}

func (n *normal) label(v []byte) ([]byte, error) {
	x, err := strconv.ParseUint(string(v), 10, 64)
	if err != nil {
		return nil, err
	}
	if !n.set {
		if x == 0 {
			return []byte{}, nil // the server's mark of a wrong value
		}
		if x > uint64(len(n.labels)) {
			return nil, fmt.Errorf("the enum's value number %d is not among its %d", x, len(n.labels))
		}
		return []byte(n.labels[x-1]), nil
	}
	var have []string
	for i, l := range n.labels {
		if x>>i&1 == 1 {
			have = append(have, l)
		}
	}
	return []byte(strings.Join(have, ",")), nil
}

// uuidText writes a UUID. The server keeps those of versions 1 to 5 with their
// parts in reverse order, so that they sort by time.
func uuidText(v []byte) ([]byte, error) {
	var b [16]byte
	copy(b[:], v) // trailing zero bytes are left out
	// In the kept form the version stands in the high half of byte 6 of the last
	// parts; a kept form that is not reversed has its variant bits there.
	if b[6]&0x80 != 0 && b[8]&0xf0 <= 0x50 {
		k := b
		copy(b[0:4], k[12:16])
		copy(b[4:6], k[10:12])
		copy(b[6:8], k[8:10])
		copy(b[8:10], k[6:8])
		copy(b[10:16], k[0:6])
	}
	h := hex.EncodeToString(b[:])
	return []byte(h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]), nil
}

func inet4Text(v []byte) ([]byte, error) {
	var b [4]byte
	copy(b[:], v) // trailing zero bytes are left out
	return []byte(netip.AddrFrom4(b).String()), nil
}

// inet6Text writes an address as the server does: the longest run of zero words, of whatever
// length, becomes ::, and what holds an address of version 4 ends with that one (its source,
// Inet6::to_string).
func inet6Text(v []byte) ([]byte, error) {
	var b [16]byte
	copy(b[:], v)
	var word [8]uint16
	for i := range word {
		word[i] = uint16(b[2*i])<<8 | uint16(b[2*i+1])
	}
	at, long := -1, 0
	for i := 0; i < len(word); i++ {
		n := 0
		for i+n < len(word) && word[i+n] == 0 {
			n++
		}
		if n > long {
			at, long = i, n
		}
		i += n
	}
	var out []byte
	for i := 0; i < len(word); i++ {
		switch {
		case i == at:
			if i == 0 {
				out = append(out, ':')
			}
			out = append(out, ':')
			i += long - 1
		case i == 6 && at == 0 && (long == 6 || long == 5 && word[5] == 0xffff):
			return append(out, netip.AddrFrom4([4]byte(b[12:])).String()...), nil
		default:
			out = strconv.AppendUint(out, uint64(word[i]), 16)
			if i+1 < len(word) {
				out = append(out, ':')
			}
		}
	}
	return out, nil
}
