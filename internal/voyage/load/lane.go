package load

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"dustyferry/internal/core/pace"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/share"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/stuck"
	"dustyferry/internal/voyage/waits"
)

// Run carries chunk after chunk of a crossing until none is left.
func (l *Loader) Run(ctx context.Context, crossing, id int64) error {
	defer func() {
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if err := l.records.EndLane(end, id); err != nil {
			l.log.Warn("a lane could not be ended", "error", err)
		}
	}()
	if ok, err := l.records.RenewLane(ctx, id, l.Worker); err != nil || !ok {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go waits.Every(ctx, l.Renew, func() {
		if ok, err := l.records.RenewLane(ctx, id, l.Worker); err == nil && !ok {
			cancel()
		}
	})
	if !l.begins() { // lanes that ask for a label come by a queue of their own, beside the others
		return nil
	}
	defer l.ends()
	r := &run{Loader: l, crossing: crossing, began: time.Now(), reads: make(chan struct{}, 1)}
	r.far = l.isFar(ctx, crossing)
	if !r.far {
		return r.hand(ctx)
	}
	errs := make([]error, 2)
	var hands sync.WaitGroup
	for i := range errs {
		hands.Go(func() { errs[i] = domain.Guarded("carrying chunks", func() error { return r.hand(ctx) }) })
	}
	hands.Wait()
	return errors.Join(errs...)
}

// farTrip is how long a question and its answer take where a server is far away: landing a chunk
// takes some of them, in which a lane would carry nothing.
const farTrip = 5 * time.Millisecond

// isFar reports whether one of the servers is far away.
func (l *Loader) isFar(ctx context.Context, crossing int64) bool {
	c, err := l.records.CrossingByID(ctx, crossing)
	if err != nil {
		return false
	}
	src, dst, err := l.databases.OpenPair(ctx, &c)
	if err != nil {
		return false
	}
	for _, side := range []*engine.Opened{src, dst} {
		if side.Tells == nil {
			continue
		}
		least := time.Hour
		for range 3 { // the first may have to open a connection
			asked := time.Now()
			if _, err := side.Clock(ctx); err != nil {
				return false
			}
			if least = min(least, time.Since(asked)); least < farTrip {
				break
			}
		}
		if least >= farTrip {
			return true
		}
	}
	return false
}

// run is one lane at work: one hand, or two where a server is far away. Of these one reads while
// what the other has read lands, so that a lane never reads two chunks at once.
type run struct {
	*Loader
	crossing int64
	far      bool
	reads    chan struct{} // holds an element while a hand reads
	began    time.Time     // this lane's turn; for the hand that reads
}

// hand carries chunk after chunk until none is left.
func (r *run) hand(ctx context.Context) error {
	w := &lane{Loader: r.Loader, together: domain.BatchHint{Small: firstSmall}}
	defer w.close()
	for ctx.Err() == nil {
		select {
		case r.reads <- struct{}{}:
		case <-ctx.Done():
			return ctx.Err()
		}
		over := sync.OnceFunc(func() { <-r.reads })
		c, chunk, err := r.next(ctx, w)
		if err != nil || chunk == nil {
			over()
			return err
		}
		w.read = over
		if r.far {
			w.read = func() {
				if err := r.records.SetLanding(ctx, chunk.ID, chunk.Epoch); err == nil {
					over()
				}
			}
		}
		if len(chunk.Others) > 0 {
			r.together(ctx, w, c, chunk)
			over()
			continue
		}
		err = domain.Guarded("carrying a chunk", func() error { return w.carry(ctx, c, chunk) })
		over()
		if err != nil {
			w.close()
			r.Return(ctx, c, chunk, err)
		}
	}
	return ctx.Err()
}

// next claims a chunk; nil: the lane is over.
func (r *run) next(ctx context.Context, w *lane) (*domain.Crossing, *domain.Chunk, error) {
	c, err := r.records.CrossingByID(ctx, r.crossing)
	if err != nil || pace.Of(c.Settings, time.Now()).Stop {
		return nil, nil, err
	}
	// Crossings take turns: the keeper adds this one's lane again, behind the others.
	if time.Since(r.began) > turn {
		if others, err := r.records.LanesWaiting(ctx, r.crossing, r.Labels); err != nil || others {
			return nil, nil, err
		}
		r.began = time.Now()
	}
	chunk, err := r.records.Claim(ctx, r.crossing, r.Worker, w.together)
	if err == nil && chunk == nil { // if that was the last one, the load has ended now
		err = r.NoneLeft(ctx)
	}
	return &c, chunk, err
}

// begins notes a lane that runs here, unless there is no room for one more.
func (l *Loader) begins() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.carrying >= l.Lanes {
		return false
	}
	l.carrying++
	return true
}

func (l *Loader) ends() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.carrying--
}

// turn is for how long a lane carries while lanes of other crossings wait for a worker.
const turn = 10 * time.Second

// lane is a lane's connections, kept from chunk to chunk.
type lane struct {
	*Loader
	reader engine.Reader
	writer engine.Writer
	table  domain.CrossingTable
	seen   float64 // rows in a byte of the last chunk that landed
	read   func()  // is called when a chunk was read to its end

	together domain.BatchHint // how many chunks it would carry at once
}

