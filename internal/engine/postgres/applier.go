package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// maxRows bounds the rows, and maxParam the bytes, of one statement.
const (
	maxRows  = 20_000
	maxParam = 32 << 20
)

type applier struct {
	d        *database
	conn     *pgx.Conn
	tx       pgx.Tx
	crossing string
	begin    string // how a transaction begins
	epoch    int64
	early    bool // some of what the transaction touches was kept before its place was known
}

// OpenApplier opens the session that applies changes. Triggers and foreign keys
// of the target stay quiet in it where the role allows that: what they would do
// was done on the source and comes as changes of its own.
func (d *database) OpenApplier(ctx context.Context, crossing, origin string, epoch int64) (engine.Applier, error) {
	conn, err := d.connect(ctx, named(crossing))
	if err != nil {
		return nil, err
	}
	if err := quietTriggers(ctx, conn); err != nil {
		_ = conn.Close(ctx)
		return nil, d.explain(err)
	}
	return &applier{d: d, conn: conn, crossing: crossing, begin: beginMarked(origin), epoch: epoch}, nil
}

func quietTriggers(ctx context.Context, conn *pgx.Conn) error {
	_, err := conn.Exec(ctx, "SET session_replication_role = replica")
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == "42501" {
		return nil // not allowed: foreign keys then wait for cutover, see the survey
	}
	return err
}

func (a *applier) Begin(ctx context.Context) error {
	tx, err := a.conn.BeginTx(ctx, pgx.TxOptions{BeginQuery: a.begin})
	a.tx, a.early = tx, false
	return a.d.explain(err)
}

func (a *applier) Abort() {
	if a.tx != nil {
		ctx, cancel := context.WithTimeout(context.Background(), closeGrace)
		defer cancel()
		_ = a.tx.Rollback(ctx)
		a.tx = nil
	}
}

func (a *applier) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), closeGrace)
	defer cancel()
	_ = a.conn.Close(ctx)
}

// Commit moves the position under the stream's epoch and commits.
func (a *applier) Commit(ctx context.Context, to domain.Position, portable string, at int64) error {
	tag, err := a.tx.Exec(ctx, `
UPDATE dusty_ferry.stream SET position = $3::text::numeric, committed = greatest(committed, $4), waymark = $5,
  at = now()
 WHERE crossing = $1 AND epoch = $2 AND position <= $3::text::numeric`, a.crossing, a.epoch, fmt.Sprint(to.Number()), at,
		portable)
	if err != nil {
		return a.d.explain(err)
	}
	if tag.RowsAffected() != 1 {
		return domain.ErrTakenOver
	}
	err = a.tx.Commit(ctx)
	a.tx = nil
	return a.d.explain(err)
}

// rowsOf is a set of rows as a table expression: one text array per column,
// turned into typed columns by the server's own input functions.
type rowsOf struct {
	cols   []domain.Column
	idx    []int // position of each column in the rows
	params []any
	from   string   // "ROWS FROM (…) AS u(c0, c1, …)"
	large  [][]byte // instead of params, of one row that is to be sent without a copy
}

// largeRow is from how many bytes on a row is sent by itself.
const largeRow = 4 << 20

func arrays(cols []domain.Column, idx []int, rows []domain.Row, extra []*string) rowsOf {
	r := rowsOf{cols: cols, idx: idx}
	if len(rows) == 1 {
		size := 0
		for _, at := range idx {
			size += len(rows[0][at].Data)
		}
		if size >= largeRow {
			r.one(rows[0], extra)
			return r
		}
	}
	var marks, names []string
	for c := range cols {
		vals := make([]*string, len(rows))
		for i, row := range rows {
			if row[idx[c]].Kind == domain.Present {
				s := string(row[idx[c]].Data)
				vals[i] = &s
			}
		}
		r.params = append(r.params, vals)
		marks = append(marks, fmt.Sprintf("unnest($%d::text[])", c+1))
		names = append(names, fmt.Sprintf("c%d", c))
	}
	if extra != nil {
		r.params = append(r.params, extra)
		marks = append(marks, fmt.Sprintf("unnest($%d::text[])", len(cols)+1))
		names = append(names, "mask")
	}
	r.from = "ROWS FROM (" + strings.Join(marks, ", ") + ") AS u(" + strings.Join(names, ", ") + ")"
	return r
}

