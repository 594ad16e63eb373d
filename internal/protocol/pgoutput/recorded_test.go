package pgoutput_test

import (
	"bytes"
	"encoding/binary"
	"os"
	"testing"

	"dustyferry/internal/protocol/pgoutput"
)

// recorded gives the messages that a real server sent (test/record_test.go makes them), each
// as it would come by itself.
func recorded(t testing.TB) (out [][]byte) {
	t.Helper()
	b, err := os.ReadFile("testdata/recorded.bin")
	if err != nil {
		t.Fatal(err)
	}
	streaming := false
	for len(b) > 0 {
		n := 4 + int(binary.BigEndian.Uint32(b))
		m := bytes.Clone(b[4:n])
		b = b[n:]
		switch m[0] {
		case 'S':
			streaming = true
		case 'E':
			streaming = false
		default:
			if streaming {
				var err error
				if _, m, err = pgoutput.DecodeStreamed(m); err != nil {
					t.Fatal(err)
				}
			}
		}
		out = append(out, bytes.Clone(m))
	}
	return out
}

// TestRecorded: what a server sends is decoded, and encoded to the same bytes.
func TestRecorded(t *testing.T) {
	kinds := map[byte]int{}
	aborted := 0
	for _, b := range recorded(t) {
		m, err := pgoutput.Decode(b)
		if err != nil {
			t.Fatalf("%.60q: %v", b, err)
		}
		if again := m.Append(nil); !bytes.Equal(again, b) {
			t.Errorf("%.60q becomes %.60q", b, again)
		}
		kinds[b[0]]++
		if a, ok := m.(pgoutput.StreamAbort); ok && a.Sub != a.XID {
			aborted++
		}
	}
	for _, k := range "BCORYIUDTMSEcA" {
		if kinds[byte(k)] == 0 {
			t.Errorf("no message of kind %c: %v", k, kinds)
		}
	}
	if aborted == 0 {
		t.Error("no subtransaction was rolled back in a stream")
	}
}