// density is how many rows a byte of the table holds, about: as in the last
// chunk, or as the source estimates.
func (l *lane) density(table int64) float64 {
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

func (l *lane) close() {
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
func (l *lane) carry(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk) error {
	if l.table.ID != chunk.TableID {
		t, err := l.records.Table(ctx, chunk.TableID)
		if err != nil {
			return err
		}
		l.table, l.seen = t, 0
	}
	moved := moved{density: l.density(chunk.TableID)}
	return l.holding(ctx, c, chunk, &moved, func(ctx context.Context) error {
		err := l.move(ctx, c, chunk, &moved)
		if err != nil && ctx.Err() == nil && engine.RowsRefused(err) {
			err = l.loadRowByRow(ctx, c, chunk, &moved)
		}
		return err
	})
}

// holding runs f while it renews the lease of a chunk, and of those beside it, and tells how far it
// is. What moves nothing for too long is taken down.
func (l *lane) holding(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, moved *moved,
	f func(context.Context) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var still stuck.Watch
	var keep sync.WaitGroup
	defer keep.Wait()
	defer cancel(nil)
	keep.Go(func() {
		waits.Every(ctx, l.Renew, func() {
			set, ok, err := l.records.RenewChunk(ctx, chunk.ID, chunk.Epoch)
			if err == nil && !ok {
				cancel(domain.ErrTakenOver)
				return
			}
			if err == nil {
				l.limiter(c.ID, pace.Of(set, time.Now())) // a new limit holds within the chunk
			}
			if asked := still.Since(time.Now(), moved.steps.Load(), l.StuckAfter); asked == 0 || moved.brake.Load() {
				still.Waits = ""
			} else if word, works := l.asker().Doing(ctx, c, moved.at.Load(), asked); works {
				still.Waits = stuck.Text(asked, word)
			} else {
				cancel(stood{stuck.Text(asked, word)})
				return
			}
			_ = l.records.ChunkProgress(ctx, chunk.ID, chunk.Epoch, moved.rows(), moved.read.Load(), moved.written.Load(),
				still.Waits)
		})
	})
	err := f(ctx)
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
	at    atomic.Pointer[stuck.Sessions]
}

// rows guesses how many rows were written so far, from how many the table has
// had in a byte; the exact number is known when the chunk was read to its end.
func (m *moved) rows() int64 {
	return int64(float64(m.written.Load()) * m.density)
}

func (l *lane) move(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, m *moved) error {
	if err := l.connect(ctx, c); err != nil {
		return err
	}
	m.on(l)
	plan, dc := &l.table.Plan, *chunk
	cuts := watchTruncations(plan)
	began := time.Now()
	snap, err := l.reader.Begin(ctx)
	if err != nil {
		return err
	}
	m.steps.Add(1)
	if err := l.afterStart(ctx, c, snap); err != nil {
		return err
	}
	l.setReadSnapshot(ctx, c, chunk, snap)
	sum, err := l.copy(ctx, c, &dc, m)
	if err != nil {
		return err
	}
	if err := l.keepCuts(ctx, chunk, cuts.Load()); err != nil {
		return err
	}
	l.read()
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
	l.together = domain.BatchHint{Table: chunk.TableID, Most: share.NextBatch(chunk.Run, time.Since(began)),
		Small: firstSmall}
	return l.records.Landed(ctx, chunk.ID, chunk.Epoch, snap, sum)
}

// afterStart is an error where a read sees the source as it was before its changes are captured.
func (l *lane) afterStart(ctx context.Context, c *domain.Crossing, snap domain.Snapshot) error {
	if c.Kind == domain.KindLoad || snap.Log.IsZero() || !snap.Log.Before(c.StartAt) {
		return nil
	}
	return stood{fmt.Sprintf("what can be read of the source is older than the place from which its changes are "+
		"captured (%s before %s)", l.databases.Position(ctx, c.Source, snap.Log), l.databases.Position(ctx, c.Source,
		c.StartAt))}
}

// copy writes the rows of a chunk of the lane's table into the target's transaction.
func (l *lane) copy(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, m *moved) (none rowhash.Sum,
	_ error) {
	plan := &l.table.Plan
	there := plan.TargetPlan()
	binary := l.reader.SupportsBinary(plan)
	if binary {
		var err error
		if binary, err = l.writer.SupportsBinary(ctx, &there); err != nil {
			return none, err
		}
	}
	if err := l.writer.Begin(ctx, &there, binary, over(plan, chunk)); err != nil {
		return none, err
	}
	sum, err := pump(ctx, l.reader, l.writer, plan, chunk, binary, l.limiter(c.ID, pace.Of(c.Settings, time.Now())), m)
	if err == nil {
		m.steps.Add(1)
	}
	return sum, err
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
func (l *lane) setReadSnapshot(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, snap domain.Snapshot) {
	if c.Kind == domain.KindLoad {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := l.records.SetReadSnapshot(ctx, chunk.ID, chunk.Epoch, snap); err != nil {
		l.log.Debug("the snapshot of a read could not be noted", "error", err)
	}
}

// on notes which connections a chunk is carried over.
func (m *moved) on(l *lane) {
	m.at.Store(&stuck.Sessions{Reader: l.reader.Session(), Writer: l.writer.Session()})
	m.steps.Add(1)
}

// stood is why a chunk was taken down that moved nothing.
type stood struct{ why string }

func (s stood) Error() string { return s.why }

// connect opens both sides, unless they are open from the chunk before.
func (l *lane) connect(ctx context.Context, c *domain.Crossing) error {
	src, dst, err := l.databases.OpenPair(ctx, c)
	if err != nil {
		return away{err}
	}
	if l.reader == nil {
		if err := l.databases.SameSource(ctx, c, src); err != nil {
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
func pump(ctx context.Context, r engine.Reader, w engine.Writer, p *domain.TablePlan, c *domain.Chunk, binary bool,
	br *limiter, m *moved) (rowhash.Sum, error) {
	reading := time.Now()
	var refused error // by the writer, or called off: no fault of reading
	sum, err := r.Copy(ctx, p, c, binary, func(block []byte) error {
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