// one makes a single row's expression, whose values are a parameter each.
func (r *rowsOf) one(row domain.Row, extra []*string) {
	var list []string
	param := func(v []byte, name string) {
		r.large = append(r.large, v)
		list = append(list, fmt.Sprintf("$%d::text AS %s", len(r.large), name))
	}
	for c, at := range r.idx {
		v := row[at].Data
		if row[at].Kind != domain.Present {
			v = nil
		} else if v == nil {
			v = []byte{}
		}
		param(v, fmt.Sprintf("c%d", c))
	}
	if extra != nil {
		param([]byte(*extra[0]), "mask")
	}
	r.from = "(SELECT " + strings.Join(list, ", ") + ") AS u"
}

// value is the typed form of the c-th column.
func (r rowsOf) value(c int) string { return fmt.Sprintf("u.c%d::%s", c, r.cols[c].Type) }

func (r rowsOf) match(table string) string {
	var on []string
	for c := range r.cols {
		on = append(on, fmt.Sprintf("%s.%s%s%s", table, quote(r.cols[c].Name), equals(r.cols[c]), r.value(c)))
	}
	return strings.Join(on, " AND ")
}

func positions(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// inPieces calls f with runs of rows that fit one statement.
func inPieces(rows []domain.Row, f func([]domain.Row) error) error {
	for len(rows) > 0 {
		n, size := 0, 0
		for n < len(rows) && n < maxRows && (n == 0 || size < maxParam) {
			for i := range rows[n] {
				size += len(rows[n][i].Data)
			}
			n++
		}
		if err := f(rows[:n]); err != nil {
			return err
		}
		rows = rows[n:]
	}
	return nil
}

// Apply writes a net effect: removes, patches, puts.
func (a *applier) Apply(ctx context.Context, p *domain.TablePlan, n fold.Net,
	replace bool) (missing []domain.Row, err error) {
	cols := p.CopiedColumns()
	key := p.KeyIndexes(cols)
	keyCols := pick(cols, key)
	if replace && len(n.Patches) > 0 {
		// To be removed and inserted they have to be whole.
		whole, gone, err := a.fill(ctx, p, cols, key, n.Patches)
		if err != nil {
			return nil, err
		}
		missing = gone
		n.Puts, n.Patches = append(append([]domain.Row{}, n.Puts...), whole...), nil
	}
	removes := n.Removes
	if replace {
		removes = append(append([]domain.Row{}, n.Removes...), n.Puts...)
	}
	err = inPieces(removes, func(rows []domain.Row) error {
		r := arrays(keyCols, key, rows, nil)
		return a.exec(ctx, p, fmt.Sprintf("DELETE FROM %s t USING %s WHERE %s", qualified(p.Target), r.from, r.match("t")), r)
	})
	if err != nil {
		return nil, err
	}
	err = inPieces(n.Patches, func(rows []domain.Row) error {
		changed, err := a.patch(ctx, p, cols, key, rows)
		if err != nil || changed == int64(len(rows)) {
			return err
		}
		_, gone, err := a.fill(ctx, p, cols, key, rows)
		missing = append(missing, gone...)
		return err
	})
	if err != nil {
		return nil, err
	}
	if !replace {
		// Changing a row that is there costs the server a fifth less than putting it, which
		// locks it first. Should one be missing after all, all are put.
		err = inPieces(n.Puts[:n.Standing], func(rows []domain.Row) error {
			changed, err := a.patch(ctx, p, cols, key, rows)
			if err != nil || changed == int64(len(rows)) {
				return err
			}
			return a.put(ctx, p, cols, key, rows, false)
		})
		if err != nil {
			return nil, err
		}
		n.Puts = n.Puts[n.Standing:]
	}
	return missing, inPieces(n.Puts, func(rows []domain.Row) error {
		return a.put(ctx, p, cols, key, rows, replace)
	})
}

func pick(cols []domain.Column, idx []int) []domain.Column {
	out := make([]domain.Column, len(idx))
	for i, at := range idx {
		out[i] = cols[at]
	}
	return out
}

func (a *applier) put(ctx context.Context, p *domain.TablePlan, cols []domain.Column, key []int, rows []domain.Row,
	replace bool) error {
	if len(cols) == 0 {
		return a.exec(ctx, p, fmt.Sprintf("INSERT INTO %s SELECT FROM generate_series(1, %d)", qualified(p.Target),
			len(rows)), rowsOf{})
	}
	r := arrays(cols, positions(len(cols)), rows, nil)
	return a.exec(ctx, p, putSQL(p, r, key, replace), r)
}

func putSQL(p *domain.TablePlan, r rowsOf, key []int, replace bool) string {
	var vals, set []string
	isKey := map[int]bool{}
	for _, k := range key {
		isKey[k] = true
	}
	for c := range r.cols {
		vals = append(vals, r.value(c))
		if !isKey[c] {
			set = append(set, quote(r.cols[c].Name)+" = EXCLUDED."+quote(r.cols[c].Name))
		}
	}
	sql := fmt.Sprintf("INSERT INTO %s (%s) OVERRIDING SYSTEM VALUE SELECT %s FROM %s",
		qualified(p.Target), quoteAll(columnNames(r.cols)), strings.Join(vals, ", "), r.from)
	if replace || len(key) == 0 {
		return sql
	}
	sql += " ON CONFLICT (" + quoteAll(p.Key) + ") DO "
	if len(set) == 0 {
		return sql + "NOTHING"
	}
	return sql + "UPDATE SET " + strings.Join(set, ", ")
}

// patch updates rows, whose unchanged values stay as they stand, and returns how many of
// them there were.
func (a *applier) patch(ctx context.Context, p *domain.TablePlan, cols []domain.Column, key []int,
	rows []domain.Row) (int64, error) {
	var masks []*string
	unsaid := make([]bool, len(cols)) // in some of the rows
	if slices.ContainsFunc(rows, fold.HasUnchanged) {
		masks = make([]*string, len(rows))
	}
	for i, row := range rows {
		if masks == nil {
			break
		}
		m := make([]byte, len(row))
		for c := range row {
			m[c] = '0'
			if row[c].Kind == domain.Unchanged {
				m[c], unsaid[c] = '1', true
			}
		}
		s := string(m)
		masks[i] = &s
	}
	r := arrays(cols, positions(len(cols)), rows, masks)
	isKey := map[int]bool{}
	var on, set []string
	for _, k := range key {
		isKey[k] = true
		on = append(on, "t."+quote(cols[k].Name)+equals(cols[k])+r.value(k))
	}
	for c, col := range cols {
		switch {
		case isKey[c]:
		case unsaid[c]:
			set = append(set, fmt.Sprintf("%s = CASE WHEN substr(u.mask, %d, 1) = '1' THEN t.%s ELSE %s END", quote(col.Name),
				c+1, quote(col.Name), r.value(c)))
		default:
			set = append(set, quote(col.Name)+" = "+r.value(c))
		}
	}
	if len(set) == 0 {
		return 0, nil
	}
	n, err := a.run(ctx, fmt.Sprintf("UPDATE %s t SET %s FROM %s WHERE %s",
		qualified(p.Target), strings.Join(set, ", "), r.from, strings.Join(on, " AND ")), r)
	return n, a.wrap(p, err)
}

// ApplyWhole applies changes of a table without a key: rows to remove are found by all their
// values, in one reading of the table however many they are.
func (a *applier) ApplyWhole(ctx context.Context, p *domain.TablePlan, changes []domain.Change) error {
	cols := p.CopiedColumns()
	return engine.ApplyBag(p, changes, func(rows []fold.Copies) (int64, error) {
		return a.removeWhole(ctx, p, cols, rows)
	},
		func(rows []domain.Row) error {
			return inPieces(rows, func(piece []domain.Row) error { return a.put(ctx, p, cols, nil, piece, true) })
		})
}

// fewRows is up to how many rows are each looked for by a statement of their own, which ends
// where the row is found and compares a second column only where the first is equal.
const fewRows = 3

// removeWhole removes rows equal to the given ones in every column, and reports how many.
func (a *applier) removeWhole(ctx context.Context, p *domain.TablePlan, cols []domain.Column,
	rows []fold.Copies) (int64, error) {
	var list []domain.Row
	var found int64
	copies := map[*domain.Value]int{} // by the row's first value
	for _, c := range rows {
		size := 0
		for i := range c.Row {
			size += len(c.Row[i].Data)
		}
		if len(rows) > fewRows && len(cols) > 0 && size < largeRow {
			list = append(list, c.Row)
			copies[&c.Row[0]] = c.N
			continue
		}
		sql, params := removeWholeSQL(p, cols, c.Row, c.N)
		tag, err := a.tx.Exec(ctx, sql, params...)
		if err != nil {
			return 0, a.wrap(p, err)
		}
		found += tag.RowsAffected()
	}
	err := inPieces(list, func(piece []domain.Row) error {
		times := make([]*string, len(piece))
		for i, row := range piece {
			n := strconv.Itoa(copies[&row[0]])
			times[i] = &n
		}
		r := arrays(cols, positions(len(cols)), piece, times)
		n, err := a.run(ctx, removeManySQL(p, r), r)
		found += n
		return a.wrap(p, err)
	})
	return found, err
}

// removeManySQL removes the rows of r, each as often as its mask says: one reading of the
// table, whose rows are sought as one text each in a hash of those to remove. "IS TRUE" keeps
// the server from joining by comparing each row with each.
func removeManySQL(p *domain.TablePlan, r rowsOf) string {
	there, sought := make([]string, len(r.cols)), make([]string, len(r.cols))
	for i, col := range r.cols {
		there[i] = quote(col.Name) + "::text"
		sought[i] = "(" + r.value(i) + ")::text"
	}
	return fmt.Sprintf(`WITH sought AS MATERIALIZED (SELECT ROW(%[1]s)::text AS whole, sum(mask::bigint) AS times
  FROM %[2]s GROUP BY 1),
found AS MATERIALIZED (SELECT tableoid AS o, ctid AS c, ROW(%[3]s)::text AS whole FROM %[4]s
  WHERE (ROW(%[3]s)::text IN (SELECT whole FROM sought)) IS TRUE),
counted AS (SELECT o, c, whole, row_number() OVER (PARTITION BY whole) AS n FROM found)
DELETE FROM %[4]s WHERE (tableoid, ctid) IN (SELECT o, c FROM counted JOIN sought USING (whole) WHERE n <= times)`,
		strings.Join(sought, ", "), r.from, strings.Join(there, ", "), qualified(p.Target))
}

func removeWholeSQL(p *domain.TablePlan, cols []domain.Column, row domain.Row, copies int) (string, []any) {
	var on []string
	var params []any
	for i, col := range cols {
		if row[i].Kind != domain.Present {
			on = append(on, quote(col.Name)+" IS NULL")
			continue
		}
		params = append(params, string(row[i].Data))
		on = append(on, fmt.Sprintf("%s::text = ($%d::text::%s)::text", quote(col.Name), len(params), col.Type))
	}
	if len(on) == 0 {
		on = append(on, "true")
	}
	return fmt.Sprintf("DELETE FROM %[1]s WHERE (tableoid, ctid) IN (SELECT tableoid, ctid FROM %[1]s WHERE %s LIMIT %d)",
		qualified(p.Target), strings.Join(on, " AND "), copies), params
}

// Truncate empties the tables in one statement, as the source did.
func (a *applier) Truncate(ctx context.Context, plans []*domain.TablePlan, note string) error {
	var names []string
	for _, p := range plans {
		names = append(names, qualified(p.Target))
	}
	restart := ""
	if strings.Contains(note, "RESTART") {
		restart = " RESTART IDENTITY"
	}
	if _, err := a.tx.Exec(ctx, "SAVEPOINT truncating"); err != nil {
		return a.d.explain(err)
	}
	_, err := a.tx.Exec(ctx, "TRUNCATE "+strings.Join(names, ", ")+restart)
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == "0A000" {
		// Tables that are not emptied refer to one that is: while they load, each of a
		// statement's tables has its own turn. Their rows go one by one then.
		if _, err = a.tx.Exec(ctx, "ROLLBACK TO SAVEPOINT truncating"); err == nil {
			for _, n := range names {
				if _, err = a.tx.Exec(ctx, "DELETE FROM "+n); err != nil {
					break
				}
			}
		}
	}
	if err == nil {
		_, err = a.tx.Exec(ctx, "RELEASE SAVEPOINT truncating")
	}
	return a.d.explain(err)
}

func (a *applier) exec(ctx context.Context, p *domain.TablePlan, sql string, r rowsOf) error {
	_, err := a.run(ctx, sql, r)
	return a.wrap(p, err)
}

// run carries out a statement on rows, and returns how many it touched.
func (a *applier) run(ctx context.Context, sql string, r rowsOf) (int64, error) {
	if r.large != nil {
		return a.runLarge(ctx, sql, r.large)
	}
	tag, err := a.tx.Exec(ctx, sql, r.params...)
	return tag.RowsAffected(), err
}

func (a *applier) wrap(p *domain.TablePlan, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("applying changes to %s: %w", p.Target, a.d.explain(err))
}

// textRows runs a query and returns its rows in the types' own text form.
func (d *database) textRows(ctx context.Context, sql string, params []any) ([]domain.Row, error) {
	c, err := d.pool.Acquire(ctx)
	if err != nil {
		return nil, d.explain(err)
	}
	defer c.Release()
	rows, err := textRows(ctx, c.Conn(), sql, params)
	return rows, d.explain(err)
}

func textRows(ctx context.Context, c *pgx.Conn, sql string, params []any) ([]domain.Row, error) {
	args := []any{pgx.QueryResultFormats{pgx.TextFormatCode}, pgx.QueryExecModeExec}
	rows, err := c.Query(ctx, sql, append(args, params...)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []domain.Row
	for rows.Next() {
		raw := rows.RawValues()
		r := make(domain.Row, len(raw))
		for i, v := range raw {
			if v != nil {
				r[i] = domain.Value{Kind: domain.Present, Data: append([]byte{}, v...)}
			}
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Find returns the keys of the rows whose columns have the values.
func (a *applier) Find(ctx context.Context, p *domain.TablePlan, match []domain.Column,
	values []domain.Value) ([]domain.KeyValue, error) {
	var on []string
	var params []any
	for i, c := range match {
		on = append(on, fmt.Sprintf("%s%s$%d::text::%s", quote(c.Name), equals(c), i+1, c.Type))
		params = append(params, string(values[i].Data))
	}
	var keys []domain.Column
	for _, k := range p.Key {
		keys = append(keys, *columnOf(p, k))
	}
	rows, err := a.tx.Query(ctx, "SELECT ARRAY["+keyList(keys)+"]::text[] FROM "+qualified(p.Target)+" WHERE "+
		strings.Join(on, " AND "), params...)
	if err != nil {
		return nil, a.d.explain(err)
	}
	found, err := pgx.CollectRows(rows, pgx.RowTo[[]string])
	out := make([]domain.KeyValue, len(found))
	for i, k := range found {
		out[i] = k
	}
	return out, a.d.explain(err)
}
