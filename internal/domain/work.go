package domain

import (
	"encoding/json"
	"time"
)

// Work is a kind of longer work on a crossing, which a task carries out.
type Work string

// Task is a longer piece of work on a crossing, held by lease and epoch like a chunk. The
// record is the truth; the queue's job only wakes somebody up.
type Task struct {
	ID         int64
	CrossingID int64
	Kind       Work
	Args       json.RawMessage
	State      TaskState
	Epoch      int64
	Worker     string
	LeaseUntil *time.Time
	Actor      string
	Note       string
	Error      string
	CreatedAt  time.Time
	StartedAt  *time.Time
	EndedAt    *time.Time
	Cancel     string // why it is to end before its time; empty: it is not
	Begun      bool   // of one that begins a load: the load has begun
}

// Ending is a task that was asked to end and has not yet. Idle: nobody carries it out, so that
// whoever waits may end it.
type Ending struct {
	ID   int64
	Kind Work
	Idle bool
}
