package compare

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// book keeps what the records would, and answers for the applier of a crossing.
type book struct {
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
}

func (b *book) CrossingByID(context.Context, int64) (domain.Crossing, error) { return b.crossing, nil }
func (b *book) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	return []domain.CrossingTable{b.table}, nil
}
func (b *book) Table(context.Context, int64) (domain.CrossingTable, error) { return b.table, nil }
func (b *book) Chunks(context.Context, int64) ([]domain.Chunk, error)      { return b.chunks, nil }
func (b *book) Reconciliation(_ context.Context, _, id int64) (domain.Reconciliation, error) {
	if b.recon.ID != id {
		return domain.Reconciliation{}, domain.NotFound("the crossing has no reconciliation %d", id)
	}
	return b.recon, nil
}
func (b *book) BeginReconciliation(_ context.Context, _ int64, at domain.Position, _ []int64) error {
	b.recon.Position, b.results, b.findings = at, map[int64]domain.ReconciledTable{}, nil
	return nil
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
}

func (s *side) Close()                                             {}
func (s *side) Origin(context.Context) (string, error)             { return "here", nil }
func (s *side) Heartbeat(context.Context) (domain.Position, error) { s.beats++; return 70, nil }
func (s *side) Repair(_ context.Context, _, _ string, at domain.Position, _ *domain.TablePlan,
	fixes []engine.Fix) error {
	s.fixed, s.at = append(s.fixed, fixes...), at
	return nil
}
func (s *side) OpenView(_ context.Context, exact bool, _ time.Duration) (engine.View, domain.Position, error) {
	if exact {
		return view{s, slices.Clone(s.rows)}, 70, s.broken
	}
	return view{s, slices.Clone(s.rows)}, 0, s.broken
}

type view struct {
	of   *side
	rows []domain.Row
}

func (v view) Close() {}
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
	out := map[string][]domain.Row{}
	for _, r := range v.rows {
		if k := keyOf(p, r); slices.Contains(keys, k) {
			out[k] = append(out[k], r)
		}
	}
	return out, nil
}

// pair are the two sides as the databases' room gives them.
type pair struct{ source, target *side }

func (p pair) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	open := func(s *side) *engine.Opened {
		return &engine.Opened{Database: s, Captures: s, Applies: s, Compares: s}
	}
	return open(p.source), open(p.target), nil
}

type lines struct{ said, told []string }

func (l *lines) Say(_ context.Context, severity, _, _, _, _, format string, args ...any) {
	l.said = append(l.said, severity+" "+fmt.Sprintf(format, args...))
}
func (l *lines) Notify(_ context.Context, _ *domain.Crossing, event, _ string) {
	l.told = append(l.told, event)
}

type work struct{ added []string }

func (w *work) AddReconciliation(_ context.Context, _ *domain.Crossing, depth domain.Depth, _ []string,
	_ string) (int64, error) {
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
		table:  domain.CrossingTable{ID: 5, SourceName: "s.hives", Plan: plan, EstRows: 4},
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

func TestEqualSidesAreClean(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		r := b.book.results[5]
		if b.book.ended != "clean" || r.State != "done" || r.Parts != 2 || r.DifferingParts != 0 || r.SourceRows != 4 ||
			r.TargetRows != 4 || r.SourceHash != r.TargetHash {
			t.Errorf("it ended %s: %+v", b.book.ended, r)
		}
		if b.book.recon.Position != 70 || b.source.beats == 0 || b.book.let != 1 || b.book.stand.Request.What != "" {
			t.Errorf("at %d, after %d heartbeats, let go %d times, and the applier is asked for %+v", b.book.recon.Position,
				b.source.beats, b.book.let, b.book.stand.Request)
		}
	})
}

