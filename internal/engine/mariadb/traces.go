package mariadb

import (
	"context"

	"dustyferry/internal/engine"
)

// Traces lists what crossings have left on this server: as a source nothing, as a target
// their bookkeeping.
func (d *database) Traces(ctx context.Context) ([]engine.Trace, error) {
	var there bool
	if err := d.pool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM information_schema.tables WHERE table_schema = "+
		"? AND table_name = 'stream')", bookkeeping).Scan(&there); err != nil || !there {
		return nil, d.explain(err)
	}
	rows, err := d.pool.QueryContext(ctx, `
SELECT crossing, (SELECT count(*) FROM dusty_ferry.chunk_mark k WHERE k.crossing = x.crossing), EXISTS (SELECT 1
  FROM dusty_ferry.stream s WHERE s.crossing = x.crossing)
  FROM (SELECT crossing FROM dusty_ferry.stream UNION SELECT crossing FROM dusty_ferry.chunk_mark) x ORDER BY 1`)
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	var out []engine.Trace
	for rows.Next() {
		var uid string
		var marks int64
		var stream bool
		if err := rows.Scan(&uid, &marks, &stream); err != nil {
			return nil, d.explain(err)
		}
		out = append(out, engine.Bookkeeping(uid, marks, stream, func(s string) string {
			return "'" + escape.Replace(s) + "'"
		}))
	}
	return out, d.explain(rows.Err())
}
