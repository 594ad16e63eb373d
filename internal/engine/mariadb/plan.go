package mariadb

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/pgcopy"
	"dustyferry/internal/protocol/resultset"
)

// Plan says how a table of this server is carried. Whole numbers are ordered by us as
// the server does it; for other keys it is asked, if its ORDER BY and its comparisons
// agree.
func (d *database) Plan(t *domain.Table) (domain.TablePlan, error) {
	p := domain.TablePlan{Source: t.TableName, Target: t.TableName, Columns: t.Columns, Table: *t, KeyOrder: "none"}
	if len(t.Keys) > 0 {
		p.Key = t.Keys[0].Columns
	}
	var key []domain.Column
	for _, k := range p.Key {
		c := t.Column(k)
		if c == nil {
			return p, domain.Invalid("the key of %s has a column %s that the table lacks", t, k)
		}
		key = append(key, *c)
	}
	if len(key) == 0 {
		return p, nil
	}
	if keyorder.Whole(key) {
		p.KeyOrder = "ours"
	} else if !slices.ContainsFunc(key, func(c domain.Column) bool { return ordered(c, "v") == "" }) {
		p.KeyOrder = "source"
	}
	return p, nil
}

// converters are those of a plan's columns, in their order: into the form of the
// other side, or into our own where the plan has none.
func converters(p *domain.TablePlan) []typemap.Convert {
	out := make([]typemap.Convert, len(p.Columns))
	for i, c := range p.Columns {
		if p.TargetSide == nil {
			out[i] = typemap.Compile(typemap.MariaDB, typemap.MariaDB, c, c, p.Runtime)
			continue
		}
		out[i] = typemap.Compile(typemap.MariaDB, p.TargetSide.Engine, c, p.TargetSide.Columns[i], p.Runtime)
	}
	return out
}

// selecting reads a plan's rows, or part of them.
func selecting(p *domain.TablePlan, where string) string {
	return "SELECT " + selectedList(p) + " FROM " + from(p) + where
}

// readAs runs a statement whose columns are the plan's, and hands on each row in the
// neutral form and its fields, which are good until the next.
func (c *wire) readAs(ctx context.Context, p *domain.TablePlan, conv []typemap.Convert, sql string,
	visit func(row []byte, fields [][]byte) error) error {
	s := newRowEncoder(p, conv, false)
	var row []byte
	var fields [][]byte
	return c.values(ctx, sql, func(d *resultset.Decoder) (err error) {
		if row, err = s.append(row[:0], d); err != nil {
			return err
		}
		if fields, err = pgcopy.Fields(fields[:0], row); err != nil {
			return err
		}
		return visit(row, fields)
	})
}

// selected is how a column is read so that its value is whole: bits as a number.
func selected(c domain.Column, expression string) string {
	if c.BaseType == "bit" {
		return expression + " + 0"
	}
	return expression
}

// named is what is read for a column.
func named(c domain.Column) string {
	if c.Expression != "" {
		return "(" + c.Expression + ")"
	}
	return quote(c.Name)
}

// from is what a plan's rows are read from.
func from(p *domain.TablePlan) string {
	if p.From != "" {
		return "(" + p.From + ") rows_of_the_query"
	}
	return qualified(p.Source)
}

func selectedList(p *domain.TablePlan) string {
	out := make([]string, len(p.Columns))
	for i, c := range p.Columns {
		out[i] = selected(c, named(c))
	}
	return strings.Join(out, ", ")
}

// keyRange is the condition that selects a chunk. The server does not read a
// range of (a, b) >= (x, y), so it is written out.
func keyRange(p *domain.TablePlan, lower, upper domain.KeyValue) string {
	var cond []string
	if p.Where != "" {
		cond = append(cond, "("+p.Where+")")
	}
	if lower != nil {
		cond = append(cond, beyond(p, lower, ">", ">="))
	}
	if upper != nil {
		cond = append(cond, beyond(p, upper, "<", "<"))
	}
	if len(cond) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(cond, " AND ")
}

// beyond writes key > bound, or key >= bound with last, for keys of any width.
func beyond(p *domain.TablePlan, bound domain.KeyValue, op, last string) string {
	cols := p.KeyColumns()
	var alternatives []string
	for i := range cols {
		var all []string
		for j := range i {
			all = append(all, quote(cols[j].Name)+" = "+sought(cols[j], bound[j]))
		}
		o := op
		if i == len(cols)-1 {
			o = last
		}
		alternatives = append(alternatives, strings.Join(append(all, quote(cols[i].Name)+" "+o+" "+sought(cols[i], bound[i])),
			" AND "))
	}
	return "(" + strings.Join(alternatives, " OR ") + ")"
}

