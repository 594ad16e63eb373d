package lifecycle

import "dustyferry/internal/domain"

// Work is a kind of longer work on a crossing.
type Work = domain.Work

// The kinds of work.
const (
	WorkSurvey    Work = "survey"
	WorkFit       Work = "fit check"
	WorkPrepare   Work = "prepare"
	WorkRestart   Work = "restart"
	WorkBuild     Work = "build"
	WorkAdd       Work = "add a table"
	WorkRefresh   Work = "refresh"
	WorkReconcile Work = "reconcile"
	WorkRepair    Work = "repair"
	WorkRecheck   Work = "compare again"
	WorkCutover   Work = "cutover"
	WorkClose     Work = "close"
)

// Verdict is what becomes of two pieces of work on one crossing.
type Verdict int

// The verdicts.
const (
	Together Verdict = iota // both are done, side by side
	Refused                 // what is to begin does not
	Ends                    // what is under way ends first
)

// Beside says what becomes of work that is to begin while other work is under way.
func Beside(begins, under Work) Verdict {
	only := func(list ...Work) Verdict { // beside these, and refused beside all others
		for _, w := range list {
			if w == under {
				return Together
			}
		}
		return Refused
	}
	switch {
	case begins == under, under == WorkClose:
		return Refused
	case under == WorkCutover: // it is aborted, or ends by itself
		return only()
	}
	switch begins {
	case WorkClose, WorkRestart:
		return Ends
	case WorkSurvey, WorkFit: // they read, and change nothing
		return Together
	case WorkBuild, WorkAdd:
		return only(WorkSurvey, WorkFit, WorkBuild, WorkAdd, WorkReconcile, WorkRepair, WorkRecheck)
	case WorkReconcile, WorkRepair, WorkRecheck: // one after the other has the sides stand still
		return only(WorkSurvey, WorkFit, WorkBuild, WorkAdd, WorkReconcile, WorkRepair, WorkRecheck)
	}
	return only(WorkSurvey, WorkFit) // prepare, refresh, cutover
}

// Cancel says why a person cannot end work of a kind before its time, or nothing.
func Cancel(w Work) string {
	switch w {
	case WorkCutover:
		return "a cutover is aborted ('dustyferry cutover abort'), so that the source takes writes again"
	case WorkClose:
		return "a crossing that is being closed is closed to the end, so that nothing of it stays behind on the servers"
	case WorkBuild:
		return "indexes and constraints are built until they stand; pause the crossing to have it wait"
	}
	return ""
}

// Disturbs lists the work that must have ended before a table is emptied.
func Disturbs() []Work {
	return []Work{WorkBuild, WorkReconcile, WorkRepair, WorkRecheck}
}

// All lists every kind of work but those given.
func All(but ...Work) []Work {
	var out []Work
next:
	for _, w := range []Work{WorkSurvey, WorkFit, WorkPrepare, WorkRestart, WorkBuild, WorkAdd, WorkRefresh, WorkReconcile,
		WorkRepair, WorkRecheck, WorkCutover, WorkClose} {
		for _, b := range but {
			if b == w {
				continue next
			}
		}
		out = append(out, w)
	}
	return out
}
