package records_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

// TestBuiltIsComputed: what stands is what the list of objects says, whatever anybody wants
// to say of it.
func TestBuiltIsComputed(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	built := func(want bool, why string) {
		t.Helper()
		if now, err := s.CrossingByID(t.Context(), c.ID); err != nil || now.Built != want {
			t.Errorf("%s: built is %v (%v)", why, now.Built, err)
		}
	}
	save := func(l domain.Listing, list ...domain.TargetObject) {
		t.Helper()
		if err := s.SaveObjects(t.Context(), c.ID, list, l); err != nil {
			t.Fatal(err)
		}
	}
	index := domain.TargetObject{Stage: domain.StageDeferred, Kind: "index", Name: "by_day", Table: "a.b",
		Statement: "CREATE INDEX by_day"}
	foreign := domain.TargetObject{Stage: domain.StageDeferred, Kind: "foreign", Name: "to_c", Table: "a.b",
		Statement: "ALTER TABLE", Late: true}
	view := domain.TargetObject{Stage: domain.StageCarried, Kind: "view", Name: "seen", Statement: "CREATE VIEW"}
	before := domain.TargetObject{Stage: domain.StageBefore, Kind: "statement", Name: "before 1", Statement: "SET x"}
	built(false, "nothing was listed")
	save(domain.Listing{}, before, index, foreign, view)
	built(false, "an index waits")
	object := func(name string) domain.TargetObject {
		t.Helper()
		list, err := s.Objects(t.Context(), c.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range list {
			if o.Name == name {
				return o
			}
		}
		t.Fatalf("there is no object %s in %+v", name, list)
		return domain.TargetObject{}
	}
	begin := func(name string) int64 {
		t.Helper()
		try, err := s.BeginObject(t.Context(), object(name).ID)
		if err != nil || try == 0 {
			t.Fatal(name, try, err)
		}
		return try
	}
	end := func(name string, try int64, state string) bool {
		t.Helper()
		ok, err := s.EndObject(t.Context(), object(name).ID, try, state, "", time.Second)
		if err != nil {
			t.Fatal(err)
		}
		return ok
	}
	for _, name := range []string{"before 1", "by_day"} {
		end(name, begin(name), domain.ObjectMade)
	}
	built(false, "a view waits")
	end("seen", begin("seen"), domain.ObjectFailed)
	built(true, "the index stands, the view cannot be made, the foreign key waits for cutover")
	if try, err := s.BeginObject(t.Context(), object("by_day").ID); err != nil || try != 0 {
		t.Error("what stands is made once more", try, err)
	}

	// A restart of the table while somebody still builds: what he says then is of the index
	// that is gone.
	save(domain.Listing{Table: "a.b", Anew: true}, index)
	built(false, "the table began again")
	slow := begin("by_day")
	save(domain.Listing{Table: "a.b", Anew: true}, index)
	if end("by_day", slow, domain.ObjectMade) {
		t.Error("a build that was overtaken says that the index stands")
	}
	built(false, "a build was overtaken")
	end("by_day", begin("by_day"), domain.ObjectMade)
	built(true, "it stands again")

	// Listing it again, as a resume does, changes nothing; what a person wrote stays.
	save(domain.Listing{}, before, index, foreign, view)
	if o := object("before 1"); o.State != domain.ObjectMade {
		t.Errorf("a statement runs once more: %+v", o)
	}
	if err := s.RewriteObject(t.Context(), c.ID, object("seen").ID, "CREATE VIEW seen AS SELECT 1"); err != nil {
		t.Fatal(err)
	}
	for _, l := range []domain.Listing{{}, {Anew: true}} {
		save(l, before, index, foreign, view)
		if o := object("seen"); o.Statement != "CREATE VIEW seen AS SELECT 1" || !o.ByHand || o.Planned != "CREATE VIEW" {
			t.Errorf("what was written by hand: %+v", o)
		}
	}
	if o := object("before 1"); o.State != domain.ObjectWaiting {
		t.Errorf("a restart does not run it again: %+v", o)
	}
	if err := s.RewriteObject(t.Context(), c.ID, object("before 1").ID, ""); err != nil {
		t.Fatal(err)
	}
	save(domain.Listing{Anew: true}, before, index, foreign)
	if o := object("before 1"); o.State != domain.ObjectLeftOut {
		t.Errorf("what was left out came back: %+v", o)
	}
	// Another text is another object.
	end("by_day", begin("by_day"), domain.ObjectMade)
	index.Statement = "CREATE INDEX by_day ON other"
	save(domain.Listing{}, before, index, foreign)
	if o := object("by_day"); o.State != domain.ObjectWaiting || o.Statement != index.Statement {
		t.Errorf("planned anew: %+v", o)
	}
	if list, _ := s.Objects(t.Context(), c.ID); len(list) != 3 {
		t.Errorf("what is planned no more is still listed: %+v", list)
	}
}

// TestAPlanIsTheOneThatWasRead: a plan that changed meanwhile is not acted on, and one that is
// in use is not changed.
func TestAPlanIsTheOneThatWasRead(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	if _, err := s.SetPhase(t.Context(), c.ID, domain.PhaseLoading, domain.PhaseDraft); err != nil {
		t.Fatal(err)
	}
	read, err := s.CrossingByID(t.Context(), c.ID)
	if err != nil {
		t.Fatal(err)
	}
	masked := []domain.Rule{{Tables: "a.b", Columns: map[string]domain.ColumnRule{"mail": {Mask: "key"}}}}
	if err := s.SavePlanning(t.Context(), &read, nil, masked, domain.Planning{}); err != nil {
		t.Fatal(err)
	}
	for what, err := range map[string]error{
		"plans":        s.SavePlans(t.Context(), &read, nil),
		"a survey":     s.SaveSurvey(t.Context(), &read, nil),
		"a fit check":  s.SaveFit(t.Context(), &read, &domain.FitCheck{}),
		"another plan": s.SavePlanning(t.Context(), &read, nil, nil, domain.Planning{}),
		"settings":     s.SaveSettings(t.Context(), &read, domain.DefaultSettings(), true),
	} {
		if !domain.IsKind(err, domain.ProblemConflict) {
			t.Errorf("%s of an old plan: %v", what, err)
		}
	}
	now, _ := s.CrossingByID(t.Context(), c.ID)
	task := addTask(t, s, c.ID, lifecycle.WorkPrepare)
	if err := s.SavePlanning(t.Context(), &now, nil, nil, domain.Planning{}); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("planned anew while it is begun: %v", err)
	}
	if err := s.SaveSettings(t.Context(), &now, domain.DefaultSettings(), false); err != nil {
		t.Errorf("its speed cannot be changed: %v", err)
	}
	if err := s.SaveSurvey(t.Context(), &now, nil); err != nil {
		t.Error(err)
	}
	if k, err := s.ClaimTask(t.Context(), task, "w"); err != nil || k == nil {
		t.Fatal(err)
	} else if err := s.EndTask(t.Context(), task, k.Epoch, "failed", "x"); err != nil {
		t.Fatal(err)
	}
	if err := s.SavePlanning(t.Context(), &now, nil, nil, domain.Planning{}); err != nil {
		t.Errorf("it cannot be planned any more: %v", err)
	}
}

