package domain_test

import (
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
)

func TestWhatChangedInSettings(t *testing.T) {
	a := domain.DefaultSettings()
	b := a
	b.Lanes, b.PauseBudget, b.HoldPoints, b.QuietHours, b.HandoverCommand = a.Lanes+1, time.Hour,
		[]domain.StepName{domain.StepClose}, []string{"mon 08:00-09:00"}, "curl -u secret"
	list := a.Changes(b)
	public, detail := domain.ChangesText(list)
	for _, want := range []string{"lanes: 2 → 3", "pause_budget: 2m → 1h", "hold_points: none → close source",
		"quiet_hours: none → mon 08:00-09:00", "handover_command is another"} {
		if !strings.Contains(public, want) {
			t.Errorf("%q is missing in %q", want, public)
		}
	}
	if len(list) != 5 || strings.Contains(public, "secret") ||
		!strings.Contains(detail, "handover_command: none → curl -u secret") {
		t.Errorf("%d changes, public %q, detail %q", len(list), public, detail)
	}
	if len(a.Changes(a)) != 0 {
		t.Errorf("nothing changed, and it says %v", a.Changes(a))
	}
}
