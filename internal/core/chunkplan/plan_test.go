package chunkplan_test

import (
	"fmt"
	"slices"
	"testing"

	"dustyferry/internal/core/chunkplan"
	"dustyferry/internal/domain"
)

func sample(n int, f func(int) string) []domain.KeyValue {
	var out []domain.KeyValue
	for i := range n {
		out = append(out, domain.KeyValue{f(i)})
	}
	return out
}

func TestCount(t *testing.T) {
	for _, c := range []struct {
		bytes, aim int64
		want       int
	}{{0, 100, 1}, {149, 100, 1}, {151, 100, 2}, {1000, 100, 10}, {1 << 60, 1, chunkplan.MaxChunks}} {
		if got := chunkplan.Count(c.bytes, c.aim); got != c.want {
			t.Errorf("%d bytes at %d a chunk: %d chunks, want %d", c.bytes, c.aim, got, c.want)
		}
	}
}

func TestBounds(t *testing.T) {
	even := sample(1000, func(i int) string { return fmt.Sprintf("%04d", i) })
	if b := chunkplan.Bounds(even, 4); len(b) != 3 || b[0][0] != "0250" || b[2][0] != "0750" {
		t.Errorf("four even parts: %v", b)
	}
	same := sample(50, func(int) string { return "x" })
	if b := chunkplan.Bounds(same, 10); len(b) != 0 {
		t.Errorf("an all-equal sample cannot be cut: %v", b)
	}
	few := sample(3, func(i int) string { return fmt.Sprint(i) })
	if b := chunkplan.Bounds(few, 100); len(b) != 2 {
		t.Errorf("three keys make at most three parts: %v", b)
	}
	if b := chunkplan.Bounds(nil, 5); b != nil {
		t.Errorf("no sample, no bounds: %v", b)
	}
}

func TestChunksCoverEveryKeyOnce(t *testing.T) {
	bounds := chunkplan.Bounds(sample(90, func(i int) string { return fmt.Sprintf("%02d", i) }), 7)
	chunks := chunkplan.Chunks(bounds)
	for k := range 100 {
		key := fmt.Sprintf("%02d", k)
		n := 0
		for _, c := range chunks {
			if (c.Lower == nil || key >= c.Lower[0]) && (c.Upper == nil || key < c.Upper[0]) {
				n++
			}
		}
		if n != 1 {
			t.Fatalf("key %s is in %d chunks", key, n)
		}
	}
	if !slices.IsSortedFunc(chunks, func(a, b domain.Chunk) int { return a.Ordinal - b.Ordinal }) {
		t.Error("chunks are numbered in key order")
	}
}

func TestChunksCoverEveryPageOnce(t *testing.T) {
	for _, c := range []struct{ pages, chunks, want int }{{1000, 7, 7}, {3, 7, 3}, {1, 5, 1}, {0, 5, 1}, {100, 1, 1}} {
		chunks := chunkplan.Pages(domain.DiskOrder{Pages: int64(c.pages), File: "16423"}, c.chunks)
		if len(chunks) != c.want {
			t.Fatalf("%d pages in %d chunks, want %d", c.pages, len(chunks), c.want)
		}
		at := "0"
		for i, k := range chunks {
			if k.Ordinal != i || len(k.Lower) != 2 || k.Lower[0] != at || k.Lower[1] != "16423" {
				t.Errorf("%d pages: chunk %d begins at %v, want %s", c.pages, i, k.Lower, at)
			}
			if last := i == len(chunks)-1; last != (k.Upper == nil) {
				t.Errorf("%d pages: chunk %d ends at %v", c.pages, i, k.Upper)
			} else if !last {
				at = k.Upper[0]
			}
		}
	}
}
