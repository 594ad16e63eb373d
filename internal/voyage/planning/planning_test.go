package planning

import (
	"context"
	"errors"
	"net"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// lines writes entries for comparison: verdict, topic, subject, what was measured and what to do.
func lines(entries []domain.Entry) string {
	var out []string
	for _, e := range entries {
		text := string(e.Verdict) + " | " + e.Topic + " | " + e.Subject + " | " + e.Measured
		if e.Remedy != "" {
			text += " → " + e.Remedy
		}
		out = append(out, text)
	}
	return strings.Join(out, "\n")
}

func surveyed(t *testing.T, o *coop, try bool) string {
	t.Helper()
	s, err := o.planning().Survey(t.Context(), o.c, try)
	if err != nil {
		t.Fatal(err)
	}
	return lines(s.Entries)
}

// TestASurveySaysWhatBlocksFirst: what both sides say, what becomes of the columns, and what
// there is beside tables, the worst of it first.
func TestASurveySaysWhatBlocksFirst(t *testing.T) {
	o := newCoop(hive("lots", 3<<20, "id:bigint", "note:text"), hive("hives", 1<<20, "id:bigint", "weight:numeric(60,30)"))
	o.says = []domain.Entry{{Verdict: domain.OK, Topic: "version", Subject: "source", Measured: "18"}}
	o.tells = []domain.Entry{{Verdict: domain.Blocker, Topic: "rights", Subject: "target",
		Measured: "cannot create tables"}, {Verdict: domain.Notice, Topic: "target table", Subject: "honey.lots",
		Measured: "stands"}}
	o.open = []string{"session 7, open for 2 h", "b", "c", "d", "e", "f", "g"}
	o.extras = []engine.Object{{Kind: "view", Name: "marsh.heavy"}, {Kind: "trigger", Name: "noted"}}
	o.ahead = 4 * time.Second
	o.c.Settings.WorkerLabel = "near"
	o.c.Rules = []domain.Rule{{Tables: "marsh.l*", Statements: map[string]string{"index nobody": "CREATE INDEX"}},
		{Tables: "shop.*"}}
	got := surveyed(t, o, false)
	at := 0
	for _, want := range []string{
		"| rights | target | cannot create tables",
		"| open transactions | source | capture can begin only when these have ended: session 7, open for 2 h; b; c; d; " +
			"e and 2 more",
		"| target table | honey.lots | stands",
		"| rule | rule 2 | shop.* matches 0 tables → correct its pattern",
		"| workers | spring | no worker with the label near is at work",
		"| views | source | 1 view: marsh.heavy; they are not made on the target → write them anew for the target",
		"| triggers | source | 1 trigger: noted; they are not made",
		`| statement by hand | marsh.lots | "index nobody" is none of its objects, which are: table, comment comment, index lots_by`,
		"| fit | crossing | the data has not been looked at",
		"| clocks | both sides | they differ by 4s; lag is told by the source's clock",
		"| version | source | 18",
		"| rule | rule 1 | marsh.l* matches 1 table",
		"| room | target | rows take 4.2 MB",
		"| size | crossing | 2 tables, about 41 942 rows and 4.2 MB; at an assumed",
	} {
		i := strings.Index(got, want)
		if i < 0 {
			t.Errorf("the survey does not say %q:\n%s", want, got)
		} else if i < at {
			t.Errorf("%q comes before what is worse:\n%s", want, got)
		}
		at = max(at, i)
	}

	o.c.Phase, o.label, o.oneHost = domain.PhaseLoading, "near", true
	got = surveyed(t, o, false)
	for _, not := range []string{"target table | honey.lots", "open transactions"} {
		if strings.Contains(got, not) {
			t.Errorf("a crossing that has begun is told %q:\n%s", not, got)
		}
	}
	for _, want := range []string{"a worker with the label near is at work",
		"source and target are the same database → choose another target"} {
		if !strings.Contains(got, want) {
			t.Errorf("the survey does not say %q:\n%s", want, got)
		}
	}
}

// TestASourceThatGoesAwayIsNotWithoutObjects: a survey that could not list views, routines and
// triggers because the connection was cut is no survey; a server that refuses is told of.
func TestASourceThatGoesAwayIsNotWithoutObjects(t *testing.T) {
	o := newCoop(hive("lots", 1<<20, "id:bigint"))
	o.deny = &net.OpError{Op: "read", Err: errors.New("connection reset")}
	if s, err := o.planning().Survey(t.Context(), o.c, false); err == nil {
		t.Errorf("a source that is away has been surveyed: %s", lines(s.Entries))
	}
	o.deny = errors.New("permission denied for table pg_rewrite")
	if got := surveyed(t, o, false); !strings.Contains(got,
		"they could not be listed: permission denied for table pg_rewrite") {
		t.Errorf("the survey does not say what the source refuses:\n%s", got)
	}
	o.deny = nil
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := extraEntries(over, o.c, &Surveyed{Source: &engine.Opened{Carries: &source{coop: o}}}, true); err != nil {
		t.Errorf("what was listed is not kept: %v", err)
	}
}

// TestEnginesThatLackSomething: what cannot be done blocks, what only cannot be proven is told.
func TestEnginesThatLackSomething(t *testing.T) {
	o := newCoop(hive("lots", 1<<20, "id:bigint"))
	got := surveyed(t, o, false)
	if !strings.Contains(got, "notice | what engines can do | marsh | marsh cannot stop writes") ||
		!strings.Contains(got, "cloud cannot be compared: its engine has no way to → nothing but a look") {
		t.Errorf("what cannot be done at the cutover is not told:\n%s", got)
	}
	o.blind = true
	if got := surveyed(t, o, false); !strings.Contains(got,
		"blocker | what engines can do | marsh | marsh cannot read rows") || strings.Contains(got, "size") {
		t.Errorf("a source that cannot be read is surveyed as if it could:\n%s", got)
	}
	o.c.Kind = domain.KindCapture
	if got := surveyed(t, o, false); strings.Contains(got, "cannot read rows") ||
		!strings.Contains(got, "cannot capture changes") {
		t.Errorf("a crossing that copies nothing needs no reader:\n%s", got)
	}
}

// TestWhatOnlyALoadCanHave: conditions, computed columns, queries and watermarks, which no log
// can be held against.
func TestWhatOnlyALoadCanHave(t *testing.T) {
	lots := hive("lots", 1<<20, "id:bigint", "note:text", "at:timestamp")
	o := newCoop(lots)
	o.answers["AS \"note\""] = []string{"note:text"}
	o.answers["count(*)"] = []string{"kind:text", "n:bigint"}
	o.c.Rules = []domain.Rule{{Tables: "marsh.lots", Where: "id > :least", Watermark: "at",
		Columns: map[string]domain.ColumnRule{"note": {Expression: "left(note, 3)"}}}}
	o.c.Planning = domain.Planning{Parameters: map[string]string{"least": "7"},
		Queries: []domain.Query{{Table: "marsh.kinds", Query: "SELECT kind, count(*) n FROM lots GROUP BY 1",
			Key: []string{"kind"}}}}
	o.c.Patterns = []string{"marsh.*"}
	got := surveyed(t, o, false)
	for _, want := range []string{"only rows where id > 7 are wanted", "column note is computed as left(note, 3)",
		"it is a query, whose rows no log tells of",
		"blocker | watermark | marsh.lots | it has a watermark, but its changes are followed"} {
		if !strings.Contains(got, want) {
			t.Errorf("the survey does not say %q:\n%s", want, got)
		}
	}
	o.c.Kind = domain.KindLoad
	got = surveyed(t, o, false)
	if strings.Contains(got, "blocker") || !strings.Contains(got,
		"no index begins with at, so that each run reads through the whole table") {
		t.Errorf("a load is refused them, or not told what they cost:\n%s", got)
	}
	o.here.Tables[0].Indexes = []domain.Index{{Definition: "CREATE INDEX x ON marsh.lots (at)"}}
	if got = surveyed(t, o, false); strings.Contains(got, "no index begins with") {
		t.Errorf("an index is not seen:\n%s", got)
	}
}

// TestPlansThatCannotBe: what is asked for in rules and queries, and cannot be, is refused with
// what to change.
func TestPlansThatCannotBe(t *testing.T) {
	for what, c := range map[string]struct {
		change func(*coop)
		says   string
	}{
		"no table": {func(o *coop) { o.here.Tables = nil }, "the source has no table that can be carried"},
		"a pattern for nothing": {func(o *coop) { o.c.Patterns = []string{"shop.*"} },
			"no table of the source matches shop.*"},
		"a table that is gone": {func(o *coop) { o.c.Patterns = []string{"marsh.*", "marsh.gone"} },
			"the source has no table marsh.gone; it may have been renamed"},
		"a condition that is refused": {func(o *coop) {
			o.c.Rules = []domain.Rule{{Tables: "*.*", Where: "nothere = 1"}}
			o.refuses = "nothere"
		},
			"the condition on marsh.lots cannot be read: no such column"},
		"a masked key": {func(o *coop) {
			o.c.Rules = []domain.Rule{{Tables: "*.*", Columns: map[string]domain.ColumnRule{"id": {Expression: "id + 1"}}}}
			o.answers["id + 1"] = []string{"id:bigint"}
		}, "column id of marsh.lots cannot be masked or computed: it is part of the key"},
		"a masked key, between servers of one engine": {func(o *coop) {
			o.to = typemap.Postgres
			o.c.Rules = []domain.Rule{{Tables: "*.*", Columns: map[string]domain.ColumnRule{"id": {Expression: "id + 1"}}}}
			o.answers["id + 1"] = []string{"id:bigint"}
		}, "column id of marsh.lots cannot be masked or computed: it is part of the key"},
		"an expression that is refused": {func(o *coop) {
			o.c.Rules = []domain.Rule{{Tables: "*.*", Columns: map[string]domain.ColumnRule{"note": {Expression: "wrong("}}}}
			o.refuses = "wrong("
		}, "an expression of marsh.lots cannot be read"},
		"a query of a table's name": {func(o *coop) {
			o.c.Patterns = []string{"marsh.*"}
			o.c.Planning.Queries = []domain.Query{{Table: "marsh.lots", Query: "SELECT 1"}}
		}, "there is a query for marsh.lots, and the patterns choose that table too"},
		"a column without a name": {func(o *coop) {
			o.c.Planning.Queries = []domain.Query{{Table: "marsh.q", Query: "SELECT 1"}}
		}, "calls its column 1"},
		"two of a name": {func(o *coop) {
			o.c.Planning.Queries = []domain.Query{{Table: "marsh.q", Query: "SELECT a, a"}}
			o.answers["a, a"] = []string{"a:int", "a:int"}
		}, `calls its column 2 "a"`},
		"a key that it does not give": {func(o *coop) {
			o.c.Planning.Queries = []domain.Query{{Table: "marsh.q", Query: "SELECT a", Key: []string{"b"}}}
			o.answers["SELECT a"] = []string{"a:int"}
		}, "names column b as its key, which it does not give"},
		"a parameter without a value": {func(o *coop) { o.c.Rules = []domain.Rule{{Tables: "*.*", Where: "id > :least"}} },
			"rule 1"},
		"a source without queries": {func(o *coop) {
			o.blind = true
			o.c.Rules = []domain.Rule{{Tables: "*.*", Where: "id > 1"}}
		}, "marsh cannot read by queries"},
	} {
		o := newCoop(hive("lots", 1<<20, "id:bigint", "note:text"))
		c.change(o)
		if _, _, err := o.planning().Plan(t.Context(), o.c); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", what, err, c.says)
		}
	}
}

