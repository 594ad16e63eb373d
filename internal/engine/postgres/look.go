package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"dustyferry/internal/domain"
)

// Preview reads the first rows. The transaction is read-only; cancelling the
// context cancels the statement on the server.
func (d *database) Preview(ctx context.Context, t *domain.Table, limit int) ([][]*string, error) {
	var out [][]*string
	err := pgx.BeginTxFunc(ctx, d.pool, pgx.TxOptions{AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SET LOCAL statement_timeout = '5s'; SET LOCAL lock_timeout = '1s'`); err != nil {
			return err
		}
		cols := make([]string, len(t.Columns))
		for i, c := range t.Columns {
			cols[i] = "left(" + quote(c.Name) + "::text, 201)"
		}
		rows, err := tx.Query(ctx, "SELECT ARRAY["+strings.Join(cols, ", ")+"]::text[] FROM "+qualified(t.TableName)+
			fmt.Sprintf(" LIMIT %d", limit))
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowTo[[]*string])
		return err
	})
	return out, d.explain(err)
}

// Describe has the server parse the query as a prepared statement.
func (d *database) Describe(ctx context.Context, query string) ([]domain.Column, error) {
	var out []domain.Column
	err := d.pool.AcquireFunc(ctx, func(c *pgxpool.Conn) error {
		st, err := c.Conn().Prepare(ctx, "", query)
		if err != nil {
			return err
		}
		var types []uint32
		var modifiers []int32
		for _, f := range st.Fields {
			types, modifiers = append(types, f.DataTypeOID), append(modifiers, f.TypeModifier)
		}
		rows, err := c.Query(ctx, `
WITH RECURSIVE base AS (
  SELECT oid AS id, oid AS at, typtype, typbasetype FROM pg_type WHERE oid = ANY ($1::oid[])
  UNION ALL
  SELECT b.id, t.oid, t.typtype, t.typbasetype FROM base b JOIN pg_type t ON t.oid = b.typbasetype WHERE b.typtype = 'd'
)
SELECT format_type(u.type, u.modifier), format_type(b.at, NULL)
  FROM unnest($1::oid[], $2::int[]) WITH ORDINALITY AS u (type, modifier, n)
  JOIN base b ON b.id = u.type AND b.typtype <> 'd' ORDER BY u.n`, types, modifiers)
		if err != nil {
			return err
		}
		k := domain.Column{Wire: "portable"}
		_, err = pgx.ForEachRow(rows, []any{&k.Type, &k.BaseType}, func() error {
			k.Name = st.Fields[len(out)].Name
			out = append(out, k)
			return nil
		})
		return err
	})
	return out, d.explain(err)
}

// countedTogether is how many tables one statement of Holds counts.
const countedTogether = 100

// Holds counts many tables in one statement each hundred.
func (d *database) Holds(ctx context.Context, plans []domain.TablePlan) (map[domain.TableName]int64, error) {
	out := map[domain.TableName]int64{}
	var names []domain.TableName
	for i := range plans {
		names = append(names, plans[i].Target)
	}
	rows, err := d.pool.Query(ctx, `
SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'p')`)
	if err != nil {
		return nil, d.explain(err)
	}
	stands := map[domain.TableName]bool{}
	var t domain.TableName
	if _, err := pgx.ForEachRow(rows, []any{&t.Schema, &t.Name}, func() error {
		stands[t] = true
		return nil
	}); err != nil {
		return nil, d.explain(err)
	}
	var parts []string
	var asked []domain.TableName
	for i, n := range names {
		if stands[n] {
			parts = append(parts, fmt.Sprintf("SELECT %d AS i, count(*) FROM (SELECT 1 FROM %s LIMIT 1000001) x", len(asked),
				qualified(n)))
			asked = append(asked, n)
		}
		if len(parts) < countedTogether && i < len(names)-1 || len(parts) == 0 {
			continue
		}
		rows, err := d.pool.Query(ctx, strings.Join(parts, " UNION ALL "))
		if err != nil {
			return nil, d.explain(err)
		}
		var at int
		var count int64
		if _, err := pgx.ForEachRow(rows, []any{&at, &count}, func() error {
			out[asked[at]] = count
			return nil
		}); err != nil {
			return nil, d.explain(err)
		}
		parts = parts[:0]
	}
	return out, nil
}

// Greatest returns the greatest value of a column.
func (d *database) Greatest(ctx context.Context, p *domain.TablePlan, column string) (string, error) {
	var v string
	err := d.pool.QueryRow(ctx, "SELECT coalesce(max("+quote(column)+")::text, '') FROM "+from(p)).Scan(&v)
	return v, d.explain(err)
}

// Prepared gives the statements that would commit the transactions that were prepared, not
// ended, and hold a lock on a planned table or a partition of it.
func (d *database) PreparedTransactions(ctx context.Context, plans []domain.TablePlan) ([]string, error) {
	names := make([]string, len(plans))
	for i := range plans {
		names[i] = qualified(plans[i].Source)
	}
	rows, err := d.pool.Query(ctx, `
SELECT DISTINCT 'COMMIT PREPARED ' || quote_literal(x.gid) FROM pg_prepared_xacts x
  JOIN pg_locks own ON own.locktype = 'transactionid' AND own.transactionid = x.transaction AND own.pid IS NULL
  JOIN pg_locks l ON l.virtualtransaction = own.virtualtransaction AND l.pid IS NULL AND l.locktype = 'relation'
 WHERE x.database = current_database()
   AND l.relation IN (SELECT t.relid FROM unnest($1::text[]) n CROSS JOIN LATERAL `+partitionTree("to_regclass(n)")+` t)
 ORDER BY 1`, names)
	if err != nil {
		return nil, d.explain(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return out, d.explain(err)
}
