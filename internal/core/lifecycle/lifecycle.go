// Package lifecycle says which acts a crossing allows in which phase and what
// each leads to. It is a table and two functions, without I/O.
package lifecycle

import (
	"slices"

	"dustyferry/internal/domain"
)

// Act is something a person asks of a crossing.
type Act string

// The acts.
const (
	Survey    Act = "survey"
	Start     Act = "start"
	Pause     Act = "pause"
	Resume    Act = "resume"
	Restart   Act = "restart"
	Refresh   Act = "refresh"
	FailOver  Act = "go on from another server"
	AddTable  Act = "add a table"
	LeaveOut  Act = "leave a table out"
	Reconcile Act = "reconcile"
	Repair    Act = "repair"
	Cutover   Act = "cut over"
	Close     Act = "close"
	Remove    Act = "remove"
	Change    Act = "change"
)

// passive is how an act is said of the crossing.
var passive = map[Act]string{
	Survey: "be surveyed", Start: "be started", Pause: "be paused", Resume: "be resumed", Restart: "be restarted",
	Refresh:  "be refreshed",
	FailOver: "go on from another server", AddTable: "take another table", LeaveOut: "leave a table out",
	Reconcile: "be reconciled",
	Repair:    "be repaired", Cutover: "be cut over", Close: "be closed", Remove: "be removed",
	Change: "have its plan changed",
}

var order = []domain.Phase{
	domain.PhaseDraft, domain.PhaseSurveyed, domain.PhasePrepared, domain.PhaseLoading,
	domain.PhaseCatchingUp, domain.PhaseInStep, domain.PhaseCuttingOver, domain.PhaseCutOver, domain.PhaseClosed,
}

var under = []domain.Phase{domain.PhasePrepared, domain.PhaseLoading, domain.PhaseCatchingUp, domain.PhaseInStep}

var allowed = map[Act]struct {
	phases []domain.Phase
	hint   string // what to do instead
}{
	Survey: {order[:8], "a closed crossing can no longer be surveyed"},
	Start: {[]domain.Phase{domain.PhaseDraft, domain.PhaseSurveyed, domain.PhasePrepared},
		"it has been started already; use resume, or restart to begin again"},
	Pause:   {under, "only a crossing under way can be paused"},
	Resume:  {append([]domain.Phase{domain.PhaseDraft, domain.PhaseSurveyed}, under...), "there is nothing to resume"},
	Restart: {under, "only what has been started can begin again, and what has cut over cannot: its target is in use"},
	Refresh: {[]domain.Phase{domain.PhaseInStep}, "rows past the watermarks can be read when the load before has ended"},
	FailOver: {[]domain.Phase{domain.PhaseCatchingUp, domain.PhaseInStep},
		"rows that are still to be loaded belong to the log of the first server; restart it to load from this one"},
	AddTable: {under[1:], "tables are chosen by its patterns before it starts, and can be added between its start and " +
		"its cutover"},
	LeaveOut: {under[1:], "tables are chosen by its patterns before it starts, and can be left out between its start " +
		"and its cutover"},
	Reconcile: {[]domain.Phase{domain.PhaseCatchingUp, domain.PhaseInStep, domain.PhaseCutOver},
		"the load has to be complete first"},
	Repair: {[]domain.Phase{domain.PhaseCatchingUp, domain.PhaseInStep},
		"rows can be repaired between the end of the load and cutover"},
	Cutover: {[]domain.Phase{domain.PhaseInStep},
		"cutover starts from in step: wait until the load is complete and the lag is below the threshold"},
	Close: {[]domain.Phase{domain.PhaseDraft, domain.PhaseSurveyed, domain.PhasePrepared, domain.PhaseLoading,
		domain.PhaseCatchingUp, domain.PhaseInStep, domain.PhaseCutOver}, "it is cutting over or closed already"},
	Remove: {[]domain.Phase{domain.PhaseDraft, domain.PhaseSurveyed, domain.PhaseClosed},
		"close it first, so that nothing of it stays behind on the servers"},
	Change: {order[:2], "its plan is in use"},
}

