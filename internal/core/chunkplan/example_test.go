package chunkplan_test

import (
	"fmt"

	"dustyferry/internal/core/chunkplan"
	"dustyferry/internal/domain"
)

// Keys that were sampled, in the source's order, become the bounds of three chunks. The first
// is open below and the last above, so that every key, also one that comes later, has its
// place.
func ExampleChunks() {
	sampled := []domain.KeyValue{{"12"}, {"40"}, {"77"}, {"103"}, {"250"}, {"391"}}
	for _, c := range chunkplan.Chunks(chunkplan.Bounds(sampled, 3)) {
		fmt.Println(c.Ordinal, c.Lower, "<= key <", c.Upper)
	}
	// Output:
	// 0 [] <= key < [77]
	// 1 [77] <= key < [250]
	// 2 [250] <= key < []
}
