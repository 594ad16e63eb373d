package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/domain"
)

// Plan says how a table of this server is carried.
func (d *database) Plan(t *domain.Table) (domain.TablePlan, error) {
	p := domain.TablePlan{Source: t.TableName, Target: t.TableName, Columns: t.Columns, Table: *t, Binary: true,
		KeyOrder: "source"}
	var unique []string
	if len(t.Keys) > 0 {
		unique = t.Keys[0].Columns // the primary key comes first
	}
	primary := t.PrimaryKey()
	switch {
	case t.RowIdentity == "primary":
		p.Key = unique
		if primary == nil {
			p.SetIdentity = "full"
		}
	case t.RowIdentity == "index" && len(t.IdentityKey) > 0:
		p.Key = t.IdentityKey
	case t.RowIdentity == "full":
		p.Key = unique
	default:
		p.Key, p.SetIdentity = unique, "full"
		if primary != nil {
			p.SetIdentity = "default"
		}
	}
	for _, c := range p.CopiedColumns() {
		if c.Wire == "local" {
			p.Binary = false
		}
	}
	var keyCols []domain.Column
	for _, k := range p.Key {
		c := t.Column(k)
		if c == nil || c.Generated {
			return p, domain.Invalid("the key of %s uses the generated column %s, which the log does not carry; give the "+
				"table a key of ordinary columns or leave it out", t, k)
		}
		keyCols = append(keyCols, *c)
	}
	if _, ok := keyorder.New(keyCols); ok && len(keyCols) > 0 {
		p.KeyOrder = "ours"
	}
	return p, nil
}

// minPages is how many pages a sample reads at least.
const minPages = 60

// Sample returns about want keys, or more where rows are many to a page, sorted
// in the server's own order. It reads whole pages chosen at random, so its cost
// does not grow with the table; a small table is read whole through its key.
func (d *database) Sample(ctx context.Context, p *domain.TablePlan, want int) ([]domain.KeyValue, error) {
	keys := make([]string, len(p.Key))
	for i, k := range p.Key {
		keys[i] = quote(k)
	}
	rows := p.Table.Rows
	if rows < 0 {
		rows = p.Table.Bytes / 40
	}
	sample := ""
	// Enough pages, so that chance does not decide how even the chunks become.
	pages := float64(p.Table.Bytes)/8192 + 1
	if share := max(1.2*float64(want)/float64(max(rows, 1)), minPages/pages); share < 0.5 {
		sample = fmt.Sprintf(" TABLESAMPLE SYSTEM (%.6f)", 100*share)
	}
	// Qualified, or the order would be that of the text the list makes of them.
	list, of := strings.Join(keys, ", "), "k."+strings.Join(keys, ", k.")
	sql := fmt.Sprintf("SELECT k.%s::text FROM (SELECT %s FROM %s%s%s) k ORDER BY %s",
		strings.Join(keys, "::text, k."), list, only(p), qualified(p.Source), sample, of)
	r, err := d.pool.Query(ctx, sql)
	if err != nil {
		return nil, d.explain(err)
	}
	return collectKeys(r, len(keys))
}

func collectKeys(r pgx.Rows, n int) ([]domain.KeyValue, error) {
	return pgx.CollectRows(r, func(row pgx.CollectableRow) (domain.KeyValue, error) {
		k := make(domain.KeyValue, n)
		to := make([]any, n)
		for i := range k {
			to[i] = &k[i]
		}
		return k, row.Scan(to...)
	})
}

// Locate asks the server where keys lie among bounds, in its own order, by
// sorting both together.
func (d *database) Locate(ctx context.Context, p *domain.TablePlan, bounds, keys []domain.KeyValue) ([]int, error) {
	out := make([]int, len(keys))
	var casts, names []string
	params := []any{}
	for i, k := range p.Key {
		casts = append(casts, fmt.Sprintf("u.c%d::%s AS %s", i, columnOf(p, k).Type, quote(k)))
		names = append(names, fmt.Sprintf("c%d", i))
		vals := make([]string, 0, len(bounds)+len(keys))
		for _, b := range bounds {
			vals = append(vals, b[i])
		}
		for _, x := range keys {
			vals = append(vals, x[i])
		}
		params = append(params, vals)
	}
	collated := make([]string, len(p.Key))
	for i, k := range p.Key {
		collated[i] = quote(k)
		if c := columnOf(p, k).Collation; c != "" {
			collated[i] += " COLLATE " + c
		}
	}
	marks := make([]string, len(p.Key))
	for i := range marks {
		marks[i] = fmt.Sprintf("$%d::text[]", i+1)
	}
	sql := fmt.Sprintf(`
SELECT ord, below FROM (
  SELECT ord, count(*) FILTER (WHERE ord <= %[1]d) OVER (ORDER BY %[2]s,
    (ord > %[1]d) ROWS UNBOUNDED PRECEDING) AS below
    FROM (SELECT %[3]s, u.ord FROM ROWS FROM (%[4]s) WITH ORDINALITY AS u(%[5]s, ord)) k
) x WHERE ord > %[1]d`,
		len(bounds), strings.Join(collated, ", "), strings.Join(casts, ", "),
		"unnest("+strings.Join(marks, "), unnest(")+")", strings.Join(names, ", "))
	r, err := d.pool.Query(ctx, sql, params...)
	if err != nil {
		return nil, d.explain(err)
	}
	var ord, below int
	_, err = pgx.ForEachRow(r, []any{&ord, &below}, func() error {
		out[ord-1-len(bounds)] = below
		return nil
	})
	return out, err
}
