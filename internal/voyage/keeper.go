package voyage

import (
	"context"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/keeper"
)

// services see to what nobody else does: they return what dead workers held, give loads their
// lanes, wake stalled tasks, move phases on, begin scheduled runs and keep figures. Each has a
// lock of its own, so that one that waits for a server keeps none of the others. What goes
// wrong with one crossing keeps it from none of the others.
func (v *Voyage) services() []keeper.Service {
	const first = 7262830 // of the locks
	return []keeper.Service{
		{Name: "clock", Every: time.Second, Lock: first, Do: v.mendClock},
		{Name: "leases of chunks", Every: time.Second, Lock: first + 1, Do: v.returnLost},
		{Name: "leases of lanes", Every: time.Second, Lock: first + 2, Do: v.endLanes},
		{Name: "lanes", Every: time.Second, Lock: first + 3, Do: v.topUp},
		{Name: "stalled tasks", Every: time.Second, Lock: first + 4, Do: v.wakeStalled},
		{Name: "restarted tables", Every: time.Second, Do: v.clearTables}, // with a lock for each crossing
		{Name: "number of lanes", Every: 2 * time.Second, Lock: first + 5, Do: v.pace},
		{Name: "phases", Every: time.Second, Lock: phasesLock, Do: v.movePhases},
		{Name: "schedules", Every: time.Second, Lock: first + 6, Do: v.runSchedules},
		{Name: "lag limits", Every: time.Second, Lock: first + 7, Do: v.watchLag},
		{Name: "readings", Every: 2 * time.Second, Lock: first + 8, Do: v.sample},
		{Name: "old readings", Every: 10 * time.Minute, Lock: first + 9, Do: v.thinHistory},
		{Name: "what the house keeps", Every: time.Minute, Lock: first + 10, Do: v.thin},
		{Name: "retained log", Every: watchEvery, Lock: first + 11, Do: v.watchBurden},
		{Name: "worker", Every: 3 * time.Second, Now: true, Do: v.report},
	}
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
