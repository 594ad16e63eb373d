package voyage

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"dustyferry/internal/core/calendar"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

// Schedule says when a crossing starts by itself. One that repeats loads anew each
// time; it is skipped while the run before has not ended.
func (v *Voyage) Schedule(ctx context.Context, c *records.Crossing, s records.Schedule, confirm, actor string) error {
	switch {
	case s.Missed == "":
		s.Missed = "run once"
	case s.Missed != "run once" && s.Missed != "skip":
		return domain.Invalid("missed is %q; choose run once or skip", s.Missed)
	}
	s.CrossingID, s.Actor = c.ID, actor
	if (s.Cron == "") == !s.OnceAt.Valid {
		return domain.Invalid("give either the time at which %s is to start, or a cron expression by which it is to repeat", c.Name)
	}
	if s.OnceAt.Valid {
		if c.Phase != domain.PhaseDraft && c.Phase != domain.PhaseSurveyed {
			return domain.Conflict("crossing %s is %s: it has been started already", c.Name, c.Phase)
		}
		if time.Until(s.OnceAt.Time) < -calendar.Late {
			return domain.Invalid("%s is over; give a time to come", s.OnceAt.Time.UTC().Format(time.DateTime))
		}
		if removes(c) && confirm != c.Target {
			return domain.Invalid("starting %s may remove rows from %s; confirm it by giving the target's name, %s", c.Name, c.Target, c.Target)
		}
		s.NextAt = s.OnceAt
	} else {
		plan, err := calendar.Parse(s.Cron, s.Zone)
		if err != nil {
			return err
		}
		if c.Kind != domain.KindLoad {
			return domain.Invalid("crossing %s follows changes, so that its load need not repeat; only crossings of kind load can", c.Name)
		}
		if confirm != c.Target {
			does := "empties its tables on " + c.Target + ", but for those that have a watermark, and loads them again"
			if repeatsInPlace(c) {
				does = "replaces the rows of its tables on " + c.Target
			}
			return domain.Invalid("each run of %s %s; confirm it by giving the target's name, %s", c.Name, does, c.Target)
		}
		s.NextAt = sql.NullTime{Time: plan.Next(time.Now()), Valid: true}
	}
	if err := v.Store.SaveSchedule(ctx, s); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "schedule", "%s scheduled %s: %s; next at %s", actor, c.Name, scheduleText(s), s.NextAt.Time.UTC().Format(time.DateTime)+" UTC")
	return nil
}

func scheduleText(s records.Schedule) string {
	if s.OnceAt.Valid {
		return "once"
	}
	zone := s.Zone
	if zone == "" {
		zone = "UTC"
	}
	return fmt.Sprintf("%q in %s, what is missed: %s", s.Cron, zone, s.Missed)
}

// Unschedule lets a crossing start by a person's hand alone again.
func (v *Voyage) Unschedule(ctx context.Context, c *records.Crossing, actor string) error {
	if err := v.Store.RemoveSchedule(ctx, c.ID); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "schedule", "%s removed the schedule of %s", actor, c.Name)
	return nil
}

// startDue starts what is due.
func (v *Voyage) startDue(ctx context.Context) error {
	due, err := v.Store.DueSchedules(ctx)
	if err != nil {
		return err
	}
	for _, s := range due {
		c, err := v.Store.CrossingByID(ctx, s.CrossingID)
		if err != nil {
			return err
		}
		run, note := true, ""
		var next sql.NullTime
		if s.Cron != "" {
			plan, err := calendar.Parse(s.Cron, s.Zone)
			if err != nil {
				return err
			}
			run, next.Time, note = plan.Due(s.NextAt.Time, time.Now(), s.Missed)
			next.Valid = !next.Time.IsZero()
		} else if time.Since(s.NextAt.Time) > calendar.Late {
			run, note = s.Missed != "skip", "due when no service ran"
		}
		// Moved on first: whatever becomes of this run, it is not begun twice.
		if ok, err := v.Store.Reschedule(ctx, c.ID, s.NextAt.Time, next); err != nil || !ok {
			return err
		}
		if err := v.runDue(ctx, &c, run, note); err != nil {
			return err
		}
	}
	return nil
}

// runDue begins a scheduled run, or says why there is none.
func (v *Voyage) runDue(ctx context.Context, c *records.Crossing, run bool, note string) error {
	const by = "its schedule"
	skip := func(why string) error {
		v.Say(ctx, "warning", System, c.Name, "", "schedule", "a run of %s was skipped: %s", c.Name, why)
		return v.Store.NoteRun(ctx, c.ID, by, "skipped", why)
	}
	if !run {
		return skip(note)
	}
	var err error
	switch c.Phase {
	case domain.PhaseDraft, domain.PhaseSurveyed:
		err = v.StartCrossing(ctx, c, c.Target, by)
	case domain.PhaseInStep:
		if c.Kind != domain.KindLoad {
			return skip("it follows changes")
		}
		var fresh bool
		if fresh, err = v.Store.HasWatermark(ctx, c.ID); err == nil && fresh {
			err = v.StartRefresh(ctx, c, c.Target, by)
		} else if err == nil {
			err = v.RestartCrossing(ctx, c, "", by)
		}
	case domain.PhaseClosed:
		return skip("it is closed; remove its schedule")
	default:
		return skip("the run before has not ended (" + string(c.Phase) + ", " + string(c.Condition) + ")")
	}
	if err != nil {
		if ctx.Err() != nil {
			return err
		}
		v.Say(ctx, "error", System, c.Name, "", "schedule", "a run of %s could not begin: %s", c.Name, err)
		v.tell(ctx, c, EventFailed, "its scheduled run could not begin: "+err.Error())
		return v.Store.NoteRun(ctx, c.ID, by, "failed", err.Error())
	}
	return nil
}
