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
		{"30 2 * * *", "Europe/Amsterdam", "2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"},
		{"30 2 * * *", "Europe/Amsterdam", "2026-10-25T01:10:00Z", "2026-10-26T01:30:00Z"},
		{"30 1 * * *", "America/New_York", "2026-11-01T05:30:00Z", "2026-11-02T06:30:00Z"},
		// In the night when it begins there is none: when the clock jumps, to three.
		{"30 2 * * *", "Europe/Amsterdam", "2026-03-28T12:00:00Z", "2026-03-29T01:00:00Z"},
		{"30 2 * * *", "Europe/Amsterdam", "2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"},
		{"0 * * * *", "Europe/Amsterdam", "2026-03-29T00:30:00Z", "2026-03-29T01:00:00Z"},
		{"0 * * * *", "Europe/Amsterdam", "2026-03-29T01:00:00Z", "2026-03-29T02:00:00Z"},
		// A clock that is put forward at midnight has no midnight, one put forward by half an hour a short one.
		{"0 0 * * *", "Africa/Cairo", "2026-04-23T12:00:00Z", "2026-04-23T22:00:00Z"},
		{"10 2 * * *", "Australia/Lord_Howe", "2026-10-03T12:00:00Z", "2026-10-03T15:30:00Z"},
		// Whole days that a calendar left out.
		{"0 12 30 12 *", "Pacific/Apia", "2011-12-28T00:00:00Z", "2011-12-30T10:00:00Z"},
	} {
		p, err := calendar.Parse(c.cron, c.zone)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Next(at(t, c.after)); !got.Equal(at(t, c.want)) {
			t.Errorf("%s in %s after %s: %s, want %s", c.cron, c.zone, c.after, got, c.want)
		}
	}
	for _, bad := range [][2]string{{"", ""}, {"61 * * * *", ""}, {"* * * *", ""}, {"0 0 30 2 *", ""},
		{"0 2 * * *", "Saltmarsh"}, {"0 2 * * *", "Local"}, {"TZ=0", ""}, {"TZ=UTC 0 2 * * *", ""}, {"CRON_TZ=UTC 0 2 * * *",
			""}, {"@every 1h", ""}} {
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
	if run, next, note := p.Due(due, late, "run once"); !run ||
		note != "due 6 times since 2026-11-23 10:00:00, when no service ran" || !next.Equal(due.Add(6*time.Hour)) {
		t.Errorf("run once: %v %s %q", run, next, note)
	}
	if run, _, _ := p.Due(due, late, "skip"); run {
		t.Error("what was to be skipped runs")
	}
}

// TestADayIsNeverSkippedNorDoneTwice goes through years of days in zones whose clocks are
// put back and forward in odd ways.
func TestADayIsNeverSkippedNorDoneTwice(t *testing.T) {
	for _, zone := range []string{"Europe/Amsterdam", "America/New_York", "Australia/Lord_Howe", "Africa/Cairo",
		"America/St_Johns", "Asia/Kathmandu", "America/Sao_Paulo", "UTC"} {
		loc, err := time.LoadLocation(zone)
		if err != nil {
			t.Fatal(err)
		}
		for _, hour := range []string{"0 0", "30 0", "30 1", "0 2", "30 2", "15 3"} {
			p, err := calendar.Parse(hour+" * * *", zone)
			if err != nil {
				t.Fatal(err)
			}
			last := time.Date(2015, 1, 1, 12, 0, 0, 0, loc)
			for range 365 * 6 {
				next := p.Next(last)
				if a, b := last.In(loc), next.In(loc); b.Sub(a) < 12*time.Hour && a.Hour() != 12 || b.YearDay() == a.YearDay() &&
					b.Year() == a.Year() || b.Sub(a) > 26*time.Hour {
					t.Fatalf("%s in %s: after %s comes %s", hour, zone, a, b)
				}
				last = next
			}
		}
	}
}
