package following

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// TestChangesArriveInTheirTransactions: what the log brings is written and committed with its
// place, confirmed to the source, counted, and shown among the last transactions.
func TestChangesArriveInTheirTransactions(t *testing.T) {
	b := newBrook(domain.KindCapture)
	b.away, b.lost = 1, 1
	b.flows(t, 8, func() {
		b.logs(domain.PositionAt(10), insert(1, "1", "clover"), insert(1, "2", "heath"), insert(2, "5", "old"))
		b.logs(domain.PositionAt(20), domain.Change{Kind: domain.Update, Table: 1, Old: row("1", ""), New: row("1", "lime")})
	})
	writes := b.all(&b.writes)
	for _, want := range []string{"begin\n", "lots: 2 puts 0 patches 0 removes", "hives: 1 puts", "commit 25 gtid-25"} {
		if !strings.Contains(writes, want) {
			t.Errorf("no %q in\n%s", want, writes)
		}
	}
	replies := b.all(&b.replies)
	if !strings.Contains(replies, "log "+b.c.CaptureName()+" from 5 of 2 tables but for cloud") ||
		!strings.Contains(replies, "confirmed 25") {
		t.Errorf("the source was told %s", replies)
	}
	// The first report could not be kept, nor the first count: both are said again.
	if b.counts[1] != [4]int64{2, 1} || b.counts[2] != [4]int64{1} {
		t.Errorf("counted %v", b.counts)
	}
	sum, last := int64(0), domain.StreamReport{}
	var recent []domain.AppliedTx
	for _, r := range b.reports {
		sum, last = sum+r.Changes, r
		if r.Recent != nil {
			recent = r.Recent
		}
	}
	if sum != 4 || last.Applied.Before(domain.PositionAt(25)) || !last.Following || last.LagP50 == nil ||
		last.LagSeconds > 2 {
		t.Errorf("%d changes, at last %+v", sum, last)
	}
	if len(recent) != 2 || recent[0].Position != domain.PositionAt(25) ||
		!slices.Equal(recent[1].Tables, []string{"marsh.lots", "marsh.hives"}) {
		t.Errorf("the last transactions: %+v", recent)
	}
	if len(b.below) == 0 || !b.below[len(b.below)-1] {
		t.Errorf("below the lag: %v", b.below)
	}
	if d := b.all(&b.dropped); d != "|" { // the process ends, nothing is wrong
		t.Errorf("given back with %q", d)
	}
}

// TestOneStreamAProcess: streams are taken up as they come, and one that cannot be claimed is
// asked for again.
func TestOneStreamAProcess(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBrook(domain.KindCapture)
		b.events = make(chan domain.Event, 100)
		b.claims = []*domain.StreamClaim{{CrossingID: 7, Epoch: 3}}
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		b.logs(domain.PositionAt(10), insert(1, "1", "clover"))
		b.following().Run(ctx)
		if w := b.all(&b.writes); !strings.Contains(w, "commit 15") {
			t.Errorf("written %s", w)
		}
	})
}

