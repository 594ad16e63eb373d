package voyage

import (
	"context"
	"os"

	"dustyferry/internal/records"
)

// report says that this process is alive.
func (v *Voyage) report(ctx context.Context) error {
	host, _ := os.Hostname()
	// Two versions side by side: an older program gives back what it holds and ends as soon
	// as a newer one has changed the records.
	if stands, err := v.Store.Schema(ctx); err == nil && stands > records.Known() {
		select {
		case v.Outdated <- records.Newer(stands):
		default:
		}
		return nil
	}
	return v.Store.SeeWorker(ctx, records.Worker{Name: v.Worker, Host: host, PID: os.Getpid(), Version: v.Version,
		Labels: records.JSON[[]string]{V: append([]string{}, v.Labels...)}})
}
