package voyage

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/waits"
)

// made is what came of building an object.
type made struct {
	o   *records.Object
	err error
}

// buildAll makes deferred objects, several at once, those of the largest tables first.
// Foreign keys come last and one by one: each locks two tables.
func (v *Voyage) buildAll(ctx context.Context, c *domain.Crossing, dst engine.Database, waiting []*records.Object, sizes map[string]int64, note func(string)) (n int, failed []error) {
	total := len(waiting)
	q := newBuildQueue(waiting, sizes, func(o *records.Object) bool { return dst.BuildsBeside(objectOf(o)) })
	done := make(chan made)
	count := func(m made) {
		q.ended(m.o)
		if m.err != nil {
			failed = append(failed, m.err)
		} else {
			n++
		}
	}
	for {
		o := q.next(c.Settings.BuildLanes)
		if o != nil && ctx.Err() == nil {
			note(fmt.Sprintf("building %s (%d of %d built)", q.text(), n, total))
			go func() {
				done <- made{o, domain.Guarded("building "+o.Name, func() error { return v.buildOne(ctx, dst, o) })}
			}()
			continue
		}
		if len(q.running) == 0 {
			return n, failed
		}
		count(<-done)
	}
}

func objectOf(o *records.Object) engine.Object {
	table, err := domain.ParseTableName(o.Table)
	if err != nil { // of none, or written by a version that did not quote
		table.Schema, table.Name, _ = strings.Cut(o.Table, ".")
	}
	return engine.Object{Kind: o.Kind, Name: o.Name, Table: table, SQL: o.Statement}
}

// buildOne makes one object; one that collides with changes that are applied
// meanwhile, or with others, is tried again.
func (v *Voyage) buildOne(ctx context.Context, dst engine.Database, o *records.Object) error {
	return v.runs(ctx, o, func() (err error) {
		for try := range collisions {
			err = dst.Build(ctx, objectOf(o))
			if !engine.Collided(err) || !waits.Sleep(ctx, time.Duration(try+1)*300*time.Millisecond) {
				break
			}
		}
		return err
	})
}

// buildQueue says what can be built beside what is being built.
type buildQueue struct {
	waiting []*records.Object
	running []*records.Object
	beside  func(*records.Object) bool
}

func newBuildQueue(list []*records.Object, sizes map[string]int64, beside func(*records.Object) bool) *buildQueue {
	q := &buildQueue{waiting: slices.Clone(list), beside: beside}
	rank := func(o *records.Object) int {
		switch {
		case o.Kind == "foreign":
			return 2
		case beside(o):
			return 1
		}
		return 0 // what has its table for itself comes first: the rest need not wait for it then
	}
	slices.SortStableFunc(q.waiting, func(a, b *records.Object) int {
		if (a.Kind == "foreign") != (b.Kind == "foreign") {
			return rank(a) - rank(b)
		}
		if x, y := sizes[a.Table], sizes[b.Table]; x != y {
			if x > y {
				return -1
			}
			return 1
		}
		return rank(a) - rank(b)
	})
	return q
}

// next takes what can begin while no more than most are under way, or returns nil.
func (q *buildQueue) next(most int) *records.Object {
	if len(q.running) >= most {
		return nil
	}
	for i, o := range q.waiting {
		switch {
		case o.Kind == "foreign" && (i > 0 || len(q.running) > 0): // all else has to stand
			return nil
		case slices.ContainsFunc(q.running, func(r *records.Object) bool { return r.Table == o.Table && !(q.beside(o) && q.beside(r)) }),
			slices.ContainsFunc(q.waiting[:i], func(w *records.Object) bool { return w.Table == o.Table && !q.beside(w) }):
			continue
		}
		q.waiting = slices.Delete(q.waiting, i, i+1)
		q.running = append(q.running, o)
		return o
	}
	return nil
}

func (q *buildQueue) ended(o *records.Object) {
	q.running = slices.DeleteFunc(q.running, func(r *records.Object) bool { return r == o })
}

// text names what is being built.
func (q *buildQueue) text() string {
	var out []string
	for _, o := range q.running {
		out = append(out, fmt.Sprintf("%s %s on %s", o.Kind, o.Name, o.Table))
	}
	return strings.Join(out, ", ")
}

// sizesThere are the sizes of the crossing's tables, by their names on the target.
func (v *Voyage) sizesThere(ctx context.Context, c *domain.Crossing) (map[string]int64, error) {
	tables, err := v.Store.Tables(ctx, c.ID)
	out := map[string]int64{}
	for i := range tables {
		out[tables[i].TargetName] = max(tables[i].BytesLanded, tables[i].EstBytes)
	}
	return out, err
}
