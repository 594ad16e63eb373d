package fit

import (
	"strings"
	"testing"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// plan is of a key and one column.
func plan(from, to string, base, typ string, there domain.Column) *domain.TablePlan {
	id := domain.Column{Name: "id", Type: "integer", BaseType: "integer"}
	p := &domain.TablePlan{Columns: []domain.Column{id, {Name: "v", Type: typ, BaseType: base}}, Key: []string{"id"}}
	there.Name = "v"
	if there.BaseType == "" {
		there.BaseType, _, _ = strings.Cut(there.Type, "(")
	}
	p.CrossEngine = true
	p.TargetSide = &domain.TablePlan{Engine: to, Columns: []domain.Column{{Name: "id", Type: "int", BaseType: "int"},
		there}}
	return p
}

func TestMisfitsAreFoundWithTheirRows(t *testing.T) {
	for _, c := range []struct {
		name, from, to, base, typ string
		there                     domain.Column
		values                    []string
		misfits                   int64
		why, suggest              string
	}{
		{"a text too long", typemap.Postgres, typemap.MariaDB, "text", "text", domain.Column{Type: "varchar(5)"},
			[]string{"honey", "žluťák", "x"}, 1, "6 characters", "varchar(6)"},
		{"a text far too long", typemap.Postgres, typemap.MariaDB, "text", "text", domain.Column{Type: "varchar(5)"},
			[]string{strings.Repeat("w", 900)}, 1, "900 characters", "longtext"},
		{"numbers beyond", typemap.Postgres, typemap.MariaDB, "numeric", "numeric", domain.Column{Type: "decimal(5,2)"},
			[]string{"999.99", "1000", "-1234.5"}, 2, "4 digits before", "decimal(5,1)"},
		{"digits behind", typemap.Postgres, typemap.MariaDB, "numeric", "numeric", domain.Column{Type: "decimal(5,2)"},
			[]string{"1.50", "1.505", "0.010000"}, 1, "more than 2 digits behind", "decimal(4,3)"},
		{"no number", typemap.Postgres, typemap.MariaDB, "numeric", "numeric", domain.Column{Type: "decimal(5,2)"},
			[]string{"NaN"}, 1, "NaN", "varchar(120)"},
		{"no date", typemap.Postgres, typemap.MariaDB, "date", "date", domain.Column{Type: "date"}, []string{"2026-11-23",
			"infinity", "0044-03-15 BC"}, 2, "infinity", "varchar(40)"},
		{"a zero date", typemap.MariaDB, typemap.Postgres, "date", "date", domain.Column{Type: "date"}, []string{"2026-11-23",
			"0000-00-00"}, 1, "becomes NULL", "text"},
		{"a zero date that must be", typemap.MariaDB, typemap.Postgres, "datetime", "datetime",
			domain.Column{Type: "timestamp(0) without time zone", BaseType: "timestamp without time zone", NotNull: true},
			[]string{"2026-00-01 00:00:00"}, 1, "does not exist", "text"},
		{"a large key", typemap.MariaDB, typemap.Postgres, "bigint unsigned", "bigint(20) unsigned",
			domain.Column{Type: "bigint"}, []string{"9223372036854775807", "18446744073709551615"}, 1, "not between",
			"numeric(20,0)"},
		{"a NUL byte", typemap.MariaDB, typemap.Postgres, "text", "text", domain.Column{Type: "text"}, []string{"a\x00b"}, 1,
			"NUL byte", ""},
		{"too deep", typemap.Postgres, typemap.MariaDB, "json", "json", domain.Column{Type: "json"},
			[]string{strings.Repeat("[", 33) + strings.Repeat("]", 33), `{"a": "[[[["}`}, 1, "33 levels", "longtext"},
		{"none of them", typemap.Postgres, typemap.MariaDB, "text", "text", domain.Column{Type: "enum('calm','it''s')"},
			[]string{"it's", "wild"}, 1, "none of the values", "varchar(255)"},
		{"all fit", typemap.Postgres, typemap.MariaDB, "smallint", "smallint", domain.Column{Type: "smallint"},
			[]string{"-32768", "32767"}, 0, "", ""},
	} {
		check, ok := New(c.from, plan(c.from, c.to, c.base, c.typ, c.there))
		if !ok {
			t.Fatalf("%s: nothing to check", c.name)
		}
		for _, v := range c.values {
			check.Row([][]byte{[]byte("17"), []byte(v)})
		}
		check.Row([][]byte{[]byte("18"), nil})
		got := check.Misfits()
		switch {
		case c.misfits == 0 && len(got) == 0:
		case len(got) != 1 || got[0].Count != c.misfits:
			t.Errorf("%s: %+v, want %d", c.name, got, c.misfits)
		case !strings.Contains(got[0].Examples[0].Why, c.why) || got[0].Suggest != c.suggest ||
			got[0].Examples[0].Key[0] != "17":
			t.Errorf("%s: %+v, want %q and %q", c.name, got[0], c.why, c.suggest)
		}
		if check.Rows != int64(len(c.values)+1) {
			t.Errorf("%s: %d rows were looked at", c.name, check.Rows)
		}
	}
	if _, ok := New(typemap.Postgres, &domain.TablePlan{}); ok {
		t.Error("a table that travels as it is needs a check")
	}
}
