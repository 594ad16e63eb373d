package typemap

import (
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

// meadow are two MariaDB tables, the second referring to the first.
func meadow() (keepers, hives domain.TablePlan) {
	plan := func(name string, cols ...domain.Column) domain.TablePlan {
		t := domain.Table{TableName: domain.TableName{Schema: "meadow", Name: name}, Columns: cols,
			Keys: []domain.Key{{Columns: []string{"id"}, Primary: true, Name: "PRIMARY"}}}
		return domain.TablePlan{Source: t.TableName, Target: t.TableName, Columns: cols, Key: []string{"id"},
			KeyOrder: "ours", Table: t}
	}
	of := func(name, typ string) domain.Column { c := col(typ); c.Name = name; return c }
	keepers = plan("keepers", of("id", "int(11)"), of("name", "varchar(20)"), of("secret", "text"))
	keepers.Table.Indexes = []domain.Index{{Name: "by_name", Columns: []string{"name"},
		Definition: "INDEX `by_name` (`name`)"}, {Name: "by_secret", Columns: []string{"secret"},
		Definition: "INDEX `by_secret` (`secret`(9))"}, {Name: "words", Why: "of the kind fulltext",
		Definition: "FULLTEXT INDEX `words` (`name`)"}}
	hives = plan("hives", of("id", "int(11)"), of("keeper", "int(11)"))
	hives.Table.Constraints = []domain.Constraint{{Name: "hives_keeper", Kind: "foreign", Columns: []string{"keeper"},
		References: keepers.Source, ReferenceColumns: []string{"id"}, Rules: " ON DELETE CASCADE"}}
	return keepers, hives
}

func TestRulesOnEveryWay(t *testing.T) {
	for _, c := range []struct {
		to, target, index, foreign string
	}{
		{MariaDB, "new.old_keepers", "INDEX `by_name` (`full`)",
			"FOREIGN KEY (`keeper`) REFERENCES `new`.`old_keepers` (`number`) ON DELETE CASCADE"},
		{Postgres, "meadow.old_keepers", `CREATE INDEX "keepers_by_name" ON "meadow"."old_keepers" ("full")`,
			`FOREIGN KEY ("keeper") REFERENCES "meadow"."old_keepers" ("number") ON DELETE CASCADE`},
	} {
		w := Mapping{From: MariaDB, To: c.to, Into: "new"}
		keepers, hives := meadow()
		rule := domain.Rule{Tables: "meadow.keepers", Name: "old_*", Columns: map[string]domain.ColumnRule{
			"id": {Name: "number"}, "name": {Name: "full"}, "secret": {LeaveOut: true}}}
		plans := make([]domain.TablePlan, 2)
		var err error
		for i, p := range []domain.TablePlan{keepers, hives} {
			if plans[i], _, err = w.BuildTargetPlan(p, domain.RuleFor([]domain.Rule{rule}, p.Source)); err != nil {
				t.Fatal(err)
			}
		}
		w.RemapForeignKeys(plans)
		k, h := plans[0].TargetPlan(), plans[1].TargetPlan()
		if k.Target.String() != c.target || len(k.Columns) != 2 || k.Columns[0].Name != "number" || k.Key[0] != "number" ||
			plans[0].Key[0] != "id" {
			t.Errorf("%s: %+v", c.to, k)
		}
		if len(k.Table.Indexes) != 1 || k.Table.Indexes[0].Definition != c.index {
			t.Errorf("%s: the indexes are %+v", c.to, k.Table.Indexes)
		}
		if left := strings.Join(k.Table.Left, "; "); !strings.Contains(left, "by_secret (of a column that is left out)") ||
			!strings.Contains(left, "words") {
			t.Errorf("%s: left out are %s", c.to, left)
		}
		if got := h.Table.Constraints[0].Definition; got != c.foreign {
			t.Errorf("%s: the foreign key is %s", c.to, got)
		}
	}
}

// TestColumnsChangeNames: two columns take each other's name, in a table whose
// statements name them plainly and in quotes, and the source's catalog stays.
func TestColumnsChangeNames(t *testing.T) {
	name := domain.TableName{Schema: "meadow", Name: "hives"}
	text := func(n string) domain.Column {
		return domain.Column{Name: n, Type: "text", BaseType: "text", Wire: "portable"}
	}
	table := domain.Table{TableName: name, Columns: []domain.Column{text("a"), text("b"), text("Id")},
		Keys: []domain.Key{{Columns: []string{"Id"}, Primary: true, Name: "hives_pkey"}},
		Indexes: []domain.Index{{Name: "both", Columns: []string{"a", "b", "Id"},
			Definition: `CREATE INDEX both ON meadow.hives USING btree (a, b DESC, "Id")`}},
		Constraints: []domain.Constraint{{Name: "pair", Kind: "foreign", Columns: []string{"a"}, References: name,
			ReferenceColumns: []string{"Id"}, Definition: `FOREIGN KEY (a) REFERENCES meadow.hives("Id") ON DELETE CASCADE`},
			{Name: "the_pair", Kind: "foreign", Columns: []string{"b"}, References: name, ReferenceColumns: []string{"Id"},
				Definition: `FOREIGN KEY (b) REFERENCES meadow.hives("Id")`}}}
	w := Mapping{From: Postgres, To: Postgres}
	p, _, err := w.BuildTargetPlan(domain.TablePlan{Source: name, Target: name, Columns: table.Columns,
		Key: []string{"Id"}, Table: table},
		domain.Rule{Tables: "meadow.hives", Name: "combs", Columns: map[string]domain.ColumnRule{"a": {Name: "b"},
			"b": {Name: "a"}, "Id": {Name: "number"}}})
	if err != nil {
		t.Fatal(err)
	}
	plans := []domain.TablePlan{p}
	w.RemapForeignKeys(plans)
	o := plans[0].TargetPlan()
	if got := o.Table.Indexes[0].Definition; got != `CREATE INDEX both ON "meadow"."combs" `+
		`USING btree ("b", "a" DESC, "number")` {
		t.Errorf("the index is %s", got)
	}
	for i, want := range []string{`FOREIGN KEY ("b") REFERENCES "meadow"."combs" ("number") ON DELETE CASCADE`,
		`FOREIGN KEY ("a") REFERENCES "meadow"."combs" ("number")`} {
		if got := o.Table.Constraints[i].Definition; got != want {
			t.Errorf("constraint %d is %s, want %s", i, got, want)
		}
	}
	if table.Constraints[0].Columns[0] != "a" || !strings.Contains(table.Constraints[0].Definition, `hives("Id")`) ||
		table.Indexes[0].Columns[0] != "a" {
		t.Errorf("the source's catalog was changed: %+v", table)
	}
	if o.CrossEngine || o.Binary != plans[0].Binary {
		t.Error("names alone make rows travel as texts")
	}
}

func TestRulesThatCannotBe(t *testing.T) {
	for want, rule := range map[string]domain.Rule{
		"part of the key":           {Columns: map[string]domain.ColumnRule{"id": {LeaveOut: true}}},
		"none of that name":         {Columns: map[string]domain.ColumnRule{"Name": {Name: "x"}}},
		"a column of that name":     {Columns: map[string]domain.ColumnRule{"name": {Name: "secret"}}},
		"cannot be planned as date": {Columns: map[string]domain.ColumnRule{"name": {Type: "date"}}},
		"register that database":    {Schema: "other"},
		"of fixed width":            {Columns: map[string]domain.ColumnRule{"name": {Type: "char(20)"}}},
	} {
		keepers, _ := meadow()
		_, _, err := Mapping{From: MariaDB, To: MariaDB, Into: "new"}.BuildTargetPlan(keepers, rule)
		if err == nil || !strings.Contains(err.Error(), want) || !domain.IsKind(err, domain.ProblemInvalid) {
			t.Errorf("%+v: %v, want %q", rule, err, want)
		}
	}
}

func TestTypesAsPeopleWriteThem(t *testing.T) {
	for _, c := range []struct{ engine, in, want, base string }{
		{Postgres, "VARCHAR ( 20 )", "character varying(20)", "character varying"}, {Postgres, "timestamptz(3)",
			"timestamp(3) with time zone", "timestamp with time zone"}, {Postgres, "timestamp", "timestamp without time zone",
			"timestamp without time zone"},
		{Postgres, "decimal(9, 3)", "numeric(9,3)", "numeric"}, {Postgres, "int8", "bigint", "bigint"},
		{MariaDB, "INTEGER", "int", "int"}, {MariaDB, "numeric(9, 3)", "decimal(9,3)", "decimal"},
		{MariaDB, "bool", "tinyint(1)", "tinyint"},
	} {
		if got := spelled(c.engine, c.in); got != c.want || baseOf(got) != c.base {
			t.Errorf("%s %q is %q (%s), want %q", c.engine, c.in, got, baseOf(got), c.want)
		}
	}
}
