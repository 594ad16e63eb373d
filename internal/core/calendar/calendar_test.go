package calendar_test

import (
	"testing"
	"time"

	"dustyferry/internal/core/calendar"
	"dustyferry/internal/domain"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	x, err := time.Parse(time.RFC3339, text)
	if err != nil {
		t.Fatal(err)
	}
	return x
}

func TestWhenItIsDue(t *testing.T) {
	for _, c := range []struct{ cron, zone, after, want string }{
		{"0 2 * * *", "", "2026-11-23T20:00:00Z", "2026-11-24T02:00:00Z"},
		{"0 2 * * *", "Europe/Amsterdam", "2026-11-23T20:00:00Z", "2026-11-24T01:00:00Z"},
		{"0 2 * * *", "Europe/Amsterdam", "2026-07-01T20:00:00Z", "2026-07-02T00:00:00Z"},
		{"*/15 9-17 * * 1-5", "UTC", "2026-11-27T17:45:00Z", "2026-11-30T09:00:00Z"},
		{"@monthly", "UTC", "2026-11-27T17:45:00Z", "2026-12-01T00:00:00Z"},
		// In the night when summer time ends there is only one of it.
		{"30 2 * * *", "Europe/Amsterdam", "2026-10-24T12:00:00Z", "2026-10-25T00:30:00Z"},
	} {
		p, err := calendar.Parse(c.cron, c.zone)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Next(at(t, c.after)); !got.Equal(at(t, c.want)) {
			t.Errorf("%s in %s after %s: %s, want %s", c.cron, c.zone, c.after, got, c.want)
		}
	}
	for _, bad := range [][2]string{{"", ""}, {"61 * * * *", ""}, {"* * * *", ""}, {"0 0 30 2 *", ""}, {"0 2 * * *", "Saltmarsh"}} {
		if _, err := calendar.Parse(bad[0], bad[1]); !domain.IsKind(err, domain.ProblemInvalid) {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

func TestWhatWasMissed(t *testing.T) {
	p, err := calendar.Parse("0 * * * *", "")
	if err != nil {
		t.Fatal(err)
	}
	due := at(t, "2026-11-23T10:00:00Z")
	if run, next, note := p.Due(due, due.Add(time.Minute), "skip"); !run || note != "" || !next.Equal(due.Add(time.Hour)) {
		t.Errorf("in time: %v %s %q", run, next, note)
	}
	late := due.Add(5*time.Hour + 30*time.Minute)
	if run, next, note := p.Due(due, late, "run once"); !run || note != "due 6 times since 2026-11-23 10:00:00, when no service ran" || !next.Equal(due.Add(6*time.Hour)) {
		t.Errorf("run once: %v %s %q", run, next, note)
	}
	if run, _, _ := p.Due(due, late, "skip"); run {
		t.Error("what was to be skipped runs")
	}
}
