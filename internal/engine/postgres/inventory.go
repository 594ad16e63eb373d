package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
)

// inventorySQL lists every object of the schemas $1 and of the tables $2 that is not carried by
// itself, and what a database has as a whole, each as the server itself calls it; the
// statement that would make it where the server gives one. What kinds there are is the
// server's own affair, so that one we do not know is listed as well.
var inventorySQL = `
WITH family AS (
  SELECT DISTINCT t.relid AS oid FROM unnest($2::text[]) n CROSS JOIN LATERAL ` + partitionTree("to_regclass(n)") +
	` t),
objects AS (
  SELECT d.classid, d.objid FROM pg_depend d JOIN pg_namespace s ON d.refclassid = 'pg_namespace'::regclass AND d.refobjid = s.oid AND d.deptype = 'n'
   WHERE s.nspname = ANY ($1)
  UNION
  SELECT d.classid, d.objid FROM pg_depend d JOIN family f ON d.refclassid = 'pg_class'::regclass AND d.refobjid = f.oid
   WHERE d.classid IN ('pg_rewrite'::regclass, 'pg_policy'::regclass, 'pg_statistic_ext'::regclass) AND d.deptype IN ('a', 'n', 'i')
  UNION SELECT 'pg_event_trigger'::regclass, oid FROM pg_event_trigger
  UNION SELECT 'pg_publication'::regclass, oid FROM pg_publication WHERE pubname NOT LIKE 'dusty\_ferry%'
  UNION SELECT 'pg_foreign_server'::regclass, oid FROM pg_foreign_server
  UNION SELECT 'pg_default_acl'::regclass, oid FROM pg_default_acl
  UNION SELECT 'pg_cast'::regclass, oid FROM pg_cast WHERE oid >= 16384
  UNION SELECT 'pg_language'::regclass, oid FROM pg_language WHERE oid >= 16384 AND lanname <> 'plpgsql')
SELECT i.type, i.identity, coalesce(CASE o.classid
         WHEN 'pg_rewrite'::regclass THEN pg_get_ruledef(o.objid)
         WHEN 'pg_statistic_ext'::regclass THEN pg_get_statisticsobjdef(o.objid)
         WHEN 'pg_policy'::regclass THEN (
              SELECT format('CREATE POLICY %I ON %s AS %s FOR %s%s%s', p.polname, p.polrelid::regclass, CASE WHEN p.polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END,
                     CASE p.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' WHEN 'd' THEN 'DELETE' ELSE 'ALL' END,
                     coalesce(' USING (' || pg_get_expr(p.polqual, p.polrelid) || ')', ''), coalesce(' WITH CHECK (' || pg_get_expr(p.polwithcheck, p.polrelid) || ')', ''))
                FROM pg_policy p WHERE p.oid = o.objid)
       END, '')
  FROM objects o CROSS JOIN LATERAL pg_identify_object(o.classid, o.objid, 0) i
 WHERE i.type IS NOT NULL AND i.identity IS NOT NULL
   AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = o.classid AND x.objid = o.objid AND x.deptype = 'e')
   AND NOT EXISTS (SELECT FROM pg_rewrite w JOIN pg_class v ON v.oid = w.ev_class WHERE o.classid = 'pg_rewrite'::regclass AND w.oid = o.objid AND v.relkind IN ('v', 'm'))
 ORDER BY 1, 2`

// elsewhere are kinds of object that the plans carry, or that another list tells of.
var elsewhere = map[string]bool{
	"table": true, "index": true, "sequence": true, "table constraint": true, "domain constraint": true,
	"default value": true, "type": true, "domain": true, "composite type": true,
	"collation": true, "view": true, "materialized view": true, "function": true, "procedure": true, "trigger": true,
	"toast table": true, "partitioned table": true, "partitioned index": true,
}

// notCarried are kinds of object that we know and do not carry.
var notCarried = map[string]bool{
	"rule": true, "policy": true, "statistics object": true, "aggregate": true, "operator": true, "operator class": true,
	"operator family": true, "conversion": true,
	"text search configuration": true, "text search dictionary": true, "text search parser": true,
	"text search template": true, "foreign table": true, "event trigger": true,
	"publication": true, "subscription": true, "server": true, "default acl": true, "cast": true, "language": true,
}

// inventory tells of everything that a source has and a target will not: objects, each in a
// line, and what is special about tables.
func (d *database) inventory(ctx context.Context, plans []domain.TablePlan, capture bool) ([]domain.Entry, error) {
	var e entries
	var schemas, tables []string
	chosen := map[string]bool{}
	for i := range plans {
		if plans[i].From != "" {
			continue
		}
		schemas, tables = append(schemas, plans[i].Source.Schema), append(tables, qualified(plans[i].Source))
		chosen[plans[i].Source.String()] = true
	}
	if len(tables) == 0 {
		return nil, nil
	}
	rows, err := d.pool.Query(ctx, inventorySQL, schemas, tables)
	if err != nil {
		return nil, d.explain(err)
	}
	var kind, name, statement string
	if _, err := pgx.ForEachRow(rows, []any{&kind, &name, &statement}, func() error {
		remedy := ""
		if statement != "" {
			remedy = "on the target, after the cutover: " + statement
		}
		switch {
		case elsewhere[kind]:
		case notCarried[kind]:
			e.add(domain.Notice, "not carried", name, remedy, "%s %s is not made on the target", kind, name)
		default:
			e.add(domain.Notice, "not carried", name, remedy,
				"%s %s is of a kind that is not known here; it is not made on the target", kind, name)
		}
		return nil
	}); err != nil {
		return nil, d.explain(err)
	}
	special, err := d.special(ctx, tables, capture, chosen)
	if err != nil {
		return nil, err
	}
	e = append(e, special...)
	var large int64
	if err := d.pool.QueryRow(ctx, "SELECT count(*) FROM pg_largeobject_metadata").Scan(&large); err != nil {
		return nil, d.explain(err)
	}
	if large > 0 {
		e.add(domain.Notice, "not carried", "large objects",
			"keep them in a column of type bytea, or carry them with what wrote them",
			"%d large objects of the database are not carried; columns that name them by number will name nothing", large)
	}
	return e, nil
}

