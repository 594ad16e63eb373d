package compare

import (
	"errors"
	"fmt"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/touched"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// touches has the target note rows of the table as touched, by their keys; none: any of them.
func (b *bench) touches(keys ...string) {
	b.Helper()
	var r touched.Rows
	for _, k := range keys {
		r.Add(domain.KeyValue{k})
	}
	n := r.Len()
	packed, err := r.Pack()
	if err != nil {
		b.Fatal(err)
	}
	b.target.touched = append(b.target.touched, engine.Touched{ID: int64(len(b.target.touched) + 1), Target: "t.hives",
		Rows: n, Keys: packed})
}

func (b *bench) vouch() domain.Vouched {
	b.Helper()
	v, err := b.Vouch(b.Context(), &b.book.crossing, 1, nil)
	if err != nil {
		b.Fatal(err)
	}
	return v
}

// TestTouchedRowsAreVouchedFor: rows that changes touched are compared, and no others; what is found
// is kept and told, and what was compared is forgotten.
func TestTouchedRowsAreVouchedFor(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		if v := b.vouch(); v != (domain.Vouched{}) || len(b.book.asked) > 0 || b.source.beats > 0 ||
			len(b.source.limits) > 0 {
			t.Errorf("nothing was touched: %+v, %d heartbeats", v, b.source.beats)
		}
		b.touches("1", "2", "9") // 9 was removed again
		b.touches("2")
		if v := b.vouch(); v != (domain.Vouched{Rows: 3}) || len(b.target.touched) != 0 || b.source.scans+b.target.scans > 0 {
			t.Errorf("they are equal: %+v, %d notes are left, %d scans", v, len(b.target.touched), b.source.scans)
		}
		if !slices.Equal(b.book.vouched, []string{"3 rows up to 0", "0 rows up to 70"}) || b.book.stand.Request.What != "" ||
			b.book.let == 0 ||
			!slices.Equal(b.source.limits, []time.Duration{roundLimit}) {
			t.Errorf("kept %q; the applier is asked for %+v", b.book.vouched, b.book.stand.Request)
		}
		b.touches("1", "2", "3", "9")
		b.target.rows = []domain.Row{row("1", "a"), row("2", "else"), row("4", "other"), row("9", "z")}
		v := b.vouch()
		want := []string{string(domain.Differing) + " 2 name", string(domain.ExtraOnTarget) + " 9",
			string(domain.MissingOnTarget) + " 3"}
		slices.Sort(want)
		if got := b.found(); v.Findings != 3 || !slices.Equal(got, want) || !slices.Contains(b.lines.told, "differs") {
			t.Errorf("%+v: found %q, want %q; told %v", v, got, want, b.lines.told)
		}
	})
}

// TestARoundThatFailsForgetsNothing: what it has not compared is compared by the next.
func TestARoundThatFailsForgetsNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.touches("1")
		b.source.broken = errors.New("a transaction is open")
		if _, err := b.Vouch(t.Context(), &b.book.crossing, 1, nil); !errors.Is(err, b.source.broken) ||
			len(b.target.touched) != 1 || len(b.book.vouched) > 0 {
			t.Errorf("%v; %d notes are left, kept %q", err, len(b.target.touched), b.book.vouched)
		}
		b.source.broken = nil
		b.target.touched[0].Keys = []byte("not packed")
		if _, err := b.Vouch(t.Context(), &b.book.crossing, 1, nil); err == nil || len(b.target.touched) != 1 {
			t.Errorf("keys that cannot be read: %v, %d notes are left", err, len(b.target.touched))
		}
	})
}

// TestManyTouchedRows are compared part by part, and each once.
func TestManyTouchedRows(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.source.rows, b.target.rows = nil, nil
		for i := range touchedAtOnce*2 + 5 {
			b.touches(fmt.Sprint(i), fmt.Sprint(i+1))
			b.source.rows = append(b.source.rows, row(fmt.Sprint(i), "a"))
		}
		b.target.rows = append(b.target.rows, b.source.rows[1:]...)
		if v := b.vouch(); v.Rows != touchedAtOnce*2+6 || v.Findings != 1 || len(b.target.touched) > 0 {
			t.Errorf("%+v, %d notes are left", v, len(b.target.touched))
		}
	})
}

