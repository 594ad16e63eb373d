package enginetest

import (
	"errors"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
)

func text(v string) domain.Value { return domain.Value{Kind: domain.Present, Data: []byte(v)} }

func hive(id, name string) domain.Row {
	return domain.Row{text(id), text(name), text("1")}
}

// applied brings a net effect to the target under an epoch.
func (k *contract) applied(epoch int64, to domain.Position, n fold.Net) ([]domain.Row, error) {
	k.Helper()
	a, err := k.to.OpenApplier(k.Context(), k.crossing, "", epoch)
	k.ok(err)
	defer a.Close()
	defer a.Abort()
	if err := a.Begin(k.Context()); err != nil {
		return nil, err
	}
	missing, err := a.Apply(k.Context(), &k.there, n, false)
	if err != nil {
		return nil, err
	}
	return missing, a.Commit(k.Context(), to, "", 1)
}

func (k *contract) applies() {
	k.target()
	_, err := k.copied(1, nil, nil, 1)
	k.ok(err)
	if at, err := k.to.TakeStream(k.Context(), k.crossing, 1, domain.PositionAt(100)); err != nil ||
		at != domain.PositionAt(100) {
		k.Fatalf("it begins at %d, %v", at, err)
	}
	_, err = k.applied(1, domain.PositionAt(200), fold.Net{Removes: []domain.Row{hive("-100", "")},
		Patches: []domain.Row{{text("-97"), {Kind: domain.Unchanged}, text("77")}}, Puts: []domain.Row{hive("-94", "put"),
			hive("7000", "put")}})
	k.ok(err)
	if n := k.held(); n != 200 {
		k.Errorf("%d rows are there", n)
	}
	if at, _, err := k.to.StreamAt(k.Context(), k.crossing); err != nil || at != domain.PositionAt(200) {
		k.Errorf("it stands at %d, %v", at, err)
	}
	a, err := k.to.OpenApplier(k.Context(), k.crossing, "", 1)
	k.ok(err)
	k.ok(a.Begin(k.Context()))
	moved, err := a.Move(k.Context(), &k.there, domain.Change{Kind: domain.Update, Old: domain.Row{text("-97"), {}, {}},
		New: domain.Row{text("7001"), {Kind: domain.Unchanged}, text("78")}})
	k.ok(err)
	gone, err := a.Move(k.Context(), &k.there, domain.Change{Kind: domain.Update, Old: domain.Row{text("-96"), {}, {}},
		New: domain.Row{text("7002"), {Kind: domain.Unchanged}, text("78")}})
	k.ok(err)
	if !moved || gone {
		k.Errorf("a row that is there is moved: %t; one that is not: %t", moved, gone)
	}
	a.Abort()
	a.Close()
	if at, _, err := k.to.StreamAt(k.Context(), k.crossing); err != nil || at != domain.PositionAt(200) {
		k.Errorf("what was called off brought it to %d, %v", at, err)
	}
}

func (k *contract) epochs() {
	k.target()
	if at, err := k.to.TakeStream(k.Context(), k.crossing, 1, domain.PositionAt(100)); err != nil ||
		at != domain.PositionAt(100) {
		k.Fatalf("it begins at %d, %v", at, err)
	}
	put := fold.Net{Puts: []domain.Row{hive("1", "a")}}
	_, err := k.applied(1, domain.PositionAt(150), put)
	k.ok(err)
	if at, err := k.to.TakeStream(k.Context(), k.crossing, 2, domain.PositionAt(100)); err != nil ||
		at != domain.PositionAt(150) {
		k.Fatalf("the second holder begins at %d, %v", at, err)
	}
	if _, err := k.applied(1, domain.PositionAt(160), fold.Net{Puts: []domain.Row{hive("2", "b")}}); !errors.Is(err,
		domain.ErrTakenOver) {
		k.Errorf("the first holder committed: %v", err)
	}
	if _, err := k.applied(2, domain.PositionAt(140), put); !errors.Is(err, domain.ErrTakenOver) {
		k.Errorf("the place went back: %v", err)
	}
	if _, err := k.to.TakeStream(k.Context(), k.crossing, 1, domain.PositionAt(100)); !errors.Is(err,
		domain.ErrTakenOver) {
		k.Errorf("an older holder took the stream: %v", err)
	}
	if n := k.held(); n != 1 {
		k.Errorf("%d rows are there", n)
	}
	k.ok(k.to.MoveStream(k.Context(), k.crossing, 2, domain.PositionAt(70)))
	if at, _, err := k.to.StreamAt(k.Context(), k.crossing); err != nil || at != domain.PositionAt(70) {
		k.Errorf("as another server counts, it stands at %d, %v", at, err)
	}
	k.ok(k.to.ForgetStream(k.Context(), k.crossing))
	if at, err := k.to.TakeStream(k.Context(), k.crossing, 3, domain.PositionAt(10)); err != nil ||
		at != domain.PositionAt(10) {
		k.Errorf("a stream that was forgotten begins at %d, %v", at, err)
	}
}

func (k *contract) missing() {
	k.target()
	_, err := k.to.TakeStream(k.Context(), k.crossing, 1, domain.PositionAt(100))
	k.ok(err)
	missing, err := k.applied(1, domain.PositionAt(150), fold.Net{Patches: []domain.Row{{text("4"),
		{Kind: domain.Unchanged}, text("1")}}})
	if err != nil || len(missing) != 1 || string(missing[0][0].Data) != "4" {
		k.Errorf("a change of what is not there: %v, %v", missing, err)
	}
	if n := k.held(); n != 0 {
		k.Errorf("it left %d rows", n)
	}
}
