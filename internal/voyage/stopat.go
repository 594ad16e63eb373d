package voyage

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/core/follow"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
)

// Where capture begins and where it is to stop, as a person says.

// stopping is where capture is to stop: before the first transaction that was committed
// at or after a place, or a time of the source.
type stopping struct {
	at    domain.Position // of a time: once the log is known to be beyond it; until then far away
	clock int64           // the time, microseconds since 1970; 0: the place alone counts
	text  string
}

// parseStop reads the setting stop_at, which may be empty.
func parseStop(text string, driver engine.Driver) (*stopping, error) {
	if text = strings.TrimSpace(text); text == "" {
		return nil, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return &stopping{at: follow.FarAway, clock: at.UnixMicro(), text: text}, nil
	}
	at, err := driver.ParsePosition(text)
	if err != nil || at == 0 {
		return nil, domain.Invalid("stop_at is %q; give a time such as 2026-12-01T02:00:00Z, or a log position such as %s",
			text, driver.FormatPosition(0x16B374D8))
	}
	return &stopping{at: at, text: text}, nil
}

// CheckCaptureSettings says what is wrong with the settings of where capture begins and stops.
func (v *Voyage) CheckCaptureSettings(ctx context.Context, source string, kind domain.Kind, s domain.Settings) error {
	d, err := v.Store.Database(ctx, source)
	if err != nil {
		return err
	}
	driver, err := v.Driver(d.Engine)
	if err != nil {
		return err
	}
	if _, err := parseStop(s.StopAt, driver); err != nil {
		return err
	}
	switch {
	case kind != domain.KindCapture && (s.StartFrom != "" || s.Slot != ""):
		return domain.Invalid("start_from and slot are for crossings that only follow changes; one that copies rows begins " +
			"where its load does")
	case kind == domain.KindLoad && s.StopAt != "":
		return domain.Invalid("stop_at is for crossings that follow changes; one that only copies rows ends with its load")
	case strings.TrimSpace(s.StartFrom) != "":
		if err := driver.CheckPlace(strings.TrimSpace(s.StartFrom)); err != nil {
			return domain.Invalid("start_from: %s", err)
		}
	}
	return nil
}

// captureFrom makes capture durable and returns from where changes are applied: for kind
// capture, where the person says that the target's rows stand.
func (v *Voyage) captureFrom(ctx context.Context, c *domain.Crossing, s *planning.Surveyed) (domain.Position, error) {
	set := c.Settings
	if set.Slot != "" {
		from, err := s.Source.CheckCapture(ctx, set.Slot, s.Plans)
		if err != nil || set.StartFrom == "" {
			return from, err
		}
		at, err := v.resolvePlace(ctx, c, s.Source, set.StartFrom)
		if err == nil && at < from {
			err = domain.Conflict("the replication slot %s gives changes from log position %s on; start_from is %s, before that",
				set.Slot, v.Position(ctx, c.Source, from), set.StartFrom)
		}
		return at, err
	}
	from, err := v.makeCapture(ctx, c, s.Source, s.Plans)
	if err != nil || set.StartFrom == "" {
		return from, err
	}
	at, err := v.resolvePlace(ctx, c, s.Source, set.StartFrom)
	if err != nil {
		return 0, err
	}
	if e, err := v.Store.Database(ctx, c.Source); err != nil || e.Engine == "mariadb" {
		return at, err
	}
	// A log of this kind can only be read from where a slot was made.
	if at < from {
		return 0, domain.Conflict("the source can give changes from log position %s on, where the slot of %s was made just "+
			"now; %s is before that. Before a copy is made there has to be a slot: CREATE PUBLICATION dusty FOR TABLE …; "+
			"SELECT pg_create_logical_replication_slot('dusty', 'pgoutput'); name it with --slot",
			v.Position(ctx, c.Source, from), c.Name, set.StartFrom)
	}
	return at, nil
}

// resolvePlace reads a place that a person gave: a position, or a name that all servers of one
// history share.
func (v *Voyage) resolvePlace(ctx context.Context, c *domain.Crossing, src *engine.Opened,
	text string) (domain.Position, error) {
	d, err := v.Store.Database(ctx, c.Source)
	if err != nil {
		return 0, err
	}
	driver, err := v.Driver(d.Engine)
	if err != nil {
		return 0, err
	}
	if at, err := driver.ParsePosition(strings.TrimSpace(text)); err == nil && at > 0 {
		return at, nil
	}
	return src.ResolveGTID(ctx, strings.TrimSpace(text))
}

// mindStop keeps in mind where a person wants capture to stop.
func (f *follower) mindStop(ctx context.Context) {
	c, err := f.v.Store.CrossingByID(ctx, f.c.ID)
	if err != nil {
		return
	}
	d, err := f.v.Store.Database(ctx, c.Source)
	if err != nil {
		return
	}
	driver, err := f.v.Driver(d.Engine)
	if err != nil {
		return
	}
	stop, err := parseStop(c.Settings.StopAt, driver)
	if err != nil || stop == nil || f.v.loadsYet(&c) {
		f.stop.Store(nil)
		return
	}
	if now := f.stop.Load(); now != nil && now.text == stop.text && now.at != follow.FarAway {
		return
	}
	f.mu.Lock()
	if stop.clock > 0 && f.sourceTime().UnixMicro() > stop.clock+int64(time.Second/time.Microsecond) {
		stop.at = f.sourceAt // asked for when it was later already
	}
	f.mu.Unlock()
	f.stop.Store(stop)
}

// loadsYet reports whether a load is under way, which has to end first.
func (v *Voyage) loadsYet(c *domain.Crossing) bool {
	return c.Phase == domain.PhaseLoading && c.Kind != domain.KindCapture
}

// stopped pauses the crossing where a person wanted it.
func (f *follower) stopped(ctx context.Context, stop *stopping) error {
	f.mu.Lock()
	at := f.applied
	f.mu.Unlock()
	text := fmt.Sprintf("capture stopped at log position %s, as stop_at says (%s): all that was committed before is "+
		"applied. Resume with another stop_at, or with none, to go on; the source keeps its log until then",
		f.v.Position(ctx, f.c.Source, at), stop.text)
	if _, err := f.v.Store.SetCondition(ctx, f.c.ID, []domain.Condition{domain.ConditionRunning, domain.ConditionHeld,
		domain.ConditionPaused}, domain.ConditionPaused, text, false); err != nil {
		return err
	}
	f.v.Say(ctx, "warning", System, f.c.Name, "capture", "pause", "%s", text)
	f.v.Notify(ctx, f.c, journal.EventHeld, text)
	return errToldToStop
}
