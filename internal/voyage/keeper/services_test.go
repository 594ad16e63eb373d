package keeper

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/pace"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// watch is what the services look after, in memory; what they do is kept in order.
type watch struct {
	c         domain.Crossing
	due       []domain.Schedule
	schedule  *domain.Schedule
	runs      []domain.DueRun
	lostRuns  []int64
	beginning error
	settled   bool // an earlier run was skipped for the same reason
	followed  []domain.FollowedCrossing
	retained  engine.Retained
	away      error // the database is
	lags      []domain.CrossingLag
	wanted    []domain.LanesWanted
	loads     []pace.Load
	slow      time.Duration
	lost      []domain.Chunk
	policy    domain.Policy
	gone      map[string]int64
	back      time.Duration
	stalled   []int64
	dead      []int64

	did []string
}

func (w *watch) do(format string, args ...any) error {
	w.did = append(w.did, fmt.Sprintf(format, args...))
	return nil
}

func (w *watch) all() string { return strings.Join(w.did, "\n") }

func (w *watch) CrossingByID(context.Context, int64) (domain.Crossing, error)  { return w.c, nil }
func (w *watch) DueSchedules(context.Context) ([]domain.Schedule, error)       { return w.due, nil }
func (w *watch) ScheduleOf(context.Context, int64) (*domain.Schedule, error)   { return w.schedule, nil }
func (w *watch) DueRuns(context.Context) ([]domain.DueRun, error)              { return w.runs, nil }
func (w *watch) LostRuns(context.Context) ([]int64, error)                     { return w.lostRuns, nil }
func (w *watch) Followed(context.Context) ([]domain.FollowedCrossing, error)   { return w.followed, nil }
func (w *watch) Lags(context.Context) ([]domain.CrossingLag, error)            { return w.lags, nil }
func (w *watch) LanesWanted(context.Context) ([]domain.LanesWanted, error)     { return w.wanted, nil }
func (w *watch) Pacings(context.Context) ([]pace.Load, error)                  { return w.loads, nil }
func (w *watch) Lost(context.Context) ([]domain.Chunk, error)                  { return w.lost, nil }
func (w *watch) Policy(context.Context) (domain.Policy, error)                 { return w.policy, nil }
func (w *watch) Thin(context.Context, domain.Policy) (map[string]int64, error) { return w.gone, nil }
func (w *watch) MendClock(context.Context) (time.Duration, error)              { return w.back, nil }
func (w *watch) DueNow(context.Context) error                                  { return w.do("due now") }
func (w *watch) Stalled(context.Context) ([]int64, error)                      { return w.stalled, nil }
func (w *watch) DeadLanes(context.Context) ([]int64, error)                    { return w.dead, nil }
func (w *watch) Wake(_ context.Context, task int64) error                      { return w.do("wake %d", task) }
func (w *watch) Cancel(_ context.Context, job int64) error                     { return w.do("cancel %d", job) }
func (w *watch) KickStream(context.Context, int64) (int64, error)              { return 4, w.do("kick") }
func (w *watch) HoldStream(_ context.Context, _ int64, cause string) error {
	return w.do("hold stream: %s", cause)
}
func (w *watch) ToldOfRetained(_ context.Context, _ int64, told int) error {
	return w.do("told %d", told)
}
func (w *watch) Due(_ context.Context, s domain.Schedule, next *time.Time, note string) (bool, error) {
	return true, w.do("due, next %v, note %q", next != nil, note)
}
func (w *watch) SettleRun(_ context.Context, run int64, state domain.RunState, note string) (bool, error) {
	return !w.settled, w.do("run %d %s: %s", run, state, note)
}
func (w *watch) SaveRetained(_ context.Context, _, bytes int64, from, at domain.Position) error {
	return w.do("retained %d from %s at %s", bytes, from, at)
}
func (w *watch) LagTold(_ context.Context, _ int64, over bool) (bool, error) {
	return !w.settled, w.do("lag over %v", over)
}
func (w *watch) SavePace(_ context.Context, id int64, lanes int, s pace.State) error {
	return w.do("load %d: %d lanes, trips %.3f %.3f", id, lanes, s.Usual[0], s.Usual[1])
}
func (w *watch) Open(context.Context, string) (*engine.Opened, error) {
	d := db{w: w}
	return &engine.Opened{Captures: d, Tells: d}, w.away
}
func (w *watch) Recordf(_ context.Context, severity, _, _, _, _, format string, args ...any) {
	_ = w.do(severity+": "+format, args...)
}
func (w *watch) Notify(_ context.Context, _ *domain.Crossing, event, message string) {
	_ = w.do("event %s: %s", event, message)
}
func (w *watch) Hold(_ context.Context, _ *domain.Crossing, _, reason string) {
	_ = w.do("held: %s", reason)
}

