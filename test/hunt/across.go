package hunt

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// What is equal where one of the sides is MariaDB: rows are read by plain SQL as texts of
// few kinds, one form of each kind on both servers, and sorted here.

// field is a column as a server has it.
type field struct {
	name, typ, full string
	generated       bool
}

// fieldsOf are the columns of every table of a side, by the table's name.
func (r *run) fieldsOf(s side) (map[string][]field, error) {
	out := map[string][]field{}
	if s.maria != nil {
		rows, err := r.rows(s, `SELECT c.table_name, column_name, data_type, column_type, generation_expression IS NOT NULL
  FROM information_schema.columns c JOIN information_schema.tables t USING (table_schema, table_name)
 WHERE c.table_schema = database() AND table_type LIKE '%BASE TABLE' OR c.table_schema = database()
   AND table_type = 'SYSTEM VERSIONED' ORDER BY c.table_name, ordinal_position`)
		for _, x := range rows {
			out[x[0]] = append(out[x[0]], field{x[1], x[2], x[3], x[4] == "1"})
		}
		return out, err
	}
	c, err := r.open(s)
	if err != nil {
		return nil, err
	}
	defer func() { _ = c.Close(r.ctx) }()
	list, err := r.strings1(c, `SELECT nspname || chr(1) || c.relname || chr(1) || attname || chr(1) || CASE
  WHEN t.typtype = 'd' THEN (SELECT b.typname FROM pg_catalog.pg_type b WHERE b.oid = t.typbasetype)
  WHEN t.typtype = 'b' THEN t.typname ELSE 'text' END
 || chr(1) || format_type(a.atttypid, atttypmod) || chr(1) || (attgenerated <> '')
  FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid = attrelid
    JOIN pg_catalog.pg_namespace n ON n.oid = relnamespace JOIN pg_catalog.pg_type t ON t.oid = atttypid
 WHERE attnum > 0 AND NOT attisdropped AND relkind IN ('r', 'p') AND NOT relispartition AND `+ours+` AND `+members+
		` ORDER BY attrelid, attnum`)
	for _, l := range list {
		x := strings.Split(l, "\x01")
		if r.schemas == nil {
			r.schemas = map[string]string{}
		}
		r.schemas[x[1]] = x[0]
		out[x[1]] = append(out[x[1]], field{x[2], x[3], x[4], x[5] == "true"})
	}
	return out, err
}

// across is how the two sides differ, in words; empty: they are equal.
func (r *run) across() (string, error) {
	a, err := r.fieldsOf(r.source)
	if err != nil {
		return "", err
	}
	b, err := r.fieldsOf(r.target)
	if err != nil {
		return "", err
	}
	var out []string
	for _, table := range sortedKeys(a) {
		if !r.wanted(r.schemaOf(r.source, table) + "." + table) {
			continue
		}
		there, ok := b[table]
		if !ok {
			out = append(out, table+" is not on the target")
			continue
		}
		var pairs [][2]field
		for _, f := range a[table] {
			i := slices.IndexFunc(there, func(x field) bool { return x.name == f.name })
			switch {
			case i < 0 && f.generated && r.source.maria == nil: // it is told as left
			case i < 0:
				out = append(out, fmt.Sprintf("%s lacks its column %s on the target", table, f.name))
			default:
				pairs = append(pairs, [2]field{f, there[i]})
			}
		}
		x, err := r.texts(r.source, table, pairs, 0)
		if err != nil {
			return "", err
		}
		y, err := r.texts(r.target, table, pairs, 1)
		if err != nil {
			return "", err
		}
		if d := differing(x, y); d != "" {
			out = append(out, table+" differs: "+d)
		}
	}
	return strings.Join(out, "; "), nil
}

// differing says how two sorted lists of rows differ.
func differing(a, b []string) string {
	if slices.Equal(a, b) {
		return ""
	}
	said := fmt.Sprintf("%d rows on the source, %d on the target", len(a), len(b))
	only := func(name string, list, other []string) {
		for _, x := range list {
			if _, found := slices.BinarySearch(other, x); !found {
				said += fmt.Sprintf("; only on the %s: %s", name, short(x))
				return
			}
		}
	}
	only("source", a, b)
	only("target", b, a)
	return said
}

