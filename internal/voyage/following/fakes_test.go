package following

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/touched"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// brook is a crossing whose changes are followed, with its source, its target and what is kept of
// it, in memory.
type brook struct {
	unswept []bool            // as it was told
	removed []domain.KeyValue // what the target remembers
	mu      sync.Mutex
	c       domain.Crossing
	tables  []domain.CrossingTable
	chunks  []domain.Chunk
	view    lifecycle.View

	// The stream.
	claims   []*domain.StreamClaim
	epoch    int64 // in the records
	ends     bool  // whoever follows is told to stop
	away     int   // how many reports cannot be kept
	lost     int   // how many counts cannot
	request  domain.Request
	replies  []string
	dropped  []string
	reports  []domain.StreamReport
	counts   map[int64][4]int64
	below    []bool
	noticed  []domain.Entry
	answered int64

	// The source.
	events   chan domain.Event
	broken   error // the log's end
	head     domain.Position
	slow     bool // it answers nothing
	vague    int  // how often it says how far behind somebody is, before it does no more; 0: always
	other    error
	missing  []domain.TableName
	undone   string // what it would change on itself
	catalog  domain.Catalog
	fetched  domain.Row
	located  []int
	snapshot domain.Snapshot

	// The target.
	applied  domain.Position // its own place
	marked   map[int64]bool
	writes   []string
	refuses  error // of a write
	refusing int   // how many are refused; 0: all
	ran      []string
	stuck    chan struct{} // a statement that does not end
	works    bool
	gone     []domain.Row // patches whose rows are not there

	change *planning.SchemaChange
	plans  error

	amended []string
	resets  []int64
	said    []string
	told    []string
	added   []string
	addErr  error
	proved  int
	running []*domain.TablePlan // as the log is read by them
	pokes   chan int64          // crossings whose appliers are asked for something; -1: the connection ends
	looks   int                 // how often what is asked for was looked at
}

func newBrook(kind domain.Kind) *brook {
	plan := func(id, name string) domain.TablePlan {
		n := domain.TableName{Schema: "marsh", Name: name}
		cols := []domain.Column{{Name: "id", Type: "integer", BaseType: "integer", NotNull: true}, {Name: "honey",
			Type: "text", BaseType: "text"}}
		return domain.TablePlan{Source: n, Target: n, Columns: cols, Key: []string{"id"}, KeyOrder: "ours",
			Table: domain.Table{TableName: n, ID: id, Written: id, Columns: cols}}
	}
	b := &brook{epoch: 3, head: domain.PositionAt(100), counts: map[int64][4]int64{},
		snapshot: domain.Snapshot{Log: domain.PositionAt(1)}, marked: map[int64]bool{}}
	b.c = domain.Crossing{ID: 7, UID: "u7", Name: "spring", Source: "marsh", Target: "cloud", Kind: kind,
		Phase: domain.PhaseInStep, Condition: domain.ConditionRunning, Settings: domain.DefaultSettings(),
		StartAt: domain.PositionAt(5)}
	for i, name := range []string{"lots", "hives"} {
		p := plan(fmt.Sprint(i+1), name)
		b.tables = append(b.tables, domain.CrossingTable{ID: int64(i + 1), SourceName: p.Source.String(),
			TargetName: p.Source.String(), State: domain.TableLanded, Plan: p})
		b.catalog.Tables = append(b.catalog.Tables, p.Table)
	}
	b.view = lifecycle.View{Kind: kind, Phase: b.c.Phase, Chunks: 1, Landed: 1, Built: true}
	return b
}

func (b *brook) SetTouchedFrom(_ context.Context, _, _ int64, at domain.Position) error {
	return b.keep(&b.said, "what is touched is known from %s on", at)
}
func (b *brook) KeepTouched(context.Context) error {
	return b.keep(&b.writes, "room for what is touched")
}
func (b *brook) Touched(context.Context, string, domain.Position, int64, int) ([]engine.Touched, error) {
	return nil, nil
}
func (b *brook) ForgetTouched(context.Context, string, []int64) error { return nil }
func (b *brook) SetUnswept(_ context.Context, _, _ int64, yes bool) error {
	b.unswept = append(b.unswept, yes)
	return nil
}
func (b *brook) following(change ...func(*Config)) *Following {
	set := Config{Worker: "w1", StuckAfter: 10 * time.Second, Renew: 2 * time.Second,
		Fault: func(err error) bool { return false }, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Prove: func(context.Context, *domain.Crossing, *domain.Catalog, []domain.CrossingTable) { b.proved++ },
		Add: func(_ context.Context, _ *domain.Crossing, table, actor string) error {
			if b.addErr == nil {
				b.added = append(b.added, table+" for "+actor)
			}
			return b.addErr
		}}
	for _, f := range change {
		f(&set)
	}
	return New(b, b, b, b, set)
}

