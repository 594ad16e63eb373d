package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// acting says what of the target's own would act on rows that our sessions write into
// tables that stand: foreign keys and triggers, where the role may not keep them quiet,
// and triggers that no session keeps quiet.
func (d *database) acting(ctx context.Context, s server, plans []domain.TablePlan,
	set domain.Settings) ([]domain.Entry, error) {
	var names []string
	for i := range plans {
		if plans[i].ExistingRowsPolicy(set) != "replace" {
			names = append(names, qualified(plans[i].Target))
		}
	}
	rows, err := d.pool.Query(ctx, `
WITH mine AS (SELECT n AS name, to_regclass(n) AS id FROM unnest($1::text[]) n),
 tree AS (SELECT name, id FROM mine WHERE id IS NOT NULL
   UNION SELECT m.name, p.relid FROM mine m, pg_partition_tree(m.id) p WHERE m.id IS NOT NULL)
SELECT t.name, 'foreign key', k.conname::text, k.conrelid::regclass::text, 'O'
  FROM tree t JOIN pg_constraint k ON k.contype = 'f' AND k.conparentid = 0 AND (k.conrelid = t.id
    OR k.confrelid = t.id)
UNION
SELECT t.name, 'trigger', g.tgname::text, g.tgrelid::regclass::text, g.tgenabled::text
  FROM tree t JOIN pg_trigger g ON g.tgrelid = t.id AND NOT g.tgisinternal AND g.tgenabled <> 'D'
 ORDER BY 1, 2, 3`, names)
	if err != nil {
		return nil, d.explain(err)
	}
	type act struct{ Table, Kind, Name, On, Enabled string }
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[act])
	if err != nil {
		return nil, d.explain(err)
	}
	var e entries
	loud := map[string][]string{}
	var order []string
	for _, a := range list {
		if a.Kind == "trigger" && strings.HasPrefix(a.Name, "dusty_ferry") {
			continue // our own
		}
		what := fmt.Sprintf("%s %s of %s", a.Kind, quote(a.Name), a.On)
		switch {
		case s.quiet && a.Enabled == "O":
		case s.quiet:
			e.add(domain.Notice, engine.TopicActs, a.Table, "ALTER TABLE "+a.On+" ENABLE TRIGGER "+quote(a.Name)+
				", until the crossing is closed",
				"%s fires in every session, ours too: what it changes makes the rows unlike those of the source", what)
		case a.Enabled == "R":
		default:
			if len(loud[a.Table]) == 0 {
				order = append(order, a.Table)
			}
			loud[a.Table] = append(loud[a.Table], what)
		}
	}
	for _, table := range order {
		acts := loud[table]
		e.add(domain.Blocker, engine.TopicActs, table,
			"GRANT SET ON PARAMETER session_replication_role TO "+quote(s.role)+
				" (before PostgreSQL 15: a superuser's role), or drop them and make them again after the cutover",
			"role %s may not keep the target's own acts quiet, so they would change further rows when we write: %s", s.role,
			strings.Join(acts, ", "))
	}
	return e, nil
}
