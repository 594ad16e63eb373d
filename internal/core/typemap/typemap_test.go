package typemap

import (
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

func col(typ string) domain.Column {
	base, _, _ := strings.Cut(typ, "(")
	if strings.Contains(typ, "unsigned") && !strings.HasSuffix(base, "unsigned") {
		base += " unsigned"
	}
	return domain.Column{Name: "c", Type: typ, BaseType: base}
}

func TestTypes(t *testing.T) {
	for typ, want := range map[string]string{
		"tinyint(4)": "smallint", "smallint(5) unsigned": "integer", "mediumint(8)": "integer", "int(11)": "integer",
		"int(10) unsigned": "bigint",
		"bigint(20)":       "bigint", "bigint(20) unsigned": "numeric(20,0)", "decimal(38,12)": "numeric(38,12)",
		"float":   "real",
		"double":  "double precision",
		"bit(11)": "bit(11)", "year(4)": "smallint", "char(3)": "character varying(3)",
		"varchar(60)": "character varying(60)", "varchar(0)": "text",
		"mediumtext": "text", "json": "json", "enum('a','b')": "text", "set('a')": "text", "binary(6)": "bytea",
		"longblob": "bytea", "date": "date",
		"datetime(6)": "timestamp(6) without time zone", "timestamp": "timestamp(0) with time zone", "time(2)": "interval",
		"uuid": "uuid", "inet6": "text", "point": "bytea",
	} {
		m := ToPostgres(col(typ))
		if m.Column.Type != want {
			t.Errorf("%s becomes %s, want %s", typ, m.Column.Type, want)
		}
		if m.Verdict == "" {
			t.Errorf("%s has no verdict", typ)
		}
	}
	if m := ToPostgres(col("set('swarms','wax')")); !slices.Equal(m.Column.Members, []string{"swarms", "wax"}) {
		t.Errorf("a set's members are %q", m.Column.Members)
	}
	id := col("bigint(20) unsigned")
	id.Identity = "by default"
	if m := ToPostgres(id); m.Column.Type != "bigint" || m.Verdict != Lossy {
		t.Errorf("a numbered key becomes %+v", m)
	}
	day := col("date")
	day.NotNull = true
	if m := ToPostgres(day); !strings.Contains(m.Note, "stops the load") {
		t.Errorf("a date that must not be NULL: %q", m.Note)
	}
}

func TestDefaults(t *testing.T) {
	for _, c := range []struct{ typ, def, want string }{
		{"int(11)", "7", "7"}, {"decimal(9,3)", "1.500", "1.500"}, {"varchar(9)", "'it''s'", "'it''s'"},
		{"varchar(9)", `'a\b'`, ""}, {"timestamp(3)", "current_timestamp(3)", "CURRENT_TIMESTAMP"},
		{"text", "NULL", ""}, {"bit(3)", "b'101'", ""}, {"varchar(40)", "uuid()", ""}, {"blob", "'x'", ""},
	} {
		k := col(c.typ)
		k.Default = c.def
		if got := ToPostgres(k).Column.Default; got != c.want {
			t.Errorf("%s default %s becomes %q, want %q", c.typ, c.def, got, c.want)
		}
	}
}

func TestValues(t *testing.T) {
	null := "\x00NULL"
	for _, c := range []struct{ typ, in, want string }{
		{"int(11)", "-42", "-42"}, {"int(5) unsigned zerofill", "00042", "42"}, {"int(5) unsigned zerofill", "00000", "0"},
		{"decimal(5,2) unsigned zerofill", "000.50", "0.50"},
		{"year(4)", "0000", "0"}, {"year(4)", "2026", "2026"},
		{"double", "1e22", "1e+22"}, {"double", "1.09e22", "1.0899999999999999e+22"}, {"double", "123456789012345",
			"123456789012345"}, {"double", "1234567890123456", "1.234567890123456e+15"},
		{"double", "0.0001", "0.0001"}, {"double", "0.00001", "1e-05"}, {"double", "-0", "-0"}, {"double", "9007199254740993",
			"9.007199254740992e+15"},
		{"float", "0.1", "0.1"}, {"float", "1000000", "1e+06"}, {"float", "123456", "123456"},
		{"float", "16777216", "1.6777216e+07"},
		{"bit(11)", "5", "00000000101"}, {"bit(64)", "18446744073709551615", strings.Repeat("1", 64)},
		{"varbinary(9)", "\x00\xffa", `\x00ff61`}, {"point", "\x01\x00\x00\x00\x01\x02", `\x0102`},
		{"date", "2026-02-28", "2026-02-28"}, {"date", "0000-00-00", null}, {"date", "2026-00-10", null},
		{"date", "2026-01-00", null},
		{"datetime(6)", "2026-01-01 10:00:00.500000", "2026-01-01 10:00:00.5"}, {"datetime(6)", "2026-01-01 10:00:00.000000",
			"2026-01-01 10:00:00"}, {"datetime", "2026-01-01 10:00:00", "2026-01-01 10:00:00"},
		{"timestamp(3)", "2026-01-01 10:00:00.120", "2026-01-01 10:00:00.12+00"}, {"timestamp", "0000-00-00 00:00:00", null},
		{"time(2)", "-838:59:59.50", "-838:59:59.5"}, {"time", "00:00:00", "00:00:00"}, {"time(2)", "-00:00:00.00",
			"00:00:00"},
		{"text", "a\tb\\☕", "a\tb\\☕"}, {"varchar(3)", "", ""},
	} {
		out, ok, err := Compile(MariaDB, Postgres, col(c.typ), ToPostgres(col(c.typ)).Column, nil)(nil, []byte(c.in))
		got := string(out)
		if !ok {
			got = null
		}
		if err != nil || got != c.want {
			t.Errorf("%s %q becomes %q, want %q (%v)", c.typ, c.in, got, c.want, err)
		}
	}
	if _, _, err := Compile(MariaDB, Postgres, col("date"), domain.Column{NotNull: true}, nil)(nil,
		[]byte("0000-00-00")); err == nil {
		t.Error("a zero date goes into a column that takes no NULL")
	}
	if _, _, err := Compile(MariaDB, Postgres, col("text"), domain.Column{}, nil)(nil, []byte("a\x00b")); err == nil ||
		!strings.Contains(err.Error(), "place 2") {
		t.Errorf("a NUL byte in a text: %v", err)
	}
	// Whatever is written for a number gives the number back.
	for _, f := range []float64{math.MaxFloat64, math.SmallestNonzeroFloat64, 1e23, 9007199254740993, 5e-324,
		2.2250738585072014e-308, 1.7976931348623157e308, 123e20} {
		out := AppendFloat(nil, f, 64)
		if back, err := strconv.ParseFloat(string(out), 64); err != nil || back != f {
			t.Errorf("%v becomes %q (%v)", f, out, err)
		}
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 200_000 {
		f := (r.Float64() - 0.5) * math.Pow(10, float64(r.IntN(22)-6))
		if r.IntN(3) == 0 {
			f = math.Trunc(f)
		}
		if a := math.Abs(f); a >= 1e-4 && a < 1e15 {
			if got, want := string(AppendFloat(nil, f, 64)), strconv.FormatFloat(f, 'f', -1, 64); got != want {
				t.Fatalf("%q, want %q", got, want)
			}
		}
		g := float32(f)
		if a := math.Abs(float64(g)); a >= 1e-4 && a < 999_999 {
			if got, want := string(AppendFloat(nil, float64(g), 32)), strconv.FormatFloat(float64(g), 'f', -1, 32); got != want {
				t.Fatalf("%q, want %q", got, want)
			}
		}
	}
}

func TestTypesForMariaDB(t *testing.T) {
	for _, c := range []struct {
		typ, base, want string
		in              place
	}{
		{"smallint", "smallint", "smallint", place{}}, {"bigint", "bigint", "bigint", place{}}, {"numeric(10,2)", "numeric",
			"decimal(10,2)", place{}}, {"numeric", "numeric", "decimal(65,30)", place{}},
		{"numeric(80,2)", "numeric", "decimal(65,30)", place{}}, {"boolean", "boolean", "tinyint(1)", place{}},
		{"character varying(60)", "character varying", "varchar(60)", place{}},
		{"character varying", "character varying", "longtext", place{}}, {"text", "text", "longtext", place{}},
		{"text", "text", "varchar(700)", place{keyed: 1, room: 3008}}, {"text", "text", "varchar(350)",
			place{keyed: 2, room: 1504}},
		{"bytea", "bytea", "longblob", place{}}, {"bytea", "bytea", "varbinary(3008)", place{keyed: 1, room: 3008}},
		{"character varying(5000)", "character varying", "varchar(5000)", place{}}, {"character varying(5000)",
			"character varying", "varchar(700)", place{keyed: 1, room: 3008}},
		{"timestamp(3) without time zone", "timestamp without time zone", "datetime(3)", place{}},
		{"timestamp with time zone", "timestamp with time zone", "datetime(6)", place{}}, {"timestamp(0) with time zone",
			"timestamp with time zone", "datetime", place{}},
		{"time(2) without time zone", "time without time zone", "time(2)", place{}}, {"interval", "interval", "varchar(120)",
			place{}}, {"uuid", "uuid", "char(36)", place{}}, {"jsonb", "jsonb", "json", place{}},
		{"bit(5)", "bit", "bit(5)", place{}}, {"bit(65)", "bit", "longtext", place{}}, {"text[]", "text[]", "longtext",
			place{}}, {"meadow.mood", "meadow.mood", "enum('calm','it''s wild')", place{labels: []string{"calm", "it's wild"}}},
		{"meadow.mood", "meadow.mood", "varchar(255)", place{labels: []string{}}}, {"character(300)", "character", "longtext",
			place{}}, {"character(6)", "character", "char(6)", place{}},
	} {
		m := toMariaDB(domain.Column{Name: "c", Type: c.typ, BaseType: c.base}, c.in)
		if m.Column.Type != c.want || m.Verdict == "" || m.Verdict == Lossy && m.Note == "" {
			t.Errorf("%s becomes %+v, want %s", c.typ, m, c.want)
		}
	}
	for _, c := range []struct{ typ, def, want string }{
		{"text", "'it''s'::text", "'it''s'"}, {"integer", "7", "7"}, {"integer", "'-7'::integer", "-7"},
		{"boolean", "true", "1"}, {"timestamp with time zone", "now()", "current_timestamp(6)"}, {"uuid", "gen_random_uuid()",
			""}, {"numeric", "1.5", "1.5"}, {"text", "lower('A'::text)", ""},
	} {
		k := domain.Column{Name: "c", Type: c.typ, BaseType: c.typ, Default: c.def}
		m := toMariaDB(k, place{})
		if m.Column.Default != c.want || c.want == "" && !strings.Contains(m.Note, c.def) {
			t.Errorf("%s default %s becomes %q (%s), want %q", c.typ, c.def, m.Column.Default, m.Note, c.want)
		}
	}
}

func TestValuesForMariaDB(t *testing.T) {
	const refused = "\x00refused"
	for _, c := range []struct{ typ, to, in, want string }{
		{"numeric", "decimal(65,30)", "1.5", "1.500000000000000000000000000000"}, {"numeric", "decimal(9,3)", "-1.500",
			"-1.500"}, {"numeric", "decimal(9,0)", "7", "7"}, {"numeric", "decimal(9,1)", "1.25", refused},
		{"numeric", "decimal(9,1)", "NaN", refused},
		{"real", "float", "-0", "0"}, {"real", "float", "-Infinity", refused}, {"double precision", "double", "1e+20",
			"1e+20"}, {"boolean", "tinyint(1)", "t", "1"}, {"boolean", "tinyint(1)", "f", "0"}, {"boolean", "tinyint(1)",
			"false", "0"},
		{"money", "decimal(19,2)", "-$1,234.50", "-1234.50"}, {"character", "char(6)", "ab    ", "ab"},
		{"date", "date", "2026-11-23", "2026-11-23"}, {"date", "date", "0044-03-15 BC", refused}, {"date", "date", "infinity",
			refused}, {"date", "date", "10000-01-01", refused},
		{"timestamp with time zone", "datetime(6)", "2026-01-01 10:00:00.5+00", "2026-01-01 10:00:00.500000"},
		{"timestamp without time zone", "datetime", "2026-01-01 10:00:00", "2026-01-01 10:00:00"}, {"time without time zone",
			"time(2)", "24:00:00", "24:00:00.00"},
		{"bytea", "longblob", `\x00ff`, `\x00ff`}, {"text", "longtext", "", ""},
	} {
		out, _, err := Compile(Postgres, MariaDB, domain.Column{Type: c.typ, BaseType: c.typ}, domain.Column{Type: c.to},
			nil)(nil,
			[]byte(c.in))
		got := string(out)
		if err != nil {
			got = refused
		}
		if got != c.want {
			t.Errorf("%s %q becomes %q, want %q (%v)", c.typ, c.in, got, c.want, err)
		}
	}
}

func TestRowsThatAreTooWide(t *testing.T) {
	table := domain.Table{TableName: domain.TableName{Schema: "s", Name: "t"},
		Keys: []domain.Key{{Columns: []string{"a"}, Primary: true, Name: "t_pkey"}}}
	cols := []domain.Column{{Name: "a", Type: "character varying(200)", BaseType: "character varying"},
		{Name: "b", Type: "character varying(8000)", BaseType: "character varying"},
		{Name: "c", Type: "character varying(8100)", BaseType: "character varying"}, {Name: "A", Type: "integer",
			BaseType: "integer"}}
	table.Columns = cols
	p, notes := Mapping{From: Postgres, To: MariaDB, Into: "d"}.Complete(domain.TablePlan{Source: table.TableName,
		Target: table.TableName, Columns: cols, Key: []string{"a"}, Table: table})
	if got := p.TargetSide.Columns; got[0].Type != "varchar(200)" || got[1].Type != "varchar(8000)" ||
		got[2].Type != "longtext" {
		t.Errorf("%+v", got)
	}
	if p.Target.String() != "d.t" {
		t.Errorf("it goes to %s", p.Target)
	}
	if !strings.Contains(notes[0].Note, "65535") || notes[len(notes)-1].Verdict != Impossible {
		t.Errorf("%+v", notes)
	}
}

func TestAPlanGetsItsOtherSide(t *testing.T) {
	table := domain.Table{TableName: domain.TableName{Schema: "saltmarsh", Name: "jars"},
		Keys: []domain.Key{{Columns: []string{"id"}, Primary: true, Name: "PRIMARY"}},
		Indexes: []domain.Index{{Name: "by_lot", Columns: []string{"lot", "id"}}, {Name: "seal", Unique: true,
			Columns: []string{"seal"}}},
		Constraints: []domain.Constraint{{Name: "fk", Kind: "foreign", Columns: []string{"lot"},
			References: domain.TableName{Schema: "saltmarsh", Name: "lots"}, ReferenceColumns: []string{"id"},
			Rules: " ON DELETE CASCADE"}}}
	lot := col("bigint(20) unsigned")
	lot.Name = "lot"
	id := col("int(11)")
	id.Name, id.NotNull = "id", true
	p := domain.TablePlan{Source: table.TableName, Target: table.TableName, Columns: []domain.Column{id, lot},
		Key: []string{"id"}, Table: table}
	p, notes := Mapping{From: MariaDB, To: Postgres}.Complete(p)
	if p.TargetSide == nil || !p.CrossEngine || !p.TargetSide.CrossEngine {
		t.Fatalf("%+v", p)
	}
	o := p.TargetPlan()
	if o.Columns[1].Type != "bigint" || o.Table.Keys[0].Name != "jars_pkey" || len(notes) != 1 {
		t.Errorf("%+v, notes %+v", o.Columns, notes)
	}
	if def := o.Table.Indexes[0].Definition; def != `CREATE INDEX "jars_by_lot" ON "saltmarsh"."jars" ("lot", "id")` {
		t.Errorf("index: %s", def)
	}
	if def := o.Table.Constraints[0].Definition; def != `FOREIGN KEY ("lot") REFERENCES "saltmarsh"."lots" ("id") ON DELETE CASCADE` {
		t.Errorf("foreign key: %s", def)
	}
	bare := domain.TablePlan{Columns: []domain.Column{{Name: "a", Type: "bigint", BaseType: "bigint", NotNull: true}}}
	for to, typ := range map[string]string{Postgres: "bigint", MariaDB: "bigint(20)", "files": "bigint"} {
		q, _ := (Mapping{From: "others", To: to}).Complete(bare)
		if q.TargetSide == nil || !q.TargetSide.CrossEngine || q.TargetSide.Engine != to ||
			!strings.HasPrefix(typ, q.TargetSide.Columns[0].Type) {
			t.Errorf("an engine that the catalogue does not name speaks the neutral form, also to %s: %+v", to, q.TargetSide)
		}
	}
	if q, _ := (Mapping{From: Postgres, To: Postgres}).Complete(domain.TablePlan{}); q.TargetSide != nil {
		t.Error("engines that are alike need nothing")
	}
}

// TestKeysFitTheirRoom: what a MariaDB key may hold in all is shared among what can be of any
// length, after the others have taken theirs.
func TestKeysFitTheirRoom(t *testing.T) {
	table := &domain.Table{Columns: []domain.Column{{Name: "a", BaseType: "text", Type: "text"},
		{Name: "b", BaseType: "bytea", Type: "bytea"}, {Name: "c", BaseType: "uuid", Type: "uuid"},
		{Name: "d", BaseType: "interval", Type: "interval"}, {Name: "e", BaseType: "integer", Type: "integer"},
		{Name: "f", BaseType: "text[]", Type: "text[]"}}}
	for _, c := range []struct {
		key           []string
		varying, room int
	}{{[]string{"a"}, 1, 3008}, {[]string{"e"}, 1, 3000}, {[]string{"a", "b"}, 2, 1504}, {[]string{"a", "b", "c"}, 2,
		1432}, {[]string{"a", "d", "f", "e"}, 2, 1260}} {
		if varying, room := (Mapping{}).keyRoom(table, c.key); varying != c.varying || room != c.room {
			t.Errorf("%v: %d of %d bytes, want %d of %d", c.key, varying, room, c.varying, c.room)
		}
	}
}
