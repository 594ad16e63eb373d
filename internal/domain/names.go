package domain

import (
	"slices"
	"strings"
)

// String shows the name to a person: schema.name. A part that holds a dot or a quotation mark
// stands in quotation marks, so that no two tables are shown alike.
func (t TableName) String() string { return part(t.Schema) + "." + part(t.Name) }

// plain is the name without any quotation marks.
func (t TableName) plain() string { return t.Schema + "." + t.Name }

func part(s string) string {
	if !strings.ContainsAny(s, `."`) {
		return s
	}
	return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
}

// ParseTableName reads a name as [TableName.String] writes it.
func ParseTableName(text string) (TableName, error) {
	schema, rest, ok := takePart(text)
	if ok && strings.HasPrefix(rest, ".") {
		name, left, ok := takePart(rest[1:])
		if ok && left == "" && schema != "" && name != "" {
			return TableName{Schema: schema, Name: name}, nil
		}
	}
	return TableName{}, Invalid("%q is no table's name; write schema.table, with a part that holds a dot in quotation "+
		"marks, as in \"my.schema\".table", text)
}

// takePart reads one part of a name, and returns what follows it.
func takePart(s string) (name, rest string, ok bool) {
	if !strings.HasPrefix(s, `"`) {
		at := strings.IndexByte(s, '.')
		if at < 0 {
			at = len(s)
		}
		return s[:at], s[at:], !strings.Contains(s[:at], `"`)
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		if s[i] != '"' {
			b.WriteByte(s[i])
			continue
		}
		if i+1 == len(s) || s[i+1] != '"' {
			return b.String(), s[i+1:], true
		}
		b.WriteByte('"')
		i++
	}
	return "", "", false
}

// Exactly is the pattern that chooses one table and no other.
func Exactly(t TableName) string {
	p := strings.NewReplacer(`\`, `\\`, `*`, `\*`).Replace(t.String())
	if strings.HasPrefix(p, "-") {
		p = `\` + p
	}
	return p
}

// MatchTables applies selection patterns in order; the last that matches a
// table wins. A pattern is schema.table with * for any run of characters and \ before a
// character that stands for itself; a leading "-" leaves tables out. No pattern at all means
// every table.
func MatchTables(patterns []string, tables []TableName) []TableName {
	if len(patterns) == 0 {
		patterns = []string{"*.*"}
	}
	var chosen []TableName
	for _, t := range tables {
		in := false
		for _, p := range patterns {
			p, out := strings.CutPrefix(p, "-")
			if matches(p, t) {
				in = !out
			}
		}
		if in {
			chosen = append(chosen, t)
		}
	}
	return chosen
}

// matches reports whether a pattern is for a table: as its name is shown, or without
// quotation marks.
func matches(pattern string, t TableName) bool {
	shown, plain := t.String(), t.plain()
	return wildcard(pattern, shown) || plain != shown && wildcard(pattern, plain)
}

// Like reports whether a name matches a pattern with * for any characters.
func Like(pattern, name string) bool { return wildcard(pattern, name) }

// ValidPatterns says what is wrong with selection patterns, or nil.
func ValidPatterns(patterns []string) error {
	for _, p := range patterns {
		switch {
		case !strings.Contains(p, "."):
			return Invalid("the table pattern %q has no schema; write schema.table, with * for any characters", p)
		case strings.Count(strings.NewReplacer(`\\`, "", `\*`, "").Replace(p), "*") > 6:
			return Invalid("the table pattern %q has more than six *; a simpler one chooses the same tables", p)
		}
	}
	return nil
}

// Choose returns patterns that choose a table as well. Where there are queries, no pattern
// means no table.
func Choose(patterns []string, queries []Query, t TableName) []string {
	rest := slices.DeleteFunc(slices.Clone(patterns), func(p string) bool {
		out, leaves := strings.CutPrefix(p, "-")
		return leaves && only(out, t)
	})
	every := len(patterns) == 0 && len(queries) == 0
	if every || len(rest) > 0 && len(MatchTables(rest, []TableName{t})) == 1 {
		return rest
	}
	return append(rest, Exactly(t))
}

// Unchoose returns patterns that choose a table no more, and takes its query away where it
// has one. Others stay as they are chosen.
func Unchoose(patterns []string, plan *Planning, t TableName) []string {
	queries := len(plan.Queries)
	plan.Queries = slices.DeleteFunc(slices.Clone(plan.Queries), func(q Query) bool { return q.Name() == t })
	nothing := func(p []string) []string { // no pattern would mean every table
		if len(p) == 0 && len(plan.Queries) == 0 {
			return []string{"-*.*"}
		}
		return p
	}
	if len(plan.Queries) < queries {
		return nothing(patterns)
	}
	if len(patterns) == 0 && queries == 0 {
		patterns = []string{"*.*"}
	}
	rest := nothing(slices.DeleteFunc(slices.Clone(patterns), func(p string) bool { return only(p, t) }))
	if len(rest) > 0 && len(MatchTables(rest, []TableName{t})) == 1 {
		rest = append(rest, "-"+Exactly(t))
	}
	return rest
}

// only reports whether a pattern names just this table.
func only(pattern string, t TableName) bool {
	return pattern == Exactly(t) || pattern == t.String() && !strings.ContainsAny(pattern, `*\`)
}

// wildcard matches a text: * stands for any run of characters, and \ takes the meaning from
// the character behind it.
func wildcard(pattern, s string) bool {
	for i := 0; i < len(pattern); i++ {
		c := pattern[i]
		switch {
		case c == '*':
			for rest := 0; rest <= len(s); rest++ {
				if wildcard(pattern[i+1:], s[rest:]) {
					return true
				}
			}
			return false
		case c == '\\' && i+1 < len(pattern):
			i++
			c = pattern[i]
		}
		if s == "" || s[0] != c {
			return false
		}
		s = s[1:]
	}
	return s == ""
}
