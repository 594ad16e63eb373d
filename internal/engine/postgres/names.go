package postgres

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/naming"
	"dustyferry/internal/domain"
)

const (
	byRule    = "name it otherwise by a rule"
	byHand    = "write its statement by hand, with another name (statements, in a rule)"
	relations = "relation " // a space for each schema: tables, indexes and sequences
)

// names are all names that the plans make on the target, each with the space that it is in:
// tables, indexes and sequences share one in each schema, and tables share theirs with types.
func (d *database) names(cat *domain.Catalog, plans []domain.TablePlan) []naming.Name {
	var out []naming.Name
	for i := range plans {
		p := &plans[i]
		subject := p.Source.String()
		add := func(kind, name, space, remedy string) {
			out = append(out, naming.Name{Kind: kind, Name: name, Space: space, Subject: subject, Remedy: remedy})
		}
		add("schema", p.Target.Schema, "", byRule)
		add("table", p.Target.Name, relations+p.Target.Schema, byRule)
		for _, c := range p.TargetTableColumns() {
			add("column", c.Name, "column "+p.Target.String(), byRule)
		}
		if p.Statements["table"] == "" {
			for _, k := range p.Table.Constraints {
				if k.Kind == "check" && !k.Unproved {
					add("constraint", k.Name, "constraint "+p.Target.String(), byHand)
				}
			}
			if name := keyName(p); name != "" && !keyLater(p) {
				add("index", name, relations+p.Target.Schema, byHand)
			}
			for _, part := range p.Table.Partitions {
				add("partition", part.Table.Name, relations+part.Table.Schema, byHand)
			}
		}
	}
	subjects := map[domain.TableName]string{}
	by := map[domain.TableName]*domain.TablePlan{}
	for i := range plans {
		subjects[plans[i].Target], by[plans[i].Target] = plans[i].Source.String(), &plans[i]
	}
	for _, o := range d.Deferred(cat, plans) {
		if p := by[o.Table]; p != nil && p.Statements[o.What()] != "" {
			continue // a person gave it a name
		}
		space := "constraint " + o.Table.String()
		if o.Kind != "foreign" && o.Kind != "check" {
			space = relations + o.Table.Schema
		}
		out = append(out, naming.Name{Kind: o.Kind, Name: o.Name, Space: space, Subject: subjects[o.Table], Remedy: byHand})
	}
	for _, q := range cat.SequencesOf(plans) {
		if !q.Identity {
			out = append(out, naming.Name{Kind: "sequence", Name: q.Name.Name, Space: relations + q.Name.Schema,
				Subject: q.Name.String(), Remedy: byRule})
		}
	}
	for _, t := range cat.TypesOf(plans) {
		out = append(out, naming.Name{Kind: "type", Name: t.Name.Name, Space: relations + t.Name.Schema,
			Subject: t.Name.String(), Remedy: byRule})
	}
	return out
}

// takenNames says which names of indexes stand on the target already, as those of something
// else than the plans' own tables: what was to be made there would be taken for made.
func (d *database) takenNames(ctx context.Context, plans []domain.TablePlan,
	list []naming.Name) ([]domain.Entry, error) {
	var schemas, names []string
	for _, n := range list {
		if slices.Contains([]string{"index", "unique", "primary key", "exclude"}, n.Kind) {
			schemas, names = append(schemas, n.Space[len(relations):]), append(names, n.Name)
		}
	}
	if len(names) == 0 {
		return nil, nil
	}
	var tableSchemas, tables []string
	for i := range plans {
		tableSchemas, tables = append(tableSchemas, plans[i].Target.Schema), append(tables, plans[i].Target.Name)
	}
	rows, err := d.pool.Query(ctx, `
SELECT n.nspname, c.relname, coalesce(tn.nspname || '.' || t.relname, '')
  FROM (SELECT DISTINCT * FROM unnest($1::text[], $2::text[]) AS w (schema, name)) w
  JOIN pg_namespace n ON n.nspname = w.schema
  JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = w.name
  LEFT JOIN pg_index i ON i.indexrelid = c.oid
  LEFT JOIN pg_class t ON t.oid = i.indrelid
  LEFT JOIN pg_namespace tn ON tn.oid = t.relnamespace
 WHERE NOT EXISTS (SELECT FROM unnest($3::text[], $4::text[]) AS p (schema, name) WHERE p.schema = tn.nspname
   AND p.name = t.relname)
 ORDER BY 1, 2`, schemas, names, tableSchemas, tables)
	if err != nil {
		return nil, d.explain(err)
	}
	var out []domain.Entry
	var schema, name, of string
	_, err = pgx.ForEachRow(rows, []any{&schema, &name, &of}, func() error {
		for _, n := range list {
			if n.Name != name || n.Space != relations+schema {
				continue
			}
			what := "something of that name stands on the target already"
			if of != "" {
				what = fmt.Sprintf("an index of that name stands on the target already, of %s", of)
			}
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "name", Subject: n.Subject, Measured: n.Kind + " " +
				n.Name + ": " + what, Remedy: byHand})
		}
		return nil
	})
	return out, d.explain(err)
}
