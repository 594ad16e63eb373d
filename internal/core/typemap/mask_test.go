package typemap

import (
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

func said(s string) *string { return &s }

// TestReplacedColumns masks, computes and adds columns on both ways from MariaDB, and
// leaves out what could not hold for them.
func TestReplacedColumns(t *testing.T) {
	for _, to := range []string{Postgres, MariaDB} {
		w := Mapping{From: MariaDB, To: to, Into: "new"}
		keepers, hives := meadow()
		keys := &domain.Runtime{MaskKeys: map[string][]byte{"people": []byte("key")}}
		hives.Table.Constraints = append(hives.Table.Constraints, domain.Constraint{Name: "named", Kind: "foreign",
			Columns: []string{"keeper"}, References: keepers.Source, ReferenceColumns: []string{"name"}})
		keepers.Table.Constraints = []domain.Constraint{{Name: "long_name", Kind: "check",
			Definition: "CHECK (length(name) > 1)", Columns: []string{"name"}}}
		rule := domain.Rule{Tables: "meadow.keepers", Note: "people", ExistingRows: "replace",
			Columns: map[string]domain.ColumnRule{"name": {Mask: "people"}, "region": {Value: said(`o'clock \`),
				Type: "varchar(20)"}}}
		p, notes, err := w.BuildTargetPlan(keepers, rule)
		if err != nil {
			t.Fatal(err)
		}
		h, _, err := w.BuildTargetPlan(hives, domain.Rule{})
		if err != nil {
			t.Fatal(err)
		}
		plans := []domain.TablePlan{p, h}
		w.RemapForeignKeys(plans)
		there := plans[0].TargetPlan()
		if there.ExistingRows != "replace" || plans[0].Note != "people" || len(there.Added) != 1 ||
			there.Added[0].Name != "region" || len(there.Columns) != len(plans[0].Columns) {
			t.Errorf("%s: %+v", to, there)
		}
		want := `'o''clock \'`
		if to == MariaDB {
			want = `'o''clock \\'`
		}
		if got := there.Added[0].Default; got != want {
			t.Errorf("%s: the value is %s", to, got)
		}
		left := strings.Join(append(there.Table.Left, plans[1].TargetPlan().Table.Left...), "; ")
		if !strings.Contains(left, "check constraint long_name (of a column whose values are replaced)") ||
			!strings.Contains(left, "foreign constraint named (to a column whose values are replaced)") {
			t.Errorf("%s: left out are %s", to, left)
		}
		masked := false
		for _, n := range notes {
			masked = masked || n.Verdict == Masked && n.Column == "name" && strings.Contains(n.Note, "by the key people")
		}
		if !masked {
			t.Errorf("%s: the notes are %+v", to, notes)
		}
		out, ok, err := Compile(MariaDB, to, plans[0].Columns[1], there.Columns[1], keys)(nil, []byte("Ada"))
		if err != nil || !ok || len(out) != 20 || strings.Contains(string(out), "Ada") { // the room of varchar(20)
			t.Errorf("%s: Ada becomes %q (%v)", to, out, err)
		}
		// a plan that was not given its key
		if out, _, err := Compile(MariaDB, to, plans[0].Columns[1], there.Columns[1], nil)(nil, []byte("Ada")); err == nil ||
			len(out) > 0 {
			t.Errorf("%s: without its key Ada becomes %q", to, out)
		}
	}
}

// TestWhatCannotBeReplaced says why.
func TestWhatCannotBeReplaced(t *testing.T) {
	w := Mapping{From: MariaDB, To: Postgres}
	for want, columns := range map[string]map[string]domain.ColumnRule{
		"part of the key":           {"id": {Mask: "people"}},
		"which has none":            {"nobody": {Mask: "people"}},
		"the source has that":       {"name": {Value: said("x")}},
		"there is a column of that": {"secret": {LeaveOut: true}, "name": {Name: "secret2"}, "secret2": {Value: said("x")}},
		"cannot hold a hash":        {"name": {Mask: "people", Type: "jsonb"}},
	} {
		keepers, _ := meadow()
		_, _, err := w.BuildTargetPlan(keepers, domain.Rule{Tables: "meadow.keepers", Columns: columns})
		if err == nil || !strings.Contains(err.Error(), want) && want != "cannot hold a hash" {
			t.Errorf("%s: %v", want, err)
		}
	}
}

// TestComputedColumnsTellNothing: a column that the server computes from one that is
// masked would carry what is to be hidden.
func TestComputedColumnsTellNothing(t *testing.T) {
	for _, to := range []string{Postgres, MariaDB} {
		keepers, _ := meadow()
		keepers.Columns[2].Computed = "lower(name)"
		keepers.Table.Columns = keepers.Columns
		rule := domain.Rule{Tables: "meadow.keepers", Columns: map[string]domain.ColumnRule{"name": {Mask: "people"}}}
		if _, _, err := (Mapping{From: MariaDB, To: to, Into: "new"}).BuildTargetPlan(keepers, rule); err == nil ||
			!strings.Contains(err.Error(), "which the server computes from others") {
			t.Errorf("%s: %v", to, err)
		}
		rule.Columns["secret"] = domain.ColumnRule{LeaveOut: true}
		if _, _, err := (Mapping{From: MariaDB, To: to, Into: "new"}).BuildTargetPlan(keepers, rule); err != nil {
			t.Errorf("%s, left out: %v", to, err)
		}
	}
}

// TestEnumsKeepTheirValues holds a text on PostgreSQL to the values that the enum
// allowed.
func TestEnumsKeepTheirValues(t *testing.T) {
	w := Mapping{From: MariaDB, To: Postgres}
	keepers, _ := meadow()
	keepers.Columns[2] = domain.Column{Name: "mood", Type: "enum('calm','it''s wild')", BaseType: "enum"}
	keepers.Table.Columns = keepers.Columns
	for _, c := range []struct {
		rule domain.ColumnRule
		want string
	}{
		{domain.ColumnRule{}, `CHECK ("mood" IN ('calm', 'it''s wild', ''))`},
		{domain.ColumnRule{Name: "temper"}, `CHECK ("temper" IN ('calm', 'it''s wild', ''))`},
		{domain.ColumnRule{Type: "varchar(20)"}, ""},
		{domain.ColumnRule{Mask: "m"}, ""},
	} {
		rule := domain.Rule{Tables: "meadow.keepers"}
		if c.rule != (domain.ColumnRule{}) {
			rule.Columns = map[string]domain.ColumnRule{"mood": c.rule}
		}
		p, _, err := w.BuildTargetPlan(keepers, rule)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, k := range p.TargetPlan().Table.Constraints {
			got += k.Definition
		}
		if got != c.want {
			t.Errorf("%+v: the check is %s, want %s", c.rule, got, c.want)
		}
	}
}

// TestMasksOfNumbersWrittenTwoWays: what a read and the log write differently has one hash.
func TestMasksOfNumbersWrittenTwoWays(t *testing.T) {
	for _, c := range []struct{ typ, read, logged string }{{"float", "3.33333e9", "3333330000"},
		{"double", "1e-7", "0.0000001"}, {"year", "0", "0000"}, {"float unsigned", "0.5", "5e-1"}} {
		column := domain.Column{Name: "c", Type: c.typ, BaseType: c.typ, Mask: "people"}
		f := Compile(MariaDB, Postgres, column, domain.Column{Name: "c", Type: "text", BaseType: "text"},
			&domain.Runtime{MaskKeys: map[string][]byte{"people": []byte("sixteen bytes, or more")}})
		a, _, err1 := f(nil, []byte(c.read))
		b, _, err2 := f(nil, []byte(c.logged))
		if err1 != nil || err2 != nil || len(a) == 0 || string(a) != string(b) {
			t.Errorf("%s: %s becomes %s (%v), %s becomes %s (%v)", c.typ, c.read, a, err1, c.logged, b, err2)
		}
	}
}
