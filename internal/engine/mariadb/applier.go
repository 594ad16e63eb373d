package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// maxRows bounds the rows, and maxStatement about the bytes, of one statement.
const (
	maxRows      = 1000
	maxStatement = 1 << 20
)

type applier struct {
	d        *database
	conn     *sql.Conn
	crossing string
	origin   string
	epoch    int64
	session  string // its name on the server
	early    bool   // some of what the transaction touches was kept before its place was known
	packet   int    // bytes of a statement, or of a value, that the server takes
}

// OpenApplier opens the session that applies changes.
func (d *database) OpenApplier(ctx context.Context, crossing, origin string, epoch int64) (engine.Applier, error) {
	conn, err := d.session(ctx, landing...)
	if err != nil {
		return nil, err
	}
	id, err := sessionOf(ctx, conn)
	if err != nil {
		drop(conn)
		return nil, d.explain(err)
	}
	a := &applier{d: d, conn: conn, crossing: crossing, origin: origin, epoch: epoch, session: id}
	if err := a.measure(ctx); err != nil {
		drop(conn)
		return nil, err
	}
	return a, nil
}

// AppliesQuietly reports that foreign keys can stand: our sessions do without.
func (d *database) AppliesQuietly(context.Context) bool { return true }

func (a *applier) Begin(ctx context.Context) error {
	a.early = false
	return a.d.explain(beginMarked(ctx, a.conn, a.origin))
}

func (a *applier) Abort() { _, _ = a.conn.ExecContext(context.Background(), "ROLLBACK") }

func (a *applier) Close() { drop(a.conn) }

// Commit moves the position under the stream's epoch and commits.
func (a *applier) Commit(ctx context.Context, to domain.Position, portable string, at int64) error {
	res, err := a.conn.ExecContext(ctx, `
UPDATE dusty_ferry.stream
   SET position = ?, committed = greatest(committed, ?), waymark = ?, session = connection_id(),
     at = current_timestamp(6)
 WHERE crossing = ? AND epoch = ? AND position <= ?`, to.Number(), at, portable, a.crossing, a.epoch, to.Number())
	if err != nil {
		return a.d.explain(err)
	}
	if n, err := res.RowsAffected(); err != nil || n != 1 {
		return domain.ErrTakenOver
	}
	_, err = a.conn.ExecContext(ctx, "COMMIT")
	return a.d.explain(err)
}

// written are the columns of a target table that are ours to write, with where
// each stands in a row.
func written(p *domain.TablePlan) (cols []domain.Column, at []int) {
	for i, c := range p.Columns {
		if !c.Generated {
			cols, at = append(cols, c), append(at, i)
		}
	}
	return cols, at
}

func valueOf(c domain.Column, v domain.Value) string {
	if v.Kind != domain.Present {
		return "NULL"
	}
	return literal(c, string(v.Data))
}

// soughtIn is a value that a column is compared with.
func soughtIn(c domain.Column, v domain.Value) string {
	if v.Kind != domain.Present {
		return "NULL"
	}
	return sought(c, string(v.Data))
}

// keyed returns the key's columns with where each stands in a row.
func keyed(p *domain.TablePlan) (cols []domain.Column, at []int) {
	at = p.KeyIndexes(p.Columns)
	for _, i := range at {
		cols = append(cols, p.Columns[i])
	}
	return cols, at
}

func keyIn(cols []domain.Column, at []int, row domain.Row) string {
	on := make([]string, len(cols))
	for i, c := range cols {
		on[i] = quote(c.Name) + " = " + soughtIn(c, row[at[i]])
	}
	return "(" + strings.Join(on, " AND ") + ")"
}

