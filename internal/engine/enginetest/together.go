package enginetest

import (
	"errors"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// landsTogether lands two chunks in one transaction.
func (k *contract) landsTogether() {
	k.target()
	middle := domain.KeyValue{"200"}
	both := func(first, epoch int64) error {
		k.Helper()
		r, err := k.from.OpenReader(k.Context())
		k.ok(err)
		defer r.Close()
		w, err := k.to.OpenWriter(k.Context(), "")
		k.ok(err)
		defer w.Close()
		snap, err := r.Begin(k.Context())
		k.ok(err)
		for i, c := range []domain.Chunk{{Upper: middle}, {Lower: middle}} {
			m := engine.Mark{Crossing: k.crossing, Chunk: first + int64(i), Epoch: epoch, Snapshot: snap}
			if err := w.Begin(k.Context(), &k.there, false, nil); err != nil {
				return err
			}
			m.Sum, err = r.Copy(k.Context(), &k.plan, &c, false, func(b []byte) error { return w.Write(k.Context(), b) })
			k.ok(err)
			if i == 1 {
				k.ok(r.End(k.Context()))
				return w.Land(k.Context(), m)
			}
			if err := w.Next(k.Context(), m); err != nil {
				return err
			}
			if n := k.held(); n != 0 {
				k.Errorf("%d rows are seen of what has not landed", n)
			}
		}
		return nil
	}
	for n := range int64(2) { // of 1 and 2, then of 3 and 4, somebody else has taken one
		taken := 1 + 3*n
		if _, err := k.to.Fence(k.Context(), k.crossing, taken, 9); err != nil {
			k.Fatal(err)
		}
		if err := both(1+2*n, 4); !errors.Is(err, domain.ErrTakenOver) {
			k.Errorf("chunk %d was taken over: %v", taken, err)
		}
		if n := k.held(); n != 0 {
			k.Errorf("beside chunk %d, which was taken over, %d rows landed", taken, n)
		}
	}
	k.ok(both(5, 1))
	marked, err := k.to.Marked(k.Context(), k.crossing)
	k.ok(err)
	if n := k.held(); n != 200 || !marked[5] || !marked[6] || marked[2] || marked[3] {
		k.Errorf("%d rows are there, with the marks %v", n, marked)
	}
}
