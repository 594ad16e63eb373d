package pgoutput

// Relation describes a table; it comes before the first change of the table and
// again whenever its definition has changed.
type Relation struct {
	ID       uint32
	Schema   string // empty for pg_catalog
	Name     string
	Identity byte // d default, n nothing, f full, i index
	Columns  []Column
}

// Column is one column of a relation.
type Column struct {
	Flags    byte // 1: part of the row's identity
	Name     string
	Type     uint32
	Modifier int32
}

func readRelation(r *reader) Relation {
	m := Relation{ID: r.u32(), Schema: r.str(), Name: r.str(), Identity: r.u8()}
	n := int(r.u16())
	for range n {
		if r.bad {
			break
		}
		m.Columns = append(m.Columns, Column{Flags: r.u8(), Name: r.str(), Type: r.u32(), Modifier: int32(r.u32())})
	}
	return m
}

// Append adds the wire form to b.
func (m Relation) Append(b []byte) []byte {
	b = appendStr(be.AppendUint32(append(b, 'R'), m.ID), m.Schema)
	b = append(appendStr(b, m.Name), m.Identity)
	b = be.AppendUint16(b, uint16(len(m.Columns)))
	for _, c := range m.Columns {
		b = be.AppendUint32(appendStr(append(b, c.Flags), c.Name), c.Type)
		b = be.AppendUint32(b, uint32(c.Modifier))
	}
	return b
}

// Type names a type that is not built in.
type Type struct {
	ID     uint32
	Schema string
	Name   string
}

// Append adds the wire form to b.
func (m Type) Append(b []byte) []byte {
	return appendStr(appendStr(be.AppendUint32(append(b, 'Y'), m.ID), m.Schema), m.Name)
}
