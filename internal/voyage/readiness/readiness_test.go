package readiness

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/proof"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// pier is a crossing that could be cut over, as the records and its source have it.
type pier struct {
	gateways []domain.Entry
	way      []domain.Entry // what stands in the way back
	lost     error
	surveyed int

	engine.Database
	engine.Captures

	c        domain.Crossing
	view     lifecycle.View
	plan     domain.Table
	now      domain.Table
	stand    *domain.Stand
	rejected int
	policy   domain.Policy
	cuts     []domain.Cutover
	compared []proof.Compared
	prepared []string
	binds    map[domain.StopMethod]string // what stops of writes would bind of the target
	away     error
	hangs    bool // the source does not answer
	busy     bool // another comparison is under way

	ended domain.ComparisonState // of the one that was begun

	vouching domain.Vouching
	whole    map[int64]bool

	started []string
	trusted string
	said    []string
}

func newPier() *pier {
	table := domain.Table{TableName: domain.TableName{Schema: "marsh", Name: "lots"}, ID: "1", Written: "1"}
	p := &pier{plan: table, now: table, view: lifecycle.View{Chunks: 4, Landed: 4}, stand: &domain.Stand{Live: true}}
	p.c = domain.Crossing{ID: 7, Name: "spring", Source: "marsh", Target: "cloud", Kind: domain.KindLoadCapture,
		Phase: domain.PhaseInStep, Condition: domain.ConditionRunning, Built: true, Settings: domain.DefaultSettings()}
	p.c.Settings.CutoverDepth = domain.DepthHashes
	p.c.Settings.InStepLag, p.c.Settings.PauseBudget = time.Second, 10*time.Second
	p.compared = []proof.Compared{{Table: "marsh.lots", Number: 3, Depth: domain.DepthHashes, EndedAt: time.Now(),
		Rows: 40}}
	from, to := time.Now(), time.Now().Add(2*time.Second)
	p.cuts = []domain.Cutover{{Rehearsal: true, State: "done", PausedAt: &from, ReleasedAt: &to}}
	return p
}

func (p *pier) View(context.Context, int64) (lifecycle.View, error) { return p.view, nil }
func (p *pier) Tables(context.Context, int64) ([]domain.CrossingTable, error) {
	return []domain.CrossingTable{{ID: 1, SourceName: "marsh.lots",
		Plan: domain.TablePlan{Source: p.plan.TableName, Table: p.plan}}}, nil
}
func (p *pier) Stand(context.Context, int64) (*domain.Stand, error) { return p.stand, nil }
func (p *pier) RejectedRows(context.Context, int64, string, bool, int, int) ([]domain.BadRow, int, error) {
	return []domain.BadRow{{TableName: "marsh.lots"}}, p.rejected, nil
}
func (p *pier) Policy(context.Context) (domain.Policy, error)                { return p.policy, nil }
func (p *pier) Cutovers(context.Context, int64) ([]domain.Cutover, error)    { return p.cuts, nil }
func (p *pier) Vouching(context.Context, int64) (domain.Vouching, error)     { return p.vouching, nil }
func (p *pier) ComparedWhole(context.Context, int64) (map[int64]bool, error) { return p.whole, nil }
func (p *pier) Compared(context.Context, int64) ([]proof.Compared, error)    { return p.compared, nil }
func (p *pier) Reconciliation(context.Context, int64, int64) (domain.Reconciliation, error) {
	return domain.Reconciliation{State: p.ended}, nil
}
func (p *pier) Trust(_ context.Context, _ int64, was, now string) (bool, error) {
	p.trusted = was + "→" + now
	return true, nil
}
func (p *pier) Open(context.Context, string) (*engine.Opened, error) {
	o := &engine.Opened{Database: p, Captures: p}
	if p.binds != nil {
		o.Binds = p
	}
	return o, p.away
}
func (p *pier) BindsTarget(_ context.Context, m domain.StopMethod, _ engine.Database) ([]domain.Entry, error) {
	if says := p.binds[m]; says != "" {
		return []domain.Entry{{Verdict: domain.Blocker, Topic: "stopping writes", Measured: says}}, nil
	}
	return nil, errors.New("what it binds is not known")
}
func (p *pier) CatalogOf(ctx context.Context, _ string, _ time.Duration) (*domain.Catalog, error) {
	if p.hangs {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return &domain.Catalog{Tables: []domain.Table{p.now}}, p.away
}
func (p *pier) PreparedTransactions(context.Context, []domain.TablePlan) ([]string, error) {
	return p.prepared, nil
}
func (p *pier) Start(_ context.Context, _ *domain.Crossing, depth domain.Depth, patterns []string, _ float64,
	actor string) (int64, error) {
	if p.busy {
		return 0, domain.Conflict("something else is being compared")
	}
	p.started = append(p.started, fmt.Sprint(depth, patterns, actor))
	return 9, nil
}
func (p *pier) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	p.said = append(p.said, fmt.Sprintf(format, args...))
}