// TestForeignKeysThatAct: a table whose rows go with those of another waits for it, one that acts
// on itself is one chunk, and circles block.
func TestForeignKeysThatAct(t *testing.T) {
	acts := func(name string, to ...string) domain.Table {
		x := hive(name, 100<<20, "id:bigint")
		for _, n := range to {
			x.Constraints = append(x.Constraints, domain.Constraint{Kind: "foreign",
				References: domain.TableName{Schema: "marsh", Name: n}, Unlogged: true})
		}
		return x
	}
	o := newCoop(acts("a"), acts("b", "a"), acts("c", "b"), acts("d", "d"), acts("e", "f"), acts("f", "e"))
	s, _, err := o.planning().Plan(t.Context(), o.c)
	if err != nil {
		t.Fatal(err)
	}
	list := orderActs(s.Plans)
	var after []string
	for _, p := range s.Plans {
		after = append(after, p.Source.Name)
		for _, n := range slices.Compact(p.After) {
			after[len(after)-1] += "<" + n.Name
		}
		if p.SingleChunk {
			after[len(after)-1] += "!"
		}
	}
	if got := strings.Join(after, " "); got != "a b c<b d! e<f f<e" {
		t.Errorf("the order is %s", got)
	}
	if got := lines(list); strings.Count(got, "lead from it to") != 2 ||
		!strings.Contains(got, "marsh.d | it acts on its own table") {
		t.Errorf("the survey says:\n%s", got)
	}
}

