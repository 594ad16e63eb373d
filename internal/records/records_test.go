package records_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/chunkplan"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/localserver"
	"dustyferry/internal/records"
)

var (
	host   *localserver.Postgres
	number atomic.Int64
)

func TestMain(m *testing.M) {
	var err error
	if host, err = localserver.StartPostgres(context.Background(), localserver.Options{}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	host.Stop()
	os.Exit(code)
}

func open(t testing.TB) *records.Store {
	t.Helper()
	name := fmt.Sprintf("c%d", number.Add(1))
	c, err := pgx.Connect(t.Context(), host.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Exec(t.Context(), "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	_ = c.Close(t.Context())
	s, err := records.Open(t.Context(), host.URL(name))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	if err := s.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := s.Migrate(t.Context()); err != nil {
		t.Fatalf("migrating twice: %v", err)
	}
	return s
}

// loading makes a crossing that loads one table in n chunks.
func loading(t testing.TB, s *records.Store, lanes, n int) (domain.Crossing, domain.CrossingTable) {
	t.Helper()
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"old", "new"} {
		must(s.AddDatabase(ctx, domain.Database{Name: name, Engine: "postgres", Host: "h", Port: 1, DBName: "d",
			Username: "u", Secret: []byte("sealed"), TLS: "disable"}))
	}
	src, err := s.Database(ctx, "old")
	must(err)
	dst, err := s.Database(ctx, "new")
	must(err)
	set := domain.DefaultSettings()
	set.Lanes = lanes
	_, err = s.AddCrossing(ctx, domain.Crossing{UID: "uid", Name: "spring", Kind: domain.KindLoadCapture, SourceID: src.ID,
		TargetID: dst.ID,
		Patterns: []string{"a.*"}, Settings: set})
	must(err)
	c, err := s.Crossing(ctx, "spring")
	must(err)
	plan := domain.TablePlan{Source: domain.TableName{Schema: "a", Name: "b"}, Target: domain.TableName{Schema: "a",
		Name: "b"}}
	must(s.SavePlans(ctx, &c, []domain.TablePlan{plan}))
	must(s.SaveStart(ctx, c.ID, domain.PositionAt(100), nil, &domain.Catalog{}))
	tables, err := s.Tables(ctx, c.ID)
	must(err)
	var bounds []domain.KeyValue
	for i := 1; i < n; i++ {
		bounds = append(bounds, domain.KeyValue{fmt.Sprint(i * 10)})
	}
	must(s.SaveChunks(ctx, domain.CutTable{Table: &tables[0], Chunks: chunkplan.Chunks(bounds)}))
	_, err = s.SetPhase(ctx, c.ID, domain.PhaseDraft, domain.PhaseLoading)
	must(err)
	return c, tables[0]
}

// TestLanesAreWantedBesideBusyOnes: a chunk that waits gets a lane of its own, whoever
// carries another.
func TestLanesAreWantedBesideBusyOnes(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 4, 2)
	if _, err := s.DB.Exec(`INSERT INTO lanes (crossing_id, lease_until) VALUES ($1, now() + interval '1 minute')`,
		c.ID); err != nil {
		t.Fatal(err)
	}
	if k, err := s.Claim(t.Context(), c.ID, "w", domain.BatchHint{}); err != nil || k == nil {
		t.Fatal(err)
	}
	if w, err := s.LanesWanted(t.Context()); err != nil || len(w) != 1 || w[0].Have != 1 || w[0].Want != 2 {
		t.Errorf("%+v (%v)", w, err)
	}
	if k, err := s.Claim(t.Context(), c.ID, "w", domain.BatchHint{}); err != nil || k == nil {
		t.Fatal(err)
	}
	if _, err := s.DB.Exec(`INSERT INTO lanes (crossing_id, lease_until) VALUES ($1, now() + interval '1 minute')`,
		c.ID); err != nil {
		t.Fatal(err)
	}
	if w, err := s.LanesWanted(t.Context()); err != nil || len(w) != 0 {
		t.Errorf("nothing waits, and wanted are %+v (%v)", w, err)
	}
}

// TestTablesOfOneChunkComeFirst: what cannot be cut is carried before what can, the rest
// by its size.
func TestTablesOfOneChunkComeFirst(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 9, 1)
	var plans []domain.TablePlan
	for _, p := range []domain.TablePlan{{Key: []string{"id"}, KeyOrder: "ours", Table: domain.Table{Bytes: 900}},
		{Table: domain.Table{Bytes: 5}}, {Key: []string{"id"}, KeyOrder: "ours", Table: domain.Table{Bytes: 1000}},
		{Table: domain.Table{Bytes: 50}}, {Key: []string{"id"}, KeyOrder: "none", Table: domain.Table{Bytes: 20}}} {
		p.Source = domain.TableName{Schema: "a", Name: fmt.Sprint("t", p.Table.Bytes)}
		p.Target = p.Source
		plans = append(plans, p)
	}
	if err := s.SavePlans(t.Context(), &c, plans); err != nil {
		t.Fatal(err)
	}
	tables, err := s.Tables(t.Context(), c.ID)
	if err != nil {
		t.Fatal(err)
	}
	names := map[int64]string{}
	var cuts []domain.CutTable
	for i := range tables {
		names[tables[i].ID] = tables[i].SourceName
		cuts = append(cuts, domain.CutTable{Table: &tables[i], Chunks: chunkplan.Chunks(nil)})
	}
	for range 2 { // all at once, in place of those of before
		if err := s.SaveChunks(t.Context(), cuts...); err != nil {
			t.Fatal(err)
		}
	}
	for i := range tables {
		list, err := s.Chunks(t.Context(), tables[i].ID)
		if err != nil || len(list) != 1 || list[0].Lower != nil || list[0].Upper != nil {
			t.Errorf("%s has the chunks %+v (%v)", tables[i].SourceName, list, err)
		}
	}
	var order []string
	for range tables {
		k, err := s.Claim(t.Context(), c.ID, "w", domain.BatchHint{})
		if err != nil || k == nil {
			t.Fatalf("%+v (%v)", k, err)
		}
		order = append(order, names[k.TableID])
	}
	if got := strings.Join(order, " "); got != "a.t50 a.t20 a.t5 a.t1000 a.t900" {
		t.Errorf("the order is %s", got)
	}
}

