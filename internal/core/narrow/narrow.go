// Package narrow finds which rows differ between two sides that were read in
// consistent snapshots: first by sums over parts (key ranges, or buckets of a
// hash of the key when the two servers order keys differently), then by pairing
// the rows of the parts that differ.
package narrow

import (
	"slices"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

// Parts returns the indexes at which the two sides' sums differ.
func Parts(source, target []rowhash.Sum) []int {
	var out []int
	for i := range source {
		if !source[i].SameAs(target[i]) {
			out = append(out, i)
		}
	}
	return out
}

// Candidate is a row that seems to differ, by its key (or, without a key, by
// the hash of the whole row).
type Candidate struct {
	Kind   domain.FindingKind
	Key    string // as the reader gave it
	Copies int    // without a key: how many copies too few or too many
}

// Pairs pairs the rows of one differing part by key. Give every row of both
// sides, then ask for the candidates.
//
// Invariant: memory is one entry per key of the part that has not been seen
// alike on both sides yet.
type Pairs struct {
	open map[string]pair
}

type pair struct {
	source, target   int
	sourceH, targetH uint64
}

// NewPairs returns an empty pairing.
func NewPairs() *Pairs { return &Pairs{open: map[string]pair{}} }

// Source gives one row of the source.
func (p *Pairs) Source(key []byte, hash uint64) {
	e := p.open[string(key)]
	e.source++
	e.sourceH += hash
	p.settle(string(key), e)
}

// Target gives one row of the target.
func (p *Pairs) Target(key []byte, hash uint64) {
	e := p.open[string(key)]
	e.target++
	e.targetH += hash
	p.settle(string(key), e)
}

func (p *Pairs) settle(key string, e pair) {
	if e.source == e.target && e.sourceH == e.targetH {
		delete(p.open, key)
		return
	}
	p.open[key] = e
}

// Candidates returns what stayed unpaired, sorted by key for a stable order.
func (p *Pairs) Candidates() []Candidate {
	var out []Candidate
	for k, e := range p.open {
		c := Candidate{Key: k, Kind: domain.Differing}
		switch {
		case e.target < e.source:
			c.Kind, c.Copies = domain.MissingOnTarget, e.source-e.target
		case e.target > e.source:
			c.Kind, c.Copies = domain.ExtraOnTarget, e.target-e.source
		}
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b Candidate) int {
		if a.Key < b.Key {
			return -1
		}
		return 1
	})
	return out
}

// Columns compares two rows column by column, in text form, and returns the
// names of those that differ.
func Columns(names []string, source, target map[string]*string) []string {
	var out []string
	for _, n := range names {
		a, b := source[n], target[n]
		if (a == nil) != (b == nil) || a != nil && *a != *b {
			out = append(out, n)
		}
	}
	return out
}

// Bucket returns which of n buckets a key belongs to, the same on every side.
func Bucket(key []byte, n int) int { return int(rowhash.Of(key) % uint64(n)) }
