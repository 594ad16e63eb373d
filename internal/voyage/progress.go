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
	"dustyferry/internal/voyage/stuck"
	"dustyferry/internal/voyage/waits"
)

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

func (w *watched) Find(ctx context.Context, p *domain.TablePlan, match []domain.Column,
	values []domain.Value) ([]domain.KeyValue, error) {
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
	var still stuck.Watch
	waits.Every(ctx, records.Renew, func() {
		steps := w.steps.Load()
		d := still.Since(time.Now(), steps, f.v.StuckAfter)
		if d == 0 || !w.inside.Load() {
			if still.Waits != "" {
				still.Waits = ""
				f.waitsFor("")
			}
			return
		}
		word, works := f.v.asker().On(ctx, f.c.Target, w.Session(), d)
		if w.steps.Load() != steps {
			return
		}
		word = "the target does not end a statement of ours: " + word
		if !works {
			cancel(fmt.Errorf("%s", stuck.Text(d, word)))
			return
		}
		still.Waits = stuck.Text(d, word)
		f.waitsFor(still.Waits)
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
			word := stuck.Text(time.Since(began), fmt.Sprintf("on the %s, %s", side.name, list[0]))
			_ = v.Store.NoteTask(ctx, t.ID, word)
			if !said {
				said = true
				v.Say(ctx, "warning", System, c.Name, "", string(t.Kind), "%s of %s: %s", t.Kind, c.Name, word)
			}
		}
	})
}

// StuckAfter is for how long nothing may move where nobody says otherwise.
const StuckAfter = stuck.After

// asker asks servers what they do for us.
func (v *Voyage) asker() stuck.Asker { return stuck.Asker{Databases: v.Databases, Limit: v.StuckAfter} }
