// Package keyorder decides which chunk a key falls into, in the order in which
// the source cut the chunks. It compares only where its order is provably the
// source's own: whole numbers, uuid, dates and times, binary, booleans and text
// kept in byte order. For anything else it says so, and the source is asked.
package keyorder

import (
	"cmp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"dustyferry/internal/domain"
)

type family int

const (
	unknown family = iota
	integer
	bytewise // text forms whose byte order is the value's order
	temporal
	truth
)

// Order compares keys of one table.
type Order struct{ fams []family }

// New returns the order of a key made of the given columns. The second result
// is false when some column's order is not ours to decide.
func New(cols []domain.Column) (*Order, bool) {
	o, ok := &Order{}, true
	for _, c := range cols {
		f := familyOf(c)
		o.fams = append(o.fams, f)
		ok = ok && f != unknown
	}
	return o, ok
}

// Alike reports whether both servers of a plan surely order its keys alike.
func Alike(p *domain.TablePlan) bool {
	if p.KeyOrder != "ours" || p.CrossEngine && !Whole(p.KeyColumns()) {
		return false
	}
	// Of text: the target's order may be another.
	return !slices.ContainsFunc(p.KeyColumns(), func(c domain.Column) bool { return c.ByteOrder })
}

// Whole reports whether a key is of whole numbers only, which every engine
// orders alike.
func Whole(cols []domain.Column) bool {
	for _, c := range cols {
		if familyOf(c) != integer {
			return false
		}
	}
	return len(cols) > 0
}

func familyOf(c domain.Column) family {
	switch c.BaseType {
	case "smallint", "integer", "bigint", "oid", "tinyint", "mediumint", "int",
		"tinyint unsigned", "smallint unsigned", "mediumint unsigned", "int unsigned", "bigint unsigned":
		return integer
	case "uuid", "bytea":
		return bytewise // lower-case hex of a fixed scheme
	case "boolean":
		return truth
	case "text", "character varying":
		if c.ByteOrder {
			return bytewise
		}
	case "date", "timestamp without time zone", "timestamp with time zone":
		return temporal
	}
	return unknown
}

// Compare returns -1, 0 or 1. The second result is false when the two cannot be
// compared here (a value outside the forms this package knows).
func (o *Order) Compare(a, b domain.KeyValue) (int, bool) {
	for i, f := range o.fams {
		c, ok := compare(f, a[i], b[i])
		if !ok || c != 0 {
			return c, ok
		}
	}
	return 0, true
}

// compareLarge compares whole numbers of which one at least is beyond the signed
// range.
func compareLarge(a, b string) (int, bool) {
	var n [2]uint64
	for i, s := range []string{a, b} {
		if v, err := strconv.ParseInt(s, 10, 64); err == nil && v < 0 {
			return 2*i - 1, true // the other one is large
		}
		var err error
		if n[i], err = strconv.ParseUint(s, 10, 64); err != nil {
			return 0, false
		}
	}
	return cmp.Compare(n[0], n[1]), true
}

func compare(f family, a, b string) (int, bool) {
	switch f {
	case integer:
		x, err1 := strconv.ParseInt(a, 10, 64)
		y, err2 := strconv.ParseInt(b, 10, 64)
		if err1 != nil || err2 != nil {
			return compareLarge(a, b)
		}
		switch {
		case x < y:
			return -1, true
		case x > y:
			return 1, true
		}
		return 0, true
	case bytewise:
		return strings.Compare(a, b), true
	case truth:
		x, ok1 := truthOf(a)
		y, ok2 := truthOf(b)
		return x - y, ok1 && ok2
	case temporal:
		ra, ok1 := timeRank(a)
		rb, ok2 := timeRank(b)
		if !ok1 || !ok2 {
			return 0, false
		}
		if ra != rb {
			return ra - rb, true
		}
		if ra != 0 {
			return 0, true
		}
		return strings.Compare(a, b), true
	}
	return 0, false
}

// truthOf reads a boolean in either of PostgreSQL's forms: the log has f and t, a cast to text
// gives false and true, and so do bounds of chunks.
func truthOf(s string) (int, bool) {
	switch s {
	case "f", "false":
		return 0, true
	case "t", "true":
		return 1, true
	}
	return 0, false
}

// timeRank sorts the infinities around ordinary values, whose ISO form in UTC
// with a year of four digits sorts as text. Years beyond that are not decided.
func timeRank(s string) (int, bool) {
	switch s {
	case "-infinity":
		return -1, true
	case "infinity":
		return 1, true
	}
	if len(s) < 10 || s[4] != '-' || strings.HasSuffix(s, "BC") {
		return 0, false
	}
	if i := strings.LastIndexAny(s, "+-"); i > 9 && s[i:] != "+00" {
		return 0, false
	}
	return 0, true
}

// Locate returns the index of the chunk a key falls into, given the ascending
// lower bounds of chunks 1, 2, … (chunk 0 is open below). The second result is
// false when the source must be asked.
func (o *Order) Locate(bounds []domain.KeyValue, key domain.KeyValue) (int, bool) {
	ok := true
	n := sort.Search(len(bounds), func(i int) bool {
		c, known := o.Compare(bounds[i], key)
		ok = ok && known
		return c > 0
	})
	return n, ok
}