func TestEveryKindOfDifferenceIsFound(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.target.rows = []domain.Row{row("1", "a"), row("2", "else"), row("4", "d"), row("9", "z")}
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		want := []string{string(domain.Differing) + " 2 name", string(domain.ExtraOnTarget) + " 9",
			string(domain.MissingOnTarget) + " 3"}
		slices.Sort(want)
		if got := b.found(); !slices.Equal(got, want) || b.book.ended != "differing" || !slices.Contains(b.lines.told,
			"differs") {
			t.Errorf("found %q, it is %q; ended %s, told %v", got, want, b.book.ended, b.lines.told)
		}
	})
}

func TestRowsWithoutAKeyAreCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.table.Plan.Key, b.book.table.Plan.KeyOrder = nil, "none"
		b.source.rows = []domain.Row{row("1", "a"), row("1", "a"), row("1", "a")}
		b.target.rows = []domain.Row{row("1", "a"), row("2", "b")}
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		if r := b.book.results[5]; r.Parts != 16 || r.Findings != 2 {
			t.Errorf("%+v", r)
		}
		for _, f := range b.book.findings {
			if f.Detail.Copies != map[string]int{"1": 2, "2": 1}[b.id(f)] {
				t.Errorf("%d copies of %s", f.Detail.Copies, b.id(f))
			}
		}
	})
}

// id is the first column of a finding's row, whichever side has it.
func (b *bench) id(f domain.KeptFinding) string {
	for _, side := range []map[string]*string{f.Detail.Source, f.Detail.Target} {
		if v := side["id"]; v != nil {
			return *v
		}
	}
	return ""
}

func TestOnlyCounting(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.recon.Depth = domain.DepthCounts
		b.target.rows = b.target.rows[:1]
		if err := b.run(); err != nil || b.book.ended != "differing" || b.book.results[5].Findings != 3 {
			t.Errorf("%v; ended %s: %+v", err, b.book.ended, b.book.results[5])
		}
	})
}

// A part that differs without a row that does is never called clean.
func TestSumsWithoutFindingsAreAnError(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.target.other = true
		err := b.run()
		if err == nil || !strings.Contains(err.Error(), "whether the tables are equal is not known") ||
			!strings.HasPrefix(b.book.ended, "failed") {
			t.Errorf("it says %v, and ended %s", err, b.book.ended)
		}
	})
}

func TestAFailureOnEitherSideIsSaid(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.target.broken = errors.New("the barn is shut")
		if err := b.run(); err == nil || !strings.Contains(err.Error(), "the barn is shut") || b.book.let == 0 {
			t.Errorf("it says %v; the applier was let go %d times", err, b.book.let)
		}
	})
}

func TestPatternsChooseTables(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.recon.Patterns = []string{"s.other*"}
		if err := b.run(); !domain.IsKind(err, domain.ProblemInvalid) {
			t.Errorf("no table is chosen: %v", err)
		}
		b.book.recon.Patterns = []string{"s.h*"}
		if err := b.run(); err != nil || len(b.book.results) != 1 {
			t.Errorf("%v, %v", err, b.book.results)
		}
	})
}

// Whoever comes while the applier stands for somebody else waits for its turn, and says so.
func TestOneAfterTheOther(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.stand.Request, b.book.stand.For = domain.Request{What: "holding", By: "another"}, "a repair"
		var notes []string
		if err := b.Comparer.Run(t.Context(), &b.book.crossing, 7, false, func(s string) {
			notes = append(notes, s)
		}); err != nil {
			t.Fatal(err)
		}
		if len(notes) != 1 || !strings.Contains(notes[0], "a repair") {
			t.Errorf("it noted %q", notes)
		}
	})
}