type db struct {
	engine.Captures
	engine.Tells
	w *watch
}

func (d db) Retained(context.Context, string, domain.Position) (engine.Retained, error) {
	return d.w.retained, nil
}
func (d db) DropCapture(context.Context, string, []string) error { return d.w.do("drop capture") }
func (d db) Clock(context.Context) (time.Time, error) {
	time.Sleep(d.w.slow)
	return time.Now(), nil
}

// does checks what was done, in this order.
func (w *watch) does(t *testing.T, err error, list ...string) {
	t.Helper()
	if err != nil {
		t.Error(err)
	}
	rest := w.all()
	for _, want := range list {
		_, after, found := strings.Cut(rest, want)
		if !found {
			t.Errorf("no %q (in this order) in\n%s", want, w.all())
			return
		}
		rest = after
	}
}

func (w *watch) schedules() *Schedules {
	return &Schedules{Records: w, Journal: w,
		Begin: func(_ context.Context, c *domain.Crossing, run int64, by string) error {
			return errors.Join(w.do("begin %d for %s", run, by), w.beginning)
		},
		Troubled: func(_ context.Context, _ *domain.Crossing, doing string, err error) error {
			return w.do("trouble: %s: %v", doing, err)
		}}
}

// TestWhatIsDueIsNoted, and the schedule moves on; one that cannot be read keeps none of the others.
func TestWhatIsDueIsNoted(t *testing.T) {
	now, long := time.Now().Add(-time.Second), time.Now().Add(-48*time.Hour)
	w := &watch{due: []domain.Schedule{
		{Cron: "nonsense", NextAt: &now},
		{Cron: "* * * * *", NextAt: &now, Missed: "run once"},
		{NextAt: &now}, {NextAt: &long}}}
	w.does(t, w.schedules().Do(t.Context()), "trouble: its schedule cannot be read", `due, next true, note ""`,
		`due, next false, note ""`, `due, next false, note "due when no service ran"`)
}

// TestADueRunBegins, or there is a reason why not, of which people are told once.
func TestADueRunBegins(t *testing.T) {
	load := domain.Crossing{Name: "spring", Kind: domain.KindLoad, Phase: domain.PhaseInStep,
		Condition: domain.ConditionRunning}
	for want, change := range map[string]func(*watch){
		"begin 5 for its schedule":                     func(*watch) {},
		"run 5 skipped: its schedule was removed":      func(w *watch) { w.schedule = nil },
		"run 5 skipped: the schedule is paused by ann": func(w *watch) { w.schedule.PausedBy = "ann" },
		"run 5 skipped: nobody ran": func(w *watch) {
			w.schedule.Missed, w.runs[0].Note = "skip", "nobody ran"
		},
		"run 5 skipped: spring is paused: for the night": func(w *watch) {
			w.c.Condition, w.c.Reason = domain.ConditionPaused, "for the night"
		},
		"run 5 skipped: it is closed":                 func(w *watch) { w.c.Phase = domain.PhaseClosed },
		"run 5 skipped: spring is held":               func(w *watch) { w.c.Condition = domain.ConditionHeld },
		"run 5 skipped: it follows changes":           func(w *watch) { w.c.Kind = domain.KindLoadCapture },
		"run 5 skipped: the run before has not ended": func(w *watch) { w.c.Phase = domain.PhaseLoading },
		"run 5 failed: rows would be lost":            func(w *watch) { w.beginning = domain.Conflict("rows would be lost") },
	} {
		w := &watch{c: load, schedule: &domain.Schedule{}, runs: []domain.DueRun{{ID: 5}}, lostRuns: []int64{3}}
		change(w)
		w.does(t, w.schedules().Do(t.Context()), "run 3 failed: the work that was to carry it out ended", want)
		skipped, failed := strings.Contains(want, "skipped"), strings.Contains(want, "failed")
		if skipped != strings.Contains(w.all(), "warning: a run of spring was skipped") ||
			failed != strings.Contains(w.all(), "event failed") {
			t.Errorf("%s:\n%s", want, w.all())
		}
	}
	w := &watch{c: load, runs: []domain.DueRun{{ID: 5}}, settled: true}
	if err := w.schedules().Do(t.Context()); err != nil || strings.Contains(w.all(), "warning") {
		t.Errorf("told again: %v\n%s", err, w.all())
	}
	w = &watch{c: load, schedule: &domain.Schedule{}, runs: []domain.DueRun{{ID: 5}},
		beginning: errors.New("the records are away")}
	if err := w.schedules().Do(t.Context()); err == nil || strings.Contains(w.all(), "run 5") {
		t.Errorf("a run is given up that can be begun at the next round: %v\n%s", err, w.all())
	}
}

