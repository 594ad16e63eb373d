package textrows

import (
	"fmt"
	"strings"
	"testing"
)

func TestObjectsOfALine(t *testing.T) {
	for _, c := range []struct{ line, want string }{
		{`{"a": 1, "b": "x", "c": null, "d": true, "e": {"f": [1, 2]}, "g": [] }`, `a 1 2, b x 4, c  1, d true 3, e {"f": [1, 2]} 5, g [] 5`},
		{`{}`, ""}, {` {"a":"\u00e9\ud83d\udc1d\n"} `, "a é🐝\n 4"},
		{`{"a": 12345678901234567890.10}`, "a 12345678901234567890.10 2"}, {`{"a": 1e5, "b": -1.5E-3, "c": 12.34e1, "d": 0e0}`,
			"a 100000 2, b -0.0015 2, c 123.4 2, d 0 2"}, {`{"a": 1e999}`, "a 1e999 2"}, {`{"a": 100e-2, "b": 1.20e+1}`,
			"a 1.00 2, b 12.0 2"},
	} {
		var got []string
		err := new(Parser).Object([]byte(c.line), func(name string, v Value) {
			got = append(got, fmt.Sprintf("%s %s %d", name, v.Text, v.As))
		})
		if err != nil || strings.Join(got, ", ") != c.want {
			t.Errorf("%s: %q, %v", c.line, got, err)
		}
	}
	for line, says := range map[string]string{"": "no object", "[1]": "no object", `{"a": 1`: "no JSON", `{"a" 1}`: "no JSON",
		`{"a": 1} x`: "behind its object", `{"a": 1, "a": 2}`: `"a" stands twice`, `{"a": tru}`: "no JSON", "{'a': 1}": "no JSON",
		`{"a": 1}{"a": 2}`: "behind its object"} {
		if err := new(Parser).Object([]byte(line), func(string, Value) {}); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", line, err)
		}
	}
}

// TestWhatNamesBecome: a text that looks like a number is one that was meant so.
func TestWhatNamesBecome(t *testing.T) {
	for _, c := range []struct{ lines, want string }{
		{`{"v": 1}|{"v": -2}|{"v": null}`, "bigint"}, {`{"v": 1}|{"v": 2.5}`, "numeric"}, {`{"v": 1e3}`, "bigint"},
		{`{"v": "1"}|{"v": "2"}`, "text"}, {`{"v": 1}|{"v": "2"}`, "text"}, {`{"v": true}|{"v": false}`, "boolean"},
		{`{"v": "true"}`, "text"}, {`{"v": "2026-05-01"}`, "date"}, {`{"v": ""}|{"v": "2026-05-01"}`, "text"},
		{`{"v": {"a": 1}}|{"v": []}`, "json"}, {`{"v": {"a": 1}}|{"v": 1}`, "text"}, {`{"v": null}`, "text"},
		{`{"v": "2026-05-01T10:00:00Z"}`, "timestamp with time zone"},
	} {
		var h Held
		for line := range strings.SplitSeq(c.lines, "|") {
			if err := new(Parser).Object([]byte(line), func(_ string, v Value) { h.Look(v) }); err != nil {
				t.Fatal(err)
			}
		}
		if h.Type() != c.want {
			t.Errorf("%s: %s, not %s", c.lines, h.Type(), c.want)
		}
	}
	for _, c := range []struct {
		typ  string
		v    Value
		want string // "": it is refused
	}{{"json", Value{`{"a": 1}`, Document}, `{"a": 1}`}, {"json", Value{"x", Quoted}, ""}, {"text", Value{`[1]`, Document},
		"[1]"}, {"bigint", Value{"5", Quoted}, ""}, {"boolean", Value{"true", Quoted}, ""}, {"text", Value{"", Quoted}, "''"},
		{"date", Value{"", Quoted}, ""}} {
		out, ok, err := Write([]byte{}, c.typ, c.v)
		if (err != nil) != (c.want == "") || err == nil && (!ok || string(out) != strings.Trim(c.want, "'")) {
			t.Errorf("%v as %s: %q, %v, %v", c.v, c.typ, out, ok, err)
		}
	}
	if _, ok, err := Write(nil, "text", Value{As: Null}); ok || err != nil {
		t.Errorf("null is no NULL: %v", err)
	}
}

func FuzzObject(f *testing.F) {
	f.Add([]byte(`{"a": 1e5, "b": {"c": null}}`))
	f.Fuzz(func(_ *testing.T, line []byte) {
		_ = new(Parser).Object(line, func(_ string, v Value) { _, _, _ = Write(nil, "numeric", v) })
	})
}

// TestTextsThatAreNone: bytes that are no UTF-8 are refused, and not written as a sign that stands for any.
func TestTextsThatAreNone(t *testing.T) {
	for _, line := range []string{"{\"a\": \"\xff\"}", `{"a": "\ud800"}`} {
		if err := new(Parser).Object([]byte(line), func(string, Value) {}); err == nil ||
			!strings.Contains(err.Error(), "it is no JSON") {
			t.Errorf("%q: %v", line, err)
		}
	}
}
