package voyage

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dustyferry/internal/core/calendar"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
)

// Schedule says when a crossing starts by itself. One that repeats loads anew each
// time; it is skipped while the run before has not ended.
func (v *Voyage) Schedule(ctx context.Context, c *domain.Crossing, s records.Schedule, confirm, actor string) error {
	switch {
	case s.Missed == "":
		s.Missed = "run once"
	case s.Missed != "run once" && s.Missed != "skip":
		return domain.Invalid("missed is %q; choose run once or skip", s.Missed)
	}
	s.CrossingID, s.Actor = c.ID, actor
	if (s.Cron == "") == (s.OnceAt == nil) {
		return domain.Invalid("give either the time at which %s is to start, or a cron expression by which it is to repeat",
			c.Name)
	}
	if s.OnceAt != nil {
		if c.Phase != domain.PhaseDraft && c.Phase != domain.PhaseSurveyed {
			return domain.Conflict("crossing %s is %s: it has been started already", c.Name, c.Phase)
		}
		if time.Until(*s.OnceAt) < -calendar.Late {
			return domain.Invalid("%s is over; give a time to come", s.OnceAt.UTC().Format(time.DateTime))
		}
		if removes(c) && confirm != c.Target {
			return domain.Invalid("starting %s may remove rows from %s; confirm it by giving the target's name, %s", c.Name,
				c.Target, c.Target)
		}
		s.NextAt = s.OnceAt
	} else {
		plan, err := calendar.Parse(s.Cron, s.Zone)
		if err != nil {
			return err
		}
		if c.Kind != domain.KindLoad {
			return domain.Invalid("crossing %s follows changes, so that its load need not repeat; only crossings that do not "+
				"follow changes can", c.Name)
		}
		if confirm != c.Target {
			does := "empties its tables on " + c.Target + ", but for those that have a watermark, and loads them again"
			if planning.RepeatsInPlace(c) {
				does = "replaces the rows of its tables on " + c.Target
			}
			return domain.Invalid("each run of %s %s; confirm it by giving the target's name, %s", c.Name, does, c.Target)
		}
		next := plan.Next(time.Now())
		s.NextAt = &next
	}
	if err := v.Store.SaveSchedule(ctx, s); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "schedule", "%s scheduled %s: %s; next at %s", actor, c.Name, scheduleText(s),
		s.NextAt.UTC().Format(time.DateTime)+" UTC")
	return nil
}

func scheduleText(s records.Schedule) string {
	if s.OnceAt != nil {
		return "once"
	}
	zone := s.Zone
	if zone == "" {
		zone = "UTC"
	}
	return fmt.Sprintf("%q in %s, what is missed: %s", s.Cron, zone, s.Missed)
}

// Unschedule lets a crossing start by a person's hand alone again.
func (v *Voyage) Unschedule(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := v.Store.RemoveSchedule(ctx, c.ID); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "schedule", "%s removed the schedule of %s", actor, c.Name)
	return nil
}

// PauseSchedule keeps a schedule from starting anything until it is resumed.
func (v *Voyage) PauseSchedule(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := v.Store.PauseSchedule(ctx, c.ID, actor); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "schedule", "%s paused the schedule of %s", actor, c.Name)
	return nil
}

// ResumeSchedule lets a paused schedule start what is due from now on.
func (v *Voyage) ResumeSchedule(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := v.Store.PauseSchedule(ctx, c.ID, ""); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "schedule", "%s resumed the schedule of %s", actor, c.Name)
	return nil
}

// runSchedules notes what is due, and begins it.
func (v *Voyage) runSchedules(ctx context.Context) error {
	return errors.Join(v.noteDue(ctx), v.startDue(ctx))
}

// noteDue notes what is due, and moves each schedule on. One that cannot be read keeps none
// of the others.
func (v *Voyage) noteDue(ctx context.Context) error {
	due, err := v.Store.DueSchedules(ctx)
	if err != nil {
		return err
	}
	var all []error
	for _, s := range due {
		if err := v.noteOne(ctx, s); err != nil {
			all = append(all, err)
		}
	}
	return errors.Join(all...)
}