// TestWhatEndsAStream: who was replaced goes silently, who is told to stop too; what only a person
// can mend holds the crossing, what may pass is tried again.
func TestWhatEndsAStream(t *testing.T) {
	rows := &engine.ServerError{Text: "the row was refused", Class: engine.OfRows}
	for name, x := range map[string]struct {
		change   func(*brook)
		failures int
		dropped  string
		told     string
	}{
		"taken over":   {change: func(b *brook) { b.epoch = 4 }, dropped: "|"},
		"told to stop": {change: func(b *brook) { b.ends = true }, dropped: "|"},
		"over":         {change: func(b *brook) { b.ends, b.c.Phase = true, domain.PhaseCutOver }, dropped: "|"},
		"another server": {change: func(b *brook) { b.other = domain.Conflict("another server answers") }, dropped: "held",
			told: "another server answers"},
		"the log ended": {change: func(b *brook) { close(b.events) }, dropped: "waits: the replication stream ended|"},
		"the log is broken": {change: func(b *brook) { b.broken = errors.New("cut"); close(b.events) },
			dropped: "waits: cut|"},
		"refused at first": {change: func(b *brook) { b.refuses = rows; b.logs(domain.PositionAt(10), insert(1, "1", "x")) },
			dropped: "waits: the row was refused|"},
		"refused again and again": {change: func(b *brook) {
			b.refuses = rows
			b.logs(domain.PositionAt(10), insert(1, "1", "x"))
		}, failures: 3,
			dropped: "held", told: "the target refuses a change again and again"},
		"a change that the log does not say": {change: func(b *brook) {
			b.logs(domain.PositionAt(10), domain.Change{Kind: domain.Unread, Table: 1, Note: "a statement"})
		}, dropped: "held", told: "Restart the table: dustyferry crossing restart spring --table marsh.lots"},
		"lost on the target": {change: func(b *brook) {
			b.chunks = []domain.Chunk{{ID: 1, State: domain.ChunkLanded}, {ID: 2, State: domain.ChunkLanded}}
			b.marked[1] = true
		}, dropped: "held", told: "the target has lost chunks of marsh.lots"},
		"out of the publication": {change: func(b *brook) {
			b.missing = []domain.TableName{{Schema: "marsh", Name: "hives"}}
		}, dropped: "held", told: "changes of marsh.hives are not in what capture reads any more"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBrook(domain.KindCapture)
			synctest.Test(t, func(t *testing.T) {
				b.events = make(chan domain.Event, 100)
				x.change(b)
				if name == "the log ended" || name == "the log is broken" {
					b.slow = true // nothing is sent on a log that has ended
				}
				b.flowsHere(t, 30, x.failures, nil)
			})
			got := b.dropped[len(b.dropped)-1]
			if x.dropped == "held" {
				if !strings.Contains(got, "|capture is held") || !strings.Contains(b.all(&b.told), x.told) {
					t.Errorf("given back with %q, told %q", got, b.told)
				}
				return
			}
			if got != x.dropped || len(b.told) > 0 {
				t.Errorf("given back with %q, told %q", got, b.told)
			}
		})
	}
}

// TestRequestsBetweenTwoTransactions: hold where it is, go exactly up to a place, go on.
func TestRequestsBetweenTwoTransactions(t *testing.T) {
	b := newBrook(domain.KindCapture)
	b.flows(t, 20, func() {
		ask := func(what string, at domain.Position, wait time.Duration) {
			b.mu.Lock()
			b.request = domain.Request{What: what, At: at, By: "ann"}
			b.mu.Unlock()
			time.Sleep(wait)
		}
		b.logs(domain.PositionAt(10), insert(1, "1", "clover"))
		time.Sleep(2 * time.Second)
		ask("hold", domain.Position{}, 2*time.Second)
		b.mu.Lock()
		b.logs(domain.PositionAt(200), insert(1, "2", "heath"))
		b.logs(domain.PositionAt(300), insert(1, "3", "lime"))
		b.mu.Unlock()
		time.Sleep(2 * time.Second)
		if w := b.all(&b.writes); strings.Contains(w, "commit 205") {
			t.Errorf("it goes on while it holds: %s", w)
		}
		ask("go", domain.PositionAt(300), 3*time.Second)
		if w := b.all(&b.writes); !strings.Contains(w, "commit 205") || strings.Contains(w, "commit 305") {
			t.Errorf("it did not go up to the place, or beyond: %s", w)
		}
		ask("", domain.Position{}, 3*time.Second)
	})
	replies := b.all(&b.replies)
	if !strings.Contains(replies, "holding ") || !strings.Contains(replies, "reached 300") || b.answered != 2 {
		t.Errorf("answered %s, after %d changes", replies, b.answered)
	}
	if w := b.all(&b.writes); !strings.Contains(w, "commit 305") {
		t.Errorf("it does not go on: %s", w)
	}
	b = newBrook(domain.KindCapture)
	b.request = domain.Request{What: "dance"}
	b.flows(t, 5, nil)
	if d := b.all(&b.dropped); !strings.Contains(d, `asked for "dance"`) {
		t.Errorf("an unknown request: %s", d)
	}
}

