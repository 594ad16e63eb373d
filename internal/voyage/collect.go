package voyage

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// From the captured stream to batches that are written and committed.

// next returns the next event; without wait, or after a moment, it may return
// none.
func (f *follower) next(ctx context.Context, wait time.Duration) (*engine.Event, error) {
	if e := f.peeked; e != nil {
		f.peeked = nil
		return e, nil
	}
	take := func(e engine.Event, ok bool) (*engine.Event, error) {
		if !ok {
			if err := f.cap.Err(); err != nil {
				return nil, err
			}
			return nil, errors.New("the replication stream ended")
		}
		f.cap.Took(&e)
		return &e, nil
	}
	select {
	case e, ok := <-f.cap.Events():
		return take(e, ok)
	default:
	}
	if wait == 0 {
		return nil, nil
	}
	t := time.NewTimer(wait)
	defer t.Stop()
	select {
	case e, ok := <-f.cap.Events():
		return take(e, ok)
	case <-t.C:
		return nil, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// upTo applies transactions whose commit begins before the position, and
// reports whether it is sure that there are no more of them.
func (f *follower) upTo(ctx context.Context, at domain.Position) (bool, error) {
	e, err := f.next(ctx, 200*time.Millisecond)
	if err != nil || e == nil {
		return false, err
	}
	f.peeked = e
	if f.beyond(e, at) || e.Kind == engine.EventProgress && e.Position >= at {
		return true, nil
	}
	return false, f.batch(ctx, at)
}

// batch collects what waits, applies it and commits. With a limit, it ends
// before the first transaction whose commit begins at or after it.
func (f *follower) batch(ctx context.Context, limit domain.Position) error {
	b := &batch{f: f}
	defer b.abort()
	var last domain.Tx
	var progress domain.Position
	inTx, committedTxs := false, 0
	began := time.Now()
	for {
		wait := time.Duration(0)
		switch {
		case inTx || committedTxs == 0 && progress == 0:
			wait = 100 * time.Millisecond
		case !f.consist && time.Since(began) < gather:
			wait = 10 * time.Millisecond // the reader fills the queue again while it is emptied
		}
		e, err := f.next(ctx, wait)
		if err != nil {
			return err
		}
		if e == nil {
			if inTx {
				continue
			}
			break
		}
		if limit > 0 && f.beyond(e, limit) {
			f.peeked = e
			break
		}
		switch e.Kind {
		case engine.EventBegin:
			inTx = true
			b.open(e.Tx)
			f.recent.begin()
		case engine.EventChange:
			if e.Change.Kind == domain.Redefine {
				if err := f.redefined(ctx, b, last, committedTxs > 0, e); err != nil {
					return err
				}
				continue
			}
			if e.Change.Kind == domain.Unread {
				if err := f.unsaid(ctx, b, last, committedTxs > 0, e); err != nil {
					return err
				}
				continue
			}
			b.changes = append(b.changes, captured{e.Tx, e.Change})
			b.size += e.Size
			b.taken += int64(e.Size)
			f.recent.change(e.Change.Table, e.Change.Kind)
		case engine.EventCommit:
			inTx = false
			last = e.Tx
			f.recent.commit(e.Tx)
			committedTxs++
			f.mu.Lock()
			f.taken++
			f.mu.Unlock()
		case engine.EventVoid:
			inTx = false
			if b.written { // the target's transaction is of this one alone
				b.abort()
				b.begun, b.changes, b.txs, b.size = false, nil, nil, 0
			} else {
				b.split()
			}
		case engine.EventProgress:
			progress = e.Position
			if limit > 0 && progress >= limit {
				f.peeked = e
			}
		}
		if f.peeked != nil {
			break
		}
		if most, bytes := f.limits(); len(b.changes) < most && b.size <= bytes {
			continue
		}
		if !inTx {
			break
		}
		// A transaction that is larger than a batch gets one of the target's for itself,
		// into which it is written in parts.
		if committedTxs > 0 {
			tx := b.txs[len(b.txs)-1]
			rest, size := b.split()
			if err := f.settle(ctx, b, last, false); err != nil {
				return err
			}
			committedTxs = 0
			b.open(tx)
			b.changes, b.size = append(b.changes, rest...), b.size+size
			continue
		}
		if err := b.flush(ctx); err != nil {
			return err
		}
	}
	if committedTxs == 0 {
		if len(b.changes) > 0 {
			return fmt.Errorf("%d changes were read that belong to no transaction; nothing of them is applied", len(b.changes))
		}
		if progress > 0 {
			f.reachedIdle(progress)
		}
		// The first change after the load need not wait for more.
		if !f.consist && limit == 0 && time.Since(f.lastLook) >= time.Second {
			f.lastLook = time.Now()
			if _, err := f.loading(ctx); err != nil {
				return err
			}
		}
		// On a source that is quiet the target's position moves on all the same.
		if limit > 0 || progress <= f.applied || time.Since(f.lastEmpty) < time.Second {
			return nil
		}
		last = domain.Tx{End: progress, At: f.committed}
	}
	return f.settle(ctx, b, last, limit == 0)
}

// gather is how long changes are collected for a batch during the load, while more are
// there than fit the queue.
const gather = time.Second

// limits are how many changes, and how many bytes of them, make a batch. During the load
// every batch may have to wait until a read has landed, which takes seconds: what has come
// meanwhile must fit the next one, or the lag, and the log that the source keeps, would
// grow with every read. Most of it is dropped by the rule.
func (f *follower) limits() (changes, bytes int) {
	if f.consist {
		return f.c.Settings.BatchChanges, 32 << 20
	}
	return 200_000, 48 << 20
}

// settle writes what was collected and makes it durable with the position after its last
// transaction. Transactions without changes of ours (heartbeats mostly) need no commit of
// their own on the target each time: with lazily, some are left for later.
func (f *follower) settle(ctx context.Context, b *batch, last domain.Tx, lazily bool) error {
	if err := b.flush(ctx); err != nil {
		return err
	}
	if lazily && !b.begun && time.Since(f.lastEmpty) < 100*time.Millisecond {
		f.mu.Lock()
		f.taken = 0
		f.mu.Unlock()
		return nil
	}
	f.lastEmpty = time.Now()
	if err := b.begin(ctx); err != nil {
		return err
	}
	if err := f.apply.Commit(ctx, last.End, f.cap.Waymark(last.End), last.At); err != nil {
		return err
	}
	b.begun = false
	f.reached(last.End, last.At)
	f.mu.Lock()
	f.read, f.written = f.read+b.taken, f.written+b.taken
	f.seen, f.seenBytes, f.taken = f.seen+f.taken, f.seenBytes+b.taken, 0
	b.taken = 0
	if list := f.recent.take(f.set); list != nil {
		f.applieds = list
	}
	f.mu.Unlock()
	return nil
}

// guess is about how many transactions so many bytes of log are.
func (f *follower) guess(unread int64) int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.seen == 0 || f.seenBytes == 0 {
		return 0
	}
	return int64(float64(unread) / (float64(f.seenBytes) / float64(f.seen)))
}

// reachedIdle notes that everything before the position was delivered, and applied, where the
// log concerns other databases or tables only. The source is not told: it is once the
// target's own position has moved there, which it does every second, so that what was
// confirmed is never beyond what a target knows that was set back.
func (f *follower) reachedIdle(at domain.Position) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.received = max(f.received, at)
	f.past(at)
}
