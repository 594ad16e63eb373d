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
func (d *database) Scan(ctx context.Context, p *domain.TablePlan, s engine.Scope,
	visit func(fields [][]byte) error) error {
	conn, err := d.connect(ctx, map[string]string{"default_transaction_read_only": "on"})
	if err != nil {
		return err
	}
	v := &view{d: d, conn: conn}
	defer v.Close()
	statements := []string{"SELECT " + textList(p.CopiedColumns()) + " FROM " + from(p)}
	switch {
	case s.Extremes:
		statements = extremes(p)
	case s.First > 0 || s.Share == 1:
	case p.From != "":
		statements[0] += fmt.Sprintf(" WHERE random() < %f", s.Share)
	default:
		kind := "SYSTEM"
		if p.Table.Bytes < smallTable {
			kind = "BERNOULLI"
		}
		statements[0] += fmt.Sprintf(" TABLESAMPLE %s (%f)", kind, s.Share*100)
	}
	if !s.Extremes && p.Where != "" {
		statements[0] += keyRange(p, nil, nil)
	}
	if s.First > 0 {
		statements[0] += fmt.Sprintf(" LIMIT %d", s.First)
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
	for _, c := range p.CopiedColumns() {
		name, of := read(c), " FROM "+from(p)
		by := ""
		switch c.BaseType {
		case "smallint", "integer", "bigint", "numeric", "real", "double precision", "money", "date",
			"timestamp without time zone", "timestamp with time zone":
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
		longest = append(longest, "(SELECT "+name+"::text"+of+" WHERE "+name+" IS NOT NULL ORDER BY "+by+
			" DESC NULLS LAST LIMIT 1)")
	}
	of := " FROM " + from(p)
	return []string{"SELECT " + strings.Join(least, ", ") + of, "SELECT " + strings.Join(greatest, ", ") + of,
		"SELECT " + strings.Join(longest, ", ")}
}
