package keeper

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"testing"

	"dustyferry/internal/domain"
)

// rounds are crossings that are due, and what is done with them.
type rounds struct {
	due   []int64
	later []int64
}

func (r *rounds) VouchDue(context.Context) ([]int64, error) { return r.due, nil }
func (r *rounds) VouchLater(_ context.Context, crossing int64) error {
	r.later = append(r.later, crossing)
	return nil
}
func (r *rounds) CrossingByID(_ context.Context, id int64) (domain.Crossing, error) {
	if id == 2 {
		return domain.Crossing{}, domain.NotFound("gone")
	}
	return domain.Crossing{ID: id, Name: fmt.Sprint("c", id)}, nil
}

// TestRoundsAreMade: of every crossing that is due, whatever becomes of another's; one that failed is
// made again when the next is due.
func TestRoundsAreMade(t *testing.T) {
	r := &rounds{due: []int64{1, 2, 3}}
	var made []string
	v := &Vouching{Records: r, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Vouch: func(_ context.Context, c *domain.Crossing, _ float64, _ func(string)) (domain.Vouched, error) {
			made = append(made, c.Name)
			return domain.Vouched{}, errors.New("a transaction of the source is open")
		}}
	if err := v.Do(t.Context()); err != nil || !slices.Equal(made, []string{"c1", "c3"}) ||
		!slices.Equal(r.later, []int64{1, 3}) {
		t.Errorf("%v: made %q, put off %v", err, made, r.later)
	}
	ends, end := context.WithCancel(t.Context())
	v.Vouch = func(context.Context, *domain.Crossing, float64, func(string)) (domain.Vouched, error) {
		end()
		return domain.Vouched{}, ends.Err()
	}
	if err := v.Do(ends); !errors.Is(err, context.Canceled) || len(r.later) != 2 {
		t.Errorf("a process that ends: %v, put off %v", err, r.later)
	}
}
