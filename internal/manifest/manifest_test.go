package manifest_test

import (
	"bytes"
	"fmt"
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
	s.Lanes, s.SpeedLimit, s.PauseBudget, s.InStepDwell = 5, 3<<20, 90*time.Second, 0 // a 0 of somebody's is no gap
	s.HandoverURL, s.StopMethod = "http://127.0.0.1:9/hook?a=b#c", domain.StopWord
	rules := []domain.Rule{{Tables: "saltmarsh.*", Schema: "honey", Name: "old_*"}, {Tables: "saltmarsh.keepers",
		Where: "id > 7", Columns: map[string]domain.ColumnRule{"a": {Name: "b", Type: "numeric(12,3)"},
			"c": {LeaveOut: true}}}}
	c := &domain.Crossing{Name: "spring", Rules: rules, Kind: domain.KindLoadCapture, Source: "old", Target: "new",
		Patterns: []string{"saltmarsh.*", "-saltmarsh.tmp*", `odd "name".x`}, Settings: s}
	text, err := manifest.Write(c)
	if err != nil {
		t.Fatal(err)
	}
	f, err := manifest.Parse(text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	other := domain.DefaultSettings() // of the service that it is brought to
	other.Lanes, other.InStepDwell, other.ChunkBytes, other.CutoverDepth = 9, time.Minute, 1<<20, domain.DepthNone
	if !reflect.DeepEqual(f.Crossing.Settings.Over(other), s) || !reflect.DeepEqual(f.Crossing.Tables, c.Patterns) ||
		!reflect.DeepEqual(f.Crossing.Rules, rules) || f.Crossing.Name != c.Name {
		t.Errorf("came back as %+v from\n%s", f, text)
	}
}

// TestAManifestOfBefore is still read, and what is written otherwise by now is said.
func TestAManifestOfBefore(t *testing.T) {
	no := false
	for _, c := range []struct {
		text    string
		kind    domain.Kind
		notices string
		wrong   string
	}{
		{"", domain.KindLoadCapture, "", ""},
		{"follow_changes: false, ", domain.KindLoad, "", ""},
		{"copy_rows: false, follow_changes: true, ", domain.KindCapture, "", ""},
		{"copy_rows: false, follow_changes: false, ", "", "", "both off"},
		{"kind: load, ", domain.KindLoad, "kind: load is written as copy_rows: true and follow_changes: false now", ""},
		{"kind: capture, settings: {chunk_bytes: 1MB}, ", domain.KindCapture, "kind: capture is written as copy_rows: " +
			"false and follow_changes: true now; the setting chunk_bytes is called chunk_size now", ""},
		{"kind: load, copy_rows: true, ", "", "", "give those two alone"},
	} {
		f, err := manifest.Parse([]byte("dusty_ferry: 1\ncrossing: {" + c.text + "name: a, source: b, target: c}\n"))
		if err != nil {
			t.Fatalf("%s: %v", c.text, err)
		}
		kind, err := f.Crossing.Kind()
		if c.wrong != "" {
			if err == nil || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%s: %v", c.text, err)
			}
			continue
		}
		if kind != c.kind || err != nil || strings.Join(f.Crossing.Notices(), "; ") != c.notices {
			t.Errorf("%s: %s, %q (%v)", c.text, kind, f.Crossing.Notices(), err)
		}
	}
	text, err := manifest.Write(&domain.Crossing{Name: "a", Kind: domain.KindLoad, Source: "b", Target: "c",
		Settings: domain.DefaultSettings()})
	if err != nil {
		t.Fatal(err)
	}
	if f, err := manifest.Parse(text); err != nil || !reflect.DeepEqual(f.Crossing.FollowChanges, &no) ||
		len(f.Crossing.Notices()) > 0 {
		t.Errorf("%v\n%s", err, text)
	}
}

func TestMistakesNameTheirPlace(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"a typo in a key", "dusty_ferry: 1\ncrossing:\n  name: a\n  sorce: b\n  target: c\n", "line 4, column 3"},
		{"a typo in a setting", "dusty_ferry: 1\ncrossing:\n  name: a\n  source: b\n  target: c\n  settings:\n    lane: 4\n",
			"line 7, column 5"},
		{"a word for a number", "dusty_ferry: 1\ncrossing:\n  name: a\n  source: b\n  target: c\n  settings: {lanes: many}\n",
			"line 6"},
		{"no such size", "dusty_ferry: 1\ncrossing:\n  name: a\n  source: b\n  target: c\n  settings: {chunk_size: 64XB}\n",
			"64XB"},
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
		{"a full one", "dusty_ferry: 1\ncrossing:\n  name: a\n  kind: load\n  source: b\n  target: c\n  tables: ['x.*', " +
			"'-x.tmp*']\n  rules:\n  - tables: x.*\n    schema: y\n    name: old_*\n    where: id > 7\n    columns:\n      a: " +
			"{name: b, type: text}\n      c: {leave_out: true}\n  settings: {lanes: 4, chunk_size: 64MB, speed_limit: 1000, " +
			"pause_budget: 1m30s, stop_method: read-only, hold_points: [stop writes]}\n", true},
		{"a typo in a key", "dusty_ferry: 1\ncrossing: {name: a, sorce: b, target: c}\n", false},
		{"a typo in a rule", "dusty_ferry: 1\ncrossing: {name: a, source: b, target: c, rules: [{table: x.*, name: y}]}\n",
			false},
		{"a typo in a column", "dusty_ferry: 1\ncrossing: {name: a, source: b, target: c, rules: [{tables: x.*, columns: " +
			"{a: {typ: text}}}]}\n", false},
		{"no such size", "dusty_ferry: 1\ncrossing: {name: a, source: b, target: c, settings: {chunk_size: 64XB}}\n", false},
		{"a word for a number", "dusty_ferry: 1\ncrossing: {name: a, source: b, target: c, settings: {lanes: many}}\n",
			false},
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

// TestATextFromAnybodyHarmsNothing: what would take all memory, or for ever, is refused at
// once, with its place.
func TestATextFromAnybodyHarmsNothing(t *testing.T) {
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c < 'k'; c++ {
		bomb += fmt.Sprintf("%c: &%c [%s]\n", c, c, strings.Repeat(fmt.Sprintf("*%c,", c-1), 9))
	}
	for name, c := range map[string]struct{ text, want string }{
		"aliases":        {bomb, "line 1"},
		"a merge":        {"dusty_ferry: 1\ncrossing:\n  <<: {name: x}\n", "line 3"},
		"a tag":          {"dusty_ferry: !!binary aGVsbG8=\n", "tags"},
		"deep in flow":   {"dusty_ferry: " + strings.Repeat("[", 400) + strings.Repeat("]", 400), "deeper than"},
		"deep in blocks": {deep(300), "deeper than"},
		"deep in lists":  {"dusty_ferry: 1\ncrossing:\n  tables:\n  " + strings.Repeat("- ", 400) + "x\n", "deeper than"},
		"large":          {"dusty_ferry: 1 # " + strings.Repeat("x", 2<<20), "bytes"},
		"endless flow":   {"crossing: " + strings.Repeat("{a: ", 200_000), "deeper than"},
	} {
		if _, err := manifest.Parse([]byte(c.text)); !domain.IsKind(err, domain.ProblemInvalid) ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func deep(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return b.String()
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  target: new\n  tables: [\"a.*\"]\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, err := manifest.Parse(text); err != nil && !domain.IsKind(err, domain.ProblemInvalid) {
			t.Errorf("%q: %v", text, err)
		}
	})
}
