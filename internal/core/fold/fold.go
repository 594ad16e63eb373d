// Package fold brings a batch of captured changes of one table down to its net
// effect per key, so that the target is written with one statement for each of
// removing, patching and putting instead of one for each change.
//
// It knows three kinds of value: NULL, a value, and "unchanged" for a large
// value the log did not repeat; the last is kept as it is and never fetched.
package fold

import "dustyferry/internal/domain"

// Atom is the smallest thing the interleaving rule decides on: the removal of a
// row at one key, or the putting of a row at one key.
type Atom struct {
	Remove bool
	Row    domain.Row // for Remove only the key's columns are used
	// Patch: the row stood at this key before, so its unchanged values are there.
	Patch bool
}

// Split turns an insert, update or delete of a table with a key into atoms. An
// update that moves a row to another key is a removal at the old key and a
// putting at the new one. Use [Moves] to find those whose unchanged values
// would get lost on the way.
func Split(c domain.Change, key []int) []Atom {
	switch c.Kind {
	case domain.Insert:
		return []Atom{{Row: c.New}}
	case domain.Delete:
		return []Atom{{Remove: true, Row: c.Old}}
	case domain.Update:
		if !moved(c, key) {
			return []Atom{{Row: c.New, Patch: true}}
		}
		return []Atom{{Remove: true, Row: c.Old}, {Row: c.New}}
	}
	return nil
}

// Moves reports whether the change moves a row to another key while leaving
// some of its values unsaid, so that they must be carried over from the row at
// the old key.
func Moves(c domain.Change, key []int) bool {
	return c.Kind == domain.Update && moved(c, key) && HasUnchanged(c.New)
}

func moved(c domain.Change, key []int) bool {
	return c.Old != nil && domain.KeyText(c.Old, key) != domain.KeyText(c.New, key)
}

// HasUnchanged reports whether the row leaves a value unsaid.
func HasUnchanged(r domain.Row) bool {
	for i := range r {
		if r[i].Kind == domain.Unchanged {
			return true
		}
	}
	return false
}

// Complete fills unchanged values of new: those of the key from the old row, which a log
// repeats where the key's values lie out of line, and all of them from a whole old row. It
// reports whether the key is known then; without it nothing says which row is meant.
func Complete(c *domain.Change, key []int) bool {
	if c.New == nil {
		return true
	}
	if c.OldWhole {
		for i := range c.New {
			// An unchanged value lies out of line, so it cannot have been NULL: an old row that
			// says so is not whole, whatever the log calls it.
			if c.New[i].Kind == domain.Unchanged && c.Old[i].Kind == domain.Present {
				c.New[i] = c.Old[i]
			}
		}
	}
	for _, k := range key {
		if c.New[k].Kind == domain.Unchanged && c.Old != nil {
			c.New[k] = c.Old[k]
		}
		if c.New[k].Kind == domain.Unchanged {
			return false
		}
	}
	return true
}

// Net is the net effect of a batch on one table. To be written in this order:
// removes, patches, puts.
type Net struct {
	Removes []domain.Row // keys to remove; only key columns are set
	Patches []domain.Row // rows that exist; unchanged values stay as they are
	Puts    []domain.Row // whole rows that replace whatever is at their key
	// Standing is how many of the Puts, the first of them, are of rows that are there
	// already, so that they can be written as changes; the others may be new.
	Standing int
}

// Len returns the number of rows to write.
func (n Net) Len() int { return len(n.Removes) + len(n.Patches) + len(n.Puts) }

type entry struct {
	row    domain.Row
	remove bool
	patch  bool
	stands bool // the row was there before the batch, and was not removed in it
}

// Fold collects atoms of one table with a key.
//
// Invariant: at most one entry per key, and applying the entries gives what
// applying the atoms one by one would have given.
type Fold struct {
	key  []int
	at   map[string]int
	list []entry
}

// New returns an empty fold for a table whose key is the columns at the given
// positions.
func New(key []int) *Fold {
	return &Fold{key: key, at: make(map[string]int)}
}

// Len returns the number of keys touched.
func (f *Fold) Len() int { return len(f.list) }

// Add takes the next atom. The atom's row is kept, not copied.
func (f *Fold) Add(a Atom) {
	e := entry{row: a.Row, remove: a.Remove, patch: a.Patch && HasUnchanged(a.Row), stands: a.Patch}
	k := domain.KeyText(a.Row, f.key)
	i, seen := f.at[k]
	if !seen {
		f.at[k] = len(f.list)
		f.list = append(f.list, e)
		return
	}
	if e.patch && !f.list[i].remove {
		before := f.list[i]
		merged := make(domain.Row, len(e.row))
		copy(merged, e.row)
		for c := range merged {
			if merged[c].Kind == domain.Unchanged {
				merged[c] = before.row[c]
			}
		}
		e = entry{row: merged, patch: before.patch && HasUnchanged(merged)}
	}
	e.stands = f.list[i].stands && !e.remove
	f.list[i] = e
}

// Net returns the net effect, in the order in which keys were first touched.
func (f *Fold) Net() Net {
	var n Net
	for _, e := range f.list {
		if e.stands && !e.patch {
			n.Puts = append(n.Puts, e.row)
		}
	}
	n.Standing = len(n.Puts)
	for _, e := range f.list {
		switch {
		case e.remove:
			n.Removes = append(n.Removes, e.row)
		case e.patch:
			n.Patches = append(n.Patches, e.row)
		case e.stands: // above
		default:
			n.Puts = append(n.Puts, e.row)
		}
	}
	return n
}
