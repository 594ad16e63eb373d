package typemap

import (
	"testing"

	"dustyferry/internal/domain"
)

// TestValuesOfChosenTypes writes values for columns that a person planned as another type:
// in that type's form, or not at all.
func TestValuesOfChosenTypes(t *testing.T) {
	column := func(typ string) domain.Column { return domain.Column{Name: "v", Type: typ, BaseType: baseOf(typ)} }
	const refused = "refused"
	for _, c := range []struct{ from, to, typ, as, value, want string }{
		{MariaDB, Postgres, "tinyint(1)", "boolean", "1", "true"}, {MariaDB, Postgres, "tinyint(1)", "boolean", "0", "false"},
		{MariaDB, Postgres, "tinyint(1)", "boolean", "2", refused},
		{MariaDB, Postgres, "int", "numeric(12,2)", "7", "7.00"}, {MariaDB, Postgres, "decimal(9,3)", "numeric(9,1)", "1.500",
			"1.5"}, {MariaDB, Postgres, "decimal(9,3)", "numeric(9,1)", "1.505", refused},
		{MariaDB, Postgres, "float", "double precision", "0.1", "0.1"}, {MariaDB, Postgres, "datetime(6)",
			"timestamp(3) without time zone", "2026-01-01 10:00:00.500000", "2026-01-01 10:00:00.5"},
		{MariaDB, Postgres, "datetime(6)", "timestamp(0) without time zone", "2026-01-01 10:00:00.500000", refused},
		{MariaDB, Postgres, "datetime", "timestamp with time zone", "2026-01-01 10:00:00", "2026-01-01 10:00:00+00"},
		{MariaDB, Postgres, "time(3)", "time(1) without time zone", "10:00:00.500", "10:00:00.5"},
		{MariaDB, Postgres, "time(3)", "time(1) without time zone", "10:00:00.123", refused},
		{MariaDB, MariaDB, "decimal(9,3)", "decimal(12,5)", "1.500", "1.50000"}, {MariaDB, MariaDB, "datetime", "datetime(3)",
			"2026-01-01 10:00:00", "2026-01-01 10:00:00.000"}, {MariaDB, MariaDB, "float", "double", "0.1", "0.1"},
		{MariaDB, MariaDB, "bit(3)", "bit(3)", "5", "101"}, {MariaDB, MariaDB, "year", "year", "0", "0000"},
		{MariaDB, MariaDB, "varbinary(9)", "varbinary(9)", "\x00\xff", `\x00ff`},
		{Postgres, MariaDB, "real", "double", "0.1", "0.1"}, {Postgres, MariaDB, "timestamp without time zone", "datetime(3)",
			"2026-01-01 10:00:00.5", "2026-01-01 10:00:00.500"}, {Postgres, MariaDB, "timestamp without time zone",
			"datetime(3)", "2026-01-01 10:00:00.0001", refused},
		{Postgres, Postgres, "numeric(9,3)", "numeric(12,5)", "1.500", "1.50000"}, {Postgres, Postgres, "character(6)",
			"text", "ab    ", "ab"}, {Postgres, Postgres, "timestamp without time zone", "timestamp(0) without time zone",
			"2026-01-01 10:00:00.5", refused},
	} {
		f := Compile(c.from, c.to, column(c.typ), column(c.as), nil)
		for range 2 { // nothing is left of the value before
			got, ok, err := f([]byte("before "), []byte(c.value))
			switch {
			case c.want == refused && err == nil:
				t.Errorf("%s as %s took %q as %q", c.typ, c.as, c.value, got)
			case c.want != refused && (err != nil || !ok || string(got) != "before "+c.want):
				t.Errorf("%s as %s: %q is %q (%v), want %q", c.typ, c.as, c.value, got, err, c.want)
			}
		}
	}
}

// TestWhatADefaultTells is what rows that stand on the target get for a new column.
func TestWhatADefaultTells(t *testing.T) {
	column := func(typ, literal string) domain.Column {
		return domain.Column{Name: "v", Type: typ, BaseType: baseOf(typ), Default: literal}
	}
	for _, c := range []struct {
		way         Mapping
		from, to    domain.Column
		value, want string
	}{
		{Mapping{From: MariaDB, To: Postgres}, column("tinyint(1)", "1"), column("boolean", ""), "1", "true"},
		{Mapping{From: MariaDB, To: Postgres}, column("datetime", ""), column("timestamp(0) without time zone", ""),
			"0000-00-00 00:00:00", "nothing"},
		{Mapping{From: MariaDB, To: MariaDB}, column("int", "7"), column("int", "7"), "7", "7"},
		{Mapping{From: MariaDB, To: MariaDB}, column("int", "7"), column("int", "8"), "7", "nothing"},
		{Mapping{From: Postgres, To: Postgres}, column("integer", "7"), column("integer", "7"), "7", "nothing"},
	} {
		got := "nothing"
		if v := c.way.Told(c.from, c.to, c.value, nil); v != nil {
			got = *v
		}
		if got != c.want {
			t.Errorf("%s to %s: a default of %q tells %q, want %q", c.from.Type, c.to.Type, c.value, got, c.want)
		}
	}
	usual := column("int", "")
	masked := usual
	masked.Mask = "hash"
	if !AsUsual(MariaDB, Postgres, usual, column("integer", "")) || AsUsual(MariaDB, Postgres, usual,
		column("bigint", "")) || AsUsual(MariaDB, Postgres, masked, column("integer", "")) {
		t.Error("what goes over as usual is taken for what does not, or the other way")
	}
}