// flows follows the crossing for some seconds of the clock in the bubble, or until it ends.
func (b *brook) flows(t *testing.T, seconds int, during func()) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		b.events = make(chan domain.Event, 100) // of the bubble
		b.flowsHere(t, seconds, 0, during)
	})
}

func (b *brook) flowsHere(t *testing.T, seconds, failures int, during func()) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Duration(seconds)*time.Second)
	defer cancel()
	done := make(chan struct{})
	go func() {
		defer close(done)
		b.following().runStream(ctx, &domain.StreamClaim{CrossingID: 7, Epoch: 3, Applied: domain.PositionAt(5),
			Received: domain.PositionAt(5),
			Failures: failures})
	}()
	synctest.Wait()
	if during != nil {
		during()
	}
	<-done
}

// after is the place so many bytes on.
func after(p domain.Position, n uint64) domain.Position { return domain.PositionAt(p.Number() + n) }

// logs puts a transaction into the source's log.
func (b *brook) logs(commit domain.Position, changes ...domain.Change) {
	tx := domain.Tx{ID: commit.Number(), Commit: commit, End: after(commit, 5), At: time.Now().UnixMicro()}
	b.events <- domain.Event{Kind: domain.EventBegin, Tx: tx}
	for _, c := range changes {
		b.events <- domain.Event{Kind: domain.EventChange, Tx: tx, Change: c, Size: 10}
	}
	b.events <- domain.Event{Kind: domain.EventCommit, Tx: tx}
}

func row(values ...string) domain.Row {
	var r domain.Row
	for _, v := range values {
		r = append(r, domain.Value{Kind: domain.Present, Data: []byte(v)})
	}
	return r
}

func insert(table int64, values ...string) domain.Change {
	return domain.Change{Kind: domain.Insert, Table: table, New: row(values...)}
}

// all is a list as one text, for comparing.
func (b *brook) all(list *[]string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.Join(*list, "\n")
}

func (b *brook) keep(list *[]string, format string, args ...any) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	*list = append(*list, fmt.Sprintf(format, args...))
	return nil
}

// ---- records

