package stuck

import (
	"context"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// Tasks watches over tasks that go on for a while.
type Tasks struct {
	Databases Databases
	Limit     time.Duration // for how long nothing may move
	// Note keeps what a task waits for.
	Note    func(ctx context.Context, task int64, text string) error
	Recordf func(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
}

// Watch says what a task waits for that has gone on for a while: statements of ours, on
// either side, that wait for somebody's lock.
func (w *Tasks) Watch(ctx context.Context, c *domain.Crossing, t *domain.Task) {
	began, said := time.Now(), false
	waits.Every(ctx, w.Limit/2, func() {
		if time.Since(began) < w.Limit {
			return
		}
		for _, side := range []struct{ name, database string }{{"source", c.Source}, {"target", c.Target}} {
			ask, cancel := context.WithTimeout(ctx, 5*time.Second)
			db, err := w.Databases.Open(ask, side.database)
			var list []string
			if err == nil && db.Tells != nil {
				list, err = db.Locked(ask, w.Limit)
			}
			cancel()
			if err != nil || len(list) == 0 {
				continue
			}
			word := Text(time.Since(began), fmt.Sprintf("on the %s, %s", side.name, list[0]))
			_ = w.Note(ctx, t.ID, word)
			if !said {
				said = true
				w.Recordf(ctx, "warning", journal.System, c.Name, "", string(t.Kind), "%s of %s: %s", t.Kind, c.Name, word)
			}
		}
	})
}
