package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Tables that are read by the pages in which their rows lie (see [domain.TablePlan.ReadOrder]): the
// source's part, which reads ranges of pages, and the target's, which lets rows land beside changes
// that were applied already, and remembers which rows were removed.

// tidRanges is the version from which a range of ctid is read without the pages around it
// (PostgreSQL documentation, release notes of version 14, "TID range scans").
const tidRanges = 14

// apart are the types of keys whose values are equal only where their texts are: what is
// remembered of removed rows is compared so.
const apart = `'int2','int4','int8','uuid','bytea','date','timestamp','timestamptz','text','varchar'`

// DiskOrders says how the tables lie on the disk that can be read in its order.
func (d *database) DiskOrders(ctx context.Context, plans []*domain.TablePlan) (map[domain.TableName]domain.DiskOrder,
	error) {
	out := map[domain.TableName]domain.DiskOrder{}
	if d.major < tidRanges {
		return out, nil
	}
	for _, p := range plans {
		if p.From != "" || len(p.Key) == 0 || p.Table.PartitionBy != "" {
			continue
		}
		var o domain.DiskOrder
		err := d.pool.QueryRow(ctx, `
SELECT pg_relation_size(c.oid) / current_setting('block_size')::bigint, pg_relation_filenode(c.oid)::text,
       (SELECT setting::bigint FROM pg_settings WHERE name = 'shared_buffers'),
       (SELECT max(correlation) FROM pg_stats s WHERE s.schemaname = n.nspname AND s.tablename = c.relname
           AND s.attname = $3 AND NOT s.inherited)
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.oid = to_regclass($1) AND c.relkind = 'r'
   AND NOT EXISTS (SELECT 1 FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
                     LEFT JOIN pg_collation k ON k.oid = a.attcollation
                    WHERE a.attrelid = c.oid AND a.attname = ANY ($2)
                      AND (t.typname NOT IN (`+apart+`) OR NOT coalesce(k.collisdeterministic, true)))`,
			qualified(p.Source), p.Key, p.Key[0]).Scan(&o.Pages, &o.File, &o.Cache, &o.Correlation)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			continue
		case err != nil:
			return nil, d.explain(err)
		}
		out[p.Source] = o
	}
	return out, nil
}

// chunkRange is the condition that selects a chunk.
func chunkRange(p *domain.TablePlan, c *domain.Chunk) string {
	if !p.ReadByDisk() || c.Lower == nil && c.Upper == nil {
		return keyRange(p, c.Lower, c.Upper)
	}
	var cond []string
	if p.Where != "" {
		cond = append(cond, "("+p.Where+")")
	}
	for i, bound := range []domain.KeyValue{c.Lower, c.Upper} {
		if len(bound) > 0 {
			cond = append(cond, "ctid "+[]string{">=", "<"}[i]+" "+literal("("+bound[0]+",0)")+"::tid")
		}
	}
	return " WHERE " + strings.Join(cond, " AND ")
}

// samePages is an error when the rows of a chunk's table lie in other pages than when it was cut.
// The table's lock, which reading has taken, keeps them there until the transaction ends.
func (r *reader) samePages(ctx context.Context, p *domain.TablePlan, c *domain.Chunk) error {
	if !p.ReadByDisk() || len(c.Lower) < 2 {
		return nil
	}
	res := r.conn.ExecParams(ctx, "SELECT pg_relation_filenode(to_regclass($1))::text",
		[][]byte{[]byte(qualified(p.Source))},
		nil, nil, nil).Read()
	if res.Err != nil {
		return r.d.explain(res.Err)
	}
	if len(res.Rows) != 1 || string(res.Rows[0][0]) != c.Lower[1] {
		return engine.ErrRewritten
	}
	return nil
}

// removedKeys is where a target keeps what was removed while rows are loaded that may bring it
// back. A row without a key says that changes were applied to the table.
const removedKeys = `
CREATE TABLE IF NOT EXISTS dusty_ferry.removed_key (
  crossing text NOT NULL,
  target   text NOT NULL,
  sum      text NOT NULL, -- of the key, which may be too long for an index
  key      text[] NOT NULL,
  PRIMARY KEY (target, crossing, sum)
);`

