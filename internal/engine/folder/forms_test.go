package folder

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/go-json-experiment/json/jsontext"

	"dustyferry/internal/domain"
)

// TestOtherProgramsReadThem: what is written is CSV and JSON to their own libraries.
func TestOtherProgramsReadThem(t *testing.T) {
	rows := [][]string{{"1", "", "true", "1.50", "1e+20", `{"a": 1}`, `\x00`}, {"2", "\x00", "f", "NaN", "\x00", "\x00", "\x00"},
		{"3", "a \"b\",\nc", "\x00", "7", "0", "[]", `\x`}}
	text := newCSV(kinds()).head(nil)
	lines := newLines(kinds())
	var objects []byte
	var err error
	for _, row := range rows {
		if text, err = newCSV(kinds()).append(text, fieldsOf(row)); err != nil {
			t.Fatal(err)
		}
		if objects, err = lines.append(objects, fieldsOf(row)); err != nil {
			t.Fatal(err)
		}
	}
	got, err := csv.NewReader(bytes.NewReader(text)).ReadAll()
	if err != nil || len(got) != 4 || got[0][1] != `text, "1"` || got[3][1] != rows[2][1] || got[1][2] != "true" {
		t.Errorf("%q, %v", got, err)
	}
	var first, second map[string]any
	in := json.NewDecoder(bytes.NewReader(objects))
	if err := errors.Join(in.Decode(&first), in.Decode(&second)); err != nil {
		t.Fatalf("%v: %s", err, objects)
	}
	if first[`boolean, "2"`] != true || first[`numeric, "3"`] != 1.5 || second[`numeric, "3"`] != "NaN" ||
		first[`jsonb, "5"`].(map[string]any)["a"] != 1.0 || second[`text, "1"`] != nil {
		t.Errorf("%v, %v", first, second)
	}
	for _, no := range []string{"{\"a\":\n1}", `"text"`, "null", "{"} {
		if _, err := lines.append(nil, fieldsOf([]string{"1", "", "t", "1", "1", no, `\x`})); !domain.IsKind(err,
			domain.ProblemConflict) {
			t.Errorf("%q: %v", no, err)
		}
	}
}

// TestNumbersOfJSON: what is written as a number is one to the library, and only that.
func TestNumbersOfJSON(t *testing.T) {
	for _, v := range []string{"0", "-0", "00", "01", "1.5", "1.", ".5", "-", "", "1e5", "1e", "1E+05", "1e-", "-1.50e-07",
		"NaN", "Infinity", "1 ", " 1", "1e5.5", "0.0", "-.1", "12345678901234567890.5", "0x1", "1_0", "+1"} {
		if got, want := isNumber([]byte(v)), jsontext.Value(v).IsValid() && strings.TrimSpace(v) == v; got != want {
			t.Errorf("%q: %t", v, got)
		}
	}
}

// FuzzCSV: whatever is in a row comes back.
func FuzzCSV(f *testing.F) {
	f.Add("a", "\"", "\r\n", true)
	f.Fuzz(func(t *testing.T, a, b, c string, null bool) {
		form := newCSV([]domain.Column{{Name: a}, {Name: b}, {Name: c}})
		fields := [][]byte{[]byte(a), []byte(b), []byte(c)}
		if null {
			fields[1] = nil
		}
		text, err := form.append(form.head(nil), fields)
		if err != nil {
			t.Fatal(err)
		}
		in, err := form.read(bufio.NewReaderSize(bytes.NewReader(text), 16))
		if err != nil {
			t.Fatal(err)
		}
		got, err := in.next()
		if err != nil || !slices.EqualFunc(got, fields, func(a, b []byte) bool {
			return (a == nil) == (b == nil) && bytes.Equal(a, b)
		}) {
			t.Errorf("%q comes back as %q, %v", fields, got, err)
		}
		if _, err := in.next(); !errors.Is(err, io.EOF) {
			t.Error(err)
		}
	})
}