// TestTablesTouchedWhole: where it is not known which rows were touched, a small table is compared
// whole, and a large one waits for the cutover; of a table that was left out nothing is kept.
func TestTablesTouchedWhole(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.touches()
		b.target.rows = b.target.rows[1:]
		if v := b.vouch(); v.Rows != 4 || v.Findings != 1 || v.Left != 0 || len(b.target.touched) > 0 {
			t.Errorf("%+v, %d notes are left", v, len(b.target.touched))
		}
		b.book.table.EstRows = smallTable + 1
		b.touches()
		if v := b.vouch(); v.Rows != 0 || v.Left != 1 || len(b.target.touched) != 1 {
			t.Errorf("a large one: %+v, %d notes are left", v, len(b.target.touched))
		}
		b.target.touched[0].Target = "t.gone"
		if v := b.vouch(); v.Left != 0 || len(b.target.touched) != 0 {
			t.Errorf("one that was left out: %+v, %d notes are left", v, len(b.target.touched))
		}
		b.target.other, b.book.table.EstRows, b.target.rows = true, 4, b.source.rows
		b.touches()
		if _, err := b.Vouch(t.Context(), &b.book.crossing, 1, nil); err == nil {
			t.Error("sums that differ without a row that does were taken for equal")
		}
	})
}

// TestTheEndIsVouchedFor: inside a cutover, tables that were compared whole are compared by what was
// touched since and by counts, all others by hashes.
func TestTheEndIsVouchedFor(t *testing.T) {
	for name, c := range map[string]struct {
		do       func(b *bench)
		scans    int
		findings int64
	}{
		"all is equal":           {func(b *bench) { b.touches("1") }, 0, 0},
		"a touched row differs":  {func(b *bench) { b.touches("1"); b.target.rows[0] = row("1", "x") }, 0, 1},
		"one that was not":       {func(b *bench) { b.touches("2"); b.target.rows[0] = row("1", "x") }, 0, 0},
		"a row too many":         {func(b *bench) { b.target.rows = append(b.target.rows, row("7", "x")) }, 0, 1},
		"it was not compared":    {func(b *bench) { b.book.whole = nil; b.target.rows[0] = row("1", "x") }, 2, 1},
		"any row may be touched": {func(b *bench) { b.touches(); b.target.rows[0] = row("1", "x") }, 2, 1},
		"the target keeps no notes": {func(b *bench) { b.book.whole = map[int64]bool{}; b.target.rows[0] = row("1", "x") }, 2,
			1},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.book.whole = map[int64]bool{5: true}
			b.book.recon.Depth = domain.DepthVouched
			c.do(b)
			if err := b.Comparer.Run(t.Context(), &b.book.crossing, 7, true, nil); err != nil {
				t.Fatal(err)
			}
			if r := b.book.results[5]; r.Findings != c.findings || r.State != "done" ||
				b.source.scans+b.target.scans != c.scans {
				t.Errorf("%+v; %d scans; found %q", r, b.source.scans+b.target.scans, b.found())
			}
			if ended := map[bool]string{true: "differing", false: "clean"}[c.findings > 0]; b.book.ended != ended {
				t.Errorf("it ended %s", b.book.ended)
			}
		})
	}
}

// TestWhatSeemsToDifferIsLookedAtAgain: a table that is emptied while a round reads it seems to lack rows,
// and does not at the next position; nothing is forgotten before that is known.
func TestWhatSeemsToDifferIsLookedAtAgain(t *testing.T) {
	for name, keys := range map[string][]string{"by keys": {"1", "2"}, "whole": nil} {
		for _, mended := range []bool{true, false} {
			synctest.Test(t, func(t *testing.T) {
				b := newBench(t)
				b.touches(keys...)
				rows := b.target.rows
				b.target.rows = b.target.rows[1:]
				b.source.looked = func(n int) {
					if left := len(b.target.touched); n > 0 && left != 1 {
						t.Errorf("%s: before the second look %d notes are left", name, left)
					}
					if n == 1 && mended {
						b.target.rows = rows
					}
				}
				v := b.vouch()
				found := map[bool]int64{false: 1}[mended]
				if v.Findings != found || len(b.book.findings) != int(found) || len(b.target.touched) != 0 || v.Rows == 0 ||
					len(b.source.limits) != 2 || (len(b.lines.told) > 0) == mended {
					t.Errorf("%s, mended %t: %+v, %d notes are left, told %v", name, mended, v, len(b.target.touched), b.lines.told)
				}
			})
		}
	}
}

// TestMoreFindingsThanAreKept: what cannot be kept is not forgotten.
func TestMoreFindingsThanAreKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.source.rows, b.target.rows = nil, nil
		var keys []string
		for i := range maxFindings + 1 {
			keys = append(keys, fmt.Sprint(i))
			b.source.rows = append(b.source.rows, row(fmt.Sprint(i), "a"))
		}
		b.touches(keys...)
		if v := b.vouch(); v.Findings != maxFindings || len(b.target.touched) != 1 {
			t.Errorf("%+v, %d notes are left", v, len(b.target.touched))
		}
	})
}
