package sqlite

import (
	"context"
	"database/sql/driver"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// A file has no log of its changes, so that one is made in it: a table into which triggers write each change,
// in the transaction that makes it. There is one writer at a time, so that the numbers of the log are in the
// order of commits, and a read transaction sees exactly the changes up to the last number that it finds.
//
// Which changes were made by one transaction is not known to a trigger. What is certain is that no transaction
// goes over a mark: a row of the log that we write in a transaction of our own. What lies between two marks is
// handed on as one transaction.

const (
	logTable  = "dusty_ferry_log"    // the changes and marks
	readTable = "dusty_ferry_reader" // up to where who has read them
	capTable  = "dusty_ferry_table"  // the tables whose triggers write there, and for whom
	triggers  = "dusty_ferry_"       // how triggers' names begin
	closing   = "dusty_ferry_closed_"
)

// Kinds of rows of the log.
const (
	logInsert = "i"
	logUpdate = "u"
	logDelete = "d"
	logCheck  = "c" // a row that an insert or update may have replaced without a word; see [capture.replaced]
	logMark   = "m"
	logVoid   = "x" // it was one of these, of a table that had other columns and is loaded anew
)

// isOurs reports whether a table is of our bookkeeping.
func isOurs(name string) bool {
	return name == ours || name == logTable || name == readTable || name == capTable
}

// recorded is a table of the file as its triggers record it.
type recorded struct {
	Name    string
	Columns []string // all, in the order of the log's new values
	Old     []string // the key's, or all where there is none, in the order of its old values
}

// recordOf is how a plan's table is recorded.
func recordOf(p *domain.TablePlan) recorded {
	r := recorded{Name: p.Source.Name, Old: p.Key}
	for _, c := range p.Table.Columns {
		r.Columns = append(r.Columns, c.Name)
	}
	if len(p.Key) == 0 {
		r.Old = r.Columns
	}
	return r
}

// unique is a unique index.
type unique struct {
	columns   []string
	collation []string
	of        string // over an expression: which index
}

// uniques are the unique indexes of a table by which another row than the one with the same key can be in the
// way: all but that of the key, and that too where texts are the same by it that differ.
func (c *conn) uniques(ctx context.Context, table string, key []string) ([]unique, error) {
	var names []string
	if err := c.rows(ctx, `SELECT name FROM pragma_index_list(?) WHERE "unique" = 1 ORDER BY name`,
		func(r []driver.Value) error { names = append(names, r[0].(string)); return nil }, table); err != nil {
		return nil, err
	}
	var out []unique
	for _, n := range names {
		var u unique
		if err := c.rows(ctx, "SELECT name, coll FROM pragma_index_xinfo(?) WHERE key = 1 ORDER BY seqno",
			func(r []driver.Value) error {
				name, ok := r[0].(string)
				if !ok {
					u.of = n
					return nil
				}
				u.columns, u.collation = append(u.columns, name), append(u.collation, fmt.Sprint(r[1]))
				return nil
			}, n); err != nil {
			return nil, err
		}
		folds := slices.ContainsFunc(u.collation, func(c string) bool { return !strings.EqualFold(c, "BINARY") })
		if !slices.Equal(u.columns, key) || folds || u.of != "" {
			out = append(out, u)
		}
	}
	return out, nil
}

// list writes columns as a list, each with a prefix.
func list(prefix string, columns []string) string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = prefix + quote(c)
	}
	return strings.Join(out, ", ")
}

func numbered(prefix string, n int) string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprintf("%s%d", prefix, i)
	}
	return strings.Join(out, ", ")
}

func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// name is that of a trigger of a table.
func (r recorded) name(what string) string { return triggers + what + "_" + r.Name }

