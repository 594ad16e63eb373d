package binlog

import "fmt"

// Rows is a rows event: rows of one table, taken one by one with Next.
type Rows struct {
	Table *Table
	Kind  Type // TypeWriteRows, TypeUpdateRows or TypeDeleteRows
	Last  bool // the statement ends with this event
	// Unchecked: foreign keys were not looked at, and did nothing.
	Unchecked bool
	// Before and After say which columns the images carry: Before of deletes and
	// updates, After of writes and updates.
	Before, After []bool

	c cursor
}

// Value is one column of a row. Data is in the server's own text form, texts and
// binary values in their bytes; it stays good until the next row.
type Value struct {
	Absent bool // the image does not carry the column
	Null   bool
	Data   []byte
}

// TableID is the number by which the body of a rows event, or of a table's map, names its table.
func TableID(body []byte) (uint64, error) {
	c := cursor{b: body}
	id := c.uint(6)
	return id, c.err()
}

// Rows reads the head of a rows event, also of a compressed one. Its table must
// have been mapped before.
func (r *Reader) Rows(t Type, body []byte) (*Rows, error) {
	c := cursor{b: body}
	id := c.uint(6)
	flags := c.uint(2)
	n := int(c.packed())
	if c.short {
		return nil, ErrShort
	}
	x := &Rows{Table: r.Tables[id], Last: flags&1 != 0, Unchecked: flags&2 != 0, Kind: t}
	if t >= TypeWriteRowsPacked && t <= TypeDeleteRowsPacked {
		x.Kind = t - TypeWriteRowsPacked + TypeWriteRows
	}
	if x.Table == nil {
		return nil, fmt.Errorf("binlog: rows of the table numbered %d come before its map", id)
	}
	if n != len(x.Table.Columns) {
		return nil, fmt.Errorf("binlog: rows of %s.%s have %d columns, its map has %d", x.Table.Database, x.Table.Name, n,
			len(x.Table.Columns))
	}
	first := bits(c.take((n+7)/8), n)
	switch x.Kind {
	case TypeWriteRows:
		x.After = first
	case TypeDeleteRows:
		x.Before = first
	case TypeUpdateRows:
		x.Before, x.After = first, bits(c.take((n+7)/8), n)
	default:
		return nil, fmt.Errorf("binlog: %d is no rows event", t)
	}
	if err := c.err(); err != nil {
		return nil, err
	}
	if x.Kind != t {
		var err error
		if c.b, err = unpack(c.b); err != nil {
			return nil, err
		}
	}
	x.c = c
	return x, nil
}

func bits(b []byte, n int) []bool {
	out := make([]bool, n)
	for i := range out {
		out[i] = i/8 < len(b) && b[i/8]&(1<<(i%8)) != 0
	}
	return out
}

// Next reads the next row; the slices it fills are used again for the row after
// it. It returns false when there are no more.
func (x *Rows) Next(before, after *[]Value, scratch *[]byte) (bool, error) {
	if len(x.c.b) == 0 {
		return false, nil
	}
	left := len(x.c.b)
	*scratch = (*scratch)[:0]
	for _, image := range []struct {
		present []bool
		to      *[]Value
	}{{x.Before, before}, {x.After, after}} {
		*image.to = (*image.to)[:0]
		if image.present == nil {
			continue
		}
		if err := x.image(image.present, image.to, scratch); err != nil {
			return false, err
		}
	}
	if len(x.c.b) == left { // rows without a byte would never end
		return false, ErrShort
	}
	return true, nil
}

func (x *Rows) image(present []bool, to *[]Value, scratch *[]byte) error {
	n := 0
	for _, p := range present {
		if p {
			n++
		}
	}
	nulls := x.c.take((n + 7) / 8)
	if x.c.short {
		return ErrShort
	}
	at := 0
	for i, p := range present {
		if !p {
			*to = append(*to, Value{Absent: true})
			continue
		}
		null := nulls[at/8]&(1<<(at%8)) != 0
		at++
		if null {
			*to = append(*to, Value{Null: true})
			continue
		}
		from := len(*scratch)
		var err error
		if *scratch, err = x.Table.Columns[i].appendText(*scratch, &x.c); err != nil {
			return fmt.Errorf("binlog: column %d of %s.%s: %w", i+1, x.Table.Database, x.Table.Name, err)
		}
		*to = append(*to, Value{Data: (*scratch)[from:len(*scratch):len(*scratch)]})
	}
	return x.c.err()
}
