package pgoutput

// Begin opens a transaction.
type Begin struct {
	FinalLSN uint64 // where the commit record begins
	At       int64  // commit time, microseconds since 2000-01-01 UTC
	XID      uint32
}

func readBegin(r *reader) Begin { return Begin{FinalLSN: r.u64(), At: int64(r.u64()), XID: r.u32()} }

// Append adds the wire form to b.
func (m Begin) Append(b []byte) []byte {
	b = be.AppendUint64(append(b, 'B'), m.FinalLSN)
	b = be.AppendUint64(b, uint64(m.At))
	return be.AppendUint32(b, m.XID)
}

// Commit ends a transaction.
type Commit struct {
	Flags  byte
	LSN    uint64 // where the commit record begins
	EndLSN uint64 // first position after it
	At     int64  // microseconds since 2000-01-01 UTC
}

func readCommit(r *reader) Commit {
	return Commit{Flags: r.u8(), LSN: r.u64(), EndLSN: r.u64(), At: int64(r.u64())}
}

// Append adds the wire form to b.
func (m Commit) Append(b []byte) []byte {
	b = be.AppendUint64(append(b, 'C', m.Flags), m.LSN)
	b = be.AppendUint64(b, m.EndLSN)
	return be.AppendUint64(b, uint64(m.At))
}

// Origin says that a transaction came from elsewhere.
type Origin struct {
	LSN  uint64
	Name string
}

// Append adds the wire form to b.
func (m Origin) Append(b []byte) []byte {
	return appendStr(be.AppendUint64(append(b, 'O'), m.LSN), m.Name)
}

// Logical is a message a session wrote into the log.
type Logical struct {
	Flags   byte // 1: part of a transaction
	LSN     uint64
	Prefix  string
	Content []byte
}

func readLogical(r *reader) Logical {
	m := Logical{Flags: r.u8(), LSN: r.u64(), Prefix: r.str()}
	m.Content = r.take(int(r.u32()))
	return m
}

// Append adds the wire form to b.
func (m Logical) Append(b []byte) []byte {
	b = appendStr(be.AppendUint64(append(b, 'M', m.Flags), m.LSN), m.Prefix)
	return append(be.AppendUint32(b, uint32(len(m.Content))), m.Content...)
}
