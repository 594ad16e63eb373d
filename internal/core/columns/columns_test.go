package columns_test

import (
	"strings"
	"testing"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

func table(cols ...domain.Column) *domain.Table { return &domain.Table{Columns: cols} }

func col(number int, name, typ string) domain.Column {
	base, _, _ := strings.Cut(typ, "(")
	return domain.Column{Number: number, Name: name, Type: typ, BaseType: base}
}

func TestBetween(t *testing.T) {
	id, mites, note := col(1, "id", "integer"), col(2, "mites", "integer"), col(3, "note", "text")
	hive := col(0, "hive", "int")
	for _, c := range []struct {
		name      string
		was, now  *domain.Table
		statement string
		want      string
	}{
		{"nothing", table(id, mites), table(id, mites), "", ""},
		{"added", table(id), table(id, mites), "", "column mites integer was added"},
		{"dropped", table(id, mites, note), table(id, note), "", "column mites was dropped"},
		{"renamed", table(id, mites), table(id, col(2, "varroa", "integer")), "", "column mites is called varroa now"},
		{"dropped and made anew under its name", table(id, mites), table(id, col(4, "mites", "integer")), "",
			"column mites was dropped, column mites integer was added"},
		{"the last one dropped, another added", table(id, note), table(id, col(4, "remark", "text")), "",
			"column note was dropped, column remark text was added"},
		{"renamed and retyped", table(id, mites), table(id, col(2, "varroa", "bigint")), "",
			"column mites is called varroa now, column varroa is bigint now, it was integer"},
		{"two change names", table(id, mites, note), table(id, col(3, "mites", "text"), col(2, "note", "integer")), "",
			"column mites is called note now, column note is called mites now"},
		{"without numbers, renamed", table(hive), table(col(0, "box", "int")), "ALTER TABLE h RENAME COLUMN hive TO box",
			"column hive is called box now"},
		{"without numbers, dropped and added", table(hive), table(col(0, "box", "int")),
			"ALTER TABLE h DROP hive, ADD box int", "column hive was dropped, column box int was added"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := columns.Words(columns.Between(c.was, c.now, c.statement)); got != c.want {
				t.Errorf("%q, want %q", got, c.want)
			}
		})
	}
}

func TestWhatIsSafe(t *testing.T) {
	five := "5"
	pg, maria := columns.Source{Engine: typemap.Postgres}, columns.Source{Engine: typemap.MariaDB,
		Statement: "ALTER TABLE h ADD COLUMN mites int"}
	last := columns.Source{Engine: typemap.MariaDB, Statement: "ALTER TABLE h ADD mites int NOT NULL DEFAULT 5 AFTER id",
		Last: true}
	rewritten := columns.Source{Engine: typemap.Postgres, Rewritten: true}
	added := func(edit func(*domain.Column)) columns.Change {
		n := col(4, "mites", "integer")
		edit(&n)
		return columns.Change{Kind: columns.Added, Now: n}
	}
	plain := added(func(*domain.Column) {})
	retyped := func(from, to string) columns.Change {
		return columns.Change{Kind: columns.Retyped, Was: col(2, "name", from), Now: col(2, "name", to)}
	}
	for _, c := range []struct {
		name string
		in   columns.Source
		c    columns.Change
		safe bool
	}{
		{"a new column that is empty", pg, plain, true},
		{"its default was taken away, and rows were rewritten", rewritten, plain, false},
		{"a constant that the server tells", pg, added(func(n *domain.Column) {
			n.Default, n.Fill, n.NotNull = "5", &five, true
		}), true},
		{"it must have a value by now, and was empty when it came", pg, added(func(n *domain.Column) { n.NotNull = true }),
			true},
		{"a default of which nothing says whether old rows have it", pg, added(func(n *domain.Column) { n.Default = "5" }),
			false},
		{"numbered by the server", pg, added(func(n *domain.Column) { n.Identity = "always" }), false},
		{"computed", pg, added(func(n *domain.Column) { n.Generated = true }), false},
		{"MariaDB, empty", maria, plain, true},
		{"MariaDB, its own word for empty", maria, added(func(n *domain.Column) { n.Default = "NULL" }), true},
		{"MariaDB, a default that may have been another one then", maria, added(func(n *domain.Column) { n.Default = "5" }),
			false},
		{"MariaDB, a default that is gone since", columns.Source{Engine: typemap.MariaDB,
			Statement: "ALTER TABLE h ADD mites int default 5"}, plain, false},
		{"MariaDB, a column under a new name and type", columns.Source{Engine: typemap.MariaDB,
			Statement: "ALTER TABLE h CHANGE COLUMN grubs mites bigint", Last: true}, plain, false},
		{"MariaDB, a literal that no later statement has changed", last, added(func(n *domain.Column) {
			n.Default, n.Fill, n.NotNull = "5", &five, true
		}), true},
		{"MariaDB, the same by an expression", last, added(func(n *domain.Column) {
			n.Default, n.NotNull = "(rand())", true
		}), false},
		{"MariaDB, nothing that no later statement has changed", columns.Source{Engine: typemap.MariaDB,
			Statement: "ALTER TABLE h ADD mites int DEFAULT NULL", Last: true}, added(func(n *domain.Column) {
			n.Default = "NULL"
		}), true},
		{"MariaDB, what the server takes for nothing", last, added(func(n *domain.Column) { n.NotNull = true }), false},
		{"longer texts", pg, retyped("character varying(10)", "character varying(20)"), true},
		{"longer texts, but cast by who knows what", rewritten, retyped("character varying(10)", "character varying(20)"),
			false},
		{"shorter texts", pg, retyped("character varying(20)", "character varying(10)"), false},
		{"a wider number on MariaDB", maria, retyped("int", "bigint"), true},
		{"a narrower one", maria, retyped("bigint", "int"), false},
		{"a column of the key", pg, columns.Change{Kind: columns.Dropped, Was: col(1, "id", "integer")}, false},
		{"another one", pg, columns.Change{Kind: columns.Dropped, Was: col(2, "name", "text")}, true},
		{"may be empty", pg, columns.Change{Kind: columns.Loosened, Was: col(1, "id", "integer"),
			Now: col(1, "id", "integer")}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			if why := c.in.Unsafe(c.c, []string{"id"}); (why == "") != c.safe {
				t.Errorf("%q", why)
			}
		})
	}
}

