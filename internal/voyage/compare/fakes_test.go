package compare

import (
	"context"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// book keeps what the records would, and answers for the applier of a crossing.
type book struct {
	more     []domain.CrossingTable // beside table
	done     map[int64]int64        // tables that a process before had done
	mu       sync.Mutex
	crossing domain.Crossing
	table    domain.CrossingTable
	chunks   []domain.Chunk
	recon    domain.Reconciliation
	results  map[int64]domain.ReconciledTable
	findings []domain.KeptFinding
	ended    string

	stand    *domain.Stand
	deaf     bool   // nobody answers requests
	by       string // who asked
	let      int    // how often it was let go
	asked    []string
	stolen   bool // somebody else's request takes the place of ours
	advances bool // it comes nearer all the time, and never arrives
	lapse    bool // its request is gone when it is sent on

	whole   map[int64]bool // tables that were compared whole
	vouched []string       // rounds that were kept
}

func (b *book) KeepVouched(_ context.Context, _ int64, at domain.Position, rows int64,
	found map[int64][]domain.Finding) (int64, error) {
	b.vouched = append(b.vouched, fmt.Sprintf("%d rows up to %s", rows, at))
	for table, list := range found {
		_ = b.AddFindings(context.Background(), 0, table, list)
	}
	return 9, nil
}
func (b *book) ComparedWhole(context.Context, int64) (map[int64]bool, error) { return b.whole, nil }

func (b *book) CrossingByID(context.Context, int64) (domain.Crossing, error) { return b.crossing, nil }
func (b *book) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	return append([]domain.CrossingTable{b.table}, b.more...), nil
}
func (b *book) Table(context.Context, int64) (domain.CrossingTable, error) { return b.table, nil }
func (b *book) Chunks(context.Context, int64) ([]domain.Chunk, error)      { return b.chunks, nil }
func (b *book) Reconciliation(_ context.Context, _, id int64) (domain.Reconciliation, error) {
	if b.recon.ID != id {
		return domain.Reconciliation{}, domain.NotFound("the crossing has no reconciliation %d", id)
	}
	return b.recon, nil
}
func (b *book) BeginReconciliation(_ context.Context, _ int64, at domain.Position, _ []int64) (map[int64]int64, error) {
	b.recon.Position = at
	if b.done == nil {
		b.results, b.findings = map[int64]domain.ReconciledTable{}, nil
	}
	return b.done, nil
}
func (b *book) EndReconciliation(_ context.Context, _ int64, state domain.ComparisonState, cause string) error {
	b.ended = strings.TrimSpace(string(state) + " " + cause)
	return nil
}
func (b *book) ReconcileProgress(context.Context, int64, int64, int64, int64) error { return nil }
func (b *book) SaveReconciledTable(_ context.Context, r domain.ReconciledTable) error {
	b.results[r.TableID] = r
	return nil
}
func (b *book) AddFindings(_ context.Context, _, table int64, found []domain.Finding) error {
	for _, f := range found {
		b.findings = append(b.findings, domain.KeptFinding{ID: int64(len(b.findings) + 1), TableID: table, Kind: f.Kind,
			Detail: f, State: "open"})
	}
	return nil
}
func (b *book) chosen(f domain.FindingFilter) []domain.KeptFinding {
	return slices.DeleteFunc(slices.Clone(b.findings), func(x domain.KeptFinding) bool {
		return f.State != "" && x.State != f.State || len(f.IDs) > 0 && !slices.Contains(f.IDs, x.ID)
	})
}
func (b *book) Findings(_ context.Context, _ int64, f domain.FindingFilter) ([]domain.KeptFinding, error) {
	return b.chosen(f), nil
}
func (b *book) CountFindings(_ context.Context, _ int64, f domain.FindingFilter) (int, map[string]int, error) {
	return len(b.chosen(f)), nil, nil
}
func (b *book) SetFindings(_ context.Context, ids []int64, state string) error {
	for i := range b.findings {
		if slices.Contains(ids, b.findings[i].ID) {
			b.findings[i].State = state
		}
	}
	return nil
}
func (b *book) SaveFinding(_ context.Context, id int64, f domain.Finding) error {
	b.findings[id-1].Detail, b.findings[id-1].Kind, b.findings[id-1].State = f, f.Kind, "open"
	return nil
}

