package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Traces lists what crossings have left in this database. Row identities of tables that
// were changed are no more to be told from others: the records of a crossing hold what
// restores them.
func (d *database) Traces(ctx context.Context) ([]engine.Trace, error) {
	var out []engine.Trace
	prefix := (&domain.Crossing{}).ObjectName()
	rows, err := d.pool.Query(ctx, `
SELECT 'replication slot', slot_name::text, CASE WHEN active THEN 'read just now' ELSE 'nobody reads it' END ||
       ', keeps ' || pg_size_pretty(coalesce(pg_current_wal_lsn() - restart_lsn, 0)) || ' of log', active
  FROM pg_replication_slots WHERE starts_with(slot_name, $1) AND database = current_database() AND NOT temporary
UNION ALL
SELECT 'publication', pubname::text, (SELECT count(*) || ' tables' FROM pg_publication_rel r WHERE r.prpubid = p.oid),
  false
  FROM pg_publication p WHERE starts_with(pubname, $1)
UNION ALL
SELECT 'closed to writes', left(proname, -6), (SELECT count(*) || ' tables refuse writes' FROM pg_trigger t
  WHERE t.tgfoid = f.oid), false
  FROM pg_proc f WHERE pronamespace = to_regnamespace('dusty_ferry') AND proname LIKE '%\_moved'
 ORDER BY 2, 1 DESC`, prefix)
	if err != nil {
		return nil, d.explain(err)
	}
	var t engine.Trace
	if _, err := pgx.ForEachRow(rows, []any{&t.Kind, &t.Name, &t.Detail, &t.Busy}, func() error {
		t.Crossing = strings.TrimPrefix(t.Name, prefix)
		switch t.Kind {
		case "replication slot":
			t.Undo = "SELECT pg_drop_replication_slot(" + literal(t.Name) + ")"
		case "publication":
			t.Undo = "DROP PUBLICATION IF EXISTS " + quote(t.Name)
		default:
			t.Undo = "DROP FUNCTION IF EXISTS dusty_ferry." + gate(t.Name) + "() CASCADE"
		}
		out = append(out, t)
		return nil
	}); err != nil {
		return nil, d.explain(err)
	}
	var kept bool
	if err := d.pool.QueryRow(ctx, `SELECT to_regclass('dusty_ferry.stream') IS NOT NULL`).Scan(&kept); err != nil ||
		!kept {
		return out, d.explain(err)
	}
	rows, err = d.pool.Query(ctx, `
SELECT crossing, (SELECT count(*) FROM dusty_ferry.chunk_mark k WHERE k.crossing = x.crossing), EXISTS (SELECT
  FROM dusty_ferry.stream s WHERE s.crossing = x.crossing)
  FROM (SELECT crossing FROM dusty_ferry.stream UNION SELECT crossing FROM dusty_ferry.chunk_mark) x ORDER BY 1`)
	if err != nil {
		return nil, d.explain(err)
	}
	var uid string
	var marks int64
	var stream bool
	_, err = pgx.ForEachRow(rows, []any{&uid, &marks, &stream}, func() error {
		out = append(out, engine.Bookkeeping(uid, marks, stream, literal))
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading our bookkeeping: %w", d.explain(err))
	}
	return out, nil
}
