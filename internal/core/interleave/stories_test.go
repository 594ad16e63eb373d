package interleave_test

import (
	"os"
	"strconv"
	"strings"
	"testing"

	"dustyferry/internal/core/interleave"
	"dustyferry/internal/domain"
)

// TestStories reads testdata/stories.txt: small scripts a person can read.
func TestStories(t *testing.T) {
	text, err := os.ReadFile("testdata/stories.txt")
	if err != nil {
		t.Fatal(err)
	}
	told := 0
	for story := range strings.SplitSeq(string(text), "\n\n") {
		name, steps, ok := strings.Cut(strings.TrimSpace(story), "\n")
		if !ok || strings.HasPrefix(name, "#") {
			continue
		}
		t.Run(name, func(t *testing.T) {
			var chunk domain.Chunk
			var tx domain.Tx
			for line := range strings.Lines(steps) {
				f := strings.Fields(line)
				nums := func(words []string) (out []uint64) {
					for _, w := range words {
						n, err := strconv.ParseUint(w, 10, 64)
						if err != nil {
							t.Fatalf("%q: %v", line, err)
						}
						out = append(out, n)
					}
					return out
				}
				switch f[0] {
				case "chunk":
					chunk = domain.Chunk{State: domain.ChunkState(f[1])}
					if len(f) > 2 && f[2] == "by-log" {
						chunk.Snapshot.Log = domain.PositionAt(nums(f[3:])[0])
					} else if len(f) > 2 {
						n := nums(f[2:])
						chunk.Snapshot = domain.Snapshot{Xmin: n[0], Xmax: n[1], Running: n[2:]}
					}
				case "tx":
					tx = domain.Tx{ID: nums(f[1:2])[0], Commit: domain.PositionAt(nums(f[3:])[0])}
				case "=>":
					told++
					if got := interleave.Decide(chunk.State, chunk.Snapshot, tx).String(); got != f[1] {
						t.Errorf("transaction %d: %s, the story says %s", tx.ID, got, f[1])
					}
				default:
					t.Fatalf("the story says %q", line)
				}
			}
		})
	}
	if told < 9 {
		t.Fatalf("only %d verdicts were told", told)
	}
}

func TestAllVisible(t *testing.T) {
	fresh := domain.Snapshot{Xmin: 10, Xmax: 20, Running: []uint64{15}}
	if !interleave.AllVisible(fresh, []domain.Tx{{ID: 9}, {ID: 19}}) ||
		interleave.AllVisible(fresh, []domain.Tx{{ID: 9}, {ID: 15}}) {
		t.Error("a batch is visible only when every transaction of it is")
	}
	if !interleave.AllVisible(fresh, nil) {
		t.Error("nothing is always visible")
	}
}