// Every wait for the applier ends, and says why.
func TestTheApplierDoesNotCome(t *testing.T) {
	for what, c := range map[string]struct {
		set  func(*bench)
		says string
		kind domain.ProblemKind
	}{
		"nobody follows": {func(b *bench) { b.book.stand = nil }, "follows no changes", domain.ProblemConflict},
		"it never answers": {func(b *bench) { b.book.deaf = true }, "did not come to a stand",
			domain.ProblemUnavailable},
		"it comes nearer and no end": {func(b *bench) { b.book.advances = true }, "did not come to a stand",
			domain.ProblemUnavailable},
		"another has it meanwhile": {func(b *bench) { b.book.stolen = true }, "was lost again", domain.ProblemUnavailable},
		"its request lapsed":       {func(b *bench) { b.book.lapse = true }, "was lost again", domain.ProblemUnavailable},
		"tables are loaded again": {func(b *bench) { b.book.deaf, b.book.crossing.Phase = true, domain.PhaseLoading },
			"being loaded again", domain.ProblemConflict},
		"it was paused": {func(b *bench) {
			b.book.deaf, b.book.crossing.Condition = true, domain.ConditionPaused
		}, "resume it first", domain.ProblemConflict},
		"capture waits for a person": {func(b *bench) {
			b.book.deaf, b.book.crossing.Condition, b.book.stand.Failures = true, domain.ConditionHeld, -1
		}, "is held", domain.ProblemConflict},
		"one side cannot be compared": {func(b *bench) { b.Comparer.databases = half{pair{b.source, b.target}} },
			"cannot be compared", domain.ProblemConflict},
		"there is no such comparison": {func(b *bench) { b.book.recon.ID = 8 }, "no reconciliation 7",
			domain.ProblemNotFound},
		"the asker is called off first": {func(b *bench) { b.book.deaf = true }, "", ""},
	} {
		t.Run(what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				b := newBench(t)
				c.set(b)
				ctx, cancel := context.WithCancel(t.Context())
				defer cancel()
				if c.says == "" {
					time.AfterFunc(3*time.Second, cancel)
				}
				err := b.Comparer.Run(ctx, &b.book.crossing, 7, false, nil)
				switch {
				case c.says == "" && !errors.Is(err, context.Canceled):
					t.Errorf("it says %v", err)
				case c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says) || !domain.IsKind(err, c.kind)):
					t.Errorf("it says %v, want a %s with %q", err, c.kind, c.says)
				}
				if b.book.stand != nil && b.book.stand.Request.By == "us" {
					t.Errorf("the applier is still asked for %+v", b.book.stand.Request)
				}
			})
		})
	}
}

// half is a pair whose target cannot be compared.
type half struct{ pair }

func (h half) OpenPair(ctx context.Context, c *domain.Crossing) (src, dst *engine.Opened, err error) {
	src, dst, err = h.pair.OpenPair(ctx, c)
	dst.Compares = nil
	return src, dst, err
}

// Where writes are stopped, or nothing is followed, no applier is asked.
func TestPlainViewsAreEnough(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, set := range []func(*bench) bool{
			func(*bench) bool { return true },
			func(b *bench) bool { b.book.crossing.Kind = domain.KindLoad; return false },
			func(b *bench) bool { b.book.crossing.Phase = domain.PhaseCutOver; return false },
		} {
			b := newBench(t)
			quiet := set(b)
			b.book.stand = nil
			if err := b.Comparer.Run(t.Context(), &b.book.crossing, 7, quiet, nil); err != nil || b.book.ended != "clean" {
				t.Errorf("%v, ended %s", err, b.book.ended)
			}
		}
	})
}

func TestRepairAndCompareAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.target.rows = []domain.Row{row("1", "a"), row("2", "else"), row("4", "d"), row("9", "z")}
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		args := RepairArgs{Reconciliation: 7}
		if err := b.StartRepair(t.Context(), &b.book.crossing, args, "ada"); err != nil {
			t.Fatal(err)
		}
		if err := b.Repair(t.Context(), &b.book.crossing, args, "ada", nil); err != nil {
			t.Fatal(err)
		}
		fixes := map[string]string{}
		for _, f := range b.target.fixed {
			fixes[f.Key[0]] = text(f.Row)
		}
		want := map[string]string{"2": text(row("2", "b")), "3": text(row("3", "c")), "9": ""}
		if !maps.Equal(fixes, want) || b.target.at != 70 {
			t.Errorf("repaired %q at %d, it is %q at 70", fixes, b.target.at, want)
		}
		if err := b.StartRepair(t.Context(), &b.book.crossing, args, "ada"); !domain.IsKind(err, domain.ProblemConflict) {
			t.Errorf("nothing is open any more: %v", err)
		}
		// One was repaired, the others were not in truth: comparing again says so.
		b.target.rows = []domain.Row{row("1", "a"), row("2", "b"), row("4", "d"), row("9", "y")}
		if err := b.StartRecheck(t.Context(), &b.book.crossing, args, "ada"); err != nil {
			t.Fatal(err)
		}
		if err := b.Recheck(t.Context(), &b.book.crossing, args, "ada", nil); err != nil {
			t.Fatal(err)
		}
		states := map[string]string{}
		for _, f := range b.book.findings {
			states[f.Detail.Key[0]] = f.State
		}
		if !maps.Equal(states, map[string]string{"2": "equal", "3": "open", "9": "open"}) {
			t.Errorf("the findings are %v", states)
		}
		if !slices.ContainsFunc(b.lines.said, func(l string) bool { return strings.HasPrefix(l, "warning 1 of 3 rows") }) {
			t.Errorf("the journal says %q", b.lines.said)
		}
	})
}

func TestRowsWithoutAKeyAreRepairedByCopies(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.table.Plan.Key, b.book.table.Plan.KeyOrder = nil, "none"
		b.source.rows = []domain.Row{row("1", "a"), row("1", "a"), row("1", "a")}
		b.target.rows = []domain.Row{row("1", "a"), row("2", "b")}
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		if err := b.Repair(t.Context(), &b.book.crossing, RepairArgs{Reconciliation: 7}, "ada", nil); err != nil {
			t.Fatal(err)
		}
		got := map[string]int{}
		for _, f := range b.target.fixed {
			got["put "+text(f.Row)+", remove "+text(f.Old)] = f.Copies
		}
		want := map[string]int{"put " + text(row("1", "a")) + ", remove ": 2, "put , remove " + text(row("2", "b")): 1}
		if !maps.Equal(got, want) {
			t.Errorf("repaired %v, it is %v", got, want)
		}
	})
}

func TestWhatIsRefused(t *testing.T) {
	b := newBench(t)
	c := &b.book.crossing
	refused := func(what string, kind domain.ProblemKind, err error) {
		t.Helper()
		if !domain.IsKind(err, kind) {
			t.Errorf("%s: %v", what, err)
		}
	}
	start := func(depth domain.Depth) error {
		_, err := b.Start(t.Context(), c, depth, nil, "ada")
		return err
	}
	refused("a depth that is none", domain.ProblemInvalid, start("deep"))
	if err := start(domain.DepthCounts); err != nil || !slices.Contains(b.work.added, "counts") {
		t.Errorf("%v, %v", err, b.work.added)
	}
	refused("findings that are not there", domain.ProblemConflict, b.StartRecheck(t.Context(), c,
		RepairArgs{Reconciliation: 7}, "ada"))
	refused("another comparison", domain.ProblemNotFound, b.StartRecheck(t.Context(), c, RepairArgs{Reconciliation: 8},
		"ada"))
	refused("a repair of another comparison", domain.ProblemNotFound, b.StartRepair(t.Context(), c,
		RepairArgs{Reconciliation: 8}, "ada"))
	c.Condition = domain.ConditionPaused
	refused("while it is paused", domain.ProblemConflict, start(domain.DepthHashes))
	c.Phase, c.Condition = domain.PhaseDraft, domain.ConditionRunning
	refused("a draft", domain.ProblemConflict, start(domain.DepthHashes))
	refused("a repair of a draft", domain.ProblemConflict, b.StartRepair(t.Context(), c, RepairArgs{Reconciliation: 7},
		"ada"))
	refused("comparing rows of a draft again", domain.ProblemConflict, b.StartRecheck(t.Context(), c,
		RepairArgs{Reconciliation: 7}, "ada"))
}
