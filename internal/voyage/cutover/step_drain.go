package cutover

import (
	"context"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/steps"
	"dustyferry/internal/voyage/waits"
)

// Everything up to the end is applied.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepDrain, Order: 40, Do: drain, Undo: letFollow})

// drain lets the applier go exactly up to the end position; writes are stopped,
// so nothing of the tables comes after it.
func drain(ctx context.Context, r *run) (string, error) {
	from := time.Now()
	ask := func() (bool, error) {
		return r.of.records.Ask(ctx, r.c.ID, r.by(), "the cutover", "go", r.k.EndPosition)
	}
	for { // what stood still for somebody else has been let go, or lapses
		mine, err := ask()
		if err != nil {
			return "", err
		}
		if mine {
			break
		}
		if !waits.Sleep(ctx, 50*time.Millisecond) {
			return "", context.Cause(ctx)
		}
	}
	defer func() { _ = r.of.records.LetGo(context.WithoutCancel(ctx), r.c.ID, r.by()) }()
	for n := 1; ; n++ {
		st, err := r.of.records.Stand(ctx, r.c.ID)
		if err != nil {
			return "", err
		}
		if st != nil && st.Request == (domain.Request{What: "reached", At: r.k.EndPosition, By: r.by()}) {
			r.drained = drained{epoch: st.Epoch, changes: st.Answered}
			return fmt.Sprintf("everything up to it was applied in %s", time.Since(from).Round(time.Millisecond)), nil
		}
		if n%100 == 0 { // the request lapses unless it is repeated
			if st == nil || st.Request.What == "" {
				_, err = ask()
			} else {
				err = r.of.records.KeepAsking(ctx, r.c.ID, r.by())
			}
			if err == nil && st != nil && !st.Live { // writers wait for it
				err = r.of.records.Hurry(ctx, r.c.ID)
			}
			if err != nil {
				return "", err
			}
			_, _ = r.src.Heartbeat(ctx)
		}
		if !waits.Sleep(ctx, 20*time.Millisecond) {
			err := context.Cause(ctx)
			if st != nil && !st.Live && st.Error != "" {
				err = fmt.Errorf("%w; changes were not applied, as capture stopped: %s", err, st.Error)
			}
			return "", err
		}
	}
}

// letFollow lets capture go on that stands still for this cutover.
func letFollow(ctx context.Context, r *run) error { return r.of.records.LetGo(ctx, r.c.ID, r.by()) }

// drained is what whoever follows had applied when the end was reached.
type drained struct{ epoch, changes int64 }