// landingLock is taken by who applies changes to a table, for itself, and by who lands rows in it,
// with others: neither waits for rows of the other while it has rows that the other waits for.
func landingLock(p *domain.TablePlan) string {
	return "hashtextextended(" + literal("dusty_ferry "+qualified(p.Target)) + ", 0)"
}

// Remembered lists the keys of rows that were removed.
func (d *database) Remembered(ctx context.Context, crossing string, p *domain.TablePlan) ([]domain.KeyValue, error) {
	rows, err := d.pool.Query(ctx, `SELECT key FROM dusty_ferry.removed_key WHERE crossing = $1 AND target = $2
  AND key <> '{}'`, crossing, qualified(p.Target))
	if err != nil {
		return nil, d.explain(err)
	}
	found, err := pgx.CollectRows(rows, pgx.RowTo[[]string])
	out := make([]domain.KeyValue, len(found))
	for i, k := range found {
		out[i] = k
	}
	return out, d.explain(err)
}

// forgetRemoved forgets what was removed before a load of the tables began.
func (d *database) forgetRemoved(ctx context.Context, crossing string, plans []domain.TablePlan) error {
	var targets []string
	for i := range plans {
		targets = append(targets, qualified(plans[i].Target))
	}
	_, err := d.pool.Exec(ctx, `DELETE FROM dusty_ferry.removed_key WHERE crossing IN ($1, '') AND target = ANY ($2)`,
		crossing, targets)
	return d.explain(err)
}

// Remember comes before changes are applied to a table while rows land in it.
func (a *applier) Remember(ctx context.Context, p *domain.TablePlan, keep, forget []domain.KeyValue) error {
	if _, err := a.tx.Exec(ctx, "SELECT pg_advisory_xact_lock("+landingLock(p)+")"); err != nil {
		return a.wrap(p, err)
	}
	_, err := a.tx.Exec(ctx, `INSERT INTO dusty_ferry.removed_key (crossing, target, sum, key) VALUES ($1, $2, '', '{}')
  ON CONFLICT DO NOTHING`, a.crossing, qualified(p.Target))
	if err == nil && len(forget) > 0 {
		from, params := keyArrays(forget)
		_, err = a.tx.Exec(ctx, `DELETE FROM dusty_ferry.removed_key r USING (SELECT `+from+`) u
  WHERE r.crossing = $1 AND r.target = $2 AND r.sum = u.sum`, append([]any{a.crossing, qualified(p.Target)},
			params...)...)
	}
	if err == nil && len(keep) > 0 {
		from, params := keyArrays(keep)
		_, err = a.tx.Exec(ctx, `INSERT INTO dusty_ferry.removed_key (crossing, target, sum, key) SELECT $1, $2, `+from+`
  ON CONFLICT DO NOTHING`, append([]any{a.crossing, qualified(p.Target)}, params...)...)
	}
	return a.wrap(p, err)
}

// keyArrays is what selects keys of as many columns each, given from the third parameter on.
func keyArrays(keys []domain.KeyValue) (from string, params []any) {
	var names, lists []string
	for c := range keys[0] {
		column := make([]string, len(keys))
		for i, k := range keys {
			column[i] = k[c]
		}
		params = append(params, column)
		names = append(names, fmt.Sprintf("c%d", c))
		lists = append(lists, fmt.Sprintf("unnest($%d::text[])", c+3))
	}
	key := "ARRAY[" + strings.Join(names, ", ") + "]"
	return "md5(" + key + "::text) AS sum, " + key + " AS key FROM ROWS FROM (" + strings.Join(lists, ", ") + ") AS k(" +
		strings.Join(names, ", ") + ")", params
}

// stageTable is where rows wait that are to land beside what stands.
const stageTable = "pg_temp.dusty_ferry_stage"