func (p *pier) list(t *testing.T, r *Readiness) []domain.Entry {
	t.Helper()
	list, err := r.List(t.Context(), &p.c, p.c.Settings, Glances)
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// TestWhatMustHold: each point of the list by itself; all of them hold at first.
func TestWhatMustHold(t *testing.T) {
	long := time.Now().Add(time.Minute)
	for what, c := range map[string]struct {
		change func(*pier)
		says   string // verdict, topic and the beginning of what was measured; empty: all is well
	}{
		"all is well":            {func(*pier) {}, ""},
		"chunks are missing":     {func(p *pier) { p.view.Landed = 3 }, "blocker load 3 of 4 chunks"},
		"nothing was cut":        {func(p *pier) { p.view = lifecycle.View{} }, "blocker load 0 of 0"},
		"nothing is to be built": {func(p *pier) { p.c.Built = false }, "blocker deferred objects"},
		"not in step": {func(p *pier) { p.c.Phase = domain.PhaseCatchingUp },
			"blocker phase the crossing is catching up"},
		"held": {func(p *pier) { p.c.Condition, p.c.Reason = domain.ConditionHeld, "a lost slot" },
			"blocker condition the crossing is held: a lost slot"},
		"rejected rows":           {func(p *pier) { p.rejected = 2 }, "notice rejected rows 2 rows were set aside"},
		"nobody follows":          {func(p *pier) { p.stand = nil }, "blocker capture capture does not run"},
		"a follower that is gone": {func(p *pier) { p.stand.Live = false }, "blocker capture capture does not run"},
		"behind":                  {func(p *pier) { p.stand.Lag = 3 * time.Second }, "blocker lag the lag is 3.0 s"},
		"prepared writes": {func(p *pier) { p.prepared = []string{"COMMIT 'a'"} },
			"blocker two-phase transactions 1 transaction is"},
		"a source that is away": {func(p *pier) { p.away = errors.New("refused") },
			"blocker two-phase transactions the source cannot be asked"},
		"and its tables": {func(p *pier) { p.away = errors.New("refused") },
			"blocker tables the source cannot be asked whether"},
		"a target that is stopped too": {func(p *pier) {
			p.c.Settings.StopMethod = domain.StopReadOnly
			p.binds = map[domain.StopMethod]string{domain.StopReadOnly: "one server"}
		}, "blocker stopping writes one server"},
		"a target that is not known to be": {func(p *pier) { p.binds = map[domain.StopMethod]string{} },
			"blocker stopping writes whether changes can be applied while writes are stopped is not known"},
		"an altered table": {func(p *pier) { p.now.Columns = []domain.Column{{Name: "n", Type: "int"}} },
			"blocker columns they have changed on the source"},
		"never compared": {func(p *pier) {
			p.compared = nil
		}, "notice reconciliation source and target have not been compared"},
		"never compared, and wanted": {func(p *pier) {
			p.compared, p.policy.Checks = nil, []domain.Check{domain.CheckCompare}
		},
			"blocker reconciliation source and target have not been compared since they were loaded; this service's"},
		"found by an older one": {func(p *pier) {
			p.compared = append([]proof.Compared{{Table: "marsh.lots", Number: 2, Depth: domain.DepthCounts, Findings: 5}},
				p.compared...)
		}, ""},
		"vouched for": {func(p *pier) {
			p.c.Settings.CutoverDepth, p.vouching.From, p.whole = domain.DepthVouched, domain.PositionAt(5),
				map[int64]bool{1: true}
		}, ""},
		"not compared whole": {func(p *pier) {
			p.c.Settings.CutoverDepth, p.vouching.From = domain.DepthVouched, domain.PositionAt(5)
		}, "notice vouching 1 of 1 table was not compared whole"},
		"not known what was touched": {func(p *pier) { p.c.Settings.CutoverDepth = domain.DepthVouched },
			"notice vouching it is not kept which rows changes touch"},
		"never rehearsed": {func(p *pier) { p.cuts = nil }, "notice write pause the cutover has not been rehearsed"},
		"never rehearsed, and wanted": {func(p *pier) {
			p.cuts, p.policy.Checks = nil,
				[]domain.Check{domain.CheckRehearsal}
		},
			"blocker write pause the cutover has not been rehearsed"},
		"a rehearsal that was undone": {func(p *pier) {
			p.cuts[0].State = "undone"
		}, "notice write pause the cutover has not"},
		"a lost gateway": {func(p *pier) {
			p.gateways = []domain.Entry{{Verdict: domain.Blocker, Topic: "gateways", Measured: "one has said nothing"}}
		}, "blocker gateways one has said nothing"},
		"a pause that is too long": {func(p *pier) { p.cuts[0].ReleasedAt = &long },
			"notice write pause the last rehearsal paused writes for "},
	} {
		p := newPier()
		c.change(p)
		var got []string
		for _, e := range p.list(t, New(p, p, p, p, p, p)) {
			if e.Verdict != domain.OK {
				got = append(got, fmt.Sprint(e.Verdict, " ", e.Topic, " ", e.Measured))
			}
		}
		text := strings.Join(got, "\n")
		if c.says == "" && text != "" || !strings.Contains("\n"+text, "\n"+c.says) {
			t.Errorf("%s: the list says\n%s\nand should say %q", what, text, c.says)
		}
	}
}

// TestASourceThatDoesNotAnswer: nobody waits longer than the patience, and it is no reason to be
// taken for well.
func TestASourceThatDoesNotAnswer(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := newPier()
		p.hangs = true
		p.stand.Noticed = []domain.Entry{{Verdict: domain.Notice, Topic: "partitions", Measured: "seen before"}}
		began := time.Now()
		var text string
		for _, e := range p.list(t, New(p, p, p, p, p, p)) {
			text += fmt.Sprintln(e.Verdict, e.Topic, e.Measured)
		}
		if took := time.Since(began); took > 2*Glances || took < Glances {
			t.Errorf("it took %s", took)
		}
		if !strings.Contains(text, "blocker tables the source cannot be asked") ||
			!strings.Contains(text, "notice partitions seen before") {
			t.Errorf("the list says\n%s", text)
		}
	})
}

