package voyage

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"dustyferry/internal/core/chunkfate"
	"dustyferry/internal/core/pace"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/share"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// RunLane carries chunk after chunk of a crossing until none is left.
func (v *Voyage) RunLane(ctx context.Context, crossing, lane int64) error {
	defer func() {
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if err := v.Store.EndLane(end, lane); err != nil {
			v.Log.Warn("a lane could not be ended", "error", err)
		}
	}()
	if ok, err := v.Store.RenewLane(ctx, lane, v.Worker); err != nil || !ok {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go waits.Every(ctx, records.Renew, func() {
		if ok, err := v.Store.RenewLane(ctx, lane, v.Worker); err == nil && !ok {
			cancel()
		}
	})
	v.mu.Lock()
	room := v.carrying < v.Lanes
	v.carrying++
	v.mu.Unlock()
	defer func() {
		v.mu.Lock()
		v.carrying--
		v.mu.Unlock()
	}()
	if !room { // lanes that ask for a label come by a queue of their own, beside the others
		return nil
	}
	l := &laneWork{v: v}
	defer l.close()
	began := time.Now()
	for ctx.Err() == nil {
		c, err := v.Store.CrossingByID(ctx, crossing)
		if err != nil || pace.Of(c.Settings, time.Now()).Stop {
			return err
		}
		// Crossings take turns: the keeper adds this one's lane again, behind the others.
		if time.Since(began) > turn {
			if others, err := v.Store.LanesWaiting(ctx, crossing, v.Labels); err != nil || others {
				return err
			}
			began = time.Now()
		}
		chunk, err := v.Store.Claim(ctx, crossing, v.Worker, l.together)
		if err != nil {
			return err
		}
		if chunk == nil { // if that was the last one, the load has ended now
			_, err := v.Store.Alone(ctx, phasesLock, func() error { return v.movePhases(ctx) })
			return err
		}
		err = domain.Guarded("carrying a chunk", func() error { return l.carry(ctx, &c, chunk) })
		if err != nil {
			l.close()
			v.returnChunk(ctx, &c, chunk, err)
		}
	}
	return ctx.Err()
}

// turn is for how long a lane carries while lanes of other crossings wait for a worker.
const turn = 10 * time.Second

// laneWork is a lane's connections, kept from chunk to chunk.
type laneWork struct {
	v      *Voyage
	reader engine.Reader
	writer engine.Writer
	table  domain.CrossingTable
	seen   float64 // rows in a byte of the last chunk that landed

	together records.BatchHint // how many chunks it would carry at once
}

// density is how many rows a byte of the table holds, about: as in the last
// chunk, or as the source estimates.
func (l *laneWork) density(table int64) float64 {
	switch {
	case l.table.ID != table:
		return 0
	case l.seen > 0:
		return l.seen
	case l.table.EstBytes > 0:
		return float64(l.table.EstRows) / float64(l.table.EstBytes)
	}
	return 0
}

func (l *laneWork) close() {
	if l.reader != nil {
		l.reader.Close()
		l.reader = nil
	}
	if l.writer != nil {
		l.writer.Abort()
		l.writer = nil
	}
}

// carry reads one chunk in a snapshot of its own and lands it: rows and mark in
// one target transaction.
func (l *laneWork) carry(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk) error {
	v := l.v
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	if l.table.ID != chunk.TableID {
		t, err := v.Store.Table(ctx, chunk.TableID)
		if err != nil {
			return err
		}
		l.table, l.seen = t, 0
	}
	moved := moved{density: l.density(chunk.TableID)}
	var still standstill
	var keep sync.WaitGroup
	defer keep.Wait()
	defer cancel(nil)
	keep.Go(func() {
		waits.Every(ctx, records.Renew, func() {
			set, ok, err := v.Store.RenewChunk(ctx, chunk.ID, chunk.Epoch)
			if err == nil && !ok {
				cancel(domain.ErrTakenOver)
				return
			}
			if err == nil {
				v.brakesOf(c.ID, pace.Of(set, time.Now())) // a new limit holds within the chunk
			}
			if asked := still.since(time.Now(), moved.steps.Load(), v.StuckAfter); asked == 0 || moved.brake.Load() {
				still.waits = ""
			} else if word, works := v.doing(ctx, c, moved.at.Load(), asked); works {
				still.waits = stuck(asked, word)
			} else {
				cancel(stood{stuck(asked, word)})
				return
			}
			_ = v.Store.ChunkProgress(ctx, chunk.ID, chunk.Epoch, moved.rows(), moved.read.Load(), moved.written.Load(), still.waits)
		})
	})
	err := l.move(ctx, c, chunk, &moved)
	if err != nil && ctx.Err() == nil && ofRows(err) {
		err = l.loadRowByRow(ctx, c, chunk, &moved)
	}
	if cause := context.Cause(ctx); err != nil && cause != nil {
		return cause
	}
	return err
}

// moved is how far a chunk has come, in bytes of its wire form.
type moved struct {
	read, written atomic.Int64
	density       float64 // rows in a byte, 0: not known

	steps atomic.Int64 // grows with every sign of life
	brake atomic.Bool  // it is our own limits that hold it back
	at    atomic.Pointer[sessions]
}

// rows guesses how many rows were written so far, from how many the table has
// had in a byte; the exact number is known when the chunk was read to its end.
func (m *moved) rows() int64 {
	return int64(float64(m.written.Load()) * m.density)
}

func (l *laneWork) move(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, m *moved) error {
	if err := l.connect(ctx, c); err != nil {
		return err
	}
	m.on(l)
	plan, dc := &l.table.Plan, *chunk
	cuts := watchCuts(plan)
	began := time.Now()
	snap, err := l.reader.Begin(ctx)
	if err != nil {
		return err
	}
	m.steps.Add(1)
	if c.Kind != domain.KindLoad && snap.Log != 0 && snap.Log < domain.Position(c.StartAt) {
		return stood{fmt.Sprintf("what can be read of the source is older than the place from which its changes are captured (%s before %s)", l.v.Position(ctx, c.Source, snap.Log), l.v.Position(ctx, c.Source, domain.Position(c.StartAt)))}
	}
	l.setReadSnapshot(ctx, c, chunk, snap)
	there := plan.TargetPlan()
	packed := l.reader.Packs(plan)
	if packed {
		if packed, err = l.writer.Packs(ctx, &there); err != nil {
			return err
		}
	}
	if err := l.writer.Begin(ctx, &there, packed, over(plan, &dc)); err != nil {
		return err
	}
	sum, err := pump(ctx, l.reader, l.writer, plan, &dc, packed, l.v.brakesOf(c.ID, pace.Of(c.Settings, time.Now())), m)
	if err != nil {
		return err
	}
	m.steps.Add(1)
	if err := l.keepCuts(ctx, chunk, cuts.Load()); err != nil {
		return err
	}
	if err := l.reader.End(ctx); err != nil {
		return err
	}
	m.steps.Add(1)
	mark := engine.Mark{Crossing: c.UID, Chunk: chunk.ID, Epoch: chunk.Epoch, Snapshot: snap, Sum: sum}
	if err := l.writer.Land(ctx, mark); err != nil {
		return err
	}
	if sum.Bytes > 0 {
		l.seen = float64(sum.Rows) / float64(sum.Bytes)
	}
	l.together = records.BatchHint{Table: chunk.TableID, Most: share.NextBatch(chunk.Run, time.Since(began))}
	return l.v.Store.Landed(ctx, chunk.ID, chunk.Epoch, snap, sum)
}

// over is the range whose rows a chunk takes the place of, if it does.
func over(p *domain.TablePlan, c *domain.Chunk) *domain.Chunk {
	if !p.ReplaceRange {
		return nil
	}
	return c
}

// setReadSnapshot keeps what the chunk's read sees, so that changes it sees need not wait for it. The
// chunk can do without.
func (l *laneWork) setReadSnapshot(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, snap domain.Snapshot) {
	if c.Kind == domain.KindLoad {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := l.v.Store.SetReadSnapshot(ctx, chunk.ID, chunk.Epoch, snap); err != nil {
		l.v.Log.Debug("the snapshot of a read could not be noted", "error", err)
	}
}

// connect opens both sides, unless they are open from the chunk before.
func (l *laneWork) connect(ctx context.Context, c *domain.Crossing) error {
	src, dst, err := l.v.OpenPair(ctx, c)
	if err != nil {
		return away{err}
	}
	if l.reader == nil {
		if err := l.v.sameSource(ctx, c, src); err != nil {
			return away{err}
		}
		if l.reader, err = src.OpenReader(ctx); err != nil {
			return away{fmt.Errorf("source: %w", err)}
		}
	}
	if l.writer == nil {
		origin, err := src.Origin(ctx)
		if err != nil {
			return away{fmt.Errorf("source: %w", err)}
		}
		if l.writer, err = dst.OpenWriter(ctx, origin); err != nil {
			return away{fmt.Errorf("target: %w", err)}
		}
	}
	return nil
}

// away is why a chunk could not even begin: no fault of its own.
type away struct{ error }

func (a away) Unwrap() error { return a.error }

// isAway reports whether a side is away, or cannot take anything now, whatever the chunk.
func isAway(err error) bool {
	if domain.IsKind(err, domain.ProblemConflict) {
		return false // somebody has to do something
	}
	return errors.As(err, new(away)) || engine.ClassOf(err) == engine.NoRoom
}

// pump moves a chunk's blocks from reader to writer. One goroutine does both, so that a
// block is written while the processor still has it at hand: the sockets hold enough for
// the two servers to go on meanwhile.
func pump(ctx context.Context, r engine.Reader, w engine.Writer, p *domain.TablePlan, c *domain.Chunk, packed bool, br *rateLimiter, m *moved) (rowhash.Sum, error) {
	reading := time.Now()
	var refused error // by the writer, or called off: no fault of reading
	sum, err := r.Copy(ctx, p, c, packed, func(block []byte) error {
		m.read.Add(int64(len(block)))
		m.brake.Store(true)
		if refused = br.rest(ctx, time.Since(reading)); refused == nil {
			refused = br.pass(ctx, len(block), m.density)
		}
		m.steps.Add(1)
		m.brake.Store(false)
		if refused == nil {
			refused = w.Write(ctx, block)
		}
		m.steps.Add(1)
		m.written.Add(int64(len(block)))
		reading = time.Now()
		return refused
	})
	if refused != nil {
		return sum, refused
	}
	return sum, err
}

// returnChunk takes a chunk back from whoever held it: first the ledger raises
// its epoch, then the target is fenced, and only then is it free again, or
// found to have landed after all.
func (v *Voyage) returnChunk(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, cause error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 12*time.Second)
	defer cancel()
	if errors.Is(cause, domain.ErrTakenOver) {
		if now, err := v.Store.CrossingByID(ctx, c.ID); err != nil || now.Condition != domain.ConditionPaused {
			return // whoever took it over returns it
		}
	}
	epoch, err := v.Store.RaiseEpoch(ctx, chunk.ID, chunk.Epoch)
	if err != nil || epoch == 0 {
		return
	}
	dst, err := v.Open(ctx, c.Target)
	if err != nil {
		v.rest(ctx, c, fmt.Errorf("target: %w", err))
		return // the keeper tries again when the lease has run out
	}
	mark, err := dst.Fence(ctx, c.UID, chunk.ID, epoch)
	if err != nil {
		v.rest(ctx, c, fmt.Errorf("target: %w", err))
		return
	}
	if mark != nil {
		if err := v.Store.Landed(ctx, chunk.ID, epoch, mark.Snapshot, mark.Sum); err != nil {
			v.Log.Warn("a landed chunk could not be recorded", "error", err)
		}
		return
	}
	v.sendBack(ctx, c, chunk, epoch, cause)
}

// failureOf is what is known of a chunk's failure.
func (v *Voyage) failureOf(c *domain.Crossing, chunk *domain.Chunk, cause error) chunkfate.Failure {
	return chunkfate.Failure{
		Attempts: chunk.Attempts, Most: c.Settings.MaxAttempts,
		LetGo: errors.Is(cause, context.Canceled) || errors.Is(cause, domain.ErrTakenOver),
		Away:  isAway(cause), StoodStill: errors.As(cause, new(stood)), Lasting: lasting(cause), RowsRefused: errors.As(cause, new(*refusedRows)), Fault: v.logFault(cause),
	}
}

// sendBack gives a fenced chunk the fate that its failure deserves.
func (v *Voyage) sendBack(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, epoch int64, cause error) {
	fate := chunkfate.Of(v.failureOf(c, chunk, cause))
	t, err := v.Store.Table(ctx, chunk.TableID)
	if err != nil && fate != chunkfate.GoesBack && fate != chunkfate.Rests {
		v.Log.Warn("the table of a failed chunk could not be read", "error", err)
		return // the keeper takes it back when its lease has run out
	}
	where := boundsText(&t.Plan, chunk.Lower, chunk.Upper)
	back := func(wait time.Duration, failed bool, hold string) bool {
		text := cause.Error()
		if fate == chunkfate.GoesBack {
			text = ""
		}
		mine, err := v.Store.GiveBack(ctx, chunk, epoch, wait, text, failed, hold)
		if err != nil {
			v.Log.Warn("a chunk could not be given back", "error", err)
		}
		return mine && err == nil
	}
	switch fate {
	case chunkfate.GoesBack:
		back(waits.BackOff(chunk.Attempts), false, "")
	case chunkfate.Rests:
		back(0, false, "")
		v.rest(ctx, c, cause)
	case chunkfate.TakenDown:
		if back(waits.BackOff(2), false, "") {
			v.Say(ctx, "warning", System, c.Name, t.SourceName, "chunk", "chunk %d of %s was taken down and will be tried again: %s", chunk.Ordinal+1, t.SourceName, cause)
		}
	case chunkfate.Held:
		if hold := heldText(c, &t, chunk, where, cause); back(waits.BackOff(chunk.Attempts), true, hold) {
			v.Held(ctx, c, t.SourceName, hold)
		}
	case chunkfate.TriedAgain:
		if back(waits.BackOff(chunk.Attempts), true, "") {
			v.Say(ctx, "warning", System, c.Name, t.SourceName, "chunk", "chunk %d of %s (%s) failed (try %d of %d) and will be tried again: %s",
				chunk.Ordinal+1, t.SourceName, where, chunk.Attempts, c.Settings.MaxAttempts, cause)
		}
	}
}

// heldText says why a chunk waits for a person, with its table.
func heldText(c *domain.Crossing, t *domain.CrossingTable, chunk *domain.Chunk, where string, cause error) string {
	text := strings.TrimSuffix(cause.Error(), ".")
	if errors.As(cause, new(*refusedRows)) {
		return fmt.Sprintf("chunk %d of %s (%s): %s. Correct the rows or the target's table and resume the crossing, or change bad_rows to 'set aside' and resume; the other tables go on",
			chunk.Ordinal+1, t.SourceName, where, text)
	}
	return fmt.Sprintf("chunk %d of %s (%s) failed %d times: %s. Fix the cause and resume the crossing, or restart the table; the other tables go on",
		chunk.Ordinal+1, t.SourceName, where, chunk.Attempts, text)
}

// rest lets the whole crossing wait for a side that is away, so that its chunks do not
// use up their tries one after the other, and says so once.
func (v *Voyage) rest(ctx context.Context, c *domain.Crossing, cause error) {
	reason := "the load waits, and goes on by itself: " + strings.TrimSuffix(cause.Error(), ".")
	tries, err := v.Store.Rest(ctx, c.ID, waits.BackOff, reason)
	if err != nil {
		v.Log.Warn("that a side is away could not be noted", "error", err)
		return
	}
	if tries == 1 || tries == 10 {
		v.Say(ctx, "warning", System, c.Name, "", "away", "%s (try %d)", reason, tries)
	}
	if tries == 10 { // for minutes
		v.Notify(ctx, c, journal.EventHeld, reason)
	}
}

// lasting reports whether trying again cannot help: the database itself says
// that data or permissions are wrong, or a person has to do something.
func lasting(err error) bool {
	return ofRows(err) || engine.ClassOf(err) == engine.OfStatement
}

// ofRows reports whether rows themselves may be what was refused: by their values,
// by rules of the table, or as larger than the server can take.
func ofRows(err error) bool {
	c := engine.ClassOf(err)
	return c == engine.OfRows || c == engine.NoPartition || domain.IsKind(err, domain.ProblemConflict)
}

func boundsText(p *domain.TablePlan, lower, upper domain.KeyValue) string {
	key := strings.Join(p.Key, ", ")
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
