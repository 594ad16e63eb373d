package records_test

import (
	"testing"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

// BenchmarkClaim is a claim and its landing in a ledger of 50,000 chunks: what bounds
// how many workers one crossing can have.
func BenchmarkClaim(b *testing.B) {
	s := open(b)
	c, _ := loading(b, s, 64, 50_000)
	for b.Loop() {
		k, err := s.Claim(b.Context(), c.ID, "w", domain.BatchHint{})
		if err != nil || k == nil {
			b.Fatal(k, err)
		}
		if err := s.Landed(b.Context(), k.ID, k.Epoch, domain.Snapshot{Xmin: 1, Xmax: 2, Log: domain.PositionAt(500)},
			rowhash.Sum{Rows: 10, Bytes: 100}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "claims/s")
}
