package sheet

import (
	"fmt"
	"strings"
	"testing"

	"dustyferry/internal/core/textrows"
)

func TestFormats(t *testing.T) {
	for _, c := range []struct {
		id   int
		code string
		want Timely
	}{
		{0, "", Number}, {1, "", Number}, {14, "", Moment}, {20, "", OfDay}, {22, "", Moment},
		{46, "", Number}, {49, "", Number},
		{164, "yyyy-mm-dd", Moment}, {165, `d" of "mmmm`, Moment}, {166, "hh:mm", OfDay}, {167, "[h]:mm", Number},
		{168, `#,##0.00 "days"`, Number}, {169, `0.0\d`, Number}, {170, "[$-409]d-mmm;@", Moment}, {171, "[Red]0.00", Number},
		{172, "General", Number}, {173, "mmm", Moment}, {174, "[hh]:mm:ss", Number}, {175, "mm:ss.0", OfDay},
		{176, `_-* #,##0.00 [$€-407]_-`, Number}, {177, "0.00E+00", Number}, {178, "@", Number}, {179, "MM/DD/YYYY", Moment},
		{180, "[$-F800]dddd, mmmm dd, yyyy", Moment}, {181, `0"h"`, Number},
	} {
		if got := FormatOf(c.id, c.code); got != c.want {
			t.Errorf("format %d %q is %v, not %v", c.id, c.code, got, c.want)
		}
	}
}

func TestMoments(t *testing.T) {
	for _, c := range []struct {
		number string
		as     Timely
		in1904 bool
		want   string
	}{
		{"1", Moment, false, "1900-01-01"}, {"59", Moment, false, "1900-02-28"}, {"61", Moment, false, "1900-03-01"},
		{"46143", Moment, false, "2026-05-01"}, {"46143.333333333336", Moment, false, "2026-05-01 08:00:00"},
		{"46143.99999999999", Moment, false, "2026-05-02"}, {"0.5", OfDay, false, "12:00:00"},
		{"0.000011574074074074073", OfDay, false, "00:00:01"}, {"46143.5", OfDay, false, "2026-05-01 12:00:00"},
		{"44681", Moment, true, "2026-05-01"}, {"0", Moment, true, "1904-01-01"}, {"2958465", Moment, false, "9999-12-31"},
		{"46143.000001446759", Moment, false, "2026-05-01 00:00:00.125"},
		{"60", Moment, false, "!February 29, 1900"}, {"0", Moment, false, "!begins at 1"}, {"-1", Moment, false, "!no day"},
		{"2958466", Moment, false, "!no day"}, {"x", Moment, false, "!no day"},
	} {
		got, err := Time(c.number, c.as, c.in1904)
		if why, bad := strings.CutPrefix(c.want, "!"); bad {
			if err == nil || !strings.Contains(err.Error(), why) {
				t.Errorf("%s: %s, %v, want %s", c.number, got, err, why)
			}
		} else if err != nil || got != c.want {
			t.Errorf("%s: %s, %v, want %s", c.number, got, err, c.want)
		}
	}
}

func TestNumbersAndNames(t *testing.T) {
	for in, want := range map[string]string{"1.1000000000000001": "1.1", "5": "5", "1E+3": "1000", "-0.05": "-0.05",
		"9007199254740993": "9007199254740993", "1e-7": "0.0000001", "x": "x"} {
		if got := Plain(in); got != want {
			t.Errorf("%s is written %s, not %s", in, got, want)
		}
	}
	for in, want := range map[string]string{"a_x000D_b": "a\rb", "_x005F_x0041_": "_x0041_", "plain": "plain",
		"_xD800_": "_xD800_"} {
		if got := Text(in); got != want {
			t.Errorf("%q is %q, not %q", in, got, want)
		}
	}
	for n, want := range map[int]string{0: "A", 25: "Z", 26: "AA", 701: "ZZ", 702: "AAA", 16383: "XFD"} {
		if got := Letters(n); got != want || Column(want+"7") != n {
			t.Errorf("column %d is %s, and %s is %d", n, got, want, Column(want+"7"))
		}
	}
	if Column("7") != -1 || Column("a1") != -1 || Column("") != -1 {
		t.Error("names of no column")
	}
}

// rows are those of texts: a bar between cells, n:5 for a number, nothing for none.
func rows(text string) (out []Row) {
	for i, line := range strings.Split(text, "\n") {
		r := Row{Number: i + 1}
		for at, v := range strings.Split(line, "|") {
			c := Cell{Column: at, Value: textrows.Value{Text: v, As: textrows.Quoted}}
			if n, ok := strings.CutPrefix(v, "n:"); ok {
				c.Value = textrows.Value{Text: n, As: textrows.Number}
			}
			if v != "" {
				r.Cells = append(r.Cells, c)
			}
		}
		if len(r.Cells) > 0 {
			out = append(out, r)
		}
	}
	return out
}

func TestWhereATableIs(t *testing.T) {
	for text, want := range map[string]string{
		"id|name\nn:1|kea":               "2 columns from A1 on [id name]",
		"Stalls\n\n|id|name|kg\n|n:1|x|": "3 columns from B3 on; 1 row above is left out [id name kg]",
		"n:1|kea\nn:2|tui":               "2 columns from A1 on, no names in the first row [A B]",
		"id|id\nn:1|kea":                 "2 columns from A1 on, no names in the first row [A B]",
		"id||name\nn:1|x|kea":            "3 columns from A1 on [id B name]",
		"id|name\nn:1|kea|late":          "3 columns from A1 on [id name C]",
		"only":                           "1 column from A1 on [only]",
	} {
		s, err := ShapeOf(rows(text))
		if got := fmt.Sprint(s, s.Columns); err != nil || got != want {
			t.Errorf("%q: %s, %v, want %s", text, got, err, want)
		}
	}
	if _, err := ShapeOf(nil); err == nil {
		t.Error("a sheet with nothing in it")
	}
	s, err := ShapeOf(rows("id|name\nn:1|kea"))
	if err != nil {
		t.Fatal(err)
	}
	out := make([]textrows.Value, 2)
	r := rows("|tui|more")[0]
	if err := s.Values(&r, out); err == nil || !strings.Contains(err.Error(), "row 1 has a value in column C") ||
		out[0].As != textrows.Null || out[1].Text != "tui" {
		t.Errorf("%v %v", out, err)
	}
	r.Cells = []Cell{{Column: 1, Value: textrows.Value{Text: "#N/A"}, Why: "an error"}}
	if err := s.Values(&r, out); err == nil || err.Error() != "row 1, column B (name): an error" {
		t.Errorf("%v", err)
	}
}
