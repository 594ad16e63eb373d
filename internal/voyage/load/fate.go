package load

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/core/chunkfate"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// Return takes a chunk back from whoever held it: first the ledger raises
// its epoch, then the target is fenced, and only then is it free again, or
// found to have landed after all.
func (l *Loader) Return(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, cause error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 12*time.Second)
	defer cancel()
	if errors.Is(cause, domain.ErrTakenOver) {
		if now, err := l.records.CrossingByID(ctx, c.ID); err != nil || now.Condition != domain.ConditionPaused {
			return // whoever took it over returns it
		}
	}
	epoch, err := l.records.RaiseEpoch(ctx, chunk.ID, chunk.Epoch)
	if err != nil || epoch == 0 {
		return
	}
	dst, err := l.databases.Open(ctx, c.Target)
	if err != nil {
		l.rest(ctx, c, fmt.Errorf("target: %w", err))
		return // the keeper tries again when the lease has run out
	}
	mark, err := dst.Fence(ctx, c.UID, chunk.ID, epoch)
	if err != nil {
		l.rest(ctx, c, fmt.Errorf("target: %w", err))
		return
	}
	if mark != nil {
		if err := l.records.Landed(ctx, chunk.ID, epoch, mark.Snapshot, mark.Sum); err != nil {
			l.log.Warn("a landed chunk could not be recorded", "error", err)
		}
		return
	}
	l.sendBack(ctx, c, chunk, epoch, cause)
}

// failureOf is what is known of a chunk's failure.
func (l *Loader) failureOf(c *domain.Crossing, chunk *domain.Chunk, cause error) chunkfate.Failure {
	return chunkfate.Failure{
		Attempts: chunk.Attempts, Most: c.Settings.MaxAttempts,
		LetGo: errors.Is(cause, context.Canceled) || errors.Is(cause, domain.ErrTakenOver),
		Away:  isAway(cause), StoodStill: errors.As(cause, new(stood)), Lasting: engine.Lasting(cause),
		RowsRefused: errors.As(cause, new(*refusedRows)), Fault: l.Fault(cause),
	}
}

// sendBack gives a fenced chunk the fate that its failure deserves.
func (l *Loader) sendBack(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, epoch int64, cause error) {
	fate := chunkfate.Of(l.failureOf(c, chunk, cause))
	t, err := l.records.Table(ctx, chunk.TableID)
	if err != nil && (fate != chunkfate.GoesBack && fate != chunkfate.Rests || errors.Is(cause, engine.ErrRewritten)) {
		l.log.Warn("the table of a failed chunk could not be read", "error", err)
		return // the keeper takes it back when its lease has run out
	}
	if errors.Is(cause, engine.ErrRewritten) {
		l.journal.Recordf(ctx, "warning", journal.System, c.Name, t.SourceName, "restart", "%s is loaded again: %s",
			t.SourceName, cause)
		if err := l.records.ResetTable(ctx, chunk.TableID); err != nil {
			l.log.Warn("a table that was written anew could not be reset", "error", err)
		}
		return
	}
	where := boundsText(&t.Plan, chunk.Lower, chunk.Upper)
	back := func(wait time.Duration, failed bool, hold string) bool {
		text := cause.Error()
		if fate == chunkfate.GoesBack {
			text = ""
		}
		mine, err := l.records.GiveBack(ctx, chunk, epoch, wait, text, failed, hold)
		if err != nil {
			l.log.Warn("a chunk could not be given back", "error", err)
		}
		return mine && err == nil
	}
	switch fate {
	case chunkfate.GoesBack:
		back(waits.BackOff(chunk.Attempts), false, "")
	case chunkfate.Rests:
		back(0, false, "")
		l.rest(ctx, c, cause)
	case chunkfate.TakenDown:
		if back(waits.BackOff(2), false, "") {
			l.journal.Recordf(ctx, "warning", journal.System, c.Name, t.SourceName, "chunk",
				"chunk %d of %s was taken down and will be tried again: %s", chunk.Ordinal+1, t.SourceName, cause)
		}
	case chunkfate.Held:
		if hold := heldText(c, &t, chunk, where, cause); back(waits.BackOff(chunk.Attempts), true, hold) {
			l.journal.Held(ctx, c, t.SourceName, hold)
		}
	case chunkfate.TriedAgain:
		if back(waits.BackOff(chunk.Attempts), true, "") {
			l.journal.Recordf(ctx, "warning", journal.System, c.Name, t.SourceName, "chunk",
				"chunk %d of %s (%s) failed (try %d of %d) and will be tried again: %s",
				chunk.Ordinal+1, t.SourceName, where, chunk.Attempts, c.Settings.MaxAttempts, cause)
		}
	}
}

// heldText says why a chunk waits for a person, with its table.
func heldText(c *domain.Crossing, t *domain.CrossingTable, chunk *domain.Chunk, where string, cause error) string {
	text := strings.TrimSuffix(cause.Error(), ".")
	if errors.As(cause, new(*refusedRows)) {
		return fmt.Sprintf("chunk %d of %s (%s): %s. Correct the rows or the target's table and resume the crossing, or "+
			"change bad_rows to 'set aside' and resume; the other tables go on",
			chunk.Ordinal+1, t.SourceName, where, text)
	}
	return fmt.Sprintf("chunk %d of %s (%s) failed %d times: %s. Fix the cause and resume the crossing, or restart the "+
		"table; the other tables go on",
		chunk.Ordinal+1, t.SourceName, where, chunk.Attempts, text)
}

// rest lets the whole crossing wait for a side that is away, so that its chunks do not
// use up their tries one after the other, and says so once.
func (l *Loader) rest(ctx context.Context, c *domain.Crossing, cause error) {
	reason := "the load waits, and goes on by itself: " + strings.TrimSuffix(cause.Error(), ".")
	tries, err := l.records.Rest(ctx, c.ID, waits.BackOff, reason)
	if err != nil {
		l.log.Warn("that a side is away could not be noted", "error", err)
		return
	}
	if tries == 1 || tries == 10 {
		l.journal.Recordf(ctx, "warning", journal.System, c.Name, "", "away", "%s (try %d)", reason, tries)
	}
	if tries == 10 { // for minutes
		l.journal.Notify(ctx, c, journal.EventHeld, reason)
	}
}

func boundsText(p *domain.TablePlan, lower, upper domain.KeyValue) string {
	key := strings.Join(p.Key, ", ")
	if p.ReadByDisk() {
		key = "page"
		for _, bound := range []*domain.KeyValue{&lower, &upper} {
			*bound = (*bound)[:min(1, len(*bound))]
		}
	}
	switch {
	case lower == nil && upper == nil:
		return "all rows"
	case lower == nil:
		return fmt.Sprintf("%s below %s", key, strings.Join(upper, ", "))
	case upper == nil:
		return fmt.Sprintf("%s from %s", key, strings.Join(lower, ", "))
	}
	return fmt.Sprintf("%s from %s to below %s", key, strings.Join(lower, ", "), strings.Join(upper, ", "))
}
