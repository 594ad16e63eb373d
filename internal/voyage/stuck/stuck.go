// Package stuck finds what moves nothing: it is asked what it waits for. Where a server is at
// work, as on a large statement, that is shown; otherwise the wait is ended and tried anew.
package stuck

import (
	"context"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// After is for how long nothing may move where nobody says otherwise.
const After = time.Minute

// Watch watches a number that grows with every sign of life.
type Watch struct {
	last int64
	at   time.Time
	// Waits is what is waited for at present, as the watcher has found out.
	Waits string
}

// Since returns for how long the number has stood, or 0 if that is less than the limit.
func (w *Watch) Since(now time.Time, steps int64, limit time.Duration) time.Duration {
	if steps != w.last || w.at.IsZero() {
		w.last, w.at = steps, now
	}
	if d := now.Sub(w.at); d >= limit {
		return d
	}
	return 0
}

// Text says that nothing has moved for so long, and why.
func Text(d time.Duration, word string) string {
	return fmt.Sprintf("nothing has moved for %s: %s", d.Round(time.Second), word)
}

// Databases opens registered databases.
type Databases interface {
	Open(ctx context.Context, name string) (*engine.Opened, error)
}

// Sessions are a lane's connections by the servers' names of them.
type Sessions struct{ Reader, Writer string }

// Asker asks servers what they do for us.
type Asker struct {
	Databases Databases
	Limit     time.Duration // for how long nothing may move
}

// askFor is how long one question to a server may take.
const askFor = 5 * time.Second

// Doing asks both sides what they do for a lane, and whether one of them is at work.
func (a Asker) Doing(ctx context.Context, c *domain.Crossing, at *Sessions, stood time.Duration) (string, bool) {
	if at == nil {
		return "the connections could not be opened", false
	}
	from, reads := a.On(ctx, c.Source, at.Reader, stood)
	to, writes := a.On(ctx, c.Target, at.Writer, stood)
	return "on the source " + from + ", on the target " + to, reads || writes
}

// On asks one side about a wait that has stood for so long. One that does not answer is not at
// work for us; one that does not know the session may be, for a while.
func (a Asker) On(ctx context.Context, database, session string, stood time.Duration) (string, bool) {
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	db, err := a.Databases.Open(ctx, database)
	if err != nil {
		return "nobody answers: " + err.Error(), false
	}
	if db.Tells == nil {
		return "its engine does not tell what it does", stood < 10*a.Limit
	}
	what, works, err := db.Doing(ctx, session)
	if err != nil {
		return "nobody answers: " + err.Error(), false
	}
	if what == engine.UnknownSession {
		works = stood < 10*a.Limit
	}
	return what, works
}