func TestConstants(t *testing.T) {
	for _, c := range []struct {
		base, text, want string
		ok               bool
	}{
		{"int", "5", "5", true}, {"decimal", "-1.50", "-1.50", true}, {"int", "NULL", "", false}, {"int", "(1 + 2)", "",
			false}, {"bigint", "1e3", "", false},
		{"varchar", "'the dyke'", "the dyke", true}, {"varchar", "''", "", true}, {"varchar", "'it''s'", "", false},
		{"varchar", `'a\b'`, "", false}, {"varchar", "uuid()", "", false}, {"varchar", "'", "", false},
		{"date", "'2026-11-28'", "2026-11-28", true}, {"datetime", "current_timestamp()", "", false},
		{"timestamp", "'2026-11-28 00:00:00'", "", false}, {"blob", "'x'", "", false},
	} {
		if got, ok := columns.Constant(domain.Column{BaseType: c.base, Default: c.text}); got != c.want || ok != c.ok {
			t.Errorf("%s %s: %q, %v", c.base, c.text, got, ok)
		}
	}
}

func TestAsLogged(t *testing.T) {
	id, mites, site := col(1, "id", "integer"), col(2, "mites", "integer"), col(3, "site", "text")
	sum := col(5, "sum", "integer")
	sum.Generated = true
	was, now := table(id, mites), table(id, site, sum)
	named := func(cols ...domain.Column) []domain.Column {
		var out []domain.Column
		for _, c := range cols {
			out = append(out, domain.Column{Name: c.Name, Type: c.Type})
		}
		return out
	}
	// Added, then another one dropped: in between there were both.
	if got := columns.AsLogged(was, now, named(id, mites, site)); got == nil ||
		columns.Words(columns.Between(was, got, "")) != "column site text was added, column sum integer was added" {
		t.Errorf("%+v", got)
	}
	if got := columns.AsLogged(was, now, named(id, col(0, "wings", "integer"))); got != nil {
		t.Errorf("a column that nobody knows: %+v", got)
	}
	if got := columns.AsLogged(was, now, named(id, col(2, "mites", "bigint"))); got != nil {
		t.Errorf("a type that nobody knows: %+v", got)
	}
}

// TestPlacesOfColumns: whether columns stand in another order, and whether a statement may
// have put them there.
func TestPlacesOfColumns(t *testing.T) {
	id, mites, note, hive := col(0, "id", "int"), col(0, "mites", "int"), col(0, "note", "text"), col(0, "hive", "int")
	for _, c := range []struct {
		was, now *domain.Table
		want     bool
	}{
		{table(id, mites, note), table(id, mites, note), false},
		{table(id, mites, note), table(id, note), false},
		{table(id, mites, note), table(id, note, mites), true},
		{table(id, mites, note), table(hive, id, mites, note), false},
		{table(id, mites, note), table(note, hive), false},
		{table(id, mites), table(mites, hive, id), true},
	} {
		if got := columns.Moved(c.was, c.now); got != c.want {
			t.Errorf("%v to %v: moved is %t", c.was.Columns, c.now.Columns, got)
		}
	}
	for statement, want := range map[string][2]bool{
		"ALTER TABLE h ADD mites int AFTER id":        {true, false},
		"alter table h modify id int first":           {true, false},
		"ALTER TABLE h ADD first_seen date":           {false, false},
		"ALTER TABLE h RENAME COLUMN mites TO varroa": {false, true},
		"ALTER TABLE h CHANGE mites varroa int":       {false, true},
		"ALTER TABLE h ADD mites int":                 {false, false},
	} {
		if got := [2]bool{columns.Moves(statement), columns.Renames(statement)}; got != want {
			t.Errorf("%q: gives places, gives names: %v", statement, got)
		}
	}
}

