package typemap

import (
	"fmt"
	"strconv"
	"strings"

	"dustyferry/internal/core/mask"
	"dustyferry/internal/domain"
)

// maskDigits is how long the hash of a text is, where it has room.
const maskDigits = 32

// maskOf is the form of a column's masked values, and their room; false where its
// type cannot hold a hash.
func maskOf(target domain.Column) (mask.Form, uint64, bool) {
	base, unsigned := strings.CutSuffix(target.BaseType, " unsigned")
	bits := map[string]int{"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "integer": 32, "bigint": 64}[base]
	switch {
	case bits > 0 && unsigned && bits < 64:
		return mask.Whole, 1 << bits, true
	case bits > 0:
		return mask.Whole, 1 << (bits - 1), true
	case base == "uuid":
		return mask.UUID, 0, true
	case base == "text", base == "mediumtext", base == "longtext":
		return mask.Text, maskDigits, true
	case isText(base), base == "character":
		_, inside, ok := strings.Cut(target.Type, "(")
		n, err := strconv.Atoi(strings.TrimSuffix(strings.SplitN(inside, ")", 2)[0], ")"))
		if !ok || err != nil {
			n = maskDigits
		}
		if base == "character" || base == "char" {
			return mask.Text, uint64(min(n, 64)), n <= 64 // a shorter text would be filled up
		}
		return mask.Text, uint64(min(n, maskDigits)), true
	}
	return 0, 0, false
}

func masked(from string, column, target domain.Column, rt *domain.Runtime) Convert {
	form, room, ok := maskOf(target)
	key := rt.MaskKey(column.Mask)
	if !ok || len(key) == 0 {
		return func(dst, _ []byte) ([]byte, bool, error) { // never the value itself
			return dst, false, fmt.Errorf("it is to be masked by the key %s, which cannot be done here", column.Mask)
		}
	}
	m := mask.New(key, form, room)
	switch base := strings.TrimSuffix(column.BaseType, " unsigned"); {
	case from == MariaDB && (base == "float" || base == "double" || base == "year"):
		// A read and the log write these in different ways; the hash is of the one form.
		plain := ownText(column)
		var text []byte
		return func(dst, v []byte) ([]byte, bool, error) {
			var ok bool
			var err error
			if text, ok, err = plain(text[:0], v); err != nil || !ok {
				return dst, ok, err
			}
			return m.Append(dst, text), true, nil
		}
	}
	return func(dst, v []byte) ([]byte, bool, error) { return m.Append(dst, v), true, nil }
}
