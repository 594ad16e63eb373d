package planning

import (
	"fmt"
	"strings"
	"testing"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// TestDefinitionsThatTheLogHasNotTold: what was altered between the plan and where capture began
// is in no log that is read; the readiness list says it.
func TestDefinitionsThatTheLogHasNotTold(t *testing.T) {
	table := func() domain.Table {
		return domain.Table{TableName: domain.TableName{Schema: "marsh", Name: "lots"}, Storage: "InnoDB",
			Columns: []domain.Column{{Name: "id", Type: "int"}, {Name: "note", Type: "varchar(20)", Charset: "utf8mb4",
				Collation: "utf8mb4_bin"}},
			Keys: []domain.Key{{Columns: []string{"id"}, Primary: true}}}
	}
	for what, c := range map[string]struct {
		alter func(*domain.Table)
		says  string
	}{
		"nothing": {func(*domain.Table) {}, ""},
		"the storage engine": {func(x *domain.Table) {
			x.Storage = "Aria"
		}, "the storage engine is aria now, it was innodb"},
		"how texts are compared": {func(x *domain.Table) { x.Columns[1].Collation = "utf8mb4_general_ci" },
			"the collation of note"},
		"the primary key":          {func(x *domain.Table) { x.Keys = nil }, "the primary key is none now"},
		"a server without engines": {func(x *domain.Table) { x.Storage = ""; x.Keys = nil }, ""},
	} {
		was, now := table(), table()
		c.alter(&now)
		if now.Storage == "" {
			was.Storage = ""
		}
		list := CheckTables(&domain.Crossing{Name: "spring"}, &domain.Catalog{Tables: []domain.Table{now}},
			[]domain.CrossingTable{{SourceName: "marsh.lots", Plan: domain.TablePlan{Source: was.TableName, Table: was}}})
		var said string
		for _, e := range list {
			if e.Verdict == domain.Blocker && e.Topic == "columns" {
				said += e.Measured + " → " + e.Remedy
			}
		}
		if c.says == "" && said != "" || !strings.Contains(said, c.says) || c.says != "" &&
			!strings.Contains(said, "crossing restart spring --table marsh.lots") {
			t.Errorf("%s: the list says %q", what, said)
		}
	}
}

// TestAChangedTableIsPlannedAnew: what is carried over, what only a person can know, and what
// stands in the way.
func TestAChangedTableIsPlannedAnew(t *testing.T) {
	honey := func(x domain.Table) domain.Table { x.Schema = "honey"; return x }
	for what, c := range map[string]struct {
		from, to string
		was, now domain.Table
		there    *domain.Table
		change   domain.Change
		at       domain.Position
		last     bool
		want     string // changes / todo / doubts, or the error
	}{
		"nothing": {from: typemap.Postgres, to: typemap.Postgres, was: hive("lots", 1, "id:bigint"),
			now: hive("lots", 1, "id:bigint"), at: domain.PositionAt(7), want: "0 /  / "},
		"a column more": {from: typemap.Postgres, to: typemap.Postgres, was: hive("lots", 1, "id:bigint"),
			now: hive("lots", 1, "id:bigint", "note:text"), at: domain.PositionAt(7),
			want: "1 / ALTER lots added →note / "},
		"which is there already": {from: typemap.Postgres, to: typemap.Postgres, was: hive("lots", 1, "id:bigint"),
			now: hive("lots", 1, "id:bigint", "note:text"), at: domain.PositionAt(7),
			there: new(hive("lots", 1, "id:bigint", "note:text")), want: "1 /  / "},
		"a column less": {from: typemap.Postgres, to: typemap.Postgres, was: hive("lots", 1, "id:bigint", "note:text"),
			now: hive("lots", 1, "id:bigint"), at: domain.PositionAt(7),
			want: "1 / ALTER lots dropped note→ / "},
		"a value that only the source knows": {from: typemap.Postgres, to: typemap.MariaDB, was: hive("lots", 1, "id:bigint"),
			at: domain.PositionAt(7),
			now: func() domain.Table {
				x := hive("lots", 1, "id:bigint", "note:text")
				x.Columns[1].NotNull = true
				return x
			}(),
			want: "1 / ALTER lots added →note / rows that were there have a value in column note"},
		"a constant": {from: typemap.MariaDB, to: typemap.Postgres, at: domain.PositionAt(7), last: true,
			change: domain.Change{Kind: domain.Redefine, Statement: "ALTER TABLE lots ADD n int NOT NULL DEFAULT 7"},
			was:    hive("lots", 1, "id:bigint"),
			now: func() domain.Table {
				x := hive("lots", 1, "id:bigint", "n:int")
				x.Columns[1].NotNull, x.Columns[1].Default = true, "7"
				return x
			}(),
			want: "1 / ALTER lots added →n / "},
		"another key": {from: typemap.Postgres, to: typemap.Postgres, was: hive("lots", 1, "id:bigint", "k:int"),
			at:   domain.PositionAt(7),
			now:  func() domain.Table { x := hive("lots", 1, "id:bigint", "k:int", "n:int"); x.Keys = nil; return x }(),
			want: "1 / ALTER lots added →n / the key by which rows are found is another one"},
		"columns that moved, in a log of places": {from: typemap.MariaDB, to: typemap.Postgres,
			was: hive("lots", 1, "id:bigint", "a:int", "b:int"), now: hive("lots", 1, "id:bigint", "b:int",
				"a:int"), at: domain.PositionAt(7),
			change: domain.Change{Kind: domain.Redefine, Statement: "ALTER TABLE lots MODIFY a int AFTER b"},
			want:   "0 /  / columns change their places"},
		"a table that is gone": {from: typemap.Postgres, to: typemap.Postgres, was: hive("gone", 1, "id:bigint"),
			now: hive("lots", 1, "id:bigint"), want: "marsh.gone is no longer on the source"},
		"a target that is gone": {from: typemap.Postgres, to: typemap.Postgres, was: hive("lots", 1, "id:bigint"),
			now: hive("lots", 1, "id:bigint", "a:int"), there: new(hive("else", 1, "id:bigint")),
			want: "the target has no table marsh.lots any more"},
		"a collation, from start": {from: typemap.MariaDB, to: typemap.MariaDB,
			want: "0 / ALTER lots retyped note→note; ALTER lots has another collation for new columns → / ",
			was: func() domain.Table {
				x := hive("lots", 1, "id:bigint", "note:text")
				x.Collation = "utf8mb4_bin"
				return x
			}(),
			now: func() domain.Table {
				x := hive("lots", 1, "id:bigint", "note:text")
				x.Collation, x.Columns[1].Charset, x.Columns[1].Collation = "latin1_bin", "latin1", "latin1_bin"
				return x
			}()},
	} {
		o := newCoop(c.now)
		o.from, o.to, o.last = c.from, c.to, c.last
		src, dst, _ := servers{o}.OpenPair(t.Context(), o.c)
		o.here.Tables[0] = c.was
		s, _, err := o.planning().Plan(t.Context(), o.c)
		if err != nil {
			t.Fatal(what, err)
		}
		was := s.Plans[0]
		o.here.Tables[0] = c.now
		o.there.Tables = []domain.Table{was.TargetPlan().Table}
		o.there.Tables[0].TableName = was.Target
		if side := was.TargetPlan(); len(side.Columns) > 0 {
			o.there.Tables[0].Columns = side.Columns
		}
		if c.there != nil {
			o.there.Tables = []domain.Table{*c.there}
			if c.to == typemap.MariaDB {
				o.there.Tables[0] = honey(*c.there)
			}
		}
		ch := c.change
		a, err := o.planning().PlanSchemaChange(t.Context(), o.c, src, dst, s.Plans, &was, &ch, c.at)
		got := fmt.Sprint(err)
		if err == nil {
			got = fmt.Sprintf("%d / %s / %s", len(a.Changes), strings.Join(a.Todo, "; "), strings.Join(a.Doubts, "; "))
		}
		if err == nil && len(a.Changes) > 0 && a.Drops != (what == "a column less" || what == "which is there already") {
			t.Errorf("%s: it only drops: %v", what, a.Drops)
		}
		if !strings.HasPrefix(got, c.want) || err == nil && len(a.Doubts) > 0 && strings.HasSuffix(c.want, "/ ") {
			t.Errorf("%s: %q, want %q", what, got, c.want)
		}
		if err == nil && len(a.Todo) > 0 {
			text := a.Hold(o.c, "marsh.lots").Error()
			if !strings.Contains(text, a.Todo[0]) || strings.Contains(text, "--column-changes carry") != (len(a.Doubts) == 0) {
				t.Errorf("%s holds with %q", what, text)
			}
		}
	}
}

// TestTablesThatAreNotWhatWasPlanned: what a look at the source finds that no log tells.
func TestTablesThatAreNotWhatWasPlanned(t *testing.T) {
	part := func(names ...string) (out []domain.Partition) {
		for _, n := range names {
			out = append(out, domain.Partition{Table: domain.TableName{Schema: "marsh", Name: n}})
		}
		return out
	}
	for what, c := range map[string]struct {
		change func(*domain.Table)
		want   string
	}{
		"nothing":       {func(*domain.Table) {}, ""},
		"another table": {func(x *domain.Table) { x.ID = "oid other" }, "blocker | another table | marsh.lots"},
		"rows anew":     {func(x *domain.Table) { x.Written = "file 2" }, "blocker | rows written anew | marsh.lots"},
		"partitions": {func(x *domain.Table) { x.Partitions = part("p1", "p3") },
			"marsh.p3 has become a partition since the start"},
		"fewer of them": {func(x *domain.Table) { x.Partitions = part("p1") }, "marsh.p2 is no partition any more"},
		"a column": {func(x *domain.Table) { x.Columns = append(x.Columns, column("n:int")) },
			"blocker | columns | marsh.lots | they have changed on the source, and no row has shown it yet"},
		"a stricter one": {func(x *domain.Table) { x.Columns[1].NotNull = true }, "notice | columns | marsh.lots"},
		"an index": {func(x *domain.Table) {
			x.Indexes = []domain.Index{{Name: "by_note", Definition: "CREATE INDEX by_note"}}
		}, "notice | objects | marsh.lots"},
		"it is gone": {func(x *domain.Table) {
			x.Name = "moved"
		}, "blocker | columns | marsh.lots | it is no longer on the source → leave it out"},
		"one of the name": {func(x *domain.Table) {
			x.Name = "moved"
		}, "notice | new table | marsh.moved | the crossing's patterns choose it"},
	} {
		was := hive("lots", 1, "id:bigint", "note:text")
		was.Partitions = part("p1", "p2")
		now := hive("lots", 1, "id:bigint", "note:text")
		now.Partitions = part("p1", "p2")
		c.change(&now)
		got := lines(CheckTables(&domain.Crossing{Name: "spring"}, &domain.Catalog{Tables: []domain.Table{now}},
			[]domain.CrossingTable{{SourceName: "marsh.lots", Plan: domain.TablePlan{Source: was.TableName, Table: was}}}))
		if c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("%s: %q", what, got)
		}
	}
	queries := []domain.CrossingTable{{SourceName: "marsh.q", Plan: domain.TablePlan{From: "SELECT 1"}}}
	if got := CheckTables(&domain.Crossing{Planning: domain.Planning{Queries: []domain.Query{{}}}},
		&domain.Catalog{Tables: []domain.Table{hive("new", 1, "id:int")}}, queries); got != nil {
		t.Errorf("a crossing of queries alone: %s", lines(got))
	}
}

// TestWhatIsNotBroughtBackIsTold: a table beside those of a return path, in their schema.
func TestWhatIsNotBroughtBackIsTold(t *testing.T) {
	of := int64(1)
	table := func(schema, name string) domain.Table {
		return domain.Table{TableName: domain.TableName{Schema: schema, Name: name}, ID: name}
	}
	lots := table("marsh", "lots")
	list := CheckTables(&domain.Crossing{Name: "spring-back", Target: "old", ReturnOf: &of,
		Patterns: []string{"marsh.lots"}},
		&domain.Catalog{Tables: []domain.Table{lots, table("marsh", "jars"), table("other", "x")}},
		[]domain.CrossingTable{{SourceName: "marsh.lots", Plan: domain.TablePlan{Source: lots.TableName, Table: lots}}})
	if len(list) != 1 || list[0].Subject != "marsh.jars" || list[0].Verdict != domain.Notice ||
		!strings.Contains(list[0].Measured, "does not come to old") {
		t.Errorf("%+v", list)
	}
}