// triggers are the statements that record a table, by the names of what they make.
func (r recorded) triggers(keyed bool, uniques []unique) map[string]string {
	into := func(kind, values, columns string) string {
		return fmt.Sprintf("INSERT INTO %s (tbl, kind, at, %s) VALUES (%s, '%s', julianday('now'), %s)", logTable, columns,
			literal(r.Name), kind, values)
	}
	news, olds := numbered("n", len(r.Columns)), numbered("o", len(r.Old))
	out := map[string]string{}
	add := func(what, when, body string) {
		out[r.name(what)] = fmt.Sprintf("CREATE TRIGGER %s %s ON %s BEGIN %s; END", quote(r.name(what)), when, quote(r.Name),
			body)
	}
	add("i", "AFTER INSERT", into(logInsert, list("NEW.", r.Columns), news))
	add("u", "AFTER UPDATE", into(logUpdate, list("OLD.", r.Old)+", "+list("NEW.", r.Columns), olds+", "+news))
	add("d", "AFTER DELETE", into(logDelete, list("OLD.", r.Old), olds))
	if !keyed || len(uniques) == 0 {
		return out
	}
	// A row that stands in the way of another by such an index is removed by REPLACE, and no trigger is told.
	var any, columns []string
	for _, u := range uniques {
		columns = append(columns, u.columns...)
		same := make([]string, len(u.columns))
		for i, c := range u.columns {
			same[i] = fmt.Sprintf("%s = NEW.%[1]s COLLATE %s", quote(c), u.collation[i])
		}
		any = append(any, strings.Join(same, " AND "))
	}
	exact := make([]string, len(r.Old))
	for i, c := range r.Old {
		exact[i] = quote(c) + " COLLATE BINARY"
	}
	check := func(of string) string {
		return fmt.Sprintf("INSERT INTO %s (tbl, kind, at, %s) SELECT %s, '%s', julianday('now'), %s FROM %s WHERE (%s) AND "+
			"(%s) IS NOT (%s)", logTable, olds, literal(r.Name), logCheck, list("", r.Old), quote(r.Name),
			strings.Join(any, " OR "), strings.Join(exact, ", "), list(of, r.Old))
	}
	add("r", "BEFORE INSERT", check("NEW."))
	slices.Sort(columns)
	add("p", "BEFORE UPDATE OF "+list("", slices.Compact(columns)), check("OLD."))
	return out
}

// number returns a query's one number; 0 where it gives NULL.
func (c *conn) number(ctx context.Context, sql string, args ...driver.Value) (n int64, err error) {
	err = c.rows(ctx, sql, func(r []driver.Value) error { n, _ = r[0].(int64); return nil }, args...)
	return n, err
}

// recording reports whether the file has a log.
func (c *conn) recording(ctx context.Context) (bool, error) {
	n, err := c.number(ctx, "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = '"+logTable+"'")
	return n > 0, err
}

// mark writes one in the open transaction, and returns its number.
func (c *conn) mark(ctx context.Context) (n int64, err error) {
	err = c.rows(ctx, "INSERT INTO "+logTable+" (kind, at) VALUES ('"+logMark+"', julianday('now')) RETURNING n",
		func(r []driver.Value) error { n = r[0].(int64); return nil })
	return n, err
}

// newest is the number of the last row that the log ever had.
func (c *conn) newest(ctx context.Context) (int64, error) {
	return c.number(ctx, "SELECT seq FROM sqlite_sequence WHERE name = '"+logTable+"'")
}

// marked opens a read transaction at a mark: it sees what lies before it, and nothing behind. Where the file
// has no log, there is none, and the number is 0.
func (d *database) marked(ctx context.Context, c *conn) (n int64, err error) {
	has, err := c.recording(ctx)
	if err != nil || !has {
		return 0, d.explain(cmpOr(err, func() error { return c.begin(ctx) }))
	}
	return n, d.transaction(ctx, func(w *conn) error { // nobody writes between the read and the mark
		if err := c.begin(ctx); err != nil {
			return err
		}
		n, err = w.mark(ctx)
		if err != nil {
			_ = c.exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
		return err
	})
}

func cmpOr(err error, f func() error) error {
	if err != nil {
		return err
	}
	return f()
}

// Heartbeat writes a mark.
func (d *database) Heartbeat(ctx context.Context) (domain.Position, error) {
	var n int64
	err := d.transaction(ctx, func(c *conn) (err error) { n, err = c.mark(ctx); return err })
	return domain.PositionAt(uint64(n)), err
}

// Snapshot is what a read would see now.
func (d *database) Snapshot(ctx context.Context) (domain.Snapshot, error) {
	at, err := d.Heartbeat(ctx)
	return domain.Snapshot{Log: at}, err
}