// special tells what is special about tables and is not carried with them.
func (d *database) special(ctx context.Context, tables []string, capture bool,
	chosen map[string]bool) ([]domain.Entry, error) {
	var e entries
	rows, err := d.pool.Query(ctx, `
SELECT n.nspname, c.relname, c.relpersistence::text, c.relrowsecurity, coalesce(array_to_string(c.reloptions, ', '),
  ''), c.relacl IS NOT NULL,
       pg_get_userbyid(c.relowner), c.relowner <> (SELECT oid FROM pg_roles WHERE rolname = current_user),
       ARRAY(SELECT cn.nspname || chr(1) || k.relname FROM pg_inherits h JOIN pg_class k ON k.oid = h.inhrelid
         JOIN pg_namespace cn ON cn.oid = k.relnamespace
              WHERE h.inhparent = c.oid AND NOT k.relispartition ORDER BY 1),
       ARRAY(SELECT t.tgname::text FROM pg_trigger t WHERE t.tgrelid = c.oid AND NOT t.tgisinternal
         AND t.tgenabled = 'D' ORDER BY 1),
       ARRAY(SELECT x.relname::text FROM `+partitionTree("c.oid")+
		` l JOIN pg_index i ON i.indrelid = l.relid JOIN pg_class x ON x.oid = i.indexrelid
              WHERE l.level > 0 AND NOT EXISTS (SELECT FROM pg_inherits h WHERE h.inhrelid = x.oid) ORDER BY 1)
  FROM unnest($1::text[]) u(name) JOIN pg_class c ON c.oid = to_regclass(u.name) JOIN pg_namespace n ON n.oid = c.relnamespace`, tables)
	if err != nil {
		return nil, d.explain(err)
	}
	var t domain.TableName
	var persistence, options, owner string
	var secured, granted, others bool
	var children, disabled, own []string
	_, err = pgx.ForEachRow(rows, []any{&t.Schema, &t.Name, &persistence, &secured, &options, &granted, &owner, &others,
		&children, &disabled, &own}, func() error {
		name := t.String()
		if persistence == "u" {
			if capture {
				e.add(domain.Blocker, "unlogged", name, "ALTER TABLE "+qualified(t)+" SET LOGGED, or leave it out",
					"the table is unlogged, so its changes are not in the log")
			} else {
				e.add(domain.Notice, "unlogged", name, "ALTER TABLE "+qualified(t)+" SET UNLOGGED, on the target",
					"the table is unlogged; the target's will be logged")
			}
		}
		if secured {
			e.add(domain.Notice, "not carried", name, "ALTER TABLE "+qualified(t)+
				" ENABLE ROW LEVEL SECURITY, on the target, after its policies",
				"row security is on; on the target everybody who may read the table sees every row until it is set there")
		}
		if options != "" {
			e.add(domain.Notice, "not carried", name, fmt.Sprintf("ALTER TABLE %s SET (%s), on the target", qualified(t),
				options), "storage parameters are not carried: %s", options)
		}
		if granted || others {
			e.add(domain.Notice, "not carried", name, "GRANT … on the target",
				"the owner (%s) and privileges are not carried: the target's table belongs to the role that we sign in with", owner)
		}
		for _, x := range disabled {
			e.add(domain.Notice, "not carried", name,
				fmt.Sprintf("ALTER TABLE %s DISABLE TRIGGER %s, on the target, where triggers are carried", qualified(t), quote(x)),
				"trigger %s is disabled here; a carried one would be enabled", x)
		}
		for _, x := range own {
			e.add(domain.Notice, "not carried", name, "make it by hand on the target's partition",
				"index %s is of one partition alone and is not made on the target", x)
		}
		inherits(&e, t, children, chosen)
		return nil
	})
	return e, d.explain(err)
}

// inherits tells of tables that inherit from a table: each is a table of its own here.
func inherits(e *entries, t domain.TableName, children []string, chosen map[string]bool) {
	for _, line := range children {
		schema, child, _ := strings.Cut(line, "\x01")
		kid := domain.TableName{Schema: schema, Name: child}
		if !chosen[kid.String()] {
			e.add(domain.Blocker, "inheritance", t.String(), "choose "+kid.String()+" as well",
				"%s inherits from it and is not chosen: reading %s shows its rows too, which the target would not have", kid, t)
			continue
		}
		e.add(domain.Notice, "inheritance", kid.String(),
			fmt.Sprintf("after the cutover, on the target: ALTER TABLE %s INHERIT %s", qualified(kid), qualified(t)),
			"it inherits from %s; both are carried, as tables of their own", t)
	}
}