func TestOthersSeesTheWholeDefinition(t *testing.T) {
	table := func(change func(*domain.Table)) *domain.Table {
		x := &domain.Table{Storage: "InnoDB", Columns: []domain.Column{{Name: "id", Type: "int"},
			{Name: "t", Type: "varchar(9)", Charset: "latin1", Collation: "latin1_bin"}, {Name: "c", Type: "int",
				Computed: "id + 1"}},
			Keys: []domain.Key{{Name: "PRIMARY", Primary: true, Columns: []string{"id"}}}, Constraints: []domain.Constraint{
				{Kind: "foreign", Columns: []string{"c"}, References: domain.TableName{Name: "o"}, Rules: "ON DELETE CASCADE"}}}
		change(x)
		return x
	}
	was := table(func(*domain.Table) {})
	for want, change := range map[string]func(*domain.Table){
		"the character set of t":  func(x *domain.Table) { x.Columns[1].Charset = "utf8mb4" },
		"the collation of t":      func(x *domain.Table) { x.Columns[1].Collation = "latin1_general_ci" },
		"what c computes":         func(x *domain.Table) { x.Columns[2].Computed = "id + 2" },
		"the primary key":         func(x *domain.Table) { x.Keys[0].Columns = []string{"id", "t"} },
		"the set of foreign keys": func(x *domain.Table) { x.Constraints[0].Rules = "" },
		"the storage engine":      func(x *domain.Table) { x.Storage = "Aria" },
	} {
		if got := columns.Others(was, table(change)); len(got) != 1 || !strings.HasPrefix(got[0], want+" is ") {
			t.Errorf("%s: %q", want, got)
		}
	}
	for name, change := range map[string]func(*domain.Table){
		"nothing":         func(*domain.Table) {},
		"an index":        func(x *domain.Table) { x.Indexes = []domain.Index{{Name: "i", Definition: "KEY i (t)"}} },
		"a renamed key":   func(x *domain.Table) { x.Columns[0].Name, x.Keys[0].Columns = "nr", []string{"nr"} },
		"storage in caps": func(x *domain.Table) { x.Storage = "INNODB" },
	} {
		if got := columns.Others(was, table(change)); len(got) != 0 {
			t.Errorf("%s: %q", name, got)
		}
	}
}

// TestObjectsThatCameAndWent names what a table has got and lost.
func TestObjectsThatCameAndWent(t *testing.T) {
	was := &domain.Table{Indexes: []domain.Index{{Name: "by_name"}, {Name: "by_day"}}, Constraints: []domain.Constraint{
		{Name: "heavy", Kind: "check"}}}
	if text := columns.Objects(was, was); text != "" {
		t.Errorf("nothing changed: %s", text)
	}
	now := &domain.Table{Indexes: []domain.Index{{Name: "by_day"}, {Name: "by_hive"}}}
	want := "made on the source since the start, and not on the target: index by_hive; gone from the source since the " +
		"start, and still on the target: check constraint heavy, index by_name"
	if text := columns.Objects(was, now); text != want {
		t.Errorf("%s", text)
	}
	if text := columns.Objects(&domain.Table{Collation: "utf8mb4_general_ci"},
		&domain.Table{Collation: "utf8mb4_bin"}); !strings.Contains(text,
		"utf8mb4_bin on the source now, and utf8mb4_general_ci on the target") {
		t.Errorf("%s", text)
	}
	if text := columns.Objects(&domain.Table{PartitionBy: "RANGE (id)"}, &domain.Table{}); !strings.Contains(text,
		"partitioned otherwise on the source since the start (none)") {
		t.Error(text)
	}
	if text := columns.Objects(&domain.Table{}, &domain.Table{Collation: "utf8mb4_bin"}); text != "" {
		t.Errorf("a plan of an older version does not know: %s", text)
	}
}

// TestWhatCameWithAColumnIsTold: a constraint made by the statement that changed a column does
// not stand on the target, to which the column alone was carried over.
func TestWhatCameWithAColumnIsTold(t *testing.T) {
	was := &domain.Table{Columns: []domain.Column{{Name: "a"}},
		Indexes:   []domain.Index{{Name: "by_a", Columns: []string{"a"}}, {Name: "by_gone", Columns: []string{"a", "gone"}}},
		Collation: "utf8mb4_bin"}
	now := &domain.Table{Columns: []domain.Column{{Name: "a"}, {Name: "b"}}, Indexes: []domain.Index{{Name: "by_a"}},
		Constraints: []domain.Constraint{{Name: "odd", Kind: "check"}}, Collation: "latin1_bin"}
	planned := *now
	columns.KeepObjects(&planned, was)
	if len(planned.Columns) != 2 || len(planned.Indexes) != 1 {
		t.Errorf("its columns are %v, its indexes %v", planned.Columns, planned.Indexes)
	}
	for _, want := range []string{"check constraint odd", "latin1_bin on the source"} {
		if text := columns.Objects(&planned, now); !strings.Contains(text, want) {
			t.Errorf("%q is not told: %s", want, text)
		}
	}
}
