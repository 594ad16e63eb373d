package mariadb

import (
	"testing"

	"dustyferry/internal/domain"
)

// TestGTIDs: places are told by GTID as the server tells them, and found again.
func TestGTIDs(t *testing.T) {
	for _, bad := range []string{"0-1", "a-b-c", "0-1-2-3", "0-1-2;0-1-3", "-1-1-1"} {
		if _, err := parseGTIDs(bad); !domain.IsKind(err, domain.ProblemInvalid) {
			t.Errorf("%q was read as a GTID: %v", bad, err)
		}
	}
	w := gtids{at: map[uint32]gtid{}}
	w.ended(domain.PositionAt(100), gtid{0, 1, 5})
	w.ended(domain.PositionAt(200), gtid{7, 2, 9})
	w.ended(domain.PositionAt(300), gtid{0, 1, 6})
	for _, c := range []struct {
		at   domain.Position
		want string
	}{{domain.PositionAt(50), ""}, {domain.PositionAt(100), "0-1-5"}, {domain.PositionAt(250), "0-1-5,7-2-9"},
		{domain.PositionAt(300), "0-1-6,7-2-9"}} {
		if got := w.upTo(c.at); got != c.want {
			t.Errorf("at %s: %q, want %q", c.at, got, c.want)
		}
	}
	if len(w.after) != 0 {
		t.Errorf("what was told is kept: %v", w.after)
	}
}
