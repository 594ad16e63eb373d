package rowfile

import (
	"errors"
	"io"
	"strings"
	"testing"

	"dustyferry/internal/core/textrows"
)

// TestRecords: those that are wrong come with their line, and the others after them.
func TestRecords(t *testing.T) {
	d := textrows.Dialect{Delimiter: ',', Header: true, Columns: []string{"a", "b"}, Mark: true}
	r, err := texts{d}.read(strings.NewReader("\xef\xbb\xbfa,b\n1,\"x\ny\"\n2\n3,a\"b\n4,\"\"\"\"\n5,e"))
	if err != nil {
		t.Fatal(err)
	}
	got := allOf(t, r)
	want := []string{"1|x\ny", "line 4 has 1 value, and the first row 2", `line 5: bare " in non-quoted-field`, `4|"`,
		"5|e"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%q", got)
	}
}

// allOf are all records of a file, or why they are refused.
func allOf(t *testing.T, r records) (out []string) {
	t.Helper()
	for {
		values, refused, err := r.next()
		switch {
		case errors.Is(err, io.EOF):
			return out
		case err != nil:
			t.Fatal(err)
		case refused != nil:
			out = append(out, refused.Error())
		default:
			var line []string
			for _, v := range values {
				line = append(line, v.Text)
			}
			out = append(out, strings.Join(line, "|"))
		}
	}
}

// TestLines: of a file of objects, with what is wrong named by its line and passed.
func TestLines(t *testing.T) {
	long := `{"a": "` + strings.Repeat("x", longestLine) + `"}`
	r, err := objects{JSONLines: textrows.JSONLines{Names: []string{"a", "b"}}}.read(strings.NewReader(
		"\xef\xbb\xbf{\"a\": 1}\n\n{\"b\": \"x\\ny\", \"a\": null}\r\n{\"a\": 1\n{\"a\": 2, \"c\": 3}\n" + long +
			"\n[1]\n{\"a\": \"" + strings.Repeat("y", 200_000) + "\"}\n{\"a\": 9}"))
	if err != nil {
		t.Fatal(err)
	}
	got := allOf(t, r)
	want := []string{"1|", "|x\ny", "line 4: it is no JSON: it ends too soon",
		`line 5 has the name "c", for which there is no column; plan the table anew`, "line 6 is longer than 64 MiB",
		"line 7: it is no object: \"[1]\"", strings.Repeat("y", 200_000) + "|", "9|"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%.300q, not %.300q", got, want)
	}
}
