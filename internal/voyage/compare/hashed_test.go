package compare

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// hashing is a side whose server hashes rows by itself.
type hashing struct {
	side
	form       string
	lost       bool          // it cannot
	trip, each time.Duration // how far it is away, and how long it takes for a row
	asked      [][]int
	some       int // how many rows were read to see how fast they come
}

func (h *hashing) OpenView(ctx context.Context, exact bool, limit time.Duration) (engine.View, domain.Position, error) {
	v, at, err := h.side.OpenView(ctx, exact, limit)
	return hashingView{v.(view), h}, at, err
}

type hashingView struct {
	view
	by *hashing
}

func (v hashingView) HashForm(*domain.TablePlan) string { return v.by.form }
func (v hashingView) RoundTrip(context.Context) (time.Duration, error) {
	return v.by.trip, nil
}
func (v hashingView) TryHashes(_ context.Context, p *domain.TablePlan, part engine.Part, which,
	most int) (engine.Tried, error) {
	var t engine.Tried
	for _, r := range v.rows {
		if t.Rows < most && v.part(p, part, r) == which {
			t.Rows++
		}
	}
	v.by.some += t.Rows
	t.Here = v.by.trip + time.Duration(t.Rows)*time.Millisecond // rows come at one a millisecond
	t.There = v.by.trip + time.Duration(t.Rows)*v.by.each
	if v.by.lost {
		return t, engine.ErrHashLost
	}
	return t, nil
}
func (v hashingView) HashThere(_ context.Context, p *domain.TablePlan, part engine.Part, want []int,
	progress func(int64)) ([]rowhash.Sum, error) {
	v.by.asked = append(v.by.asked, want)
	if v.by.lost {
		return nil, engine.ErrHashLost
	}
	out := make([]rowhash.Sum, max(len(want), 1))
	for _, r := range v.rows {
		i := 0
		if part.Bounds != nil {
			i = slices.Index(want, v.part(p, part, r))
		}
		if i >= 0 {
			out[i].AddHash(v.hash(r)^7, 0)
			progress(1)
			time.Sleep(v.by.each)
		}
	}
	time.Sleep(v.by.trip)
	return out, nil
}

// viewers are two sides whose views are of another kind.
type viewers struct {
	pair
	views [2]engine.Compares
}

func (v viewers) OpenPair(ctx context.Context, c *domain.Crossing) (src, dst *engine.Opened, err error) {
	src, dst, err = v.pair.OpenPair(ctx, c)
	src.Compares, dst.Compares = v.views[0], v.views[1]
	return src, dst, err
}

// onServers has both sides of a bench hash by themselves.
func onServers(b *bench, by string) (source, target *hashing) {
	source, target = &hashing{side: *b.source, form: "fields"}, &hashing{side: *b.target, form: "fields"}
	b.book.crossing.Settings.HashBy = by
	b.Comparer = New(b.book, viewers{pair{&source.side, &target.side}, [2]engine.Compares{source, target}}, b.lines,
		b.work, func() string { return "us" })
	return source, target
}

func TestServersHashAndNoRowComes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		source, target := onServers(b, domain.HashByServers)
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		r := b.book.results[5]
		if b.book.ended != "clean" || r.Parts != 2 || r.SourceRows != 4 || r.TargetRows != 4 ||
			r.SourceHash != r.TargetHash || source.scans+target.scans > 0 {
			t.Errorf("it ended %s, after %d scans: %+v", b.book.ended, source.scans+target.scans, r)
		}
	})
}

func TestWhatServersSumUnlikeIsLookedAtRowByRow(t *testing.T) {
	for name, c := range map[string]struct {
		change func(b *bench, source, target *hashing)
		ended  string
		found  int
		scans  int
	}{
		"a row differs":                {func(_ *bench, _, h *hashing) { h.rows[1] = row("2", "else") }, "differing", 1, 0},
		"a row is not there":           {func(_ *bench, _, h *hashing) { h.rows = h.rows[1:] }, "differing", 1, 0},
		"the servers write them apart": {func(_ *bench, _, h *hashing) { h.form = "else" }, "clean", 0, 2},
		"one does not say how":         {func(_ *bench, s, h *hashing) { s.form, h.form = "", "" }, "clean", 0, 2},
		"one cannot":                   {func(_ *bench, _, h *hashing) { h.lost = true }, "clean", 0, 2},
		"the table has no key": {func(b *bench, _, h *hashing) {
			b.book.table.Plan.Key, b.book.table.Plan.KeyOrder = nil, "none"
			h.rows[3] = row("4", "else")
		}, "differing", 2, 4}, // and all of it once more, at another position
	} {
		synctest.Test(t, func(t *testing.T) {
			b := newBench(t)
			source, target := onServers(b, domain.HashByServers)
			c.change(b, source, target)
			if err := b.run(); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			n, scans := len(b.book.findings), source.scans+target.scans
			if string(b.book.ended) != c.ended || n != c.found || scans != c.scans {
				t.Errorf("%s: it ended %s with %d findings, after %d scans", name, b.book.ended, n, scans)
			}
		})
	}
}

