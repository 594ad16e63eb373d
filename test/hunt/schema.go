package hunt

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// gen makes a script from a seed, and nothing but the seed.
type gen struct {
	*rand.Rand
	s      *Script
	tables []*tab
	latin  bool // the source is not UTF-8
	away   bool // the target is MariaDB
	salt   int
}

// chance is true so often.
func (g *gen) chance(p float64) bool { return g.Float64() < p }

func pick[T any](g *gen, list ...T) T { return list[g.IntN(len(list))] }

func (g *gen) step(do, on, text string, may ...string) {
	g.s.Steps = append(g.s.Steps, Step{Do: do, On: on, Text: text, May: may})
}

func (g *gen) set(text string, may ...string)          { g.step(Set, "source", text, may...) }
func (g *gen) sql(session, text string, may ...string) { g.step(SQL, "source "+session, text, may...) }
func (g *gen) ferry(text string, may ...string)        { g.step(Ferry, "operator", text, may...) }

// col is a column: its type, and a value for the row number g.
type col struct {
	name, typ, value string
	move             string // of a key: the value moved to another, from k
	storage          string
	extension        string
}

// tab is a table of the script.
type tab struct {
	schema, name string
	key          []col
	cols         []col
	big          string // a column of large values, kept out of line
	unique       string // a column of numbers that are unique
	late         bool   // it is held at commit
	strict       bool   // rows that stand break a rule of it
	leaves       []string
	rows         int
	identity     string // a clause of the identity column, if there is one
	kids         []string
	partitioned  bool
	next         int
}