func addTask(t *testing.T, s *records.Store, crossing int64, kind lifecycle.Work) (id int64) {
	t.Helper()
	err := pgx.BeginFunc(t.Context(), s.Pool, func(tx pgx.Tx) (err error) {
		id, err = records.AddTaskTx(t.Context(), tx, crossing, kind, struct{}{}, "me")
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return id
}

// TestWorkEndsForOtherWork: what cannot go on beside a restart is asked to end, and a restart
// does not begin beside a cutover.
func TestWorkEndsForOtherWork(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	build, compare := addTask(t, s, c.ID, lifecycle.WorkBuild), addTask(t, s, c.ID, lifecycle.WorkReconcile)
	k, err := s.ClaimTask(t.Context(), build, "w")
	if err != nil {
		t.Fatal(err)
	}
	addTask(t, s, c.ID, lifecycle.WorkRestart)
	if mine, why, err := s.RenewTask(t.Context(), build, k.Epoch); err != nil || !mine ||
		!strings.Contains(why, "restart") {
		t.Errorf("the build goes on: %v, %q (%v)", mine, why, err)
	}
	left, err := s.EndTasks(t.Context(), c.ID, []lifecycle.Work{lifecycle.WorkBuild, lifecycle.WorkReconcile}, "again")
	if err != nil || len(left) != 2 || left[0].ID != build || left[0].Idle || left[1].ID != compare || !left[1].Idle {
		t.Errorf("what has not ended: %+v (%v)", left, err)
	}
	err = pgx.BeginFunc(t.Context(), s.Pool, func(tx pgx.Tx) error {
		_, err := records.AddTaskTx(t.Context(), tx, c.ID, lifecycle.WorkRepair, struct{}{}, "me")
		return err
	})
	if !domain.IsKind(err, domain.ProblemConflict) || !strings.Contains(err.Error(), "restart is under way") {
		t.Errorf("a repair beside a restart: %v", err)
	}
	if err := s.EndTask(t.Context(), build, k.Epoch, "cancelled", "x"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.CancelTask(t.Context(), c.ID, build, "again"); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("what has ended was cancelled: %v", err)
	}
	if _, err := s.CancelTask(t.Context(), c.ID, 999, "again"); !domain.IsKind(err, domain.ProblemNotFound) {
		t.Errorf("no such task: %v", err)
	}
}

// TestARestartSilencesWhoWasThere: from the moment a restart is asked for nobody takes its
// capture up, which goes; who follows still cannot hold the crossing over what was removed
// on purpose; and what a lane found wrong meanwhile is about rows that are gone.
func TestARestartSilencesWhoWasThere(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	st, err := s.ClaimStream(t.Context(), "w", nil)
	if err != nil || st == nil {
		t.Fatal(st, err)
	}
	task := addTask(t, s, c.ID, lifecycle.WorkRestart)
	k, err := s.ClaimTask(t.Context(), task, "w")
	if err != nil || k == nil {
		t.Fatal(k, err)
	}
	if mine, err := s.DropStream(t.Context(), c.ID, st.Epoch, 0, "", ""); err != nil || !mine {
		t.Fatal(mine, err)
	}
	if again, err := s.ClaimStream(t.Context(), "x", nil); err != nil || again != nil {
		t.Errorf("somebody follows what is about to go: %+v (%v)", again, err)
	}
	if _, err := s.Hold(t.Context(), c.ID, "a chunk failed"); err != nil {
		t.Fatal(err)
	}
	if err := s.ResetAll(t.Context(), c.ID); err != nil {
		t.Fatal(err)
	}
	if mine, err := s.DropStream(t.Context(), c.ID, st.Epoch, 0, "the slot is gone", "held"); err != nil || mine {
		t.Errorf("who was replaced holds the crossing: %v (%v)", mine, err)
	}
	if err := s.Begun(t.Context(), task, k.Epoch); err != nil {
		t.Fatal(err)
	}
	if now, err := s.CrossingByID(t.Context(), c.ID); err != nil || now.Condition != domain.ConditionRunning ||
		now.Reason != "" {
		t.Errorf("begun anew, and %s: %s (%v)", now.Condition, now.Reason, err)
	}
	if err := s.Begun(t.Context(), task, k.Epoch-1); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("who lost the task has begun it: %v", err)
	}
}

// TestEveryDueTimeHasALine: a run that is due is noted and moved on together, begun once, and
// what is skipped again and again is one line.
func TestEveryDueTimeHasALine(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	at := time.Now().Add(-time.Minute).UTC().Truncate(time.Second)
	next := func(n int) *time.Time {
		then := at.Add(time.Duration(n) * time.Second)
		return &then
	}
	if err := s.SaveSchedule(t.Context(), domain.Schedule{CrossingID: c.ID, Cron: "* * * * *", Missed: "skip",
		NextAt: next(0), Actor: "me"}); err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		due, err := s.DueSchedules(t.Context())
		if err != nil || len(due) != 1 {
			t.Fatal(due, err)
		}
		if ok, err := s.Due(t.Context(), due[0], next(i+1), ""); err != nil || !ok {
			t.Fatal(ok, err)
		}
		if ok, err := s.Due(t.Context(), due[0], next(i+1), ""); err != nil || ok {
			t.Error("one due time was noted twice", err)
		}
	}
	runs, err := s.DueRuns(t.Context())
	if err != nil || len(runs) != 3 {
		t.Fatalf("%+v (%v)", runs, err)
	}
	for i, r := range runs[:2] {
		if told, err := s.SettleRun(t.Context(), r.ID, "skipped", "paused by me"); err != nil || told != (i == 0) {
			t.Errorf("skipped %d: told %v (%v)", i, told, err)
		}
	}
	list, err := s.Runs(t.Context(), c.ID, 10)
	if err != nil || len(list) != 2 || list[1].Times != 2 || !list[1].DueAt.Equal(*next(1)) || list[0].State != "due" {
		t.Errorf("%+v (%v)", list, err)
	}
	ask := func() (ok bool) {
		t.Helper()
		if err := pgx.BeginFunc(t.Context(), s.Pool, func(tx pgx.Tx) (err error) {
			ok, err = records.AskRunTx(t.Context(), tx, runs[2].ID)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		return ok
	}
	if !ask() || ask() {
		t.Error("a due run is asked for once, and only once")
	}
	if lost, err := s.LostRuns(t.Context()); err != nil || len(lost) != 1 {
		t.Errorf("nobody carries it out: %v (%v)", lost, err)
	}
	addTask(t, s, c.ID, lifecycle.WorkRestart)
	if lost, err := s.LostRuns(t.Context()); err != nil || len(lost) != 0 {
		t.Errorf("somebody does: %v (%v)", lost, err)
	}
	if err := s.BeginRun(t.Context(), c.ID, runs[2].ID, "its schedule", true); err != nil {
		t.Fatal(err)
	}
	if list, err = s.Runs(t.Context(), c.ID, 10); err != nil || len(list) != 2 || list[0].State != "running" ||
		list[0].ID != runs[2].ID {
		t.Errorf("%+v (%v)", list, err)
	}
	if err := s.PauseSchedule(t.Context(), c.ID, "me"); err != nil {
		t.Fatal(err)
	}
	if err := s.PauseSchedule(t.Context(), c.ID, "you"); !domain.IsKind(err, domain.ProblemConflict) ||
		!strings.Contains(err.Error(), "by me") {
		t.Errorf("paused twice: %v", err)
	}
	if err := s.PauseSchedule(t.Context(), c.ID, ""); err != nil {
		t.Fatal(err)
	}
}

// TestReceiversHaveQueuesOfTheirOwn: each is sent one thing after the other, in order, and
// one that takes nothing keeps only itself.
func TestReceiversHaveQueuesOfTheirOwn(t *testing.T) {
	s := open(t)
	for _, name := range []string{"deaf", "quick"} {
		if err := s.AddWebhook(t.Context(), domain.Webhook{Name: name, URL: "http://x", Secret: []byte("s"), Crossings: "*",
			Events: []string{}}); err != nil {
			t.Fatal(err)
		}
	}
	id := map[string]int64{}
	list, err := s.Webhooks(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range list {
		id[w.Name] = w.ID
		for n := range 3 {
			if err := s.AddDelivery(t.Context(), w.ID, "held", fmt.Sprint(n)); err != nil {
				t.Fatal(err)
			}
		}
	}
	claim := func(name string) *domain.Delivery {
		t.Helper()
		d, err := s.ClaimDelivery(t.Context(), id[name])
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	first := claim("deaf")
	if first == nil || first.Body != "0" || first.Attempts != 1 {
		t.Fatalf("%+v", first)
	}
	if d := claim("deaf"); d != nil {
		t.Errorf("two things at once: %+v", d)
	}
	if err := s.NotDelivered(t.Context(), first, "it answered 500", time.Hour, time.Hour); err != nil {
		t.Fatal(err)
	}
	if d := claim("deaf"); d != nil {
		t.Errorf("sent before its time: %+v", d)
	}
	for n := range 3 {
		d := claim("quick")
		if d == nil || d.Body != fmt.Sprint(n) {
			t.Fatalf("%d: %+v", n, d)
		}
		if err := s.Delivered(t.Context(), d, "200 OK"); err != nil {
			t.Fatal(err)
		}
	}
	if d := claim("quick"); d != nil {
		t.Errorf("%+v", d)
	}
	if _, err := s.DB.Exec(`UPDATE webhooks SET next_at = now()`); err != nil {
		t.Fatal(err)
	}
	if due, err := s.WebhooksDue(t.Context()); err != nil || len(due) != 1 || due[0] != id["deaf"] {
		t.Errorf("%v (%v)", due, err)
	}
	if d := claim("deaf"); d == nil || d.Body != "0" || d.Attempts != 2 {
		t.Errorf("the order was lost: %+v", d)
	}
	if _, err := s.DB.Exec(`UPDATE deliveries SET created_at = now() - interval '2 hours' WHERE id <= $1`,
		first.ID+1); err != nil {
		t.Fatal(err)
	}
	if err := s.NotDelivered(t.Context(), first, "it answered 500", time.Hour, time.Hour); err != nil {
		t.Fatal(err)
	}
	waits, err := s.Deliveries(t.Context(), id["deaf"], 10)
	if err != nil || len(waits) != 3 || waits[0].NextAt == nil || waits[1].NextAt != nil || waits[2].NextAt != nil ||
		!strings.Contains(waits[1].Answer, "given up") {
		t.Errorf("%+v (%v)", waits, err)
	}
}

// TestTheRecordsAreThinned: what is older than the policy keeps goes in steps, but for what is
// under way or may still be asked for.
func TestTheRecordsAreThinned(t *testing.T) {
	s := open(t)
	c, table := loading(t, s, 1, 1)
	for range 3 {
		if err := s.Write(t.Context(), domain.JournalEntry{Actor: "me", Act: "test", Message: "old"}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.DB.Exec(`DELETE FROM journal`); err == nil {
		t.Fatal("the journal can be emptied")
	}
	var ids []int64
	for range 2 {
		var id int64
		if err := pgx.BeginFunc(t.Context(), s.Pool, func(tx pgx.Tx) (err error) {
			id, err = records.AddReconciliationTx(t.Context(), tx, c.ID, domain.DepthHashes, nil)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if _, err := s.BeginReconciliation(t.Context(), id, domain.PositionAt(1), []int64{table.ID}); err != nil {
			t.Fatal(err)
		}
		if err := s.AddFindings(t.Context(), id, table.ID,
			[]domain.Finding{{Kind: domain.Differing, Key: []string{"1"}}}); err != nil {
			t.Fatal(err)
		}
		if err := s.EndReconciliation(t.Context(), id, "differing", ""); err != nil {
			t.Fatal(err)
		}
		ids = append(ids, id)
	}
	task := addTask(t, s, c.ID, lifecycle.WorkBuild)
	if _, err := s.DB.Exec(`
ALTER TABLE journal DISABLE TRIGGER USER; UPDATE journal SET at = now() - interval '30 days';
  ALTER TABLE journal ENABLE TRIGGER USER;
UPDATE reconciliations SET ended_at = now() - interval '30 days';
UPDATE tasks SET created_at = now() - interval '30 days';
INSERT INTO runs (crossing_id, by, state, ended_at) VALUES (1, 'me', 'done', now() - interval '30 days'),
  (1, 'me', 'running', NULL)`); err != nil {
		t.Fatal(err)
	}
	count := func(what string) (n int) {
		t.Helper()
		if err := s.DB.Get(&n, `SELECT count(*) FROM `+what); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if gone, err := s.Thin(t.Context(), domain.Policy{}); err != nil || len(gone) != 0 {
		t.Errorf("without a wish: %v (%v)", gone, err)
	}
	if gone, err := s.Thin(t.Context(), domain.Policy{JournalDays: 40, HistoryDays: 40}); err != nil || len(gone) != 0 {
		t.Errorf("nothing is that old: %v (%v)", gone, err)
	}
	gone, err := s.Thin(t.Context(), domain.Policy{JournalDays: 20, HistoryDays: 20})
	if err != nil || gone["journal"] != 2 || gone["findings"] != 1 || gone["comparisons"] != 1 || gone["runs"] != 1 ||
		gone["tasks"] != 0 {
		t.Errorf("%v (%v)", gone, err)
	}
	if count("journal") != 1 || count("findings") != 1 || count("reconciliations") != 1 || count("runs") != 1 {
		t.Error("more, or less, is left than should be")
	}
	if _, err := s.Reconciliation(t.Context(), c.ID, ids[1]); err != nil {
		t.Errorf("the newest comparison is gone: %v", err)
	}
	if _, err := s.TaskOf(t.Context(), c.ID, task); err != nil {
		t.Errorf("work under way is gone: %v", err)
	}
	if _, err := s.DB.Exec(`DELETE FROM journal`); err == nil {
		t.Error("the journal stayed open")
	}
	// What comparisons found does not depend on tables that are planned anew.
	now, _ := s.CrossingByID(t.Context(), c.ID)
	if err := s.SavePlans(t.Context(), &now, nil); err != nil {
		t.Fatal(err)
	}
	found, err := s.Findings(t.Context(), ids[1], domain.FindingFilter{Limit: 10})
	if err != nil || len(found) != 1 || found[0].TableName != "a.b" {
		t.Errorf("%+v (%v)", found, err)
	}
	if r, err := s.Reconciliation(t.Context(), c.ID, ids[1]); err != nil || r.Tables != 1 || r.State != "differing" {
		t.Errorf("%+v (%v)", r, err)
	}
}

// TestWhatGoesBackNeedsWhatClosed: the cutover of a crossing stays for as long as its return path is open.
func TestWhatGoesBackNeedsWhatClosed(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	c, _ := loading(t, s, 1, 1)
	exec := func(sql string, args ...any) {
		t.Helper()
		if _, err := s.DB.Exec(sql, args...); err != nil {
			t.Fatal(err)
		}
	}
	exec(`UPDATE crossings SET phase = 'closed', closed_at = now() WHERE id = $1`, c.ID)
	exec(`INSERT INTO cutovers (crossing_id, rehearsal, state, settings, actor, ended_at)
  VALUES ($1, false, 'done', '{}', 'ann', now() - interval '90 days')`, c.ID)
	back := domain.Crossing{UID: "b", Name: "spring-back", Kind: domain.KindCapture, SourceID: c.TargetID,
		TargetID: c.SourceID, ReturnOf: &c.ID, Settings: domain.DefaultSettings()}
	id, err := s.AddCrossing(ctx, back)
	if err != nil {
		t.Fatal(err)
	}
	now, err := s.CrossingByID(ctx, c.ID)
	if got, _ := s.CrossingByID(ctx, id); err != nil || now.ReturnBy != "spring-back" || got.ReturnOfIs != c.Name {
		t.Errorf("%q, %q, %v", now.ReturnBy, got.ReturnOfIs, err)
	}
	thin := func(want int64) {
		t.Helper()
		if gone, err := s.Thin(ctx, domain.Policy{HistoryDays: 20}); err != nil || gone["cutovers"] != want {
			t.Errorf("%v, %v; not %d cutovers", gone, err, want)
		}
	}
	thin(0)
	exec(`UPDATE crossings SET phase = 'closed' WHERE id = $1`, id)
	thin(1)
}
