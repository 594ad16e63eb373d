package load

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strconv"
	"sync"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// ledger keeps what the records would.
type ledger struct {
	landing  int     // chunks that were read, and land while another is read
	reset    []int64 // tables
	mu       sync.Mutex
	crossing domain.Crossing
	table    domain.CrossingTable
	waiting  []*domain.Chunk
	landed   map[int64]rowhash.Sum
	back     []string // chunks given back: what is kept of them
	rests    []string
	rejected []domain.BadRow
	cut      []domain.BadRow
	said     []string
	shown    []string // what chunks wait for
	ended    []int64  // lanes
	lost     bool     // leases are another's
	others   bool     // lanes of other crossings wait
	limit    int      // of rejected rows; 0: none
	small    bool     // each chunk is the only one of a small table
	together []int    // how many landed together
	seen     int      // chunks of which it was noted what the read sees
}

func (b *ledger) TablesByID(_ context.Context, ids []int64) (out []domain.CrossingTable, _ error) {
	for _, id := range ids {
		t := b.table
		t.ID = id
		out = append(out, t)
	}
	return out, nil
}
func (b *ledger) SetReadSnapshots(_ context.Context, list []domain.Landing, _ domain.Snapshot) error {
	b.seen += len(list)
	return nil
}
func (b *ledger) LandedTogether(_ context.Context, list []domain.Landing, _ domain.Snapshot) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.together = append(b.together, len(list))
	for _, l := range list {
		b.landed[l.ID] = rowhash.Sum{Rows: l.Rows, Bytes: l.Bytes, Hash: l.Hash}
	}
	return nil
}

func (b *ledger) SetLanding(context.Context, int64, int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.landing++
	return nil
}
func (b *ledger) ResetTable(_ context.Context, table int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.reset = append(b.reset, table)
	return nil
}
func (b *ledger) CrossingByID(context.Context, int64) (domain.Crossing, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.crossing, nil
}
func (b *ledger) Table(context.Context, int64) (domain.CrossingTable, error) { return b.table, nil }
func (b *ledger) RenewLane(context.Context, int64, string) (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return !b.lost, nil
}
func (b *ledger) EndLane(_ context.Context, lane int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.ended = append(b.ended, lane)
	return nil
}
func (b *ledger) LanesWaiting(context.Context, int64, []string) (bool, error) { return b.others, nil }
func (b *ledger) Claim(_ context.Context, _ int64, _ string, h domain.BatchHint) (*domain.Chunk, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.waiting) == 0 {
		return nil, nil
	}
	k := b.waiting[0]
	b.waiting = b.waiting[1:]
	k.Epoch++
	k.Attempts++
	k.Others = nil
	for b.small && k.Attempts == 1 && len(k.Others) < h.Small-1 && len(b.waiting) > 0 && b.waiting[0].Attempts == 0 {
		o := b.waiting[0]
		b.waiting = b.waiting[1:]
		o.Epoch++
		o.Attempts++
		k.Others = append(k.Others, *o)
	}
	return k, nil
}
func (b *ledger) RenewChunk(context.Context, int64, int64) (domain.Settings, bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.crossing.Settings, !b.lost, nil
}
func (b *ledger) ChunkProgress(_ context.Context, _, _, _, _, _ int64, waits string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if waits != "" && !slices.Contains(b.shown, waits) {
		b.shown = append(b.shown, waits)
	}
	return nil
}
func (b *ledger) SetReadSnapshot(context.Context, int64, int64, domain.Snapshot) error { return nil }
func (b *ledger) Landed(_ context.Context, id, _ int64, _ domain.Snapshot, sum rowhash.Sum) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.landed[id] = sum
	return nil
}
func (b *ledger) KeepCut(_ context.Context, _, _ int64, rows []domain.BadRow) (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.cut = append(b.cut, rows...)
	return !b.lost, nil
}
func (b *ledger) KeepRejected(_ context.Context, _, _ int64, rows []domain.BadRow, limit int) (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.limit = limit; len(b.rejected)+len(rows) > limit {
		return false, nil
	}
	b.rejected = append(b.rejected, rows...)
	return true, nil
}
func (b *ledger) RaiseEpoch(_ context.Context, _, epoch int64) (int64, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.lost {
		return 0, nil
	}
	return epoch + 1, nil
}
func (b *ledger) GiveBack(_ context.Context, k *domain.Chunk, _ int64, wait time.Duration, cause string, counts bool,
	hold string) (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.back = append(b.back, fmt.Sprintf("%d waits %t, counts %t: %s %s", k.ID, wait > 0, counts, cause, hold))
	if again := *k; b.small && hold == "" { // it is claimed again
		if !counts {
			again.Attempts--
		}
		b.waiting = append(b.waiting, &again)
	}
	return true, nil
}
func (b *ledger) Rest(_ context.Context, _ int64, _ func(int) time.Duration, reason string) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.rests = append(b.rests, reason)
	return len(b.rests), nil
}
func (b *ledger) Recordf(_ context.Context, severity, _, _, _, act, format string, args ...any) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.said = append(b.said, severity+" "+act+": "+fmt.Sprintf(format, args...))
}
func (b *ledger) Held(_ context.Context, _ *domain.Crossing, subject, reason string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.said = append(b.said, "held "+subject+": "+reason)
}
func (b *ledger) Notify(context.Context, *domain.Crossing, string, string) {}