// TestTablesThatWouldBecomeOne: names that are one on the target, where capitals do not count.
func TestTablesThatWouldBecomeOne(t *testing.T) {
	o := newCoop(hive("lots", 1, "id:bigint"), hive("LOTS", 1, "id:bigint"))
	if got := surveyed(t, o, false); !strings.Contains(got,
		"blocker | target table | marsh.LOTS | it and marsh.lots would both become honey.LOTS") {
		t.Errorf("two tables of one name are not refused:\n%s", got)
	}
	o.to = typemap.Postgres
	if got := surveyed(t, o, false); strings.Contains(got, "would both become") {
		t.Errorf("they are told apart there:\n%s", got)
	}
}

// TestWhatIsMade: tables that lack, then a person's statements, objects that wait for the rows,
// and what is carried; triggers after the cutover where changes are followed.
func TestWhatIsMade(t *testing.T) {
	o := newCoop(hive("lots", 1, "id:bigint"), hive("hives", 1, "id:bigint"))
	o.to, o.c.Planning = typemap.Postgres, domain.Planning{Before: []string{"B1"}, After: []string{"A1", "A2"},
		Carry: []domain.Carried{domain.CarryTriggers}}
	o.there.Tables = []domain.Table{hive("hives", 1, "id:bigint")}
	o.extras = []engine.Object{{Kind: "trigger", Name: "noted", Table: domain.TableName{Schema: "marsh"}},
		{Kind: "view", Name: "heavy"}}
	made := func() string {
		s, _, err := o.planning().Plan(t.Context(), o.c)
		if err != nil {
			t.Fatal(err)
		}
		list, err := o.planning().Objects(t.Context(), o.c, s)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, x := range list {
			text := x.Stage + ":" + x.Name + "@" + x.Table
			if x.Late {
				text += ":late"
			}
			out = append(out, text)
		}
		return strings.Join(out, " ")
	}
	if got := made(); got != "table:lots@marsh.lots table:comment 1@marsh.lots before:before 1@ "+
		"deferred:lots_by@marsh.lots deferred:hives_by@marsh.hives after:after 1@ after:after 2@ carried:noted@marsh:late" {
		t.Errorf("what is made: %s", got)
	}
	o.c.Kind, o.c.Settings.ExistingRows = domain.KindLoad, "replace"
	if got := made(); !strings.Contains(got, "table:hives@marsh.hives") || strings.Contains(got, "late") {
		t.Errorf("a load that replaces makes: %s", got)
	}
	o.deny = errors.New("no rights")
	s, _, _ := o.planning().Plan(t.Context(), o.c)
	if _, err := o.planning().Objects(t.Context(), o.c, s); err == nil {
		t.Error("what could not be read is taken for nothing")
	}
}

