// Package buildorder says in which order the indexes and constraints of loaded tables are
// made, and which of them side by side.
package buildorder

import (
	"cmp"
	"slices"
)

// Object is what is to be made.
type Object struct {
	Table   string
	Foreign bool  // it ties two tables, and locks both
	Beside  bool  // it can be made beside others of its table that can
	Size    int64 // of the table's rows, bytes
}

// Queue holds what waits and what is being made. The rules:
//
// What needs its table for itself comes before the table's others, which need not wait for it
// then. Larger tables come first. Foreign keys come last, one by one, when all else stands.
type Queue[T any] struct {
	waiting, running []item[T]
}

type item[T any] struct {
	Object
	of T
}

// New returns a queue of the objects; of says what each is.
func New[T any](list []T, of func(T) Object) *Queue[T] {
	q := &Queue[T]{}
	for _, t := range list {
		q.waiting = append(q.waiting, item[T]{of(t), t})
	}
	slices.SortStableFunc(q.waiting, func(a, b item[T]) int {
		if a.Foreign != b.Foreign {
			return cmp.Compare(rank(a.Object), rank(b.Object))
		}
		return cmp.Or(cmp.Compare(b.Size, a.Size), cmp.Compare(rank(a.Object), rank(b.Object)))
	})
	return q
}

func rank(o Object) int {
	switch {
	case o.Foreign:
		return 2
	case o.Beside:
		return 1
	}
	return 0
}

// Next takes what can begin while no more than most are being made. ok is false where nothing
// can: then one that is being made has to end first, or nothing waits.
func (q *Queue[T]) Next(most int) (next T, ok bool) {
	if len(q.running) >= most {
		return next, false
	}
	for i, o := range q.waiting {
		switch {
		case o.Foreign && (i > 0 || len(q.running) > 0):
			return next, false
		case slices.ContainsFunc(q.running, func(r item[T]) bool { return r.Table == o.Table && !(o.Beside && r.Beside) }),
			slices.ContainsFunc(q.waiting[:i], func(w item[T]) bool { return w.Table == o.Table && !w.Beside }):
			continue
		}
		q.waiting = slices.Delete(q.waiting, i, i+1)
		q.running = append(q.running, o)
		return o.of, true
	}
	return next, false
}

// Ended takes out what has been made, or could not be.
func (q *Queue[T]) Ended(is func(T) bool) {
	q.running = slices.DeleteFunc(q.running, func(r item[T]) bool { return is(r.of) })
}

// Running lists what is being made.
func (q *Queue[T]) Running() []T {
	out := make([]T, len(q.running))
	for i, r := range q.running {
		out[i] = r.of
	}
	return out
}
