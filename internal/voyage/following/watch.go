package following

import (
	"context"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/waits"
)

// What a follower asks of its source and target beside the work itself.

// askFor is how long one question to a source may take.
const askFor = 10 * time.Second

// watchSource sends heartbeats, whose way to the target measures the lag, and asks the source
// how far behind the target is and what has become of its tables.
func (f *follower) watchSource(ctx context.Context, cancel context.CancelCauseFunc) {
	n := 0
	waits.Every(ctx, time.Second, func() {
		f.mu.Lock()
		src, applied, received := f.src, f.applied, f.received // src is nil until the stream runs
		f.mu.Unlock()
		if src == nil {
			return
		}
		asking, done := context.WithTimeout(ctx, askFor)
		defer done()
		if at, err := f.heartbeat(asking, src); err == nil {
			behind, err := src.LogBytes(asking, applied, at)
			unread, err2 := src.LogBytes(asking, received, at)
			if err == nil && err2 == nil { // otherwise what was known before is more than 0
				f.mu.Lock()
				f.behind, f.unread = behind, unread
				f.mu.Unlock()
			}
		}
		switch {
		case n%60 == 5:
			looking, done := context.WithTimeout(ctx, 3*askFor)
			defer done()
			if now, err := src.Clock(looking); err == nil {
				f.mu.Lock()
				f.clock = time.Until(now)
				f.mu.Unlock()
			}
			if err := f.lookAtTables(looking); err != nil {
				cancel(err)
			}
		case n%5 == 2:
			if err := f.mindTables(asking, src); err != nil {
				cancel(err)
			}
		}
		n++
	})
}

// heartbeat sends one, and returns its place in the source's log.
func (f *follower) heartbeat(ctx context.Context, src *engine.Opened) (domain.Position, error) {
	f.mu.Lock()
	if f.asked.IsZero() {
		f.asked = time.Now()
	}
	f.mu.Unlock()
	at, err := src.Heartbeat(ctx)
	if err != nil {
		return at, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.asked = time.Time{}
	f.sourceAt = f.sourceAt.Later(at)
	f.beats = append(f.beats, beat{at, time.Now()})
	slices.SortFunc(f.beats, func(a, b beat) int { // another may have been sent meanwhile
		switch {
		case a.at.Before(b.at):
			return -1
		case b.at.Before(a.at):
			return 1
		}
		return 0
	})
	return at, nil
}

// beatNow sends a heartbeat at once, which lies beyond a goal that was just given: on a source that
// is quiet, as one whose writes are stopped, nothing else says before the next second that the goal
// is reached.
func (f *follower) beatNow(ctx context.Context) {
	f.mu.Lock()
	src := f.src
	f.mu.Unlock()
	if src == nil {
		return
	}
	f.beside.Go(func() {
		asking, done := context.WithTimeout(ctx, askFor)
		defer done()
		_, _ = f.heartbeat(asking, src) // else the next one says it
	})
}

// durable holds what landed against what the target knows to have landed: one that was set
// back, by a failover or a restore, has lost rows that nobody would load again.
func (f *follower) durable(ctx context.Context) error {
	landed, err := f.of.records.LandedChunks(ctx, f.c.ID)
	if err != nil || len(landed) == 0 {
		return err
	}
	marked, err := f.dst.Marked(ctx, f.c.UID)
	if err != nil {
		return err
	}
	var lost []string
	for _, c := range landed {
		if !marked[c.ID] && !slices.Contains(lost, c.Table) {
			lost = append(lost, c.Table)
		}
	}
	if len(lost) > 0 {
		return domain.Conflict("the target has lost chunks of %s that had landed (a failover, a restore, or fsync off), "+
			"and whatever else it had committed since: load again, all tables: dustyferry crossing restart %s --all",
			strings.Join(lost, ", "), f.c.Name)
	}
	return nil
}

// mindTables sees to new partitions, and to tables that are not published any more.
func (f *follower) mindTables(ctx context.Context, src *engine.Opened) error {
	limit, done := context.WithTimeout(ctx, 5*time.Second)
	defer done()
	lost, err := src.Mind(limit, f.c.CaptureName(), f.plans, func(sql string) error {
		c, err := f.of.records.CrossingByID(limit, f.c.ID)
		if err != nil || slices.Contains(c.Undo, sql) {
			return err
		}
		return f.of.records.SaveUndo(limit, c.ID, append(c.Undo, sql))
	})
	if err != nil || len(lost) == 0 {
		return nil // asked again soon
	}
	return domain.Conflict("changes of %s are not in what capture reads any more: what has them recorded on the source "+
		"(%s: a publication, or triggers) does not hold the table, as it was taken out, or another table has its name now. "+
		"To load it again: dustyferry crossing restart %s --table %s", lost[0], f.c.CaptureName(), f.c.Name, lost[0])
}
