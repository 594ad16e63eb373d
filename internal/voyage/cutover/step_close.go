package cutover

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/steps"
	"dustyferry/internal/voyage/waits"
)

// The source is closed for good, for whoever was not told. What stopping the writes takes back
// opens it again.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepClose, Order: 80, Real: true, Check: stillStopped,
	Do: closeSource})

// stillStopped makes sure that what holds the source's writes was not lost.
func stillStopped(ctx context.Context, r *run) error {
	if r.stop == nil {
		return nil
	}
	if err := r.stop.Alive(ctx); err != nil {
		return fmt.Errorf("the hold on the source's writes was lost: %w", err)
	}
	return nil
}

func closeSource(ctx context.Context, r *run) (string, error) {
	msg := fmt.Sprintf("this table has moved to database %s (crossing %s)", r.c.Target, r.c.Name)
	if r.k.Settings.StopMethod == domain.StopWord {
		return "the person's word stands; the source is not closed by us", stillQuiet(ctx, r)
	}
	except := ""
	if now, err := r.of.records.CrossingByID(ctx, r.c.ID); err != nil {
		return "", err
	} else if now.ReturnBy != "" { // whose changes come here
		back, err := r.of.records.Crossing(ctx, now.ReturnBy)
		if err != nil {
			return "", err
		}
		except = back.UID
	}
	if err := r.stop.CloseWrites(ctx, msg, except); err != nil {
		return "", err
	}
	// Locks bind everyone; that nobody wrote in spite of another way is looked for.
	if r.k.Settings.StopMethod != domain.StopLock {
		if err := stillQuiet(ctx, r); err != nil {
			return "", err
		}
	}
	return "writes to the source now fail, saying that the tables have moved", nil
}

// stillQuiet makes sure that no row has changed on the source since its writes were stopped,
// as by what it is a replica of, by an event of its own, or by users whom nothing binds: the
// log is applied to where it ends now, and must hold nothing of the tables.
func stillQuiet(ctx context.Context, r *run) error {
	before, end := r.drained, r.k.EndPosition
	at, err := r.src.Heartbeat(ctx)
	if err != nil {
		return err
	}
	if !at.After(r.k.EndPosition) {
		return nil
	}
	r.k.EndPosition = at
	if err := r.of.records.SetEnd(ctx, r.k.ID, at, 0); err != nil {
		return err
	}
	if _, err := drain(ctx, r); err != nil {
		return err
	}
	if r.drained.epoch != before.epoch {
		return domain.Conflict("capture was taken over while writes were stopped, so it is not known whether rows changed " +
			"since: cut over again")
	}
	n := r.drained.changes - before.changes
	if n == 0 {
		return nil
	}
	var tables []string
	for range 30 { // whoever follows tells of them once a second
		list, err := r.of.records.RecentlyApplied(ctx, r.c.ID)
		if err == nil && len(list) > 0 && list[0].Position.After(end) {
			tables = list[0].Tables
			break
		}
		if !waits.Sleep(ctx, 50*time.Millisecond) {
			break
		}
	}
	return domain.Conflict("%s of %s came to the source after its writes were stopped: something writes that the stop "+
		"does not bind (a replica's own source, an event, a user above it). Find and stop it, then cut over again",
		domain.Many(int(n), "change"), cmp.Or(strings.Join(tables, ", "), "the tables"))
}