// TestOneTablesPlan: with its chunks, its objects, what a survey said of it, and what it leaves
// out.
func TestOneTablesPlan(t *testing.T) {
	o := newCoop(hive("lots", 1<<30, "id:bigint", "note:text"), hive("hives", 1, "id:bigint"))
	o.c.Patterns = []string{"marsh.lots"}
	o.c.Rules = []domain.Rule{{Tables: "*.lots", Columns: map[string]domain.ColumnRule{"note": {LeaveOut: true}}}}
	o.survey = []domain.Entry{{Topic: "rule", Subject: "marsh.lots", Measured: "kept"}, {Topic: "column type, wider",
		Subject: "marsh.lots"}, {Topic: "rule", Subject: "marsh.hives"}}
	p, err := o.planning().PlanOf(t.Context(), o.c, "marsh.lots")
	if err != nil {
		t.Fatal(err)
	}
	if p.Plan.Target.String() != "honey.lots" || p.Target != nil || p.Chunks < 2 || len(p.First) != 2 ||
		len(p.Later) != 1 || !slices.Equal(p.LeftOut, []string{"note"}) || len(p.Notes) != 1 ||
		p.Notes[0].Measured != "kept" {
		t.Errorf("the plan: %+v", p)
	}
	stands := hive("hives", 1, "id:bigint")
	stands.TableName = domain.TableName{Schema: "honey", Name: "hives"}
	o.there.Tables = []domain.Table{stands}
	if p, err = o.planning().PlanOf(t.Context(), o.c, "marsh.hives"); err != nil || p.Target == nil || p.First != nil ||
		p.Chunks != 1 {
		t.Errorf("a table that is not chosen: %+v, %v", p, err)
	}
	if _, err = o.planning().PlanOf(t.Context(), o.c, "marsh.gone"); !domain.IsKind(err, domain.ProblemNotFound) {
		t.Errorf("a table that is not there: %v", err)
	}
}

