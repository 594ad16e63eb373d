package domain

import (
	"math"
	"regexp"
	"strconv"
	"strings"
)

// Size is a number of bytes, written as a number or with a unit: kB, MB, GB and TB are powers
// of 1,000, and KiB, MiB, GiB and TiB powers of 1,024.
type Size int64

// units are those of sizes, with how many bytes each is.
var units = []struct {
	name  string
	bytes int64
}{{"TiB", 1 << 40}, {"TB", 1e12}, {"GiB", 1 << 30}, {"GB", 1e9}, {"MiB", 1 << 20}, {"MB", 1e6}, {"KiB", 1 << 10},
	{"kB", 1e3}}

var sizeForm = regexp.MustCompile(`^([0-9]+)\s*([A-Za-z]*)$`)

// ParseSize reads a size such as 64MB.
func ParseSize(s string) (Size, error) {
	m := sizeForm.FindStringSubmatch(strings.TrimSpace(s))
	unit := int64(0)
	if m != nil {
		if m[2] == "" || strings.EqualFold(m[2], "B") {
			unit = 1
		}
		for _, u := range units {
			if strings.EqualFold(m[2], u.name) || strings.EqualFold(m[2]+"B", u.name) {
				unit = u.bytes
			}
		}
	}
	if unit == 0 {
		return 0, Invalid("%q is no size; write it like 64MB (64,000,000 bytes) or 64MiB (67,108,864 bytes)", s)
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	if err != nil || n > math.MaxInt64/unit {
		return 0, Invalid("%q is too large a size", s)
	}
	return Size(n * unit), nil
}

// String writes a size in the largest unit that fits exactly.
func (z Size) String() string {
	for _, u := range units {
		if z > 0 && int64(z)%u.bytes == 0 {
			return strconv.FormatInt(int64(z)/u.bytes, 10) + u.name
		}
	}
	return strconv.FormatInt(int64(z), 10)
}