func ident(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
func (t *tab) q() string    { return ident(t.schema) + "." + ident(t.name) }

// word is the table's name as the product writes it.
func (t *tab) word() string {
	part := func(s string) string {
		if strings.ContainsAny(s, `."`) {
			return ident(s)
		}
		return s
	}
	return part(t.schema) + "." + part(t.name)
}

func (t *tab) keyList() string {
	var out []string
	for _, c := range t.key {
		out = append(out, ident(c.name))
	}
	return strings.Join(out, ", ")
}

// keyTypes are types that a key can be of.
var keyTypes = []col{
	{typ: "int", value: "g", move: "k + 1000000"},
	{typ: "bigint", value: "g::bigint * 1000003 % 1000000007", move: "k + 2000000011"},
	{typ: "smallint", value: "(g % 30000)::smallint", move: "(k - 30001)::smallint"},
	{typ: "text", value: "'k' || md5(g::text)", move: "k || 'm'"},
	{typ: "text", value: "chr(192 + g % 60) || ' ' || g", move: "k || chr(228)"},
	{typ: "text COLLATE \"C\"", value: "chr(65 + g % 57) || g", move: "k || 'Z'"},
	{typ: "text COLLATE \"de-x-icu\"", value: "chr(65 + g % 57) || g", move: "k || 'z'"},
	{typ: "text", value: "'L' || g || '-' || repeat(md5(g::text), 70)", move: "'M' || k", storage: "EXTERNAL"},
	{typ: "varchar(60)", value: "upper(md5(g::text)) || chr(97 + g % 26)", move: "lower(k)"},
	{typ: "char(14)", value: "'x' || g", move: "trim(k) || 'm'"},
	{typ: "bpchar", value: "('x' || g || '  ')::bpchar", move: "(trim(k) || 'm')::bpchar"},
	{typ: "uuid", value: "md5(g::text)::uuid", move: "md5(k::text)::uuid"},
	{typ: "numeric", value: "g * 1.50", move: "k + 1000000.25"},
	{typ: "numeric(14,4)", value: "g - 77.0001", move: "k + 1000000"},
	{typ: "double precision", value: "g * 0.1::float8", move: "k + 1e7"},
	{typ: "real", value: "g * 0.3::real", move: "(k + 1e5)::real"},
	{typ: "date", value: "'2020-01-01'::date + g", move: "k + 100000"},
	{typ: "timestamptz", value: "'2020-01-01 00:00:00+00'::timestamptz + g * interval '1 hour 0.000001 s'",
		move: "k + interval '100 years'"},
	{typ: "timestamp", value: "'0044-03-15 BC'::timestamp + g * interval '1 day'", move: "k + interval '1000 years'"},
	{typ: "interval", value: "g * interval '61 minutes'", move: "k + interval '10 years'"},
	{typ: "bytea", value: "decode(md5(g::text), 'hex')", move: "k || '\\x00'::bytea"},
	{typ: "inet", value: "'10.0.0.0'::inet + g", move: "k + 1000000"},
	{typ: "macaddr", value: "('08:00:2b:00:' || lpad(to_hex(g / 256 % 256), 2, '0') || ':' || lpad(to_hex(g % 256), 2, " +
		"'0'))::macaddr", move: "~k"},
	{typ: "oid", value: "(g + 20000)::oid", move: "(k::bigint + 1000000)::oid"},
	{typ: "\"char\"", value: "chr(33 + g % 90)::\"char\"", move: "k"},
	{typ: "int4range", value: "int4range(g, g + 1)", move: "int4range(lower(k) + 1000000, upper(k) + 1000000)"},
	{typ: "int[]", value: "ARRAY[g % 10, g]", move: "k || 1"},
	{typ: "citext", value: "'K' || md5(g::text)", move: "k || 'm'", extension: "citext"},
	{typ: "ltree", value: "('a.b' || g % 7 || '.c' || g)::ltree", move: "k || 'm'", extension: "ltree"},
	{typ: "jsonb", value: "jsonb_build_object('k', g)", move: "k || '{\"m\": 1}'"},
	{typ: "hive.code", value: "'c' || g", move: "k || 'm'"},
	{typ: "boolean", value: "g % 2 = 0", move: "k"},
	{typ: "pg_lsn", value: "'0/0'::pg_lsn + g::numeric", move: "k + 100000000::numeric"},
	{typ: "time", value: "'00:00'::time + g * interval '1 s'", move: "k + interval '0.5 s'"},
}

// valueTypes are types of other columns.
var valueTypes = []col{
	{typ: "int", value: "g * 7"},
	{typ: "bigint", value: "-g::bigint << 33"},
	{typ: "numeric", value: "CASE g % 9 WHEN 0 THEN 'NaN' WHEN 1 THEN 'Infinity' ELSE g / 7.0 END::numeric"},
	{typ: "numeric(12,3)", value: "g / 7.0"},
	{typ: "real", value: "CASE g % 11 WHEN 0 THEN '-0' WHEN 1 THEN 'NaN' ELSE (g / 3.0)::text END::real"},
	{typ: "double precision", value: "CASE g % 11 WHEN 0 THEN '-Infinity' ELSE (g / 3.0)::text END::float8"},
	{typ: "text", value: "CASE g % 5 WHEN 0 THEN '' WHEN 1 THEN E'a\\tb\\nc\\\\.' ELSE 'honey ' || chr(192 + g % 60) END"},
	{typ: "varchar(40)", value: "'v' || g"},
	{typ: "char(9)", value: "'c' || g % 100"},
	{typ: "bpchar", value: "('p' || g || '   ')::bpchar"},
	{typ: "bytea", value: "decode(md5(g::text) || '00ff5c27', 'hex')"},
	{typ: "boolean", value: "g % 3 = 0"},
	{typ: "date", value: "CASE g % 13 WHEN 0 THEN 'infinity' ELSE ('1999-12-31'::date + g)::text END::date"},
	{typ: "timestamp(3)", value: "'2021-05-06 07:08:09.123456'::timestamp + g * interval '1.7 s'"},
	{typ: "timestamptz", value: "CASE g % 13 WHEN 0 THEN '-infinity' ELSE ('2021-05-06 07:08:09.123456+05'::timestamptz " +
		"+ g * interval '1.7 s')::text END::timestamptz"},
	{typ: "time", value: "'07:08:09.123456'::time"},
	{typ: "timetz", value: "'07:08:09.5-03:30'::timetz"},
	{typ: "interval", value: "make_interval(g % 3, g % 14, 0, g % 40, g % 30, 0, g * 0.25) * CASE g % 2 WHEN 0 THEN 1 " +
		"ELSE -1 END"},
	{typ: "uuid", value: "md5('v' || g)::uuid"},
	{typ: "json", value: "('{\"a\":  ' || g || ', \"a\": [1,null]}')::json"},
	{typ: "jsonb", value: "jsonb_build_object('n', g, 't', 'x' || chr(233))"},
	{typ: "inet", value: "'10.1.0.0/16'::inet + g"},
	{typ: "cidr", value: "'10.2.0.0/16'::cidr"},
	{typ: "macaddr8", value: "'08:00:2b:01:02:03:04:05'::macaddr8"},
	{typ: "point", value: "point(g / 3.0, -g)"},
	{typ: "box", value: "box(point(g, g), point(0, 1.1))"},
	{typ: "path", value: "format('((%s,2),(1,%s.5),(2,-%s))', g, g, g)::path"},
	{typ: "circle", value: "circle(point(1.5, g), 2)"},
	{typ: "bit(9)", value: "(g % 512)::bit(9)"},
	{typ: "bit varying", value: "(g % 512)::bit(9)::varbit"},
	{typ: "money", value: "(g * 1.25)::numeric::money"},
	{typ: "tsvector", value: "to_tsvector('simple', 'honey bee ' || g)"},
	{typ: "tsquery", value: "'bee & !wasp'::tsquery"},
	{typ: "pg_lsn", value: "'1/0'::pg_lsn + g::numeric"},
	{typ: "xml", value: "xmlelement(name hive, g)"},
	{typ: "numrange", value: "numrange(g, g + 1.5, '(]')"},
	{typ: "tstzrange", value: "tstzrange('2020-01-01 00:00:00+00'::timestamptz, NULL)"},
	{typ: "datemultirange", value: "datemultirange(daterange('2020-01-01', '2020-02-01'), daterange('2021-01-01', " +
		"'2021-02-01'))"},
	{typ: "text[]", value: "ARRAY['a,b', NULL, '', '\"q\"', '{' || g || '}']"},
	{typ: "int[]", value: "('[0:1][3:4]={{1,2},{3,' || g || '}}')::int[]"},
	{typ: "timestamptz[]", value: "ARRAY['2021-05-06 07:08:09+05'::timestamptz, NULL]"},
	{typ: "name", value: "('n' || g)::name"},
	{typ: "xid8", value: "g::text::xid8"},
	{typ: "jsonpath", value: "'$.a[*] ? (@ > 1)'::jsonpath"},
	{typ: "hive.mood", value: "(ARRAY['calm', 'angry', 'it''s odd'])[1 + g % 3]::hive.mood"},
	{typ: "hive.code", value: "'d' || g"},
	{typ: "hive.place", value: "ROW(g, 'row, ' || chr(34) || g, NULL)::hive.place"},
	{typ: "hive.mood[]", value: "ARRAY['calm', NULL]::hive.mood[]"},
	{typ: "hive.span", value: "hive.span(g::float8, g + 0.5)"},
	{typ: "citext", value: "'Ci' || g", extension: "citext"},
	{typ: "hstore", value: "hstore(ARRAY['a', 'b'], ARRAY[g::text, NULL])", extension: "hstore"},
	{typ: "ltree", value: "('top.n' || g)::ltree", extension: "ltree"},
}

// keyTypes are those whose values the target takes.
func (g *gen) keyTypes() []col {
	if !g.away {
		return keyTypes
	}
	return slices.DeleteFunc(slices.Clone(keyTypes), func(c col) bool {
		fits := slices.Contains([]string{"int", "bigint", "smallint", "text", "text COLLATE \"C\"", "varchar(60)", "uuid",
			"numeric(14,4)", "double precision", "date", "timestamptz", "bytea", "boolean", "char(14)"}, c.typ)
		return !fits || c.storage != ""
	})
}

func (g *gen) valueTypes() []col {
	if !g.away {
		return valueTypes
	}
	list := slices.DeleteFunc(slices.Clone(valueTypes), func(c col) bool {
		return strings.Contains(strings.ToLower(c.value), "infinity") || strings.Contains(c.value, "'NaN'") ||
			c.typ == "bpchar"
	})
	return append(list, col{typ: "numeric", value: "g / 7.0"}, col{typ: "real", value: "(g / 3.0)::real"},
		col{typ: "double precision", value: "g / 3.0e10"},
		col{typ: "date", value: "'1999-12-31'::date + g"}, col{typ: "timestamptz",
			value: "'2021-05-06 07:08:09.123456+05'::timestamptz + g * interval '1.7 s'"})
}

var schemaNames = []string{"public", "public", "public", "Odd Schema", "apiary"}
var tableNames = []string{"hives", "harvest", "Order", "jar lots", "it's", "a.b", "select", "queen\"s", "frames",
	"Übersicht", "lots_of_honey_with_a_name_that_is_as_long_as_a_name_can_be_here"}
var columnNames = []string{"v", "Value", "group", "x y", "a\"b", "größe", "dropped", "user", "val$1", "ctid_", "mask",
	"ord"}

// types makes what own types there are.
func (g *gen) types() {
	g.set("CREATE SCHEMA hive; CREATE TYPE hive.mood AS ENUM ('calm', 'angry', 'it''s odd'); CREATE DOMAIN hive.code AS " +
		"text CHECK (length(VALUE) < 4000);" +
		"CREATE TYPE hive.place AS (n int, t text, d date); CREATE TYPE hive.span AS RANGE (subtype = float8)")
}

// table makes a table of the given number.
func (g *gen) table(n int) *tab {
	t := &tab{schema: pick(g, schemaNames...), name: fmt.Sprintf("%s_%d", pick(g, tableNames...), n),
		rows: pick(g, 0, 30, 300, 2000, 6000)}
	if len(t.name) > 60 {
		t.name = t.name[:57] + fmt.Sprint("_", n)
	}
	if g.latin {
		t.name = strings.NewReplacer("Ü", "U").Replace(t.name)
	}
	kind := pick(g, "key", "key", "key", "key", "key", "none", "unique", "parts", "parts", "parts", "parent")
	if g.away && kind == "parent" {
		kind = "key"
	}
	t.partitioned = kind == "parts"
	keys := pick(g, 1, 1, 1, 1, 2, 2, 3, 4)
	if t.partitioned {
		t.key = append(t.key, col{name: "id", typ: "int", value: "g", move: "k + 1000000"})
		keys = pick(g, 0, 0, 1)
	}
	for i := range keys {
		c := pick(g, g.keyTypes()...)
		c.name = fmt.Sprintf("k%d", i)
		if i == 0 && g.chance(0.3) && !(g.away && t.partitioned) {
			c.name = "Id"
		}
		t.key = append(t.key, c)
	}
	// Some types have few values: another column makes the key unique.
	sure := false
	for _, c := range t.key {
		sure = sure || !strings.Contains(`boolean "char" smallint macaddr time`, c.typ) && c.typ != "real"
	}
	if !sure {
		t.key = append(t.key, col{name: "kz", typ: "bigint", value: "g", move: "k + 5000000"})
	}
	names := g.Perm(len(columnNames))
	for i := range pick(g, 1, 2, 3, 5) {
		c := pick(g, g.valueTypes()...)
		c.name = columnNames[names[i]]
		if g.latin {
			c.name = strings.NewReplacer("ö", "o", "ß", "s").Replace(c.name)
		}
		t.cols = append(t.cols, c)
	}
	if g.chance(0.5) {
		t.big = "note"
		t.cols = append(t.cols, col{name: "note", typ: pick(g, "text", "text", "bytea", "jsonb"), storage: "EXTERNAL"})
		last := &t.cols[len(t.cols)-1]
		switch last.typ {
		case "text":
			last.value = "CASE g % 4 WHEN 0 THEN NULL ELSE repeat(md5(g::text), 90 + g % 50) END"
		case "bytea":
			last.value = "decode(repeat(md5(g::text), 200), 'hex')"
		case "jsonb":
			last.value = "jsonb_build_object('n', repeat(md5(g::text), 120))"
		}
		t.rows = min(t.rows, 600)
	}
	for _, c := range t.key {
		if c.storage != "" {
			t.rows = min(t.rows, 300)
		}
		if strings.Contains(c.typ, "smallint") || c.typ == "\"char\"" {
			t.rows = min(t.rows, 2000)
		}
	}
	if !t.partitioned && g.chance(0.35) {
		t.unique = "u"
		t.cols = append(t.cols, col{name: "u", typ: "int", value: "g"})
	}
	if g.chance(0.3) {
		t.identity = pick(g, "GENERATED ALWAYS AS IDENTITY",
			"GENERATED BY DEFAULT AS IDENTITY (START 1000 INCREMENT 7 CACHE 5)",
			"GENERATED ALWAYS AS IDENTITY (START -5 INCREMENT -3 MINVALUE -900000 MAXVALUE -1 CYCLE)", "DEFAULT nextval")
	}
	g.create(t, kind)
	g.tables = append(g.tables, t)
	return t
}

func (g *gen) create(t *tab, kind string) {
	for _, c := range append(append([]col{}, t.key...), t.cols...) {
		if c.extension != "" {
			g.set("CREATE EXTENSION IF NOT EXISTS " + c.extension)
		}
	}
	if t.schema != "public" {
		g.set("CREATE SCHEMA IF NOT EXISTS " + ident(t.schema))
	}
	var lines []string
	for i, c := range t.key {
		line := ident(c.name) + " " + c.typ
		if kind == "unique" || kind == "none" && i > 0 {
			line += " NOT NULL"
		}
		lines = append(lines, line)
	}
	for _, c := range t.cols {
		lines = append(lines, ident(c.name)+" "+c.typ)
	}
	switch t.identity {
	case "":
	case "DEFAULT nextval":
		g.set(fmt.Sprintf("CREATE SEQUENCE %s.%s INCREMENT 3 MAXVALUE 99999999 CYCLE", ident(t.schema), ident(t.name+"_no")))
		lines = append(lines, fmt.Sprintf("no bigint DEFAULT nextval('%s.%s')", strings.ReplaceAll(ident(t.schema), "'",
			"''"), strings.ReplaceAll(ident(t.name+"_no"), "'", "''")))
	default:
		if t.partitioned || kind == "parent" {
			t.identity = ""
		} else {
			lines = append(lines, "no bigint "+t.identity)
		}
	}
	if g.chance(0.2) && !t.partitioned {
		lines = append(lines, "gen text GENERATED ALWAYS AS ('g' || "+pick(g, "'x'", "''")+") STORED")
	}
	if t.unique != "" {
		t.late = g.chance(0.3)
		lines = append(lines, "UNIQUE (u)"+map[bool]string{true: " DEFERRABLE INITIALLY DEFERRED"}[t.late])
	}
	switch kind {
	case "key", "parts", "parent":
		lines = append(lines, "PRIMARY KEY ("+t.keyList()+")"+pick(g, "", "", "", " DEFERRABLE"))
	case "unique":
		lines = append(lines, "UNIQUE ("+t.keyList()+")")
	}
	parts := ""
	how := pick(g, "range", "range", "hash")
	if t.partitioned {
		parts = " PARTITION BY " + strings.ToUpper(how) + " (id)"
		lines[len(lines)-1] = "PRIMARY KEY (" + t.keyList() + ")"
	}
	unlogged := ""
	if !t.partitioned && g.chance(0.03) {
		unlogged = "UNLOGGED "
	}
	var may []string
	if unlogged != "" {
		may = append(may, t.word())
	}
	g.set(fmt.Sprintf("CREATE %sTABLE %s (\n  %s)%s", unlogged, t.q(), strings.Join(lines, ",\n  "), parts), may...)
	if t.partitioned {
		n := pick(g, 2, 3, 4)
		for i := range n {
			leaf := ident(t.schema) + "." + ident(fmt.Sprintf("%s_p%d", cutName(t.name), i))
			bound := fmt.Sprintf("FOR VALUES WITH (MODULUS %d, REMAINDER %d)", n, i)
			if how == "range" {
				lo, hi := fmt.Sprint(i*max(t.rows/n, 1)), fmt.Sprint((i+1)*max(t.rows/n, 1))
				if i == 0 {
					lo = "MINVALUE"
				}
				if i == n-1 {
					hi = "10000000"
				}
				bound = fmt.Sprintf("FOR VALUES FROM (%s) TO (%s)", lo, hi)
			}
			g.set(fmt.Sprintf("CREATE TABLE %s PARTITION OF %s %s", leaf, t.q(), bound))
			t.leaves = append(t.leaves, leaf)
		}
		if how == "range" {
			t.next = 10_000_000
		}
	}
	for _, c := range append(append([]col{}, t.key...), t.cols...) {
		if c.storage != "" {
			for _, x := range append([]string{t.q()}, t.leaves...) {
				g.set(fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET STORAGE %s", x, ident(c.name), c.storage))
			}
		}
	}
	g.identities(t, kind)
	if kind == "parent" {
		kid := ident(t.schema) + "." + ident(cutName(t.name)+"_kid")
		g.set(fmt.Sprintf("CREATE TABLE %s (extra text, PRIMARY KEY (%s)) INHERITS (%s)", kid, t.keyList(), t.q()), t.word(),
			t.schema+"."+cutName(t.name)+"_kid")
		g.set(fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM generate_series(900001, 900020) g", kid, g.names(t),
			g.values(t, "g")))
		t.kids = append(t.kids, kid)
	}
	if g.chance(0.2) {
		g.set(fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s CHECK (length(%s::text) < 0 OR true) NOT VALID", t.q(),
			ident("ck_"+t.cols[0].name), ident(t.cols[0].name)))
	}
	if g.chance(0.15) && !t.partitioned {
		// Rows that stand break it: the server lets them.
		g.set(fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM generate_series(800001, 800003) g", t.q(), g.names(t),
			g.values(t, "g")))
		g.set(fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s CHECK (%s IS NULL) NOT VALID NO INHERIT", t.q(),
			ident("never_"+t.cols[0].name), ident(t.cols[0].name)))
		t.strict = true
		g.set(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT IF EXISTS \"x\"", t.q()))
		t.rows = 0
	}
	if g.chance(0.3) {
		g.set(fmt.Sprintf("CREATE INDEX ON %s (%s) WHERE %s IS NOT NULL", t.q(), t.keyList(), ident(t.cols[0].name)))
	}
	if g.chance(0.2) && !t.partitioned {
		g.set(fmt.Sprintf("CREATE INDEX ON %s ((%s IS NULL), %s DESC)", t.q(), ident(t.cols[0].name), ident(t.key[0].name)))
	}
	if g.chance(0.15) && !t.partitioned && kind == "key" && t.cols[0].storage == "" {
		g.set(fmt.Sprintf("CREATE UNIQUE INDEX ON %s (%s) INCLUDE (%s)", t.q(), t.keyList(), ident(t.cols[0].name)))
	}
	if t.rows > 0 {
		g.set(fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM generate_series(1, %d) g", t.q(), g.names(t), g.values(t, "g"),
			t.rows))
	}
	if g.chance(0.5) {
		g.set("ANALYZE " + t.q())
	}
}

