package following

import (
	"context"
	"slices"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Which rows a transaction of the target touches is kept in it, so that they, and no others, need
// to be compared to vouch for all (compare.Vouch).

// keepsTouched readies a target for that, where the crossing wants it and the target can, and notes
// from which place on it is known what was touched.
func (f *follower) keepsTouched(ctx context.Context, at domain.Position) error {
	f.vouches = f.c.Settings.VouchEvery > 0 && f.dst.Vouches != nil
	if !f.vouches {
		return f.of.records.SetTouchedFrom(ctx, f.c.ID, f.epoch, domain.Position{})
	}
	if err := f.dst.KeepTouched(ctx); err != nil {
		return err
	}
	return f.of.records.SetTouchedFrom(ctx, f.c.ID, f.epoch, at)
}

func newSide(t *domain.CrossingTable) *side {
	return &side{row: t, there: t.Plan.TargetPlan(), key: t.Plan.KeyIndexes(t.Plan.CopiedColumns())}
}

// named reports whether rows of the table are found again by their keys: those that a condition
// chooses, or a query computes, are not.
func (t *side) named() bool {
	p := &t.row.Plan
	return len(t.key) > 0 && p.Where == "" && p.From == ""
}

func (f *follower) touch(t *side, n *fold.Net) {
	f.touchRows(t, n.Removes...)
	f.touchRows(t, n.Patches...)
	f.touchRows(t, n.Puts...)
}

// touchRows notes rows of which at least the key is known; nil is none.
func (f *follower) touchRows(t *side, rows ...domain.Row) {
	switch {
	case !f.vouches || len(rows) == 0:
	case !t.named():
		f.touchAll(t)
	default:
		f.touches(t)
		for _, r := range rows {
			if r != nil {
				t.touched.AddRow(r, t.key)
			}
		}
	}
}

// earlyBytes is how much of what a transaction touches is held until its end is known.
const earlyBytes = 4 << 20

// keepEarly writes what the open transaction has touched into it when it is much, as in a large one.
func (f *follower) keepEarly(ctx context.Context) error {
	size := 0
	for _, t := range f.noted {
		size += t.touched.Size()
	}
	if size < earlyBytes {
		return nil
	}
	f.early = true
	return f.keepTouched(ctx, domain.FarAway)
}

func (f *follower) touchAll(t *side) {
	if f.vouches {
		f.touches(t)
		t.touched.AddTable()
	}
}

// touches notes that the open transaction touches the table: there may be thousands that it does not.
func (f *follower) touches(t *side) {
	if t.touched.Len() == 0 && !t.touched.Whole() && !slices.Contains(f.noted, t) {
		f.noted = append(f.noted, t)
	}
}

// keepTouched writes what the open transaction has touched into it.
func (f *follower) keepTouched(ctx context.Context, at domain.Position) error {
	var list []engine.Touched
	for _, t := range f.noted {
		if t.touched.Len() == 0 && !t.touched.Whole() {
			continue
		}
		k := engine.Touched{Target: t.there.Target.String(), Rows: t.touched.Len()}
		if t.touched.Whole() {
			k.Rows = 0
		}
		var err error
		if k.Keys, err = t.touched.Pack(); err != nil {
			return err
		}
		list = append(list, k)
	}
	f.noted = f.noted[:0]
	if len(list) == 0 && !f.early {
		return nil
	}
	f.early = at == domain.FarAway
	return f.apply.Touch(ctx, at, list)
}

// forgetTouched forgets it with a transaction that is called off.
func (f *follower) forgetTouched() {
	f.early = false
	for _, t := range f.noted {
		t.touched.Clear()
	}
	f.noted = f.noted[:0]
}