// Sample returns about want keys in order: evenly spaced ranges of the first key
// column, each read through the key, so that the cost does not grow with the
// table.
func (d *database) Sample(ctx context.Context, p *domain.TablePlan, want int) ([]domain.KeyValue, error) {
	if p.KeyOrder == "source" {
		return d.seek(ctx, p, want)
	}
	key := quoteAll(p.Key)
	if p.Table.Rows >= 0 && p.Table.Rows <= int64(want)*20 {
		return d.keys(ctx, p, fmt.Sprintf("SELECT %s FROM %s ORDER BY %s", key, qualified(p.Source), key))
	}
	var low, high sql.NullString
	first := quote(p.Key[0])
	if err := d.pool.QueryRowContext(ctx, fmt.Sprintf("SELECT min(%s), max(%s) FROM %s", first, first,
		qualified(p.Source))).Scan(&low, &high); err != nil {
		return nil, d.explain(err)
	}
	if !low.Valid {
		return nil, nil
	}
	const ranges = 400
	each := max(1, want/ranges)
	var parts []string
	for i := range ranges {
		from := fmt.Sprintf("CAST(%s AS DECIMAL(30)) + CAST((CAST(%s AS DECIMAL(30)) - CAST(%s AS DECIMAL(30))) * %d / %d "+
			"AS DECIMAL(30))", low.String, high.String, low.String, i, ranges)
		parts = append(parts, fmt.Sprintf("(SELECT %s FROM %s WHERE %s >= %s ORDER BY %s LIMIT %d)", key, qualified(p.Source),
			first, from, key, each))
	}
	return d.keys(ctx, p, "SELECT DISTINCT * FROM ("+strings.Join(parts, " UNION ALL ")+") k ORDER BY "+key)
}

func (d *database) keys(ctx context.Context, p *domain.TablePlan, query string) ([]domain.KeyValue, error) {
	rows, err := d.pool.QueryContext(ctx, query)
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	var out []domain.KeyValue
	for rows.Next() {
		k := make(domain.KeyValue, len(p.Key))
		to := make([]any, len(k))
		for i := range k {
			to[i] = &k[i]
		}
		if err := rows.Scan(to...); err != nil {
			return nil, d.explain(err)
		}
		out = append(out, k)
	}
	return out, d.explain(rows.Err())
}

// ordered is an expression that sorts the texts v, which are values of a column in
// the target's form, as the server sorts the column; empty where it cannot be.
func ordered(c domain.Column, v string) string {
	switch base := strings.TrimSuffix(c.BaseType, " unsigned"); base {
	case "tinyint", "smallint", "mediumint", "int", "bigint":
		if strings.HasSuffix(c.BaseType, " unsigned") {
			return "CAST(" + v + " AS UNSIGNED)"
		}
		return "CAST(" + v + " AS SIGNED)"
	case "decimal":
		return "CAST(" + v + " AS DECIMAL(65,30))"
	case "date":
		return "CAST(" + v + " AS DATE)"
	case "datetime":
		return "CAST(" + v + " AS DATETIME(6))"
	case "timestamp": // of our sessions, whose zone is UTC; a PostgreSQL target's form says so
		return "CAST(replace(" + v + ", '+00', '') AS DATETIME(6))"
	case "time":
		return "CAST(" + v + " AS TIME(6))"
	case "year":
		return "CAST(" + v + " AS UNSIGNED)"
	case "bit":
		return "CAST(conv(" + v + ", 2, 10) AS UNSIGNED)"
	case "float":
		return "CAST(" + v + " AS FLOAT)"
	case "double":
		return "CAST(" + v + " AS DOUBLE)"
	case "inet6":
		return "CAST(" + v + " AS INET6)"
	case "inet4":
		return "CAST(" + v + " AS INET4)"
	case "uuid":
		return "CAST(" + v + " AS UUID)"
	case "binary", "varbinary":
		return "UNHEX(substr(" + v + ", 3))"
	case "char", "varchar", "tinytext", "text", "mediumtext", "longtext":
		if c.Charset != "" && c.Collation != "" {
			return "CONVERT(" + v + " USING " + c.Charset + ") COLLATE " + c.Collation
		}
	}
	return ""
}

