package textrows

import (
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
)

func TestHowFilesAreWritten(t *testing.T) {
	for _, c := range []struct{ head, want, columns string }{
		{"id,name\n1,kea\n2,wren\n", "commas between 2 columns", "id name"},
		{"id;name\n1;kea, the first\n2;wren\n", "semicolons between 2 columns", "id name"},
		{"id\tname\n1\tkea\n", "tabs between 2 columns", "id name"},
		{"id|name\n1|kea\n", "bars between 2 columns", "id name"},
		{"1,kea\n2,wren\n", "commas between 2 columns, no names in the first row", "c1 c2"},
		{"name\nkea\nwren\n", "commas between 1 column", "name"},
		{"name,name\nkea,x\n", "commas between 2 columns, no names in the first row", "c1 c2"},
		{"a,b\nc,d\na,e\n", "commas between 2 columns, no names in the first row", "c1 c2"},
		{"\xef\xbb\xbfid,\"the, name\"\n1,\"a\nb\"\n", "commas between 2 columns", "id the, name"},
		{"id,name", "commas between 2 columns", "id name"},
		{"id,größe\n1,2\n2,3", "commas between 2 columns", "id größe"},
	} {
		d, err := Guess([]byte(c.head), true)
		if err != nil || d.String() != c.want || strings.Join(d.Columns, " ") != c.columns {
			t.Errorf("%q: %s, %q, %v", c.head, d, d.Columns, err)
		}
	}
	for head, says := range map[string]string{"": "no rows", "a,b\n\xe9,x\n": "UTF-8"} {
		if _, err := Guess([]byte(head), true); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", head, err)
		}
	}
	if d, err := Guess([]byte("id,name\n1,k\xc3"), false); err != nil || len(d.Columns) != 2 {
		t.Errorf("cut off: %s, %v", d, err)
	}
}

func TestWhatColumnsBecome(t *testing.T) {
	for _, c := range []struct{ values, want string }{
		{"1 2 -3", "bigint"}, {"1 2.50 -3", "numeric"}, {"007 1", "text"}, {"9999999999999999999 1", "numeric"},
		{"true false", "boolean"}, {"true maybe", "text"}, {"2026-05-01", "date"},
		{"2026-05-01T10:00 2026-05-01", "timestamp without time zone"}, {"2026-05-01T10:00Z", "timestamp with time zone"},
		{"10:30 11:00:05", "time without time zone"}, {"1e5", "text"}, {"", "text"}, {"NaN", "text"}, {"1,5", "text"},
		{".5", "text"}, {"1.", "text"}, {"+1", "text"}, {"2026-05-01 1", "text"},
	} {
		var h Held
		for v := range strings.SplitSeq(c.values, " ") {
			h.Look(Value{Text: v})
		}
		h.Look(Value{})
		if h.Type() != c.want || h.Empty() < 1 {
			t.Errorf("%s: %s", c.values, h.Type())
		}
	}
}

func TestValuesInTheNeutralForm(t *testing.T) {
	for _, c := range []struct{ typ, in, out string }{
		{"bigint", "-5", "-5"}, {"bigint", "-0", "0"}, {"numeric", "-0.00", "0.00"},
		{"numeric", "-0.10", "-0.10"}, {"numeric", "1.50", "1.50"}, {"boolean", "true", "true"},
		{"date", "2026-05-01", "2026-05-01"},
		{"timestamp without time zone", "2026-05-01", "2026-05-01 00:00:00"},
		{"timestamp with time zone", "2026-05-01T10:00+02:00", "2026-05-01 08:00:00+00"},
		{"time without time zone", "10:30", "10:30:00"}, {"text", "", ""}, {"text", "a", "a"},
	} {
		got, ok, err := Write(nil, c.typ, Value{Text: c.in})
		if !ok || err != nil || string(got) != c.out {
			t.Errorf("%s %q: %q, %v, %v", c.typ, c.in, got, ok, err)
		}
	}
	if _, ok, err := Write(nil, "bigint", Value{}); ok || err != nil {
		t.Errorf("nothing is no NULL: %v", err)
	}
	for _, c := range [][2]string{{"bigint", "1.5"}, {"bigint", "x"}, {"date", "May"}, {"text", "a\x00"}, {"text", "\xff"},
		{"boolean", "1"}} {
		if _, _, err := Write(nil, c[0], Value{Text: c[1]}); err == nil {
			t.Errorf("%q is a %s", c[1], c[0])
		}
	}
}

// TestNumbersAreToldApart: as two plain expressions do, for texts of the signs of numbers.
func TestNumbersAreToldApart(t *testing.T) {
	isWhole := regexp.MustCompile(`^-?(0|[1-9]\d{0,17})$`)
	isDecimal := regexp.MustCompile(`^-?(0|[1-9]\d{0,300})(\.\d{1,300})?$`)
	r := rand.New(rand.NewPCG(1, 2))
	try := func(s string) {
		want := text
		switch {
		case isWhole.MatchString(s):
			want = whole
		case isDecimal.MatchString(s):
			want = decimal
		}
		if got := number(s); got != want {
			t.Errorf("%.60q is of kind %d, not %d", s, got, want)
		}
	}
	for range 200_000 {
		b := make([]byte, r.IntN(9))
		for i := range b {
			b[i] = "0012-..9e "[r.IntN(10)]
		}
		try(string(b))
	}
	for _, n := range []int{17, 18, 19, 20, 300, 301, 302} {
		digits := strings.Repeat("7", n)
		for _, s := range []string{digits, "-" + digits, digits + ".5", "1." + digits, "-0." + digits} {
			try(s)
		}
	}
}
