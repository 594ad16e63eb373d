package engine

import (
	"context"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

// Texts reads rows of unlike sides: visit gets each row in the form of
// [Block] and its fields, which are good until the next. Columns are those that
// [domain.TablePlan.ComparedColumns] names.
type Texts interface {
	Range(ctx context.Context, p *domain.TablePlan, lower, upper domain.KeyValue,
		visit func(row []byte, fields [][]byte) error) error
	// At reads the rows at keys, in any order.
	At(ctx context.Context, p *domain.TablePlan, keys []domain.KeyValue,
		visit func(row []byte, fields [][]byte) error) error
}

// SumsOf is [View.Sums] over texts.
func SumsOf(ctx context.Context, t Texts, p *domain.TablePlan, part Part, progress func(int64)) ([]rowhash.Sum, error) {
	if part.Bounds != nil {
		sums := make([]rowhash.Sum, len(part.Bounds)+1)
		for i := range sums {
			low, high := part.Range(i)
			if err := t.Range(ctx, p, low, high, func(row []byte, _ [][]byte) error {
				sums[i].Add(row)
				return nil
			}); err != nil {
				return nil, err
			}
			progress(sums[i].Rows)
		}
		return sums, nil
	}
	const tell = 50_000 // rows between two words of progress
	sums := make([]rowhash.Sum, part.Buckets)
	key := p.KeyIndexes(p.ComparedColumns())
	var buf []byte
	n := int64(0)
	err := t.Range(ctx, p, nil, nil, func(row []byte, fields [][]byte) error {
		buf = narrow.AppendKey(buf[:0], row, fields, key)
		sums[narrow.Bucket(buf, part.Buckets)].Add(row)
		if n++; n%tell == 0 {
			progress(tell)
		}
		return nil
	})
	progress(n % tell)
	return sums, err
}

// RowsOf is [View.Rows] over texts.
func RowsOf(ctx context.Context, t Texts, p *domain.TablePlan, part Part, want []int,
	visit func([]byte, uint64)) error {
	key := p.KeyIndexes(p.ComparedColumns())
	var buf []byte
	if part.Bounds != nil {
		for _, w := range want {
			low, high := part.Range(w)
			if err := t.Range(ctx, p, low, high, func(row []byte, fields [][]byte) error {
				buf = narrow.AppendKey(buf[:0], row, fields, key)
				visit(buf, rowhash.Of(row))
				return nil
			}); err != nil {
				return err
			}
		}
		return nil
	}
	in := map[int]bool{}
	for _, w := range want {
		in[w] = true
	}
	return t.Range(ctx, p, nil, nil, func(row []byte, fields [][]byte) error {
		if buf = narrow.AppendKey(buf[:0], row, fields, key); in[narrow.Bucket(buf, part.Buckets)] {
			visit(buf, rowhash.Of(row))
		}
		return nil
	})
}

// FetchOf is [View.Fetch] over texts; a table without a key is read through for
// the wanted hashes.
func FetchOf(ctx context.Context, t Texts, p *domain.TablePlan, keys []string) (map[string][]domain.Row, error) {
	out, want := map[string][]domain.Row{}, map[string]bool{}
	for _, k := range keys {
		want[k] = true
	}
	key := p.KeyIndexes(p.ComparedColumns())
	var buf []byte
	take := func(row []byte, fields [][]byte) error {
		// What is found by a key may be written otherwise there.
		if buf = narrow.AppendKey(buf[:0], row, fields, key); len(key) > 0 || want[string(buf)] {
			out[string(buf)] = append(out[string(buf)], TextRow(fields))
		}
		return nil
	}
	if len(key) == 0 {
		return out, t.Range(ctx, p, nil, nil, take)
	}
	for len(keys) > 0 { // many at a time
		n := min(len(keys), 200)
		values := make([]domain.KeyValue, n)
		for i, k := range keys[:n] {
			values[i] = narrow.SplitKey(k, len(p.Key))
		}
		if err := t.At(ctx, p, values, take); err != nil {
			return nil, err
		}
		keys = keys[n:]
	}
	return out, nil
}

// TextRow copies a row's fields.
func TextRow(fields [][]byte) domain.Row {
	r := make(domain.Row, len(fields))
	for i, f := range fields {
		if f != nil {
			r[i] = domain.Value{Kind: domain.Present, Data: append([]byte{}, f...)}
		}
	}
	return r
}

// TextView is the part of a [View] that is alike for all whose rows are [Texts].
type TextView struct{ Texts }

// Sums returns one sum for each part.
func (v TextView) Sums(ctx context.Context, p *domain.TablePlan, part Part, progress func(int64)) ([]rowhash.Sum,
	error) {
	return SumsOf(ctx, v.Texts, p, part, progress)
}

// Rows gives key and hash of every row in the wanted parts.
func (v TextView) Rows(ctx context.Context, p *domain.TablePlan, part Part, want []int,
	visit func(key []byte, hash uint64)) error {
	return RowsOf(ctx, v.Texts, p, part, want, visit)
}

// Fetch returns the rows at keys.
func (v TextView) Fetch(ctx context.Context, p *domain.TablePlan, _ Part, keys []string) (map[string][]domain.Row,
	error) {
	return FetchOf(ctx, v.Texts, p, keys)
}
