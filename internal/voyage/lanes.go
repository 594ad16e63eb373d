package voyage

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/pace"
	"dustyferry/internal/records"
)

// enqueueLanes gives loads the lanes that they lack.
func (v *Voyage) enqueueLanes(ctx context.Context) error {
	wanted, err := v.Store.LanesWanted(ctx)
	if err != nil {
		return err
	}
	for _, w := range wanted {
		if pace.Of(w.Settings.V, time.Now()).Stop {
			continue // quiet hours: lanes come again when they are over
		}
		for range w.Want - w.Have {
			err := v.Queue.In(ctx, func(tx pgx.Tx) error {
				lane, err := records.AddLaneTx(ctx, tx, w.CrossingID)
				if err != nil {
					return err
				}
				job, err := v.Queue.AddLane(ctx, tx, w.CrossingID, lane, w.Settings.V.WorkerLabel)
				if err != nil {
					return err
				}
				return records.SetLaneJobTx(ctx, tx, lane, job)
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// wakeStalled has somebody look at tasks that nobody works on although they should be.
func (v *Voyage) wakeStalled(ctx context.Context) error {
	stalled, err := v.Store.Stalled(ctx)
	if err != nil {
		return err
	}
	for _, id := range stalled {
		if err := v.Queue.Wake(ctx, id); err != nil {
			return err
		}
	}
	return nil
}
