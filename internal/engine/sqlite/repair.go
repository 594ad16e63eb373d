package sqlite

import (
	"context"
	"database/sql/driver"
	"fmt"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

var _ engine.Repairs = &database{}

// Repair makes rows right, all or none.
func (d *database) Repair(ctx context.Context, _, _ string, _ domain.Position, p *domain.TablePlan,
	fixes []engine.Fix) error {
	var cols []domain.Column
	for _, c := range p.Columns {
		if !c.Generated {
			cols = append(cols, c)
		}
	}
	table := quote(p.Target.Name)
	names, places, equal := make([]string, len(cols)), make([]string, len(cols)), make([]string, len(cols))
	for i, c := range cols {
		names[i], places[i], equal[i] = quote(c.Name), "?", quote(c.Name)+" IS ?"
	}
	insert := fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", table, strings.Join(names, ", "), strings.Join(places, ", "))
	remove := fmt.Sprintf("DELETE FROM %s WHERE rowid IN (SELECT rowid FROM %[1]s WHERE %s LIMIT ?)", table,
		strings.Join(equal, " AND "))
	values := func(r domain.Row) ([]driver.Value, error) {
		out := make([]driver.Value, len(cols), len(cols)+1)
		for i, v := range r {
			if v.Kind != domain.Present {
				continue
			}
			var err error
			if out[i], err = stored(cols[i], kindOf(cols[i]), v.Data); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	keys := p.KeyColumns()
	d.giveUp()
	return d.transaction(ctx, func(c *conn) error {
		for _, f := range fixes {
			if f.Old != nil {
				old, err := values(f.Old)
				if err != nil {
					return err
				}
				if err := c.exec(ctx, remove, append(old, int64(max(1, f.Copies)))...); err != nil {
					return err
				}
				continue
			}
			if len(keys) > 0 {
				cond, args := make([]string, len(keys)), make([]driver.Value, len(keys))
				for i, k := range keys {
					cond[i], args[i] = quote(k.Name)+" = ?", value(writerOf(k).base, f.Key[i])
				}
				if err := c.exec(ctx, "DELETE FROM "+table+" WHERE "+strings.Join(cond, " AND "), args...); err != nil {
					return err
				}
			}
			if f.Row == nil {
				continue
			}
			row, err := values(f.Row)
			if err != nil {
				return err
			}
			for range max(1, f.Copies) {
				if err := c.exec(ctx, insert, row...); err != nil {
					return err
				}
			}
		}
		return nil
	})
}
