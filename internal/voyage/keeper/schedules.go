package keeper

import (
	"context"
	"errors"
	"time"

	"dustyferry/internal/core/calendar"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// Schedules begins what is due.
type Schedules struct {
	Records interface {
		CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
		DueSchedules(ctx context.Context) ([]domain.Schedule, error)
		ScheduleOf(ctx context.Context, crossing int64) (*domain.Schedule, error)
		// Due notes that a run is due and moves the schedule on; false: somebody else has.
		Due(ctx context.Context, s domain.Schedule, next *time.Time, note string) (bool, error)
		DueRuns(ctx context.Context) ([]domain.DueRun, error)
		// LostRuns were asked for, and their work has ended without having begun them.
		LostRuns(ctx context.Context) ([]int64, error)
		// SettleRun says why a run did not come about, and reports whether people are to be told.
		SettleRun(ctx context.Context, run int64, state domain.RunState, note string) (bool, error)
	}
	Journal Journal
	// Begin begins a run of a crossing for somebody.
	Begin func(ctx context.Context, c *domain.Crossing, run int64, by string) error
	// Troubled keeps on a crossing what keeps it from going on by itself.
	Troubled func(ctx context.Context, c *domain.Crossing, doing string, err error) error
}

// Do notes what is due, and begins it.
func (s *Schedules) Do(ctx context.Context) error {
	return errors.Join(s.noteDue(ctx), s.startDue(ctx))
}

// noteDue notes what is due, and moves each schedule on. One that cannot be read keeps none
// of the others.
func (s *Schedules) noteDue(ctx context.Context) error {
	due, err := s.Records.DueSchedules(ctx)
	if err != nil {
		return err
	}
	var all []error
	for _, when := range due {
		if err := s.noteOne(ctx, when); err != nil {
			all = append(all, err)
		}
	}
	return errors.Join(all...)
}

func (s *Schedules) noteOne(ctx context.Context, when domain.Schedule) error {
	var next *time.Time
	note := ""
	if when.Cron != "" {
		plan, err := calendar.Parse(when.Cron, when.Zone)
		if err != nil {
			c, found := s.Records.CrossingByID(ctx, when.CrossingID)
			if found != nil {
				return found
			}
			return s.Troubled(ctx, &c, "its schedule cannot be read; schedule it again", err)
		}
		var at time.Time
		if _, at, note = plan.Due(*when.NextAt, time.Now(), when.Missed); !at.IsZero() {
			next = &at
		}
	} else if time.Since(*when.NextAt) > calendar.Late {
		note = "due when no service ran"
	}
	_, err := s.Records.Due(ctx, when, next, note)
	return err
}

// startDue begins what is due and has not begun. A run whose beginning cannot be kept now is
// begun at the next round.
func (s *Schedules) startDue(ctx context.Context) error {
	if err := s.settleLost(ctx); err != nil {
		return err
	}
	due, err := s.Records.DueRuns(ctx)
	if err != nil {
		return err
	}
	var all []error
	for _, r := range due {
		if err := s.runDue(ctx, r); err != nil {
			all = append(all, err)
		}
	}
	return errors.Join(all...)
}

// settleLost ends runs that were asked for and whose work ended before it could say what came
// of them.
func (s *Schedules) settleLost(ctx context.Context) error {
	lost, err := s.Records.LostRuns(ctx)
	if err != nil {
		return err
	}
	for _, id := range lost {
		if _, err := s.Records.SettleRun(ctx, id, domain.RunFailed,
			"the work that was to carry it out ended before it began"); err != nil {
			return err
		}
	}
	return nil
}

// whyNot says why a due run does not come about, or nothing.
func whyNot(c *domain.Crossing, s *domain.Schedule, r *domain.DueRun) string {
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
func (s *Schedules) runDue(ctx context.Context, r domain.DueRun) error {
	const by = "its schedule"
	c, err := s.Records.CrossingByID(ctx, r.CrossingID)
	if err != nil {
		return err
	}
	when, err := s.Records.ScheduleOf(ctx, c.ID)
	if err != nil {
		return err
	}
	if why := whyNot(&c, when, &r); why != "" {
		fresh, err := s.Records.SettleRun(ctx, r.ID, domain.RunSkipped, why)
		if err == nil && fresh {
			s.Journal.Recordf(ctx, "warning", journal.System, c.Name, "", "schedule", "a run of %s was skipped: %s", c.Name, why)
		}
		return err
	}
	err = s.Begin(ctx, &c, r.ID, by)
	var told *domain.Problem
	if err == nil || !errors.As(err, &told) {
		return err // the records could not be reached: at the next round
	}
	fresh, kept := s.Records.SettleRun(ctx, r.ID, domain.RunFailed, err.Error())
	if kept == nil && fresh {
		s.Journal.Recordf(ctx, "error", journal.System, c.Name, "", "schedule", "a run of %s could not begin: %s", c.Name,
			err)
		s.Journal.Notify(ctx, &c, journal.EventFailed, "its scheduled run could not begin: "+err.Error())
	}
	return kept
}
