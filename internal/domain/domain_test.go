package domain_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
)

func TestMatchTables(t *testing.T) {
	all := []domain.TableName{{Schema: "shop", Name: "orders"}, {Schema: "shop", Name: "order_lines"},
		{Schema: "shop", Name: "tmp_1"}, {Schema: "log", Name: "visits"}, {Schema: "odd", Name: "a.b*c"}}
	for _, c := range []struct {
		patterns []string
		want     string
	}{
		{nil, `[shop.orders shop.order_lines shop.tmp_1 log.visits odd."a.b*c"]`},
		{[]string{"shop.*"}, "[shop.orders shop.order_lines shop.tmp_1]"},
		{[]string{"shop.*", "-shop.tmp*"}, "[shop.orders shop.order_lines]"},
		{[]string{"-shop.tmp*", "shop.*"}, "[shop.orders shop.order_lines shop.tmp_1]"}, // the last that matches wins
		{[]string{"*.order*"}, "[shop.orders shop.order_lines]"},
		{[]string{"shop.orders"}, "[shop.orders]"},
		{[]string{"shop.order"}, "[]"},
		{[]string{"*.*_*"}, "[shop.order_lines shop.tmp_1]"},
	} {
		if got := fmt.Sprint(domain.MatchTables(c.patterns, all)); got != c.want {
			t.Errorf("%v: %s, want %s", c.patterns, got, c.want)
		}
	}
}

func TestSnapshotsSee(t *testing.T) {
	s := domain.Snapshot{Xmin: 10, Xmax: 20, Running: []uint64{10, 14}}
	for id, want := range map[uint64]bool{9: true, 10: false, 11: true, 14: false, 19: true, 20: false, 25: false} {
		if s.Sees(domain.Tx{ID: id}) != want {
			t.Errorf("transaction %d: seen %t", id, !want)
		}
	}
	byLog := domain.Snapshot{Log: domain.PositionAt(100)}
	if !byLog.Sees(domain.Tx{Commit: domain.PositionAt(99)}) || byLog.Sees(domain.Tx{Commit: domain.PositionAt(100)}) {
		t.Error("by position: what commits before it is seen, what commits at it is not")
	}
	again, err := domain.ParseSnapshot(s.JSON())
	if err != nil || fmt.Sprint(again) != fmt.Sprint(s) {
		t.Errorf("%v came back as %v (%v)", s, again, err)
	}
}

func TestKeyTextTellsKeysApart(t *testing.T) {
	row := func(vals ...string) domain.Row {
		var r domain.Row
		for _, v := range vals {
			r = append(r, domain.Value{Kind: domain.Present, Data: []byte(v)})
		}
		return r
	}
	seen := map[string]string{}
	for _, r := range []domain.Row{row("a", "b"), row("ab", ""), row("", "ab"), row("a\x00", "b"), row("a", "\x00b"),
		{{}, {Kind: domain.Present, Data: []byte("ab")}}, {{}, {}}} {
		k := domain.KeyText(r, []int{0, 1})
		if other, twice := seen[k]; twice {
			t.Errorf("%v and %s have one text", r, other)
		}
		seen[k] = fmt.Sprint(r)
	}
}