// TestRowsAsTheyWillArrive: in the target's form, cut for people, with the columns that only the
// target has.
func TestRowsAsTheyWillArrive(t *testing.T) {
	o := newCoop(hive("lots", 1, "id:bigint", "ok:boolean", "note:text", "at:date"))
	value := "it's"
	o.c.Rules = []domain.Rule{{Tables: "*.*", Columns: map[string]domain.ColumnRule{"origin": {Value: &value,
		Type: "varchar(10)"}}}}
	o.rows = [][]string{{"1", "t", strings.Repeat("é", 300), "2026-05-01"}, {"2", `\N`, "b", `\N`},
		{"3", "f", "c", "2026-05-02"}}
	cols, rows, err := o.planning().PreviewPlan(t.Context(), o.c, "marsh.lots", 2)
	if err != nil {
		t.Fatal(err)
	}
	if len(cols) != 5 || cols[4].Name != "origin" || len(rows) != 2 || *rows[0][1] != "1" || rows[1][1] != nil ||
		len([]rune(*rows[0][2])) != 201 || *rows[1][4] != "it's" {
		t.Errorf("columns %v, rows %v", cols, rows)
	}
	o.rows[0][3] = "12026-05-01"
	if _, _, err = o.planning().PreviewPlan(t.Context(), o.c, "marsh.lots", 2); err == nil ||
		!strings.Contains(err.Error(), "column at of marsh.lots cannot be carried as planned") {
		t.Errorf("a value that does not fit: %v", err)
	}
	table, plain, err := o.planning().Preview(t.Context(), "marsh", "marsh.lots", 5)
	if err != nil || table.Name != "lots" || *plain[0][0] != "5 of marsh.lots" {
		t.Errorf("a preview of the source: %v %v", table, err)
	}
	if _, _, err = o.planning().Preview(t.Context(), "marsh", "marsh.gone", 5); err == nil {
		t.Error("a table that is not there has rows")
	}
	o.blind = true
	if _, _, err = o.planning().Preview(t.Context(), "marsh", "marsh.lots", 5); err == nil {
		t.Error("a database that cannot be read has rows")
	}
}

