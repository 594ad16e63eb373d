package postgres

import (
	"context"
	"slices"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Run carries out a person's statement on a connection of its own, where names mean
// what they usually do.
func (d *database) Run(ctx context.Context, sql string) error {
	conn, err := d.connect(ctx, map[string]string{"search_path": `"$user", public`})
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	_, err = conn.Exec(ctx, sql)
	return d.explain(err)
}

// Extras lists views and routines of the planned tables' schemas, oldest first, and
// the triggers of the tables.
func (d *database) Extras(ctx context.Context, plans []domain.TablePlan,
	kinds []domain.Carried) ([]engine.Object, error) {
	var schemas, tables []string
	for _, p := range plans {
		if !slices.Contains(schemas, p.Source.Schema) {
			schemas = append(schemas, p.Source.Schema)
		}
		tables = append(tables, p.Source.Schema+"\x1f"+p.Source.Name)
	}
	var out []engine.Object
	for _, what := range []struct {
		kind domain.Carried
		sql  string
		with []string
	}{
		{domain.CarryRoutines, `
SELECT CASE p.prokind WHEN 'p' THEN 'procedure' ELSE 'function' END, p.proname, n.nspname, '', pg_get_functiondef(p.oid)
  FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
 WHERE n.nspname = ANY ($1) AND p.prokind IN ('f', 'p', 'w')
   AND NOT EXISTS (SELECT 1 FROM pg_depend x WHERE x.classid = 'pg_proc'::regclass AND x.objid = p.oid
     AND x.deptype = 'e')
 ORDER BY p.oid`, schemas},
		{domain.CarryViews, `
SELECT CASE c.relkind WHEN 'm' THEN 'materialized view' ELSE 'view' END, c.relname, n.nspname, '',
       format('CREATE %s %I.%I AS %s', CASE c.relkind WHEN 'm' THEN 'MATERIALIZED VIEW' ELSE 'OR REPLACE VIEW' END,
         n.nspname, c.relname, pg_get_viewdef(c.oid))
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE n.nspname = ANY ($1) AND c.relkind IN ('v', 'm')
   AND NOT EXISTS (SELECT 1 FROM pg_depend x WHERE x.classid = 'pg_class'::regclass AND x.objid = c.oid
     AND x.deptype = 'e')
 ORDER BY c.oid`, schemas},
		{domain.CarryTriggers, `
SELECT 'trigger', t.tgname, n.nspname, c.relname, pg_get_triggerdef(t.oid)
  FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE n.nspname || E'\x1f' || c.relname = ANY ($1) AND NOT t.tgisinternal AND t.tgname NOT LIKE 'dusty_ferry%'
   ORDER BY t.oid`, tables},
	} {
		if !slices.Contains(kinds, what.kind) {
			continue
		}
		rows, err := d.pool.Query(ctx, what.sql, what.with)
		if err != nil {
			return nil, d.explain(err)
		}
		var o engine.Object
		_, err = pgx.ForEachRow(rows, []any{&o.Kind, &o.Name, &o.Table.Schema, &o.Table.Name, &o.SQL}, func() error {
			out = append(out, o)
			return nil
		})
		if err != nil {
			return nil, d.explain(err)
		}
	}
	return out, nil
}
