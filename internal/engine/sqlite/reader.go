package sqlite

import (
	"context"
	"database/sql/driver"
	"fmt"
	"math/rand/v2"
	"strings"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// selecting reads columns of a plan's rows, and what else is named. A sign before a column gives its value as it
// is stored.
func selecting(p *domain.TablePlan, cols []domain.Column, where string, also ...string) string {
	list := make([]string, len(cols), len(cols)+1)
	for i, c := range cols {
		list[i] = "+" + quote(c.Name)
		if c.Expression != "" {
			list[i] = "+(" + c.Expression + ")"
		}
	}
	from := quote(p.Source.Name)
	if p.From != "" {
		from = "(" + p.From + ") rows_of_the_query"
	}
	return "SELECT " + strings.Join(append(list, also...), ", ") + " FROM " + from + where
}

// between is the condition that selects a range of keys, and its values.
func between(p *domain.TablePlan, lower, upper domain.KeyValue) (string, []driver.Value) {
	var cond []string
	var args []driver.Value
	if p.Where != "" {
		cond = append(cond, "("+p.Where+")")
	}
	cols := p.KeyColumns()
	beyond := func(op string, bound domain.KeyValue, orNull bool) {
		names, marks := make([]string, len(cols)), make([]string, len(cols))
		for i, c := range cols {
			names[i], marks[i] = quote(c.Name), "?"
			args = append(args, value(writerOf(c).base, bound[i]))
		}
		one := "(" + strings.Join(names, ", ") + ") " + op + " (" + strings.Join(marks, ", ") + ")"
		if len(cols) == 1 {
			one = names[0] + " " + op + " ?"
		}
		if orNull { // which no range holds: it comes with the first, to be refused and not to be passed over
			one = "(" + one + " OR " + strings.Join(names, " IS NULL OR ") + " IS NULL)"
		}
		cond = append(cond, one)
	}
	if lower != nil {
		beyond(">=", lower, false)
	}
	if upper != nil {
		beyond("<", upper, lower == nil)
	}
	if len(cond) == 0 {
		return "", nil
	}
	return " WHERE " + strings.Join(cond, " AND "), args
}

// lines writes rows of a plan as fields.
type lines struct {
	*engine.FieldWriter
	write []writer
}

func newLines(p *domain.TablePlan, cols []domain.Column, convert bool) *lines {
	l := &lines{FieldWriter: engine.NewFieldWriter("sqlite", p, cols, convert)}
	for _, c := range cols {
		w := writerOf(c)
		// What another engine's values are is known to that one: here they are kept as its texts.
		w.asIs = p.CrossEngine && p.TargetSide == nil
		l.write = append(l.write, w)
	}
	return l
}

// of returns a row's fields, which are good until the next. Where one cannot be written, the fields are
// texts of what is stored.
func (l *lines) of(row []driver.Value) ([][]byte, error) {
	fields, err := l.Row(func(dst []byte, i int) ([]byte, bool, error) { return l.write[i].append(dst, row[i]) })
	if err != nil {
		return l.stored(row), err
	}
	return fields, nil
}

// stored are a row's values as texts, whatever they are.
func (l *lines) stored(row []driver.Value) [][]byte {
	out := make([][]byte, len(row))
	for i, v := range row {
		switch x := v.(type) {
		case nil:
		case []byte:
			out[i] = []byte(fmt.Sprintf(`\x%x`, x))
		default:
			out[i] = []byte(fmt.Sprint(x))
		}
	}
	return out
}

// each reads rows and hands on their fields. A row that cannot be written comes with the reason, and with its
// number in the file where that is read behind its columns.
func (d *database) each(ctx context.Context, c *conn, l *lines, sql string, args []driver.Value,
	visit func(fields [][]byte, refused error) error) error {
	return d.explain(c.rows(ctx, sql, func(row []driver.Value) error {
		fields, refused := l.of(row[:len(l.write)])
		if refused != nil && len(row) > len(l.write) {
			refused = fmt.Errorf("rowid %d: %w", row[len(l.write)], refused)
		}
		return visit(fields, refused)
	}, args...))
}

// numbers is what gives the number of a plan's row in the file, where it has one.
func (c *conn) numbers(ctx context.Context, p *domain.TablePlan) ([]string, error) {
	if p.From != "" || p.Table.Column("rowid") != nil {
		return nil, nil
	}
	n, err := c.number(ctx, "SELECT count(*) FROM pragma_table_list(?) WHERE schema = 'main' AND type = 'table' AND "+
		"wr = 0", p.Source.Name)
	if err != nil || n == 0 {
		return nil, err
	}
	return []string{"rowid"}, nil
}

// reader reads chunks, each in a read transaction.
type reader struct {
	d *database
	c *conn
}

// OpenReader opens a connection for chunks.
func (d *database) OpenReader(ctx context.Context) (engine.Reader, error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	return &reader{d, c}, nil
}

// begin opens a read transaction. The file is as it is at its first read, which is this.
func (c *conn) begin(ctx context.Context) error {
	if err := c.exec(ctx, "BEGIN"); err != nil {
		return err
	}
	return c.rows(ctx, "SELECT 1 FROM sqlite_schema LIMIT 1", func([]driver.Value) error { return nil })
}

// Begin opens a read transaction, at a mark where changes are recorded.
func (r *reader) Begin(ctx context.Context) (domain.Snapshot, error) {
	n, err := r.d.marked(ctx, r.c)
	return domain.Snapshot{Log: domain.PositionAt(uint64(max(1, n)))}, err
}

// End closes it; a writer that waited goes on.
func (r *reader) End(ctx context.Context) error { return r.d.explain(r.c.exec(ctx, "ROLLBACK")) }

func (r *reader) Close()                                { r.c.close() }
func (r *reader) Session() string                       { return "" }
func (r *reader) SupportsBinary(*domain.TablePlan) bool { return false }

// Copy hands on a chunk's rows.
func (r *reader) Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, _ bool,
	sink func([]byte) error) (rowhash.Sum, error) {
	return engine.CopyRows(func(take func([][]byte, error) error) error { return r.Rows(ctx, p, c, take) }, sink)
}