func TestEveryChunkIsClaimedOnceWithinTheLanes(t *testing.T) {
	s := open(t)
	c, table := loading(t, s, 3, 60)
	var busy, most, done atomic.Int64
	seen := sync.Map{}
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for done.Load() < 60 {
				k, err := s.Claim(t.Context(), c.ID, fmt.Sprint("worker ", w), domain.BatchHint{})
				if err != nil {
					t.Error(err)
					return
				}
				if k == nil {
					time.Sleep(time.Millisecond)
					continue
				}
				most.Store(max(most.Load(), busy.Add(1)))
				if _, twice := seen.LoadOrStore(k.ID, w); twice {
					t.Errorf("chunk %d was claimed twice", k.Ordinal)
				}
				time.Sleep(time.Millisecond)
				busy.Add(-1)
				if err := s.Landed(t.Context(), k.ID, k.Epoch, domain.Snapshot{Xmin: 1, Xmax: 2, Log: domain.PositionAt(500)},
					rowhash.Sum{Rows: 10, Bytes: 100, Hash: 1 << 63}); err != nil {
					t.Error(err)
				}
				done.Add(1)
			}
		})
	}
	wg.Wait()
	if most.Load() > 3 {
		t.Errorf("%d chunks were read at once with 3 lanes", most.Load())
	}
	got, err := s.Table(t.Context(), table.ID)
	if err != nil || got.State != domain.TableLanded || got.RowsLanded != 600 || got.ChunksLanded != 60 {
		t.Errorf("%+v (%v)", got, err)
	}
	v, err := s.View(t.Context(), c.ID)
	if err != nil || v.Landed != 60 || v.MaxRead != domain.PositionAt(500) {
		t.Errorf("%+v (%v)", v, err)
	}
}

