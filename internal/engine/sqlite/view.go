package sqlite

import (
	"context"
	"database/sql/driver"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// view is a read transaction: the file as it is at its first read.
type view struct {
	engine.TextView
	d *database

	mu sync.Mutex // held by a read
	c  *conn      // nil: it was given up for a writer
}

// giveUp ends the views that this process has open: but for files in WAL mode they would keep every
// writer waiting, as a repair that goes by what they showed.
func (d *database) giveUp() {
	d.mu.Lock()
	open := slices.Collect(maps.Keys(d.views))
	d.mu.Unlock()
	for _, v := range open {
		v.Close()
	}
}

// reading runs f on the view's connection.
func (v *view) reading(f func(c *conn) error) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.c == nil {
		return domain.Conflict("rows of %s were repaired while it was compared; compare again", v.d.name)
	}
	return f(v.c)
}

// OpenView opens a view. Its place is known where changes are recorded: it is a mark.
func (d *database) OpenView(ctx context.Context, exact bool, _ time.Duration) (engine.View, domain.Position, error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, domain.Position{}, err
	}
	var at domain.Position
	if exact {
		var n int64
		if n, err = d.marked(ctx, c); err == nil && n == 0 {
			err = domain.Conflict("%s has no log: what it was at a moment cannot be compared exactly while it is written to",
				d.name)
		}
		at = domain.PositionAt(uint64(n))
	} else {
		err = d.explain(c.begin(ctx))
	}
	if err != nil {
		c.close()
		return nil, domain.Position{}, err
	}
	v := &view{d: d, c: c}
	v.Texts = v
	d.mu.Lock()
	defer d.mu.Unlock()
	d.views[v] = true
	return v, at, nil
}

// Close ends the view.
func (v *view) Close() {
	v.d.mu.Lock()
	delete(v.d.views, v)
	v.d.mu.Unlock()
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.c != nil {
		v.c.close()
		v.c = nil
	}
}

// Count returns the number of rows.
func (v *view) Count(ctx context.Context, p *domain.TablePlan) (n int64, err error) {
	where, args := between(p, nil, nil)
	sql := selecting(p, nil, where)
	sql = "SELECT count(*)" + strings.TrimPrefix(sql, "SELECT ")
	err = v.reading(func(c *conn) error {
		return c.rows(ctx, sql, func(r []driver.Value) error { n = r[0].(int64); return nil }, args...)
	})
	return n, v.d.explain(err)
}

// Range reads rows as the target's texts.
func (v *view) Range(ctx context.Context, p *domain.TablePlan, lower, upper domain.KeyValue,
	visit func(row []byte, fields [][]byte) error) error {
	where, args := between(p, lower, upper)
	return v.read(ctx, p, where, args, visit)
}

// together is how many keys are looked for at once.
const together = 200

// At reads the rows at keys.
func (v *view) At(ctx context.Context, p *domain.TablePlan, keys []domain.KeyValue,
	visit func(row []byte, fields [][]byte) error) error {
	cols := p.KeyColumns()
	for len(keys) > 0 {
		n := min(len(keys), together)
		any := make([]string, n)
		var args []driver.Value
		for at, k := range keys[:n] {
			cond := make([]string, len(cols))
			for i, c := range cols {
				cond[i], args = quote(c.Name)+" = ?", append(args, value(writerOf(c).base, k[i]))
			}
			any[at] = "(" + strings.Join(cond, " AND ") + ")"
		}
		if err := v.read(ctx, p, " WHERE "+strings.Join(any, " OR "), args, visit); err != nil {
			return err
		}
		keys = keys[n:]
	}
	return nil
}

func (v *view) read(ctx context.Context, p *domain.TablePlan, where string, args []driver.Value,
	visit func(row []byte, fields [][]byte) error) error {
	cols := p.ComparedColumns()
	take := func(fields [][]byte, refused error) error {
		fields = engine.Unlike(fields, refused, cols)
		return visit(engine.Row(fields), fields)
	}
	return v.reading(func(c *conn) error {
		return v.d.each(ctx, c, newLines(p, cols, true), selecting(p, cols, where), args, take)
	})
}