// Stand answers as an applier does that does at once what it is asked for.
func (b *book) Stand(context.Context, int64) (*domain.Stand, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.stand == nil {
		return nil, nil
	}
	s := b.stand
	switch {
	case b.stolen && s.Request.What == "go":
		s.Request.By = "another"
	case b.advances:
		s.Changes++
	case b.deaf:
	case s.Request.What == "hold":
		s.Request.What = "holding"
	case s.Request.What == "go":
		s.Request.What, s.Applied = "reached", s.Request.At
	}
	out := *s
	return &out, nil
}
func (b *book) Ask(_ context.Context, _ int64, by, sake, what string, at domain.Position) (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.stand == nil {
		return false, nil
	}
	if r := b.stand.Request; r.What != "" && r.By != by {
		b.asked = append(b.asked, by)
		if len(b.asked) > 3 { // the other is done
			b.stand.Request = domain.Request{}
		}
		return false, nil
	}
	b.stand.Request, b.stand.For, b.by = domain.Request{What: what, At: at, By: by}, sake, by
	return true, nil
}
func (b *book) KeepAsking(context.Context, int64, string) error { return nil }
func (b *book) Follow(_ context.Context, _ int64, by string, at domain.Position) (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.lapse || b.stand.Request.By != by || b.stand.Request.What != "holding" {
		return false, nil
	}
	b.stand.Request = domain.Request{What: "go", At: at, By: by}
	return true, nil
}
func (b *book) LetGo(_ context.Context, _ int64, by string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.stand != nil && b.stand.Request.By == by {
		b.stand.Request = domain.Request{}
	}
	b.let++
	return nil
}

// side is a database of rows in memory.
type side struct {
	engine.Database
	engine.Captures
	engine.Applies
	rows   []domain.Row
	beats  int
	fixed  []engine.Fix
	at     domain.Position // of what was repaired
	broken error
	other  bool // its hashes are of another form

	touched []engine.Touched
	scans   int // of whole tables
	held    int // tables that a view has read since it let go
	most    int // of them at once
	limits  []time.Duration
	looked  func(n int) // is called when a view at a position is opened, for the n-th time
}

func (s *side) KeepTouched(context.Context) error { return nil }
func (s *side) Touched(_ context.Context, _ string, _ domain.Position, behind int64, most int) ([]engine.Touched,
	error) {
	list := slices.DeleteFunc(slices.Clone(s.touched), func(t engine.Touched) bool { return t.ID <= behind })
	return list[:min(len(list), most)], nil
}
func (s *side) ForgetTouched(_ context.Context, _ string, ids []int64) error {
	s.touched = slices.DeleteFunc(s.touched, func(t engine.Touched) bool { return slices.Contains(ids, t.ID) })
	return nil
}

func (s *side) Close()                                 {}
func (s *side) Origin(context.Context) (string, error) { return "here", nil }
func (s *side) Heartbeat(context.Context) (domain.Position, error) {
	s.beats++
	return domain.PositionAt(70), nil
}
func (s *side) Repair(_ context.Context, _, _ string, at domain.Position, _ *domain.TablePlan,
	fixes []engine.Fix) error {
	s.fixed, s.at = append(s.fixed, fixes...), at
	return nil
}
func (s *side) OpenView(_ context.Context, exact bool, limit time.Duration) (engine.View, domain.Position, error) {
	if exact {
		if s.limits = append(s.limits, limit); s.looked != nil {
			s.looked(len(s.limits) - 1)
		}
		return view{s, slices.Clone(s.rows)}, domain.PositionAt(70), s.broken
	}
	return view{s, slices.Clone(s.rows)}, domain.Position{}, s.broken
}

type view struct {
	of   *side
	rows []domain.Row
}

func (v view) Close() { v.of.held = 0 }

func (v view) ReleaseLocks(context.Context) error {
	v.of.held = 0
	return nil
}
func (v view) Count(context.Context, *domain.TablePlan) (int64, error) {
	return int64(len(v.rows)), v.of.broken
}

func text(r domain.Row) string {
	var out []string
	for _, x := range r {
		out = append(out, fmt.Sprint(x.Kind)+string(x.Data))
	}
	return strings.Join(out, "|")
}

// keyOf is how a row is found: by its key, or by the whole of it.
func keyOf(p *domain.TablePlan, r domain.Row) string {
	if len(p.Key) > 0 {
		return narrow.JoinKey(domain.KeyValue{string(r[0].Data)})
	}
	return text(r)
}

func (v view) hash(r domain.Row) uint64 {
	if v.of.other {
		return rowhash.Of([]byte("!" + text(r)))
	}
	return rowhash.Of([]byte(text(r)))
}

func (v view) part(p *domain.TablePlan, part engine.Part, r domain.Row) int {
	if part.Buckets > 0 {
		return narrow.Bucket([]byte(keyOf(p, r)), part.Buckets)
	}
	at := 0
	for _, b := range part.Bounds {
		if string(r[0].Data) >= b[0] {
			at++
		}
	}
	return at
}

