package csvfile

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
	r, err := newRecords(strings.NewReader("\xef\xbb\xbfa,b\n1,\"x\ny\"\n2\n3,a\"b\n4,\"\"\"\"\n5,e"), d)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for {
		values, line, refused, err := r.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		if refused != nil {
			got = append(got, refused.Error())
			continue
		}
		got = append(got, strings.Join(values, "|")+" at "+string(rune('0'+line)))
	}
	want := []string{"1|x\ny at 2", "line 4 has 1 value, and the first row 2", `line 5: bare " in non-quoted-field`, `4|" at 6`,
		"5|e at 7"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%q", got)
	}
}
