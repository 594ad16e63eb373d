package typemap_test

import (
	"strings"
	"testing"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

func inspections() domain.TablePlan {
	t := domain.Table{TableName: domain.TableName{Schema: "public", Name: "inspections"}, Columns: []domain.Column{
		{Name: "id", Type: "bigint", BaseType: "bigint", NotNull: true},
		{Name: "changed_at", Type: "timestamp with time zone", BaseType: "timestamp with time zone"},
		{Name: "note", Type: "text", BaseType: "text"}, {Name: "photo", Type: "bytea", BaseType: "bytea"},
		{Name: "extra", Type: "jsonb", BaseType: "jsonb"}},
		Keys: []domain.Key{{Columns: []string{"id"}, Primary: true}}}
	return domain.TablePlan{Source: t.TableName, Target: t.TableName, Columns: t.Columns, Key: []string{"id"}, Table: t,
		Binary: true}
}

func TestWatermarks(t *testing.T) {
	way := typemap.Mapping{From: typemap.Postgres, To: typemap.Postgres}
	for _, c := range []struct{ column, overlap, mark, want string }{
		{"changed_at", "", "2026-06-01 10:00:00+00",
			`("changed_at" >= ('2026-06-01 10:00:00+00'::timestamp with time zone - interval '600 seconds') OR "changed_at" IS NULL)`},
		{"changed_at", "1h30m", "2026-06-01", `interval '5400 seconds'`},
		{"id", "", "77", `("id" >= (CAST('77' AS numeric) - 1000) OR "id" IS NULL)`},
		{"id", "0", "77", `- 0)`},
	} {
		p, _, err := way.BuildTargetPlan(inspections(), domain.Rule{Tables: "*", Watermark: c.column, Overlap: c.overlap})
		if err != nil {
			t.Errorf("%+v: %v", c, err)
			continue
		}
		if !p.Binary || p.CrossEngine {
			t.Errorf("%+v: a watermark changes how rows travel", c)
		}
		if got := typemap.Past(typemap.Postgres, &p, c.mark); !strings.Contains(got, c.want) {
			t.Errorf("%+v: %s", c, got)
		}
	}
	for _, c := range []struct {
		rule domain.Rule
		want string
	}{
		{domain.Rule{Watermark: "note"}, "a time or a whole number"},
		{domain.Rule{Watermark: "written"}, "does not have"},
		{domain.Rule{Watermark: "changed_at", Overlap: "7"}, "a duration such as 10m"},
		{domain.Rule{Watermark: "id", Overlap: "10m"}, "so give a number"},
		{domain.Rule{Watermark: "changed_at", Columns: map[string]domain.ColumnRule{"changed_at": {LeaveOut: true}}},
			"left out"},
	} {
		if _, _, err := way.BuildTargetPlan(inspections(), c.rule); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v", c.rule, err)
		}
	}
	whole := inspections()
	whole.Key = nil
	if _, _, err := way.BuildTargetPlan(whole, domain.Rule{Watermark: "changed_at"}); err == nil ||
		!strings.Contains(err.Error(), "no key") {
		t.Error(err)
	}
}

func TestLongestValues(t *testing.T) {
	way := typemap.Mapping{From: typemap.Postgres, To: typemap.Postgres}
	p, _, err := way.BuildTargetPlan(inspections(), domain.Rule{Columns: map[string]domain.ColumnRule{"*": {Longest: 5,
		Cut: true}, "note": {Longest: 3, Cut: true}}})
	if err != nil {
		t.Fatal(err)
	}
	there := p.TargetColumns()
	cuts := 0
	convert := func(column, v string) (string, error) {
		for i, c := range p.CopiedColumns() {
			if c.Name == column {
				rt := &domain.Runtime{Truncated: func() { cuts++ }}
				out, _, err := typemap.Compile(typemap.Postgres, typemap.Postgres, c, there[i], rt)(nil, []byte(v))
				return string(out), err
			}
		}
		t.Fatal(column)
		return "", nil
	}
	for _, c := range []struct{ column, value, want string }{
		{"note", "bee", "bee"}, {"note", "bees", "bee"}, {"note", "aéé", "aé"}, {"note", "ééé", "é"}, {"note", "🐝", ""},
		{"photo", `\x0102030405`, `\x0102030405`}, {"photo", `\x010203040506`, `\x0102030405`}, {"id", "1234567", "1234567"},
		{"extra", `{"a"}`, `{"a"}`},
	} {
		if got, err := convert(c.column, c.value); err != nil || got != c.want {
			t.Errorf("%s %q: %q, %v", c.column, c.value, got, err)
		}
	}
	if cuts != 5 {
		t.Errorf("%d cuts were told of", cuts)
	}
	// A document's part is none: it is refused.
	if _, err := convert("extra", `{"a": 1}`); err == nil || !strings.Contains(err.Error(), "8 bytes, more than the 5") {
		t.Error(err)
	}
	for _, c := range []struct {
		column string
		rule   domain.ColumnRule
		want   string
	}{
		{"id", domain.ColumnRule{Longest: 5}, "part of the key"},
		{"extra", domain.ColumnRule{Longest: 5, Cut: true}, "cannot be cut"},
		{"note", domain.ColumnRule{Longest: 5, Mask: "k"}, "masked"},
	} {
		if _, _, err := way.BuildTargetPlan(inspections(),
			domain.Rule{Columns: map[string]domain.ColumnRule{c.column: c.rule}}); err == nil || !strings.Contains(err.Error(),
			c.want) {
			t.Errorf("%s: %v", c.column, err)
		}
	}
	// Where nothing can be long, nothing changes.
	short := inspections()
	short.Columns, short.Table.Columns = short.Columns[:2], short.Table.Columns[:2]
	if p, _, err := way.BuildTargetPlan(short, domain.Rule{Columns: map[string]domain.ColumnRule{
		"*": {Longest: 5}}}); err != nil || p.CrossEngine || !p.Binary {
		t.Errorf("%+v, %v", p, err)
	}
}
