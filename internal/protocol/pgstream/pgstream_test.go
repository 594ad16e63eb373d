package pgstream_test

import (
	"reflect"
	"testing"
	"time"

	"dustyferry/internal/protocol/pgstream"
)

func TestThereAndBack(t *testing.T) {
	for _, m := range []interface{ Append([]byte) []byte }{
		pgstream.Data{Start: 1, End: 2, At: 3, Payload: []byte("B…")},
		pgstream.Keepalive{End: 9, At: -4, Reply: true},
		pgstream.Status{Written: 3, Flushed: 2, Applied: 1, At: 8},
	} {
		wire := m.Append(nil)
		if got, err := pgstream.Decode(wire); err != nil || !reflect.DeepEqual(got, m) {
			t.Errorf("%T: %+v (%v)", m, got, err)
		}
		if _, err := pgstream.Decode(wire[:12]); err == nil {
			t.Errorf("%T cut short was taken", m)
		}
	}
}

func TestServerTime(t *testing.T) {
	at := time.Date(2026, 11, 23, 7, 0, 0, 5000, time.UTC)
	if got := pgstream.Micros(pgstream.ServerTime(at)); got != at.UnixMicro() {
		t.Errorf("%d, want %d", got, at.UnixMicro())
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(pgstream.Keepalive{End: 1}.Append(nil))
	f.Add(pgstream.Data{Start: 1, Payload: []byte("x")}.Append(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, err := pgstream.Decode(b); err == nil && m == nil {
			t.Fatal("neither message nor error")
		}
	})
}
