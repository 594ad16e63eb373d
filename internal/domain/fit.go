package domain

import "time"

// FitCheck is a look at the data for values that their planned columns cannot
// hold.
type FitCheck struct {
	Share     float64   `json:"share"`    // of the rows, 1 for all
	Extremes  bool      `json:"extremes"` // only the least, greatest and longest values
	StartedAt time.Time `json:"started_at"`
	EndedAt   time.Time `json:"ended_at,omitzero"` // zero while it runs
	Error     string    `json:"error,omitempty"`
	Tables    int       `json:"tables"`
	Done      int       `json:"tables_done"`
	Rows      int64     `json:"rows"` // looked at
	Bytes     int64     `json:"bytes"`
	Misfits   int64     `json:"misfits"` // values that do not fit
	Entries   []Entry   `json:"entries"`
}