func TestAChunkGoesBackOnlyUnderANewEpoch(t *testing.T) {
	s := open(t)
	c, table := loading(t, s, 2, 1)
	k, err := s.Claim(t.Context(), c.ID, "w", domain.BatchHint{})
	if err != nil || k == nil || k.Epoch != 1 || k.Attempts != 1 {
		t.Fatalf("%+v (%v)", k, err)
	}
	if _, ok, err := s.RenewChunk(t.Context(), k.ID, k.Epoch); err != nil || !ok {
		t.Errorf("the holder cannot renew: %v", err)
	}
	epoch, err := s.RaiseEpoch(t.Context(), k.ID, k.Epoch)
	if err != nil || epoch != 2 {
		t.Fatalf("epoch %d (%v)", epoch, err)
	}
	if _, ok, _ := s.RenewChunk(t.Context(), k.ID, k.Epoch); ok {
		t.Error("the old holder renewed")
	}
	if again, _ := s.RaiseEpoch(t.Context(), k.ID, k.Epoch); again != 0 {
		t.Error("two took the chunk back")
	}
	if mine, err := s.GiveBack(t.Context(), k, epoch, 0, "the cable was cut", true, ""); err != nil || !mine {
		t.Fatal(mine, err)
	}
	k, err = s.Claim(t.Context(), c.ID, "w2", domain.BatchHint{})
	if err != nil || k == nil || k.Epoch != 3 || k.Attempts != 2 || k.Error != "the cable was cut" {
		t.Errorf("%+v (%v)", k, err)
	}
	if mine, err := s.GiveBack(t.Context(), k, k.Epoch-1, 0, "late", true, "why"); err != nil || mine {
		t.Fatal(mine, err)
	}
	if now, _ := s.CrossingByID(t.Context(), c.ID); now.Condition != domain.ConditionRunning {
		t.Errorf("held by who had lost the chunk: %+v", now)
	}
	epoch, _ = s.RaiseEpoch(t.Context(), k.ID, k.Epoch)
	if mine, err := s.GiveBack(t.Context(), k, epoch, 0, "again", true, "why"); err != nil || !mine {
		t.Fatal(mine, err)
	}
	held, err := s.Table(t.Context(), table.ID)
	now, _ := s.CrossingByID(t.Context(), c.ID)
	if err != nil || held.State != domain.TableHeld || held.Reason != "why" || now.Condition != domain.ConditionHeld ||
		now.Reason != "why" {
		t.Errorf("held: %+v, %+v (%v)", held, now, err)
	}
	if k, _ := s.Claim(t.Context(), c.ID, "w3", domain.BatchHint{}); k != nil {
		t.Error("a held chunk was claimed")
	}
	if ok, err := s.Resume(t.Context(), c.ID, domain.ConditionPaused); err != nil || ok {
		t.Fatal("what is held was resumed as paused", err)
	}
	if ok, err := s.Resume(t.Context(), c.ID, domain.ConditionHeld); err != nil || !ok {
		t.Fatal(ok, err)
	}
	if k, _ := s.Claim(t.Context(), c.ID, "w3", domain.BatchHint{}); k == nil || k.Attempts != 1 {
		t.Errorf("after resuming the tries count anew: %+v", k)
	}
}

func TestAPausedCrossingHandsOutNothing(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 2, 4)
	k, err := s.Claim(t.Context(), c.ID, "w", domain.BatchHint{})
	if err != nil || k == nil {
		t.Fatal(err)
	}
	st, err := s.ClaimStream(t.Context(), "w", nil)
	if err != nil || st == nil || st.Applied != domain.PositionAt(100) {
		t.Fatalf("%+v (%v)", st, err)
	}
	if other, _ := s.ClaimStream(t.Context(), "w2", nil); other != nil {
		t.Error("two follow one crossing")
	}
	pause := func(keep bool) {
		t.Helper()
		from := []domain.Condition{domain.ConditionRunning, domain.ConditionPaused}
		if ok, err := s.SetCondition(t.Context(), c.ID, from, domain.ConditionPaused, "night", keep); err != nil || !ok {
			t.Fatal(ok, err)
		}
	}
	pause(false)
	if held, err := s.Hold(t.Context(), c.ID, "trouble"); err != nil || held {
		t.Error("a hold ended a pause", err)
	}
	if next, _ := s.Claim(t.Context(), c.ID, "w", domain.BatchHint{}); next != nil {
		t.Error("a chunk was claimed while paused")
	}
	if _, ok, _ := s.RenewChunk(t.Context(), k.ID, k.Epoch); ok {
		t.Error("the chunk in flight does not stop")
	}
	if word, _ := s.RenewStream(t.Context(), c.ID, st.Epoch, domain.StreamReport{}); word.Mine {
		t.Error("capture does not stop")
	}
	pause(true)
	word, _ := s.RenewStream(t.Context(), c.ID, st.Epoch, domain.StreamReport{Applied: domain.PositionAt(120)})
	if !word.Mine || word.StopAt != "" || word.Below {
		t.Error("capture should go on")
	}
}

