package domain

import (
	"encoding/json"
	"slices"
)

// Position is a place in a source's log, ordered: PostgreSQL's log sequence
// number; for a server with numbered log files, file<<32 | offset. Zero is
// "no position". How it is written for people is the engine's affair.
type Position uint64

// Tx identifies a source transaction in the log.
type Tx struct {
	ID     uint64   // the server's full (not wrapping) transaction number, 0 if it has none
	Commit Position // where the commit record begins
	End    Position // first position after the commit record
	At     int64    // commit time by the source's clock, microseconds since 1970
}

// Snapshot says which transactions one read could see.
//
// With Xmax set: a transaction is visible when its number is below Xmin, or
// below Xmax and not in Running. Otherwise: when it committed before Log and is not in
// Running, which a transaction without a number never is.
type Snapshot struct {
	Xmin    uint64   `json:"xmin,omitempty"`
	Xmax    uint64   `json:"xmax,omitempty"`
	Running []uint64 `json:"running,omitempty"` // ascending
	// Log is a position at or after every commit the snapshot sees; exact when
	// Xmax is zero.
	Log Position `json:"log"`
}

// Sees reports whether the transaction's effects are visible in the snapshot.
func (s Snapshot) Sees(tx Tx) bool {
	if s.Xmax == 0 {
		if len(s.Running) > 0 {
			if _, running := slices.BinarySearch(s.Running, tx.ID); running {
				return false
			}
		}
		return tx.Commit < s.Log
	}
	if tx.ID < s.Xmin {
		return true
	}
	if tx.ID >= s.Xmax {
		return false
	}
	_, running := slices.BinarySearch(s.Running, tx.ID)
	return !running
}

// JSON returns the snapshot's form for the records.
func (s Snapshot) JSON() string {
	b, _ := json.Marshal(s)
	return string(b)
}

// ParseSnapshot reads what [Snapshot.JSON] wrote.
func ParseSnapshot(text string) (Snapshot, error) {
	var s Snapshot
	if text == "" {
		return s, nil
	}
	return s, json.Unmarshal([]byte(text), &s)
}