func (b *brook) ClaimStream(context.Context, string, []string) (*domain.StreamClaim, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.claims) == 0 {
		return nil, nil
	}
	c := b.claims[0]
	b.claims = b.claims[1:]
	return c, nil
}
func (b *brook) RenewStream(_ context.Context, _, epoch int64, r domain.StreamReport) (domain.StreamWord,
	error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.away > 0 {
		b.away--
		return domain.StreamWord{}, errors.New("the control database is away")
	}
	b.reports = append(b.reports, r)
	return domain.StreamWord{Mine: epoch == b.epoch && !b.ends, StopAt: b.c.Settings.StopAt,
		Below: len(b.below) > 0 && b.below[len(b.below)-1]}, nil
}
func (b *brook) DropStream(_ context.Context, _, epoch int64, wait time.Duration, cause, hold string) (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	waited := ""
	if wait > 0 {
		waited = "waits: "
	}
	b.dropped = append(b.dropped, waited+cause+"|"+hold)
	return epoch == b.epoch, nil
}
func (b *brook) Stand(context.Context, int64) (*domain.Stand, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return &domain.Stand{Epoch: b.epoch}, nil
}
func (b *brook) Requested(_ context.Context, _, epoch int64) (domain.Request, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.looks++
	if epoch != b.epoch {
		return domain.Request{}, domain.ErrTakenOver
	}
	return b.request, nil
}
func (b *brook) Listen(ctx context.Context, heard func(int64)) error {
	heard(0)
	for {
		select {
		case id := <-b.pokes:
			if id < 0 {
				return errors.New("the connection is cut")
			}
			heard(id)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
func (b *brook) Respond(_ context.Context, _, _ int64, was, now domain.Request, changes int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if was != b.request {
		return nil
	}
	now.By = was.By
	b.request, b.answered = now, changes
	b.replies = append(b.replies, fmt.Sprintf("%s %s", now.What, now.At))
	return nil
}
func (b *brook) MarkLag(_ context.Context, _ int64, below bool) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.below = append(b.below, below)
	return nil
}
func (b *brook) Notice(_ context.Context, _ int64, list []domain.Entry) error {
	b.noticed = list
	return nil
}
func (b *brook) CrossingByID(context.Context, int64) (domain.Crossing, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.c, nil
}
func (b *brook) Database(_ context.Context, name string) (domain.Database, error) {
	return domain.Database{Name: name, Engine: "brook"}, nil
}
func (b *brook) SetCondition(_ context.Context, _ int64, _ []domain.Condition, to domain.Condition, reason string,
	_ bool) (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.c.Condition, b.c.Reason = to, reason
	return true, nil
}
func (b *brook) SaveUndo(_ context.Context, _ int64, undo []string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.c.Undo = undo
	return nil
}
func (b *brook) View(context.Context, int64) (lifecycle.View, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.view, nil
}
func (b *brook) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	return slices.Clone(b.tables), nil
}
func (b *brook) ResetTable(_ context.Context, table int64) error {
	b.resets = append(b.resets, table)
	return nil
}
func (b *brook) CountChanges(_ context.Context, table, ins, upd, del, trunc int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.lost > 0 {
		b.lost--
		return errors.New("the control database is away")
	}
	k := b.counts[table]
	for i, n := range []int64{ins, upd, del, trunc} {
		k[i] += n
	}
	b.counts[table] = k
	return nil
}
func (b *brook) NoteColumnChange(_ context.Context, table int64, at domain.Position) error {
	return b.keep(&b.amended, "noted %d at %s", table, at)
}
func (b *brook) Amend(_ context.Context, _, epoch, table int64, p domain.TablePlan, again []int64) error {
	return b.keep(&b.amended, "table %d by %d: %d columns, %d partitions, again %v", table, epoch, len(p.Columns),
		len(p.Table.Partitions), again)
}
func (b *brook) Chunks(context.Context, int64) ([]domain.Chunk, error) { return b.chunks, nil }
func (b *brook) ChunkStates(_ context.Context, _ int64, only []int) ([]domain.Chunk, error) {
	var out []domain.Chunk
	for _, n := range only {
		out = append(out, b.chunks[n])
	}
	return out, nil
}
func (b *brook) LandedChunks(context.Context, int64) ([]domain.LandedChunk, error) {
	var out []domain.LandedChunk
	for _, k := range b.chunks {
		if k.State == domain.ChunkLanded {
			out = append(out, domain.LandedChunk{ID: k.ID, Table: "marsh.lots"})
		}
	}
	return out, nil
}

// ---- databases, planner, journal

func (b *brook) Open(context.Context, string) (*engine.Opened, error) {
	return &engine.Opened{Tells: from{b: b}}, nil
}
func (b *brook) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	f, t := from{b: b}, to{b: b}
	return &engine.Opened{Database: f, Captures: f, Tells: f}, &engine.Opened{Database: t, Applies: t, Lands: t,
		Defines: t, Remembers: b, Vouches: b}, nil
}
func (b *brook) Remembered(context.Context, string, *domain.TablePlan) ([]domain.KeyValue, error) {
	return b.removed, nil
}
func (b *brook) SameSource(context.Context, *domain.Crossing, *engine.Opened) error { return b.other }
func (b *brook) Catalog(context.Context, string, bool) (*domain.Catalog, error) {
	return &b.catalog, nil
}
func (b *brook) Driver(string) (engine.Driver, error) { return plain{}, nil }
func (b *brook) Position(_ context.Context, _ string, p domain.Position) string {
	return fmt.Sprint(p.Number())
}
func (b *brook) PlanSchemaChange(context.Context, *domain.Crossing, *engine.Opened, *engine.Opened,
	[]domain.TablePlan, *domain.TablePlan, *domain.Change, domain.Position) (*planning.SchemaChange, error) {
	return b.change, b.plans
}
func (b *brook) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	_ = b.keep(&b.said, format, args...)
}
func (b *brook) Held(_ context.Context, _ *domain.Crossing, _, reason string) {
	_ = b.keep(&b.told, "held: %s", reason)
}
func (b *brook) Notify(_ context.Context, _ *domain.Crossing, event, _ string) {
	_ = b.keep(&b.told, "%s", event)
}

