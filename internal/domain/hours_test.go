package domain_test

import (
	"testing"
	"time"

	"dustyferry/internal/domain"
)

func TestQuietHours(t *testing.T) {
	s := domain.Settings{QuietHours: []string{"mon-fri 08:00-18:00", "sat 22:30-02:00", "sun,wed 05:00-06:00"},
		QuietZone: "Europe/Amsterdam"}
	for at, want := range map[string]bool{
		"2026-11-23T06:59:00Z": false, // Monday, 07:59 there
		"2026-11-23T07:00:00Z": true,
		"2026-11-23T16:59:59Z": true,
		"2026-11-23T17:00:00Z": false,
		"2026-11-28T12:00:00Z": false, // Saturday
		"2026-11-28T21:30:00Z": true,
		"2026-11-29T00:59:00Z": true, // runs into Sunday
		"2026-11-29T01:00:00Z": false,
		"2026-11-29T04:00:00Z": true, // Sunday, 05:00 there
		"2026-11-25T04:30:00Z": true,
		"2026-11-24T04:30:00Z": false,
		"2026-07-06T06:00:00Z": true, // Monday in summer, 08:00 there
	} {
		moment, err := time.Parse(time.RFC3339, at)
		if err != nil {
			t.Fatal(err)
		}
		if got := s.Quiet(moment); got != want {
			t.Errorf("%s: quiet %v, want %v", at, got, want)
		}
	}
	every, err := domain.ParseHours("23:00-01:00")
	if err != nil || !every.Holds(time.Date(2026, 1, 1, 0, 30, 0, 0, time.UTC)) ||
		every.Holds(time.Date(2026, 1, 1, 1, 0, 0, 0, time.UTC)) {
		t.Errorf("%+v, %v", every, err)
	}
	for _, bad := range []string{"", "mon", "mon 8:0-9:00", "mon 25:00-26:00", "xyz 08:00-09:00", "mon 08:00-08:00",
		"mon tue 08:00-09:00", "mon- 08:00-09:00"} {
		if _, err := domain.ParseHours(bad); err == nil {
			t.Errorf("%q was read", bad)
		}
	}
}
