package cutover

import (
	"context"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/readiness"
	"dustyferry/internal/voyage/steps"
	"dustyferry/internal/voyage/waits"
)

// The list is asked for once more, with the source as it is now.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepReadiness, Order: 10, Do: checkReadiness})

func checkReadiness(ctx context.Context, r *run) (string, error) {
	c := *r.c
	c.Phase = domain.PhaseInStep                                             // it was, when the cutover was asked for
	if _, err := r.of.databases.Catalog(ctx, r.c.Source, true); err != nil { // the list takes one that is seconds old
		return "", err
	}
	list, err := r.of.readiness.List(ctx, &c, r.k.Settings, readiness.Decides)
	if err != nil {
		return "", err
	}
	list = readiness.ForRehearsal(list, r.k.Rehearsal)
	if err := r.of.records.SaveReadiness(ctx, r.k.ID, list); err != nil {
		return "", err
	}
	if block := domain.Blocking(list, "dustyferry cutover ready "+c.Name); block != "" {
		return "", domain.Conflict("not ready: %s", block)
	}
	note := fmt.Sprintf("all %d readiness checks pass", len(list))
	if r.k.Settings.CutoverDepth != domain.DepthVouched {
		return note, nil
	}
	rows, err := vouchBefore(ctx, r)
	if domain.IsKind(err, domain.ProblemUnavailable) {
		// A transaction that stays open; gateways end it in the pause, in which the rest is compared.
		if to, e := r.of.gateways.Leads(ctx, *r.c); e == nil && to != nil {
			return fmt.Sprintf("%s; what changes touched is compared inside the pause, as before it could not be: %s", note,
				err), nil
		}
	}
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s; what changes touched since the last round of vouching is equal (%s)", note,
		domain.Many(rows, "row")), nil
}

const (
	// fewTouched is how many touched rows are compared in no time inside the pause, and roundsBefore how
	// many rounds are made at most to come to so few while the application writes on.
	fewTouched   = 5000
	roundsBefore = 5
)

// vouchBefore compares what changes have touched before writes are stopped, so that little is left
// to compare inside the pause.
func vouchBefore(ctx context.Context, r *run) (rows int64, _ error) {
	c := *r.c
	c.Phase = domain.PhaseInStep
	for n := range roundsBefore {
		v, err := r.of.comparer.Vouch(ctx, &c, 1, func(s string) {
			_ = r.of.records.NoteStep(ctx, r.k.ID, domain.StepReadiness,
				s)
		})
		if domain.IsKind(err, domain.ProblemUnavailable) && n < roundsBefore-1 && waits.Sleep(ctx, time.Second) {
			continue // such as a transaction that is open for a while; nobody waits yet
		}
		if err != nil {
			return 0, err
		}
		if v.Findings > 0 {
			return 0, domain.Conflict("%s that changes touched differ; see 'dustyferry findings %s'", domain.Many(v.Findings,
				"row"), r.c.Name)
		}
		if rows += v.Rows; v.Rows < fewTouched {
			break
		}
	}
	return rows, nil
}