// TestCaptureStopsWhereAPersonWants: at a place of the log, or at a time of the source, which is
// an hour behind here.
func TestCaptureStopsWhereAPersonWants(t *testing.T) {
	for name, stop := range map[string]func() string{
		"place": func() string { return "150" },
		"time":  func() string { return time.Now().Add(-time.Hour + 3*time.Second).UTC().Format(time.RFC3339) },
	} {
		t.Run(name, func(t *testing.T) {
			b := newBrook(domain.KindCapture)
			synctest.Test(t, func(t *testing.T) {
				b.events = make(chan domain.Event, 100)
				b.c.Settings.StopAt = stop()
				at := func(commit domain.Position, later time.Duration) {
					tx := domain.Tx{Commit: commit, End: after(commit, 5), At: time.Now().Add(-time.Hour + later).UnixMicro()}
					b.events <- domain.Event{Kind: domain.EventBegin, Tx: tx}
					b.events <- domain.Event{Kind: domain.EventChange, Tx: tx, Change: insert(1, "1", "clover"), Size: 1}
					b.events <- domain.Event{Kind: domain.EventCommit, Tx: tx}
				}
				at(domain.PositionAt(110), time.Second)
				at(domain.PositionAt(160), 5*time.Second)
				b.flowsHere(t, 60, 0, nil)
			})
			w := b.all(&b.writes)
			if !strings.Contains(w, "commit 115") || strings.Contains(w, "commit 165") {
				t.Errorf("written %s", w)
			}
			if b.c.Condition != domain.ConditionPaused || !strings.Contains(b.c.Reason, "as stop_at says ("+
				b.c.Settings.StopAt) || !slices.Contains(b.told, "held") || b.all(&b.dropped) != "|" {
				t.Errorf("%s: %s, told %q, given back with %q", b.c.Condition, b.c.Reason, b.told, b.dropped)
			}
		})
	}
	load := domain.Crossing{Phase: domain.PhaseLoading, Kind: domain.KindLoadCapture}
	if !loadsYet(&load) {
		t.Error("it stops although the load has not ended")
	}
}

// TestASlowSourceCostsNoLease: one that does not answer is asked with a limit, reports go on, and
// the lag is not said to be small meanwhile.
func TestASlowSourceCostsNoLease(t *testing.T) {
	b := newBrook(domain.KindCapture)
	b.slow = true
	b.flows(t, 25, nil)
	if len(b.reports) < 20 {
		t.Fatalf("%d reports in 25 s", len(b.reports))
	}
	if lag := b.reports[len(b.reports)-1].LagSeconds; lag < 20 {
		t.Errorf("the lag is %.1f s of a source that answers nothing", lag)
	}
}

// TestWhatIsBehindIsNotZero where the source cannot be asked: what was known before is said.
func TestWhatIsBehindIsNotZero(t *testing.T) {
	b := newBrook(domain.KindCapture)
	b.vague = 9
	synctest.Test(t, func(t *testing.T) {
		b.events, b.stuck = make(chan domain.Event, 100), make(chan struct{})
		b.logs(domain.PositionAt(10), insert(1, "1", "clover"))
		b.flowsHere(t, 9, 0, nil)
	})
	if last := b.reports[len(b.reports)-1]; b.vague != 1 || last.LagBytes == 0 {
		t.Errorf("asked %d times more, %d bytes behind", b.vague, last.LagBytes)
	}
}

// TestAStatementThatStandsStill: one that waits for somebody's lock is said, and tried anew; one
// at which the server works is said and waited for.
func TestAStatementThatStandsStill(t *testing.T) {
	for _, works := range []bool{false, true} {
		b := newBrook(domain.KindCapture)
		b.works = works
		synctest.Test(t, func(t *testing.T) {
			b.events, b.stuck = make(chan domain.Event, 100), make(chan struct{})
			b.logs(domain.PositionAt(10), insert(1, "1", "clover"))
			b.flowsHere(t, 40, 0, func() {
				time.Sleep(30 * time.Second)
				if works {
					close(b.stuck)
				}
			})
		})
		d, w := b.all(&b.dropped), b.all(&b.writes)
		noted := slices.ContainsFunc(b.reports, func(r domain.StreamReport) bool {
			return strings.Contains(r.Note, "waits for a lock of ann")
		})
		if works && (!noted || !strings.Contains(w, "commit 15") || b.reports[len(b.reports)-1].Note != "") {
			t.Errorf("noted %v, written %s, at last %q", noted, w, b.reports[len(b.reports)-1].Note)
		}
		if !works && !strings.Contains(d, "waits: nothing has moved for") {
			t.Errorf("given back with %q", d)
		}
	}
}

