package records_test

import (
	"testing"
	"time"

	"dustyferry/internal/domain"
)

// TestAClockThatIsSetBack moves what the records say of time an hour ahead, which is what
// they look like after the server's clock was set back by an hour: a dead worker's chunk
// is taken back at once all the same, and whoever is alive keeps what it has.
func TestAClockThatIsSetBack(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 2, 4)
	ctx := t.Context()
	dead, err := s.Claim(ctx, c.ID, "dead", domain.BatchHint{})
	if err != nil || dead == nil {
		t.Fatal(err)
	}
	st, err := s.ClaimStream(ctx, "dead", nil)
	if err != nil || st == nil {
		t.Fatal(err)
	}
	if back, err := s.MendClock(ctx); err != nil || back != 0 {
		t.Errorf("a clock that goes as it should: %v, %v", back, err)
	}
	for _, sql := range []string{`UPDATE chunks SET lease_until = lease_until + interval '1 hour',
  not_before = not_before + interval '1 hour'`,
		`UPDATE streams SET lease_until = lease_until + interval '1 hour', not_before = not_before + interval '1 hour'`,
		`UPDATE clock SET seen = seen + interval '1 hour'`} {
		if _, err := s.DB.ExecContext(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	if lost, err := s.Lost(ctx); err != nil || len(lost) != 0 {
		t.Fatalf("the test makes no fault: %+v, %v", lost, err)
	}
	if back, err := s.MendClock(ctx); err != nil || back < 59*time.Minute || back > time.Hour {
		t.Errorf("it went back by %v, %v", back, err)
	}
	if lost, err := s.Lost(ctx); err != nil || len(lost) != 1 || lost[0].ID != dead.ID {
		t.Errorf("chunks to take back: %+v, %v", lost, err)
	}
	if again, err := s.ClaimStream(ctx, "other", nil); err != nil || again == nil || again.Epoch != st.Epoch+1 {
		t.Errorf("a dead worker's stream: %+v, %v", again, err)
	}
	if next, err := s.Claim(ctx, c.ID, "other", domain.BatchHint{}); err != nil || next == nil {
		t.Errorf("chunks that waited: %+v, %v", next, err)
	}
	if back, err := s.MendClock(ctx); err != nil || back != 0 {
		t.Errorf("it is told of twice: %v, %v", back, err)
	}
}
