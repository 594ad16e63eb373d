package lifecycle_test

import (
	"strings"
	"testing"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
)

func TestAllowSaysWhatToDo(t *testing.T) {
	for _, c := range []struct {
		act   lifecycle.Act
		phase domain.Phase
		cond  domain.Condition
		want  string // part of the sentence; empty: allowed
	}{
		{lifecycle.Start, domain.PhaseDraft, domain.ConditionRunning, ""},
		{lifecycle.Start, domain.PhaseLoading, domain.ConditionRunning, "restart"},
		{lifecycle.Cutover, domain.PhaseLoading, domain.ConditionRunning, "wait until the load is complete"},
		{lifecycle.Cutover, domain.PhaseInStep, domain.ConditionPaused, "resume it first"},
		{lifecycle.Restart, domain.PhaseCutOver, domain.ConditionRunning, "its target is in use"},
		{lifecycle.Remove, domain.PhaseLoading, domain.ConditionRunning, "close it first"},
		{lifecycle.Pause, domain.PhaseLoading, domain.ConditionPaused, "paused already"},
	} {
		err := lifecycle.Allow(c.act, "spring", domain.KindLoadCapture, c.phase, c.cond)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s in %s, %s: %v, want %q", c.act, c.phase, c.cond, err, c.want)
		}
	}
}

func TestNext(t *testing.T) {
	base := lifecycle.View{Kind: domain.KindLoadCapture, Chunks: 4, Landed: 4, Applied: domain.PositionAt(100),
		MaxRead: domain.PositionAt(90), Built: true,
		BelowSince: 3, Dwell: 3}
	for _, c := range []struct {
		name string
		edit func(*lifecycle.View)
		from domain.Phase
		want domain.Phase
	}{
		{"a chunk is missing", func(v *lifecycle.View) { v.Landed = 3 }, domain.PhaseLoading, domain.PhaseLoading},
		{"all landed", func(*lifecycle.View) {}, domain.PhaseLoading, domain.PhaseCatchingUp},
		{"not past every snapshot", func(v *lifecycle.View) { v.Applied = domain.PositionAt(80) }, domain.PhaseCatchingUp,
			domain.PhaseCatchingUp},
		{"not built yet", func(v *lifecycle.View) { v.Built = false }, domain.PhaseCatchingUp, domain.PhaseCatchingUp},
		{"below the threshold for too short", func(v *lifecycle.View) { v.BelowSince = 2 }, domain.PhaseCatchingUp,
			domain.PhaseCatchingUp},
		{"in step", func(*lifecycle.View) {}, domain.PhaseCatchingUp, domain.PhaseInStep},
		{"fallen behind", func(v *lifecycle.View) { v.BelowSince = 0 }, domain.PhaseInStep, domain.PhaseCatchingUp},
		{"cut over stays", func(v *lifecycle.View) { v.BelowSince = 0 }, domain.PhaseCutOver, domain.PhaseCutOver},
	} {
		v := base
		v.Phase = c.from
		c.edit(&v)
		if got := lifecycle.Next(v); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// TestEveryActIsSaidOfTheCrossing in a refusal.
func TestEveryActIsSaidOfTheCrossing(t *testing.T) {
	for _, act := range []lifecycle.Act{lifecycle.Survey, lifecycle.Start, lifecycle.Pause, lifecycle.Resume,
		lifecycle.Restart, lifecycle.Refresh, lifecycle.FailOver,
		lifecycle.AddTable, lifecycle.LeaveOut, lifecycle.Reconcile, lifecycle.Repair, lifecycle.Cutover, lifecycle.Close,
		lifecycle.Change} {
		err := lifecycle.Allow(act, "spring", domain.KindLoadCapture, domain.PhaseClosed, domain.ConditionRunning)
		if err == nil || strings.Contains(err.Error(), "cannot  while") {
			t.Errorf("%s: %v", act, err)
		}
	}
}