// TestTheLogThatASourceKeeps: told near its limit, over it and below it again, each once; over it
// the log is released where the crossing says so.
func TestTheLogThatASourceKeeps(t *testing.T) {
	for _, x := range []struct {
		bytes int64
		told  int
		over  string
		byOwn bool   // kept by the server's own rules
		to    uint64 // where the log ends, where that is known
		want  string
		not   string
	}{
		{bytes: 50, to: 150, want: "retained 50 from 100 at 150", not: "told"},
		{bytes: 85, want: "told 1\nwarning: the source keeps"},
		{bytes: 85, over: "release", want: "there, the log is released"},
		{bytes: 85, told: 1, want: "retained", not: "told"},
		{bytes: 120, told: 1, want: "capture goes on, as the crossing says"},
		{bytes: 120, told: 1, over: "release", want: "kick\nheld: the source kept"},
		{bytes: 120, told: 0, over: "release", byOwn: true, want: "retained 120 from 100 at 9", not: "held"},
		{bytes: 10, told: 2, want: "well below its limit again"},
	} {
		w := &watch{retained: engine.Retained{Bytes: x.bytes, From: domain.PositionAt(100), To: domain.PositionAt(x.to),
			Held: !x.byOwn}}
		f := domain.FollowedCrossing{Crossing: domain.Crossing{Name: "spring"}, SourceAt: domain.PositionAt(9), Told: x.told}
		f.Settings.RetainedLimit, f.Settings.RetainedOver = 100, x.over
		w.followed = []domain.FollowedCrossing{f}
		l := &RetainedLog{Records: w, Databases: w, Journal: w, Log: slog.New(slog.NewTextHandler(io.Discard, nil))}
		w.does(t, l.Do(t.Context()), x.want)
		if x.not != "" && strings.Contains(w.all(), x.not) {
			t.Errorf("%+v:\n%s", x, w.all())
		}
		if released := strings.Contains(w.all(), "drop capture"); released != strings.Contains(x.want, "kick") {
			t.Errorf("%+v: released %v", x, released)
		}
		w.away, w.did = errors.New("away"), nil
		if err := l.Do(t.Context()); err != nil || len(w.did) > 0 {
			t.Errorf("a source that is away: %v, %q", err, w.did)
		}
	}
}

// TestLagsAreToldOf, also where nobody measures any more.
func TestLagsAreToldOf(t *testing.T) {
	lag := func(seconds, silent float64) *watch {
		w := &watch{}
		l := domain.CrossingLag{Crossing: domain.Crossing{Name: "spring"}, LagSeconds: seconds, Silent: silent}
		l.Settings.LagLimit = 10 * time.Second
		w.lags = []domain.CrossingLag{l}
		return w
	}
	run := func(w *watch) error { return (&Lags{Records: w, Journal: w}).Do(t.Context()) }
	w := lag(30, 0)
	w.does(t, run(w), "lag over true", "warning: the lag of spring is 30 s, over its limit", "event lag")
	w = lag(1, 60)
	w.does(t, run(w), "lag over true")
	w = lag(1, 3)
	w.does(t, run(w), "lag over false", "info: the lag of spring is 1.0 s, below its limit again")
	w = lag(1, 3)
	w.settled = true
	w.does(t, run(w))
	if strings.Contains(w.all(), "info") {
		t.Errorf("told again: %s", w.all())
	}
}

