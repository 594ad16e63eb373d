package typemap

import (
	"testing"

	"dustyferry/internal/domain"
)

// TestDocumentsThatOneSideTakes: each was tried on both servers.
func TestDocumentsThatOneSideTakes(t *testing.T) {
	json := domain.Column{Name: "c", Type: "json", BaseType: "json"}
	text := domain.Column{Name: "c", Type: "text", BaseType: "text"}
	for _, c := range []struct {
		engine string
		column domain.Column
		value  string
		fits   bool
	}{
		{Postgres, json, `{"a": 1.5, "b": "x.\\ \" \u00e9"}`, true}, {Postgres, json, `1.`, false}, {Postgres, json, `[1.e5]`,
			false}, {Postgres, json, `"\x"`, false}, {Postgres, json, `"a. b"`, true},
		{MariaDB, json, `"\ud83c\udf6f and \\ud800"`, true}, {MariaDB, json, `"\ud800"`, false}, {MariaDB, json, `"\udc00"`,
			false}, {MariaDB, json, `"\ud800x\udc00"`, false}, {MariaDB, json, `"\ud800\ud800"`, false},
		{MariaDB, json, `"\u00e9"`, true},
		{Postgres, text, "honey", true}, {Postgres, text, "a\x00b", false}, {Postgres, text, "\xed\xa0\xbc", false},
	} {
		limit := Limits(c.engine, c.column)
		if limit == nil {
			t.Fatalf("nothing is known against %s on %s", c.column.Type, c.engine)
		}
		if err := limit([]byte(c.value)); (err == nil) != c.fits {
			t.Errorf("%s, %q: %v", c.engine, c.value, err)
		}
	}
}
