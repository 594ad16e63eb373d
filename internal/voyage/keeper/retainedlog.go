package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
)

// RetainedLog watches the log that sources keep for crossings.
type RetainedLog struct {
	Records interface {
		Followed(ctx context.Context) ([]domain.FollowedCrossing, error)
		SaveRetained(ctx context.Context, crossing, bytes int64, from, at domain.Position) error
		ToldOfRetained(ctx context.Context, crossing int64, told int) error
		// KickStream makes whoever follows an old one.
		KickStream(ctx context.Context, crossing int64) (int64, error)
		// HoldStream lets nobody follow until a person resumes or restarts the crossing.
		HoldStream(ctx context.Context, crossing int64, cause string) error
	}
	Databases Databases
	Journal   interface {
		Journal
		Hold(ctx context.Context, c *domain.Crossing, subject, reason string)
	}
	Log *slog.Logger
}

// The log that sources keep for crossings is the scarcest thing on them: a source whose
// disk is full of it stops. It is watched whether or not anybody follows the crossing just
// then, as it grows most while nobody does.

// nearLimit is the share of a limit from which people are warned.
const nearLimit = 0.8

// Do asks every source how much log it keeps for the crossings.
func (l *RetainedLog) Do(ctx context.Context) error {
	list, err := l.Records.Followed(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		limit, cancel := context.WithTimeout(ctx, 10*time.Second)
		if err := l.check(limit, &list[i]); err != nil && ctx.Err() == nil {
			l.Log.Warn("the source cannot be asked for the log that it keeps", "crossing", list[i].Name, "error", err)
		}
		cancel()
	}
	return nil
}

func (l *RetainedLog) check(ctx context.Context, f *domain.FollowedCrossing) error {
	c := &f.Crossing
	src, err := l.Databases.Open(ctx, c.Source)
	if err != nil {
		return err
	}
	r, err := src.Retained(ctx, c.CaptureName(), f.Applied)
	if err != nil {
		return err
	}
	at := r.To // nobody may have asked the source of late
	if at.IsZero() {
		at = f.SourceAt
	}
	if err := l.Records.SaveRetained(ctx, c.ID, r.Bytes, r.From, at); err != nil {
		return err
	}
	set := c.Settings
	told := 0
	switch limit := float64(set.RetainedLimit); {
	case limit == 0 || !r.Held && set.RetainedOver == "release": // what the server keeps by itself cannot be released
	case float64(r.Bytes) >= limit:
		told = 2
	case float64(r.Bytes) >= limit*nearLimit:
		told = 1
	}
	if told == f.Told {
		return nil
	}
	if err := l.Records.ToldOfRetained(ctx, c.ID, told); err != nil {
		return err
	}
	size := func(n int64) string { return fmt.Sprintf("%.1f MB", float64(n)/1e6) }
	switch {
	case told == 2 && set.RetainedOver == "release":
		return l.release(ctx, c, fmt.Sprintf("the source kept %s of log for %s, more than the %s that were allowed",
			size(r.Bytes), c.Name, size(set.RetainedLimit)))
	case told > f.Told:
		text := fmt.Sprintf("the source keeps %s of log for %s, and %s are allowed (retained_limit)", size(r.Bytes), c.Name,
			size(set.RetainedLimit))
		switch {
		case told == 2:
			text += "; capture goes on, as the crossing says: see what holds it up, or give the log more room"
		case set.RetainedOver == "release":
			text += "; there, the log is released and the crossing has to be loaded again"
		}
		l.Journal.Recordf(ctx, "warning", journal.System, c.Name, "capture", "log", "%s", text)
		l.Journal.Notify(ctx, c, journal.EventLog, text)
	case told == 0:
		text := fmt.Sprintf("the source keeps %s of log for %s, well below its limit again", size(r.Bytes), c.Name)
		l.Journal.Recordf(ctx, "info", journal.System, c.Name, "capture", "log", "%s", text)
		l.Journal.Notify(ctx, c, journal.EventLog, text)
	}
	return nil
}

// release gives the log up for the source's sake. Changes are lost with it, so the
// crossing waits for a person to load again.
func (l *RetainedLog) release(ctx context.Context, c *domain.Crossing, why string) error {
	src, err := l.Databases.Open(ctx, c.Source)
	if err != nil {
		return err
	}
	if _, err := l.Records.KickStream(ctx, c.ID); err != nil { // whoever follows ends
		return err
	}
	text := why + ". It was released, as the crossing says (retained_over), and the changes in it are lost for the " +
		"target: restart the crossing to load again"
	l.Journal.Hold(ctx, c, "capture", text)
	if err := src.DropCapture(ctx, c.CaptureName(), nil); err != nil {
		return fmt.Errorf("%s could not be released: %w", c.CaptureName(), err)
	}
	if err := l.Records.HoldStream(ctx, c.ID, text); err != nil {
		return err
	}
	l.Journal.Notify(ctx, c, journal.EventLog, text)
	return nil
}
