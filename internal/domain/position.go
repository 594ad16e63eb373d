package domain

import (
	"encoding/json"
	"math"
	"slices"
	"strconv"
)

// Position is a place in a source's log. The number in it is its engine's affair alone, as is
// how it is written for people; all others ask which of two comes first. Zero is "no position".
type Position struct{ number uint64 }

// FarAway is a place that no log reaches.
var FarAway = Position{math.MaxUint64}

// PositionAt is the place that its engine has given this number: a later place has a greater one.
func PositionAt(number uint64) Position { return Position{number} }

// Number is what the place's engine, and what is kept of it, know it by.
func (p Position) Number() uint64 { return p.number }

// IsZero reports whether it is no position.
func (p Position) IsZero() bool { return p.number == 0 }

// Before reports whether p comes before q.
func (p Position) Before(q Position) bool { return p.number < q.number }

// After reports whether p comes after q.
func (p Position) After(q Position) bool { return p.number > q.number }

// Earlier is the one of p and q that comes first.
func (p Position) Earlier(q Position) Position { return Position{min(p.number, q.number)} }

// Later is the one of p and q that comes last.
func (p Position) Later(q Position) Position { return Position{max(p.number, q.number)} }

// String is the number, for tests and faults of our own.
func (p Position) String() string { return strconv.FormatUint(p.number, 10) }

// MarshalJSON writes the number.
func (p Position) MarshalJSON() ([]byte, error) { return strconv.AppendUint(nil, p.number, 10), nil }

// UnmarshalJSON reads what MarshalJSON wrote.
func (p *Position) UnmarshalJSON(b []byte) error { return json.Unmarshal(b, &p.number) }

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
		return tx.Commit.Before(s.Log)
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