func cutName(s string) string {
	if len(s) > 50 {
		return s[:48] + s[len(s)-2:]
	}
	return s
}

// identities sets how the log identifies rows, of a root and its leaves apart.
func (g *gen) identities(t *tab, kind string) {
	for i, x := range append([]string{t.q()}, t.leaves...) {
		if !g.chance(0.35) {
			continue
		}
		how := pick(g, "FULL", "FULL", "DEFAULT", "NOTHING")
		if kind == "unique" && i == 0 && g.chance(0.5) {
			g.set(fmt.Sprintf("CREATE UNIQUE INDEX %s ON %s (%s)", ident(cutName(t.name)+"_ri"), x, t.keyList()))
			how = "USING INDEX " + ident(cutName(t.name)+"_ri")
		}
		g.set(fmt.Sprintf("ALTER TABLE %s REPLICA IDENTITY %s", x, how))
	}
}

// names and values of a row, but for what the server fills in by itself.
func (g *gen) names(t *tab) string {
	out := []string{t.keyList()}
	for _, c := range t.cols {
		out = append(out, ident(c.name))
	}
	return strings.Join(out, ", ")
}

func (g *gen) values(t *tab, n string) string {
	var out []string
	for _, c := range t.key {
		out = append(out, replaceG(c.value, n))
	}
	for i, c := range t.cols {
		v := replaceG(c.value, n)
		if c.name != t.unique && i%2 == 1 {
			v = fmt.Sprintf("CASE WHEN %s %% 7 = 3 THEN NULL ELSE %s END", n, v)
		}
		out = append(out, v)
	}
	return strings.Join(out, ", ")
}

// replaceG puts another number in the place of g.
func replaceG(value, n string) string {
	if n == "g" {
		return value
	}
	var b strings.Builder
	isWord := func(c byte) bool {
		return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
	}
	for i := 0; i < len(value); i++ {
		if value[i] == 'g' && (i == 0 || !isWord(value[i-1])) && (i+1 == len(value) || !isWord(value[i+1])) {
			b.WriteString(n)
		} else {
			b.WriteByte(value[i])
		}
	}
	return b.String()
}
