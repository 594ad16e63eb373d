package keeper

import (
	"context"
	"fmt"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// Lags tells of capture that is behind.
type Lags struct {
	Records interface {
		Lags(ctx context.Context) ([]domain.CrossingLag, error)
		// LagTold notes that a lag is over its limit, or is not any more, and reports whether that
		// is new.
		LagTold(ctx context.Context, crossing int64, over bool) (bool, error)
	}
	Journal Journal
}

// Do tells of lags over the limit that their crossing sets, and below it again.
func (l *Lags) Do(ctx context.Context) error {
	list, err := l.Records.Lags(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		c := &list[i].Crossing
		limit, lag := c.Settings.LagLimit, list[i].LagSeconds+max(0, list[i].Silent-5) // nobody measures while nobody follows
		over := limit > 0 && lag > limit.Seconds()
		fresh, err := l.Records.LagTold(ctx, c.ID, over)
		if err != nil {
			return err
		}
		if !fresh {
			continue
		}
		severity, text := "info", fmt.Sprintf("the lag of %s is %.1f s, below its limit again", c.Name, lag)
		if over {
			severity, text = "warning", fmt.Sprintf("the lag of %s is %.0f s, over its limit of %s", c.Name, lag, limit)
		}
		l.Journal.Recordf(ctx, severity, journal.System, c.Name, "capture", "lag", "%s", text)
		l.Journal.Notify(ctx, c, journal.EventLag, text)
	}
	return nil
}
