package sqlite

import (
	"context"
	"database/sql/driver"
	"fmt"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Retained is what the log holds that the crossing has not applied.
func (d *database) Retained(ctx context.Context, name string, applied domain.Position) (engine.Retained, error) {
	c, err := d.conn(ctx)
	if err != nil {
		return engine.Retained{}, err
	}
	defer c.close()
	if has, err := c.recording(ctx); err != nil || !has {
		return engine.Retained{}, d.explain(err)
	}
	upto, err := c.number(ctx, "SELECT max(upto) FROM "+readTable+" WHERE name = ?", name)
	newest := int64(0)
	if err == nil {
		newest, err = c.newest(ctx)
	}
	if err != nil {
		return engine.Retained{}, d.explain(err)
	}
	out := engine.Retained{From: domain.PositionAt(uint64(upto) + 1), To: domain.PositionAt(uint64(newest) + 1),
		Held: true}
	out.Bytes, err = d.LogBytes(ctx, out.From.Later(applied), out.To)
	return out, err
}

// LogBytes is about how many bytes of the log lie between two places: as many as its last rows have.
func (d *database) LogBytes(ctx context.Context, from, to domain.Position) (int64, error) {
	if !to.After(from) {
		return 0, nil
	}
	c, err := d.conn(ctx)
	if err != nil {
		return 0, err
	}
	defer c.close()
	var columns []string
	if err := c.rows(ctx, "SELECT name FROM pragma_table_info(?) WHERE cid > 3", func(r []driver.Value) error {
		columns = append(columns, "coalesce(length("+r[0].(string)+"), 0)")
		return nil
	}, logTable); err != nil {
		return 0, d.explain(err)
	}
	const each = 40 // number, table, kind, time and the row's own
	size, err := c.number(ctx, fmt.Sprintf("SELECT %d + coalesce(CAST(avg(%s) AS INTEGER), 0) FROM (SELECT * FROM %s "+
		"WHERE kind <> 'm' ORDER BY n DESC LIMIT 100)", each, strings.Join(append(columns, "0"), " + "), logTable))
	return int64(to.Number()-from.Number()) * size, d.explain(err)
}

// Locate says in the order of the file where keys are among bounds.
func (d *database) Locate(ctx context.Context, p *domain.TablePlan, bounds, keys []domain.KeyValue) ([]int, error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	cols := p.KeyColumns()
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(cols)), ", ")
	var args []driver.Value
	add := func(list []domain.KeyValue) string {
		rows := ""
		for i, key := range list {
			rows += fmt.Sprintf(" UNION ALL SELECT %d, %s", i, marks)
			for at, k := range cols {
				args = append(args, value(writerOf(k).base, key[at]))
			}
		}
		return rows
	}
	// Values that stand below a table's columns are compared as those are.
	names, of := list("", p.Key), numbered("c", len(cols))
	from := "SELECT -1, " + names + " FROM " + quote(p.Source.Name) + " WHERE 0"
	sql := "WITH b (i, " + of + ") AS (" + from + add(bounds) + "), k (i, " + of + ") AS (" + from + add(keys) + ") " +
		"SELECT " +
		"k.i, (SELECT count(*) FROM b WHERE (" + numbered("b.c", len(cols)) + ") <= (" + numbered("k.c", len(cols)) +
		")) FROM k ORDER BY k.i"
	out := make([]int, 0, len(keys))
	err = c.rows(ctx, sql, func(r []driver.Value) error {
		out = append(out, int(r[1].(int64)))
		return nil
	}, args...)
	return out, d.explain(err)
}

// FetchRow returns the row at the key as it is now, or nil.
func (d *database) FetchRow(ctx context.Context, p *domain.TablePlan, key domain.KeyValue) (out domain.Row, err error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	cols := p.CopiedColumns()
	cond := make([]string, len(p.Key))
	var args []driver.Value
	for i, k := range p.KeyColumns() {
		cond[i], args = quote(k.Name)+" = ?", append(args, value(writerOf(k).base, key[i]))
	}
	err = d.each(ctx, c, newLines(p, cols, true), selecting(p, cols, " WHERE "+strings.Join(cond, " AND ")), args,
		func(fields [][]byte, refused error) error {
			if refused == nil {
				out = engine.TextRow(fields)
			}
			return refused
		})
	return out, err
}
