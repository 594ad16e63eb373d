package binlog

// ColumnType is how the log writes a column's values.
type ColumnType byte

// The column types of the log.
const (
	ColTiny       ColumnType = 1
	ColShort      ColumnType = 2
	ColLong       ColumnType = 3
	ColFloat      ColumnType = 4
	ColDouble     ColumnType = 5
	ColTimestamp  ColumnType = 7
	ColLongLong   ColumnType = 8
	ColInt24      ColumnType = 9
	ColDate       ColumnType = 10
	ColTime       ColumnType = 11
	ColDatetime   ColumnType = 12
	ColYear       ColumnType = 13
	ColVarchar    ColumnType = 15
	ColBit        ColumnType = 16
	ColTimestamp2 ColumnType = 17
	ColDatetime2  ColumnType = 18
	ColTime2      ColumnType = 19
	ColNewDecimal ColumnType = 246
	ColEnum       ColumnType = 247
	ColSet        ColumnType = 248
	ColBlob       ColumnType = 252
	ColVarString  ColumnType = 253
	ColString     ColumnType = 254
	ColGeometry   ColumnType = 255
)

// Column is one column of a mapped table.
type Column struct {
	Type ColumnType
	// Meta depends on the type: bytes of the length, digits, fractions of a second.
	Meta     uint16
	Nullable bool
	// Unsigned is set when the log carries optional metadata, or by the caller
	// from the catalog.
	Unsigned bool
}

// Table says how the rows of a table that follow are written.
type Table struct {
	ID       uint64
	Database string
	Name     string
	Columns  []Column
	// Strange marks a table that is not the one expected; it is the caller's.
	Strange bool
	// Signedness says that the log itself told which numbers are unsigned.
	Signedness bool
}

// TableMap reads a table map event and remembers the table under its number.
func (r *Reader) TableMap(body []byte) (*Table, error) {
	c := cursor{b: body}
	t := &Table{ID: c.uint(6)}
	c.take(2) // flags
	t.Database = string(c.take(int(c.uint(1))))
	c.take(1)
	t.Name = string(c.take(int(c.uint(1))))
	c.take(1)
	n := c.packed()
	if c.short || n > uint64(len(c.b)) {
		return nil, ErrShort
	}
	types := c.take(int(n))
	meta := cursor{b: c.take(int(c.packed()))}
	nulls := c.take((int(n) + 7) / 8)
	if err := c.err(); err != nil {
		return nil, err
	}
	for i, x := range types {
		k := Column{Type: ColumnType(x), Nullable: nulls[i/8]&(1<<(i%8)) != 0}
		k.readMeta(&meta)
		t.Columns = append(t.Columns, k)
	}
	if err := meta.err(); err != nil {
		return nil, err
	}
	for len(c.b) > 0 { // optional metadata: type, length, value
		kind := c.uint(1)
		value := c.take(int(c.packed()))
		if c.short {
			return nil, ErrShort
		}
		if kind == 1 {
			t.signedness(value)
		}
	}
	if r.Tables == nil {
		r.Tables = map[uint64]*Table{}
	}
	r.Tables[t.ID] = t
	return t, nil
}

func (k *Column) readMeta(c *cursor) {
	switch k.Type {
	case ColFloat, ColDouble, ColBlob, ColGeometry, ColTimestamp2, ColDatetime2, ColTime2:
		k.Meta = uint16(c.uint(1))
	case ColVarchar, ColVarString, ColBit:
		k.Meta = uint16(c.uint(2))
	case ColNewDecimal: // precision and scale
		k.Meta = uint16(c.big(2))
	case ColString, ColEnum, ColSet:
		// Two bytes hold the real type and a length of up to ten bits, whose two
		// highest stand inverted among the type's.
		a, b := c.uint(1), c.uint(1)
		if a&0x30 != 0x30 {
			k.Type, k.Meta = ColumnType(a|0x30), uint16(b|((a&0x30)^0x30)<<4)
		} else {
			k.Type, k.Meta = ColumnType(a), uint16(b)
		}
	}
}

// numeric reports whether the column takes part in the signedness bits.
func (k Column) numeric() bool {
	switch k.Type {
	case ColTiny, ColShort, ColInt24, ColLong, ColLongLong, ColFloat, ColDouble, ColNewDecimal, ColYear:
		return true
	}
	return false
}

func (t *Table) signedness(bits []byte) {
	t.Signedness = true
	n := 0
	for i := range t.Columns {
		if !t.Columns[i].numeric() {
			continue
		}
		if n/8 < len(bits) {
			t.Columns[i].Unsigned = bits[n/8]&(0x80>>(n%8)) != 0
		}
		n++
	}
}
