package closing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/proof"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// archive is a crossing that comes to its end, with what is known of it.
type archive struct {
	engine.Captures
	engine.StopsWrites
	engine.Lands

	c        domain.Crossing
	tables   []domain.CrossingTable
	cuts     []domain.Cutover
	recs     []domain.Reconciliation
	compared []domain.TableComparison
	best     map[string]proof.Compared
	rejected map[bool]int
	cert     *domain.Certificate
	moves    bool  // somebody else moves the crossing on meanwhile
	breaks   error // of the source
	open     bool  // the source was never closed by an engine's means

	did  []string
	said []string
}

func newArchive(phase domain.Phase) *archive {
	began := time.Date(2026, 5, 1, 8, 0, 0, 123456789, time.FixedZone("", 7200))
	a := &archive{rejected: map[bool]int{}, best: map[string]proof.Compared{}}
	a.c = domain.Crossing{ID: 7, UID: "u7", Name: "spring", Source: "marsh", Target: "cloud", Kind: domain.KindLoadCapture,
		Phase: phase, Condition: domain.ConditionRunning, Settings: domain.DefaultSettings(), CreatedAt: began,
		StartedAt: &began}
	a.tables = []domain.CrossingTable{{ID: 1, SourceName: "marsh.lots", TargetName: "honey.lots", Chunks: 4,
		ChunksLanded: 4,
		RowsLanded:   40, Inserts: 3}, {ID: 2, SourceName: "marsh.hives", TargetName: "honey.hives", Chunks: 2,
		ChunksLanded: 1}}
	return a
}

func (a *archive) closings() *Closings {
	return New(a, a, a, a, func(_ context.Context, _ *engine.Opened, _ *domain.Crossing, table int64) error {
		return a.do("fence %d", table)
	}, a)
}

func (a *archive) do(format string, args ...any) error {
	a.did = append(a.did, fmt.Sprintf(format, args...))
	return nil
}

func (a *archive) CrossingByID(context.Context, int64) (domain.Crossing, error) { return a.c, nil }
func (a *archive) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	return a.tables, nil
}
func (a *archive) Database(_ context.Context, name string) (domain.Database, error) {
	return domain.Database{Name: name, Engine: "postgres", Host: name + ".example", Port: 5432, DBName: "honey",
		Username: "dusty"}, nil
}
func (a *archive) RejectedRows(_ context.Context, _ int64, _ string, landed bool, _,
	limit int) ([]domain.BadRow, int, error) {
	n := a.rejected[landed]
	return make([]domain.BadRow, min(n, limit)), n, nil
}
func (a *archive) Cutovers(context.Context, int64) ([]domain.Cutover, error) { return a.cuts, nil }
func (a *archive) Steps(context.Context, int64) ([]domain.CutoverStep, error) {
	from, to := time.Unix(10, 0), time.Unix(12, 0)
	return []domain.CutoverStep{{Name: domain.StepDrain, State: domain.StepDone, StartedAt: &from, EndedAt: &to}}, nil
}
func (a *archive) Reconciliations(context.Context, int64) ([]domain.Reconciliation, error) {
	return a.recs, nil
}
func (a *archive) Vouching(context.Context, int64) (domain.Vouching, error) {
	return domain.Vouching{To: domain.PositionAt(70), Rows: 12}, nil
}
func (a *archive) TableComparisons(context.Context, int64) ([]domain.TableComparison, error) {
	return a.compared, nil
}
func (a *archive) CertificateOf(context.Context, int64) (*domain.Certificate, error) {
	return a.cert, nil
}
func (a *archive) SaveCertificate(_ context.Context, _ int64, c *domain.Certificate) error {
	a.cert = c
	return a.do("certificate")
}
func (a *archive) SetPhase(_ context.Context, _ int64, from, to domain.Phase) (bool, error) {
	if a.moves {
		return false, nil
	}
	a.c.Phase = to
	return true, a.do("%s → %s", from, to)
}
func (a *archive) ResetTable(_ context.Context, table int64) error { return a.do("reset %d", table) }
func (a *archive) Release(context.Context, int64) error            { return a.do("release") }
func (a *archive) EndRun(context.Context, int64, domain.RunState, string) error {
	return a.do("end run")
}
func (a *archive) JournalHead(context.Context) (int64, string, error) { return 77, "k:c", nil }
func (a *archive) RemoveCrossing(context.Context, int64) error        { return a.do("remove") }
func (a *archive) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	src = &engine.Opened{Captures: a, StopsWrites: a}
	if a.open {
		src.StopsWrites = nil
	}
	return src, &engine.Opened{Lands: a}, nil
}
func (a *archive) Position(_ context.Context, _ string, p domain.Position) string {
	return p.String()
}
func (a *archive) Compared(context.Context, int64) (map[string]proof.Compared, error) {
	return a.best, nil
}
func (a *archive) AddTask(_ context.Context, _ *domain.Crossing, kind domain.Work, _ any, actor string) (int64, error) {
	return 1, a.do("add %s for %s", kind, actor)
}
func (a *archive) EndWork(context.Context, *domain.Crossing, []domain.Work, string) error {
	return a.do("end work")
}
func (a *archive) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	a.said = append(a.said, fmt.Sprintf(format, args...))
}
func (a *archive) DropCapture(_ context.Context, name string, _ []string) error {
	_ = a.do("drop capture %s", name)
	return a.breaks
}
func (a *archive) Reopen(_ context.Context, m domain.StopMethod, _ string, _ []domain.TablePlan) error {
	return a.do("reopen %s", m)
}
func (a *archive) Forget(context.Context, string) error { return a.do("forget") }

