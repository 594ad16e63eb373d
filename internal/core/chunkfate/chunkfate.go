// Package chunkfate decides what becomes of a chunk that was not carried to its end.
package chunkfate

// Failure is what is known of it.
type Failure struct {
	Attempts int // of this chunk, this one included
	Most     int // attempts that a chunk has

	// LetGo: whoever carried it was told to stop, or lost it: nothing went wrong.
	LetGo bool
	// Away: a side was not there, or can take nothing now, whatever the chunk.
	Away bool
	// StoodStill: nothing moved for too long, and it was taken down.
	StoodStill bool
	// Lasting: trying again cannot help, as the server refuses what is asked of it.
	Lasting bool
	// RowsRefused: rows were found that the target does not take, one by one.
	RowsRefused bool
	// Fault: our own code failed.
	Fault bool
}

// Fate is what becomes of the chunk.
type Fate int

// The fates.
const (
	// GoesBack: it is free at once, and the attempt does not count.
	GoesBack Fate = iota
	// Rests: so do all the crossing's chunks, until the side is there again; the attempt does
	// not count.
	Rests
	// TakenDown: it is free after a moment, and the attempt does not count.
	TakenDown
	// TriedAgain: it is free after a while that grows with the attempts, which count.
	TriedAgain
	// Held: it waits for a person.
	Held
)

// certain is from which attempt on a refusal that trying again cannot help is believed: what
// another session did in between may have caused the first.
const certain = 2

// Of decides.
func Of(f Failure) Fate {
	switch {
	case f.LetGo:
		return GoesBack
	case f.Away:
		return Rests
	case f.StoodStill:
		return TakenDown
	case f.Attempts >= f.Most, f.Lasting && f.Attempts >= certain, f.RowsRefused, f.Fault:
		return Held
	}
	return TriedAgain
}