func (v *Voyage) noteOne(ctx context.Context, s records.Schedule) error {
	var next *time.Time
	note := ""
	if s.Cron != "" {
		plan, err := calendar.Parse(s.Cron, s.Zone)
		if err != nil {
			c, found := v.Store.CrossingByID(ctx, s.CrossingID)
			if found != nil {
				return found
			}
			return v.troubled(ctx, &c, "its schedule cannot be read; schedule it again", err)
		}
		var at time.Time
		if _, at, note = plan.Due(*s.NextAt, time.Now(), s.Missed); !at.IsZero() {
			next = &at
		}
	} else if time.Since(*s.NextAt) > calendar.Late {
		note = "due when no service ran"
	}
	_, err := v.Store.Due(ctx, s, next, note)
	return err
}

// startDue begins what is due and has not begun. A run whose beginning cannot be kept now is
// begun at the next round.
func (v *Voyage) startDue(ctx context.Context) error {
	if err := v.settleLost(ctx); err != nil {
		return err
	}
	due, err := v.Store.DueRuns(ctx)
	if err != nil {
		return err
	}
	var all []error
	for _, r := range due {
		if err := v.runDue(ctx, r); err != nil {
			all = append(all, err)
		}
	}
	return errors.Join(all...)
}

// settleLost ends runs that were asked for and whose work ended before it could say what came
// of them.
func (v *Voyage) settleLost(ctx context.Context) error {
	lost, err := v.Store.LostRuns(ctx)
	if err != nil {
		return err
	}
	for _, id := range lost {
		if _, err := v.Store.SettleRun(ctx, id, domain.RunFailed,
			"the work that was to carry it out ended before it began"); err != nil {
			return err
		}
	}
	return nil
}

// whyNot says why a due run does not come about, or nothing.
func whyNot(c *domain.Crossing, s *records.Schedule, r *records.DueRun) string {
	switch {
	case s == nil:
		return "its schedule was removed"
	case s.PausedBy != "":
		return "the schedule is paused by " + s.PausedBy
	case s.Missed == "skip" && r.Note != "": // it was missed
		return r.Note
	case c.Condition == domain.ConditionPaused:
		return c.Name + " is paused: " + c.Reason
	case c.Phase == domain.PhaseClosed:
		return "it is closed; remove its schedule"
	case c.Condition == domain.ConditionHeld:
		return c.Name + " is held; fix the cause, then resume it"
	case c.Phase == domain.PhaseInStep && c.Kind != domain.KindLoad:
		return "it follows changes"
	case c.Phase != domain.PhaseDraft && c.Phase != domain.PhaseSurveyed && c.Phase != domain.PhaseInStep:
		return "the run before has not ended (" + c.Kind.PhaseLabel(c.Phase) + ")"
	}
	return ""
}

// runDue begins a scheduled run, or says why there is none.
func (v *Voyage) runDue(ctx context.Context, r records.DueRun) error {
	const by = "its schedule"
	c, err := v.Store.CrossingByID(ctx, r.CrossingID)
	if err != nil {
		return err
	}
	s, err := v.Store.ScheduleOf(ctx, c.ID)
	if err != nil {
		return err
	}
	if why := whyNot(&c, s, &r); why != "" {
		fresh, err := v.Store.SettleRun(ctx, r.ID, "skipped", why)
		if err == nil && fresh {
			v.Say(ctx, "warning", System, c.Name, "", "schedule", "a run of %s was skipped: %s", c.Name, why)
		}
		return err
	}
	switch c.Phase {
	case domain.PhaseDraft, domain.PhaseSurveyed:
		err = v.startAs(ctx, &c, r.ID, by)
	default:
		var marks bool
		if marks, err = v.Store.HasWatermark(ctx, c.ID); err == nil && marks {
			err = v.refreshAs(ctx, &c, r.ID, by)
		} else if err == nil {
			err = v.restartDue(ctx, &c, r.ID, by)
		}
	}
	var told *domain.Problem
	if err == nil || !errors.As(err, &told) {
		return err // the records could not be reached: at the next round
	}
	fresh, kept := v.Store.SettleRun(ctx, r.ID, domain.RunFailed, err.Error())
	if kept == nil && fresh {
		v.Say(ctx, "error", System, c.Name, "", "schedule", "a run of %s could not begin: %s", c.Name, err)
		v.Notify(ctx, &c, journal.EventFailed, "its scheduled run could not begin: "+err.Error())
	}
	return kept
}

// restartDue loads everything anew for a schedule, as a person's restart does.
func (v *Voyage) restartDue(ctx context.Context, c *domain.Crossing, run int64, by string) error {
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := planning.CheckKeptRows(c, tables, ""); err != nil {
		return err
	}
	return v.restartAs(ctx, c, run, by)
}