// TestWhatAStartWouldRemove: tables to make, empty ones, rows that are lost, and those that are
// refused.
func TestWhatAStartWouldRemove(t *testing.T) {
	o := newCoop(hive("a", 1<<20, "id:bigint"), hive("b", 1<<20, "id:bigint"), hive("c", 1<<30, "id:bigint"))
	at := func(n string) domain.TableName { return domain.TableName{Schema: "honey", Name: n} }
	o.holds = map[domain.TableName]int64{at("b"): 0, at("c"): 70}
	o.tells = []domain.Entry{{Verdict: domain.Blocker, Topic: "x", Measured: "y"}, {Verdict: domain.Notice, Topic: "z"}}
	for policy, want := range map[string][3]int{"refuse": {1, 0, 1}, "empty": {1, 1, 0}, "replace": {0, 2, 0},
		"keep": {1, 0, 0}} {
		o.c.Settings.ExistingRows = policy
		r, err := o.planning().Review(t.Context(), o.c)
		if err != nil {
			t.Fatal(err)
		}
		if got := [3]int{r.Empty, len(r.Losses), len(r.Refused)}; got != want || r.Tables != 3 || r.Create != 1 ||
			r.Chunks < 4 || len(r.Blockers) != 1 || r.Notices == 0 || r.LoadTime < time.Second {
			t.Errorf("%s: empty, losses, refused %v, want %v; %+v", policy, got, want, r)
		}
		if lost := int64(0); policy == "empty" || policy == "replace" {
			if lost = 70; r.RowsLost != lost {
				t.Errorf("%s loses %d rows", policy, r.RowsLost)
			}
		} else if r.RowsLost != lost {
			t.Errorf("%s loses %d rows", policy, r.RowsLost)
		}
	}
}

// TestValuesThatDoNotFit: are found with their keys; what is only cut or becomes NULL stops
// nothing.
func TestValuesThatDoNotFit(t *testing.T) {
	o := newCoop(hive("lots", 1, "id:bigint", "at:date", "note:text"))
	o.c.Rules = []domain.Rule{{Tables: "*.*", Columns: map[string]domain.ColumnRule{"note": {Longest: 3, Cut: true}}}}
	o.rows = [][]string{{"1", "2026-05-01", "abc"}, {"2", "12026-05-01", "abcdef"}}
	var notes []string
	check := func(a FitArgs) error {
		return o.planning().CheckValues(t.Context(), o.c, a, func(s string) { notes = append(notes, s) })
	}
	if err := check(FitArgs{Share: 1}); err != nil {
		t.Fatal(err)
	}
	got := lines(o.fit.Entries)
	if o.fit.Misfits != 1 || o.fit.Rows != 2 || o.fit.Done != 1 || o.fit.EndedAt.IsZero() ||
		!strings.Contains(got, "blocker | fit | marsh.lots | 1 value of at, planned as date, does not fit") ||
		!strings.Contains(got, "notice | fit | marsh.lots | 1 value of note will be cut to 3 bytes → allow longer values") ||
		!strings.Contains(o.fit.Entries[0].Values, `key (2) "12026-05-01": MariaDB has no date`) {
		t.Errorf("the check found:\n%s\n%+v", got, o.fit)
	}
	if len(o.said) != 1 || !strings.Contains(o.said[0], "2 rows in 1 table: 1 value does not fit") {
		t.Errorf("the journal says %q", o.said)
	}
	o.rows = o.rows[:1]
	if err := check(FitArgs{Share: 1, Tables: []string{"marsh.lots"}, SpeedLimit: 1 << 20}); err != nil ||
		!strings.Contains(lines(o.fit.Entries), "ok | fit | marsh.lots | 1 row looked at; every value fits") {
		t.Errorf("all fit: %v\n%s", err, lines(o.fit.Entries))
	}
	if err := check(FitArgs{Share: 1, Tables: []string{"shop.*"}}); err == nil || o.fit.Error == "" {
		t.Errorf("no table is checked, and it is called a success: %v, %+v", err, o.fit)
	}
	o.breaks = errors.New("the source is away")
	if err := check(FitArgs{Share: 0.1, Extremes: true}); err == nil || o.fit.Error != "the source is away" ||
		o.fit.EndedAt.IsZero() || !o.scopes[len(o.scopes)-1].Extremes {
		t.Errorf("a check that broke: %v, %+v", err, o.fit)
	}
	// A process that stops leaves it to another, and says nothing of an end.
	over, cancel := context.WithCancel(t.Context())
	cancel()
	saves := o.saves
	if err := o.planning().CheckValues(over, o.c, FitArgs{Share: 1}, func(string) {}); err == nil || o.saves != saves {
		t.Errorf("a check whose process stops has ended: %v", err)
	}
}

