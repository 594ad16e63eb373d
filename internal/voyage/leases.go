package voyage

import (
	"context"
	"dustyferry/internal/domain"
	"errors"
	"sync"
	"time"
)

// reclaimChunks takes back what dead workers held.
func (v *Voyage) reclaimChunks(ctx context.Context) error {
	lost, err := v.Store.Lost(ctx)
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
			c, err := v.Store.CrossingByID(ctx, id)
			if err != nil {
				return
			}
			for i := range chunks {
				v.Say(ctx, "warning", System, c.Name, "", "keeper",
					"worker %s fell silent while carrying a chunk; the chunk is taken back", chunks[i].Worker)
				before := time.Now()
				v.Loader.Return(ctx, &c, &chunks[i], context.Canceled)
				if time.Since(before) > 3*time.Second {
					return // the side is away: at the next round
				}
			}
		})
	}
	all.Wait()
	return nil
}

// endLanes removes lanes whose worker fell silent.
func (v *Voyage) endLanes(ctx context.Context) error {
	jobs, err := v.Store.DeadLanes(ctx)
	for _, j := range jobs {
		err = errors.Join(err, v.Queue.Cancel(ctx, j))
	}
	return err
}
