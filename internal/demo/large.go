package demo

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// Large writes a made-up crossing of many tables and chunks straight into a
// service's records, over the crossing of that name: half of the chunks belong
// to its first table. Making that many real tables would measure the database
// servers, not the console. Names are long, some run from right to left, counts
// have ten digits.
func Large(ctx context.Context, controlURL, crossing string, tables, chunks int) error {
	c, err := pgx.Connect(ctx, controlURL)
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
	for _, q := range []struct {
		sql  string
		args []any
	}{
		{`
UPDATE crossings SET phase = 'loading', condition = 'paused', reason = 'paused by nobody: it is made up',
  started_at = now() - interval '1 hour'
 WHERE name = $1`, []any{crossing}},
		{`
INSERT INTO tables (crossing_id, target_id, ordinal, source_name, target_name, plan, key_columns, state, reason,
  est_rows, est_bytes, rows_landed, bytes_landed, started_at)
SELECT c.id, c.target_id, n, CASE WHEN n % 50 = 7 THEN 'saltmarsh.قراءات_الميزان_' || n
  ELSE 'saltmarsh.a_table_with_a_long_name_that_somebody_gave_it_' || n END,
       'saltmarsh.t' || n, '{}', '["id"]', CASE WHEN n = 1000 THEN 'held' WHEN n % 3 = 0 THEN 'landed'
         ELSE 'loading' END,
       CASE WHEN n = 1000 THEN 'a bad row' ELSE '' END, 4000000000, 900000000000, 1234567890, 123456789012,
         now() - interval '1 hour'
  FROM crossings c, generate_series(1, $2::int) n WHERE c.name = $1`, []any{crossing, tables}},
		{`
INSERT INTO chunks (crossing_id, table_id, ordinal, lower, state, rows, bytes, attempts, started_at, ended_at)
SELECT t.crossing_id, t.id, n - 1, jsonb_build_array((n * 1000)::text),
       CASE WHEN n % 2 = 0 OR t.ordinal > 1 THEN 'landed' WHEN n = 4001 THEN 'held' ELSE 'pending' END, 1000, 100000,
         1 + (n % 90) / 89, now() - interval '1 hour',
       now() - interval '1 hour' + (n % 17) * interval '1 second'
  FROM tables t JOIN crossings c ON c.id = t.crossing_id, generate_series(1, CASE WHEN t.ordinal = 1 THEN $3::int / 2
    ELSE $3::int / 2 / $2::int END) n
 WHERE c.name = $1`, []any{crossing, tables, chunks}},
		{`
UPDATE tables t SET chunks = k.n, chunks_landed = k.l
  FROM (SELECT table_id, count(*) AS n, count(*) FILTER (WHERE state = 'landed') AS l FROM chunks GROUP BY 1) k
    WHERE k.table_id = t.id`, nil},
		{`ANALYZE`, nil},
	} {
		if _, err := c.Exec(ctx, q.sql, q.args...); err != nil {
			return fmt.Errorf("writing a large crossing: %w", err)
		}
	}
	return nil
}
