package domain

import "time"

// Schedule is when a crossing starts by itself: once, or by a cron expression.
type Schedule struct {
	CrossingID int64      `db:"crossing_id"`
	OnceAt     *time.Time `db:"once_at"`
	Cron       string     `db:"cron"`
	Zone       string     `db:"zone"`
	Missed     string     `db:"missed"` // what becomes of a run that is missed: "run once" or "skip"
	NextAt     *time.Time `db:"next_at"`
	Actor      string     `db:"actor"`
	CreatedAt  time.Time  `db:"created_at"`
	PausedBy   string     `db:"paused_by"` // empty: it is not paused
}

// DueRun is a run that is due and has not begun.
type DueRun struct {
	ID         int64     `db:"id"`
	CrossingID int64     `db:"crossing_id"`
	DueAt      time.Time `db:"due_at"`
	Note       string    `db:"note"` // how it was missed, if it was
}
