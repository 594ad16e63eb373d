package proof_test

import (
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/proof"
	"dustyferry/internal/domain"
)

var day = time.Date(2026, 11, 29, 6, 0, 0, 0, time.UTC)

func TestWhichComparisonCounts(t *testing.T) {
	hashes := func(n, found int64) proof.Compared {
		return proof.Compared{Number: n, Depth: domain.DepthHashes, Findings: found}
	}
	counts := func(n, found int64) proof.Compared {
		return proof.Compared{Number: n, Depth: domain.DepthCounts, Findings: found}
	}
	for name, c := range map[string]struct {
		list []proof.Compared
		want int64
	}{
		"none":                              {nil, 0},
		"hashes alone":                      {[]proof.Compared{hashes(3, 0)}, 3},
		"counts alone":                      {[]proof.Compared{counts(4, 0)}, 4},
		"clean counts do not hide hashes":   {[]proof.Compared{hashes(3, 0), counts(4, 0)}, 3},
		"counts that found more say it":     {[]proof.Compared{counts(4, 2), hashes(3, 0)}, 4},
		"old counts are settled by hashes":  {[]proof.Compared{counts(2, 2), hashes(3, 0)}, 3},
		"the newest of a depth, any order":  {[]proof.Compared{hashes(3, 0), hashes(7, 1), hashes(5, 0)}, 7},
		"findings of hashes are not hidden": {[]proof.Compared{hashes(3, 9), counts(4, 0)}, 3},
	} {
		x, ok := proof.Best(c.list)
		if ok != (c.want > 0) || x.Number != c.want {
			t.Errorf("%s: comparison %d (%v), want %d", name, x.Number, ok, c.want)
		}
	}
}

func TestWhatComparisonsProve(t *testing.T) {
	hashed := func(x proof.Compared) proof.Compared {
		x.Depth, x.Number, x.EndedAt = domain.DepthHashes, 1, day
		return x
	}
	tables := []string{"s.a", "s.b"}
	clean := hashed(proof.Compared{Rows: 35_588})
	for name, c := range map[string]struct {
		compared map[string]proof.Compared
		want     domain.Verdict
		words    string
	}{
		"all clean":        {map[string]proof.Compared{"s.a": clean, "s.b": clean}, domain.OK, "71\u2009176 rows"},
		"nothing compared": {nil, domain.Notice, "not been compared since they were loaded"},
		"one not compared": {map[string]proof.Compared{"s.a": clean}, domain.Notice,
			"1 table was of 2 not compared since they were loaded: s.b"},
		"counts found some": {map[string]proof.Compared{"s.a": clean, "s.b": {Depth: domain.DepthCounts, Findings: 901}},
			domain.Blocker, "901 rows more on one side"},
		"counts only": {map[string]proof.Compared{"s.a": clean, "s.b": {Depth: domain.DepthCounts}}, domain.Notice,
			"by counts only"},
		"open": {map[string]proof.Compared{"s.a": hashed(proof.Compared{Findings: 3, Open: 1, Equal: 2}),
			"s.b": clean}, domain.Blocker, "1 finding open, in s.a"},
		"counted beyond the kept": {map[string]proof.Compared{"s.a": hashed(proof.Compared{Findings: 12_000,
			Repaired: 10_000}), "s.b": clean}, domain.Blocker,
			"counted 2\u2009000 differences that it did not keep"},
		"repaired, not compared again": {map[string]proof.Compared{"s.a": hashed(proof.Compared{Findings: 1, Repaired: 1}),
			"s.b": clean}, domain.Notice, "1 finding was repaired and not compared again"},
		"mended": {map[string]proof.Compared{"s.a": hashed(proof.Compared{Findings: 2, Equal: 2}),
			"s.b": clean}, domain.OK, "2 rows that differed were compared again after a repair"},
	} {
		e := proof.Of("spring", tables, c.compared, domain.Notice, "")
		if e.Verdict != c.want || !strings.Contains(e.Measured, c.words) {
			t.Errorf("%s: %s, %q; want %s, %q", name, e.Verdict, e.Measured, c.want, c.words)
		}
		if (e.Verdict == domain.OK) != (e.Remedy == "") {
			t.Errorf("%s: %s with the remedy %q", name, e.Verdict, e.Remedy)
		}
	}
	// A policy that wants a comparison by hashes is not content with counts.
	e := proof.Of("spring", tables, map[string]proof.Compared{"s.a": clean, "s.b": {Depth: domain.DepthCounts}},
		domain.Blocker, "; the policy wants one")
	if e.Verdict != domain.Blocker || !strings.Contains(e.Measured, "the policy wants one, by hashes") {
		t.Errorf("%s: %s", e.Verdict, e.Measured)
	}
}

// TestWhatVouchingFoundCounts: until it is mended, or all is compared again.
func TestWhatVouchingFoundCounts(t *testing.T) {
	hashes := proof.Compared{Depth: domain.DepthHashes, Number: 5}
	for _, c := range []struct {
		vouched proof.Compared
		counts  bool
	}{
		{proof.Compared{Depth: domain.DepthVouched, Number: 6, Findings: 2, Open: 2}, true},
		{proof.Compared{Depth: domain.DepthVouched, Number: 6, Findings: 2, Equal: 1, Repaired: 1}, true},
		{proof.Compared{Depth: domain.DepthVouched, Number: 6, Findings: 2, Equal: 2}, false},
		{proof.Compared{Depth: domain.DepthVouched, Number: 4, Findings: 2, Open: 2}, false},
		{proof.Compared{Depth: domain.DepthVouched, Number: 6}, false},
	} {
		if best, ok := proof.Best([]proof.Compared{c.vouched, hashes}); !ok || (best == c.vouched) != c.counts {
			t.Errorf("%+v: %+v counts", c.vouched, best)
		}
	}
}
