package sqlite

import (
	"strings"
	"time"
)

// Texts that are days, moments and times of day, in the forms of ISO 8601 that SQLite's own functions
// read and write.

const days = "2006-01-02"

var (
	momentForms = []string{"2006-01-02 15:04:05.999999999", "2006-01-02 15:04"}
	zonedForms  = []string{"2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04Z07:00"}
	timeForms   = []string{"15:04:05.999999999", "15:04"}
)

// read reads a text of one of the forms, T standing for the space too. What has more than six digits
// behind the second could not be kept.
func read(s string, forms []string) (time.Time, bool) {
	if i := strings.IndexByte(s, 'T'); i == len(days) {
		s = s[:i] + " " + s[i+1:]
	}
	for _, f := range forms {
		if t, err := time.Parse(f, s); err == nil {
			return t, t.Nanosecond()%1000 == 0
		}
	}
	return time.Time{}, false
}

func isDate(s string) bool {
	t, err := time.Parse(days, s)
	return err == nil && len(s) == len(days) && t.Year() > 0
}

func isMoment(s string) bool { t, ok := read(s, momentForms); return ok && t.Year() > 0 }
func isZoned(s string) bool  { t, ok := read(s, zonedForms); return ok && t.Year() > 0 }
func isTime(s string) bool   { _, ok := read(s, timeForms); return ok }

// appendMoment writes a moment, or a day as its beginning, as PostgreSQL writes it.
func appendMoment(dst []byte, s string) []byte {
	if isDate(s) {
		return append(append(dst, s...), " 00:00:00"...)
	}
	t, _ := read(s, momentForms)
	return t.AppendFormat(dst, "2006-01-02 15:04:05.999999")
}

func appendZoned(dst []byte, s string) []byte {
	t, _ := read(s, zonedForms)
	return append(t.UTC().AppendFormat(dst, "2006-01-02 15:04:05.999999"), "+00"...)
}

func appendTime(dst []byte, s string) []byte {
	t, _ := read(s, timeForms)
	return t.AppendFormat(dst, "15:04:05.999999")
}
