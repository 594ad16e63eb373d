package voyage

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// sample takes the readings from which rates and charts come.
func (v *Voyage) sample(ctx context.Context) error {
	return errors.Join(v.Store.TakeSamples(ctx), v.Store.RateTables(ctx))
}

// thinHistory makes old readings, and deliveries of long ago, fewer.
func (v *Voyage) thinHistory(ctx context.Context) error {
	return errors.Join(v.Store.ThinSamples(ctx), v.Store.ThinDeliveries(ctx))
}

// thin removes a step of what is older than the house wants kept.
func (v *Voyage) thin(ctx context.Context) error {
	house, err := v.Store.House(ctx)
	if err != nil || house.JournalDays == 0 && house.HistoryDays == 0 {
		return err
	}
	gone, err := v.Store.Thin(ctx, house)
	var text []string
	for _, name := range slices.Sorted(maps.Keys(gone)) {
		text = append(text, fmt.Sprintf("%s of %s", domain.Many(gone[name], "line"), name))
	}
	if len(text) > 0 {
		v.Say(ctx, "info", System, "", "", "keeper", "removed from the records, as older than the house rules keep: %s",
			strings.Join(text, ", "))
	}
	return err
}
