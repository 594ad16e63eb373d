package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
)

// view is a read-only transaction; its place in the log is always known.
type view struct {
	d    *database
	conn *sql.Conn
}

// OpenView opens a consistent view.
func (d *database) OpenView(ctx context.Context, exact bool, _ time.Duration) (engine.View, domain.Position, error) {
	conn, at, err := d.snapshot(ctx)
	if err != nil {
		return nil, 0, err
	}
	if !exact {
		at = 0
	}
	return &view{d, conn}, at, nil
}

func (v *view) Close() {
	_ = v.conn.Raw(func(any) error { return errDrop })
	_ = v.conn.Close()
}

// Count returns the number of rows.
func (v *view) Count(ctx context.Context, p *domain.TablePlan) (int64, error) {
	var n int64
	err := v.conn.QueryRowContext(ctx, "SELECT count(*) FROM "+qualified(p.Source)).Scan(&n)
	return n, v.d.explain(err)
}

// each visits rows in the neutral form.
func (v *view) each(ctx context.Context, p *domain.TablePlan, where string, visit func(row []byte, fields [][]byte)) error {
	var row []byte
	return v.d.explain(query(ctx, v.conn, p, where, func(fields [][]byte) error {
		row = pgcopy.AppendFields(row[:0], fields)
		visit(row, fields)
		return nil
	}))
}

// Sums returns one sum for each part.
func (v *view) Sums(ctx context.Context, p *domain.TablePlan, part engine.Part, progress func(int64)) ([]rowhash.Sum, error) {
	if part.Bounds == nil {
		sums := make([]rowhash.Sum, part.Buckets)
		key := p.KeyIndexes(p.Columns)
		var buf []byte
		n := int64(0)
		err := v.each(ctx, p, "", func(row []byte, fields [][]byte) {
			buf = narrow.AppendKey(buf[:0], row, fields, key)
			sums[narrow.Bucket(buf, part.Buckets)].Add(row)
			if n++; n%50_000 == 0 {
				progress(50_000)
			}
		})
		progress(n % 50_000)
		return sums, err
	}
	sums := make([]rowhash.Sum, len(part.Bounds)+1)
	for i := range sums {
		low, high := part.Range(i)
		if err := v.each(ctx, p, keyRange(p, low, high), func(row []byte, _ [][]byte) { sums[i].Add(row) }); err != nil {
			return nil, err
		}
		progress(sums[i].Rows)
	}
	return sums, nil
}

// Rows gives key and hash of every row in the wanted parts.
func (v *view) Rows(ctx context.Context, p *domain.TablePlan, part engine.Part, want []int, visit func([]byte, uint64)) error {
	key := p.KeyIndexes(p.Columns)
	var buf []byte
	if part.Bounds != nil {
		for _, w := range want {
			low, high := part.Range(w)
			if err := v.each(ctx, p, keyRange(p, low, high), func(row []byte, fields [][]byte) {
				buf = narrow.AppendKey(buf[:0], row, fields, key)
				visit(buf, rowhash.Of(row))
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
	return v.each(ctx, p, "", func(row []byte, fields [][]byte) {
		if buf = narrow.AppendKey(buf[:0], row, fields, key); in[narrow.Bucket(buf, part.Buckets)] {
			visit(buf, rowhash.Of(row))
		}
	})
}

// Fetch returns the rows at keys; a table without a key is read through for the
// wanted hashes.
func (v *view) Fetch(ctx context.Context, p *domain.TablePlan, _ engine.Part, keys []string) (map[string][]domain.Row, error) {
	out := map[string][]domain.Row{}
	want := map[string]bool{}
	for _, k := range keys {
		want[k] = true
	}
	key := p.KeyIndexes(p.Columns)
	var buf []byte
	take := func(row []byte, fields [][]byte) {
		if buf = narrow.AppendKey(buf[:0], row, fields, key); want[string(buf)] {
			out[string(buf)] = append(out[string(buf)], rowOf(fields))
		}
	}
	if len(key) == 0 {
		return out, v.each(ctx, p, "", take)
	}
	for len(keys) > 0 { // many at a time
		n := min(len(keys), 200)
		var any []string
		for _, k := range keys[:n] {
			any = append(any, equals(p, narrow.SplitKey(k, len(p.Key))))
		}
		if err := v.each(ctx, p, " WHERE "+strings.Join(any, " OR "), take); err != nil {
			return nil, err
		}
		keys = keys[n:]
	}
	return out, nil
}

func rowOf(fields [][]byte) domain.Row {
	r := make(domain.Row, len(fields))
	for i, f := range fields {
		if f != nil {
			r[i] = domain.Value{Kind: domain.Present, Data: append([]byte{}, f...)}
		}
	}
	return r
}

// equals is the condition that finds a key, given in the target's text form.
func equals(p *domain.TablePlan, key domain.KeyValue) string {
	var on []string
	for i, name := range p.Key {
		at := p.KeyIndexes(p.Columns)[i]
		on = append(on, quote(name)+" = "+literal(key[i], other(p, at).Type == "bytea"))
	}
	return "(" + strings.Join(on, " AND ") + ")"
}

// FetchRow returns the row at the key as it is now, or nil.
func (d *database) FetchRow(ctx context.Context, p *domain.TablePlan, key domain.KeyValue) (domain.Row, error) {
	conn, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = conn.Close() }()
	var out domain.Row
	v := &view{d, conn}
	err = v.each(ctx, p, " WHERE "+equals(p, key), func(_ []byte, fields [][]byte) { out = rowOf(fields) })
	if err != nil {
		return nil, fmt.Errorf("fetching a row of %s: %w", p.Source, err)
	}
	return out, nil
}