// TestClosingLeavesNothingBehind: work ends first, chunks that have not landed are fenced, and the
// certificate is written last of what could fail.
func TestClosingLeavesNothingBehind(t *testing.T) {
	a := newArchive(domain.PhaseInStep)
	a.c.Settings.Slot = "others"
	paused := time.Unix(5, 0)
	a.cuts = []domain.Cutover{{PausedAt: &paused, Settings: domain.Settings{StopMethod: domain.StopReadOnly}},
		{Settings: domain.Settings{StopMethod: domain.StopWord}}}
	c := a.c
	if err := a.closings().Close(t.Context(), &c, Args{}, "ann"); err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(a.did, func(s string) bool { return strings.HasPrefix(s, "reopen") })
	slices.Sort(a.did[i : i+2])
	want := []string{"end work", "in step → closed", "reset 2", "fence 2", "drop capture " + c.ObjectName(), "reopen lock",
		"reopen read-only", "forget", "certificate", "release", "end run"}
	if !slices.Equal(a.did, want) {
		t.Errorf("done:\n%q\nwant:\n%q", a.did, want)
	}
	if len(a.said) != 2 || !strings.Contains(a.said[0], "pg_drop_replication_slot('others')") ||
		!strings.HasPrefix(a.said[1], "ann closed spring") {
		t.Errorf("said: %q", a.said)
	}
	if a.cert.Phase != domain.PhaseInStep || a.cert.ClosedBy != "ann" || a.cert.ClosedAt == nil ||
		a.cert.NotCompared != 2 || a.cert.Findings != nil ||
		!a.cert.StartedAt.Equal(time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)) || a.cert.Target.Host != "cloud.example" {
		t.Errorf("the certificate: %+v", a.cert)
	}
}

// TestWhoStaysClosed: a source that was cut over, unless somebody asks for it; one that was closed
// by nobody's means is left alone.
func TestWhoStaysClosed(t *testing.T) {
	for what, c := range map[string]struct {
		change func(*archive)
		args   Args
		opens  bool
	}{
		"never cut over": {func(*archive) {}, Args{}, true},
		"cut over": {func(a *archive) {
			now := time.Now()
			a.c.CutOverAt, a.c.Phase = &now, domain.PhaseCutOver
		}, Args{}, false},
		"cut over, and asked": {func(a *archive) {
			now := time.Now()
			a.c.CutOverAt, a.c.Phase = &now, domain.PhaseCutOver
		}, Args{Reopen: true}, true},
		"an engine without":      {func(a *archive) { a.open = true }, Args{}, false},
		"closed by another once": {func(a *archive) { a.c.Phase = domain.PhaseClosed }, Args{}, true},
	} {
		a := newArchive(domain.PhaseInStep)
		c.change(a)
		x := a.c
		if err := a.closings().Close(t.Context(), &x, c.args, "ann"); err != nil {
			t.Errorf("%s: %v", what, err)
		}
		if got := slices.ContainsFunc(a.did, func(s string) bool { return strings.HasPrefix(s, "reopen") }); got != c.opens {
			t.Errorf("%s: the source was opened: %v", what, got)
		}
	}
}

// TestAClosingThatFails: what was not done is known by the certificate that lacks, and can be done
// again; a crossing that moves on meanwhile is not closed.
func TestAClosingThatFails(t *testing.T) {
	a := newArchive(domain.PhaseInStep)
	a.breaks, a.c.InStepAt = errors.New("the source is away"), a.c.StartedAt
	c := a.c
	if err := a.closings().Close(t.Context(), &c, Args{}, "ann"); err == nil || a.cert != nil {
		t.Fatalf("%v, %v", err, a.cert)
	}
	if err := a.closings().Allow(t.Context(), &a.c); err != nil {
		t.Errorf("it cannot be closed once more: %v", err)
	}
	a.breaks = nil
	if err := a.closings().Close(t.Context(), &c, Args{}, "ann"); err != nil || a.cert == nil ||
		a.cert.Phase != domain.PhaseInStep {
		t.Errorf("the second time: %v, %+v", err, a.cert)
	}
	if err := a.closings().Allow(t.Context(), &a.c); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("a crossing that is closed can be closed: %v", err)
	}

	a = newArchive(domain.PhaseInStep)
	a.moves = true
	if err := a.closings().Close(t.Context(), &c, Args{}, "ann"); !domain.IsKind(err, domain.ProblemConflict) ||
		a.cert != nil {
		t.Errorf("one that moved on: %v", err)
	}
	a = newArchive(domain.PhaseCuttingOver)
	if err := a.closings().Close(t.Context(), &c, Args{}, "ann"); err == nil || slices.Contains(a.did, "forget") {
		t.Errorf("one that is cutting over: %v, %q", err, a.did)
	}
}

