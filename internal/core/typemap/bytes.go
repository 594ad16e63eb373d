package typemap

import (
	"dustyferry/internal/domain"
	"encoding/hex"
	"fmt"
	"strconv"
)

// Bytes, shapes and bits. A value of bytes is \x and hexadecimal digits as a text, one of bits is
// ones and zeros.
var mariaBytes = map[string]*mariaType{
	"binary": bytesOf(-1), "varbinary": bytesOf(-1), "tinyblob": bytesOf(1<<8 - 1), "blob": bytesOf(1<<16 - 1),
	"mediumblob": bytesOf(1<<24 - 1), "longblob": bytesOf(0),
	"geometry": shape, "point": shape, "linestring": shape, "polygon": shape, "multipoint": shape,
	"multilinestring": shape, "multipolygon": shape, "geometrycollection": shape,
	"bit": {unlike: true,
		neutral: func(_ domain.Column, a, _ int) becomes { return becomes{fmt.Sprintf("bit(%d)", max(a, 1)), Exact, ""} },
		value:   func(c, _ domain.Column) Convert { return bits(c) }, own: bits},
}

// bytesOf is a type of so many bytes; below 0: as many as it says; 0: 4 GB.
func bytesOf(most int) *mariaType {
	return &mariaType{kind: "bytes", unlike: true, neutral: neutrally("bytea", Wider, ""),
		value: func(domain.Column, domain.Column) Convert { return hexed(0) },
		own:   func(domain.Column) Convert { return hexed(0) },
		limit: func(c domain.Column) Limit {
			most := most
			if most < 0 {
				most, _ = args(c.Type)
			}
			if most <= 0 {
				return nil
			}
			return func(v []byte) error {
				if n := (len(v) - len(`\x`)) / 2; n > most {
					return fmt.Errorf("it has %d bytes, %s holds %d", n, c.Type, most)
				}
				return nil
			}
		}}
}

var shape = &mariaType{unlike: true,
	neutral: neutrally("bytea", Wider, "kept as its well-known binary form, without the reference system's number"),
	value:   func(domain.Column, domain.Column) Convert { return hexed(4) }, // that number stands in front
	own:     func(domain.Column) Convert { return hexed(0) }}

func bits(c domain.Column) Convert {
	n, _ := args(c.Type)
	return bitString(max(n, 1))
}

var neutralBytes = map[string]*neutralType{
	"bytea": {kind: "bytes", there: func(_ domain.Column, in place, _, _ int) becomes {
		if in.keyed > 0 {
			return keyed("varbinary", in.room, "bytes")
		}
		return becomes{"longblob", Wider, ""}
	}},
	"bit": {there: func(_ domain.Column, in place, a, _ int) becomes {
		if a = max(a, 1); a <= 64 {
			return becomes{fmt.Sprintf("bit(%d)", a), Exact, ""}
		}
		return anyText(in, Wider, "kept as text of ones and zeros")
	}},
	"bit varying": {there: func(_ domain.Column, in place, _, _ int) becomes {
		return anyText(in, Wider, "kept as text of ones and zeros")
	}},
}

func bitString(n int) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		x, err := strconv.ParseUint(string(v), 10, 64)
		if err != nil {
			return dst, false, fmt.Errorf("%q is no bit value", v)
		}
		for i := n - 1; i >= 0; i-- {
			dst = append(dst, '0'+byte(x>>i&1))
		}
		return dst, true, nil
	}
}

func hexed(skip int) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		v = v[min(skip, len(v)):]
		return hex.AppendEncode(append(dst, '\\', 'x'), v), true, nil
	}
}