// beside decides how a chunk of a table lands to which changes are applied at once, in the open
// transaction: straight, where none has been yet and none can be until it has landed, or through a
// stage.
func (w *writer) beside(ctx context.Context, p *domain.TablePlan, straight bool) error {
	w.plan, w.staged = p, true
	touched := func() (bool, error) {
		res := w.conn.ExecParams(ctx, `SELECT 1 FROM dusty_ferry.removed_key WHERE target = $1 LIMIT 1`,
			[][]byte{[]byte(qualified(p.Target))}, nil, nil, nil).Read()
		return len(res.Rows) > 0, w.d.explain(res.Err)
	}
	any, err := touched()
	if err != nil {
		return err
	}
	if straight && !any {
		if _, err := w.conn.Exec(ctx, "SELECT pg_advisory_xact_lock_shared("+landingLock(p)+")").ReadAll(); err != nil {
			return w.d.explain(err)
		}
		if any, err = touched(); err != nil {
			return err
		}
		if !any {
			w.staged = false
			return nil
		}
		if _, err := w.conn.Exec(ctx, "ROLLBACK; "+w.begin).ReadAll(); err != nil { // lets go of the lock
			return w.d.explain(err)
		}
	}
	_, err = w.conn.Exec(ctx, "CREATE TEMP TABLE dusty_ferry_stage ON COMMIT DROP AS SELECT "+
		quoteAll(columnNames(p.CopiedColumns()))+" FROM "+qualified(p.Target)+" WITH NO DATA").ReadAll()
	return w.d.explain(err)
}

// unstage lands what was staged: a row that stands came by the log, and stays.
func (w *writer) unstage(ctx context.Context) error {
	_, err := w.conn.Exec(ctx, w.unstaging()).ReadAll()
	return cmp.Or(notKept(err), w.d.explain(err))
}

// unstaging are the statements that do so. How many rows stood is not known, so that the number of
// those that were inserted says nothing: each row's key has to stand afterwards, or a trigger or
// rule of the target has dropped it. It is looked for by the key's index, however the server guesses.
func (w *writer) unstaging() string {
	target, cols := qualified(w.plan.Target), quoteAll(columnNames(w.plan.CopiedColumns()))
	var same []string
	for _, k := range w.plan.Key {
		same = append(same, "t."+quote(k)+" = s."+quote(k))
	}
	return "SELECT pg_advisory_xact_lock_shared(" + landingLock(w.plan) + "); INSERT INTO " + target + " (" + cols +
		") OVERRIDING SYSTEM VALUE SELECT " + cols + " FROM " + stageTable + " ON CONFLICT (" + quoteAll(w.plan.Key) +
		") DO NOTHING; SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off; " +
		"SET LOCAL enable_seqscan = off; " +
		"SELECT (CASE count(*) WHEN 0 THEN '0' ELSE count(*) || '" + dropped + "' END)::integer FROM " + stageTable +
		" s WHERE NOT EXISTS (SELECT 1 FROM " + target + " t WHERE " + strings.Join(same, " AND ") + ")"
}

// dropped is what the server cannot make a number of, where rows are not there that were put.
const dropped = " rows were not kept by the target: a trigger or rule there drops rows"

// notKept is an error in words for rows that the target dropped; nil for any other.
func notKept(err error) error {
	var pe *pgconn.PgError
	if !errors.As(err, &pe) || pe.Code != "22P02" || !strings.Contains(pe.Message, dropped) {
		return nil
	}
	_, text, _ := strings.Cut(pe.Message, `"`)
	return domain.Conflict("%s", strings.TrimSuffix(text, `"`))
}

// collided notes that a row which lies in two chunks, as it was moved between their reads, kept one
// of them from landing straight: from now on they land beside what stands.
func (w *writer) collided(ctx context.Context, err error) error {
	var pe *pgconn.PgError
	if w.plan == nil || w.staged || !w.plan.ReadByDisk() || !errors.As(err, &pe) || pe.Code != "23505" {
		return nil
	}
	if _, err := w.d.pool.Exec(ctx,
		`INSERT INTO dusty_ferry.removed_key (crossing, target, sum, key) VALUES ('', $1, '', '{}')
  ON CONFLICT DO NOTHING`, qualified(w.plan.Target)); err != nil {
		return w.d.explain(err)
	}
	return fmt.Errorf("a row of %s was moved between the reads of two chunks, and stands already: %s",
		w.plan.Target, pe.Detail)
}
