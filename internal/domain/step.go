package domain

import "fmt"

// StepName is a step of a cutover.
type StepName string

// The steps, in order. Those before HandOver can be undone.
const (
	StepReadiness     StepName = "check readiness"
	StepPrepareReturn StepName = "prepare return path" // where one is wanted
	StepStopWrites    StepName = "stop writes"
	StepMarkEnd       StepName = "take end position"
	StepDrain         StepName = "drain"
	StepReconcile     StepName = "reconcile"
	StepSequences     StepName = "move sequences"
	StepMarkReturn    StepName = "take return position" // where one is wanted
	StepBuild         StepName = "build deferred"
	StepClose         StepName = "close source"
	StepOpenTarget    StepName = "open target" // where the target was closed by the cutover that went here
	StepHandOver      StepName = "hand over"
	StepRelease       StepName = "release"
	StepGateways      StepName = "switch gateways"   // where there are any
	StepStartReturn   StepName = "start return path" // where one is wanted
)

// StepState is where a step stands.
type StepState string

// The states of a step.
const (
	StepWaiting StepState = "waiting"
	StepRunning StepState = "running"
	StepDone    StepState = "done"
	StepFailed  StepState = "failed"
	StepSkipped StepState = "skipped"
	StepUndone  StepState = "undone"
)

// Awaits is what a running step waits for a person to do.
type Awaits string

// What a person can be waited for.
const (
	AwaitsNobody Awaits = ""
	AwaitsGoOn   Awaits = "go on" // at a hold point
	AwaitsWord   Awaits = "word"  // that writes have stopped
	// AwaitsOutcome: the applications' side was told of the hand-over and gave no answer; a person
	// says whether it took effect.
	AwaitsOutcome Awaits = "outcome"
)

// Verdict sorts the entries of surveys and readiness lists.
type Verdict string

// The verdicts.
const (
	Blocker Verdict = "blocker" // nothing goes on until it is resolved
	Notice  Verdict = "notice"  // worth knowing; it stops nothing
	OK      Verdict = "ok"
)

// UnmarshalText reads a verdict, also one that was kept under the names of before.
func (v *Verdict) UnmarshalText(text []byte) error {
	*v = Verdict(text)
	if now, old := map[Verdict]Verdict{"blocks": Blocker, "to know": Notice, "fine": OK}[*v]; old {
		*v = now
	}
	return nil
}

// Entry is one line of a survey or readiness list.
type Entry struct {
	Verdict  Verdict `json:"verdict"`
	Topic    string  `json:"topic"`            // short: "log level"
	Subject  string  `json:"subject"`          // what it is about: source, target, a table
	Measured string  `json:"measured"`         // what was found, one sentence
	Remedy   string  `json:"remedy,omitempty"` // what to do, a statement where possible
	Values   string  `json:"values,omitempty"` // values of rows that show it; for who may see rows
}

// Blocking is what blocks first, with what to do about it and how many other points there
// are, or "" where nothing does; see is where all of them are listed.
func Blocking(entries []Entry, see string) string {
	first, others := "", 0
	for _, e := range entries {
		switch {
		case e.Verdict != Blocker:
		case first != "":
			others++
		default:
			first = e.Subject + ": " + e.Measured
			if e.Remedy != "" {
				first += " (" + e.Remedy + ")"
			}
		}
	}
	if others > 0 {
		first += fmt.Sprintf("; %s more: %s", Many(others, "point"), see)
	}
	return first
}
