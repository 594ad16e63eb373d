package keeper

import (
	"context"
	"time"

	"dustyferry/internal/voyage/journal"
)

// Clock watches the clock by which leases are counted.
type Clock struct {
	Records interface {
		// MendClock lets nothing wait for a clock that was set back, and returns by how much it was.
		MendClock(ctx context.Context) (time.Duration, error)
	}
	Queue interface {
		DueNow(ctx context.Context) error
	}
	Journal Journal
}

// Do lets nothing wait for a clock that was set back.
func (k *Clock) Do(ctx context.Context) error {
	back, err := k.Records.MendClock(ctx)
	if err != nil || back == 0 {
		return err
	}
	k.Journal.Recordf(ctx, "warning", journal.System, "", "", "keeper",
		"the clock of the control database's server was set back by %s; leases and waits begin anew", back.Round(time.Second))
	return k.Queue.DueNow(ctx)
}
