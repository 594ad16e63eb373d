package enginetest

import (
	"bytes"
	"fmt"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// touches keeps which rows were touched, and forgets it.
func (k *contract) touches() {
	k.target()
	_, err := k.to.TakeStream(k.Context(), k.crossing, 1, domain.PositionAt(100))
	k.ok(err)
	k.ok(k.to.KeepTouched(k.Context()))
	name := k.there.Target.String()
	keep := func(at uint64, commit bool, list ...engine.Touched) {
		k.Helper()
		a, err := k.to.OpenApplier(k.Context(), k.crossing, "", 1)
		k.ok(err)
		defer a.Close()
		k.ok(a.Begin(k.Context()))
		k.ok(a.(engine.Toucher).Touch(k.Context(), domain.PositionAt(at), list))
		if !commit {
			a.Abort()
			return
		}
		k.ok(a.Commit(k.Context(), domain.PositionAt(at), "", 1))
	}
	packed := bytes.Repeat([]byte{0, 1, '\'', '\\', 255}, 1000)
	keep(200, true, engine.Touched{Target: name, Rows: 3, Keys: packed}, engine.Touched{Target: "x", Rows: 1,
		Keys: []byte{7}})
	keep(300, true, engine.Touched{Target: name})
	keep(400, false, engine.Touched{Target: name, Rows: 9})
	list := func(to domain.Position, behind int64, most int) []engine.Touched {
		k.Helper()
		out, err := k.to.Touched(k.Context(), k.crossing, to, behind, most)
		k.ok(err)
		return out
	}
	all := list(domain.FarAway, 0, 10)
	if len(all) != 3 || all[0].Target != name || all[0].Rows != 3 || !bytes.Equal(all[0].Keys, packed) ||
		all[1].Target != "x" || all[2].Rows != 0 || len(all[2].Keys) != 0 {
		k.Fatalf("kept: %.300s", fmt.Sprint(all))
	}
	if n := len(list(domain.PositionAt(299), 0, 10)); n != 2 {
		k.Errorf("%d are of before", n)
	}
	if some := list(domain.FarAway, all[0].ID, 1); len(some) != 1 || some[0].ID != all[1].ID {
		k.Errorf("the next one: %+v", some)
	}
	k.ok(k.to.ForgetTouched(k.Context(), "another", []int64{all[0].ID, all[1].ID, all[2].ID}))
	k.ok(k.to.ForgetTouched(k.Context(), k.crossing, []int64{all[0].ID, all[1].ID}))
	k.ok(k.to.ForgetTouched(k.Context(), k.crossing, nil))
	if left := list(domain.FarAway, 0, 10); len(left) != 1 || left[0].ID != all[2].ID {
		k.Errorf("left: %+v", left)
	}
	// What was kept before the place was known has it in the end.
	a, err := k.to.OpenApplier(k.Context(), k.crossing, "", 1)
	k.ok(err)
	defer a.Close()
	k.ok(a.Begin(k.Context()))
	touch := a.(engine.Toucher).Touch
	k.ok(touch(k.Context(), domain.FarAway, []engine.Touched{{Target: name, Rows: 1}, {Target: "y", Rows: 1}}))
	k.ok(touch(k.Context(), domain.PositionAt(500), nil))
	k.ok(a.Commit(k.Context(), domain.PositionAt(500), "", 1))
	if n := len(list(domain.PositionAt(500), all[2].ID, 10)); n != 2 {
		k.Errorf("of a large transaction %d are kept with its place", n)
	}
	k.ok(k.to.Forget(k.Context(), k.crossing))
}
