// Package isotime reads texts that are days, moments and times of day in the forms of ISO 8601, and
// writes them as PostgreSQL does.
package isotime

import (
	"strings"
	"time"
)

const days = "2006-01-02"

var (
	momentForms = []string{"2006-01-02 15:04:05.999999999", "2006-01-02 15:04"}
	zonedForms  = []string{"2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04Z07:00",
		"2006-01-02 15:04:05.999999999Z07"}
	timeForms = []string{"15:04:05.999999999", "15:04"}
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

// digits reads a number of so many digits, -1 where they are none.
func digits(s string) int {
	n := 0
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return -1
		}
		n = n*10 + int(s[i]-'0')
	}
	return n
}

var monthDays = [...]int{0, 31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

// IsDate: a day.
func IsDate(s string) bool {
	if len(s) != len(days) || s[4] != '-' || s[7] != '-' {
		return false
	}
	y, m, d := digits(s[:4]), digits(s[5:7]), digits(s[8:])
	if y < 1 || m < 1 || m > 12 || d < 1 || d > monthDays[m] {
		return false
	}
	return m != 2 || d < 29 || y%4 == 0 && (y%100 != 0 || y%400 == 0)
}

// isPlain reports whether a moment is written as PostgreSQL writes it, without parts of a second.
func isPlain(s string) bool {
	if len(s) != len(days)+9 || s[10] != ' ' || s[13] != ':' || s[16] != ':' || !IsDate(s[:10]) {
		return false
	}
	h, m, sec := digits(s[11:13]), digits(s[14:16]), digits(s[17:])
	return h >= 0 && h < 24 && m >= 0 && m < 60 && sec >= 0 && sec < 60
}

// IsMoment: a day with a time of day, without a zone.
func IsMoment(s string) bool {
	if isPlain(s) {
		return true
	}
	t, ok := read(s, momentForms)
	return ok && t.Year() > 0
}

// IsZoned: a moment with its distance to UTC.
func IsZoned(s string) bool { t, ok := read(s, zonedForms); return ok && t.Year() > 0 }

// IsTime: a time of day.
func IsTime(s string) bool { _, ok := read(s, timeForms); return ok }

// AppendMoment appends a moment, or a day as its beginning, as PostgreSQL writes it.
func AppendMoment(dst []byte, s string) []byte {
	switch {
	case isPlain(s):
		return append(dst, s...)
	case IsDate(s):
		return append(append(dst, s...), " 00:00:00"...)
	}
	t, _ := read(s, momentForms)
	return t.AppendFormat(dst, "2006-01-02 15:04:05.999999")
}

// AppendZoned appends a moment with a zone, in UTC.
func AppendZoned(dst []byte, s string) []byte {
	t, _ := read(s, zonedForms)
	return append(t.UTC().AppendFormat(dst, "2006-01-02 15:04:05.999999"), "+00"...)
}

// AppendTime appends a time of day.
func AppendTime(dst []byte, s string) []byte {
	t, _ := read(s, timeForms)
	return t.AppendFormat(dst, "15:04:05.999999")
}