func TestSettingsSayWhatIsWrong(t *testing.T) {
	if err := domain.DefaultSettings().Validate(); err != nil {
		t.Errorf("the defaults: %v", err)
	}
	for want, edit := range map[string]func(*domain.Settings){
		"lanes is 65":                    func(s *domain.Settings) { s.Lanes = 65 },
		"chunk_size is 1;":               func(s *domain.Settings) { s.ChunkBytes = 1 },
		"max_attempts":                   func(s *domain.Settings) { s.MaxAttempts = -1 },
		"speed_limit is -1":              func(s *domain.Settings) { s.SpeedLimit = -1 },
		"pause_budget":                   func(s *domain.Settings) { s.PauseBudget = time.Millisecond },
		"choose lock":                    func(s *domain.Settings) { s.StopMethod = "hope" },
		"choose vouched":                 func(s *domain.Settings) { s.CutoverDepth = "glance" },
		"refuse, keep, empty or replace": func(s *domain.Settings) { s.ExistingRows = "maybe" },
		"duration of 0 or more":          func(s *domain.Settings) { s.InStepLag = -1 },
		"batch_changes":                  func(s *domain.Settings) { s.BatchChanges = -4 },
		"least_lanes is 3":               func(s *domain.Settings) { s.LeastLanes = 3 },
		"row_limit is -1":                func(s *domain.Settings) { s.RowLimit = -1 },
		"source_share is 1.5":            func(s *domain.Settings) { s.SourceShare = 1.5 },
		"mon-fri 08:00-18:00":            func(s *domain.Settings) { s.QuietHours = []string{"mon-fri 8 to 6"} },
		"Europe/Amsterdam":               func(s *domain.Settings) { s.QuietZone = "Saltmarsh" },
		"hold or set aside":              func(s *domain.Settings) { s.BadRows = "ignore" },
		"build_lanes":                    func(s *domain.Settings) { s.BuildLanes = 99 },
		"worker_label":                   func(s *domain.Settings) { s.WorkerLabel = "a b" },
	} {
		s := domain.DefaultSettings()
		edit(&s)
		if err := s.Validate(); err == nil || !strings.Contains(err.Error(), want) ||
			!domain.IsKind(err, domain.ProblemInvalid) {
			t.Errorf("%v lacks %q", err, want)
		}
	}
}

func TestOnlyWhatTheTablesNeedComesAlong(t *testing.T) {
	name := func(s, n string) domain.TableName { return domain.TableName{Schema: s, Name: n} }
	plans := []domain.TablePlan{{Source: name("shop", "orders"), Columns: []domain.Column{
		{Name: "id", Type: "integer", Default: "nextval('other.order_no'::regclass)"}, {Name: "mood", Type: "types.mood[]"}}}}
	cat := domain.Catalog{
		Sequences: []domain.Sequence{
			{Name: name("shop", "orders_id_seq"), OwnedBy: name("shop", "orders")}, {Name: name("shop", "loose")},
			{Name: name("other", "order_no")},
			{Name: name("shop", "lines_id_seq"), OwnedBy: name("shop", "lines")}, {Name: name("elsewhere", "counter")}},
		Types: []domain.UserType{{Name: name("types", "mood")}, {Name: name("shop", "grade")},
			{Name: name("elsewhere", "colour")}},
	}
	var got []string
	for _, q := range cat.SequencesOf(plans) {
		got = append(got, q.Name.String())
	}
	for _, u := range cat.TypesOf(plans) {
		got = append(got, u.Name.String())
	}
	if want := "[shop.orders_id_seq shop.loose other.order_no types.mood shop.grade]"; fmt.Sprint(got) != want {
		t.Errorf("%v, want %s", got, want)
	}
}

// TestFindsReferrers: an index stands before the rows that finds what a foreign key changes by
// itself, and no other one.
func TestFindsReferrers(t *testing.T) {
	p := domain.TablePlan{Table: domain.Table{Constraints: []domain.Constraint{
		{Kind: "foreign", Columns: []string{"keeper", "number"}, Unlogged: true},
		{Kind: "foreign", Columns: []string{"site"}},
		{Kind: "check", Columns: []string{"grams"}, Unlogged: true}, {Kind: "foreign", Unlogged: true}}}}
	for _, x := range []struct {
		columns []string
		want    bool
	}{{[]string{"keeper", "number"}, true}, {[]string{"number", "keeper", "grams"}, true}, {[]string{"keeper"}, false},
		{[]string{"grams", "keeper", "number"}, false}, {[]string{"site"}, false}, {[]string{"grams"}, false}, {nil, false}} {
		if got := p.FindsReferrers(domain.Index{Columns: x.columns}); got != x.want {
			t.Errorf("an index of %v: %v", x.columns, got)
		}
	}
}
