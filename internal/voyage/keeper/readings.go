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

// Retention keeps no more in the records than the house wants.
type Retention struct {
	Records interface {
		House(ctx context.Context) (domain.House, error)
		// Thin removes a step of what is older, and says how many lines of what.
		Thin(ctx context.Context, h domain.House) (map[string]int64, error)
	}
	Journal Journal
}

// Do removes a step of what is older than the house wants kept.
func (r *Retention) Do(ctx context.Context) error {
	house, err := r.Records.House(ctx)
	if err != nil || house.JournalDays == 0 && house.HistoryDays == 0 {
		return err
	}
	gone, err := r.Records.Thin(ctx, house)
	var text []string
	for _, name := range slices.Sorted(maps.Keys(gone)) {
		text = append(text, fmt.Sprintf("%s of %s", domain.Many(gone[name], "line"), name))
	}
	if len(text) > 0 {
		r.Journal.Say(ctx, "info", journal.System, "", "", "keeper",
			"removed from the records, as older than the house rules keep: %s",
			strings.Join(text, ", "))
	}
	return err
}
