package chunkfate_test

import (
	"math/rand/v2"
	"testing"

	"dustyferry/internal/core/chunkfate"
)

func TestWhatBecomesOfAChunk(t *testing.T) {
	for _, x := range []struct {
		name string
		f    chunkfate.Failure
		want chunkfate.Fate
	}{
		{"a first failure", chunkfate.Failure{Attempts: 1, Most: 6}, chunkfate.TriedAgain},
		{"the last attempt", chunkfate.Failure{Attempts: 6, Most: 6}, chunkfate.Held},
		{"a refusal once", chunkfate.Failure{Attempts: 1, Most: 6, Lasting: true}, chunkfate.TriedAgain},
		{"a refusal twice", chunkfate.Failure{Attempts: 2, Most: 6, Lasting: true}, chunkfate.Held},
		{"rows that do not land", chunkfate.Failure{Attempts: 1, Most: 6, RowsRefused: true}, chunkfate.Held},
		{"a fault of ours", chunkfate.Failure{Attempts: 1, Most: 6, Fault: true}, chunkfate.Held},
		{"a server that is away, however often", chunkfate.Failure{Attempts: 60, Most: 6, Away: true}, chunkfate.Rests},
		{"a full disk that refuses rows", chunkfate.Failure{Attempts: 6, Most: 6, Away: true, Lasting: true},
			chunkfate.Rests},
		{"it stood still at the last attempt", chunkfate.Failure{Attempts: 6, Most: 6, StoodStill: true},
			chunkfate.TakenDown},
		{"a pause in the middle of a failure", chunkfate.Failure{Attempts: 6, Most: 6, LetGo: true, Away: true, Fault: true},
			chunkfate.GoesBack},
		{"one attempt and no more", chunkfate.Failure{Attempts: 1, Most: 1}, chunkfate.Held},
	} {
		if got := chunkfate.Of(x.f); got != x.want {
			t.Errorf("%s: %d, want %d", x.name, got, x.want)
		}
	}
}

// TestEveryChunkComesToAnEnd: whatever fails, a chunk whose attempts count is held by its last
// one, and one that is held had a reason.
func TestEveryChunkComesToAnEnd(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 100_000 {
		f := chunkfate.Failure{Most: 1 + rng.IntN(8), LetGo: rng.IntN(4) == 0, Away: rng.IntN(4) == 0,
			StoodStill: rng.IntN(4) == 0, Lasting: rng.IntN(3) == 0, RowsRefused: rng.IntN(6) == 0, Fault: rng.IntN(9) == 0}
		f.Attempts = 1 + rng.IntN(f.Most)
		got := chunkfate.Of(f)
		excused := f.LetGo || f.Away || f.StoodStill
		switch {
		case got == chunkfate.TriedAgain && f.Attempts == f.Most:
			t.Fatalf("%+v is tried beyond its attempts", f)
		case got == chunkfate.Held && excused:
			t.Fatalf("%+v is held, though it is no fault of the chunk's", f)
		case got == chunkfate.Held && f.Attempts < f.Most && !f.Lasting && !f.RowsRefused && !f.Fault:
			t.Fatalf("%+v is held for nothing", f)
		}
	}
}