// schemaOf is where a table is.
func (r *run) schemaOf(s side, table string) string {
	if s.maria != nil {
		return s.database
	}
	return r.schemas[table]
}

// texts are the rows of a table in one form for both servers, sorted.
func (r *run) texts(s side, table string, pairs [][2]field, n int) ([]string, error) {
	var list []string
	for _, p := range pairs {
		e := pgText(p[n])
		if s.maria != nil {
			e = mariaText(p[n], r.source.maria != nil && r.target.maria != nil)
		}
		list = append(list, e)
	}
	var rows [][]string
	if s.maria != nil {
		var err error
		if rows, err = r.rows(s, fmt.Sprintf("SELECT %s FROM `%s`", strings.Join(append(list, "1"), ", "),
			strings.ReplaceAll(table, "`", "``"))); err != nil {
			return nil, err
		}
	} else {
		c, err := r.open(s)
		if err != nil {
			return nil, err
		}
		defer func() { _ = c.Close(r.ctx) }()
		sql := fmt.Sprintf("SELECT ARRAY[%s]::text[] FROM %s.%s", strings.Join(append(list, "'1'"), ", "),
			ident(r.schemaOf(s, table)), ident(table))
		found, err := c.Query(r.ctx, sql)
		if err != nil {
			return nil, err
		}
		defer found.Close()
		for found.Next() {
			var line []*string
			if err := found.Scan(&line); err != nil {
				return nil, fmt.Errorf("%s: %w", short(sql), err)
			}
			texts := make([]string, len(line))
			for i, p := range line {
				if texts[i] = "NULL"; p != nil {
					texts[i] = *p
				}
			}
			rows = append(rows, texts)
		}
		if err := found.Err(); err != nil {
			return nil, fmt.Errorf("%s: %w", short(sql), err)
		}
	}
	out := make([]string, 0, len(rows))
	for _, row := range rows {
		for i := range pairs {
			if row[i] != "NULL" {
				row[i] = alike(row[i], pairs[i], r.source.maria != nil && r.target.maria == nil)
			}
		}
		out = append(out, strings.Join(row, "|"))
	}
	sort.Strings(out)
	return out, nil
}

// mariaText is an expression that gives a value of a MariaDB column as a text.
func mariaText(f field, both bool) string {
	q := "`" + strings.ReplaceAll(f.name, "`", "``") + "`"
	switch f.typ {
	case "float", "double": // the bits of the number
		return "hex(reverse(substr(ST_AsWKB(POINT(cast(" + q + " AS double), 0)), 6, 8)))"
	case "bit":
		return q + " + 0"
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob":
		return "hex(" + q + ")"
	case "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
		"geometrycollection":
		return "hex(ST_AsWKB(" + q + "))"
	case "char", "varchar", "tinytext", "text", "mediumtext", "longtext", "json", "enum", "set":
		if both {
			return "concat(hex(" + q + "), ' ', hex(convert(" + q + " USING utf8mb4)))"
		}
		return "hex(convert(" + q + " USING utf8mb4))"
	case "uuid", "inet6", "inet4":
		return "hex(convert(cast(" + q + " AS char) USING utf8mb4))"
	}
	return "cast(" + q + " AS char)"
}