// plain is an engine whose places are written as numbers.
type plain struct{ engine.Driver }

func (plain) ParsePosition(text string) (p domain.Position, err error) {
	n, err := strconv.ParseUint(text, 10, 64)
	return domain.PositionAt(n), err
}
func (plain) FormatPosition(p domain.Position) string { return fmt.Sprint(p.Number()) }

// ---- the source

type from struct {
	engine.Database
	engine.Captures
	engine.Tells
	b *brook
}

func (f from) Origin(context.Context) (string, error)                  { return "marsh", nil }
func (f from) Clock(context.Context) (time.Time, error)                { return time.Now().Add(-time.Hour), nil }
func (f from) Locked(context.Context, time.Duration) ([]string, error) { return nil, nil }
func (f from) Doing(context.Context, string) (string, bool, error) {
	f.b.mu.Lock()
	defer f.b.mu.Unlock()
	return "waits for a lock of ann", f.b.works, nil
}
func (f from) OpenCapture(_ context.Context, name string, at domain.Position, tables []engine.CaptureTable,
	except string) (engine.Capture, error) {
	for _, t := range tables {
		f.b.running = append(f.b.running, t.Plan)
	}
	return &logOf{brook: f.b}, f.b.keep(&f.b.replies, "log %s from %s of %d tables but for %s", name, at, len(tables),
		except)
}
func (f from) Heartbeat(ctx context.Context) (domain.Position, error) {
	f.b.mu.Lock()
	slow := f.b.slow
	f.b.head = after(f.b.head, 1)
	at := f.b.head
	f.b.mu.Unlock()
	if slow {
		<-ctx.Done()
		return domain.Position{}, ctx.Err()
	}
	select {
	case f.b.events <- domain.Event{Kind: domain.EventProgress, Position: after(at, 1)}:
	default:
	}
	return at, nil
}
func (f from) Snapshot(context.Context) (domain.Snapshot, error) {
	f.b.mu.Lock()
	defer f.b.mu.Unlock()
	return f.b.snapshot, nil
}
func (f from) LogBytes(_ context.Context, lo, hi domain.Position) (int64, error) {
	f.b.mu.Lock()
	defer f.b.mu.Unlock()
	switch f.b.vague {
	case 0:
	case 1:
		return 0, errors.New("not now")
	default:
		f.b.vague--
	}
	return max(0, int64(hi.Number())-int64(lo.Number())), nil
}
func (f from) FetchRow(context.Context, *domain.TablePlan, domain.KeyValue) (domain.Row, error) {
	return f.b.fetched, nil
}
func (f from) Locate(context.Context, *domain.TablePlan, []domain.KeyValue, []domain.KeyValue) ([]int, error) {
	return f.b.located, nil
}
func (f from) Mind(_ context.Context, _ string, _ []domain.TablePlan, undo func(string) error) ([]domain.TableName,
	error) {
	if f.b.undone != "" {
		if err := undo(f.b.undone); err != nil {
			return nil, err
		}
	}
	f.b.mu.Lock()
	defer f.b.mu.Unlock()
	return f.b.missing, nil
}

// logOf is the source's log as it is read.
type logOf struct {
	*brook
	read domain.Position
}

func (l *logOf) Events() <-chan domain.Event               { return l.events }
func (l *logOf) Err() error                                { return l.broken }
func (l *logOf) Took(e *domain.Event)                      { l.read = l.read.Later(e.Tx.End).Later(e.Position) }
func (l *logOf) Waiting() int64                            { return 2 }
func (l *logOf) Confirm(p domain.Position)                 { _ = l.keep(&l.replies, "confirmed %s", p) }
func (l *logOf) PortablePosition(p domain.Position) string { return fmt.Sprintf("gtid-%s", p) }
func (l *logOf) Received() domain.Position                 { return l.read }
func (l *logOf) Close()                                    {}

