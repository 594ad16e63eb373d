package bindvalue

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strconv"
)

// ErrForm says that bytes are not a parameter of their kind.
var ErrForm = errors.New("bindvalue: not a parameter of its kind")

// Text adds the text of a value that Append, Date or Moment wrote; of bytes, the bytes.
func (k Kind) Text(dst, v []byte) ([]byte, error) {
	switch n := len(v); {
	case k.Type == typeLong && n == 4 && k.Unsigned:
		return strconv.AppendUint(dst, uint64(binary.LittleEndian.Uint32(v)), 10), nil
	case k.Type == typeLong && n == 4:
		return strconv.AppendInt(dst, int64(int32(binary.LittleEndian.Uint32(v))), 10), nil
	case k.Type == typeLongLong && n == 8 && k.Unsigned:
		return strconv.AppendUint(dst, binary.LittleEndian.Uint64(v), 10), nil
	case k.Type == typeLongLong && n == 8:
		return strconv.AppendInt(dst, int64(binary.LittleEndian.Uint64(v)), 10), nil
	case k.Type == typeFloat && n == 4:
		return strconv.AppendFloat(dst, float64(math.Float32frombits(binary.LittleEndian.Uint32(v))), 'g', -1, 32), nil
	case k.Type == typeDouble && n == 8:
		return strconv.AppendFloat(dst, math.Float64frombits(binary.LittleEndian.Uint64(v)), 'g', -1, 64), nil
	case k.Type == typeDateTime && n > 0 && int(v[0]) == n-1:
		return momentText(dst, v[1:])
	case k.Type == typeString || k.Type == typeBlob:
		if size, head := length(v); head > 0 && uint64(n-head) == size {
			return append(dst, v[head:]...), nil
		}
	}
	return dst, ErrForm
}

// length reads what Length wrote, and how many bytes it has; 0: none is there.
func length(v []byte) (n uint64, size int) {
	if len(v) == 0 {
		return 0, 0
	}
	switch size = 1; v[0] {
	case 0xfc:
		size = 3
	case 0xfd:
		size = 4
	case 0xfe:
		size = 9
	default:
		return uint64(v[0]), 1
	}
	if len(v) < size {
		return 0, 0
	}
	for i := size - 1; i > 0; i-- {
		n = n<<8 | uint64(v[i])
	}
	return n, size
}

func momentText(dst, v []byte) ([]byte, error) {
	if len(v) != 4 && len(v) != 7 && len(v) != 11 {
		return dst, ErrForm
	}
	dst = fmt.Appendf(dst, "%04d-%02d-%02d", int(v[0])|int(v[1])<<8, v[2], v[3])
	if len(v) > 4 {
		dst = fmt.Appendf(dst, " %02d:%02d:%02d", v[4], v[5], v[6])
	}
	if len(v) > 7 {
		dst = fmt.Appendf(dst, ".%06d", binary.LittleEndian.Uint32(v[7:]))
	}
	return dst, nil
}
