package binlog

import (
	"bytes"
	"encoding/binary"
	"os"
	"testing"
)

// logged is one event of a recording.
type logged struct {
	h    Header
	body []byte
}

// recorded gives the events of a log file that a real server wrote (test/record_test.go).
func recorded(t testing.TB) (out []logged) {
	t.Helper()
	b, err := os.ReadFile("testdata/recorded.bin")
	if err != nil || !bytes.HasPrefix(b, []byte("\xfebin")) {
		t.Fatalf("no log file: %v", err)
	}
	r := Reader{}
	for b = b[4:]; len(b) > 0; {
		n := binary.LittleEndian.Uint32(b[9:])
		h, body, err := r.Event(b[:n])
		if err != nil {
			t.Fatal(err)
		}
		if h.Type == TypeFormat {
			if _, err := r.Format(body); err != nil {
				t.Fatal(err)
			}
		}
		out = append(out, logged{h, bytes.Clone(body)})
		b = b[n:]
	}
	return out
}

// TestRecorded: every event of a server's log file is understood, to the last byte of its
// rows.
func TestRecorded(t *testing.T) {
	kinds, rows, prepared := map[Type]int{}, map[Type]int{}, 0
	var r Reader
	var before, after []Value
	var text []byte
	for _, e := range recorded(t) {
		kinds[e.h.Type]++
		switch e.h.Type {
		case TypeGtid:
			g, err := DecodeGtid(e.body)
			if err != nil {
				t.Fatal(err)
			}
			if g.Prepared || g.Completed {
				if prepared++; g.XID.String() != "X'686f6e6579',X'636f6d62',1" {
					t.Errorf("%v", g.XID)
				}
			}
		case TypeQuery, TypeQueryCompressed:
			if _, err := DecodeQuery(e.h.Type, e.body); err != nil {
				t.Error(err)
			}
		case TypeTableMap:
			if _, err := r.TableMap(e.body); err != nil {
				t.Fatal(err)
			}
		case TypeWriteRows, TypeUpdateRows, TypeDeleteRows, TypeWriteRowsPacked, TypeUpdateRowsPacked, TypeDeleteRowsPacked:
			x, err := r.Rows(e.h.Type, e.body)
			if err != nil {
				t.Fatal(err)
			}
			for {
				more, err := x.Next(&before, &after, &text)
				if err != nil {
					t.Fatal(err)
				}
				if !more {
					break
				}
				rows[x.Kind]++
			}
		}
	}
	// What record_test.go does: the rows of each kind.
	if rows[TypeWriteRows] != 2+300+1 || rows[TypeUpdateRows] != 1+1+2*(3+1) || rows[TypeDeleteRows] != 1+1 ||
		prepared != 4 {
		t.Errorf("rows %v, %d two-phase groups", rows, prepared)
	}
	for _, k := range []Type{TypeFormat, TypeGtid, TypeXid, TypeTableMap, TypeXAPrepare, TypeAnnotate, TypeQuery,
		TypeQueryCompressed, TypeWriteRows, TypeUpdateRows, TypeDeleteRows, TypeWriteRowsPacked, TypeUpdateRowsPacked} {
		if kinds[k] == 0 {
			t.Errorf("no event of type %d: %v", k, kinds)
		}
	}
}

// TestALogWithoutChecksums: the format event that heads one has room for a checksum all the
// same, with anything in it. What stands there says nothing of the events behind it.
func TestALogWithoutChecksums(t *testing.T) {
	b, err := os.ReadFile("testdata/recorded.bin")
	if err != nil {
		t.Fatal(err)
	}
	b = b[4:]
	first := bytes.Clone(b[:binary.LittleEndian.Uint32(b[9:])])
	end := len(first)
	if first[end-5] != checksumAlgorithmCRC32 {
		t.Fatalf("the recording is of a log with algorithm %d", first[end-5])
	}
	for of, want := range map[byte]bool{0: false, checksumAlgorithmCRC32: true} {
		for last := range 256 {
			e := bytes.Clone(first)
			if e[end-5] = of; !want {
				e[end-1] = byte(last)
			}
			r := Reader{Checksums: !want}
			_, body, err := r.Event(e)
			if err != nil {
				t.Fatal(err)
			}
			if f, err := r.Format(body); err != nil || f.Checksums != want || r.Checksums != want || f.Server == "" {
				t.Fatalf("algorithm %d, last byte %d: %+v (%v)", of, last, f, err)
			}
		}
	}
	if _, _, err := (&Reader{}).Event(append(bytes.Clone(first[:9]), append(binary.LittleEndian.AppendUint32(nil,
		headerSize), first[13:headerSize]...)...)); err == nil {
		t.Error("a format event without a body was read")
	}
}
