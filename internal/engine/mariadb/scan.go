package mariadb

import (
	"context"
	"fmt"
	"strings"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/resultset"
)

// Scan reads rows to look at them.
func (d *database) Scan(ctx context.Context, p *domain.TablePlan, s engine.Scope,
	visit func(fields [][]byte) error) error {
	c, err := d.dial(ctx, append(reading, "TRANSACTION READ ONLY")...)
	if err != nil {
		return err
	}
	defer c.close()
	asTheyAre := make([]typemap.Convert, len(p.Columns))
	for i := range asTheyAre {
		asTheyAre[i] = func(dst, v []byte) ([]byte, bool, error) { return append(dst, v...), true, nil }
	}
	where := keyRange(p, nil, nil)
	statements := []string{"SELECT " + selectedList(p) + " FROM " + from(p) + where}
	switch {
	case s.Extremes:
		statements = extremes(p)
	case s.First > 0:
		statements[0] += fmt.Sprintf(" LIMIT %d", s.First)
	case s.Share < 1:
		by := " WHERE"
		if where != "" {
			by = " AND"
		}
		statements[0] += fmt.Sprintf("%s rand() < %f", by, s.Share)
	}
	for _, q := range statements {
		if err := c.readAs(ctx, p, asTheyAre, q, func(_ []byte, fields [][]byte) error { return visit(fields) }); err != nil {
			return fmt.Errorf("looking at %s: %w", p.Source, d.explain(err))
		}
	}
	return nil
}

// extremes are statements of one row each: the least and the greatest values of
// numbers and times, the longest of all others.
func extremes(p *domain.TablePlan) []string {
	var least, greatest, longest []string
	for _, c := range p.Columns {
		name := named(c)
		switch base := strings.TrimSuffix(c.BaseType, " unsigned"); {
		case plainNumber[base], base == "float", base == "double", base == "date", base == "datetime", base == "timestamp",
			base == "time":
			least, greatest, longest = append(least, selected(c, "min("+name+")")),
				append(greatest, selected(c, "max("+name+")")), append(longest, "NULL")
		default:
			one := "(SELECT " + selected(c, name) + " FROM " + from(p) + " ORDER BY length(" + name + ") DESC LIMIT 1)"
			least, greatest, longest = append(least, "NULL"), append(greatest, "NULL"), append(longest, one)
		}
	}
	of := " FROM " + from(p)
	return []string{"SELECT " + strings.Join(least, ", ") + of, "SELECT " + strings.Join(greatest, ", ") + of,
		"SELECT " + strings.Join(longest, ", ")}
}

// Describe has the server parse the query as a prepared statement.
func (d *database) Describe(ctx context.Context, query string) ([]domain.Column, error) {
	c, err := d.dial(ctx, reading...)
	if err != nil {
		return nil, err
	}
	defer c.close()
	var out []domain.Column
	err = c.prepared(ctx, query, func(k resultset.Column) {
		col := domain.Column{Name: k.Name, Type: k.Spelled(), NotNull: k.NotNull(), Wire: "portable"}
		col.BaseType, _, _ = strings.Cut(col.Type, "(")
		col.BaseType = strings.TrimSuffix(col.BaseType, " unsigned")
		if strings.HasSuffix(col.Type, " unsigned") {
			col.BaseType += " unsigned"
		}
		if k.Text() {
			col.Charset, col.Collation = "utf8mb4", "utf8mb4_general_ci"
		}
		out = append(out, col)
	})
	return out, d.explain(err)
}

// Greatest returns the greatest value of a column.
func (d *database) Greatest(ctx context.Context, p *domain.TablePlan, column string) (string, error) {
	v := ""
	err := d.briefly(ctx, func(c *wire) error {
		return c.rows(ctx, "SELECT max("+quote(column)+") FROM "+qualified(p.Source), func(f [][]byte) error {
			v = string(f[0])
			return nil
		})
	})
	return v, d.explain(err)
}