func TestWishesLapseAndAreAnsweredOnce(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	st, err := s.ClaimStream(t.Context(), "w", nil)
	if err != nil {
		t.Fatal(err)
	}
	ask := func(w domain.Request) {
		t.Helper()
		if mine, err := s.Ask(t.Context(), c.ID, w.By, "a test", w.What, w.At); err != nil || !mine {
			t.Fatal(mine, err)
		}
	}
	answer := func(epoch int64, was, now domain.Request) {
		t.Helper()
		if err := s.Respond(t.Context(), c.ID, epoch, was, now, 0); err != nil {
			t.Fatal(err)
		}
	}
	stands := func(want domain.Request, why string) {
		t.Helper()
		if w, err := s.Requested(t.Context(), c.ID, st.Epoch); err != nil || w != want {
			t.Errorf("%s: the wish is %+v (%v), want %+v", why, w, err, want)
		}
	}
	hold, holding := domain.Request{What: "hold", By: "a"}, domain.Request{What: "holding", At: domain.PositionAt(5),
		By: "a"}
	ask(hold)
	answer(st.Epoch-1, hold, holding)
	stands(hold, "an old applier's answer")
	answer(st.Epoch, hold, holding)
	stands(holding, "the applier's answer")
	// Somebody else has to wait: a position that moved under the first one's feet would have
	// it compare what does not belong together.
	if mine, err := s.Ask(t.Context(), c.ID, "b", "another test", "hold", domain.Position{}); err != nil || mine {
		t.Error("two had the applier stand still at once", err)
	}
	if ok, err := s.Follow(t.Context(), c.ID, "b", domain.PositionAt(9)); err != nil || ok {
		t.Error("somebody else went on from the first one's hold", err)
	}
	if err := s.LetGo(t.Context(), c.ID, "b"); err != nil {
		t.Fatal(err)
	}
	stands(holding, "let go by somebody else")
	if ok, err := s.Follow(t.Context(), c.ID, "a", domain.PositionAt(9)); err != nil || !ok {
		t.Errorf("going on from where it holds: %v %v", ok, err)
	}
	// A later position is asked for before the answer about this one.
	later := domain.Request{What: "go", At: domain.PositionAt(12), By: "a"}
	ask(later)
	answer(st.Epoch, domain.Request{What: "go", At: domain.PositionAt(9), By: "a"}, domain.Request{What: "reached",
		At: domain.PositionAt(9)})
	stands(later, "an answer to an older wish")
	answer(st.Epoch, later, domain.Request{What: "reached", At: domain.PositionAt(12)})
	stands(domain.Request{What: "reached", At: domain.PositionAt(12), By: "a"}, "the answer")
	if err := s.LetGo(t.Context(), c.ID, "a"); err != nil {
		t.Fatal(err)
	}

	hold.By, holding.By = "b", "b"
	ask(hold)
	answer(st.Epoch, hold, holding)
	if _, err := s.DB.ExecContext(t.Context(), `UPDATE streams SET ask_until = now() - interval '1 second'`); err != nil {
		t.Fatal(err)
	}
	if err := s.KeepAsking(t.Context(), c.ID, "b"); err != nil {
		t.Fatal(err)
	}
	if w, _ := s.Requested(t.Context(), c.ID, st.Epoch); w.What != "" {
		t.Errorf("the wish of somebody who is gone still stands: %+v", w)
	}
	if ok, err := s.Follow(t.Context(), c.ID, "b", domain.PositionAt(9)); err != nil || ok {
		t.Errorf("going on from a hold that has lapsed: %v %v", ok, err)
	}
}