// Allow returns nil when the act is allowed in the phase, and otherwise one
// sentence that says why not and what to do.
func Allow(act Act, name string, kind domain.Kind, phase domain.Phase, condition domain.Condition) error {
	a, ok := allowed[act]
	if !ok {
		return domain.Invalid("there is no act %q", act)
	}
	if !slices.Contains(a.phases, phase) {
		now := kind.PhaseLabel(phase)
		if phase == domain.PhaseDraft {
			now = "a draft"
		}
		return domain.Conflict("crossing %s cannot %s while it is %s: %s", name, passive[act], now, a.hint)
	}
	if act == Pause && condition == domain.ConditionPaused {
		return domain.Conflict("crossing %s is paused already; use resume to let it go on", name)
	}
	if act == FailOver && condition == domain.ConditionRunning {
		return domain.Conflict("crossing %s is running: it follows the server it began with, or has not met the other one "+
			"yet; wait until it is held", name)
	}
	if (act == Cutover || act == Repair) && condition != domain.ConditionRunning {
		return domain.Conflict("crossing %s cannot %s while it is %s: resume it first", name, passive[act], condition)
	}
	return nil
}

// View is what decides the phase of a crossing under way.
type View struct {
	Kind       domain.Kind
	Phase      domain.Phase
	Chunks     int             // all
	Landed     int             // of them
	Applied    domain.Position // on the target
	MaxRead    domain.Position // highest log position of a chunk's snapshot
	Built      bool            // deferred objects stand
	Unswept    bool            // there may be rows on the target that were removed
	LagSeconds float64         // newest reading
	BelowSince float64         // seconds for which the lag has been below the threshold
	Dwell      float64         // seconds it has to stay there
}

// Next returns the phase a crossing under way has reached. Phases only move
// forward here, but for "in step", which falls back to "catching up" when the
// lag leaves its threshold.
func Next(v View) domain.Phase {
	switch v.Phase {
	case domain.PhaseLoading:
		if v.Landed == v.Chunks {
			return domain.PhaseCatchingUp
		}
	case domain.PhaseCatchingUp:
		if !v.Built {
			return v.Phase
		}
		if v.Kind == domain.KindLoad {
			return domain.PhaseInStep // nothing to follow: the load is complete
		}
		if !v.Applied.Before(v.MaxRead) && v.BelowSince >= v.Dwell {
			return domain.PhaseInStep
		}
	case domain.PhaseInStep:
		if v.BelowSince <= 0 && v.Kind != domain.KindLoad {
			return domain.PhaseCatchingUp
		}
	}
	return v.Phase
}

// Consistent reports whether the target equals the source at some moment: every
// chunk landed, the applied position has passed every chunk's snapshot, and rows that a chunk
// brought back are gone.
func Consistent(v View) bool {
	return v.Landed == v.Chunks && !v.Unswept && (v.Kind == domain.KindLoad || !v.Applied.Before(v.MaxRead))
}

// AllowOn checks an act against where a crossing stands; what holds it is part of a refusal.
func AllowOn(act Act, c *domain.Crossing) error {
	if c.ReturnOf != nil && (c.Phase == domain.PhaseDraft || c.Phase == domain.PhaseSurveyed ||
		c.Phase == domain.PhasePrepared) {
		return domain.Conflict("crossing %s is the return path that the cutover of %s makes ready; it begins with that "+
			"cutover's end, and goes if that is taken back", c.Name, c.ReturnOfIs)
	}
	err := Allow(act, c.Name, c.Kind, c.Phase, c.Condition)
	if err == nil || c.Condition == domain.ConditionRunning || c.Reason == "" {
		return err
	}
	if Allow(act, c.Name, c.Kind, c.Phase, domain.ConditionRunning) == nil { // the condition is what is in the way
		return domain.Conflict("%s. It is %s because: %s", err, c.Condition, c.Reason)
	}
	return err
}