// TestNearlyAllPartsDiffer by the servers' sums: then it is by ours that rows are chosen to be read one by one.
func TestNearlyAllPartsDiffer(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.book.chunks = []domain.Chunk{{Ordinal: 0}}
		b.source.rows, b.target.rows = nil, nil
		for i := range 20 {
			r := row(fmt.Sprintf("%05d", i), "n")
			b.source.rows, b.target.rows = append(b.source.rows, r), append(b.target.rows, r)
			if i > 0 {
				b.book.chunks = append(b.book.chunks, domain.Chunk{Ordinal: i, Lower: domain.KeyValue{string(r[0].Data)}})
			}
		}
		b.target.rows[3] = row("00003", "else")
		source, target := onServers(b, domain.HashByServers)
		b.Comparer = New(b.book, viewers{pair{&source.side, &target.side}, [2]engine.Compares{source,
			&oddSums{hashing: target}}}, b.lines, b.work, func() string { return "us" })
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		if len(b.book.findings) != 1 || source.scans != 1 || target.scans != 1 || b.book.results[5].DifferingParts != 1 {
			t.Errorf("%d findings, %d and %d scans: %+v", len(b.book.findings), source.scans, target.scans, b.book.results[5])
		}
	})
}

// TestServersSumsAloneFindNothing: what is equal row by row is equal, whatever the servers' sums are; and rows
// that are read a second time are counted once.
func TestServersSumsAloneFindNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		source, target := onServers(b, domain.HashByServers)
		odd := &oddSums{hashing: target}
		b.Comparer = New(b.book, viewers{pair{&source.side, &target.side}, [2]engine.Compares{source, odd}}, b.lines,
			b.work, func() string { return "us" })
		if err := b.run(); err != nil {
			t.Fatal(err)
		}
		if r := b.book.results[5]; b.book.ended != "clean" || r.SourceRows != 4 || source.scans != 1 {
			t.Errorf("it ended %s, after %d scans: %+v", b.book.ended, source.scans, r)
		}
		var read [2]int64
		tab := &table{views: [2]engine.View{hashingView{view{&source.side, source.rows}, source},
			oddView{hashingView{view{&target.side, target.rows}, target}}}, plans: [2]*domain.TablePlan{&b.book.table.Plan,
			&b.book.table.Plan}, part: engine.Part{Bounds: []domain.KeyValue{{"3"}}}, read: [2]func(int64){
			func(n int64) { read[0] += n }, func(n int64) { read[1] += n }}}
		if _, _, err := b.Comparer.hashed(t.Context(), &aligned{hashBy: domain.HashByServers}, tab); err != nil ||
			read != [2]int64{4, 4} {
			t.Errorf("%v, and %d rows are counted", err, read)
		}
	})
}

// oddSums is a server that writes what is equal in a way of its own.
type oddSums struct{ *hashing }

func (o *oddSums) OpenView(ctx context.Context, exact bool, limit time.Duration) (engine.View, domain.Position, error) {
	v, at, err := o.hashing.OpenView(ctx, exact, limit)
	return oddView{v.(hashingView)}, at, err
}

type oddView struct{ hashingView }

func (v oddView) HashThere(ctx context.Context, p *domain.TablePlan, part engine.Part, want []int,
	progress func(int64)) ([]rowhash.Sum, error) {
	s, err := v.hashingView.HashThere(ctx, p, part, want, progress)
	for i := range s {
		s[i].Hash++
	}
	return s, err
}

// TestTheFasterWayIsTaken: by what some rows took, or for small tables by how far the servers are.
func TestTheFasterWayIsTaken(t *testing.T) {
	for _, c := range []struct {
		parts      int
		trip, each time.Duration
		servers    bool
	}{
		{20, 0, 2 * time.Millisecond, false}, {20, 0, time.Millisecond / 2, true},
		{20, 50 * time.Millisecond, 2 * time.Millisecond, true}, {20, time.Millisecond, 20 * time.Millisecond, false},
		{2, time.Millisecond, 0, false}, {2, 50 * time.Millisecond, time.Second, true},
	} {
		synctest.Test(t, func(t *testing.T) {
			b := newBench(t)
			source, target := onServers(b, domain.HashByFaster)
			b.book.chunks = []domain.Chunk{{Ordinal: 0}}
			source.rows, target.rows, b.book.table.EstRows = nil, nil, int64(c.parts*10)
			for i := range c.parts * 10 {
				r := row(fmt.Sprintf("%05d", i), "n"+strconv.Itoa(i))
				source.rows, target.rows = append(source.rows, r), append(target.rows, r)
				if i > 0 && i%10 == 0 {
					b.book.chunks = append(b.book.chunks, domain.Chunk{Ordinal: i / 10, Lower: domain.KeyValue{string(r[0].Data)}})
				}
			}
			for _, h := range []*hashing{source, target} {
				h.trip, h.each = c.trip, c.each
			}
			if err := b.run(); err != nil || b.book.ended != "clean" {
				t.Fatalf("%v, %s", err, b.book.ended)
			}
			if servers := source.scans == 0; servers != c.servers || source.some > triedRows {
				t.Errorf("%+v: the servers hashed: %v, after %d rows were tried", c, servers, source.some)
			}
			if c.servers && c.parts == 20 && len(source.asked) > 6 { // 1, 2, 4, 8, 5
				t.Errorf("%+v: the server was asked %d times: %v", c, len(source.asked), source.asked)
			}
		})
	}
}