// TestWhatACertificateSays: of the cutover, of the comparison that it went by, and of every table by
// the comparison that counts for it.
func TestWhatACertificateSays(t *testing.T) {
	a := newArchive(domain.PhaseCutOver)
	from, to, id := time.Unix(100, 0), time.Unix(103, 0), int64(12)
	a.c.CutOverAt = &to
	a.cuts = []domain.Cutover{{ID: 3, Rehearsal: true, State: "done"}, {ID: 2, State: "undone"},
		{ID: 1, State: "done", Actor: "bob", EndPosition: domain.PositionAt(900), PausedAt: &from, ReleasedAt: &to,
			ReconciliationID: &id}}
	a.recs = []domain.Reconciliation{{ID: 14, State: "clean"}, {ID: 13, State: "failed"}, {ID: 12, State: "clean",
		Depth: domain.DepthHashes, Tables: 2}}
	a.best["marsh.lots"] = proof.Compared{Number: 12}
	a.compared = []domain.TableComparison{{TableID: 1, ReconciliationID: 14, Findings: 99},
		{TableID: 1, ReconciliationID: 12, Depth: domain.DepthHashes,
			SourceRows: 43, TargetRows: 43, Findings: 5, Equal: 3, Position: domain.PositionAt(900), SourceHash: "abc"}}
	a.rejected[false], a.rejected[true] = 250, 1
	c := a.c
	if err := a.closings().Close(t.Context(), &c, Args{}, "ann"); err != nil {
		t.Fatal(err)
	}
	k := a.cert
	if k.Cutover == nil || k.Cutover.DecidedBy != "bob" || k.Cutover.EndPosition != "900" ||
		k.Cutover.WritePauseSeconds != 3 || k.Cutover.Steps[0].Seconds != 2 {
		t.Errorf("the cutover: %+v", k.Cutover)
	}
	if k.Comparison == nil || k.Comparison.ID != 12 {
		t.Errorf("the comparison: %+v", k.Comparison)
	}
	if k.NotCompared != 1 || k.Findings == nil || *k.Findings != 2 || *k.Tables[0].Findings != 5 ||
		k.Tables[0].SourceHash != "abc" || k.Tables[1].Findings != nil {
		t.Errorf("the tables: %+v, %d not compared", k.Tables, k.NotCompared)
	}
	if len(k.Rejected) != 100 || k.RejectedRows != 250 || k.RowsCut != 1 {
		t.Errorf("%d of %d rejected rows, %d cut", len(k.Rejected), k.RejectedRows, k.RowsCut)
	}
	// Without a cutover the newest comparison that came to its end counts.
	a = newArchive(domain.PhaseInStep)
	a.recs = []domain.Reconciliation{{ID: 15, State: "running"}, {ID: 14, State: "differing"}, {ID: 12, State: "clean"}}
	c = a.c
	if err := a.closings().Close(t.Context(), &c, Args{}, "ann"); err != nil || a.cert.Comparison.ID != 14 ||
		a.cert.Cutover != nil {
		t.Errorf("%v; %+v", err, a.cert)
	}
}

// TestThePhaseAtClosing of a crossing that is closed already, by its times.
func TestThePhaseAtClosing(t *testing.T) {
	at := time.Now()
	c := domain.Crossing{Phase: domain.PhaseClosed}
	for _, x := range []struct {
		set  **time.Time
		want domain.Phase
	}{{new(*time.Time), domain.PhaseDraft}, {&c.StartedAt, domain.PhaseLoading}, {&c.LandedAt, domain.PhaseCatchingUp},
		{&c.InStepAt, domain.PhaseInStep}, {&c.CutOverAt, domain.PhaseCutOver}} {
		if *x.set = &at; phaseAtClosing(&c) != x.want {
			t.Errorf("%s, not %s", phaseAtClosing(&c), x.want)
		}
	}
}

// TestRemoving: only what left nothing behind.
func TestRemoving(t *testing.T) {
	a := newArchive(domain.PhaseInStep)
	if err := a.closings().Remove(t.Context(), &a.c, "ann"); !domain.IsKind(err, domain.ProblemConflict) || a.did != nil {
		t.Errorf("one under way: %v", err)
	}
	a = newArchive(domain.PhaseDraft)
	if err := a.closings().Remove(t.Context(), &a.c, "ann"); err != nil || !slices.Equal(a.did, []string{"remove"}) {
		t.Errorf("a draft: %v, %q", err, a.did)
	}
}
