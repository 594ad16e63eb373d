package mariadb

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Run carries out a person's statement.
func (d *database) Run(ctx context.Context, sql string) error {
	conn, err := d.session(ctx)
	if err != nil {
		return err
	}
	defer drop(conn) // a person's statement may have changed the session
	stop, err := d.endsWith(ctx, conn)
	if err != nil {
		return err
	}
	defer stop()
	_, err = conn.ExecContext(ctx, sql)
	return d.explain(err)
}

// Extras lists views, routines, and the triggers of the planned tables. Who defined
// them is left out: the target's own user does.
func (d *database) Extras(ctx context.Context, plans []domain.TablePlan,
	kinds []domain.Carried) ([]engine.Object, error) {
	c, err := d.dial(ctx, reading...)
	if err != nil {
		return nil, err
	}
	defer c.close()
	var out []engine.Object
	names := func(sql string) ([][2]string, error) {
		var list [][2]string
		err := c.rows(ctx, sql, func(f [][]byte) error {
			list = append(list, [2]string{string(f[0]), string(f[1])})
			return nil
		})
		return list, d.explain(err)
	}
	show := func(kind, name, table string, column int) error {
		return d.explain(c.rows(ctx, "SHOW CREATE "+kind+" "+quote(name), func(f [][]byte) error {
			if f[column] == nil {
				return domain.Conflict("the definition of %s %s may not be read; give our user the right SHOW CREATE ROUTINE, or "+
					"be its definer", strings.ToLower(kind), name)
			}
			sql := strings.ReplaceAll(definer.ReplaceAllString(string(f[column]), ""), quote(d.end.Database)+".", "")
			sql = strings.Replace(sql, "CREATE ", "CREATE OR REPLACE ", 1)
			out = append(out, engine.Object{Kind: strings.ToLower(kind), Name: name,
				Table: domain.TableName{Schema: d.end.Database, Name: table}, SQL: sql})
			return nil
		}))
	}
	here := "'" + escape.Replace(d.end.Database) + "'"
	for _, what := range []struct {
		kind   domain.Carried
		sql    string
		column int
	}{
		{domain.CarryRoutines, "SELECT routine_type, routine_name FROM information_schema.routines WHERE routine_schema = " +
			here + " AND routine_type IN ('FUNCTION', 'PROCEDURE') ORDER BY 1, 2", 2},
		{domain.CarryViews, "SELECT 'VIEW', table_name FROM information_schema.views WHERE table_schema = " + here +
			" ORDER BY 2", 1},
	} {
		if !slices.Contains(kinds, what.kind) {
			continue
		}
		list, err := names(what.sql)
		if err != nil {
			return nil, err
		}
		for _, n := range list {
			if err := show(n[0], n[1], "", what.column); err != nil {
				return nil, err
			}
		}
	}
	if !slices.Contains(kinds, domain.CarryTriggers) {
		return out, nil
	}
	list, err := names("SELECT trigger_name, event_object_table FROM information_schema.triggers WHERE trigger_schema = " +
		here + " ORDER BY event_object_table, action_order")
	if err != nil {
		return nil, err
	}
	for _, n := range list {
		if slices.ContainsFunc(plans, func(p domain.TablePlan) bool { return p.Source.Name == n[1] }) {
			if err := show("TRIGGER", n[0], n[1], 2); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

var definer = regexp.MustCompile("(?i) DEFINER=(?:`(?:[^`]|``)*`|[^ @]+)(?:@(?:`(?:[^`]|``)*`|[^ ]+))?")
