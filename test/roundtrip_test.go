package test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/engine/mariadb"
	"dustyferry/internal/engine/postgres"
)

// trips numbers the chunks of round trips.
var trips atomic.Int64

// house is a database that a round trip goes through, opened as an engine.
type house struct {
	*engine.Opened
	kind, name string
	texts      bool // rows from here come as texts, though they could come in binary form
}

func postgresHouse(t *testing.T, name string) house {
	t.Helper()
	s := servers.source
	d, err := engine.Open(t.Context(), postgres.Driver{}, engine.Endpoint{Host: s.Host, Port: s.Port, Database: name,
		User: s.User, Password: s.Password, TLS: "disable"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Close)
	return house{Opened: d, kind: typemap.Postgres, name: name}
}

func mariaHouse(t *testing.T, name string) house {
	t.Helper()
	m := mariaDB(t)
	d, err := engine.Open(t.Context(), mariadb.Driver{}, engine.Endpoint{Host: m.Host, Port: m.Port, Database: name,
		User: m.User, Password: m.Password, TLS: "disable"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Close)
	return house{Opened: d, kind: typemap.MariaDB, name: name}
}

// shipment is a table that goes from one house to another as one chunk.
type shipment struct {
	typ   string // of its column v
	table domain.TableName
	rule  domain.Rule
	plan  domain.TablePlan
	err   error // why it did not get there
}

// ship takes tables to another house. What they are is read, and the target prepared, once for
// all of them.
func ship(t *testing.T, from, to house, list []*shipment) {
	t.Helper()
	cat, err := from.Catalog(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	there := make([]domain.TablePlan, len(list))
	for i, s := range list {
		x := cat.Table(s.table)
		if x == nil {
			t.Fatalf("there is no table %s", s.table)
		}
		if s.plan, err = from.Plan(x); err != nil {
			t.Fatal(err)
		}
		s.plan, _, err = typemap.Mapping{From: from.kind, To: to.kind, Into: to.name, Catalog: cat}.BuildTargetPlan(s.plan,
			s.rule)
		if err != nil {
			t.Fatal(err)
		}
		there[i] = s.plan.TargetPlan()
	}
	if err := to.PrepareTarget(t.Context(), "trip", &domain.Catalog{}, there, domain.DefaultSettings(),
		func(engine.Object, error) {}); err != nil {
		t.Fatal(err)
	}
	for i, s := range list {
		s.err = s.load(t, from, to, &there[i])
	}
}

func (s *shipment) load(t *testing.T, from, to house, there *domain.TablePlan) error {
	t.Helper()
	r, err := from.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	w, err := to.OpenWriter(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if _, err := r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	binary := r.SupportsBinary(&s.plan)
	if able, err := w.SupportsBinary(t.Context(), there); binary && !able {
		t.Errorf("the table is written in binary form by one side alone (%v)", err)
	}
	usual := from.kind != to.kind && (to.kind == typemap.Postgres || s.typ != "bit(64)") // bits are no parameter
	if binary != usual && s.rule.Columns == nil {
		t.Errorf("%s from %s to %s: binary is %t", s.table, from.kind, to.kind, binary)
	}
	binary = binary && !from.texts
	if err := w.Begin(t.Context(), there, binary, nil); err != nil {
		t.Fatal(err)
	}
	sum, err := r.Copy(t.Context(), &s.plan, &domain.Chunk{}, binary, func(b []byte) error {
		return w.Write(t.Context(), b)
	})
	if err != nil {
		return err
	}
	return w.Land(t.Context(), engine.Mark{Crossing: "trip", Chunk: trips.Add(1), Epoch: 1, Sum: sum})
}

// alike reports whether both sides of a plan compare as equal.
func alike(t *testing.T, from, to house, p domain.TablePlan) bool {
	t.Helper()
	var sums [2]string
	there := p.TargetPlan()
	for i, side := range []struct {
		house
		plan *domain.TablePlan
	}{{from, &p}, {to, &there}} {
		v, _, err := side.OpenView(t.Context(), false, time.Second)
		if err != nil {
			t.Fatal(err)
		}
		got, err := v.Sums(t.Context(), side.plan, engine.Part{Buckets: 2}, func(int64) {})
		v.Close()
		if err != nil {
			t.Fatal(err)
		}
		sums[i] = fmt.Sprint(got)
	}
	return sums[0] == sums[1]
}

// throughAndBack ships tables to a house of the other engine, and on to one of its own, and
// returns those that got there.
func throughAndBack(t *testing.T, from, between, to house, list []*shipment) []*shipment {
	t.Helper()
	ship(t, from, between, list)
	var home []*shipment
	for _, s := range list {
		if s.err != nil {
			t.Errorf("%s does not get there: %v", s.typ, s.err)
			continue
		}
		home = append(home, &shipment{typ: s.typ, table: s.plan.Target})
	}
	ship(t, between, to, home)
	for _, s := range home {
		if s.err != nil {
			t.Errorf("%s does not come back: %v", s.typ, s.err)
		}
	}
	return home
}

// TestColumnsPlannedOtherwise plans columns as other types on every way. What is
// taken compares as equal; what would be cut short is refused.
func TestColumnsPlannedOtherwise(t *testing.T) {
	a, b := newPair(t), newPair(t)
	m1, db := newMaria(t)
	m2, _ := newMaria(t)
	pg, pg2, my, my2 := postgresHouse(t, a.source), postgresHouse(t, b.source), mariaHouse(t, m1), mariaHouse(t, m2)
	type trial struct {
		shipment
		from, to house
		value    string
		taken    bool
	}
	ways := map[[2]string][]*trial{}
	n := 0
	for _, c := range []struct {
		from, to house
		typ, as  string
		taken    []string
		refused  []string
	}{
		{pg, my, "integer", "decimal(12,3)", []string{"7", "-123456789"}, []string{"-2147483648"}},
		{pg, my, "integer", "smallint", []string{"32767"}, []string{"32768"}}, {pg, my, "numeric(9,3)", "decimal(12,5)",
			[]string{"1.5", "-999999.999"}, nil},
		{pg, my, "numeric(9,3)", "decimal(9,1)", []string{"1.5"}, []string{"1.505"}}, {pg, my, "timestamp", "datetime(3)",
			[]string{"2026-01-01 10:00:00.5", "2026-01-01 10:00:00"}, []string{"2026-01-01 10:00:00.000001"}},
		{pg, my, "real", "double", []string{"0.1", "1000000", "1e-30"}, nil}, {pg, my, "text", "varchar(5)",
			[]string{"honey", "a "}, []string{"longer"}}, {pg, my, "uuid", "uuid",
			[]string{"6ba7b810-9dad-11d1-80b4-00c04fd430c8"}, nil},
		{pg, my, "date", "varchar(40)", []string{"infinity", "0044-03-15 BC"}, nil}, {pg, my, "bytea", "varbinary(3)",
			[]string{`\x00ff01`}, []string{`\x00ff0102`}}, {pg, my, "boolean", "tinyint", []string{"true", "false"}, nil},
		{my, pg, "int", "numeric(12,2)", []string{"7", "-1"}, nil}, {my, pg, "decimal(9,3)", "numeric(12,5)", []string{"1.5"},
			nil}, {my, pg, "decimal(9,3)", "numeric", []string{"1.5"}, nil}, {my, pg, "datetime(6)", "timestamp(3)",
			[]string{"2026-01-01 10:00:00.5"}, []string{"2026-01-01 10:00:00.000001"}},
		{my, pg, "float", "double precision", []string{"0.1", "1000000"}, nil}, {my, pg, "time(3)", "time(1)",
			[]string{"10:00:00.5"}, []string{"10:00:00.123"}}, {my, pg, "datetime", "timestamptz",
			[]string{"2026-01-01 10:00:00"}, nil}, {my, pg, "bigint unsigned", "bigint", []string{"7"},
			[]string{"18446744073709551615"}},
		{my, my2, "decimal(9,3)", "decimal(12,5)", []string{"1.5"}, nil}, {my, my2, "datetime(6)", "datetime",
			[]string{"2026-01-01 10:00:00"}, []string{"2026-01-01 10:00:00.5"}}, {my, my2, "float", "double",
			[]string{"0.1", "1000000"}, nil}, {my, my2, "varchar(9)", "longtext", []string{"a ", ""}, nil},
		{pg, pg2, "integer", "bigint", []string{"7"}, nil}, {pg, pg2, "numeric(9,3)", "numeric(12,5)", []string{"1.5"}, nil},
		{pg, pg2, "character(6)", "text", []string{"ab"}, nil}, {pg, pg2, "timestamp", "timestamp(0)",
			[]string{"2026-01-01 10:00:00"}, []string{"2026-01-01 10:00:00.5"}},
	} {
		for i, v := range append(append([]string{}, c.taken...), c.refused...) {
			n++
			table := domain.TableName{Schema: "public", Name: fmt.Sprintf("o%d", n)}
			if c.from.kind == typemap.MariaDB {
				table.Schema = c.from.name
				maria(t, db, fmt.Sprintf("CREATE TABLE %s (id int PRIMARY KEY, v %s, w int GENERATED ALWAYS AS (id + 1) VIRTUAL)",
					table.Name, c.typ), fmt.Sprintf("INSERT INTO %s (id, v) VALUES (1, '%s'), (2, NULL)", table.Name, v))
			} else {
				exec1(t, a.sourceURL(), fmt.Sprintf("CREATE TABLE %s (id integer PRIMARY KEY, v %s, w integer GENERATED ALWAYS "+
					"AS (id + 1) STORED)", table, c.typ))
				exec1(t, a.sourceURL(), fmt.Sprintf("INSERT INTO %s (id, v) VALUES (1, $1::text::%s), (2, NULL)", table, c.typ), v)
			}
			way := [2]string{c.from.name, c.to.name}
			ways[way] = append(ways[way], &trial{shipment: shipment{typ: c.typ + " as " + c.as, table: table,
				rule: domain.Rule{Columns: map[string]domain.ColumnRule{"v": {Type: c.as}}}}, from: c.from, to: c.to, value: v,
				taken: i < len(c.taken)})
		}
	}
	for _, trials := range ways {
		list := make([]*shipment, len(trials))
		for i, x := range trials {
			list[i] = &x.shipment
		}
		ship(t, trials[0].from, trials[0].to, list)
		for _, x := range trials {
			switch {
			case x.taken && x.err != nil:
				t.Errorf("%s: %q is refused: %v", x.typ, x.value, x.err)
			case x.taken && !alike(t, x.from, x.to, x.plan):
				t.Errorf("%s: %q is another there", x.typ, x.value)
			case !x.taken && x.err == nil:
				t.Errorf("%s: %q was taken", x.typ, x.value)
			}
		}
	}
	if n < 50 || len(ways) != 4 {
		t.Errorf("%d values on %d ways", n, len(ways))
	}
}

// limits are values at the ends of what each type holds, by PostgreSQL's names.
var limits = map[string][]string{
	"smallint": {"-32768", "0", "32767"}, "integer": {"-2147483648", "2147483647"}, "bigint": {"-9223372036854775808",
		"9223372036854775807"},
	"numeric(65,30)": {"99999999999999999999999999999999999.999999999999999999999999999999",
		"-0.000000000000000000000000000001"}, "numeric(38,38)": {"0.99999999999999999999999999999999999999"},
	"numeric(5,0)": {"-99999"},
	"numeric":      {"0", "1.50", "12345678901234567890123456789012345", "0.000000000000000000000000000001"},
	"real":         {"0", "1e-45", "1.1754944e-38", "3.4028235e+38", "-3.4028235e+38", "0.1", "16777217"},
	"double precision": {"0", "5e-324", "2.2250738585072014e-308", "1.7976931348623157e+308", "-1.7976931348623157e+308",
		"0.1", "9007199254740993"},
	"boolean": {"true", "false"}, "money": {"-92233720368547758.08", "92233720368547758.07", "0.01"},
	"text": {"", " ", "a ", "A", "\t\n\r\\N\\.", "\x01\x1a\x7f", "☕🐝 ÄÖ", "NULL", strings.Repeat("honey ", 20_000),
		"\u00a0e\u0301"}, "varchar(10)": {"", "żółć  ", "1234567890"}, "character(6)": {"ab", "abcdef", ""},
	"bytea": {"", `\x00`, `\x5c4e0a090d1a27ff`, `\x` + strings.Repeat("00ff", 40_000)},
	"date":  {"0001-01-01", "1582-10-10", "9999-12-31"}, "timestamp": {"0001-01-01 00:00:00", "9999-12-31 23:59:59.999999",
		"2026-03-29 02:30:00.000001"}, "timestamp(2)": {"2026-01-01 00:00:00.99"},
	"timestamptz": {"1970-01-01 00:00:00+00", "2038-01-19 03:14:08.5+00", "9999-12-31 23:59:59.999999+00"},
	"time":        {"00:00:00", "24:00:00", "23:59:59.999999"}, "timetz": {"23:59:59.999999+14:30"},
	"interval": {"178000000 years", "-1 year -2 mons +3 days -04:05:06.7", "00:00:00"},
	"uuid": {"00000000-0000-0000-0000-000000000000", "ffffffff-ffff-ffff-ffff-ffffffffffff",
		"eccbc87e-4b5c-e2fe-2830-8fd9f2a7baf3"},
	"inet": {"10.0.0.9", "::1", "2001:db8::1/64"}, "cidr": {"10.0.0.0/8"}, "macaddr": {"08:00:2b:01:02:03"},
	"json":    {`{"n": 1.10, "n": 2}`, `"\u0001☕"`, "12345678901234567890.123456789012345678901234567890", "null"},
	"jsonb":   {`{"b": 1.50, "a": "é"}`, "[]"},
	"bit(64)": {strings.Repeat("1", 64), strings.Repeat("0", 64)}, "bit(70)": {strings.Repeat("10", 35)},
	"varbit": {"", "101"},
	"text[]": {"{}", `{"a,b",NULL,"c\"d","\\","NULL"}`}, "integer[]": {"{{1,2},{3,NULL}}"}, "int4range": {"empty", "[1,)"},
	"point": {"(1.5,-2)"}, "xml": {"<a>b</a>"}, "tsvector": {"'bee':1 'hive':2"},
}

// beyond are values that a verdict says cannot be kept.
var beyond = map[string][]string{
	"numeric(9,3)": {"NaN"}, "numeric": {"NaN", "Infinity", "123456789012345678901234567890123456",
		"0.0000000000000000000000000000001"}, "real": {"Infinity", "NaN"}, "double precision": {"-Infinity", "NaN"},
	"date": {"infinity", "-infinity", "0044-03-15 BC", "10000-01-01"}, "timestamp": {"infinity", "4713-01-01 00:00:00 BC",
		"294276-12-31 23:59:59"}, "timestamptz": {"-infinity"},
	"json": {strings.Repeat("[", 40) + strings.Repeat("]", 40)},
}

// TestRoundTripFromPostgres takes values of every type, at the limits and
// generated, to MariaDB and back, and compares them in plain SQL: in binary form, as texts, and
// in binary form behind a row so wide that what follows it goes as a file.
func TestRoundTripFromPostgres(t *testing.T) {
	t.Run("binary", func(t *testing.T) { roundTripFromPostgres(t, false, 0) })
	t.Run("texts", func(t *testing.T) { roundTripFromPostgres(t, true, 0) })
	t.Run("file", func(t *testing.T) { roundTripFromPostgres(t, false, 1_500_000) })
}

func roundTripFromPostgres(t *testing.T, asTexts bool, wide int) {
	start := newPair(t)
	back := newPair(t)
	middle, db := newMaria(t)
	from, between, to := postgresHouse(t, start.source), mariaHouse(t, middle), postgresHouse(t, back.source)
	from.texts = asTexts
	r := rand.New(rand.NewPCG(3, 5))
	c, d := connect(t, start.sourceURL()), connect(t, back.sourceURL())
	var list []*shipment
	n := 0
	for typ, values := range limits {
		n++
		table := domain.TableName{Schema: "public", Name: fmt.Sprintf("t%d", n)}
		if _, err := c.Exec(t.Context(), fmt.Sprintf(`CREATE TABLE %s (id integer PRIMARY KEY, v %s);
  ALTER TABLE %[1]s ADD pad text; INSERT INTO %[1]s VALUES (-2, NULL, repeat('x', %[3]d))`, table, typ, wide)); err != nil {
			t.Fatal(err)
		}
		for i, v := range append(values, generated(r, typ)...) {
			if _, err := c.Exec(t.Context(), fmt.Sprintf(`INSERT INTO %s VALUES ($1, $2::text::%s)`, table, typ), i,
				v); err != nil {
				t.Fatalf("%s %.60q: %v", typ, v, err)
			}
		}
		if _, err := c.Exec(t.Context(), fmt.Sprintf(`INSERT INTO %s VALUES (-1, NULL)`, table)); err != nil {
			t.Fatal(err)
		}
		list = append(list, &shipment{typ: typ, table: table})
	}
	for _, s := range throughAndBack(t, from, between, to, list) {
		// The way back ends in the type that MariaDB's becomes, which is read as the first.
		show := map[string]string{"bytea": "v::bytea::text", "boolean": "v::integer::boolean::text",
			"money": "v::money::text"}[s.typ]
		switch {
		case strings.HasPrefix(s.typ, "numeric"):
			show = "trim_scale(v)::text"
		case show == "":
			show = "v::text::" + s.typ + "::text"
		}
		sameTexts(t, s.typ, collect(t, c, fmt.Sprintf("SELECT id || ' ' || coalesce(%s, '~') FROM %s", show, s.table.Name)),
			collect(t, d, fmt.Sprintf("SELECT id || ' ' || coalesce(%s, '~') FROM %s.%s", show, s.plan.Target.Schema,
				s.plan.Target.Name)))
	}
	var wrong []*shipment
	for typ, values := range beyond {
		for _, v := range values {
			n++
			table := domain.TableName{Schema: "public", Name: fmt.Sprintf("t%d", n)}
			exec1(t, start.sourceURL(), fmt.Sprintf(`CREATE TABLE %s (id integer PRIMARY KEY, v %s);
  INSERT INTO %s VALUES (1, '%s')`, table, typ, table, v))
			wrong = append(wrong, &shipment{typ: fmt.Sprintf("%s %.40s", typ, v), table: table})
		}
	}
	ship(t, from, between, wrong)
	for _, s := range wrong {
		if s.err == nil {
			t.Errorf("%s was taken, as %q", s.typ, texts(t, db, "SELECT v FROM "+s.table.Name))
		} else if !strings.Contains(s.err.Error(), "v") {
			t.Errorf("%s is refused without the column: %v", s.typ, s.err)
		}
	}
}

// generated makes values by chance.
func generated(r *rand.Rand, typ string) []string {
	var out []string
	for range 50 {
		switch typ {
		case "integer":
			out = append(out, fmt.Sprint(int32(r.Uint32())))
		case "bigint":
			out = append(out, fmt.Sprint(int64(r.Uint64())))
		case "double precision":
			if f := math.Float64frombits(r.Uint64()); !math.IsNaN(f) && !math.IsInf(f, 0) {
				out = append(out, fmt.Sprint(f))
			}
		case "real":
			if f := math.Float32frombits(r.Uint32()); f == f && !math.IsInf(float64(f), 0) {
				out = append(out, fmt.Sprint(f))
			}
		case "numeric":
			out = append(out, fmt.Sprintf("%d.%09d", int64(r.Uint64()), r.IntN(1e9)))
		case "text":
			var b strings.Builder
			for range r.IntN(40) {
				b.WriteRune([]rune{rune(1 + r.IntN(127)), rune(0x80 + r.IntN(0x700)), rune(0x1F400 + r.IntN(80))}[r.IntN(3)])
			}
			out = append(out, b.String())
		case "bytea":
			b := make([]byte, r.IntN(60))
			for i := range b {
				b[i] = byte(r.Uint32())
			}
			out = append(out, fmt.Sprintf(`\x%x`, b))
		case "timestamp", "timestamptz":
			out = append(out, fmt.Sprintf("%04d-%02d-%02d %02d:%02d:%02d.%06d", 1+r.IntN(9999), 1+r.IntN(12), 1+r.IntN(28),
				r.IntN(24), r.IntN(60), r.IntN(60), r.IntN(1e6)))
		case "interval":
			out = append(out, fmt.Sprintf("%d months %d days %d microseconds", r.IntN(4000)-2000, r.IntN(4000)-2000,
				int64(r.Uint64()>>20)))
		}
	}
	return out
}

// mariaLimits are expressions of values at the ends of what each type of MariaDB
// holds, and how both ends of the way are written alike: %s is the column.
var mariaLimits = map[string]struct {
	values          []string
	there, backHome string
}{
	"tinyint": {[]string{"-128", "127"}, "%s", "%s"}, "smallint unsigned": {[]string{"0", "65535"}, "%s", "%s"},
	"mediumint": {[]string{"-8388608", "8388607"}, "%s", "%s"}, "int unsigned": {[]string{"4294967295"}, "%s", "%s"},
	"bigint":          {[]string{"-9223372036854775808", "9223372036854775807"}, "%s", "%s"},
	"bigint unsigned": {[]string{"18446744073709551615"}, "%s", "%s"}, "int(6) unsigned zerofill": {[]string{"42"},
		"%s + 0", "%s"},
	"decimal(38,12)": {[]string{"-12345678901234567890123456.000000000001", "0"}, "%s", "%s"},
	"decimal(65,0)":  {[]string{strings.Repeat("9", 65)}, "%s", "%s"},
	"float": {[]string{"3.4028234e38", "-3.4028234e38", "0.1", "1e-45", "16777216", "123456.7"},
		"hex(ST_AsWKB(point(%s, 0)))", "hex(ST_AsWKB(point(%s, 0)))"},
	"double": {[]string{"1.7976931348623157e308", "5e-324", "0.1", "9007199254740993"}, "hex(ST_AsWKB(point(%s, 0)))",
		"hex(ST_AsWKB(point(%s, 0)))"},
	"bit(64)": {[]string{"b'" + strings.Repeat("1", 64) + "'", "b'0'"}, "%s + 0", "%s + 0"},
	"year":    {[]string{"1901", "2155"}, "%s", "%s"},
	"char(9)": {[]string{"' a b'", "''"}, "%s", "%s"},
	"varchar(9)": {[]string{"'a  '", "'NULL'", "'\\\\N'", "_utf8mb4 x'f09f908d'"}, "hex(%s)",
		"hex(%s)"},
	"varchar(30) CHARACTER SET latin1": {[]string{"'né€ñ'"}, "hex(convert(%s USING utf8mb4))", "hex(%s)"},
	"longtext":                         {[]string{"repeat('a\\\\\\t\\n\\r\\Z☕', 9000)", "''"}, "hex(%s)", "hex(%s)"},
	"json":                             {[]string{`'{"n": 1.10, "n": 2}'`, "'null'"}, "hex(%s)", "hex(%s)"},
	"enum('b','it''s')":                {[]string{"'it''s'", "1"}, "%s", "%s"},
	"set('a','b','c')":                 {[]string{"''", "'a,c'"}, "%s", "%s"},
	"binary(4)":                        {[]string{"x'00ff'"}, "hex(%s)", "hex(%s)"},
	"longblob": {[]string{"repeat(x'00ff5c0a09', 9000)", "''"},
		"hex(%s)", "hex(%s)"},
	"date":         {[]string{"'1000-01-01'", "'9999-12-31'", "'0001-01-01'"}, "%s", "%s"},
	"datetime(6)":  {[]string{"'9999-12-31 23:59:59.999999'", "'1000-01-01'"}, "%s", "%s"},
	"datetime":     {[]string{"'2026-03-29 02:30'"}, "%s", "%s"},
	"timestamp(3)": {[]string{"'1970-01-01 00:00:01'", "'2038-01-19 03:14:07.999'"}, "%s", "%s"},
	"time(6)": {[]string{"'-838:59:59.999999'", "'838:59:59.5'", "'-00:00:01'", "'00:00:00'"}, "%s",
		"cast(%s AS time(6))"},
	"uuid": {[]string{"'00000000-0000-0000-0000-000000000001'", "'6ba7b810-9dad-11d1-80b4-00c04fd430c8'"}, "%s",
		"%s"},
	"inet6": {[]string{"'::ffff:10.0.0.9'", "'2001:db8::1'"}, "%s", "%s"}, "inet4": {[]string{"'255.0.0.1'"}, "%s",
		"%s"},
	"geometry": {[]string{"point(1.5, -0.1)", "ST_GeomFromText('LINESTRING(0 0, 1 1e300)')"}, "hex(ST_AsWKB(%s))",
		"hex(%s)"},
}

// TestRoundTripFromMariaDB takes values at the limits to PostgreSQL and back, in binary form
// and as texts.
func TestRoundTripFromMariaDB(t *testing.T) {
	t.Run("binary", func(t *testing.T) { roundTripFromMariaDB(t, false) })
	t.Run("texts", func(t *testing.T) { roundTripFromMariaDB(t, true) })
}

func roundTripFromMariaDB(t *testing.T, asTexts bool) {
	first, db := newMaria(t)
	last, back := newMaria(t)
	p := newPair(t)
	from, between, to := mariaHouse(t, first), postgresHouse(t, p.source), mariaHouse(t, last)
	from.texts = asTexts
	var list []*shipment
	n := 0
	for typ, c := range mariaLimits {
		n++
		table := domain.TableName{Schema: first, Name: fmt.Sprintf("t%d", n)}
		maria(t, db, fmt.Sprintf("CREATE TABLE %s (id int PRIMARY KEY, v %s NULL)", table.Name, typ),
			fmt.Sprintf("INSERT INTO %s VALUES (-1, NULL)", table.Name))
		for i, v := range c.values {
			maria(t, db, fmt.Sprintf("INSERT INTO %s VALUES (%d, %s)", table.Name, i, v))
		}
		list = append(list, &shipment{typ: typ, table: table})
	}
	for _, s := range throughAndBack(t, from, between, to, list) {
		c := mariaLimits[s.typ]
		text := func(form, table string) string {
			return fmt.Sprintf("SELECT concat(id, ' ', coalesce(cast(%s AS char), '~')) FROM %s", fmt.Sprintf(form, "v"), table)
		}
		sameTexts(t, s.typ, texts(t, db, text(c.there, s.table.Name)), texts(t, back, text(c.backHome, s.plan.Target.Name)))
	}
}
