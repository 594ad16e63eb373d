package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
)

// Catalog reads what the database holds, in a fixed number of queries however
// many tables there are.
func (d *database) Catalog(ctx context.Context) (*domain.Catalog, error) {
	tx, err := d.pool.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = tx.Rollback(ctx) }()
	c := &catalogReader{tx: tx, tables: map[uint32]*domain.Table{}}
	for _, read := range []func(context.Context) error{
		c.readTables, c.readColumns, c.readConstraints, c.readIndexes, c.readPartitions, c.readNeeds, c.readSequences,
		c.readTypes, c.readExtensions,
	} {
		if err := read(ctx); err != nil {
			return nil, fmt.Errorf("reading the catalog of %s: %w", d.name, d.explain(err))
		}
	}
	for _, oid := range c.order {
		c.cat.Tables = append(c.cat.Tables, *c.tables[oid])
	}
	return &c.cat, nil
}

type catalogReader struct {
	tx     pgx.Tx
	tables map[uint32]*domain.Table
	order  []uint32
	cat    domain.Catalog
}

func (c *catalogReader) each(ctx context.Context, sql string, row func(pgx.Rows) error) error {
	rows, err := c.tx.Query(ctx, sql)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := row(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// identityOf is how the log identifies rows of the table c, as the clause that sets it. An
// index that was dropped identifies none any more.
const identityOf = `CASE c.relreplident WHEN 'f' THEN 'FULL' WHEN 'n' THEN 'NOTHING' WHEN 'i' THEN coalesce(
         (SELECT 'USING INDEX ' || quote_ident(x.relname) FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid
           WHERE i.indrelid = c.oid AND i.indisreplident), 'NOTHING')
       ELSE 'DEFAULT' END`

// ours leaves out the system's schemas, our own, and what extensions brought.
const ours = `n.nspname NOT IN ('pg_catalog', 'information_schema', '` + bookkeeping + `')
   AND n.nspname !~ '^pg_(toast|temp)'
   AND NOT EXISTS (SELECT 1 FROM pg_depend x WHERE x.objid = c.oid AND x.deptype = 'e')`

func (c *catalogReader) readTables(ctx context.Context) error {
	return c.each(ctx, `
SELECT c.oid, n.nspname, c.relname, `+identityOf+`,
       coalesce(CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) END, ''),
       CASE WHEN c.relkind = 'p'
            THEN (SELECT coalesce(sum(greatest(l.reltuples, 0)), 0)::bigint
                    FROM `+partitionTree("c.oid")+` p JOIN pg_class l ON l.oid = p.relid WHERE p.isleaf)
            ELSE c.reltuples::bigint END,
       CASE WHEN c.relkind = 'p'
            THEN (SELECT coalesce(sum(pg_table_size(p.relid)), 0)::bigint FROM `+partitionTree("c.oid")+
		` p WHERE p.isleaf)
            ELSE pg_table_size(c.oid) END,
       CASE WHEN c.relkind = 'p'
            THEN (SELECT coalesce(sum(pg_indexes_size(p.relid)), 0)::bigint FROM `+partitionTree("c.oid")+
		` p WHERE p.isleaf)
            ELSE pg_indexes_size(c.oid) END,
       pg_has_role(c.relowner, 'USAGE'),
       coalesce(obj_description(c.oid, 'pg_class'), ''),
       coalesce(CASE WHEN c.relkind = 'p'
            THEN (SELECT md5(string_agg(l.oid || '/' || pg_relation_filenode(l.oid), ',' ORDER BY l.oid))
                    FROM `+partitionTree("c.oid")+` p JOIN pg_class l ON l.oid = p.relid WHERE p.isleaf)
            ELSE pg_relation_filenode(c.oid)::text END, '')
  FROM pg_class c
  JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'p')
   AND NOT c.relispartition
   AND c.relpersistence <> 't'
   AND `+ours+`
 ORDER BY n.nspname, c.relname`, func(r pgx.Rows) error {
		var oid uint32
		t := &domain.Table{}
		if err := r.Scan(&oid, &t.Schema, &t.Name, &t.Identity, &t.PartitionBy, &t.Rows, &t.Bytes, &t.IndexBytes, &t.Owned,
			&t.Comment, &t.Written); err != nil {
			return err
		}
		t.ID, t.RowIdentity = fmt.Sprint(oid), rowIdentity(t.Identity)
		c.tables[oid] = t
		c.order = append(c.order, oid)
		return nil
	})
}

// rowIdentity is what a clause that identifies rows means.
func rowIdentity(clause string) string {
	switch clause {
	case "DEFAULT":
		return "primary"
	case "FULL":
		return "full"
	case "NOTHING":
		return "none"
	}
	return "index"
}

// readColumns looks at every type and collation once, however many columns have it; OFFSET 0 keeps the
// server from looking at them anew for each.
func (c *catalogReader) readColumns(ctx context.Context) error {
	return c.each(ctx, `
WITH RECURSIVE cols AS (
  SELECT a.attrelid, a.attnum FROM pg_attribute a
   WHERE a.attnum > 0 AND NOT a.attisdropped
     AND a.attrelid IN (SELECT c.oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
                         WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND `+ours+`)
), used AS (
  SELECT DISTINCT a.atttypid, a.attcollation FROM cols x
    JOIN pg_attribute a ON a.attrelid = x.attrelid AND a.attnum = x.attnum
), base AS (
  SELECT oid AS id, oid AS at, typtype, typbasetype FROM pg_type WHERE oid IN (SELECT atttypid FROM used)
  UNION ALL
  SELECT b.id, t.oid, t.typtype, t.typbasetype FROM base b JOIN pg_type t ON t.oid = b.typbasetype WHERE b.typtype = 'd'
), types AS (
  SELECT b.id, format_type(t.oid, NULL) AS name, own.typcollation,
         CASE WHEN t.typtype = 'c' OR t.typsend = 0 OR t.typreceive = 0
                OR format_type(t.oid, NULL) LIKE 'reg%'
                OR (t.typelem <> 0 AND t.typlen = -1 AND (t.typelem >= 16384 OR el.typtype = 'c' OR format_type(el.oid,
                  NULL) LIKE 'reg%'))
              THEN 'local' ELSE 'portable' END AS wire,
         coalesce((SELECT CASE WHEN xn.nspname <> 'pg_catalog' THEN xn.nspname END
                     FROM pg_opclass oc JOIN pg_am am ON am.oid = oc.opcmethod AND am.amname = 'btree'
                     JOIN pg_amop ao ON ao.amopfamily = oc.opcfamily AND ao.amopstrategy = 3
                       AND ao.amoplefttype = oc.opcintype AND ao.amoprighttype = oc.opcintype
                     JOIN pg_operator op ON op.oid = ao.amopopr JOIN pg_namespace xn ON xn.oid = op.oprnamespace
                    WHERE oc.opcdefault AND oc.opcintype = t.oid), '') AS operators
    FROM base b
    JOIN pg_type t ON t.oid = b.at
    JOIN pg_type own ON own.oid = b.id
    LEFT JOIN pg_type el ON el.oid = t.typelem
   WHERE b.typtype <> 'd' OFFSET 0
), collations AS (
  SELECT co.oid AS id, quote_ident(cn.nspname) || '.' || quote_ident(co.collname) AS name,
         CASE co.collprovider
           WHEN 'd' THEN coalesce(to_jsonb(db) ->> 'datlocprovider', 'c') = 'c' AND db.datcollate IN ('C', 'POSIX')
           WHEN 'c' THEN co.collcollate IN ('C', 'POSIX')
           ELSE false END
         AND pg_encoding_to_char(db.encoding) = 'UTF8' AS bytewise -- keys are compared here as UTF-8
    FROM (SELECT DISTINCT attcollation FROM used) u JOIN pg_collation co ON co.oid = u.attcollation
    JOIN pg_namespace cn ON cn.oid = co.collnamespace
    JOIN pg_database db ON db.datname = current_database() OFFSET 0
)
SELECT a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), t.name, a.attnotnull,
       coalesce(pg_get_expr(ad.adbin, ad.adrelid), ''),
       CASE a.attidentity WHEN 'a' THEN 'always' WHEN 'd' THEN 'by default' ELSE '' END,
       coalesce(to_jsonb(a) ->> 'attgenerated', '') <> '',
       CASE WHEN a.attcollation <> 0 AND a.attcollation <> t.typcollation THEN co.name ELSE '' END,
       coalesce(co.bytewise, false), t.wire,
       a.attstorage <> 'p', coalesce(col_description(a.attrelid, a.attnum), ''), a.attnum,
         (a.attmissingval::text::text[])[1], t.operators
  FROM cols x
  JOIN pg_attribute a ON a.attrelid = x.attrelid AND a.attnum = x.attnum
  JOIN types t ON t.id = a.atttypid
  LEFT JOIN collations co ON co.id = a.attcollation
  LEFT JOIN pg_attrdef ad ON ad.adrelid = a.attrelid AND ad.adnum = a.attnum
 ORDER BY a.attrelid, a.attnum`, func(r pgx.Rows) error {
		var oid uint32
		var col domain.Column
		if err := r.Scan(&oid, &col.Name, &col.Type, &col.BaseType, &col.NotNull, &col.Default, &col.Identity, &col.Generated,
			&col.Collation, &col.ByteOrder, &col.Wire, &col.Wide, &col.Comment, &col.Number, &col.Fill,
			&col.Operators); err != nil {
			return err
		}
		if t := c.tables[oid]; t != nil {
			t.Columns = append(t.Columns, col)
		}
		return nil
	})
}

func (c *catalogReader) readConstraints(ctx context.Context) error {
	return c.each(ctx, `
SELECT k.conrelid, k.conname, k.contype::text, pg_get_constraintdef(k.oid), coalesce(fn.nspname, ''),
  coalesce(fc.relname, ''),
       ARRAY(SELECT a.attname::text FROM unnest(k.conkey) WITH ORDINALITY u(num, ord)
         JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = u.num ORDER BY u.ord),
       ARRAY(SELECT a.attname::text FROM unnest(k.confkey) WITH ORDINALITY u(num, ord)
         JOIN pg_attribute a ON a.attrelid = k.confrelid AND a.attnum = u.num ORDER BY u.ord),
       CASE k.confupdtype WHEN 'c' THEN ' ON UPDATE CASCADE' WHEN 'n' THEN ' ON UPDATE SET NULL'
         WHEN 'd' THEN ' ON UPDATE SET DEFAULT' ELSE '' END ||
       CASE k.confdeltype WHEN 'c' THEN ' ON DELETE CASCADE' WHEN 'n' THEN ' ON DELETE SET NULL'
         WHEN 'd' THEN ' ON DELETE SET DEFAULT' ELSE '' END
  FROM pg_constraint k
  LEFT JOIN pg_class fc ON fc.oid = k.confrelid
  LEFT JOIN pg_namespace fn ON fn.oid = fc.relnamespace
 WHERE (k.contype IN ('c', 'u', 'x', 'f') OR k.contype = 'p' AND k.condeferrable) AND k.conrelid <> 0
   AND k.conparentid = 0
 ORDER BY k.conrelid, k.conname`, func(r pgx.Rows) error {
		var oid uint32
		var k domain.Constraint
		var kind string
		if err := r.Scan(&oid, &k.Name, &kind, &k.Definition, &k.References.Schema, &k.References.Name, &k.Columns,
			&k.ReferenceColumns, &k.Rules); err != nil {
			return err
		}
		k.Unproved = strings.HasSuffix(k.Definition, " NOT VALID")
		k.Kind = map[string]string{"c": "check", "u": "unique", "p": "unique", "x": "exclude", "f": "foreign"}[kind]
		if t := c.tables[oid]; t != nil {
			t.Constraints = append(t.Constraints, k)
		}
		return nil
	})
}

func (c *catalogReader) readIndexes(ctx context.Context) error {
	return c.each(ctx, `
SELECT i.indrelid, ic.relname, i.indisprimary, i.indisunique, i.indisreplident,
       i.indisunique AND i.indimmediate AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL
         AND NOT EXISTS (SELECT 1 FROM pg_attribute a
                          WHERE a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey[0:i.indnkeyatts - 1])
                            AND NOT a.attnotnull),
       EXISTS (SELECT 1 FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x')),
       -- Of a partitioned table's index the server says ONLY, which would leave its partitions without.
       coalesce(CASE ic.relkind WHEN 'I' THEN regexp_replace(pg_get_indexdef(i.indexrelid), ' ON ONLY ', ' ON ') ELSE pg_get_indexdef(i.indexrelid) END, ''), -- of one that is being dropped: nothing
       ARRAY(SELECT a.attname::text FROM unnest(i.indkey[0:i.indnkeyatts - 1]) WITH ORDINALITY u(num, ord)
               JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = u.num ORDER BY u.ord),
       ARRAY(SELECT a.attname::text FROM unnest(i.indkey[0:i.indnatts - 1]) WITH ORDINALITY u(num, ord)
               JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = u.num WHERE u.ord > i.indnkeyatts ORDER BY u.ord),
       CASE WHEN i.indpred IS NOT NULL THEN 'of part of the rows only' WHEN i.indexprs IS NOT NULL THEN 'of an expression'
            WHEN am.amname NOT IN ('btree', 'hash') THEN 'of the kind ' || am.amname ELSE '' END
  FROM pg_index i
  JOIN pg_class ic ON ic.oid = i.indexrelid
  JOIN pg_am am ON am.oid = ic.relam
 WHERE i.indislive AND NOT EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = i.indexrelid)
 ORDER BY i.indrelid, NOT i.indisprimary, ic.relname`, func(r pgx.Rows) error {
		var oid uint32
		var x domain.Index
		var primary, identity, key, constraint bool
		var cols, include []string
		if err := r.Scan(&oid, &x.Name, &primary, &x.Unique, &identity, &key, &constraint, &x.Definition, &cols, &include,
			&x.Why); err != nil {
			return err
		}
		t := c.tables[oid]
		if t == nil {
			return nil
		}
		if identity {
			t.IdentityKey = cols
		}
		if key {
			t.Keys = append(t.Keys, domain.Key{Columns: cols, Primary: primary, Name: x.Name, Include: include})
		}
		if !constraint {
			if x.Why == "" {
				x.Columns = cols
			}
			t.Indexes = append(t.Indexes, x)
		}
		return nil
	})
}

func (c *catalogReader) readPartitions(ctx context.Context) error {
	return c.each(ctx, `
SELECT r.oid, n.nspname, c.relname, pn.nspname, pc.relname, pg_get_expr(c.relpartbound, c.oid),
       coalesce(CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) END, ''), `+identityOf+`
  FROM pg_class r
  CROSS JOIN LATERAL `+partitionTree("r.oid")+` p
  JOIN pg_class c ON c.oid = p.relid
  JOIN pg_namespace n ON n.oid = c.relnamespace
  JOIN pg_class pc ON pc.oid = p.parentrelid
  JOIN pg_namespace pn ON pn.oid = pc.relnamespace
 WHERE r.relkind = 'p' AND NOT r.relispartition AND p.level > 0
 ORDER BY r.oid, p.level, c.relname`, func(r pgx.Rows) error {
		var oid uint32
		var p domain.Partition
		if err := r.Scan(&oid, &p.Table.Schema, &p.Table.Name, &p.Parent.Schema, &p.Parent.Name, &p.Bound, &p.By,
			&p.Identity); err != nil {
			return err
		}
		if t := c.tables[oid]; t != nil {
			t.Partitions = append(t.Partitions, p)
			// A row's old values in the log are as its partition identifies them, and the
			// log says of them what the root does: where the two differ, neither is known.
			if p.By == "" && (p.Identity != t.Identity || strings.HasPrefix(p.Identity, "USING")) {
				t.RowIdentity = "none"
			}
		}
		return nil
	})
}

// readNeeds reads functions that defaults, generated columns, checks and indexes call, and
// collations of columns, as far as they are a user's own.
func (c *catalogReader) readNeeds(ctx context.Context) error {
	return c.each(ctx, `
WITH used AS (
  SELECT ad.adrelid AS relid, 'pg_attrdef'::regclass::oid AS classid, ad.oid AS objid FROM pg_attrdef ad
  UNION ALL SELECT k.conrelid, 'pg_constraint'::regclass, k.oid FROM pg_constraint k WHERE k.contype = 'c'
    AND k.conrelid <> 0
  UNION ALL SELECT i.indrelid, 'pg_class'::regclass, i.indexrelid FROM pg_index i)
SELECT DISTINCT u.relid, 'function', p.oid::regprocedure::text, pg_get_functiondef(p.oid)
  FROM used u JOIN pg_depend d ON d.classid = u.classid AND d.objid = u.objid AND d.refclassid = 'pg_proc'::regclass
  JOIN pg_proc p ON p.oid = d.refobjid AND p.oid >= 16384 AND p.prokind <> 'a'
 WHERE NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = 'pg_proc'::regclass AND x.objid = p.oid
   AND x.deptype = 'e')
UNION ALL
SELECT DISTINCT a.attrelid, 'collation', quote_ident(n.nspname) || '.' || quote_ident(k.collname),
       format('CREATE COLLATION IF NOT EXISTS %I.%I (provider = %s, %s%s)', n.nspname, k.collname, CASE k.collprovider
         WHEN 'i' THEN 'icu' ELSE 'libc' END,
              CASE WHEN k.collprovider = 'i' THEN format('locale = %L', coalesce(to_jsonb(k) ->> 'colllocale',
                to_jsonb(k) ->> 'colliculocale', k.collcollate))
                   ELSE format('lc_collate = %L, lc_ctype = %L', k.collcollate, k.collctype) END,
              CASE WHEN to_jsonb(k) ->> 'collisdeterministic' = 'false' THEN ', deterministic = false' ELSE '' END)
  FROM pg_attribute a JOIN pg_collation k ON k.oid = a.attcollation AND k.oid >= 16384
    JOIN pg_namespace n ON n.oid = k.collnamespace
 WHERE a.attnum > 0 AND NOT a.attisdropped
 ORDER BY 1, 2, 3`, func(r pgx.Rows) error {
		var oid uint32
		var n domain.Needed
		if err := r.Scan(&oid, &n.Kind, &n.Name, &n.Definition); err != nil {
			return err
		}
		if t := c.tables[oid]; t != nil {
			t.Needs = append(t.Needs, n)
		}
		return nil
	})
}

func (c *catalogReader) readSequences(ctx context.Context) error {
	return c.each(ctx, `
SELECT n.nspname, c.relname, format_type(s.seqtypid, NULL), s.seqstart, s.seqincrement, s.seqmin, s.seqmax, s.seqcycle,
  s.seqcache,
       coalesce(tn.nspname, ''), coalesce(tc.relname, ''), coalesce(a.attname, ''), coalesce(dep.deptype = 'i', false)
  FROM pg_sequence s
  JOIN pg_class c ON c.oid = s.seqrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace
  LEFT JOIN pg_depend dep ON dep.objid = c.oid AND dep.classid = 'pg_class'::regclass
       AND dep.refclassid = 'pg_class'::regclass AND dep.deptype IN ('a', 'i') AND dep.refobjsubid > 0
  LEFT JOIN pg_class tc ON tc.oid = dep.refobjid
  LEFT JOIN pg_namespace tn ON tn.oid = tc.relnamespace
  LEFT JOIN pg_attribute a ON a.attrelid = dep.refobjid AND a.attnum = dep.refobjsubid
 WHERE c.relpersistence <> 't' AND `+ours+`
 ORDER BY n.nspname, c.relname`, func(r pgx.Rows) error {
		var s domain.Sequence
		if err := r.Scan(&s.Name.Schema, &s.Name.Name, &s.Type, &s.Start, &s.Increment, &s.Min, &s.Max, &s.Cycle, &s.Cache,
			&s.OwnedBy.Schema, &s.OwnedBy.Name, &s.OwnedColumn, &s.Identity); err != nil {
			return err
		}
		c.cat.Sequences = append(c.cat.Sequences, s)
		if !s.Identity {
			return nil
		}
		for _, t := range c.tables {
			if t.TableName == s.OwnedBy {
				if col := t.Column(s.OwnedColumn); col != nil {
					col.Counter = sequenceOptions(s)
				}
			}
		}
		return nil
	})
}

// readTypes reads user-defined types by ascending object number: a type can
// only be made of types that stood before it.
func (c *catalogReader) readTypes(ctx context.Context) error {
	return c.each(ctx, `
SELECT n.nspname, t.typname,
       CASE t.typtype
         WHEN 'e' THEN 'ENUM (' || (SELECT string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder)
           FROM pg_enum e WHERE e.enumtypid = t.oid) || ')'
         WHEN 'c' THEN '(' || (SELECT string_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod),
           ', ' ORDER BY a.attnum)
                                 FROM pg_attribute a WHERE a.attrelid = t.typrelid AND a.attnum > 0
                                   AND NOT a.attisdropped) || ')'
         WHEN 'r' THEN 'RANGE (SUBTYPE = ' || (SELECT format_type(g.rngsubtype, NULL) FROM pg_range g
           WHERE g.rngtypid = t.oid) || ')'
         ELSE format_type(t.typbasetype, t.typtypmod)
              || coalesce((SELECT ' COLLATE ' || quote_ident(cn.nspname) || '.' || quote_ident(co.collname)
                FROM pg_collation co JOIN pg_namespace cn ON cn.oid = co.collnamespace
                            JOIN pg_type b ON b.oid = t.typbasetype WHERE co.oid = t.typcollation
                              AND t.typcollation <> b.typcollation), '')
              || CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END
              || coalesce(' DEFAULT ' || t.typdefault, '')
              || coalesce((SELECT string_agg(' CONSTRAINT ' || quote_ident(k.conname) || ' ' || pg_get_constraintdef(k.oid), '') FROM pg_constraint k WHERE k.contypid = t.oid AND k.convalidated), '')
       END, t.typtype::text
  FROM pg_type t
  JOIN pg_namespace n ON n.oid = t.typnamespace
  LEFT JOIN pg_class c ON c.oid = t.typrelid
 WHERE (t.typtype IN ('e', 'd', 'r') OR t.typtype = 'c' AND c.relkind = 'c')
   AND n.nspname NOT IN ('pg_catalog', 'information_schema', '`+bookkeeping+`')
   AND n.nspname !~ '^pg_(toast|temp)'
   AND NOT EXISTS (SELECT 1 FROM pg_depend x WHERE x.objid = t.oid AND x.deptype = 'e')
 ORDER BY t.oid`, func(r pgx.Rows) error {
		var u domain.UserType
		var body, kind string
		if err := r.Scan(&u.Name.Schema, &u.Name.Name, &body, &kind); err != nil {
			return err
		}
		if kind == "d" {
			u.Definition = "CREATE DOMAIN " + qualified(u.Name) + " AS " + body
		} else {
			u.Definition = "CREATE TYPE " + qualified(u.Name) + " AS " + body
		}
		c.cat.Types = append(c.cat.Types, u)
		return nil
	})
}

func (c *catalogReader) readExtensions(ctx context.Context) error {
	c.cat.Places = map[string]string{}
	return c.each(ctx, `SELECT extname, n.nspname FROM pg_extension JOIN pg_namespace n ON n.oid = extnamespace
  WHERE extname <> 'plpgsql' ORDER BY extname`, func(r pgx.Rows) error {
		var name, place string
		err := r.Scan(&name, &place)
		c.cat.Extensions = append(c.cat.Extensions, name)
		c.cat.Places[name] = place
		return err
	})
}
