package interleave_test

import (
	"fmt"

	"dustyferry/internal/core/interleave"
	"dustyferry/internal/domain"
)

// A chunk was read in a snapshot that sees every transaction below 100 but 97, which was
// still running. What a captured change means depends on whether that read saw it.
func ExampleDecide() {
	read := domain.Snapshot{Xmin: 97, Xmax: 100, Running: []uint64{97}}
	for _, tx := range []uint64{96, 97, 104} {
		fmt.Println(tx, "landed:", verdict(interleave.Decide(domain.ChunkLanded, read, domain.Tx{ID: tx})))
	}
	// A chunk that is still to be read will see all that is committed by now.
	fmt.Println("104 pending:", verdict(interleave.Decide(domain.ChunkPending, domain.Snapshot{}, domain.Tx{ID: 104})))
	// Output:
	// 96 landed: drop, the read saw it
	// 97 landed: apply
	// 104 landed: apply
	// 104 pending: drop, the read saw it
}

func verdict(v interleave.Verdict) string {
	return map[interleave.Verdict]string{interleave.Drop: "drop, the read saw it", interleave.Apply: "apply",
		interleave.Wait: "wait for the read"}[v]
}
