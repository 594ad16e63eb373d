package domain

import "time"

// FollowedCrossing is a crossing with a stream, and how far that is.
type FollowedCrossing struct {
	Crossing
	Applied  Position
	SourceAt Position // where the source's log was last seen to stand
	Told     int      // what people were told of the log that the source keeps: 1: near its limit, 2: over it
}

// ClosedSource is the source of a crossing that was cut over and did not go back.
type ClosedSource struct {
	Crossing
	Cutover int64
	Method  StopMethod // by which it was closed
	Since   time.Time  // since when it is, as far as we know
}

// CrossingLag is how far a crossing's capture is behind.
type CrossingLag struct {
	Crossing
	LagSeconds float64
	Silent     float64 // seconds since that was reported
}

// LanesWanted is a crossing that loads, with how many lanes it has and should have.
type LanesWanted struct {
	CrossingID int64
	Have, Want int
	Settings   Settings
}
