package postgres

import (
	"context"
	"fmt"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// smallTable is below how many bytes a share is taken row by row instead of page
// by page, which would be no fair one.
const smallTable = 64 << 20

// Scan reads rows to look at them.
func (d *database) Scan(ctx context.Context, p *domain.TablePlan, s engine.Scope, visit func(fields [][]byte) error) error {
	conn, err := d.connect(ctx, map[string]string{"default_transaction_read_only": "on"})
	if err != nil {
		return err
	}
	v := &view{d: d, conn: conn}
	defer v.Close()
	statements := []string{"SELECT " + textList(p.Carried()) + " FROM " + only(p) + qualified(p.Source)}
	switch {
	case s.Extremes:
		statements = extremes(p)
	case s.Share < 1:
		kind := "SYSTEM"
		if p.Table.Bytes < smallTable {
			kind = "BERNOULLI"
		}
		statements[0] += fmt.Sprintf(" TABLESAMPLE %s (%f)", kind, s.Share*100)
	}
	if !s.Extremes {
		statements[0] += keyRange(p, nil, nil)
	}
	for _, q := range statements {
		var asTheyAre writing
		if err := v.copyRows(ctx, q, asTheyAre.each(visit)); err != nil {
			return fmt.Errorf("looking at %s: %w", p.Source, err)
		}
	}
	return nil
}

// extremes are statements of one row each: the least and the greatest values of
// numbers and times; the longest of all others, and of numbers without a given
// form the one with the most digits behind the point.
func extremes(p *domain.TablePlan) []string {
	var least, greatest, longest []string
	for _, c := range p.Carried() {
		name, from := quote(c.Name), " FROM "+only(p)+qualified(p.Source)
		by := ""
		switch c.BaseType {
		case "smallint", "integer", "bigint", "numeric", "real", "double precision", "money", "date", "timestamp without time zone", "timestamp with time zone":
			least, greatest = append(least, "min("+name+")::text"), append(greatest, "max("+name+")::text")
			if c.BaseType == "numeric" {
				by = "scale(" + name + ")"
			}
		default:
			least, greatest = append(least, "NULL::text"), append(greatest, "NULL::text")
			by = "length(" + name + "::text)"
		}
		if by == "" {
			longest = append(longest, "NULL::text")
			continue
		}
		longest = append(longest, "(SELECT "+name+"::text"+from+" WHERE "+name+" IS NOT NULL ORDER BY "+by+" DESC NULLS LAST LIMIT 1)")
	}
	from := " FROM " + only(p) + qualified(p.Source)
	return []string{"SELECT " + strings.Join(least, ", ") + from, "SELECT " + strings.Join(greatest, ", ") + from, "SELECT " + strings.Join(longest, ", ")}
}
