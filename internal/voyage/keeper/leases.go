package keeper

import (
	"context"
	"errors"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// LostChunks takes back what dead workers held.
type LostChunks struct {
	Records interface {
		Lost(ctx context.Context) ([]domain.Chunk, error)
		CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	}
	Journal Journal
	// Return gives a chunk back to those that wait, fenced from whoever held it.
	Return func(ctx context.Context, c *domain.Crossing, k *domain.Chunk, cause error)
}

// Do takes back what dead workers held.
func (l *LostChunks) Do(ctx context.Context) error {
	lost, err := l.Records.Lost(ctx)
	if err != nil {
		return err
	}
	// Crossings side by side, so that a target that does not answer keeps no other waiting.
	of := map[int64][]domain.Chunk{}
	for i := range lost {
		of[lost[i].CrossingID] = append(of[lost[i].CrossingID], lost[i])
	}
	var all sync.WaitGroup
	for id, chunks := range of {
		all.Go(func() {
			c, err := l.Records.CrossingByID(ctx, id)
			if err != nil {
				return
			}
			for i := range chunks {
				l.Journal.Recordf(ctx, "warning", journal.System, c.Name, "", "keeper",
					"worker %s fell silent while carrying a chunk; the chunk is taken back", chunks[i].Worker)
				before := time.Now()
				l.Return(ctx, &c, &chunks[i], context.Canceled)
				if time.Since(before) > 3*time.Second {
					return // the side is away: at the next round
				}
			}
		})
	}
	all.Wait()
	return nil
}

// DeadLanes removes lanes that nobody walks any more.
type DeadLanes struct {
	Records interface {
		DeadLanes(ctx context.Context) ([]int64, error)
	}
	Queue interface {
		Cancel(ctx context.Context, job int64) error
	}
}

// Do removes lanes whose worker fell silent.
func (d *DeadLanes) Do(ctx context.Context) error {
	jobs, err := d.Records.DeadLanes(ctx)
	for _, j := range jobs {
		err = errors.Join(err, d.Queue.Cancel(ctx, j))
	}
	return err
}
