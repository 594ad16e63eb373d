package mariadb

import (
	"encoding/binary"
	"strings"
	"testing"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// eventAt is an event of the log that ends at a place.
func eventAt(kind binlog.Type, next uint32, body ...byte) []byte {
	b := make([]byte, 19, 19+len(body))
	b[4] = byte(kind)
	binary.LittleEndian.PutUint32(b[9:], uint32(19+len(body)))
	binary.LittleEndian.PutUint32(b[13:], next)
	return append(b, body...)
}

// TestALogFileOfMoreThanFourGiB: events say their place in 32 bits, so that places begin
// again in such a file. That is told, and no place in it is taken for an earlier one.
func TestALogFileOfMoreThanFourGiB(t *testing.T) {
	c := &capture{events: make(chan domain.Event, 8), file: 7}
	for _, next := range []uint32{1 << 30, 3 << 30, 4_294_967_295} {
		if err := c.take(t.Context(), eventAt(binlog.TypeAnnotate, next)); err != nil {
			t.Fatalf("an event that ends at %d: %v", next, err)
		}
	}
	err := c.take(t.Context(), eventAt(binlog.TypeAnnotate, 1_000))
	if !domain.IsKind(err, domain.ProblemConflict) || !strings.Contains(err.Error(), "larger than 4 GiB") {
		t.Errorf("an event that ends past 4 GiB: %v", err)
	}
	// The next file begins at its own beginning.
	c = &capture{events: make(chan domain.Event, 8), file: 7, last: 4_000_000_000}
	rotate := append(make([]byte, 8), "dusty-bin.000008"...)
	rotate[0] = 4
	if err := c.take(t.Context(), eventAt(binlog.TypeRotate, 4_000_000_100, rotate...)); err != nil {
		t.Fatal(err)
	}
	if err := c.take(t.Context(), eventAt(binlog.TypeAnnotate, 300)); err != nil || c.file != 8 {
		t.Errorf("in file %d: %v", c.file, err)
	}
	inside, past, next := position(7, 1<<32-100), position(7, 5<<30), position(8, 4)
	if !inside.Before(past) || !past.Before(next) {
		t.Errorf("places %d, %d, %d do not follow one another", inside, past, next)
	}
}
