package cutover

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/readiness"
	"dustyferry/internal/voyage/steps"
)

// Where the log ends now is the end: what comes after it is none of the tables'.
var _ = cutoverSteps.Add(steps.Step[*run]{Name: domain.StepMarkEnd, Order: 30, Do: markEnd})

func markEnd(ctx context.Context, r *run) (string, error) {
	// No table can be altered any more: now it is certain that none was.
	cat, err := r.of.databases.Catalog(ctx, r.c.Source, true)
	if err != nil {
		return "", err
	}
	tables, err := r.of.records.Tables(ctx, r.c.ID)
	if err != nil {
		return "", err
	}
	if block := domain.Blocking(readiness.ProvedInside(planning.CheckTables(r.c, cat, tables), r.k.Settings.CutoverDepth),
		"dustyferry cutover ready "+r.c.Name); block != "" {
		return "", domain.Conflict("not ready: %s", block)
	}
	lost, err := r.src.Mind(ctx, r.c.CaptureName(), r.plans, func(string) error { return nil })
	if err != nil {
		return "", err
	}
	if len(lost) > 0 {
		return "", domain.Conflict("not ready: changes of %s are not in what capture reads any more; load it again: "+
			"dustyferry crossing restart %s --table %s", lost[0], r.c.Name, lost[0])
	}
	at, err := r.src.Heartbeat(ctx)
	if err != nil {
		return "", err
	}
	r.k.EndPosition = at
	if err := r.of.records.SetEnd(ctx, r.k.ID, at, 0); err != nil {
		return "", err
	}
	return "log position " + r.of.databases.Position(ctx, r.c.Source, at), nil
}