// pair is a source whose rows are numbers, and a target that keeps them.
type pair struct {
	engine.Database
	engine.Lands
	engine.Reads
	engine.Tells

	away    error // why nobody can be reached
	reading error // what reading ends with
	stands  bool  // reading waits for ever
	at      bool  // the server is at work for us
	slow    time.Duration
	trip    time.Duration // to a server and back
	refused func(row string) error
	marked  *engine.Mark // what a fence finds
	cutting string       // the row of which a value is cut
	panics  bool
	another error // another server answers
	landing error // what the next landing ends with
	lost    int64 // the chunk that somebody else has taken

	mu      sync.Mutex
	rows    []string
	open    int
	reads   int // chunks that are read now
	most    int // and at most
	waiting int // chunks whose landing is waited for, while another is read
}

// opens counts a connection that is opened, or closed.
func (s *pair) opens(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open += n
}

func (s *pair) Origin(context.Context) (string, error) { return "old", nil }
func (s *pair) Close()                                 {}
func (s *pair) OpenReader(context.Context) (engine.Reader, error) {
	s.opens(1)
	return &reader{s}, nil
}
func (s *pair) OpenWriter(context.Context, string) (engine.Writer, error) {
	s.opens(1)
	return &writer{of: s}, nil
}
func (s *pair) Clock(context.Context) (time.Time, error) {
	time.Sleep(s.trip)
	return time.Now(), nil
}
func (s *pair) Fence(context.Context, string, int64, int64) (*engine.Mark, error) {
	return s.marked, s.away
}
func (s *pair) Doing(context.Context, string) (string, bool, error) {
	return "it thinks", s.at, nil
}

func (s *pair) Open(context.Context, string) (*engine.Opened, error) {
	return &engine.Opened{Database: s, Lands: s, Reads: s, Tells: s}, s.away
}
func (s *pair) OpenPair(ctx context.Context, _ *domain.Crossing) (*engine.Opened, *engine.Opened, error) {
	a, err := s.Open(ctx, "")
	return a, a, err
}
func (s *pair) Position(_ context.Context, _ string, p domain.Position) string {
	return fmt.Sprint("place ", p.Number())
}
func (s *pair) SameSource(context.Context, *domain.Crossing, *engine.Opened) error { return s.another }

type reader struct{ of *pair }

func (r *reader) Begin(context.Context) (domain.Snapshot, error) {
	return domain.Snapshot{Log: domain.PositionAt(50)}, nil
}
func (r *reader) SupportsBinary(*domain.TablePlan) bool { return false }
func (r *reader) End(context.Context) error             { return nil }
func (r *reader) Session() string                       { return "r" }
func (r *reader) Close()                                { r.of.opens(-1) }

// rowsOf are the numbers of a chunk.
func rowsOf(c *domain.Chunk) (out []string) {
	from, _ := strconv.Atoi(c.Lower[0])
	to, _ := strconv.Atoi(c.Upper[0])
	for n := from; n < to; n++ {
		out = append(out, fmt.Sprint(n))
	}
	return out
}

func (r *reader) Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, _ bool,
	sink func([]byte) error) (rowhash.Sum, error) {
	var sum rowhash.Sum
	r.of.mu.Lock()
	r.of.reads++
	r.of.most = max(r.of.most, r.of.reads)
	r.of.mu.Unlock()
	defer func() {
		r.of.mu.Lock()
		r.of.reads--
		r.of.mu.Unlock()
	}()
	for _, n := range rowsOf(c) {
		switch {
		case r.of.panics:
			panic("the reader is broken")
		case r.of.stands:
			<-ctx.Done()
			return sum, ctx.Err()
		case r.of.reading != nil:
			return sum, r.of.reading
		}
		if n == r.of.cutting && p.Columns[1].Cut && p.Runtime.Truncated != nil {
			p.Runtime.Truncated()
		}
		time.Sleep(r.of.slow)
		row := engine.Row([][]byte{[]byte(n), []byte("honey " + n)})
		sum.Add(row)
		if err := sink(row); err != nil {
			return sum, err
		}
	}
	return sum, nil
}

