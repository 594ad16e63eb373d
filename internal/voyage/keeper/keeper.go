// Package keeper runs the services that see to what nobody else does: each at its own pace,
// under its own lock, and whatever becomes of the others.
package keeper

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/waits"
)

// Service is something that is done again and again.
type Service struct {
	Name  string
	Every time.Duration
	// Lock is of the whole policy: of all processes one at a time does it. 0: each process does.
	Lock int64
	// Now: at the start too, and not only when the first interval is over.
	Now bool
	Do  func(ctx context.Context) error
}

// Records hold the locks.
type Records interface {
	// Alone runs f when no other process does so under the lock, and reports whether it ran.
	Alone(ctx context.Context, lock int64, f func() error) (bool, error)
}

// Databases opens registered databases.
type Databases interface {
	Open(ctx context.Context, name string) (*engine.Opened, error)
}

// Journal records what happens, and tells of it.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Notify(ctx context.Context, c *domain.Crossing, event, message string)
}

// Run runs the services until the context ends, and returns when all of them have. What one
// meets, an error or a fault, is logged and keeps neither it nor another from its next time.
func Run(ctx context.Context, r Records, log *slog.Logger, services []Service) {
	var all sync.WaitGroup
	for _, s := range services {
		all.Go(func() {
			round := func() {
				err := domain.Guarded(s.Name, func() error { return s.once(ctx, r) })
				var f *domain.Fault
				switch {
				case errors.As(err, &f):
					log.Error("a fault", "while", f.What, "panic", f.Value, "stack", f.Stack)
				case err != nil && ctx.Err() == nil:
					log.Warn("the keeper met an error", "service", s.Name, "error", err)
				}
			}
			if s.Now {
				round()
			}
			waits.Every(ctx, s.Every, round)
		})
	}
	all.Wait()
}

func (s Service) once(ctx context.Context, r Records) error {
	if s.Lock == 0 {
		return s.Do(ctx)
	}
	_, err := r.Alone(ctx, s.Lock, func() error { return s.Do(ctx) })
	return err
}
