package manifest_test

import (
	"bytes"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"dustyferry/internal/domain"
	"dustyferry/internal/manifest"
)

func TestExportAndImportLoseNothing(t *testing.T) {
	s := domain.DefaultSettings()
	s.Lanes, s.SpeedLimit, s.PauseBudget = 5, 3<<20, 90*time.Second
	s.HandoverURL, s.StopMethod = "http://127.0.0.1:9/hook?a=b#c", domain.StopWord
	rules := []domain.Rule{{Tables: "saltmarsh.*", Schema: "honey", Name: "old_*"}, {Tables: "saltmarsh.keepers", Where: "id > 7", Columns: map[string]domain.ColumnRule{"a": {Name: "b", Type: "numeric(12,3)"}, "c": {LeaveOut: true}}}}
	c := &domain.Crossing{Name: "spring", Rules: rules, Kind: domain.KindLoadCapture, Source: "old", Target: "new",
		Tables: []string{"saltmarsh.*", "-saltmarsh.tmp*", `odd "name".x`}, Settings: s}
	text, err := manifest.Write(c)
	if err != nil {
		t.Fatal(err)
	}
	f, err := manifest.Parse(text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if !reflect.DeepEqual(f.Crossing.Settings.Domain().WithDefaults(), s) || !reflect.DeepEqual(f.Crossing.Tables, c.Tables) || !reflect.DeepEqual(f.Crossing.Rules, rules) || f.Crossing.Name != c.Name {
		t.Errorf("came back as %+v from\n%s", f, text)
	}
}

func TestMistakesNameTheirPlace(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"a typo in a key", "dusty_ferry: 1\ncrossing:\n  name: a\n  sorce: b\n  target: c\n", "line 4, column 3"},
		{"a typo in a setting", "dusty_ferry: 1\ncrossing:\n  name: a\n  source: b\n  target: c\n  settings:\n    lane: 4\n", "line 7, column 5"},
		{"a word for a number", "dusty_ferry: 1\ncrossing:\n  name: a\n  source: b\n  target: c\n  settings: {lanes: many}\n", "line 6"},
		{"no such size", "dusty_ferry: 1\ncrossing:\n  name: a\n  source: b\n  target: c\n  settings: {chunk_size: 64XB}\n", "64XB"},
		{"no version", "crossing: {name: a, source: b, target: c}\n", "dusty_ferry: 1"},
		{"no source", "dusty_ferry: 1\ncrossing: {name: a, target: c}\n", "crossing.source"},
		{"not YAML", "dusty_ferry: [1\n", "line"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := manifest.Parse([]byte(c.text))
			if err == nil || !strings.Contains(err.Error(), c.want) || !domain.IsKind(err, domain.ProblemInvalid) {
				t.Errorf("error %v, want %q in it", err, c.want)
			}
		})
	}
}

// TestTheSchemaSaysWhatIsRead holds the published schema against what Parse takes.
func TestTheSchemaSaysWhatIsRead(t *testing.T) {
	text, err := manifest.Schema()
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("manifest.json", doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("manifest.json")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, text string
		ok         bool
	}{
		{"a small one", "dusty_ferry: 1\ncrossing: {name: a, source: b, target: c}\n", true},
		{"a full one", "dusty_ferry: 1\ncrossing:\n  name: a\n  kind: load\n  source: b\n  target: c\n  tables: ['x.*', '-x.tmp*']\n  rules:\n  - tables: x.*\n    schema: y\n    name: old_*\n    where: id > 7\n    columns:\n      a: {name: b, type: text}\n      c: {leave_out: true}\n  settings: {lanes: 4, chunk_size: 64MB, speed_limit: 1000, pause_budget: 1m30s, stop_method: read-only, hold_points: [stop writes]}\n", true},
		{"a typo in a key", "dusty_ferry: 1\ncrossing: {name: a, sorce: b, target: c}\n", false},
		{"a typo in a rule", "dusty_ferry: 1\ncrossing: {name: a, source: b, target: c, rules: [{table: x.*, name: y}]}\n", false},
		{"a typo in a column", "dusty_ferry: 1\ncrossing: {name: a, source: b, target: c, rules: [{tables: x.*, columns: {a: {typ: text}}}]}\n", false},
		{"no such size", "dusty_ferry: 1\ncrossing: {name: a, source: b, target: c, settings: {chunk_size: 64XB}}\n", false},
		{"a word for a number", "dusty_ferry: 1\ncrossing: {name: a, source: b, target: c, settings: {lanes: many}}\n", false},
		{"another version", "dusty_ferry: 2\ncrossing: {name: a, source: b, target: c}\n", false},
	} {
		_, err := manifest.Parse([]byte(c.text))
		if (err == nil) != c.ok {
			t.Errorf("%s: reading it: %v", c.name, err)
		}
		asJSON, err := yaml.YAMLToJSON([]byte(c.text))
		if err != nil {
			t.Fatal(err)
		}
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(v); (err == nil) != c.ok {
			t.Errorf("%s: the schema: %v", c.name, err)
		}
	}
}

func TestSizes(t *testing.T) {
	for in, want := range map[string]int64{"64MB": 64 << 20, "1 gb": 1 << 30, "512k": 512 << 10, "17": 17} {
		if got, err := manifest.ParseSize(in); err != nil || got != want {
			t.Errorf("%s: %d (%v), want %d", in, got, err, want)
		}
	}
	for _, in := range []string{"", "-1MB", "1.5MB", "99999999999GB"} {
		if _, err := manifest.ParseSize(in); err == nil {
			t.Errorf("%q was taken", in)
		}
	}
}