// Rows hands on a chunk's rows one by one.
func (r *reader) Rows(ctx context.Context, p *domain.TablePlan, c *domain.Chunk,
	take func([][]byte, error) error) error {
	cols := p.CopiedColumns()
	where, args := between(p, c.Lower, c.Upper)
	number, err := r.c.numbers(ctx, p)
	if err != nil {
		return r.d.explain(err)
	}
	return r.d.each(ctx, r.c, newLines(p, cols, true), selecting(p, cols, where, number...), args, take)
}

// Sample returns about want keys in order.
func (d *database) Sample(ctx context.Context, p *domain.TablePlan, want int) (out []domain.KeyValue, err error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	cols := p.KeyColumns()
	if len(cols) == 1 && cols[0].BaseType == bigint && p.Table.Rows >= counts {
		return c.spaced(ctx, p, want)
	}
	names := make([]string, len(cols))
	for i, k := range cols {
		names[i] = quote(k.Name)
	}
	key := strings.Join(names, ", ")
	every := max(1, p.Table.Rows/int64(max(1, want)))
	sql := fmt.Sprintf("SELECT %s FROM (SELECT %s, row_number() OVER (ORDER BY %s) AS place FROM %s) WHERE "+
		"(place - 1) %% %d "+
		"= 0 ORDER BY %s", strings.ReplaceAll("+"+key, ", ", ", +"), key, key, quote(p.Source.Name), every, key)
	l := newLines(p, cols, false)
	err = d.each(ctx, c, l, sql, nil, func(fields [][]byte, refused error) error {
		if refused != nil {
			return nil // of another type than the key's; a bound is none
		}
		k := make(domain.KeyValue, len(fields))
		for i, f := range fields {
			k[i] = string(f)
		}
		out = append(out, k)
		return nil
	})
	return out, err
}

