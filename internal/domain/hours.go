package domain

import (
	"strconv"
	"strings"
	"time"
)

// Hours are a span of the clock on some days of the week.
type Hours struct {
	Days     [7]bool // from Sunday
	From, To int     // minutes after midnight; To before From runs into the next day
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ParseHours reads hours such as "mon-fri 08:00-18:00", "sat 22:00-02:00" or, for
// every day, "08:00-18:00".
func ParseHours(text string) (Hours, error) {
	var h Hours
	wrong := Invalid("%q is no span of hours; write it like mon-fri 08:00-18:00", text)
	part := strings.Fields(strings.ToLower(text))
	if len(part) == 0 || len(part) > 2 {
		return h, wrong
	}
	if len(part) == 1 {
		part = []string{"sun-sat", part[0]}
	}
	day := func(name string) int {
		for i, d := range dayNames {
			if d == name {
				return i
			}
		}
		return -1
	}
	for list := range strings.SplitSeq(part[0], ",") {
		first, last, to := strings.Cut(list, "-")
		if !to {
			last = first
		}
		a, b := day(first), day(last)
		if a < 0 || b < 0 {
			return h, wrong
		}
		for d := a; ; d = (d + 1) % 7 {
			h.Days[d] = true
			if d == b {
				break
			}
		}
	}
	from, to, ok := strings.Cut(part[1], "-")
	if !ok {
		return h, wrong
	}
	for _, x := range []struct {
		text string
		to   *int
	}{{from, &h.From}, {to, &h.To}} {
		hour, minute, ok := strings.Cut(x.text, ":")
		hh, err1 := strconv.Atoi(hour)
		mm, err2 := strconv.Atoi(minute)
		if !ok || err1 != nil || err2 != nil || len(minute) != 2 || hh < 0 || mm < 0 || mm > 59 || hh*60+mm > 24*60 {
			return h, wrong
		}
		*x.to = hh*60 + mm
	}
	if h.From == h.To {
		return h, wrong
	}
	return h, nil
}

// Holds reports whether the moment, in the hours' own time zone, lies within them.
func (h Hours) Holds(at time.Time) bool {
	minute, day := at.Hour()*60+at.Minute(), int(at.Weekday())
	if h.From < h.To {
		return h.Days[day] && minute >= h.From && minute < h.To
	}
	return h.Days[day] && minute >= h.From || h.Days[(day+6)%7] && minute < h.To
}

// Quiet reports whether the moment lies in the settings' quiet hours.
func (s Settings) Quiet(at time.Time) bool {
	zone, err := time.LoadLocation(s.QuietZone)
	if err != nil {
		return false
	}
	for _, text := range s.QuietHours {
		if h, err := ParseHours(text); err == nil && h.Holds(at.In(zone)) {
			return true
		}
	}
	return false
}
