package typemap

import (
	"testing"

	"dustyferry/internal/domain"
)

func column(name, typ, base string) domain.Column {
	return domain.Column{Name: name, Type: typ, BaseType: base}
}

// TestValuesGoBack: a value that came from MariaDB takes the form that it had there.
func TestValuesGoBack(t *testing.T) {
	for _, c := range []struct {
		from, to   domain.Column
		value, out string
		null, fail bool
	}{
		{column("s", "text", "text"), column("s", "set('swarms','queens','wax')", "set"), "wax,swarms", "swarms,wax", false,
			false},
		{column("s", "text", "text"), column("s", "set('swarms','queens','wax')", "set"), "wax,other,wax", "wax,other", false,
			false},
		{column("s", "text", "text"), column("s", "set('swarms')", "set"), "", "", false, false},
		{column("g", "bytea", "bytea"), column("g", "point", "point"), `\x0101ff`, `\x000000000101ff`, false, false},
		{column("g", "bytea", "bytea"), column("g", "point", "point"), `0101`, "", false, true},
		{column("g", "bytea", "bytea"), column("g", "longblob", "longblob"), `\x0101ff`, `\x0101ff`, false, false},
		{column("b", "smallint", "smallint"), column("b", "tinyint(1)", "tinyint"), "1", "1", false, false},
		{column("n", "numeric(20,0)", "numeric"), column("n", "bigint(20) unsigned", "bigint unsigned"),
			"18446744073709551615",
			"18446744073709551615", false, false},
	} {
		out, ok, err := Compile(Postgres, MariaDB, c.from, c.to, nil)(nil, []byte(c.value))
		if string(out) != c.out && !c.fail || ok == c.null && !c.fail || (err != nil) != c.fail {
			t.Errorf("%s of %s into %s: %q, %v, %v", c.value, c.from.Type, c.to.Type, out, ok, err)
		}
	}
}

// TestAPlanOntoATableThatStands takes its columns as they are there, and says what that means.
func TestAPlanOntoATableThatStands(t *testing.T) {
	w := Mapping{From: Postgres, To: MariaDB, Into: "marsh"}
	name := domain.TableName{Schema: "public", Name: "hives"}
	there := domain.TableName{Schema: "marsh", Name: "hives"}
	p := domain.TablePlan{Source: name, Target: name, Key: []string{"id"}, Columns: []domain.Column{
		column("id", "integer", "integer"), column("kind", "text", "text"), column("made", "jsonb", "jsonb"),
		column("place", "bytea", "bytea"), column("at", "date", "date")}}
	p.Table = domain.Table{TableName: name, Columns: p.Columns, Keys: []domain.Key{{Columns: p.Key, Primary: true}}}
	p, notes, err := w.BuildTargetPlan(p, domain.Rule{Tables: "public.hives", Schema: "marsh"})
	if err != nil {
		t.Fatal(err)
	}
	stands := &domain.Table{TableName: there, Columns: []domain.Column{column("id", "int(11)", "int"),
		column("kind", "enum('A','b')", "enum"), column("made", "json", "json"), column("place", "point", "point"),
		column("at", "double", "double")}}
	notes = w.Onto(&p, stands, notes)
	verdicts := map[string]Verdict{}
	for _, n := range notes {
		verdicts[n.Column] = n.Verdict
	}
	for i, want := range []string{"int", "enum", "json", "point", "date"} { // which is left as it would be, and blocked
		if got := p.TargetSide.Columns[i].BaseType; got != want {
			t.Errorf("column %s became %s, not %s", p.Columns[i].Name, got, want)
		}
	}
	if verdicts["kind"] != Lossy || verdicts["place"] != Lossy || verdicts["at"] != Impossible {
		t.Errorf("%v", verdicts)
	}
	// Between two databases alike nothing is to be said, and rows still go over as they are.
	same := Mapping{From: Postgres, To: Postgres}
	q := domain.TablePlan{Source: name, Target: name, Columns: columnsOf("id integer"), Binary: true}
	if notes := same.Onto(&q, &domain.Table{Columns: columnsOf("id integer")}, nil); len(notes) > 0 ||
		q.TargetSide != nil || !q.Binary {
		t.Errorf("%+v, %+v", notes, q)
	}
	if notes := same.Onto(&q, &domain.Table{Columns: columnsOf("id bigint")}, nil); len(notes) > 0 &&
		notes[0].Verdict == Impossible ||
		q.TargetSide == nil || q.TargetSide.Columns[0].Type != "bigint" || !q.CrossEngine {
		t.Errorf("%+v, %+v", notes, q)
	}
}

func columnsOf(one string) []domain.Column {
	for i := range one {
		if one[i] == ' ' {
			return []domain.Column{column(one[:i], one[i+1:], one[i+1:])}
		}
	}
	return nil
}