// TestAFailedStreamIsHurried: it is tried again at once, but where it waits for a person.
func TestAFailedStreamIsHurried(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	st, err := s.ClaimStream(t.Context(), "ws", nil)
	if err != nil || st == nil {
		t.Fatalf("%v %v", st, err)
	}
	if _, err := s.DropStream(t.Context(), c.ID, st.Epoch, time.Hour, "the target is read-only", ""); err != nil {
		t.Fatal(err)
	}
	if now, err := s.Stand(t.Context(), c.ID); err != nil || now.Live || now.Error != "the target is read-only" {
		t.Errorf("it stands %+v, %v", now, err)
	}
	if again, err := s.ClaimStream(t.Context(), "ws", nil); err != nil || again != nil {
		t.Fatalf("it was taken before its time: %+v, %v", again, err)
	}
	if err := s.Hurry(t.Context(), c.ID); err != nil {
		t.Fatal(err)
	}
	if st, err = s.ClaimStream(t.Context(), "ws", nil); err != nil || st == nil {
		t.Fatalf("it was not taken: %v", err)
	}
	if _, err := s.DropStream(t.Context(), c.ID, st.Epoch, time.Hour, "no", "a person is waited for"); err != nil {
		t.Fatal(err)
	}
	if err := s.Hurry(t.Context(), c.ID); err != nil {
		t.Fatal(err)
	}
	var soon bool
	if err := s.DB.GetContext(t.Context(), &soon, "SELECT not_before <= now() FROM streams WHERE crossing_id = $1",
		c.ID); err != nil || soon {
		t.Errorf("one that waits for a person was hurried: %v %v", soon, err)
	}
}

func TestTwoCrossingsCannotWriteOneTable(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	id, err := s.AddCrossing(t.Context(), domain.Crossing{UID: "uid2", Name: "twin", Kind: domain.KindLoad,
		SourceID: c.SourceID, TargetID: c.TargetID,
		Settings: domain.DefaultSettings()})
	if err != nil {
		t.Fatal(err)
	}
	twin, err := s.CrossingByID(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	plan := domain.TablePlan{Source: domain.TableName{Schema: "z", Name: "other"}, Target: domain.TableName{Schema: "a",
		Name: "b"}}
	if err := s.SavePlans(t.Context(), &twin, []domain.TablePlan{plan}); !domain.IsKind(err, domain.ProblemConflict) ||
		!strings.Contains(err.Error(), "a.b") {
		t.Errorf("%v", err)
	}
	if err := s.Release(t.Context(), c.ID); err != nil {
		t.Fatal(err)
	}
	if err := s.SavePlans(t.Context(), &twin, []domain.TablePlan{plan}); err != nil {
		t.Errorf("a closed crossing still holds the table: %v", err)
	}
	if err := s.RemoveDatabase(t.Context(), "old"); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("a used database was removed: %v", err)
	}
}

func TestTheJournalIsAppendOnly(t *testing.T) {
	s := open(t)
	if err := s.Write(t.Context(), domain.JournalEntry{Actor: "a", Act: "x", Message: "first"}); err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{`UPDATE journal SET message = 'other'`, `DELETE FROM journal`, `TRUNCATE journal`} {
		if _, err := s.DB.ExecContext(t.Context(), q); err == nil || !strings.Contains(err.Error(), "append-only") {
			t.Errorf("%s: %v", q, err)
		}
	}
	if l, err := s.Journal(t.Context(), records.EntryFilter{Limit: 5}); err != nil || len(l) != 1 ||
		l[0].Message != "first" || l[0].Severity != "info" {
		t.Errorf("%+v (%v)", l, err)
	}
}

