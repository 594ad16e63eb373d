package voyage

import (
	"context"
	"errors"
	"os"
	"time"

	"dustyferry/internal/records"
	"dustyferry/internal/voyage/keeper"
	"dustyferry/internal/voyage/phases"
)

// keep runs the services that see to what nobody else does: they return what dead workers held,
// give loads their lanes, wake stalled tasks, move phases on, begin scheduled runs and keep
// figures. What may wait for a server has a lock of its own, so that it keeps none of the others;
// what asks the records alone shares one, as taking a lock costs more than most of that.
func (v *Voyage) keep(ctx context.Context) {
	const first = 7262830 // of the locks
	store := v.Store
	clock := &keeper.Clock{Records: store.UpkeepStore, Queue: v.Queue, Journal: v.Journal}
	dead := &keeper.DeadLanes{Records: store.TaskStore, Queue: v.Queue}
	stalled := &keeper.StalledTasks{Records: store.TaskStore, Queue: v.Queue}
	lags := &keeper.Lags{Records: store.StreamStore, Journal: v.Journal}
	lost := &keeper.LostChunks{Records: store, Journal: v.Journal, Return: v.loader.Return}
	schedules := &keeper.Schedules{Records: store, Journal: v.Journal, Begin: v.BeginDue, Troubled: v.Troubled}
	retention := &keeper.Retention{Records: store, Journal: v.Journal}
	vouching := &keeper.Vouching{Records: store, Vouch: v.Comparer.Vouch, Log: v.Log}
	retained := &keeper.RetainedLog{Records: store, Databases: v.Databases, Journal: v.Journal, Log: v.Log}
	closed := &keeper.ClosedSources{Records: store, Databases: v.Databases, Journal: v.Journal, Log: v.Log}
	keeper.Run(ctx, store, v.Log, []keeper.Service{
		{Name: "records", Every: time.Second, Lock: phases.Lock,
			Do: all(clock.Do, dead.Do, v.lanes.Do, stalled.Do, v.phases.Move, lags.Do)},
		{Name: "leases of chunks", Every: time.Second, Lock: first + 1, Do: lost.Do},
		{Name: "restarted tables", Every: time.Second, Do: v.tables.Clear}, // with a lock for each crossing
		{Name: "number of lanes", Every: 2 * time.Second, Lock: first + 2, Do: v.numbers.Do},
		{Name: "schedules", Every: 2 * time.Second, Lock: first + 3, Do: schedules.Do},
		{Name: "readings", Every: 2 * time.Second, Lock: first + 4, Do: all(store.TakeSamples, store.RateTables)},
		{Name: "old readings", Every: 10 * time.Minute, Lock: first + 5,
			Do: all(store.ThinSamples, store.ThinDeliveries)},
		{Name: "what the policy keeps", Every: time.Minute, Lock: first + 6, Do: retention.Do},
		{Name: "retained log", Every: 5 * time.Second, Lock: first + 7, Do: retained.Do},
		{Name: "closed sources", Every: time.Second, Lock: first + 9, Do: closed.Do},
		{Name: "vouching", Every: 2 * time.Second, Lock: first + 8, Do: vouching.Do},
		{Name: "worker", Every: 3 * time.Second, Now: true, Do: v.report},
	})
}

// all does one thing after another, whatever comes of those before.
func all(list ...func(context.Context) error) func(context.Context) error {
	return func(ctx context.Context) error {
		var err error
		for _, do := range list {
			err = errors.Join(err, do(ctx))
		}
		return err
	}
}

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