func (v view) Sums(_ context.Context, p *domain.TablePlan, part engine.Part,
	progress func(int64)) ([]rowhash.Sum, error) {
	v.of.scans++
	v.of.held++
	v.of.most = max(v.of.most, v.of.held)
	out := make([]rowhash.Sum, max(part.Buckets, len(part.Bounds)+1))
	for _, r := range v.rows {
		out[v.part(p, part, r)].AddHash(v.hash(r), 1)
		progress(1)
	}
	return out, v.of.broken
}

func (v view) Rows(_ context.Context, p *domain.TablePlan, part engine.Part, want []int,
	visit func([]byte, uint64)) error {
	for _, r := range v.rows {
		if slices.Contains(want, v.part(p, part, r)) {
			visit([]byte(keyOf(p, r)), v.hash(r))
		}
	}
	return nil
}

func (v view) Fetch(_ context.Context, p *domain.TablePlan, _ engine.Part,
	keys []string) (map[string][]domain.Row, error) {
	out, want := map[string][]domain.Row{}, map[string]bool{}
	for _, key := range keys {
		want[key] = true
	}
	for _, r := range v.rows {
		if k := keyOf(p, r); want[k] {
			out[k] = append(out[k], r)
		}
	}
	return out, nil
}

// pair are the two sides as the databases' room gives them.
type pair struct{ source, target *side }

func (p pair) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	open := func(s *side) *engine.Opened {
		return &engine.Opened{Database: s, Captures: s, Applies: s, Repairs: s, Compares: s, Vouches: s}
	}
	return open(p.source), open(p.target), nil
}

type lines struct{ said, told []string }

func (l *lines) Recordf(_ context.Context, severity, _, _, _, _, format string, args ...any) {
	l.said = append(l.said, severity+" "+fmt.Sprintf(format, args...))
}
func (l *lines) Notify(_ context.Context, _ *domain.Crossing, event, _ string) {
	l.told = append(l.told, event)
}

type work struct{ added []string }

func (w *work) AddReconciliation(_ context.Context, _ *domain.Crossing, depth domain.Depth, _ []string,
	_ float64, _ string) (int64, error) {
	w.added = append(w.added, string(depth))
	return 7, nil
}
func (w *work) AddTask(_ context.Context, _ *domain.Crossing, kind lifecycle.Work, _ any, _ string) (int64, error) {
	w.added = append(w.added, string(kind))
	return 1, nil
}

// bench is a comparer over all of these: a crossing in step, of one table with a key.
type bench struct {
	*testing.T
	*Comparer
	book   *book
	source *side
	target *side
	lines  *lines
	work   *work
}

func row(values ...string) domain.Row {
	var r domain.Row
	for _, v := range values {
		r = append(r, domain.Value{Kind: domain.Present, Data: []byte(v)})
	}
	return r
}

func newBench(t *testing.T) *bench {
	cols := []domain.Column{{Name: "id", Type: "bigint", BaseType: "bigint"}, {Name: "name", Type: "text",
		BaseType: "text"}}
	plan := domain.TablePlan{Source: domain.TableName{Schema: "s", Name: "hives"}, Target: domain.TableName{Schema: "t",
		Name: "hives"}, Columns: cols, Key: []string{"id"}, KeyOrder: "ours"}
	b := &bench{T: t, source: &side{}, target: &side{}, lines: &lines{}, work: &work{}, book: &book{
		crossing: domain.Crossing{ID: 1, UID: "u", Name: "spring", Source: "old", Target: "new", Kind: domain.KindLoadCapture,
			Phase: domain.PhaseInStep, Condition: domain.ConditionRunning},
		table:  domain.CrossingTable{ID: 5, SourceName: "s.hives", TargetName: "t.hives", Plan: plan, EstRows: 4},
		chunks: []domain.Chunk{{Ordinal: 0}, {Ordinal: 1, Lower: domain.KeyValue{"3"}}},
		recon:  domain.Reconciliation{ID: 7, Depth: domain.DepthHashes},
		stand:  &domain.Stand{},
	}}
	for _, s := range []*side{b.source, b.target} {
		s.rows = []domain.Row{row("1", "a"), row("2", "b"), row("3", "c"), row("4", "d")}
	}
	b.Comparer = New(b.book, pair{b.source, b.target}, b.lines, b.work, func() string { return "us" })
	return b
}

func (b *bench) run() error {
	b.Helper()
	return b.Comparer.Run(b.Context(), &b.book.crossing, 7, false, nil)
}

// found are the findings as words.
func (b *bench) found() []string {
	var out []string
	for _, f := range b.book.findings {
		key := strings.Join(f.Detail.Key, ",")
		if f.Detail.Place != "" {
			place, _ := hex.DecodeString(f.Detail.Place)
			key = string(place)
		}
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s", f.Kind, key, strings.Join(f.Detail.Columns, ","))))
	}
	slices.Sort(out)
	return out
}