// TestEveryQuestionOfTheLoad: while rows are loaded, the source and the ledger are asked.
func TestEveryQuestionOfTheLoad(t *testing.T) {
	b := newBrook(domain.KindLoadCapture)
	b.view.Landed, b.view.Phase, b.c.Phase = 0, domain.PhaseLoading, domain.PhaseLoading
	b.snapshot = domain.Snapshot{Xmin: 300, Xmax: 300, Log: domain.PositionAt(1)}
	b.chunks = []domain.Chunk{{ID: 1, Ordinal: 0, State: domain.ChunkLanded, Snapshot: domain.Snapshot{Xmin: 8, Xmax: 8}}}
	b.marked[1] = true
	b.fetched = row("3", "fetched")
	b.gone = []domain.Row{{{Kind: domain.Present, Data: []byte("3")}, {Kind: domain.Unchanged}}}
	large := domain.Change{Kind: domain.Update, Table: 1, New: domain.Row{{Kind: domain.Present, Data: []byte("3")},
		{Kind: domain.Unchanged}}}
	b.flows(t, 20, func() {
		b.logs(domain.PositionAt(10), insert(1, "1", "clover"), large)
		b.logs(domain.PositionAt(20), domain.Change{Kind: domain.Truncate, Table: 2, Note: "cascade"})
	})
	w := b.all(&b.writes)
	for _, want := range []string{"lots: 1 puts 1 patches", "lots: 1 puts 0 patches", "truncate 1 tables cascade",
		"commit 25"} {
		if !strings.Contains(w, want) {
			t.Errorf("no %q in %.400s", want, w)
		}
	}
}

// TestRemovedRowsAreRemembered, and taken away again, where a table is read in the order of the disk.
func TestRemovedRowsAreRemembered(t *testing.T) {
	b := newBrook(domain.KindLoadCapture)
	b.view.Landed, b.view.Phase, b.c.Phase = 0, domain.PhaseLoading, domain.PhaseLoading
	b.snapshot = domain.Snapshot{Xmin: 300, Xmax: 300, Log: domain.PositionAt(1)}
	b.tables[0].Plan.ReadOrder = domain.ByDisk
	b.removed = []domain.KeyValue{{"4"}}
	b.flows(t, 20, func() {
		b.logs(domain.PositionAt(10), domain.Change{Kind: domain.Delete, Table: 1, Old: row("9", "clover")})
	})
	w := b.all(&b.writes)
	at := 0
	for _, want := range []string{"lots: remember [], forget [[4]]", "lots: 0 puts 0 patches 1 removes",
		"lots: remember [[9]], forget []", "lots: 0 puts 0 patches 1 removes", "commit 15",
		"lots: remember [], forget [[9]]", "lots: 0 puts 0 patches 1 removes"} {
		i := strings.Index(w[at:], want)
		if i < 0 {
			t.Fatalf("no %q from place %d of %s", want, at, w)
		}
		at += i + len(want)
	}
	if !slices.Equal(b.unswept, []bool{true, false}) {
		t.Errorf("the records were told %v", b.unswept)
	}
}

// TestATruncateDuringTheLoad has the table loaded again.
func TestATruncateDuringTheLoad(t *testing.T) {
	b := newBrook(domain.KindLoadCapture)
	f := &follower{of: b.following(), c: &b.c, epoch: 3, tables: map[int64]*side{1: {row: &b.tables[0]}}}
	if err := f.restart(t.Context(), follow.Restart{Table: 1, With: []int64{1, 2}}); err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(b.resets, []int64{1, 2}) || !strings.Contains(b.all(&b.said), "marsh.lots was truncated") {
		t.Errorf("reset %v, said %q", b.resets, b.said)
	}
}

