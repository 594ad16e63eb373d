package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// Rows that are completed from what stands on a side.

// fill gives rows the values that they leave unsaid, from the target, and returns apart
// those that are not there.
func (a *applier) fill(ctx context.Context, p *domain.TablePlan, cols []domain.Column, key []int,
	rows []domain.Row) (whole, gone []domain.Row, err error) {
	err = inPieces(rows, func(rows []domain.Row) error {
		r := arrays(pick(cols, key), key, rows, nil)
		names := make([]string, len(cols))
		for i, c := range cols {
			names[i] = "t." + quote(c.Name)
		}
		from := strings.Replace(r.from, ") AS u(", ") WITH ORDINALITY AS u(", 1)
		from = strings.TrimSuffix(from, ")") + ", ord)"
		there, err := textRows(ctx, a.conn, fmt.Sprintf("SELECT u.ord, %s FROM %s JOIN %s t ON %s", strings.Join(names, ", "),
			from, qualified(p.Target), r.match("t")), r.params)
		if err != nil {
			return a.wrap(p, err)
		}
		found := make([]domain.Row, len(rows))
		for _, t := range there {
			var at int
			if _, err := fmt.Sscan(string(t[0].Data), &at); err != nil || at < 1 || at > len(rows) {
				return fmt.Errorf("reading rows of %s: the place %q", p.Target, t[0].Data)
			}
			found[at-1] = t[1:]
		}
		for i, row := range rows {
			if found[i] == nil {
				gone = append(gone, row)
				continue
			}
			full := slices.Clone(row)
			for c := range full {
				if full[c].Kind == domain.Unchanged {
					full[c] = found[i][c]
				}
			}
			whole = append(whole, full)
		}
		return nil
	})
	return whole, gone, err
}

// Move changes a row's key: the row is taken out and put back with what the log said, so
// that columns which only an INSERT may give a value, and partitions, do not matter.
func (a *applier) Move(ctx context.Context, p *domain.TablePlan, c domain.Change) (bool, error) {
	cols := p.CopiedColumns()
	var on, values []string
	var params []any
	param := func(v domain.Value, col domain.Column) string {
		if v.Kind != domain.Present {
			return "NULL::" + col.Type
		}
		params = append(params, string(v.Data))
		return fmt.Sprintf("$%d::text::%s", len(params), col.Type)
	}
	for i, col := range cols {
		if c.New[i].Kind == domain.Unchanged {
			values = append(values, "gone."+quote(col.Name))
		} else {
			values = append(values, param(c.New[i], col))
		}
	}
	for _, k := range p.KeyIndexes(cols) {
		on = append(on, quote(cols[k].Name)+equals(cols[k])+param(c.Old[k], cols[k]))
	}
	tag, err := a.tx.Exec(ctx, fmt.Sprintf("WITH gone AS (DELETE FROM %[1]s WHERE %[2]s RETURNING *) INSERT INTO %[1]s "+
		"(%[3]s) OVERRIDING SYSTEM VALUE SELECT %[4]s FROM gone",
		qualified(p.Target), strings.Join(on, " AND "), quoteAll(columnNames(cols)), strings.Join(values, ", ")), params...)
	return tag.RowsAffected() > 0, a.wrap(p, err)
}

// FetchRow reads one row of the source as it is now.
func (d *database) FetchRow(ctx context.Context, p *domain.TablePlan, key domain.KeyValue) (domain.Row, error) {
	cols := p.CopiedColumns()
	var list, on []string
	var params []any
	for _, c := range cols {
		list = append(list, quote(c.Name))
	}
	for i, k := range p.Key {
		params = append(params, key[i])
		on = append(on, fmt.Sprintf("%s%s$%d::text::%s", quote(k), equals(*columnOf(p, k)), i+1, columnOf(p, k).Type))
	}
	rows, err := d.textRows(ctx, fmt.Sprintf("SELECT %s FROM %s WHERE %s", strings.Join(list, ", "), qualified(p.Source),
		strings.Join(on, " AND ")), params)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	w := newWriting(p)
	return w.rowOf(rows[0])
}
