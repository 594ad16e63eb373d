package following

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
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

func (w *watched) Remember(ctx context.Context, p *domain.TablePlan, keep, forget []domain.KeyValue) error {
	defer w.step()()
	r, able := w.Applier.(engine.Rememberer)
	if !able {
		return errors.New("the target cannot remember which rows were removed")
	}
	return r.Remember(ctx, p, keep, forget)
}

func (w *watched) Touch(ctx context.Context, at domain.Position, list []engine.Touched) error {
	defer w.step()()
	t, able := w.Applier.(engine.Toucher)
	if !able {
		return errors.New("the target cannot keep which rows were touched")
	}
	return t.Touch(ctx, at, list)
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

func (w *watched) Commit(ctx context.Context, to domain.Position, portable string, at int64) error {
	defer w.step()()
	return w.Applier.Commit(ctx, to, portable, at)
}

// mindApplier ends a stream whose statement on the target stands still without being at work,
// so that it is tried anew, and says what a long one does.
func (f *follower) mindApplier(ctx context.Context, w *watched, cancel context.CancelCauseFunc) {
	var still stuck.Watch
	waits.Every(ctx, f.of.set.Renew, func() {
		steps := w.steps.Load()
		d := still.Since(time.Now(), steps, f.of.set.StuckAfter)
		if d == 0 || !w.inside.Load() {
			if still.Waits != "" {
				still.Waits = ""
				f.waitsFor("")
			}
			return
		}
		word, works := f.of.asker.On(ctx, f.c.Target, w.Session(), d)
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