// TestWhatAFitCheckSettles: what a survey doubts of types is calmed by a check of every row, and by
// nothing less; policy may want the check.
func TestWhatAFitCheckSettles(t *testing.T) {
	now := time.Now()
	o := newCoop(hive("lots", 1, "id:bigint", "note:jsonb"))
	s, _, err := o.planning().Plan(t.Context(), o.c)
	if err != nil {
		t.Fatal(err)
	}
	doubts := func() []domain.Entry {
		return []domain.Entry{{Verdict: domain.Notice, Topic: lossyTopic, Subject: "marsh.lots", Measured: "x"}}
	}
	fine := []domain.Entry{{Verdict: domain.OK, Topic: "fit", Subject: "marsh.lots"}}
	misfit := []domain.Entry{{Verdict: domain.Blocker, Topic: "fit", Subject: "marsh.lots", Measured: "1 value",
		Remedy: "change it"}}
	for what, c := range map[string]struct {
		fit      *domain.FitCheck
		requires bool
		settles  bool
		says     string
	}{
		"none": {nil, false, false, "notice | fit | crossing | the data has not been looked at"},
		"none, but wanted": {nil, true, false, "blocker | fit | crossing | the data has not been looked at for values " +
			"that their new columns cannot hold; this service's policy wants it checked"},
		"all rows": {&domain.FitCheck{Share: 1, EndedAt: now, Entries: fine, Tables: 1}, true, true,
			"ok | fit | crossing"},
		"a share": {&domain.FitCheck{Share: 0.5, EndedAt: now, Entries: fine, Tables: 1}, false, false,
			"looked at 50 % of the rows"},
		"under way": {&domain.FitCheck{Share: 1, Entries: fine, Tables: 1}, false, false, "has not been looked at"},
		"failed": {&domain.FitCheck{Share: 1, EndedAt: now, Error: "away", Entries: fine}, false, false,
			"has not been looked at"},
		"fewer tables": {&domain.FitCheck{Share: 1, EndedAt: now, Entries: fine, Tables: 0}, true, true,
			"blocker | fit | crossing"},
		"values do not fit": {&domain.FitCheck{Share: 1, EndedAt: now, Entries: misfit, Tables: 1}, false, false,
			"1 value → change it; then check again: dustyferry fit spring"},
	} {
		o.fit, o.policy = c.fit, domain.Policy{}
		if c.requires {
			o.policy.Checks = []domain.Check{domain.CheckFit}
		}
		types := doubts()
		got, err := o.planning().fitEntries(t.Context(), o.c, s.Plans, types)
		if err != nil || (types[0].Verdict == domain.OK) != c.settles || !strings.Contains(lines(got), c.says) {
			t.Errorf("%s: settled %v, %v\n%s", what, types[0].Verdict, err, lines(got))
		}
	}
	o.to = typemap.Postgres // rows travel as they are: nothing to look at
	if s, _, err = o.planning().Plan(t.Context(), o.c); err != nil {
		t.Fatal(err)
	}
	if got, err := o.planning().fitEntries(t.Context(), o.c, s.Plans, nil); err != nil || got != nil {
		t.Errorf("between servers of one engine: %v %v", got, err)
	}
}

