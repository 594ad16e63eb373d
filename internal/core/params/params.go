// Package params puts values in place of :name in a person's SQL. Values are
// texts, numbers, or times that are told from the present day.
package params

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"dustyferry/internal/domain"
)

// Set is the values of named parameters at one moment.
type Set struct {
	Values map[string]string
	Now    time.Time
	// Backslash: the SQL takes a backslash in a text for the beginning of an escape.
	Backslash bool
}

// spans are what a name cannot begin in: quoted texts and names, comments, and
// casts; then names themselves.
var spans = regexp.MustCompile(
	"(?s)'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|`(?:[^`]|``)*`|\\$\\$.*?\\$\\$|" +
		"--[^\n]*|/\\*.*?\\*/|::|[A-Za-z0-9_]:[0-9]|:[a-z_][a-z0-9_]*")

// Fill returns the SQL with values in place of names, and the names it used.
func (s Set) Fill(sql string) (filled string, used []string, err error) {
	filled = spans.ReplaceAllStringFunc(sql, func(word string) string {
		if len(word) < 2 || word[0] != ':' || word[1] == ':' {
			return word
		}
		name := word[1:]
		v, ok := s.Values[name]
		if !ok {
			if err == nil {
				err = domain.Invalid("there is no parameter %q for %s; give it a value under parameters", name, word)
			}
			return word
		}
		used = append(used, name)
		var text string
		if text, ok = s.told(v); !ok {
			if number.MatchString(v) {
				return v
			}
			text = v
		}
		text = strings.ReplaceAll(text, "'", "''")
		if s.Backslash {
			text = strings.ReplaceAll(text, `\`, `\\`)
		}
		return "'" + text + "'"
	})
	return filled, used, err
}

var (
	number   = regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?$`)
	relative = regexp.MustCompile(`^(today|now)(?:\s*([+-])\s*([0-9]{1,6})\s+(minute|hour|day|week|month|year)s?)?$`)
)

// told is the time that a value like "today - 7 days" names, in UTC: a date where
// it is told from today by days or more, else a date and a time.
func (s Set) told(v string) (string, bool) {
	m := relative.FindStringSubmatch(strings.TrimSpace(v))
	if m == nil {
		return "", false
	}
	at := s.Now.UTC()
	dated := m[1] == "today"
	if dated {
		at = at.Truncate(24 * time.Hour)
	}
	n, _ := strconv.Atoi(m[3])
	if m[2] == "-" {
		n = -n
	}
	switch m[4] {
	case "minute":
		at, dated = at.Add(time.Duration(n)*time.Minute), false
	case "hour":
		at, dated = at.Add(time.Duration(n)*time.Hour), false
	case "day":
		at = at.AddDate(0, 0, n)
	case "week":
		at = at.AddDate(0, 0, 7*n)
	case "month":
		at = months(at, n)
	case "year":
		at = months(at, 12*n)
	}
	if dated {
		return at.Format(time.DateOnly), true
	}
	return at.Format(time.DateTime), true
}

// months goes by months, to the last day of a month that is too short.
func months(at time.Time, n int) time.Time {
	first := time.Date(at.Year(), at.Month(), 1, at.Hour(), at.Minute(), at.Second(), at.Nanosecond(), time.UTC).AddDate(0,
		n, 0)
	last := first.AddDate(0, 1, -1).Day()
	return first.AddDate(0, 0, min(at.Day(), last)-1)
}
