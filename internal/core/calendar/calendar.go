// Package calendar says when something is due by a cron expression in a time zone.
// What a zone's clock skips when it is put forward is due right after; what it shows
// twice is due once.
package calendar

import (
	"fmt"
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
// such as @daily, and a time zone by its IANA name; empty is UTC.
func Parse(expression, zone string) (Plan, error) {
	at, err := time.LoadLocation(zone)
	if err != nil {
		return Plan{}, domain.Invalid("zone is %q; give a time zone by its IANA name, such as Europe/Amsterdam", zone)
	}
	when, err := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow | cron.Descriptor).Parse(expression)
	if err != nil {
		return Plan{}, domain.Invalid("cron is %q, which cannot be read (%s); write five fields: minute, hour, day of month, month, day of week, such as 0 2 * * 1-5", expression, err)
	}
	p := Plan{when, at}
	if p.Next(time.Unix(0, 0)).IsZero() {
		return Plan{}, domain.Invalid("cron is %q, which is never due", expression)
	}
	return p, nil
}

// Next is when it is due first after the moment, or zero.
func (p Plan) Next(after time.Time) time.Time {
	next := p.when.Next(after.In(p.zone))
	if next.IsZero() {
		return next
	}
	return next.UTC()
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
