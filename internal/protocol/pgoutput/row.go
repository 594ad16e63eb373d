package pgoutput

// Tuple is one row: a value per column of the relation.
type Tuple []Datum

// Datum is one value.
type Datum struct {
	Kind byte // n NULL, u unchanged large value, t text, b binary
	Data []byte
}

func readTuple(r *reader) Tuple {
	n := int(r.u16())
	if n > len(r.b) { // every value takes at least its kind
		r.bad = true
		return nil
	}
	t := make(Tuple, n)
	for i := range t {
		t[i].Kind = r.u8()
		switch t[i].Kind {
		case 't', 'b':
			t[i].Data = r.take(int(int32(r.u32())))
		case 'n', 'u':
		default:
			r.bad = true
		}
		if r.bad {
			return nil
		}
	}
	return t
}

func (t Tuple) append(b []byte) []byte {
	b = be.AppendUint16(b, uint16(len(t)))
	for _, d := range t {
		b = append(b, d.Kind)
		if d.Kind == 't' || d.Kind == 'b' {
			b = append(be.AppendUint32(b, uint32(len(d.Data))), d.Data...)
		}
	}
	return b
}

// Insert is a new row.
type Insert struct {
	Relation uint32
	New      Tuple
}

func readInsert(r *reader) Insert {
	m := Insert{Relation: r.u32()}
	if r.u8() != 'N' {
		r.bad = true
	}
	m.New = readTuple(r)
	return m
}

// Append adds the wire form to b.
func (m Insert) Append(b []byte) []byte {
	return m.New.append(append(be.AppendUint32(append(b, 'I'), m.Relation), 'N'))
}

// Update is a changed row.
type Update struct {
	Relation uint32
	OldKind  byte // 0 none, K only the identity's columns, O the whole row
	Old      Tuple
	New      Tuple
}

func readUpdate(r *reader) Update {
	m := Update{Relation: r.u32()}
	k := r.u8()
	if k == 'K' || k == 'O' {
		m.OldKind, m.Old = k, readTuple(r)
		k = r.u8()
	}
	if k != 'N' {
		r.bad = true
	}
	m.New = readTuple(r)
	return m
}

// Append adds the wire form to b.
func (m Update) Append(b []byte) []byte {
	b = be.AppendUint32(append(b, 'U'), m.Relation)
	if m.OldKind != 0 {
		b = m.Old.append(append(b, m.OldKind))
	}
	return m.New.append(append(b, 'N'))
}

// Delete is a removed row.
type Delete struct {
	Relation uint32
	OldKind  byte // K or O
	Old      Tuple
}

func readDelete(r *reader) Delete {
	m := Delete{Relation: r.u32(), OldKind: r.u8()}
	if m.OldKind != 'K' && m.OldKind != 'O' {
		r.bad = true
	}
	m.Old = readTuple(r)
	return m
}

// Append adds the wire form to b.
func (m Delete) Append(b []byte) []byte {
	return m.Old.append(append(be.AppendUint32(append(b, 'D'), m.Relation), m.OldKind))
}

// Truncate empties tables.
type Truncate struct {
	Options   byte // 1 cascade, 2 restart identity
	Relations []uint32
}

func readTruncate(r *reader) Truncate {
	n := int(r.u32())
	m := Truncate{Options: r.u8()}
	if n*4 > len(r.b) || n < 0 {
		r.bad = true
		return m
	}
	for range n {
		m.Relations = append(m.Relations, r.u32())
	}
	return m
}

// Append adds the wire form to b.
func (m Truncate) Append(b []byte) []byte {
	b = append(be.AppendUint32(append(b, 'T'), uint32(len(m.Relations))), m.Options)
	for _, id := range m.Relations {
		b = be.AppendUint32(b, id)
	}
	return b
}