// pgText is an expression that gives a value of a PostgreSQL column as a text.
func pgText(f field) string {
	q := ident(f.name)
	switch f.typ {
	case "float4", "float8":
		return "upper(encode(pg_catalog.float8send(" + q + "::float8), 'hex'))"
	case "bool":
		return q + "::int::text"
	case "bytea":
		return "upper(encode(" + q + ", 'hex'))"
	case "money":
		return q + "::numeric::text"
	case "int2", "int4", "int8", "oid", "numeric", "bit", "date":
		return q + "::text"
	case "timestamp", "timestamptz":
		return "to_char(" + q + ", 'YYYY-MM-DD HH24:MI:SS.US')"
	case "time":
		return "extract(epoch FROM " + q + ")::numeric::text"
	case "interval":
		if f.full == "interval" {
			return "CASE WHEN extract(year FROM " + q + ") <> 0 OR extract(month FROM " + q + ") <> 0 THEN " + q +
				"::text ELSE extract(epoch FROM " + q + ")::numeric::text END || ' interval ' || upper(encode(convert_to(" + q +
				"::text, 'UTF8'), 'hex'))"
		}
	}
	return "upper(encode(convert_to(" + q + "::text, 'UTF8'), 'hex'))"
}

// alike brings a value to the form that both sides give it. Losing is whether dates that do
// not exist become NULL on the way.
func alike(v string, p [2]field, losing bool) string {
	is := func(types ...string) bool {
		return slices.Contains(types, p[0].typ) || slices.Contains(types, p[1].typ)
	}
	switch {
	case is("float", "double", "float4", "float8"):
		if v == "8000000000000000" {
			return "0000000000000000"
		}
		return v
	case is("interval") && is("time"): // of MariaDB, which becomes an interval
		if a, _, ok := strings.Cut(v, " interval "); ok {
			return plainNumber(a)
		}
		return seconds(v)
	case is("interval"):
		if _, text, ok := strings.Cut(v, " interval "); ok {
			return text
		}
		return v
	case is("time"):
		if strings.Contains(v, ":") {
			return seconds(v)
		}
		return plainNumber(v)
	case is("bit") && p[0].typ != "varbit" && !is("text", "longtext"):
		if p[0].typ == p[1].typ && len(v) > 0 && strings.Trim(v, "01") == "" && strings.HasPrefix(p[1].full+p[0].full,
			"bit") && len(v) > 1 {
			if n, err := strconv.ParseUint(v, 2, 64); err == nil && padded(v, p) {
				return strconv.FormatUint(n, 10)
			}
		}
		return v
	case is("decimal", "numeric", "money", "int", "bigint", "smallint", "tinyint", "mediumint", "year", "int2", "int4",
		"int8", "oid"):
		return plainNumber(v)
	case is("date", "datetime", "timestamp", "timestamptz"):
		if losing && (strings.Contains(v, "-00") || strings.HasPrefix(v, "0000")) {
			return "NULL"
		}
		if strings.Contains(v, ".") {
			v = strings.TrimRight(strings.TrimRight(v, "0"), ".")
		}
		return v
	}
	return v
}

// padded reports whether a text of ones and zeros is a bit string and no number: PostgreSQL
// gives as many as the type has.
func padded(v string, p [2]field) bool {
	for _, f := range p {
		var n int
		if _, err := fmt.Sscanf(f.full, "bit(%d)", &n); err == nil && n == len(v) {
			return true
		}
	}
	return false
}

// plainNumber is a decimal number without zeros that say nothing.
func plainNumber(v string) string {
	if strings.Contains(v, ".") {
		v = strings.TrimRight(strings.TrimRight(v, "0"), ".")
	}
	neg := strings.HasPrefix(v, "-")
	v = strings.TrimLeft(strings.TrimPrefix(v, "-"), "0")
	if v == "" || strings.HasPrefix(v, ".") {
		v = "0" + v
	}
	if neg && v != "0" {
		v = "-" + v
	}
	return v
}

// seconds of a time such as -838:59:59.5.
func seconds(v string) string {
	neg := strings.HasPrefix(v, "-")
	part := strings.Split(strings.TrimPrefix(v, "-"), ":")
	if len(part) != 3 {
		return v
	}
	h, _ := strconv.Atoi(part[0])
	m, _ := strconv.Atoi(part[1])
	s, frac, _ := strings.Cut(part[2], ".")
	n, _ := strconv.Atoi(s)
	out := plainNumber(fmt.Sprintf("%d.%s", h*3600+m*60+n, frac+"0"))
	if neg && out != "0" {
		out = "-" + out
	}
	return out
}