// ---- the target

type to struct {
	engine.Database
	engine.Applies
	engine.Lands
	engine.Defines
	b *brook
}

func (d to) Origin(context.Context) (string, error) { return "cloud", nil }
func (d to) TakeStream(_ context.Context, _ string, _ int64, start domain.Position) (domain.Position, error) {
	return start.Later(d.b.applied), nil
}
func (d to) Marked(context.Context, string) (map[int64]bool, error) { return d.b.marked, nil }
func (d to) OpenApplier(context.Context, string, string, int64) (engine.Applier, error) {
	return &pen{brook: d.b}, nil
}
func (d to) Run(_ context.Context, sql string) error {
	if d.b.refuses != nil && strings.HasPrefix(sql, "REFUSED") {
		return d.b.refuses
	}
	return d.b.keep(&d.b.ran, "%s", sql)
}
func (d to) Partitions(parts []domain.Partition) []string {
	var out []string
	for _, p := range parts {
		out = append(out, "CREATE PARTITION "+p.Table.String())
	}
	return out
}

// pen writes changes to the target.
type pen struct {
	*brook
	engine.Applier
}

func (p *pen) Session() string             { return "s9" }
func (p *pen) Begin(context.Context) error { return p.keep(&p.writes, "begin") }
func (p *pen) refused() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.refuses == nil || p.refusing < 0 {
		return nil
	}
	if p.refusing > 0 {
		if p.refusing--; p.refusing == 0 {
			p.refusing = -1
		}
	}
	return p.refuses
}
func (p *pen) Touch(_ context.Context, at domain.Position, list []engine.Touched) error {
	if len(list) == 0 {
		return p.keep(&p.writes, "placed at %s", at)
	}
	for _, t := range list {
		var keys []string
		if err := touched.Unpack(t.Keys, 1, func(k string) { keys = append(keys, k[4:min(len(k), 9)]) }); err != nil {
			return err
		}
		if err := p.keep(&p.writes, "touched to %s: %s %d %q", at, t.Target, t.Rows, keys); err != nil {
			return err
		}
	}
	return nil
}
func (p *pen) Apply(ctx context.Context, plan *domain.TablePlan, n fold.Net, replace bool) ([]domain.Row, error) {
	if p.stuck != nil {
		select {
		case <-p.stuck:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	if err := p.refused(); err != nil {
		return nil, err
	}
	gone := p.gone
	p.gone = nil
	return gone, p.keep(&p.writes, "%s: %d puts %d patches %d removes, replace %v", plan.Target.Name, len(n.Puts),
		len(n.Patches), len(n.Removes), replace)
}
func (p *pen) Remember(_ context.Context, plan *domain.TablePlan, keep, forget []domain.KeyValue) error {
	return p.keep(&p.writes, "%s: remember %v, forget %v", plan.Target.Name, keep, forget)
}
func (p *pen) ApplyWhole(_ context.Context, plan *domain.TablePlan, list []domain.Change) error {
	if err := p.refused(); err != nil {
		return err
	}
	return p.keep(&p.writes, "%s: %d whole", plan.Target.Name, len(list))
}
func (p *pen) Find(_ context.Context, plan *domain.TablePlan, match []domain.Column,
	_ []domain.Value) ([]domain.KeyValue, error) {
	return nil, p.keep(&p.writes, "find %s by %s", plan.Target.Name, match[0].Name)
}
func (p *pen) Move(_ context.Context, plan *domain.TablePlan, _ domain.Change) (bool, error) {
	return true, p.keep(&p.writes, "move in %s", plan.Target.Name)
}
func (p *pen) Truncate(_ context.Context, plans []*domain.TablePlan, note string) error {
	return p.keep(&p.writes, "truncate %d tables %s", len(plans), note)
}
func (p *pen) Commit(_ context.Context, at domain.Position, portable string, _ int64) error {
	p.mu.Lock()
	if p.epoch != 3 {
		p.mu.Unlock()
		return domain.ErrTakenOver
	}
	p.applied = at
	p.mu.Unlock()
	return p.keep(&p.writes, "commit %s %s", at, portable)
}
func (p *pen) Abort() { _ = p.keep(&p.writes, "abort") }
func (p *pen) Close() {}