func TestTheLastAdminStays(t *testing.T) {
	s := open(t)
	if ok, err := s.FirstToken(t.Context(), "admin", "admin", "h1"); err != nil || !ok {
		t.Fatal(err)
	}
	if ok, _ := s.FirstToken(t.Context(), "again", "admin", "h2"); ok {
		t.Error("a second first token was made")
	}
	if err := s.RemoveToken(t.Context(), "admin"); err == nil {
		t.Error("the last admin token was revoked")
	}
	if err := s.AddToken(t.Context(), "night", "viewer", false, "h3"); err != nil {
		t.Fatal(err)
	}
	tok, err := s.TokenByHash(t.Context(), "h3")
	if err != nil || tok == nil || tok.Role != "viewer" {
		t.Fatalf("%+v (%v)", tok, err)
	}
	if err := s.AddSession(t.Context(), "sess", tok.ID, time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if err := s.AddSession(t.Context(), "old", tok.ID, time.Now().Add(-time.Second)); err != nil {
		t.Fatal(err)
	}
	if got, _ := s.SessionToken(t.Context(), "old"); got != nil {
		t.Error("a session that has ended signs in")
	}
	if err := s.RemoveToken(t.Context(), "night"); err != nil {
		t.Fatal(err)
	}
	if got, _ := s.SessionToken(t.Context(), "sess"); got != nil {
		t.Error("a revoked token's session goes on")
	}
}

func TestTasksAreTakenOverOnlyWhenSilent(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	add := func(kind lifecycle.Work) (int64, error) {
		var id int64
		err := pgx.BeginFunc(t.Context(), s.Pool, func(tx pgx.Tx) (err error) {
			id, err = records.AddTaskTx(t.Context(), tx, c.ID, kind, struct{}{}, "me")
			return err
		})
		return id, err
	}
	id, err := add("build")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := add("build"); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("two builds at once: %v", err)
	}
	a, err := s.ClaimTask(t.Context(), id, "w1")
	if err != nil || a == nil {
		t.Fatal(err)
	}
	if b, _ := s.ClaimTask(t.Context(), id, "w2"); b != nil {
		t.Error("a task was taken from a live holder")
	}
	if err := s.ReleaseTask(t.Context(), id, a.Epoch); err != nil {
		t.Fatal(err)
	}
	b, err := s.ClaimTask(t.Context(), id, "w2")
	if err != nil || b == nil || b.Epoch != a.Epoch+1 {
		t.Fatalf("%+v (%v)", b, err)
	}
	if ok, _ := s.HoldsTask(t.Context(), id, a.Epoch); ok {
		t.Error("the old holder still holds it")
	}
	if err := s.EndTask(t.Context(), id, a.Epoch, "failed", "x"); err != nil {
		t.Fatal(err)
	}
	if ok, _ := s.HoldsTask(t.Context(), id, b.Epoch); !ok {
		t.Error("the old holder ended the new one's task")
	}
}

// TestRequestsAreHeard: whoever listens is told of every change of what an applier is asked for,
// and that its connection ended.
func TestRequestsAreHeard(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	st, err := s.ClaimStream(t.Context(), "w", nil)
	if err != nil {
		t.Fatal(err)
	}
	heard, ended := make(chan int64, 10), make(chan error, 1)
	go func() { ended <- s.Listen(t.Context(), func(id int64) { heard <- id }) }()
	hears := func(what string, do func() error) {
		t.Helper()
		if err := do(); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		select {
		case id := <-heard:
			if id != c.ID {
				t.Errorf("%s: told of crossing %d", what, id)
			}
		case <-time.After(time.Minute):
			t.Fatalf("%s is not heard", what)
		}
	}
	ask := func() error {
		_, err := s.Ask(t.Context(), c.ID, "a", "a test", "hold", domain.Position{})
		return err
	}
	if id := <-heard; id != 0 {
		t.Errorf("it first tells of crossing %d, not that it listens", id)
	}
	hears("a request", ask)
	hold := domain.Request{What: "hold", By: "a"}
	if err := s.Respond(t.Context(), c.ID, st.Epoch, hold, domain.Request{What: "holding", By: "a"}, 0); err != nil {
		t.Fatal(err)
	}
	hears("going on to a place", func() error {
		_, err := s.Follow(t.Context(), c.ID, "a", domain.PositionAt(9))
		return err
	})
	hears("letting go", func() error { return s.LetGo(t.Context(), c.ID, "a") })
	if _, err := s.Pool.Exec(t.Context(), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE "+
		"'SELECT pg_notify(%' AND datname = current_database() AND pid <> pg_backend_pid()"); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-ended:
		if err == nil {
			t.Error("a connection that was cut ended without an error")
		}
	case <-time.After(time.Minute):
		t.Error("the connection was cut, and it still listens")
	}
}