// spaced are keys evenly apart between the least and the greatest, each looked up, so that the cost does not
// grow with the table.
func (c *conn) spaced(ctx context.Context, p *domain.TablePlan, want int) (out []domain.KeyValue, err error) {
	key, table := quote(p.Key[0]), quote(p.Source.Name)
	var low, high int64
	known := false
	if err := c.rows(ctx, fmt.Sprintf("SELECT (SELECT min(%s) FROM %s WHERE typeof(%[1]s) = 'integer'), "+
		"(SELECT max(%[1]s) "+
		"FROM %[2]s WHERE typeof(%[1]s) = 'integer')", key, table), func(r []driver.Value) error {
		var a, b bool
		low, a = r[0].(int64)
		high, b = r[1].(int64)
		known = a && b
		return nil
	}); err != nil || !known {
		return nil, err
	}
	step := (float64(high) - float64(low)) / float64(max(1, want))
	for i := range want {
		at := low + int64(step*float64(i))
		if err := c.rows(ctx, fmt.Sprintf("SELECT %s FROM %s WHERE %[1]s >= ? ORDER BY %[1]s LIMIT 1", key, table),
			func(r []driver.Value) error {
				n, whole := r[0].(int64)
				if k := (domain.KeyValue{fmt.Sprint(n)}); whole && (len(out) == 0 || out[len(out)-1][0] != k[0]) {
					out = append(out, k)
				}
				return nil
			}, at); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Greatest returns a column's greatest value.
func (d *database) Greatest(ctx context.Context, p *domain.TablePlan, column string) (out string, err error) {
	c, err := d.conn(ctx)
	if err != nil {
		return "", err
	}
	defer c.close()
	for _, col := range p.Columns {
		if col.Name != column {
			continue
		}
		err = d.each(ctx, c, newLines(p, []domain.Column{col}, false), "SELECT max("+quote(column)+") FROM "+
			quote(p.Source.Name), nil, func(fields [][]byte, refused error) error {
			if refused == nil && fields[0] != nil {
				out = string(fields[0])
			}
			return refused
		})
	}
	return out, err
}

// Scan reads rows to look at them.
func (d *database) Scan(ctx context.Context, p *domain.TablePlan, s engine.Scope,
	visit func([][]byte) error) error {
	c, err := d.conn(ctx)
	if err != nil {
		return err
	}
	defer c.close()
	cols := p.CopiedColumns()
	where, args := between(p, nil, nil)
	number, err := c.numbers(ctx, p)
	if err != nil {
		return d.explain(err)
	}
	sql := selecting(p, cols, where, number...)
	switch {
	case s.First > 0:
		sql += fmt.Sprintf(" LIMIT %d", s.First)
	case s.Extremes: // whichever are the least and greatest of each column
		var parts []string
		for _, k := range cols {
			for _, order := range []string{"", " DESC"} {
				parts = append(parts, fmt.Sprintf("SELECT * FROM (%s ORDER BY %s%s LIMIT 1)", sql, quote(k.Name), order))
			}
			parts = append(parts, fmt.Sprintf("SELECT * FROM (%s ORDER BY length(%s) DESC LIMIT 1)", sql, quote(k.Name)))
		}
		sql = strings.Join(parts, " UNION ALL ")
		all := args
		args = nil
		for range parts {
			args = append(args, all...)
		}
	}
	return d.each(ctx, c, newLines(p, cols, false), sql, args, func(fields [][]byte, refused error) error {
		if s.Share > 0 && s.Share < 1 && rand.Float64() >= s.Share {
			return nil
		}
		if refused != nil && s.Refused != nil {
			s.Refused(fields, cols[engine.ColumnOf(refused, cols)].Name, refused.Error())
			return nil
		}
		return visit(fields)
	})
}

// Preview returns a table's first rows.
func (d *database) Preview(ctx context.Context, t *domain.Table, limit int) (out [][]*string, err error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	p, err := d.Plan(t)
	if err != nil {
		return nil, err
	}
	l := newLines(&p, t.Columns, false)
	err = d.each(ctx, c, l, selecting(&p, t.Columns, fmt.Sprintf(" LIMIT %d", limit)), nil,
		func(fields [][]byte, _ error) error {
			out = append(out, engine.PreviewRow(fields))
			return nil
		})
	return out, err
}