func (r *reader) Rows(_ context.Context, p *domain.TablePlan, c *domain.Chunk, take func([][]byte, error) error) error {
	for _, n := range rowsOf(c) {
		var refused error
		if n == r.of.cutting && !p.Columns[1].Cut {
			refused = errors.New("column note: it is longer than 5 bytes")
		}
		if err := take([][]byte{[]byte(n), []byte("honey " + n)}, refused); err != nil {
			return err
		}
	}
	return nil
}

type writer struct {
	of     *pair
	rows   []string
	inside bool // a transaction is open
}

func (w *writer) Session() string                                                 { return "w" }
func (w *writer) SupportsBinary(context.Context, *domain.TablePlan) (bool, error) { return false, nil }
func (w *writer) Abort()                                                          { w.of.opens(-1) }
func (w *writer) Close()                                                          { w.of.opens(-1) }
func (w *writer) Begin(context.Context, *domain.TablePlan, bool, *domain.Chunk) error {
	if !w.inside {
		w.rows = nil
	}
	return nil
}
func (w *writer) Next(_ context.Context, m engine.Mark) error {
	if w.of.lost == m.Chunk {
		return domain.ErrTakenOver
	}
	w.inside = true
	return nil
}
func (w *writer) Careful(context.Context, *domain.TablePlan, *domain.Chunk) error {
	w.rows = nil
	return nil
}
func (w *writer) Write(ctx context.Context, data []byte) error {
	return w.InsertRows(ctx, [][]byte{data})
}
func (w *writer) InsertRows(_ context.Context, rows [][]byte) error {
	var taken []string
	for _, row := range rows {
		fields, err := engine.Fields(row)
		if err != nil {
			return err
		}
		if w.of.refused != nil {
			if err := w.of.refused(string(fields[0])); err != nil {
				return err
			}
		}
		taken = append(taken, string(fields[0]))
	}
	w.rows = append(w.rows, taken...)
	return nil
}
func (w *writer) Land(_ context.Context, m engine.Mark) error {
	w.inside = false
	if w.of.lost == m.Chunk {
		return domain.ErrTakenOver
	}
	if w.of.landing != nil {
		err := w.of.landing
		w.of.landing = nil
		return err
	}
	time.Sleep(2 * w.of.trip)
	w.of.mu.Lock()
	defer w.of.mu.Unlock()
	if w.of.reads > 0 {
		w.of.waiting++
	}
	w.of.rows = append(w.of.rows, w.rows...)
	return nil
}

// bad refuses a row as a server does.
func bad(which ...string) func(string) error {
	return func(row string) error {
		if slices.Contains(which, row) {
			return &engine.ServerError{Text: "new said: the value is too sweet; nothing of the chunk was kept",
				Class: engine.OfRows}
		}
		return nil
	}
}

// scene is a crossing of three chunks of ten rows.
func scene() (*Loader, *ledger, *pair) {
	set := domain.DefaultSettings()
	set.MaxAttempts, set.BadRows = 3, "hold"
	b := &ledger{landed: map[int64]rowhash.Sum{}, crossing: domain.Crossing{ID: 1, Name: "spring",
		Kind: domain.KindLoadCapture, Settings: set, StartAt: domain.PositionAt(10)}}
	b.table = domain.CrossingTable{ID: 7, SourceName: "hive.jars", EstRows: 30, EstBytes: 300}
	b.table.Plan = domain.TablePlan{Source: domain.TableName{Schema: "hive", Name: "jars"}, Key: []string{"id"},
		Columns: []domain.Column{{Name: "id", Type: "integer", BaseType: "integer"}, {Name: "note", Type: "text",
			BaseType: "text", Longest: 5, Cut: true}}}
	for i := range int64(3) {
		b.waiting = append(b.waiting, &domain.Chunk{ID: i + 1, TableID: 7, Ordinal: int(i), Run: 1,
			Lower: domain.KeyValue{fmt.Sprint(i * 10)}, Upper: domain.KeyValue{fmt.Sprint(i*10 + 10)}})
	}
	s := &pair{}
	l := New(b, s, b, slog.New(slog.NewTextHandler(io.Discard, nil)), Config{Worker: "w", Lanes: 2,
		StuckAfter: time.Minute, Renew: 2 * time.Second, NoneLeft: func(context.Context) error {
			b.mu.Lock()
			defer b.mu.Unlock()
			b.said = append(b.said, "none left")
			return nil
		},
		Fault: func(err error) bool { return errors.As(err, new(*domain.Fault)) }})
	return l, b, s
}
