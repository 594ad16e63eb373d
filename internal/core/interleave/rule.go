// Package interleave holds the rule that lets a bulk load and change capture
// run at once on the same table without losing or doubling a change.
//
// Every chunk is read in a short snapshot of its own and that snapshot is kept
// with it. A captured change of a row whose key falls into a chunk is then
//
//   - dropped, while the chunk's read has not begun: the read will see it;
//   - while the chunk is being read: dropped if the read is known to see the change, and
//     any read in its place will see it too; kept waiting if not;
//   - after the chunk landed: dropped if its snapshot saw the change, applied
//     if it did not.
//
// The first case is only safe once every later snapshot is sure to see the
// change. A log reader can receive a commit before new snapshots see it, so a
// caller must take a fresh snapshot of the source, wait until it sees every
// transaction of the batch, and read the chunks' states only after that. A
// chunk counts as being read from before its snapshot is taken.
//
// The package does no I/O; the model test beside it runs random histories.
package interleave

import "dustyferry/internal/domain"

// Verdict is what is to be done with a change now.
type Verdict int

// The verdicts.
const (
	Drop  Verdict = iota // the chunk's read sees it, or will
	Apply                // the chunk landed without it
	Wait                 // the chunk is being read: ask again when it landed or went back
)

// String shows the verdict to a person.
func (v Verdict) String() string {
	return [...]string{"drop", "apply", "wait"}[v]
}

// Decide applies the rule to a change made by tx at a key of a chunk in the
// given state. The snapshot is that of the read that landed, or that goes on now; of the
// latter it may be zero, which is not known.
func Decide(state domain.ChunkState, read domain.Snapshot, tx domain.Tx) Verdict {
	switch state {
	case domain.ChunkLanded:
		if read.Sees(tx) {
			return Drop
		}
		return Apply
	case domain.ChunkReading:
		if read.Sees(tx) {
			return Drop
		}
		return Wait
	default: // pending or held: its next read is still to come
		return Drop
	}
}

// AllVisible reports whether a fresh snapshot sees every one of the
// transactions, which must hold before [Decide] is used on their changes.
func AllVisible(fresh domain.Snapshot, txs []domain.Tx) bool {
	for _, tx := range txs {
		if !fresh.Sees(tx) {
			return false
		}
	}
	return true
}

// TruncateVerdict says what a TRUNCATE of a table means while its chunks stand
// as given.
type TruncateVerdict int

// The truncate verdicts.
const (
	TruncateDrop    TruncateVerdict = iota // every read saw it or will see it
	TruncateApply                          // no landed read saw it and nothing is still to be read
	TruncateRestart                        // mixed: the table starts again
	TruncateWait                           // a chunk is being read
)

// DecideTruncate applies the rule to a TRUNCATE made by tx.
func DecideTruncate(chunks []domain.Chunk, tx domain.Tx) TruncateVerdict {
	drop, apply := 0, 0
	for i := range chunks {
		if chunks[i].State == domain.ChunkReading {
			return TruncateWait
		}
		switch Decide(chunks[i].State, chunks[i].Snapshot, tx) {
		case Drop:
			drop++
		case Apply:
			apply++
		}
	}
	switch {
	case apply == 0:
		return TruncateDrop
	case drop == 0:
		return TruncateApply
	default:
		return TruncateRestart
	}
}
