package domain

import (
	"fmt"
	"strconv"
	"strings"
)

// Grouped writes a whole number with a thin space (U+2009) between its thousands, as
// every text of ours for people does: 71 177.
func Grouped[N int | int64](n N) string {
	s := strconv.FormatInt(int64(n), 10)
	sign := ""
	if s[0] == '-' {
		sign, s = "-", s[1:]
	}
	if len(s) < 4 {
		return sign + s
	}
	var b strings.Builder
	b.WriteString(sign)
	for i, d := range s {
		if i > 0 && (len(s)-i)%3 == 0 {
			b.WriteRune('\u2009')
		}
		b.WriteRune(d)
	}
	return b.String()
}

// Many writes a number of things, in the singular where there is one.
func Many[N int | int64](n N, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%s %ss", Grouped(n), thing)
}

// Or lists choices as a sentence does: a, b or c.
func Or(list []string) string {
	n := len(list)
	if n < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:n-1], ", ") + " or " + list[n-1]
}

// Counted writes a number of things whose plural is not made by an s alone.
func Counted(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}

// More says how many of a list were left out, or nothing.
func More(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}