// TestLanes: as many as lack, none in quiet hours that stop the load.
func TestLanes(t *testing.T) {
	set := domain.DefaultSettings()
	set.WorkerLabel = "near"
	w := &watch{wanted: []domain.LanesWanted{{CrossingID: 7, Have: 1, Want: 3, Settings: set}}}
	l := &Lanes{Records: w, Add: func(_ context.Context, c int64, label string) error {
		return w.do("lane of %d, %s", c,
			label)
	}}
	w.does(t, l.Do(t.Context()), "lane of 7, near\nlane of 7, near")
	if len(w.did) != 2 {
		t.Errorf("%q", w.did)
	}
	l.Add = func(context.Context, int64, string) error { return errors.New("the queue is away") }
	if err := l.Do(t.Context()); err == nil {
		t.Error("a lane that could not be added is passed over")
	}
	w = &watch{stalled: []int64{3, 4}, dead: []int64{8}}
	w.does(t, (&StalledTasks{Records: w, Queue: w}).Do(t.Context()), "wake 3", "wake 4")
	w.does(t, (&DeadLanes{Records: w, Queue: w}).Do(t.Context()), "cancel 8")
}

// TestTheNumberOfLanesIsFound beside the load; a server that answers nothing holds up nobody.
func TestTheNumberOfLanesIsFound(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		set := domain.DefaultSettings()
		set.LeastLanes, set.Lanes = 1, 4
		w := &watch{slow: time.Minute, loads: []pace.Load{{ID: 7, Name: "spring", Settings: set},
			{ID: 8, Settings: domain.DefaultSettings()}}}
		w.loads[1].Settings.LeastLanes = 0
		n := &LaneNumbers{Records: w, Databases: w, Journal: w}
		began := time.Now()
		w.does(t, n.Do(t.Context()), "info: 1 lane of 4", "load 7: 1 lanes", "load 8: 0 lanes")
		if time.Since(began) > 0 {
			t.Error("it waits for a server")
		}
		n.Wait()
	})
}

// TestChunksOfDeadWorkers are given back, crossing by crossing; a side that is away is left for
// the next round.
func TestChunksOfDeadWorkers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &watch{c: domain.Crossing{Name: "spring"}, lost: []domain.Chunk{{ID: 1, CrossingID: 7, Worker: "w1"},
			{ID: 2, CrossingID: 7, Worker: "w1"}}}
		l := &LostChunks{Records: w, Journal: w, Return: func(_ context.Context, _ *domain.Crossing, k *domain.Chunk,
			_ error) {
			time.Sleep(w.slow)
			_ = w.do("return %d", k.ID)
		}}
		w.does(t, l.Do(t.Context()), "warning: worker w1 fell silent", "return 1", "return 2")
		w.did, w.slow = nil, 5*time.Second
		w.does(t, l.Do(t.Context()), "return 1")
		if strings.Contains(w.all(), "return 2") {
			t.Error("a side that is away is waited for again and again")
		}
	})
}

// TestThePolicyKeepsNoMore than it wants.
func TestThePolicyKeepsNoMore(t *testing.T) {
	w := &watch{gone: map[string]int64{"journal": 1, "history": 20}}
	r := &Retention{Records: w, Journal: w}
	if w.does(t, r.Do(t.Context())); len(w.did) > 0 {
		t.Errorf("the policy keeps everything, and %q", w.did)
	}
	w.policy.JournalDays = 30
	w.does(t, r.Do(t.Context()), "older than the policy keeps: 20 lines of history, 1 line of journal")
}

// TestAClockThatWasSetBack.
func TestAClockThatWasSetBack(t *testing.T) {
	w := &watch{}
	c := &Clock{Records: w, Queue: w, Journal: w}
	if w.does(t, c.Do(t.Context())); len(w.did) > 0 {
		t.Errorf("nothing was set back, and %q", w.did)
	}
	w.back = 90 * time.Second
	w.does(t, c.Do(t.Context()), "warning: the clock of the control database's server was set back by 1m30s", "due now")
}