// TestColumnsThatChange: nothing, what is carried over, what a person has to do.
func TestColumnsThatChange(t *testing.T) {
	drop := columns.Change{Kind: columns.Dropped, Was: domain.Column{Name: "honey"}}
	changed := domain.Change{Kind: domain.Redefine, Table: 1, Note: "one column is gone",
		Columns: []domain.Column{{Name: "id"}}}
	spoken := domain.Change{Kind: domain.Redefine, Table: 1, Note: "the source ran: ALTER TABLE", Statement: "ALTER TABLE"}
	for name, x := range map[string]struct {
		plan    planning.SchemaChange
		ch      domain.Change
		carry   bool
		plans   error
		hold    string // what a person reads; empty: it goes on
		amended bool
		ran     string
	}{
		"another definition": {plan: planning.SchemaChange{Other: []string{"its collation"}}, ch: spoken,
			hold: "its collation"},
		"and back":        {ch: changed, hold: "have changed on the source and changed back"},
		"as they were":    {ch: spoken},
		"not to be read":  {ch: changed, plans: domain.Conflict("there is no such table"), hold: "there is no such table"},
		"other places":    {plan: planning.SchemaChange{Moved: true}, ch: changed, amended: true},
		"places are lost": {plan: planning.SchemaChange{Moved: true, Lost: true}, ch: changed, hold: "changed their places"},
		"there already":   {plan: planning.SchemaChange{Changes: []columns.Change{drop}}, ch: changed, amended: true},
		"a drop is kept": {plan: planning.SchemaChange{Changes: []columns.Change{drop}, Todo: []string{"DROP"},
			Drops: true}, ch: changed, amended: true},
		"by hand": {plan: planning.SchemaChange{Changes: []columns.Change{drop}, Todo: []string{"ALTER t"}},
			ch: changed, hold: "Run on the target: ALTER t"},
		"carried": {plan: planning.SchemaChange{Changes: []columns.Change{drop}, Todo: []string{"ALTER t"}},
			ch: changed, carry: true, amended: true, ran: "ALTER t"},
		"doubts": {plan: planning.SchemaChange{Changes: []columns.Change{drop}, Todo: []string{"ALTER t"},
			Doubts: []string{"who knows"}}, ch: changed, carry: true, hold: "who knows"},
		"the target won't": {plan: planning.SchemaChange{Changes: []columns.Change{drop}, Todo: []string{"REFUSED"}},
			ch: changed, carry: true, hold: "The target refused"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBrook(domain.KindCapture)
			b.change, b.plans, b.refuses, b.refusing = &x.plan, x.plans, errors.New("no"), -1
			x.plan.Plan = b.tables[0].Plan
			b.c.Settings.ColumnChanges = "hold"
			if x.carry {
				b.c.Settings.ColumnChanges = "carry"
			}
			b.flows(t, 6, func() { b.logs(domain.PositionAt(10), insert(1, "1", "clover"), x.ch) })
			told, amended := b.all(&b.told), b.all(&b.amended)
			if x.hold == "" && told != "" || !strings.Contains(told, x.hold) {
				t.Errorf("told %q, not %q", told, x.hold)
			}
			if x.amended != strings.Contains(amended, "table 1 by 3") || b.all(&b.ran) != x.ran {
				t.Errorf("amended %q, ran %q", amended, b.ran)
			}
		})
	}
}

// TestPartitionsThatCome: a new one is carried over, or a person is told how to make it.
func TestPartitionsThatCome(t *testing.T) {
	none := &engine.ServerError{Text: "no partition of lots found for row", Class: engine.NoPartition}
	part := domain.Partition{Table: domain.TableName{Schema: "marsh", Name: "lots_2027"}}
	for name, x := range map[string]struct {
		carry bool
		there bool // a partition that the plan lacks
		sql   string
		hold  string
		ran   string
	}{
		"carried":  {carry: true, there: true, ran: "CREATE PARTITION marsh.lots_2027"},
		"by hand":  {there: true, hold: "has new partitions on the source. Run on the target: CREATE PARTITION"},
		"none new": {carry: true, hold: "make one there, and resume"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBrook(domain.KindCapture)
			b.refuses, b.refusing = none, 1
			b.tables[0].Plan.Table.PartitionBy = "RANGE (id)"
			if x.there {
				b.catalog.Tables[0].Partitions = []domain.Partition{part}
			}
			b.c.Settings.ColumnChanges = map[bool]string{true: "carry", false: "hold"}[x.carry]
			b.flows(t, 6, func() { b.logs(domain.PositionAt(10), insert(1, "1", "clover")) })
			if told := b.all(&b.told); x.hold == "" && told != "" || !strings.Contains(told, x.hold) {
				t.Errorf("told %q", told)
			}
			if b.all(&b.ran) != x.ran || x.ran != "" && !strings.Contains(b.all(&b.amended), "1 partitions") {
				t.Errorf("ran %q, amended %q", b.ran, b.amended)
			}
		})
	}
}

// TestWhatTheLogDoesNotTell: once a minute the source's tables are looked at: a new one is told
// of once, or added; one that is another now ends capture. What is new of partitions is restored
// later.
func TestWhatTheLogDoesNotTell(t *testing.T) {
	b := newBrook(domain.KindCapture)
	b.c.Patterns, b.undone = []string{"marsh.*"}, "ALTER TABLE lots_2027 REPLICA IDENTITY DEFAULT"
	b.catalog.Tables = append(b.catalog.Tables, domain.Table{TableName: domain.TableName{Schema: "marsh", Name: "jars"}})
	b.flows(t, 150, nil)
	if n := strings.Count(b.all(&b.said), "marsh.jars was made on the source"); n != 1 || b.proved < 2 {
		t.Errorf("told %d times, proved %d: %s", n, b.proved, b.all(&b.said))
	}
	if !slices.Equal(b.c.Undo, []string{b.undone}) {
		t.Errorf("restored later: %q", b.c.Undo)
	}
	b.c.Settings.ColumnChanges = "carry"
	b.flows(t, 150, nil)
	if b.all(&b.added) != "marsh.jars for dusty ferry" {
		t.Errorf("added %q", b.added)
	}
	b.addErr = domain.Conflict("not now")
	b.flows(t, 80, nil)
	if n := strings.Count(b.all(&b.said), "marsh.jars was made on the source"); n != 2 {
		t.Errorf("told %d times", n)
	}
	b.catalog.Tables[0].ID = "99"
	b.flows(t, 80, nil)
	if told := b.all(&b.told); !strings.Contains(told, "marsh.lots") {
		t.Errorf("told %q", told)
	}
}