// TestRowsWrittenAnewAreCompared: once for each writing, unasked, and trusted when they are alike.
func TestRowsWrittenAnewAreCompared(t *testing.T) {
	p := newPier()
	p.c.Settings.CutoverDepth, p.now.Written = domain.DepthCounts, "2"
	r := New(p, p, p, p, p, p)
	p.busy = true
	p.list(t, r)
	p.busy = false
	for range 3 {
		p.list(t, r)
	}
	if len(p.started) != 1 || !strings.Contains(p.started[0], "hashes") || !strings.Contains(p.started[0], "marsh.lots") {
		t.Fatalf("comparisons: %q", p.started)
	}
	// One that was ended for a person's is made again; one that failed is not, over and over.
	p.ended = domain.ComparisonFailed
	p.list(t, r)
	p.ended = domain.ComparisonCancelled
	p.list(t, r)
	if p.ended = domain.ComparisonRunning; len(p.started) != 2 {
		t.Fatalf("comparisons after one that was ended: %q", p.started)
	}
	p.list(t, r)
	p.started = p.started[:1]
	// The one that was made before it was noticed proves nothing.
	if p.trusted != "" {
		t.Errorf("an older comparison is trusted: %s", p.trusted)
	}
	p.compared = append(p.compared, proof.Compared{Table: "marsh.lots", Number: 9, Depth: domain.DepthHashes, Findings: 1,
		Open: 1, EndedAt: time.Now().Add(time.Second)})
	p.compared = p.compared[1:]
	p.list(t, r)
	if p.trusted != "" {
		t.Errorf("rows that differ are trusted: %s", p.trusted)
	}
	p.compared[0].Findings, p.compared[0].Open = 0, 0
	p.list(t, r)
	if p.trusted != "1→2" || len(p.started) != 1 {
		t.Errorf("rows that are alike are not trusted: %q, comparisons %q", p.trusted, p.started)
	}
	// Another writing is another doubt.
	p.now.Written, p.trusted = "3", ""
	p.list(t, r)
	if len(p.started) != 2 || p.trusted != "" {
		t.Errorf("the next writing: comparisons %q, trusted %q", p.started, p.trusted)
	}
	// A cutover by hashes proves it by itself, so that it is no reason against one, and not compared.
	p = newPier()
	p.c.Settings.CutoverDepth, p.now.Written = domain.DepthHashes, "2"
	for _, e := range p.list(t, New(p, p, p, p, p, p)) {
		if e.Topic == planning.TopicRewritten && e.Verdict != domain.Notice {
			t.Errorf("it is a %s", e.Verdict)
		}
	}
	if p.started != nil {
		t.Errorf("comparisons: %q", p.started)
	}
}

