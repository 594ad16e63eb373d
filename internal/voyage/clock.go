package voyage

import (
	"context"
	"time"
)

// resetLeasesAfterClockJump lets nothing wait for a clock that was set back.
func (v *Voyage) resetLeasesAfterClockJump(ctx context.Context) error {
	back, err := v.Store.MendClock(ctx)
	if err != nil || back == 0 {
		return err
	}
	v.Say(ctx, "warning", System, "", "", "keeper",
		"the clock of the control database's server was set back by %s; leases and waits begin anew", back.Round(time.Second))
	return v.Queue.DueNow(ctx)
}