// ofKey is a plan of the key's columns alone.
func ofKey(p *domain.TablePlan) *domain.TablePlan {
	out := *p
	out.Columns = p.KeyColumns()
	if p.TargetSide != nil {
		side := *p.TargetSide
		side.Columns = nil
		for _, i := range p.KeyIndexes(p.Columns) {
			side.Columns = append(side.Columns, p.TargetSide.Columns[i])
		}
		out.TargetSide = &side
	}
	return &out
}

// samplesToBound is how many of the wanted keys are left out where finding one takes
// a seek of its own.
const samplesToBound = 20

// seek returns keys at even distances in the server's order: each is found from the
// one before, so that the key is walked once and nothing of it comes to us but what
// is wanted.
func (d *database) seek(ctx context.Context, p *domain.TablePlan, want int) ([]domain.KeyValue, error) {
	c, err := d.dial(ctx, reading...)
	if err != nil {
		return nil, err
	}
	defer c.close()
	key := ofKey(p)
	names := quoteAll(p.Key)
	step := max(p.Table.Rows/int64(max(want/samplesToBound, 1)), 1)
	var out []domain.KeyValue
	for {
		where := ""
		if len(out) > 0 {
			where = " WHERE " + beyond(p, out[len(out)-1], ">", ">")
		}
		n := len(out)
		err := c.readAs(ctx, key, converters(key), fmt.Sprintf("SELECT %s FROM %s%s ORDER BY %s LIMIT 1 OFFSET %d",
			selectedList(key), qualified(p.Source), where, names, step-1), func(_ []byte, fields [][]byte) error {
			k := make(domain.KeyValue, len(fields))
			for i, f := range fields {
				k[i] = string(f)
			}
			out = append(out, k)
			return nil
		})
		if err != nil {
			return nil, d.explain(err)
		}
		if len(out) == n {
			return out, nil
		}
	}
}

// Locate asks the server where keys lie among bounds, in its own order, by sorting
// both together; of many keys some at a time, as a server does not take every statement.
func (d *database) Locate(ctx context.Context, p *domain.TablePlan, bounds, keys []domain.KeyValue) ([]int, error) {
	const most = 256 << 10 // bytes of keys in one statement
	var out []int
	for len(keys) > 0 {
		n, size := 0, 0
		for n < len(keys) && (n == 0 || size < most) {
			for _, v := range keys[n] {
				size += len(v) + 4
			}
			n++
		}
		some, err := d.locate(ctx, p, bounds, keys[:n])
		if err != nil {
			return nil, err
		}
		out, keys = append(out, some...), keys[n:]
	}
	return out, nil
}

func (d *database) locate(ctx context.Context, p *domain.TablePlan, bounds, keys []domain.KeyValue) ([]int, error) {
	out := make([]int, len(keys))
	list, err := json.Marshal(append(slices.Clone(bounds), keys...))
	if err != nil {
		return nil, err
	}
	var paths, values, order []string
	for i, k := range p.KeyColumns() {
		paths = append(paths, fmt.Sprintf("c%d longtext CHARACTER SET utf8mb4 PATH '$[%d]'", i, i))
		values = append(values, fmt.Sprintf("%s AS k%d", ordered(k, fmt.Sprintf("c%d", i)), i))
		order = append(order, fmt.Sprintf("k%d", i))
	}
	sql := fmt.Sprintf(`
SELECT ord, below FROM (
  SELECT ord, count(CASE WHEN ord <= %[1]d THEN 1 END) OVER (ORDER BY %[2]s,
    ord > %[1]d ROWS UNBOUNDED PRECEDING) AS below
    FROM (SELECT ord, %[3]s FROM JSON_TABLE('%[4]s', '$[*]' COLUMNS (ord FOR ORDINALITY, %[5]s)) j) k
) x WHERE ord > %[1]d`, len(bounds), strings.Join(order, ", "), strings.Join(values, ", "),
		escape.Replace(string(list)), strings.Join(paths, ", "))
	err = d.briefly(ctx, func(c *wire) error { return c.rows(ctx, sql, located(out, len(bounds))) })
	return out, err
}

// located reads what Locate asked for.
func located(out []int, bounds int) func(f [][]byte) error {
	return func(f [][]byte) error {
		ord, err1 := strconv.Atoi(string(f[0]))
		below, err2 := strconv.Atoi(string(f[1]))
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		out[ord-1-bounds] = below
		return nil
	}
}
