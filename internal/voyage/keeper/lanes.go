package keeper

import (
	"context"
	"time"

	"dustyferry/internal/core/pace"
	"dustyferry/internal/domain"
)

// Lanes gives loads the lanes that they lack.
type Lanes struct {
	Records interface {
		LanesWanted(ctx context.Context) ([]domain.LanesWanted, error)
	}
	// Add adds a lane of a crossing for workers with the label, or for any.
	Add func(ctx context.Context, crossing int64, label string) error
}

// Do gives them.
func (l *Lanes) Do(ctx context.Context) error {
	wanted, err := l.Records.LanesWanted(ctx)
	if err != nil {
		return err
	}
	for _, w := range wanted {
		if pace.Of(w.Settings, time.Now()).Stop {
			continue // quiet hours: lanes come again when they are over
		}
		for range w.Want - w.Have {
			if err := l.Add(ctx, w.CrossingID, w.Settings.WorkerLabel); err != nil {
				return err
			}
		}
	}
	return nil
}

// StalledTasks has somebody look at tasks that nobody works on although they should be.
type StalledTasks struct {
	Records interface {
		Stalled(ctx context.Context) ([]int64, error)
	}
	Queue interface {
		Wake(ctx context.Context, task int64) error
	}
}

// Do wakes somebody up for each.
func (s *StalledTasks) Do(ctx context.Context) error {
	stalled, err := s.Records.Stalled(ctx)
	if err != nil {
		return err
	}
	for _, id := range stalled {
		if err := s.Queue.Wake(ctx, id); err != nil {
			return err
		}
	}
	return nil
}
