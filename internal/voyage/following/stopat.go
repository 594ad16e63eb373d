package following

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/core/follow"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
)

// stopping is where capture is to stop, as a person wrote it.
type stopping struct {
	follow.Stop
	text string
}

// mindStop keeps in mind where a person wants capture to stop.
func (f *follower) mindStop(ctx context.Context) {
	c, err := f.of.records.CrossingByID(ctx, f.c.ID)
	if err != nil {
		return
	}
	text := strings.TrimSpace(c.Settings.StopAt)
	if text == "" {
		f.stop.Store(nil)
		return
	}
	d, err := f.of.records.Database(ctx, c.Source)
	if err != nil {
		return
	}
	driver, err := f.of.databases.Driver(d.Engine)
	if err != nil {
		return
	}
	at, err := engine.ParseStop(driver, text)
	if err != nil || at == (follow.Stop{}) || loadsYet(&c) {
		f.stop.Store(nil)
		return
	}
	if now := f.stop.Load(); now != nil && now.text == text && now.At != domain.FarAway {
		return
	}
	f.mu.Lock()
	if at.Clock > 0 && f.sourceTime().UnixMicro() > at.Clock+time.Second.Microseconds() {
		at.At = f.sourceAt // asked for when it was later already
	}
	f.mu.Unlock()
	f.stop.Store(&stopping{at, text})
}

// loadsYet reports whether a load is under way, which has to end first.
func loadsYet(c *domain.Crossing) bool {
	return c.Phase == domain.PhaseLoading && c.Kind != domain.KindCapture
}

// stopped pauses the crossing where a person wanted it.
func (f *follower) stopped(ctx context.Context, stop *stopping) error {
	f.mu.Lock()
	at := f.applied
	f.mu.Unlock()
	text := fmt.Sprintf("capture stopped at log position %s, as stop_at says (%s): all that was committed before is "+
		"applied. Resume with another stop_at, or with none, to go on; the source keeps its log until then",
		f.of.databases.Position(ctx, f.c.Source, at), stop.text)
	if _, err := f.of.records.SetCondition(ctx, f.c.ID, []domain.Condition{domain.ConditionRunning, domain.ConditionHeld,
		domain.ConditionPaused}, domain.ConditionPaused, text, false); err != nil {
		return err
	}
	f.of.journal.Recordf(ctx, "warning", journal.System, f.c.Name, "capture", "pause", "%s", text)
	f.of.journal.Notify(ctx, f.c, journal.EventHeld, text)
	return errToldToStop
}