// TestARehearsalNeedsNoRehearsal before it.
func TestARehearsalNeedsNoRehearsal(t *testing.T) {
	list := func() []domain.Entry {
		return []domain.Entry{{Verdict: domain.Blocker, Topic: topicPause}, {Verdict: domain.Blocker, Topic: "lag"}}
	}
	if got := ForRehearsal(list(), true); got[0].Verdict != domain.Notice || got[1].Verdict != domain.Blocker {
		t.Errorf("for a rehearsal: %v", got)
	}
	if got := ForRehearsal(list(), false); got[0].Verdict != domain.Blocker {
		t.Errorf("for the cutover: %v", got)
	}
}

// Survey is what stands in the way of the crossing's return path.
func (p *pier) Survey(context.Context, *domain.Crossing) ([]domain.Entry, error) {
	p.surveyed++
	return p.way, p.lost
}

// TestAWayBackIsLookedAt: where a cutover is to open one; who only looks is told what was found lately.
func TestAWayBackIsLookedAt(t *testing.T) {
	p := newPier()
	r := New(p, p, p, p, p, p)
	has := func(want string, patience time.Duration) {
		t.Helper()
		list, err := r.List(t.Context(), &p.c, p.c.Settings, patience)
		if err != nil {
			t.Fatal(err)
		}
		text := ""
		for _, e := range list {
			if e.Topic == "return path" {
				text += fmt.Sprintln(e.Verdict, e.Measured)
			}
		}
		if want == "" && text != "" || !strings.Contains(text, want) {
			t.Errorf("the list says %q, not %q", text, want)
		}
	}
	has("", Glances)
	p.c.Settings.ReturnPath = domain.ReturnOpen
	has("ok what is written to", Glances)
	p.way = []domain.Entry{{Verdict: domain.Blocker, Topic: "return path", Measured: "it is masked"}}
	has("ok what is written to", Glances)
	has("blocker it is masked", Decides)
	has("blocker it is masked", Glances)
	if p.surveyed != 2 {
		t.Errorf("it was surveyed %d times", p.surveyed)
	}
	p.lost = fmt.Errorf("the target is away")
	has("blocker whether a return path can be made is not known: the target is away", Decides)
}

// Ready is how its gateways stand.
func (p *pier) Ready(context.Context, domain.Crossing, domain.StopMethod) ([]domain.Entry, error) {
	return p.gateways, nil
}
