package pgoutput_test

import (
	"bytes"
	"reflect"
	"testing"

	"dustyferry/internal/protocol/pgoutput"
)

var messages = []pgoutput.Message{
	pgoutput.Begin{FinalLSN: 0x16B3748, At: 817_000_000_000_000, XID: 741},
	pgoutput.Commit{LSN: 0x16B3748, EndLSN: 0x16B3778, At: 817_000_000_000_001},
	pgoutput.Origin{LSN: 9, Name: "elsewhere"},
	pgoutput.Relation{ID: 16401, Schema: "saltmarsh", Name: `hives "new"`, Identity: 'd', Columns: []pgoutput.Column{
		{Flags: 1, Name: "id", Type: 20, Modifier: -1}, {Name: "note", Type: 25, Modifier: -1}}},
	pgoutput.Type{ID: 16500, Schema: "saltmarsh", Name: "temper"},
	pgoutput.Insert{Relation: 16401, New: pgoutput.Tuple{{Kind: 't', Data: []byte("1")}, {Kind: 'n'}}},
	pgoutput.Update{Relation: 16401, New: pgoutput.Tuple{{Kind: 't', Data: []byte("1")}, {Kind: 'u'}}},
	pgoutput.Update{Relation: 16401, OldKind: 'K', Old: pgoutput.Tuple{{Kind: 't', Data: []byte("1")}, {Kind: 'n'}},
		New: pgoutput.Tuple{{Kind: 't', Data: []byte("2")}, {Kind: 't', Data: []byte{}}}},
	pgoutput.Delete{Relation: 16401, OldKind: 'O', Old: pgoutput.Tuple{{Kind: 'b', Data: []byte{0, 0, 0, 1}},
		{Kind: 'n'}}},
	pgoutput.Truncate{Options: 3, Relations: []uint32{16401, 16402}},
	pgoutput.StreamStart{XID: 741, First: 1},
	pgoutput.StreamStop{},
	pgoutput.StreamCommit{XID: 741, Commit: pgoutput.Commit{LSN: 0x16B3748, EndLSN: 0x16B3778, At: 817_000_000_000_001}},
	pgoutput.StreamAbort{XID: 741, Sub: 742},
	pgoutput.Logical{Flags: 1, LSN: 77, Prefix: "dusty_ferry", Content: []byte("heartbeat")},
}

func TestEveryMessageGoesThereAndBack(t *testing.T) {
	for _, m := range messages {
		got, err := pgoutput.Decode(m.Append(nil))
		if err != nil || !reflect.DeepEqual(got, m) {
			t.Errorf("%T came back as %+v (%v), want %+v", m, got, err, m)
		}
	}
}

func TestACutMessageIsAnError(t *testing.T) {
	for _, m := range messages {
		wire := m.Append(nil)
		for n := range wire {
			if got, err := pgoutput.Decode(wire[:n]); err == nil {
				t.Errorf("%T cut to %d of %d bytes gave %+v", m, n, len(wire), got)
			}
		}
		if _, err := pgoutput.Decode(append(wire, 0)); err == nil {
			t.Errorf("%T with a byte too many was taken", m)
		}
	}
}

func TestMessagesOfASegment(t *testing.T) {
	for _, m := range messages {
		wire := m.Append(nil)
		if !pgoutput.Numbered(wire[0]) {
			continue
		}
		streamed := append([]byte{wire[0], 0, 0, 2, 0xe6}, wire[1:]...)
		short := bytes.Clone(streamed[:4])
		sub, rest, err := pgoutput.DecodeStreamed(streamed)
		if err != nil || sub != 742 || !bytes.Equal(rest, wire) {
			t.Errorf("%T: %d %x (%v)", m, sub, rest, err)
		}
		if _, _, err := pgoutput.DecodeStreamed(short); err == nil {
			t.Errorf("%T cut short was taken", m)
		}
	}
}

func FuzzDecode(f *testing.F) {
	for _, m := range messages {
		f.Add(m.Append(nil))
	}
	for _, b := range recorded(f) {
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := pgoutput.Decode(b)
		if err != nil {
			return
		}
		if again := m.Append(nil); !bytes.Equal(again, b) {
			t.Fatalf("%x decodes to %+v which encodes to %x", b, m, again)
		}
	})
}

func BenchmarkDecodeUpdate(b *testing.B) {
	wire := messages[7].Append(nil)
	b.SetBytes(int64(len(wire)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := pgoutput.Decode(wire); err != nil {
			b.Fatal(err)
		}
	}
}
