package keeper

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// Retention keeps no more in the records than the policy wants.
type Retention struct {
	Records interface {
		Policy(ctx context.Context) (domain.Policy, error)
		// Thin removes a step of what is older, and says how many lines of what.
		Thin(ctx context.Context, h domain.Policy) (map[string]int64, error)
	}
	Journal Journal
}

// Do removes a step of what is older than the policy wants kept.
func (r *Retention) Do(ctx context.Context) error {
	policy, err := r.Records.Policy(ctx)
	if err != nil || policy.JournalDays == 0 && policy.HistoryDays == 0 {
		return err
	}
	gone, err := r.Records.Thin(ctx, policy)
	var text []string
	for _, name := range slices.Sorted(maps.Keys(gone)) {
		text = append(text, fmt.Sprintf("%s of %s", domain.Many(gone[name], "line"), name))
	}
	if len(text) > 0 {
		r.Journal.Recordf(ctx, "info", journal.System, "", "", "keeper",
			"removed from the records, as older than the policy keeps: %s",
			strings.Join(text, ", "))
	}
	return err
}
