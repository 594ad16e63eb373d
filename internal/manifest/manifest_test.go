package manifest_test

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/manifest"
)

func TestExportAndImportLoseNothing(t *testing.T) {
	s := domain.DefaultSettings()
	s.Lanes, s.SpeedLimit, s.PauseBudget = 5, 3<<20, 90*time.Second
	s.HandoverURL, s.StopMethod = "http://127.0.0.1:9/hook?a=b#c", domain.StopWord
	c := &domain.Crossing{Name: "spring", Kind: domain.KindLoadCapture, Source: "old", Target: "new",
		Tables: []string{"saltmarsh.*", "-saltmarsh.tmp*", `odd "name".x`}, Settings: s}
	text, err := manifest.Write(c)
	if err != nil {
		t.Fatal(err)
	}
	f, err := manifest.Parse(text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if !reflect.DeepEqual(f.Crossing.Settings.Domain(), s) || !reflect.DeepEqual(f.Crossing.Tables, c.Tables) || f.Crossing.Name != c.Name {
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
