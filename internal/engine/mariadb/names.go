package mariadb

import (
	"context"
	"strings"

	"dustyferry/internal/core/naming"
	"dustyferry/internal/domain"
)

const (
	byRule = "name it otherwise by a rule"
	byHand = "write its statement by hand, with another name (statements, in a rule)"
)

// names are all names that the plans make on the target, each with the space that it is in:
// large and small letters are one in names of columns, indexes and foreign keys, and in those
// of tables as the server is set. Foreign keys share a space in the whole database.
func (d *database) names(cat *domain.Catalog, plans []domain.TablePlan, foldTables bool) []naming.Name {
	var out []naming.Name
	by := map[domain.TableName]*domain.TablePlan{}
	for i := range plans {
		p := &plans[i]
		by[p.Target] = p
		subject := p.Source.String()
		out = append(out, naming.Name{Kind: "table", Name: p.Target.Name, Space: "table", Fold: foldTables, Subject: subject,
			Remedy: byRule})
		for _, c := range p.TargetTableColumns() {
			out = append(out, naming.Name{Kind: "column", Name: c.Name, Space: "column " + p.Target.String(), Fold: true,
				Subject: subject, Remedy: byRule})
		}
		for _, x := range p.Table.Indexes {
			if early(p, x) && p.Statements["table"] == "" {
				out = append(out, naming.Name{Kind: "index", Name: x.Name, Space: "index " + p.Target.String(), Fold: true,
					Subject: subject, Remedy: byHand})
			}
		}
	}
	for _, o := range d.Deferred(cat, plans) {
		p := by[o.Table]
		if p == nil || p.Statements[o.What()] != "" {
			continue // a person gave it a name
		}
		space := "index " + o.Table.String()
		if o.Kind == "foreign" {
			space = "foreign key"
		}
		out = append(out, naming.Name{Kind: o.Kind, Name: o.Name, Space: space, Fold: true, Subject: p.Source.String(),
			Remedy: byHand})
	}
	return out
}

// takenNames says which names of foreign keys stand in the target's database already, as those
// of other tables than the plans' own.
func (d *database) takenNames(ctx context.Context, plans []domain.TablePlan,
	list []naming.Name) ([]domain.Entry, error) {
	rows, err := d.pool.QueryContext(ctx, "SELECT constraint_name, table_name FROM "+
		"information_schema.referential_constraints WHERE constraint_schema = ?", d.end.Database)
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	own := map[string]bool{}
	for i := range plans {
		own[strings.ToLower(plans[i].Target.Name)] = true
	}
	stands := map[string]string{}
	for rows.Next() {
		var name, table string
		if err := rows.Scan(&name, &table); err != nil {
			return nil, d.explain(err)
		}
		if !own[strings.ToLower(table)] {
			stands[strings.ToLower(name)] = table
		}
	}
	var out []domain.Entry
	for _, n := range list {
		if table, taken := stands[strings.ToLower(n.Name)]; taken && n.Space == "foreign key" {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "name", Subject: n.Subject, Measured: "foreign key " +
				n.Name + ": one of that name stands on the target already, of " + table, Remedy: byHand})
		}
	}
	return out, d.explain(rows.Err())
}
