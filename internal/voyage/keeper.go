package voyage

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/keeper"
	"dustyferry/internal/voyage/phases"
)

// services see to what nobody else does: they return what dead workers held, give loads their
// lanes, wake stalled tasks, move phases on, begin scheduled runs and keep figures. What may
// wait for a server has a lock of its own, so that it keeps none of the others; what asks the
// records alone shares one, as taking a lock costs more than most of that. What goes wrong with
// one crossing keeps it from none of the others.
func (v *Voyage) services() []keeper.Service {
	const first = 7262830 // of the locks
	return []keeper.Service{
		{Name: "records", Every: time.Second, Lock: phases.Lock, Do: v.tendRecords},
		{Name: "leases of chunks", Every: time.Second, Lock: first + 1, Do: v.reclaimChunks},
		{Name: "restarted tables", Every: time.Second, Do: v.clearTables}, // with a lock for each crossing
		{Name: "number of lanes", Every: 2 * time.Second, Lock: first + 2, Do: v.pace},
		{Name: "schedules", Every: 2 * time.Second, Lock: first + 3, Do: v.runSchedules},
		{Name: "readings", Every: 2 * time.Second, Lock: first + 4, Do: v.sample},
		{Name: "old readings", Every: 10 * time.Minute, Lock: first + 5, Do: v.thinHistory},
		{Name: "what the house keeps", Every: time.Minute, Lock: first + 6, Do: v.thin},
		{Name: "retained log", Every: watchEvery, Lock: first + 7, Do: v.watchRetainedLog},
		{Name: "worker", Every: 3 * time.Second, Now: true, Do: v.report},
	}
}

// tendRecords does what asks the records and nobody else.
func (v *Voyage) tendRecords(ctx context.Context) error {
	return errors.Join(v.resetLeasesAfterClockJump(ctx), v.endLanes(ctx), v.enqueueLanes(ctx), v.wakeStalled(ctx),
		v.Phases.Move(ctx), v.watchLag(ctx))
}

// keep runs them until the context ends.
func (v *Voyage) keep(ctx context.Context) { keeper.Run(ctx, v.Store, v.Log, v.services()) }

// troubled keeps, on the crossing itself, what keeps it from going on by itself, and says so
// once; without an error, that nothing does.
func (v *Voyage) troubled(ctx context.Context, c *domain.Crossing, doing string, err error) error {
	if ctx.Err() != nil || err == nil && c.Trouble == "" {
		return nil
	}
	text := ""
	if err != nil {
		text = fmt.Sprintf("%s: %s; it is tried again", doing, err)
	}
	fresh, kept := v.Store.SetTrouble(ctx, c.ID, text)
	if kept == nil && fresh && text != "" {
		v.Say(ctx, "warning", System, c.Name, "", "keeper", "%s", text)
	}
	return kept
}
