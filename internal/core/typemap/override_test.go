package typemap

import (
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

func typed(base, typ string) domain.Column {
	return domain.Column{Name: "c", Type: typ, BaseType: base}
}

func TestVerdictsOfRules(t *testing.T) {
	pm, mp, mm, pp := Mapping{From: Postgres, To: MariaDB}, Mapping{From: MariaDB, To: Postgres}, Mapping{From: MariaDB,
		To: MariaDB}, Mapping{From: Postgres, To: Postgres}
	for _, c := range []struct {
		way  Mapping
		from domain.Column
		to   string
		want Verdict
		note string
	}{
		{pm, typed("integer", "integer"), "bigint", Wider, ""}, {pm, typed("integer", "integer"), "smallint", Lossy,
			"fit check"}, {pm, typed("bigint", "bigint"), "int unsigned", Lossy, ""},
		{pm, typed("boolean", "boolean"), "boolean", Wider, ""}, {pm, typed("boolean", "boolean"), "int", Wider, ""},
		{pm, typed("text", "text"), "varchar(90)", Lossy, ""}, {pm, typed("text", "text"), "longtext", Wider, ""},
		{pm, typed("character varying", "character varying(20)"), "varchar(30)", Wider, ""},
		{pm, typed("character varying", "character varying(20)"), "char(30)", Impossible, "fixed width"},
		{pm, typed("bytea", "bytea"), "binary(4)", Impossible, "fixed width"},
		{pm, typed("numeric", "numeric(9,3)"), "decimal(12,3)", Wider, ""}, {pm, typed("numeric", "numeric(9,3)"),
			"decimal(12,1)", Lossy, ""}, {pm, typed("double precision", "double precision"), "float", Impossible,
			"fewer digits"}, {pm, typed("real", "real"), "double", Wider, ""},
		{pm, typed("date", "date"), "varchar(40)", Lossy, ""}, {pm, typed("date", "date"), "json", Impossible, ""},
		{pm, typed("uuid", "uuid"), "uuid", Lossy, ""},
		{mp, typed("tinyint", "tinyint(1)"), "boolean", Lossy, "neither"}, {mp, typed("int", "int(11)"), "numeric(12,2)",
			Lossy, ""}, {mp, typed("varchar", "varchar(36)"), "uuid", Impossible, "several ways"}, {mp, typed("date", "date"),
			"text", Wider, ""},
		{mp, typed("decimal", "decimal(9,3)"), "numeric", Wider, ""}, {mp, typed("blob", "blob"), "date", Impossible, ""},
		{mm, typed("varchar", "varchar(9)"), "varchar(9)", Exact, ""}, {mm, typed("int", "int(11)"), "bigint", Wider, ""},
		{pp, typed("boolean", "boolean"), "text", Impossible, ""}, {pp, typed("integer", "integer"), "int8", Wider, ""},
	} {
		to := typed("", spelled(c.way.To, c.to))
		to.BaseType = baseOf(to.Type)
		verdict, note := c.way.judge(c.from, to)
		if c.note == "neither" {
			c.note = "any other value"
		}
		if verdict != c.want || !strings.Contains(note, c.note) || verdict == Impossible && note == "" {
			t.Errorf("%s to %s, %s as %s is %s (%s), want %s", c.way.From, c.way.To, c.from.Type, c.to, verdict, note, c.want)
		}
	}
}

func TestLimitsOfColumns(t *testing.T) {
	for _, c := range []struct {
		engine     string
		col        domain.Column
		fits, isnt string
	}{
		{MariaDB, typed("tinyint", "tinyint(4)"), "-128", "128"}, {MariaDB, typed("int unsigned", "int unsigned"),
			"4294967295", "-1"}, {Postgres, typed("bigint", "bigint"), "-9223372036854775808", "-9223372036854775809"},
		{MariaDB, typed("mediumint", "mediumint"), "8388607", "8388608"},
		{MariaDB, typed("decimal", "decimal(5,2)"), "-999.99", "1000"}, {Postgres, typed("numeric", "numeric(5,2)"), "1.5",
			"1.505"}, {Postgres, typed("numeric", "numeric"), strings.Repeat("9", 200), ""},
		{MariaDB, typed("varchar", "varchar(3)"), "žlu", "žluť"}, {Postgres, typed("character varying", "character varying"),
			strings.Repeat("w", 999), ""}, {MariaDB, typed("varbinary", "varbinary(2)"), `\x0001`, `\x000102`},
		{MariaDB, typed("tinyblob", "tinyblob"), `\x` + strings.Repeat("00", 255), `\x` + strings.Repeat("00", 256)},
		{MariaDB, typed("text", "text"), strings.Repeat("w", 65535), strings.Repeat("w", 65536)},
		{Postgres, typed("text", "text"), strings.Repeat("w", 65536), ""},
		{MariaDB, typed("enum", "enum('a','it''s')"), "it's", "its"}, {MariaDB, typed("json", "json"),
			strings.Repeat("[", 32) + strings.Repeat("]", 32), strings.Repeat("[", 33) + strings.Repeat("]", 33)},
		{Postgres, typed("json", "json"), strings.Repeat("[", 33) + strings.Repeat("]", 33), ""},
	} {
		limit := Limits(c.engine, c.col)
		if limit == nil {
			if c.isnt != "" {
				t.Errorf("%s has no limit", c.col.Type)
			}
			continue
		}
		if err := limit([]byte(c.fits)); err != nil {
			t.Errorf("%s: %.20s: %v", c.col.Type, c.fits, err)
		}
		if err := limit([]byte(c.isnt)); err == nil && c.isnt != "" {
			t.Errorf("%s holds %.20s", c.col.Type, c.isnt)
		}
	}
}
