package fold

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"

	"dustyferry/internal/domain"
)

// Copies is a row of which a table without a key may have several that are alike.
type Copies struct {
	Row domain.Row
	N   int
}

// Bag is the net effect of changes of a table without a key, whose rows are known by all
// their values. To be written in this order: removes, puts.
type Bag struct {
	Removes []Copies     // rows that were there before, each kind of row once
	Puts    []domain.Row // in the order in which they came
}

// BagOf brings inserts, updates and deletes down to their net effect: a row that came and
// went is not written at all. Every other removal is of a row that must have been there
// before the changes, also if one like it came after it. Changes of other kinds are none of
// rows: they are an error.
func BagOf(changes []domain.Change) (Bag, error) {
	var b Bag
	type standing struct {
		puts    []int // of b.Puts, of rows that are alike, oldest first
		removed int   // 1 + its place in b.Removes, or 0
	}
	var (
		of   = map[[sha256.Size]byte]*standing{}
		gone = map[int]bool{}
	)
	known := func(r domain.Row) *standing {
		k := sum(r)
		if of[k] == nil {
			of[k] = &standing{}
		}
		return of[k]
	}
	for _, c := range changes {
		if c.Kind != domain.Insert && c.Kind != domain.Update && c.Kind != domain.Delete {
			return Bag{}, fmt.Errorf("a change of kind %v is no change of one row", c.Kind)
		}
		if c.Kind == domain.Update || c.Kind == domain.Delete {
			switch s := known(c.Old); {
			case len(s.puts) > 0:
				gone[s.puts[len(s.puts)-1]] = true
				s.puts = s.puts[:len(s.puts)-1]
			case s.removed > 0:
				b.Removes[s.removed-1].N++
			default:
				b.Removes = append(b.Removes, Copies{c.Old, 1})
				s.removed = len(b.Removes)
			}
		}
		if c.Kind == domain.Insert || c.Kind == domain.Update {
			s := known(c.New)
			s.puts = append(s.puts, len(b.Puts))
			b.Puts = append(b.Puts, c.New)
		}
	}
	kept := b.Puts[:0]
	for i, r := range b.Puts {
		if !gone[i] {
			kept = append(kept, r)
		}
	}
	b.Puts = kept
	return b, nil
}

// sum tells rows apart without keeping their values.
func sum(r domain.Row) [sha256.Size]byte {
	h := sha256.New()
	for _, v := range r {
		var head [9]byte
		head[0] = byte(v.Kind)
		binary.BigEndian.PutUint64(head[1:], uint64(len(v.Data)))
		h.Write(head[:])
		h.Write(v.Data)
	}
	return [sha256.Size]byte(h.Sum(nil))
}
