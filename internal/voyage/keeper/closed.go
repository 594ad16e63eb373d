package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// ClosedSources sees to it that sources stay closed which cutovers closed. Some servers forget when they are
// restarted, and then take writes that the live side never sees.
type ClosedSources struct {
	Records interface {
		// ClosedSources are those of crossings that were cut over, but for those to which a way back leads, or
		// has led.
		ClosedSources(ctx context.Context) ([]domain.ClosedSource, error)
		// ClosedAgain keeps that one was closed once more, or that a person opened it, which then is none of them.
		ClosedAgain(ctx context.Context, cutover int64, opened bool) error
	}
	Databases Databases
	Journal   Journal
	Log       *slog.Logger

	stuck sync.Map // of cutovers whose source could not be closed, as was told
}

// Do asks every such source, all at once: an old server may be switched off for good, and keeps none waiting.
func (k *ClosedSources) Do(ctx context.Context) error {
	list, err := k.Records.ClosedSources(ctx)
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	for i := range list {
		all.Go(func() {
			limit, cancel := context.WithTimeout(ctx, 15*time.Second)
			defer cancel()
			err := domain.Guarded("closed sources", func() error { return k.check(limit, &list[i]) })
			if err != nil && ctx.Err() == nil {
				k.Log.Debug("a closed source cannot be asked whether it is closed", "crossing", list[i].Name, "error", err)
			}
		})
	}
	all.Wait()
	return nil
}

func (k *ClosedSources) check(ctx context.Context, c *domain.ClosedSource) error {
	src, err := k.Databases.Open(ctx, c.Source)
	if err != nil || src.Forgets == nil {
		return err
	}
	open, up, err := src.TakesWrites(ctx, c.Method)
	if err != nil || !open {
		return err
	}
	restarted := time.Now().Add(-up).After(c.Since)
	// A way back may have begun meanwhile, which opens it.
	list, err := k.Records.ClosedSources(ctx)
	if err != nil {
		return err
	}
	for _, now := range list {
		if now.Cutover != c.Cutover {
			continue
		}
		if !restarted { // a person did so, and is not fought
			k.tell(ctx, c, "somebody has let %[1]s take writes again, which was closed when %[2]s was cut over; what is "+
				"written there now does not come to %[3]s, and it is not closed by us any more")
			return k.Records.ClosedAgain(ctx, c.Cutover, true)
		}
		if err := src.CloseAgain(ctx, c.Method); err != nil {
			if _, told := k.stuck.LoadOrStore(c.Cutover, true); !told {
				k.tell(ctx, c, "%[1]s was restarted and takes writes again, and cannot be closed: %[4]s; close it by hand, "+
					"as what is written there does not come to %[3]s", err)
			}
			return err
		}
		k.stuck.Delete(c.Cutover)
		k.tell(ctx, c, "%[1]s was restarted, took writes for up to %[4]s, and is closed again; look whether anything "+
			"was written there meanwhile, and set read_only in its configuration, so that it starts closed", up+time.Second)
		return k.Records.ClosedAgain(ctx, c.Cutover, false)
	}
	return nil
}

// tell says something of the source, the crossing and the target, in this order, and of more.
func (k *ClosedSources) tell(ctx context.Context, c *domain.ClosedSource, format string, more ...any) {
	text := fmt.Sprintf(format, append([]any{c.Source, c.Name, c.Target}, more...)...)
	k.Journal.Recordf(ctx, "warning", journal.System, c.Name, c.Source, "cutover", "%s", text)
	k.Journal.Notify(ctx, &c.Crossing, journal.EventHeld, text)
}
