package naming

import (
	"strings"
	"testing"
	"unicode/utf8"

	"dustyferry/internal/domain"
)

func TestJudge(t *testing.T) {
	long := strings.Repeat("é", 32) // 64 bytes, 32 characters
	for _, c := range []struct {
		what   string
		server Server
		names  []Name
		want   []string // one part of each entry, in order
	}{
		{"as long as can be", Postgres, []Name{{Kind: "table", Name: strings.Repeat("a", 63)}}, nil},
		{"one byte more", Postgres, []Name{{Kind: "table", Name: strings.Repeat("a", 64)}},
			[]string{"64 bytes, and PostgreSQL keeps 63"}},
		{"bytes, not characters", Postgres, []Name{{Kind: "column", Name: long}}, []string{"64 bytes"}},
		{"characters, not bytes", MariaDB, []Name{{Kind: "column", Name: long}}, nil},
		{"one character more", MariaDB, []Name{{Kind: "index", Name: strings.Repeat("é", 65)}},
			[]string{"65 characters, and MariaDB takes 64"}},
		{"a blank at the end", MariaDB, []Name{{Kind: "column", Name: "a "}}, []string{"ends with a blank"}},
		{"a bee", MariaDB, []Name{{Kind: "column", Name: "🐝"}}, []string{"beyond the basic"}},
		{"a bee there", Postgres, []Name{{Kind: "column", Name: "🐝"}}, nil},
		{"two of one space", Postgres, []Name{{Kind: "index", Name: "by_day", Space: "relation honey", Subject: "a.b"},
			{Kind: "index", Name: "by_day", Space: "relation honey", Subject: "a.c"}}, []string{"index by_day of a.b for one"}},
		{"an index and a table", Postgres, []Name{{Kind: "table", Name: "x", Space: "relation honey", Subject: "a.x"},
			{Kind: "index", Name: "x", Space: "relation honey", Subject: "a.y"}}, []string{"table x of a.x for one"}},
		{"two spaces", Postgres, []Name{{Kind: "index", Name: "by_day", Space: "relation honey"},
			{Kind: "index", Name: "by_day", Space: "relation wax"}}, nil},
		{"letters", Postgres, []Name{{Kind: "column", Name: "Day", Space: "c"}, {Kind: "column", Name: "day", Space: "c"}},
			nil},
		{"folded letters", MariaDB, []Name{{Kind: "column", Name: "DÉJA", Space: "c", Fold: true, Subject: "a.b"},
			{Kind: "column", Name: "déja", Space: "c", Fold: true, Subject: "a.b"}}, []string{"of the same table for one"}},
		{"three", Postgres, []Name{{Kind: "column", Name: "d", Space: "c"}, {Kind: "column", Name: "d", Space: "c"},
			{Kind: "column", Name: strings.Repeat("b", 70), Space: "c"}}, []string{"for one", "70 bytes"}},
		{"nothing", Postgres, []Name{{Kind: "column"}}, []string{"empty"}},
	} {
		got := c.server.Judge(c.names)
		if len(got) != len(c.want) {
			t.Errorf("%s: %+v", c.what, got)
			continue
		}
		for i := range got {
			if got[i].Verdict != domain.Blocker || !strings.Contains(got[i].Measured, c.want[i]) {
				t.Errorf("%s: %+v, want %s", c.what, got[i], c.want[i])
			}
		}
	}
}

func TestFit(t *testing.T) {
	for _, s := range []Server{Postgres, MariaDB} {
		seen := map[string]string{}
		for _, name := range []string{"short", strings.Repeat("a", 64), strings.Repeat("a", 65), strings.Repeat("a", 64) +
			"b", strings.Repeat("é", 100), strings.Repeat("é", 100) + "x", "🐝 of the marsh", "a "} {
			got := s.Fit(name)
			if s.wrong(got) != "" || !utf8.ValidString(got) {
				t.Errorf("%s: %q became %q: %s", s.Called, name, got, s.wrong(got))
			}
			if s.wrong(name) == "" && got != name {
				t.Errorf("%s: %q became %q for nothing", s.Called, name, got)
			}
			if other, taken := seen[got]; taken {
				t.Errorf("%s: %q and %q both became %q", s.Called, name, other, got)
			}
			seen[got] = name
		}
	}
}
