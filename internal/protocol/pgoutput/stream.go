package pgoutput

// From protocol version 2 on the server can stream a large transaction while it is still
// in progress: in segments between StreamStart and StreamStop, of any transaction, and at
// last StreamCommit, or StreamAbort. Messages of a segment carry the number of the
// (sub)transaction that made them; see [DecodeStreamed].

// StreamStart opens a segment.
type StreamStart struct {
	XID   uint32
	First byte // 1: the transaction's first segment
}

// Append adds the wire form to b.
func (m StreamStart) Append(b []byte) []byte {
	return append(be.AppendUint32(append(b, 'S'), m.XID), m.First)
}

// StreamStop closes a segment.
type StreamStop struct{}

// Append adds the wire form to b.
func (StreamStop) Append(b []byte) []byte { return append(b, 'E') }

// StreamCommit ends a streamed transaction.
type StreamCommit struct {
	XID uint32
	Commit
}

func readStreamCommit(r *reader) StreamCommit {
	return StreamCommit{XID: r.u32(), Commit: readCommit(r)}
}

// Append adds the wire form to b.
func (m StreamCommit) Append(b []byte) []byte {
	b = append(be.AppendUint32(append(b, 'c'), m.XID), m.Flags)
	b = be.AppendUint64(be.AppendUint64(b, m.LSN), m.EndLSN)
	return be.AppendUint64(b, uint64(m.At))
}

// StreamAbort says that a streamed transaction, or a subtransaction of it, was rolled
// back: the whole when both numbers are the same.
type StreamAbort struct {
	XID uint32
	Sub uint32
}

// Append adds the wire form to b.
func (m StreamAbort) Append(b []byte) []byte {
	return be.AppendUint32(be.AppendUint32(append(b, 'A'), m.XID), m.Sub)
}

// DecodeStreamed reads a message of a segment and the number of the (sub)transaction that
// made it, 0 for those that carry none. rest is the message as [Decode] takes it; it is
// made in b, which is changed by that.
func DecodeStreamed(b []byte) (sub uint32, rest []byte, err error) {
	if len(b) == 0 {
		return 0, nil, ErrShort
	}
	if !Numbered(b[0]) {
		return 0, b, nil
	}
	if len(b) < 5 {
		return 0, nil, ErrShort
	}
	sub = be.Uint32(b[1:])
	b[4] = b[0]
	return sub, b[4:], nil
}

// Numbered reports whether a message of the kind has the number of a (sub)transaction behind
// its first byte in a segment.
func Numbered(kind byte) bool {
	switch kind {
	case 'R', 'Y', 'I', 'U', 'D', 'T', 'M':
		return true
	}
	return false
}
