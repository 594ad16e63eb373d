package mariadb

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// view is a read-only transaction; its place in the log is always known.
type view struct {
	engine.TextView
	d *database
	c *wire
}

// OpenView opens a consistent view.
func (d *database) OpenView(ctx context.Context, exact bool, _ time.Duration) (engine.View, domain.Position, error) {
	c, at, err := d.snapshot(ctx, exact)
	if err != nil {
		return nil, domain.Position{}, err
	}
	if !exact {
		at = domain.Position{}
	}
	v := &view{d: d, c: c}
	v.Texts = v
	return v, at, nil
}

func (v *view) Close() { v.c.close() }

// Count returns the number of rows.
func (v *view) Count(ctx context.Context, p *domain.TablePlan) (int64, error) {
	var n int64
	err := v.c.rows(ctx, "SELECT count(*) FROM "+from(p)+keyRange(p, nil, nil), func(f [][]byte) (err error) {
		n, err = strconv.ParseInt(string(f[0]), 10, 64)
		return err
	})
	return n, v.d.explain(err)
}

// Range reads rows as texts, in the form of the plan.
func (v *view) Range(ctx context.Context, p *domain.TablePlan, lower, upper domain.KeyValue,
	visit func(row []byte, fields [][]byte) error) error {
	return v.each(ctx, p, keyRange(p, lower, upper), visit)
}

// At reads the rows at keys, which are in the target's form.
func (v *view) At(ctx context.Context, p *domain.TablePlan, keys []domain.KeyValue,
	visit func(row []byte, fields [][]byte) error) error {
	any := make([]string, len(keys))
	for i, k := range keys {
		any[i] = equals(p.KeyColumns(), k)
	}
	return v.each(ctx, p, " WHERE "+strings.Join(any, " OR "), visit)
}

func (v *view) each(ctx context.Context, p *domain.TablePlan, where string,
	visit func(row []byte, fields [][]byte) error) error {
	return v.d.explain(v.c.readAs(ctx, p, converters(p), selecting(p, where), visit))
}

// equals is the condition that finds a key.
func equals(cols []domain.Column, key domain.KeyValue) string {
	on := make([]string, len(cols))
	for i, c := range cols {
		on[i] = quote(c.Name) + " = " + sought(c, key[i])
	}
	return "(" + strings.Join(on, " AND ") + ")"
}

// FetchRow returns the row at the key as it is now, or nil.
func (d *database) FetchRow(ctx context.Context, p *domain.TablePlan, key domain.KeyValue) (domain.Row, error) {
	var out domain.Row
	err := d.briefly(ctx, func(c *wire) error {
		out = nil
		return c.readAs(ctx, p, converters(p), selecting(p, " WHERE "+equals(p.KeyColumns(), key)),
			func(_ []byte, fields [][]byte) error {
				out = engine.TextRow(fields)
				return nil
			})
	})
	if err != nil {
		return nil, fmt.Errorf("fetching a row of %s: %w", p.Source, err)
	}
	return out, nil
}
