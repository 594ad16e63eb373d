// Package chunkplan cuts a table into key ranges from a sorted sample of its
// keys. It never sees the database: the sample comes from the source, sorted in
// the source's own order, and the bounds it returns are keys of that sample.
package chunkplan

import (
	"slices"
	"strconv"

	"dustyferry/internal/domain"
)

// MaxChunks bounds the ledger of one table; a larger table gets larger chunks.
const MaxChunks = 100_000

// Count returns into how many chunks a table of the given size is to be cut so
// that each carries about aim bytes. A table that is only a little over aim
// stays whole.
func Count(bytes, aim int64) int {
	if aim <= 0 || bytes <= aim+aim/2 {
		return 1
	}
	return int(min((bytes+aim-1)/aim, MaxChunks))
}

// Bounds returns at most n-1 ascending keys that cut the sample into n parts of
// about equal size. Equal neighbours are merged, so fewer come back when the
// sample is small or repeats itself.
func Bounds(sorted []domain.KeyValue, n int) []domain.KeyValue {
	var out []domain.KeyValue
	for i := 1; i < n; i++ {
		at := i * len(sorted) / n
		if at == 0 || at >= len(sorted) {
			continue
		}
		k := sorted[at]
		if slices.Equal(k, sorted[0]) || len(out) > 0 && slices.Equal(out[len(out)-1], k) {
			continue
		}
		out = append(out, k)
	}
	return out
}

// Chunks turns bounds into chunks that cover every possible key once: the
// first is open below and the last open above.
func Chunks(bounds []domain.KeyValue) []domain.Chunk {
	out := make([]domain.Chunk, len(bounds)+1)
	for i := range out {
		out[i].Ordinal = i
		out[i].State = domain.ChunkPending
		if i > 0 {
			out[i].Lower = bounds[i-1]
		}
		if i < len(bounds) {
			out[i].Upper = bounds[i]
		}
	}
	return out
}

// Pages cuts a table of so many pages into n chunks of about equal size. The first begins with page
// 0, and each names the file that the pages are of; the last is open above, for pages that come.
func Pages(o domain.DiskOrder, n int) []domain.Chunk {
	n = max(1, min(n, int(min(o.Pages, MaxChunks))))
	bound := func(i int) domain.KeyValue {
		return domain.KeyValue{strconv.FormatInt(o.Pages*int64(i)/int64(n), 10), o.File}
	}
	out := make([]domain.Chunk, n)
	for i := range out {
		out[i].Ordinal, out[i].State, out[i].Lower = i, domain.ChunkPending, bound(i)
		if i < n-1 {
			out[i].Upper = bound(i + 1)
		}
	}
	return out
}
