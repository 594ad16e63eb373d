package voyage

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/waits"
)

// What moves nothing for a while is asked what it waits for. Where a server is at work, as on
// a large statement, that is shown; otherwise the wait is ended and tried anew.

// StuckAfter is for how long nothing may move where nobody says otherwise.
const StuckAfter = time.Minute

// standstill watches a number that grows with every sign of life.
type standstill struct {
	last  int64
	at    time.Time
	waits string
}

// since returns for how long the number has stood, or 0 if that is less than the limit.
func (s *standstill) since(now time.Time, steps int64, limit time.Duration) time.Duration {
	if steps != s.last || s.at.IsZero() {
		s.last, s.at = steps, now
	}
	if d := now.Sub(s.at); d >= limit {
		return d
	}
	return 0
}

// stood is why a chunk was taken down that moved nothing.
type stood struct{ why string }

func (s stood) Error() string { return s.why }

func stuck(d time.Duration, word string) string {
	return fmt.Sprintf("nothing has moved for %s: %s", d.Round(time.Second), word)
}

// sessions are a lane's connections by the servers' names of them.
type sessions struct{ reader, writer string }

// on notes which connections a chunk is carried over.
func (m *moved) on(l *laneWork) {
	m.at.Store(&sessions{l.reader.Session(), l.writer.Session()})
	m.steps.Add(1)
}

// doing asks both sides what they do for a lane, and whether one of them is at work.
func (v *Voyage) doing(ctx context.Context, c *domain.Crossing, at *sessions, stood time.Duration) (string, bool) {
	if at == nil {
		return "the connections could not be opened", false
	}
	from, reads := v.doingOn(ctx, c.Source, at.reader, stood)
	to, writes := v.doingOn(ctx, c.Target, at.writer, stood)
	return "on the source " + from + ", on the target " + to, reads || writes
}

// doingOn asks one side about a wait that has stood for so long. One that does not answer is
// not at work for us; one that does not know the session may be, for a while.
func (v *Voyage) doingOn(ctx context.Context, database, session string, stood time.Duration) (string, bool) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	db, err := v.Open(ctx, database)
	if err != nil {
		return "nobody answers: " + err.Error(), false
	}
	if db.Tells == nil {
		return "its engine does not tell what it does", stood < 10*v.StuckAfter
	}
	what, works, err := db.Doing(ctx, session)
	if err != nil {
		return "nobody answers: " + err.Error(), false
	}
	if what == engine.UnknownSession {
		works = stood < 10*v.StuckAfter
	}
	return what, works
}

// watched counts what a stream's applier does, as signs of life.
type watched struct {
	engine.Applier
	steps  atomic.Int64
	inside atomic.Bool // a statement is under way
}

func (w *watched) step() func() {
	w.steps.Add(1)
	w.inside.Store(true)
	return func() { w.steps.Add(1); w.inside.Store(false) }
}

func (w *watched) Begin(ctx context.Context) error {
	defer w.step()()
	return w.Applier.Begin(ctx)
}

func (w *watched) Apply(ctx context.Context, p *domain.TablePlan, n fold.Net, replace bool) ([]domain.Row, error) {
	defer w.step()()
	return w.Applier.Apply(ctx, p, n, replace)
}

func (w *watched) ApplyWhole(ctx context.Context, p *domain.TablePlan, changes []domain.Change) error {
	defer w.step()()
	return w.Applier.ApplyWhole(ctx, p, changes)
}

func (w *watched) Find(ctx context.Context, p *domain.TablePlan, match []domain.Column, values []domain.Value) ([]domain.KeyValue, error) {
	defer w.step()()
	return w.Applier.Find(ctx, p, match, values)
}

func (w *watched) Move(ctx context.Context, p *domain.TablePlan, c domain.Change) (bool, error) {
	defer w.step()()
	return w.Applier.Move(ctx, p, c)
}

func (w *watched) Truncate(ctx context.Context, plans []*domain.TablePlan, note string) error {
	defer w.step()()
	return w.Applier.Truncate(ctx, plans, note)
}

func (w *watched) Commit(ctx context.Context, to domain.Position, waymark string, at int64) error {
	defer w.step()()
	return w.Applier.Commit(ctx, to, waymark, at)
}

// mindApplier ends a stream whose statement on the target stands still without being at work,
// so that it is tried anew, and says what a long one does.
func (f *follower) mindApplier(ctx context.Context, w *watched, cancel context.CancelCauseFunc) {
	var still standstill
	waits.Every(ctx, records.Renew, func() {
		steps := w.steps.Load()
		d := still.since(time.Now(), steps, f.v.StuckAfter)
		if d == 0 || !w.inside.Load() {
			if still.waits != "" {
				still.waits = ""
				f.waitsFor("")
			}
			return
		}
		word, works := f.v.doingOn(ctx, f.c.Target, w.Session(), d)
		if w.steps.Load() != steps {
			return
		}
		word = "the target does not end a statement of ours: " + word
		if !works {
			cancel(fmt.Errorf("%s", stuck(d, word)))
			return
		}
		still.waits = stuck(d, word)
		f.waitsFor(still.waits)
	})
}

// mindTask says what a task waits for that has gone on for a while: statements of ours, on
// either side, that wait for somebody's lock.
func (v *Voyage) mindTask(ctx context.Context, c *domain.Crossing, t *domain.Task) {
	began, said := time.Now(), false
	waits.Every(ctx, v.StuckAfter/2, func() {
		if time.Since(began) < v.StuckAfter {
			return
		}
		for _, side := range []struct{ name, database string }{{"source", c.Source}, {"target", c.Target}} {
			ask, cancel := context.WithTimeout(ctx, 5*time.Second)
			db, err := v.Open(ask, side.database)
			var list []string
			if err == nil && db.Tells != nil {
				list, err = db.Locked(ask, v.StuckAfter)
			}
			cancel()
			if err != nil || len(list) == 0 {
				continue
			}
			word := stuck(time.Since(began), fmt.Sprintf("on the %s, %s", side.name, list[0]))
			_ = v.Store.NoteTask(ctx, t.ID, word)
			if !said {
				said = true
				v.Say(ctx, "warning", System, c.Name, "", string(t.Kind), "%s of %s: %s", t.Kind, c.Name, word)
			}
		}
	})
}
