package domain

import "time"

// StreamClaim is the stream of a crossing that a process has taken up, as it was left.
type StreamClaim struct {
	CrossingID int64
	Epoch      int64 // under which it is followed
	Received   Position
	Applied    Position
	Committed  int64 // when the last applied transaction was, microseconds since 1970
	Failures   int   // in a row
}

// StreamReport is what an applier says about itself when it renews its lease.
type StreamReport struct {
	Received, Applied Position
	Committed         int64
	LagSeconds        float64
	LagP50, LagP99    *float64 // seconds, of the last minute; nil: nothing was measured
	LagBytes          int64
	LagTransactions   int64
	Guessed           bool    // some of them were not read yet, and were reckoned from their bytes
	CatchUp           float64 // seconds until the lag is gone as things go; below 0: it grows, or nothing is known
	Changes           int64   // since the last report
	SourceAt          Position
	Read, Written     int64       // bytes since the last report
	Recent            []AppliedTx // newest first; nil leaves what is kept
	Note              string      // what the applier waits for, empty when nothing
	Following         bool        // the log is open, with the tables as they were then
}

// LandedChunk is a chunk that has landed; of those that were carried together the first.
type LandedChunk struct {
	ID    int64
	Table string
}

// StreamWord is what a stream's holder hears when it reports.
type StreamWord struct {
	Mine   bool   // it still holds the stream, and is to go on
	StopAt string // where a person wants capture to stop, as they wrote it
	Below  bool   // the lag is known to be below the crossing's threshold
}

// Vouching is how far the rows that changes touched are known to be equal on both sides.
type Vouching struct {
	From Position   // from where on it is known which rows were touched; zero: it is not
	To   Position   // up to where those were compared
	At   *time.Time `db:"vouched_at"`
	Rows int64      `db:"vouched_rows"` // compared in all, each as often as it was touched anew
}

// Vouched is what a round of vouching came to.
type Vouched struct {
	Rows     int64 // compared
	Findings int64
	Left     int // notes of touched tables that wait for the cutover
}
