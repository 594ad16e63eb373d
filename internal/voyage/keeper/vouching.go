package keeper

import (
	"context"
	"log/slog"
	"time"

	"dustyferry/internal/domain"
)

// Vouching has crossings in step compare, every now and then, the rows that changes touched.
type Vouching struct {
	Records interface {
		VouchDue(ctx context.Context) ([]int64, error)
		CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
		// VouchLater puts a crossing's next round off as if there had been one.
		VouchLater(ctx context.Context, crossing int64) error
	}
	Vouch func(ctx context.Context, c *domain.Crossing, share float64, note func(string)) (domain.Vouched, error)
	Log   *slog.Logger
}

// roundMost is how long a round may take; what it has not compared then, the next one does. roundShare
// is for how much of the time it asks the servers for rows: they are the application's.
const (
	roundMost  = 2 * time.Minute
	roundShare = 0.25
)

// Do makes the rounds that are due.
func (v *Vouching) Do(ctx context.Context) error {
	due, err := v.Records.VouchDue(ctx)
	if err != nil {
		return err
	}
	for _, id := range due {
		c, err := v.Records.CrossingByID(ctx, id)
		if err != nil {
			continue // it was deleted meanwhile
		}
		limit, cancel := context.WithTimeout(ctx, roundMost)
		_, err = v.Vouch(limit, &c, roundShare, nil)
		cancel()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil { // as where a transaction of the source is open for long
			v.Log.Warn("rows that changes touched could not be compared; the next round does it", "crossing", c.Name, "error",
				err)
		}
		if err := v.Records.VouchLater(ctx, id); err != nil {
			return err
		}
	}
	return nil
}
