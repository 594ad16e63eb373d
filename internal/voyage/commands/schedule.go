package commands

import (
	"context"
	"fmt"
	"time"

	"dustyferry/internal/core/calendar"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/planning"
)

// Schedule says when a crossing starts by itself. One that repeats loads anew each
// time; it is skipped while the run before has not ended.
func (k *Commands) Schedule(ctx context.Context, c *domain.Crossing, s domain.Schedule, confirm, actor string) error {
	switch {
	case s.Missed == "":
		s.Missed = "run once"
	case s.Missed != "run once" && s.Missed != "skip":
		return domain.Invalid("missed is %q; choose run once or skip", s.Missed)
	}
	if c.Phase == domain.PhaseClosed {
		return domain.Conflict("crossing %s is closed; nothing of it starts any more", c.Name)
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
	if err := k.records.SaveSchedule(ctx, s); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "schedule", "%s scheduled %s: %s; next at %s", actor, c.Name,
		scheduleText(s), s.NextAt.UTC().Format(time.DateTime)+" UTC")
	return nil
}

func scheduleText(s domain.Schedule) string {
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
func (k *Commands) Unschedule(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := k.records.RemoveSchedule(ctx, c.ID); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "schedule", "%s removed the schedule of %s", actor, c.Name)
	return nil
}

// PauseSchedule keeps a schedule from starting anything until it is resumed.
func (k *Commands) PauseSchedule(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := k.records.PauseSchedule(ctx, c.ID, actor); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "schedule", "%s paused the schedule of %s", actor, c.Name)
	return nil
}

// ResumeSchedule lets a paused schedule start what is due from now on.
func (k *Commands) ResumeSchedule(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := k.records.PauseSchedule(ctx, c.ID, ""); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "schedule", "%s resumed the schedule of %s", actor, c.Name)
	return nil
}

// BeginDue begins a due run: the first load, a refresh where a table has a watermark, otherwise
// the load anew.
func (k *Commands) BeginDue(ctx context.Context, c *domain.Crossing, run int64, by string) error {
	if c.Phase == domain.PhaseDraft || c.Phase == domain.PhaseSurveyed {
		return k.startAs(ctx, c, run, by)
	}
	marks, err := k.records.HasWatermark(ctx, c.ID)
	if err != nil {
		return err
	}
	if marks {
		return k.refreshAs(ctx, c, run, by)
	}
	tables, err := k.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := planning.CheckKeptRows(c, tables, ""); err != nil {
		return err
	}
	return k.restartAs(ctx, c, run, by)
}