// TestValuesCutByARule are told of as they come.
func TestValuesCutByARule(t *testing.T) {
	b := newBrook(domain.KindCapture)
	p := &b.tables[0].Plan
	p.Columns[1].Cut = true
	b.flows(t, 5, func() {
		for range 4 {
			b.running[0].Runtime.Truncated()
		}
	})
	if s := b.all(&b.said); !strings.Contains(s, "4 values of marsh.lots brought by changes") {
		t.Errorf("said %s", s)
	}
}

// TestARequestIsHeardAtOnce: the records are seldom asked for requests while nothing is, and one
// that is heard of is answered at once, also after the connection that listens was cut.
func TestARequestIsHeardAtOnce(t *testing.T) {
	b := newBrook(domain.KindCapture)
	synctest.Test(t, func(t *testing.T) {
		b.events, b.pokes = make(chan domain.Event, 100), make(chan int64)
		ctx, cancel := context.WithCancel(t.Context())
		var running sync.WaitGroup
		defer running.Wait()
		defer cancel()
		v := b.following()
		running.Go(func() { v.listen(ctx) })
		running.Go(func() {
			v.runStream(ctx, &domain.StreamClaim{CrossingID: 7, Epoch: 3, Applied: domain.PositionAt(5),
				Received: domain.PositionAt(5)})
		})
		time.Sleep(10 * time.Second)
		b.mu.Lock()
		if b.looks < 4 || b.looks > 8 {
			t.Errorf("in ten quiet seconds the records were asked %d times", b.looks)
		}
		b.mu.Unlock()
		answered := func(what string, poke bool) time.Duration {
			b.mu.Lock()
			b.request = domain.Request{What: what, By: "ann"}
			b.mu.Unlock()
			if poke {
				b.pokes <- 8 // another crossing
				b.pokes <- 7
			}
			from := time.Now()
			for time.Since(from) < 5*time.Second {
				b.mu.Lock()
				now := b.request.What
				b.mu.Unlock()
				if now != what {
					break
				}
				time.Sleep(time.Millisecond)
			}
			took := time.Since(from)
			b.mu.Lock()
			b.request = domain.Request{}
			b.mu.Unlock()
			time.Sleep(2100 * time.Millisecond) // it sees that it is let go
			return took
		}
		if d := answered("hold", true); d > 20*time.Millisecond {
			t.Errorf("what it hears of is answered after %s", d)
		}
		if d := answered("hold", false); d > 2200*time.Millisecond {
			t.Errorf("what it does not hear of is answered after %s", d)
		}
		b.pokes <- -1
		time.Sleep(time.Millisecond) // while it cannot hear, it asks more often
		if d := answered("hold", false); d > 250*time.Millisecond {
			t.Errorf("while it cannot hear, it answers after %s", d)
		}
		if d := answered("hold", true); d > 20*time.Millisecond {
			t.Errorf("with a new connection it hears after %s", d)
		}
	})
}

// TestAGoalIsReachedAtOnce: on a source that is quiet, a heartbeat that is sent for it says that
// nothing comes before it.
func TestAGoalIsReachedAtOnce(t *testing.T) {
	b := newBrook(domain.KindCapture)
	b.flows(t, 20, func() {
		time.Sleep(3*time.Second + 100*time.Millisecond) // between two heartbeats
		b.mu.Lock()
		at := after(b.head, 1)
		b.request = domain.Request{What: "go", At: at, By: "ann"}
		b.mu.Unlock()
		time.Sleep(600 * time.Millisecond) // within which it asks for requests, and goes there
		if replies := b.all(&b.replies); !strings.Contains(replies, "reached "+at.String()) {
			t.Errorf("answered %q", replies)
		}
	})
}
