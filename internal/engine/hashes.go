package engine

import (
	"context"
	"fmt"
	"math/big"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

// Hashes is what a [View] can do whose server hashes rows by itself, so that one line a part crosses the
// link instead of every row.
type Hashes interface {
	// HashForm says how the server writes and hashes a plan's rows; "" if it cannot, or not so that different
	// rows surely have different texts. Where both sides' forms are the same, equal rows have equal sums.
	HashForm(p *domain.TablePlan) string
	// HashThere returns the sums of the wanted ranges of a part, without their bytes, and tells of each as it
	// comes; of buckets there is one sum, of all rows. It fails with [ErrHashLost] where the server could not
	// hash some row; the view is as good as before then.
	HashThere(ctx context.Context, p *domain.TablePlan, part Part, want []int,
		progress func(rows int64)) ([]rowhash.Sum, error)
	// TryHashes reads so many rows of a range of a part at most, as for being hashed here, and has the server
	// hash as many behind them. It returns how many there were, and how long either took.
	TryHashes(ctx context.Context, p *domain.TablePlan, part Part, which, most int) (Tried, error)
	// RoundTrip is how long the server takes to answer the shortest question.
	RoundTrip(ctx context.Context) (time.Duration, error)
}

// ErrHashLost says that a server could not hash a row by itself.
var ErrHashLost = fmt.Errorf("the server could not hash a row by itself")

// NotHashed is what stands for the hash of a row that a server could not hash: more than all hashes together
// can come to.
const NotHashed = "10000000000000000000000000000000000000000"

// SumThere makes a sum of what a server says: how many rows there are, and the sum of their hashes as a
// decimal number, which is taken modulo 2^64.
func SumThere(rows int64, sum string) (rowhash.Sum, error) {
	n, ok := new(big.Int).SetString(sum, 10)
	most, _ := new(big.Int).SetString(NotHashed, 10)
	switch {
	case !ok:
		return rowhash.Sum{}, fmt.Errorf("the server says that hashes of rows come to %q", sum)
	case n.Cmp(most) >= 0:
		return rowhash.Sum{}, ErrHashLost
	}
	n.Mod(n, new(big.Int).Lsh(big.NewInt(1), 64))
	return rowhash.Sum{Rows: rows, Hash: n.Uint64()}, nil
}

// Wanted are the conditions on the wanted ranges of a part: one for all rows where it has none.
func (p Part) Wanted(plan *domain.TablePlan, want []int, cond func(*domain.TablePlan, domain.KeyValue,
	domain.KeyValue) string) []string {
	if p.Bounds == nil {
		return []string{cond(plan, nil, nil)}
	}
	out := make([]string, len(want))
	for i, w := range want {
		lower, upper := p.Range(w)
		out[i] = cond(plan, lower, upper)
	}
	return out
}

// TimeHashes is [Hashes.TryHashes] of a server that has rows read, and others hashed, by these.
func TimeHashes(read func() (rows int, err error), hash func() error) (t Tried, err error) {
	began := time.Now()
	t.Rows, err = read()
	if t.Here = time.Since(began); err != nil {
		return t, err
	}
	began = time.Now()
	err = hash()
	t.There = time.Since(began)
	return t, err
}

// Tried is what [Hashes.TryHashes] comes to.
type Tried struct {
	Rows        int
	Here, There time.Duration // each with one round trip
}
