// Package rowhash sums rows so that two sets of rows can be compared whatever
// order they were read in: the number of rows and the sum, modulo 2^64, of one
// 64-bit hash for each row. A sum, unlike an exclusive or, does not let pairs
// of duplicates cancel out.
//
// The hash is XXH3 of 64 bits (Y. Collet) over a row's bytes in the engine's wire
// form, mixed with the number of bytes by the hash itself.
package rowhash

import "github.com/zeebo/xxh3"

// Sum is the sum of a set of rows.
type Sum struct {
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"` // of the rows' wire form
	Hash  uint64 `json:"hash"`
}

// Add takes one whole row.
func (s *Sum) Add(row []byte) { s.AddHash(xxh3.Hash(row), len(row)) }

// AddHash takes one row by its hash and size.
func (s *Sum) AddHash(h uint64, size int) {
	s.Rows++
	s.Bytes += int64(size)
	s.Hash += h
}

// Merge takes all rows of another sum.
func (s *Sum) Merge(o Sum) {
	s.Rows += o.Rows
	s.Bytes += o.Bytes
	s.Hash += o.Hash
}

// SameAs reports whether both sums are over the same rows, as far as count and
// hash can tell.
func (s Sum) SameAs(o Sum) bool { return s.Rows == o.Rows && s.Hash == o.Hash }

// Of returns one row's hash.
func Of(row []byte) uint64 { return xxh3.Hash(row) }

// Digest hashes a row that arrives in pieces.
type Digest = xxh3.Hasher