// inPieces builds statements of head, what write adds for each row, and tail, and
// runs them.
func (a *applier) inPieces(ctx context.Context, p *domain.TablePlan, head, between, tail string, rows []domain.Row,
	most int, write func(*strings.Builder, domain.Row)) error {
	var b strings.Builder
	n := 0
	flush := func() error {
		if n == 0 {
			return nil
		}
		b.WriteString(tail)
		err := a.exec(ctx, p, b.String())
		b.Reset()
		n = 0
		return err
	}
	for _, r := range rows {
		if n == 0 {
			b.WriteString(head)
		} else {
			b.WriteString(between)
		}
		write(&b, r)
		if n++; n >= most || b.Len() > min(maxStatement, a.packet/2) {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

// Apply writes a net effect: removes, patches, puts.
func (a *applier) Apply(ctx context.Context, p *domain.TablePlan, n fold.Net, replace bool) ([]domain.Row, error) {
	var missing []domain.Row
	if replace && len(n.Patches) > 0 {
		// To be removed and inserted, as where rows swap what is unique, they have to be whole.
		whole := append([]domain.Row{}, n.Puts...)
		for _, r := range n.Patches {
			there, err := a.fill(ctx, p, r)
			if err != nil {
				return nil, err
			}
			if there == nil {
				missing = append(missing, r)
			} else {
				whole = append(whole, there)
			}
		}
		n.Puts, n.Patches = whole, nil
	}
	removes := n.Removes
	if replace {
		removes = append(append([]domain.Row{}, n.Removes...), n.Puts...)
	}
	if err := a.remove(ctx, p, removes); err != nil {
		return nil, err
	}
	for _, r := range n.Patches {
		there, err := a.update(ctx, p, r, r)
		if err != nil {
			return nil, err
		}
		if !there {
			missing = append(missing, r)
		}
	}
	return missing, a.put(ctx, p, n.Puts, replace || len(p.Key) == 0)
}

// fill returns a row with what the log left unsaid of it as it stands; nil where it is not
// there.
func (a *applier) fill(ctx context.Context, p *domain.TablePlan, row domain.Row) (domain.Row, error) {
	var cols []domain.Column
	var at []int
	for i, c := range p.Columns {
		if !c.Generated && row[i].Kind == domain.Unchanged {
			cols, at = append(cols, c), append(at, i)
		}
	}
	if len(cols) == 0 { // what is unsaid the target computes
		return row, nil
	}
	key, keyAt := keyed(p)
	var there domain.Row
	err := a.read(ctx, cols, qualified(p.Target)+" WHERE "+keyIn(key, keyAt, row), func(texts []domain.Value) error {
		there = append(domain.Row{}, row...)
		for i, v := range texts {
			there[at[i]] = v
		}
		return nil
	})
	return there, err
}

// read gives the values of columns, row for row.
func (a *applier) read(ctx context.Context, cols []domain.Column, from string, each func([]domain.Value) error) error {
	list := make([]string, len(cols))
	conv := make([]typemap.Convert, len(cols))
	raw := make([]sql.RawBytes, len(cols))
	to := make([]any, len(cols))
	for i, c := range cols {
		list[i], conv[i], to[i] = selected(c, quote(c.Name)), typemap.Compile(typemap.MariaDB, typemap.MariaDB, c, c, nil),
			&raw[i]
		if strings.HasPrefix(c.BaseType, "float") { // as a text it has six digits
			list[i] = "CAST(" + quote(c.Name) + " AS DOUBLE)"
		}
	}
	rows, err := a.conn.QueryContext(ctx, "SELECT "+strings.Join(list, ", ")+" FROM "+from)
	if err != nil {
		return a.d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		if err := rows.Scan(to...); err != nil {
			return a.d.explain(err)
		}
		out := make([]domain.Value, len(cols))
		for i, v := range raw {
			if v == nil {
				out[i] = domain.Value{Kind: domain.Null}
				continue
			}
			text, _, err := conv[i](nil, v)
			if err != nil {
				return err
			}
			out[i] = domain.Value{Kind: domain.Present, Data: text}
		}
		if err := each(out); err != nil {
			return err
		}
	}
	return a.d.explain(rows.Err())
}

// remove deletes rows by key. One column is asked for as a list, which the server
// reads as ranges of its key; more are written out.
func (a *applier) remove(ctx context.Context, p *domain.TablePlan, rows []domain.Row) error {
	cols, at := keyed(p)
	head := "DELETE FROM " + qualified(p.Target) + " WHERE "
	if len(cols) == 1 {
		return a.inPieces(ctx, p, head+quote(cols[0].Name)+" IN (", ", ", ")", rows, maxRows, func(b *strings.Builder,
			r domain.Row) {
			b.WriteString(soughtIn(cols[0], r[at[0]]))
		})
	}
	return a.inPieces(ctx, p, head, " OR ", "", rows, maxRows/5, func(b *strings.Builder, r domain.Row) {
		b.WriteString(keyIn(cols, at, r))
	})
}

// put writes whole rows. Where the key is the only unique rule of the table, a row
// that stands is overwritten; where others might match as well, the caller has
// removed it before.
func (a *applier) put(ctx context.Context, p *domain.TablePlan, rows []domain.Row, plain bool) error {
	cols, at := written(p)
	var names, set []string
	small := make([]domain.Row, 0, len(rows))
	for _, c := range cols {
		names = append(names, quote(c.Name))
		set = append(set, quote(c.Name)+" = VALUES("+quote(c.Name)+")")
	}
	tail := ""
	if !plain {
		tail = " ON DUPLICATE KEY UPDATE " + strings.Join(set, ", ")
	}
	head := "INSERT INTO " + qualified(p.Target) + " (" + strings.Join(names, ", ") + ") VALUES "
	for _, r := range rows {
		large := a.largeIn(r)
		if large == 0 {
			small = append(small, r)
			continue
		}
		v := values{large: large}
		list := make([]string, len(cols))
		for i, c := range cols {
			list[i] = v.add(c, r[at[i]])
		}
		if _, err := a.run(ctx, p, head+"("+strings.Join(list, ", ")+")"+tail, v.args...); err != nil {
			return err
		}
	}
	return a.inPieces(ctx, p, head, ", ", tail, small, maxRows, func(b *strings.Builder, r domain.Row) {
		for i, c := range cols {
			b.WriteString(map[bool]string{true: "(", false: ", "}[i == 0])
			b.WriteString(valueOf(c, r[at[i]]))
		}
		b.WriteByte(')')
	})
}

// update sets all that the log said of a row, found by the key of old, and reports whether
// it was there.
func (a *applier) update(ctx context.Context, p *domain.TablePlan, old, row domain.Row) (bool, error) {
	cols, at := written(p)
	var set []string
	v := values{large: a.largeIn(row)}
	for i, c := range cols {
		switch {
		case row[at[i]].Kind != domain.Unchanged:
			set = append(set, quote(c.Name)+" = "+v.add(c, row[at[i]]))
		case c.BaseType == "timestamp" || c.BaseType == "datetime":
			// One that notes the last change by itself (ON UPDATE) does so where nothing is said of it.
			set = append(set, quote(c.Name)+" = "+quote(c.Name))
		}
	}
	key, keyAt := keyed(p)
	res, err := a.run(ctx, p, "UPDATE "+qualified(p.Target)+" SET "+strings.Join(set, ", ")+" WHERE "+keyIn(key, keyAt,
		old), v.args...)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected() // rows found: see ClientFoundRows
	return n > 0, err
}

// Move changes a row's key in place.
func (a *applier) Move(ctx context.Context, p *domain.TablePlan, c domain.Change) (bool, error) {
	return a.update(ctx, p, c.Old, c.New)
}

// ApplyWhole applies changes of a table without a key: rows to remove are found by all their
// values.
func (a *applier) ApplyWhole(ctx context.Context, p *domain.TablePlan, changes []domain.Change) error {
	return engine.ApplyBag(p, changes, func(rows []fold.Copies) (found int64, err error) {
		for _, c := range rows {
			n, err := a.removeWhole(ctx, p, c.Row, c.N)
			if err != nil {
				return 0, err
			}
			found += n
		}
		return found, nil
	}, func(rows []domain.Row) error { return a.put(ctx, p, rows, true) })
}

// removeWhole removes up to copies rows equal to the given one in every column.
func (a *applier) removeWhole(ctx context.Context, p *domain.TablePlan, row domain.Row, copies int) (int64, error) {
	cols, at := written(p)
	on := make([]string, len(cols))
	for i, c := range cols {
		on[i] = sameValue(c, row[at[i]])
	}
	res, err := a.run(ctx, p, fmt.Sprintf("DELETE FROM %s WHERE %s LIMIT %d", qualified(p.Target),
		strings.Join(on, " AND "), copies))
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// sameValue compares a column with a value to the byte: not by a collation, which
// may take A for a, nor after rounding.
func sameValue(c domain.Column, v domain.Value) string {
	name, base := quote(c.Name), strings.TrimSuffix(c.BaseType, " unsigned")
	switch {
	case v.Kind != domain.Present:
		return name + " IS NULL"
	case typemap.IsBytes(base):
		return "HEX(" + name + ") = '" + strings.ToUpper(strings.TrimPrefix(string(v.Data), `\x`)) + "'"
	case c.Charset != "" || base == "enum" || base == "set" || base == "json":
		return "CAST(CONVERT(" + name + " USING utf8mb4) AS BINARY) = CAST(" + literal(c, string(v.Data)) + " AS BINARY)"
	}
	return name + " = " + sought(c, string(v.Data))
}

// Truncate empties the tables. It deletes, as TRUNCATE would commit what the batch
// has done so far.
func (a *applier) Truncate(ctx context.Context, plans []*domain.TablePlan, _ string) error {
	for _, p := range plans {
		if err := a.exec(ctx, p, "DELETE FROM "+qualified(p.Target)); err != nil {
			return err
		}
	}
	return nil
}

func (a *applier) exec(ctx context.Context, p *domain.TablePlan, text string) error {
	_, err := a.run(ctx, p, text)
	return err
}

func (a *applier) wrap(p *domain.TablePlan, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("applying changes to %s: %w", p.Target, a.d.explain(err))
}

// Repair puts and removes rows while the applier stands still at the position,
// which holding the stream's line makes sure of.
func (d *database) Repair(ctx context.Context, crossing, origin string, at domain.Position, p *domain.TablePlan,
	fixes []engine.Fix) error {
	return d.transaction(ctx, func(c *sql.Conn) error {
		if err := markOrigin(ctx, c, origin); err != nil {
			return err
		}
		if !at.IsZero() {
			var now uint64
			if err := c.QueryRowContext(ctx, "SELECT position FROM dusty_ferry.stream WHERE crossing = ? FOR UPDATE",
				crossing).Scan(&now); err != nil {
				return err
			}
			if now > at.Number() {
				return domain.Conflict("changes were applied while rows were being repaired; repair again")
			}
		}
		a := &applier{d: d, conn: c}
		if err := a.measure(ctx); err != nil {
			return err
		}
		cols, _ := keyed(p)
		for _, f := range fixes {
			if f.Old != nil {
				if _, err := a.removeWhole(ctx, p, f.Old, f.Copies); err != nil {
					return err
				}
				continue
			}
			if len(cols) > 0 {
				if err := a.exec(ctx, p, "DELETE FROM "+qualified(p.Target)+" WHERE "+equals(cols, f.Key)); err != nil {
					return err
				}
			}
			for range max(1, f.Copies) {
				if f.Row != nil {
					if err := a.put(ctx, p, []domain.Row{f.Row}, true); err != nil {
						return err
					}
				}
			}
		}
		return nil
	})
}

// Find returns the keys of the rows whose columns have the values.
func (a *applier) Find(ctx context.Context, p *domain.TablePlan, match []domain.Column,
	values []domain.Value) ([]domain.KeyValue, error) {
	on := make([]string, len(match))
	for i, c := range match {
		on[i] = quote(c.Name) + " = " + soughtIn(c, values[i])
	}
	var out []domain.KeyValue
	err := a.read(ctx, p.KeyColumns(), qualified(p.Target)+" WHERE "+strings.Join(on, " AND "),
		func(texts []domain.Value) error {
			k := make(domain.KeyValue, len(texts))
			for i, v := range texts {
				k[i] = string(v.Data)
			}
			out = append(out, k)
			return nil
		})
	return out, err
}
