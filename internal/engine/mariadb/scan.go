package mariadb

import (
	"context"
	"fmt"
	"strings"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Scan reads rows to look at them.
func (d *database) Scan(ctx context.Context, p *domain.TablePlan, s engine.Scope, visit func(fields [][]byte) error) error {
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
	statements := []string{"SELECT " + selectedList(p) + " FROM " + qualified(p.Source) + where}
	switch {
	case s.Extremes:
		statements = extremes(p)
	case s.Share < 1:
		by := " WHERE"
		if where != "" {
			by = " AND"
		}
		statements[0] += fmt.Sprintf("%s rand() < %f", by, s.Share)
	}
	for _, q := range statements {
		if err := c.readAs(ctx, p, asTheyAre, q, visit); err != nil {
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
		name := quote(c.Name)
		switch base := strings.TrimSuffix(c.BaseType, " unsigned"); {
		case plainNumber[base], base == "float", base == "double", base == "date", base == "datetime", base == "timestamp", base == "time":
			least, greatest, longest = append(least, selected(c, "min("+name+")")), append(greatest, selected(c, "max("+name+")")), append(longest, "NULL")
		default:
			one := "(SELECT " + selected(c, name) + " FROM " + qualified(p.Source) + " ORDER BY length(" + name + ") DESC LIMIT 1)"
			least, greatest, longest = append(least, "NULL"), append(greatest, "NULL"), append(longest, one)
		}
	}
	from := " FROM " + qualified(p.Source)
	return []string{"SELECT " + strings.Join(least, ", ") + from, "SELECT " + strings.Join(greatest, ", ") + from, "SELECT " + strings.Join(longest, ", ")}
}
