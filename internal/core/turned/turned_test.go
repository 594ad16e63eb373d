package turned_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/core/turned"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

func name(schema, table string) domain.TableName {
	return domain.TableName{Schema: schema, Name: table}
}

func columns(list ...string) []domain.Column {
	var out []domain.Column
	for _, c := range list {
		n, typ, _ := strings.Cut(c, " ")
		base, _, _ := strings.Cut(typ, "(")
		if strings.HasSuffix(typ, " unsigned") {
			base += " unsigned"
		}
		out = append(out, domain.Column{Name: n, Type: typ, BaseType: base})
	}
	return out
}

// plan is of a MariaDB table, with the rule that a person gave.
func plan(t *testing.T, r domain.Rule, list ...string) domain.TablePlan {
	t.Helper()
	p := domain.TablePlan{Source: name("marsh", "hives"), Target: name("marsh", "hives"), Key: []string{"id"},
		Columns: columns(list...)}
	p.Table = domain.Table{TableName: p.Source, Columns: p.Columns, Keys: []domain.Key{{Columns: p.Key, Primary: true}}}
	r.Tables = "marsh.hives"
	p, _, err := typemap.Mapping{From: "mariadb", To: "postgres", Into: "cloud"}.BuildTargetPlan(p, r)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

var back = typemap.Mapping{From: "postgres", To: "mariadb", Into: "marsh"}

func TestPlansAreTurned(t *testing.T) {
	value := "x"
	p := plan(t, domain.Rule{Schema: "public", Name: "colonies", Columns: map[string]domain.ColumnRule{
		"name": {Name: "title"}, "secret": {LeaveOut: true}, "made": {Value: &value}}},
		"id int(11)", "name varchar(20)", "secret varchar(20)")
	patterns, rules := turned.Choice([]domain.TablePlan{p})
	if !slices.Equal(patterns, []string{"public.colonies"}) || len(rules) != 1 {
		t.Fatalf("%v, %+v", patterns, rules)
	}
	r := rules[0]
	if r.Tables != "public.colonies" || r.Schema != "marsh" || r.Name != "hives" || r.Columns["title"].Name != "name" ||
		!r.Columns["made"].LeaveOut || len(r.Columns) != 2 {
		t.Errorf("%+v", r)
	}
	same := domain.TablePlan{Source: name("a", "b"), Target: name("a", "b"), Columns: columns("id integer")}
	if patterns, rules := turned.Choice([]domain.TablePlan{same}); len(rules) != 0 || patterns[0] != "a.b" {
		t.Errorf("%v, %v", patterns, rules)
	}
	// What the old side computes by itself is not brought back.
	computed := plan(t, domain.Rule{}, "id int(11)", "sum int(11)")
	computed.Columns[1].Computed = "id + 1"
	if _, rules := turned.Choice([]domain.TablePlan{computed}); len(rules) != 1 || !rules[0].Columns["sum"].LeaveOut {
		t.Errorf("%+v", rules)
	}
}

func TestWhatComesBackExactly(t *testing.T) {
	for what, c := range map[string]struct {
		rule    domain.Rule
		columns []string
		says    string
	}{
		"alike": {domain.Rule{}, []string{"id int(11)", "name varchar(20)"}, "ok changes of 1 table of 1"},
		"masked": {domain.Rule{Columns: map[string]domain.ColumnRule{"name": {Mask: "k"}}}, []string{"id int(11)",
			"name varchar(70)"}, "blocker the way back: column name is masked"},
		"left out": {domain.Rule{Columns: map[string]domain.ColumnRule{"name": {LeaveOut: true}}},
			[]string{"id int(11)", "name varchar(20)"}, "notice the way back: not carried: name;"},
		"narrower there": {domain.Rule{}, []string{"id int(11)", "kind enum('A','b')"},
			"not every value that is new there fits here, and what does not holds the way back: kind (text"},
		"cut": {domain.Rule{Columns: map[string]domain.ColumnRule{"name": {Longest: 5, Cut: true}}},
			[]string{"id int(11)", "name varchar(20)"}, "blocker the way back: column name is cut"},
		"unsigned": {domain.Rule{}, []string{"id int(11)", "n bigint(20) unsigned"},
			"what does not holds the way back: n (numeric"},
	} {
		var got []string
		for _, e := range turned.Exact([]domain.TablePlan{plan(t, c.rule, c.columns...)}, back) {
			got = append(got, fmt.Sprint(e.Verdict, " ", e.Measured))
		}
		if text := strings.Join(got, "\n"); !strings.Contains(text, c.says) || len(got) != 1 {
			t.Errorf("%s: %s, not %q", what, text, c.says)
		}
	}
}
