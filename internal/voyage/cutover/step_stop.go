package cutover

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/readiness"
	"dustyferry/internal/voyage/steps"
	"dustyferry/internal/voyage/waits"
)

// From here on nobody may change the tables of the source: by locks, by making it read-only,
// or by a person's word.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepStopWrites, Order: 20, Do: stopWrites, Undo: letWrite})

func stopWrites(ctx context.Context, r *run) (string, error) {
	set := r.k.Settings
	if set.StopMethod == domain.StopWord {
		if err := r.of.records.AwaitPerson(ctx, r.k.ID, domain.StepStopWrites, domain.AwaitsWord,
			"waiting for a person's word that writes have stopped (dustyferry cutover confirm "+r.c.Name+")"); err != nil {
			return "", err
		}
		for {
			k, err := r.of.records.Cutover(ctx, r.k.ID)
			if err != nil {
				return "", err
			}
			if k.WordBy != "" {
				break
			}
			if !waits.Sleep(ctx, 200*time.Millisecond) {
				return "", context.Cause(ctx)
			}
		}
	}
	if err := r.of.records.AwaitPerson(ctx, r.k.ID, domain.StepStopWrites, domain.AwaitsNobody, ""); err != nil {
		return "", err
	}
	if set.StopMethod != domain.StopWord {
		if err := r.src.Need(r.c.Source, engine.CanStop); err != nil {
			return "", err
		}
		if err := r.src.MayStop(ctx, set.StopMethod); err != nil {
			return "", err
		}
	}
	if set.StopMethod == domain.StopLock {
		if err := r.src.Settle(ctx, r.plans); err != nil {
			return "", err
		}
	}
	// The pause counts from the moment the first writer may have to wait.
	r.paused = time.Now()
	if err := r.of.records.SetPause(ctx, r.k.ID, &r.paused, nil); err != nil {
		return "", err
	}
	held, err := r.of.gateways.Hold(ctx, *r.c, set.GatewayPatience, set.StopMethod == domain.StopWord ||
		r.src.StopsWrites == nil)
	if err != nil {
		return "", err
	}
	if r.src.StopsWrites != nil {
		r.stop, err = r.src.StopWrites(ctx, set.StopMethod, r.c.ObjectName(), r.plans, min(set.PauseBudget/2, 30*time.Second))
		if err != nil {
			return "", err
		}
	}
	// What was on its way to its end has a moment for it.
	for end := time.Now().Add(2 * time.Second); ; {
		e := r.of.readiness.Unended(ctx, r.c, r.plans, readiness.Glances)
		if block := domain.Blocking(e, "dustyferry cutover ready "+r.c.Name); block == "" {
			break
		} else if time.Now().After(end) {
			return "", domain.Conflict("writes cannot be stopped: %s", block)
		}
		if !waits.Sleep(ctx, 50*time.Millisecond) {
			return "", context.Cause(ctx)
		}
	}
	note := fmt.Sprintf("writes to %s are stopped (%s)", domain.Many(len(r.plans), "table"), set.StopMethod)
	if held != "" {
		note += "; " + held
	}
	return note, nil
}

// letWrite lets the source take writes again. What was not closed by us is not for us to open.
func letWrite(ctx context.Context, r *run) error {
	if r.bothOpen {
		return domain.Conflict("%s stays closed until %s is closed again, as both would take writes", r.c.Source, r.c.Target)
	}
	if r.stop != nil {
		_ = r.stop.Release(ctx)
		r.stop = nil
	}
	k, err := r.of.records.Cutover(ctx, r.k.ID)
	if err != nil {
		return err
	}
	if k.PausedAt != nil && r.src.StopsWrites != nil {
		err = r.src.Reopen(ctx, r.k.Settings.StopMethod, r.c.ObjectName(), r.plans)
	}
	if left := (engine.Left{}); errors.As(err, &left) {
		r.of.journal.Recordf(ctx, "warning", journal.System, r.c.Name, "", "cutover", "the source takes writes again; %s",
			left.What)
	} else if err != nil {
		return err
	}
	if err := r.of.gateways.Release(ctx, *r.c); err != nil {
		return err
	}
	now := time.Now()
	return r.of.records.SetPause(ctx, r.k.ID, nil, &now)
}
