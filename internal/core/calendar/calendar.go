// Package calendar says when something is due by a cron expression in a time zone.
// What a zone's clock skips when it is put forward is due right after; what it shows
// twice is due once.
package calendar

import (
	"fmt"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"dustyferry/internal/domain"
)

// Plan is a cron expression in a time zone.
type Plan struct {
	when cron.Schedule
	zone *time.Location
}

// Parse reads five fields (minute, hour, day of month, month, day of week) or a word
// such as @daily, and a time zone by its IANA name; empty is UTC. A zone inside the
// expression is refused, and so is an interval (@every), which has no place in a day.
func Parse(expression, zone string) (Plan, error) {
	at, err := time.LoadLocation(zone)
	if err != nil || strings.EqualFold(zone, "local") {
		return Plan{}, domain.Invalid("zone is %q; give a time zone by its IANA name, such as Europe/Amsterdam", zone)
	}
	const form = "write five fields: minute, hour, day of month, month, day of week, such as 0 2 * * 1-5"
	word := strings.ToUpper(strings.TrimSpace(expression))
	switch {
	case strings.HasPrefix(word, "TZ="), strings.HasPrefix(word, "CRON_TZ="):
		return Plan{}, domain.Invalid("cron is %q, which names a zone inside; give the zone by itself, and %s", expression,
			form)
	case strings.HasPrefix(word, "@EVERY"):
		return Plan{}, domain.Invalid("cron is %q, which says no time of the day; %s", expression, form)
	}
	when, err := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow | cron.Descriptor).Parse(
		expression)
	if err != nil {
		return Plan{}, domain.Invalid("cron is %q, which cannot be read (%s); %s", expression, err, form)
	}
	p := Plan{when, at}
	if p.Next(time.Unix(0, 0)).IsZero() {
		return Plan{}, domain.Invalid("cron is %q, which is never due", expression)
	}
	return p, nil
}

// Next is when it is due first after the moment, or zero. The expression is followed on
// the face of the zone's clock: a time that the clock skips is due when it jumps, and one
// that it shows twice is due the first time.
func (p Plan) Next(after time.Time) time.Time {
	face := onFace(after.In(p.zone))
	for range 1000 { // of a clock that is put back by hours, some times are over already
		if face = p.when.Next(face); face.IsZero() {
			return face
		}
		if t := p.moment(face); t.After(after) {
			return t.UTC()
		}
	}
	return time.Time{}
}

// onFace is what a clock shows, as if it were UTC's.
func onFace(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

// moment is when the zone's clock first shows a face, or when it jumps over it.
func (p Plan) moment(face time.Time) time.Time {
	t := time.Date(face.Year(), face.Month(), face.Day(), face.Hour(), face.Minute(), face.Second(), face.Nanosecond(),
		p.zone)
	begins, ends := t.ZoneBounds()
	switch shown := onFace(t); {
	case shown.After(face): // the clock jumped to a later face where this part of the year begins
		return begins
	case shown.Before(face):
		return ends
	}
	if begins.IsZero() {
		return t
	}
	_, before := begins.Add(-1).Zone()
	_, now := t.Zone()
	if first := t.Add(time.Duration(now-before) * time.Second); before > now && first.Before(begins) {
		return first
	}
	return t
}

// Late is how old a due time may be before it counts as missed.
const Late = 5 * time.Minute

// Due says what to do at a moment about something that was due: run it, and when it
// is due next. What was due while nobody looked runs once, however often it was due,
// or is left out, as missed says.
func (p Plan) Due(due, now time.Time, missed string) (run bool, next time.Time, note string) {
	next = p.Next(now)
	if now.Sub(due) <= Late {
		return true, next, ""
	}
	times := 0
	for t := due; !t.IsZero() && !t.After(now) && times < 1000; t = p.Next(t) {
		times++
	}
	note = fmt.Sprintf("due at %s, when no service ran", due.UTC().Format(time.DateTime))
	if times > 1 {
		note = fmt.Sprintf("due %d times since %s, when no service ran", times, due.UTC().Format(time.DateTime))
	}
	return missed != "skip", next, note
}