// TestATrialRead: how many readers and which chunks suit a source, by reading from it for a
// moment.
func TestATrialRead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := newCoop(hive("lots", 800<<20, "id:bigint"), hive("hives", 1, "id:bigint"))
		o.slow, o.cores, o.grows = 20*time.Millisecond, 2, 1<<20
		o.c.Settings.Lanes = 4
		got := surveyed(t, o, true)
		for _, want := range []string{"a trial read of marsh.lots gave 52 MB/s with 1, 105 MB/s with 2, 105 MB/s with 4; " +
			"with 4 lanes the load takes at least about 8s", "2 lanes and chunks of about", "more readers gave no more",
			"its log grew by"} {
			if !strings.Contains(got, want) {
				t.Errorf("the survey does not say %q:\n%s", want, got)
			}
		}
		if !strings.Contains(got, "→ dustyferry crossing set spring --lanes 2 --chunk-size") {
			t.Errorf("it does not say what to set:\n%s", got)
		}
		if o.reading != 0 {
			t.Errorf("%d readers are left open", o.reading)
		}
		o.survey = []domain.Entry{{Verdict: domain.OK, Topic: topicTrial, Measured: "measured before"},
			{Topic: "other", Measured: "not this"}}
		if got = surveyed(t, o, false); !strings.Contains(got, "measured before") || strings.Contains(got, "not this") ||
			strings.Contains(got, "an assumed") {
			t.Errorf("what was measured before is not told again:\n%s", got)
		}
		o.breaks = errors.New("the source ended the session")
		if got = surveyed(t, o, true); !strings.Contains(got,
			"a trial of reading did not come to its end: the source ended the session") || !strings.Contains(got,
			"at an assumed") {
			t.Errorf("a trial that broke:\n%s", got)
		}
		o.c.Settings.SpeedLimit = 1 << 20
		if got = surveyed(t, o, true); strings.Contains(got, "trial") {
			t.Errorf("a source whose reading is limited is read as fast as it can:\n%s", got)
		}
	})
}

// TestMaskedColumnsGetTheirKey: which no record holds.
func TestMaskedColumnsGetTheirKey(t *testing.T) {
	p := domain.TablePlan{Columns: []domain.Column{{Name: "a"}, {Name: "b", Mask: "people"}}}
	newCoop().planning().Reveal(&p)
	if got := p.Runtime.MaskKeys; len(got) != 1 || string(p.Runtime.MaskKey("people")) != "secret for mask people" {
		t.Errorf("keys: %q", got)
	}
	plain := domain.TablePlan{Columns: []domain.Column{{Name: "a"}}}
	if newCoop().planning().Reveal(&plain); plain.Runtime != nil || plain.Runtime.MaskKey("people") != nil {
		t.Errorf("a plan without masks: %v", plain.Runtime)
	}
}

// TestSequencesKnowTheirOwnersOnTheTarget: a counter stands beside its table there, under its
// column's name there.
func TestSequencesKnowTheirOwnersOnTheTarget(t *testing.T) {
	n := func(s string) domain.TableName {
		s, name, _ := strings.Cut(s, ".")
		return domain.TableName{Schema: s, Name: name}
	}
	plans := []domain.TablePlan{{Source: n("marsh.lots"), Target: n("honey.batches"),
		Columns:    []domain.Column{{Name: "id"}, {Name: "n"}},
		TargetSide: &domain.TablePlan{Target: n("honey.batches"), Columns: []domain.Column{{Name: "nr"}, {Name: "n"}}}}}
	cat := &domain.Catalog{Sequences: []domain.Sequence{{Name: n("marsh.s"), OwnedBy: n("marsh.lots"), OwnedColumn: "id"},
		{Name: n("other.s"), OwnedBy: n("marsh.lots"), OwnedColumn: "n"}, {Name: n("marsh.free")}}}
	got := CatalogOnTarget(cat, plans).Sequences
	if got[0].Name != n("honey.s") || got[0].OwnedBy != n("honey.batches") || got[0].OwnedColumn != "nr" ||
		got[1].Name != n("other.s") || got[2] != cat.Sequences[2] {
		t.Errorf("sequences: %+v", got)
	}
	if cat.Sequences[0].Name != n("marsh.s") {
		t.Error("the source's catalog was changed")
	}
}
