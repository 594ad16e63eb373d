package voyage

import (
	"context"
	"fmt"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/journal"
)

// The log that sources keep for crossings is the scarcest thing on them: a source whose
// disk is full of it stops. It is watched whether or not anybody follows the crossing just
// then, as it grows most while nobody does.

// watchEvery is how often sources are asked.
const watchEvery = 5 * time.Second

// nearLimit is the share of a limit from which people are warned.
const nearLimit = 0.8

// watchRetainedLog asks every source how much log it keeps for the crossings.
func (v *Voyage) watchRetainedLog(ctx context.Context) error {
	list, err := v.Store.Followed(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		limit, cancel := context.WithTimeout(ctx, 10*time.Second)
		if err := v.checkRetainedLog(limit, &list[i]); err != nil && ctx.Err() == nil {
			v.Log.Warn("the source cannot be asked for the log that it keeps", "crossing", list[i].Name, "error", err)
		}
		cancel()
	}
	return nil
}

func (v *Voyage) checkRetainedLog(ctx context.Context, f *records.Followed) error {
	c := &f.Crossing
	src, err := v.Open(ctx, c.Source)
	if err != nil {
		return err
	}
	r, err := src.Retained(ctx, c.CaptureName(), domain.Position(f.Applied))
	if err != nil {
		return err
	}
	at := domain.Position(f.SourceAt)
	if r.Held { // nobody may have asked the source of late
		at = r.From + domain.Position(r.Bytes)
	}
	if err := v.Store.SaveRetained(ctx, c.ID, r.Bytes, r.From, at); err != nil {
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
	if err := v.Store.ToldOfRetained(ctx, c.ID, told); err != nil {
		return err
	}
	size := func(n int64) string { return fmt.Sprintf("%.1f MB", float64(n)/1e6) }
	switch {
	case told == 2 && set.RetainedOver == "release":
		return v.release(ctx, c, fmt.Sprintf("the source kept %s of log for %s, more than the %s that were allowed",
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
		v.Say(ctx, "warning", System, c.Name, "capture", "log", "%s", text)
		v.Notify(ctx, c, journal.EventLog, text)
	case told == 0:
		text := fmt.Sprintf("the source keeps %s of log for %s, well below its limit again", size(r.Bytes), c.Name)
		v.Say(ctx, "info", System, c.Name, "capture", "log", "%s", text)
		v.Notify(ctx, c, journal.EventLog, text)
	}
	return nil
}

// release gives the log up for the source's sake. Changes are lost with it, so the
// crossing waits for a person to load again.
func (v *Voyage) release(ctx context.Context, c *domain.Crossing, why string) error {
	src, err := v.Open(ctx, c.Source)
	if err != nil {
		return err
	}
	if _, err := v.Store.KickStream(ctx, c.ID); err != nil { // whoever follows ends
		return err
	}
	text := why + ". It was released, as the crossing says (retained_over), and the changes in it are lost for the " +
		"target: restart the crossing to load again"
	v.Hold(ctx, c, "capture", text)
	if err := src.DropCapture(ctx, c.CaptureName(), nil); err != nil {
		return fmt.Errorf("%s could not be released: %w", c.CaptureName(), err)
	}
	if err := v.Store.HoldStream(ctx, c.ID, text); err != nil {
		return err
	}
	v.Notify(ctx, c, journal.EventLog, text)
	return nil
}

// watchLag tells of lags over the limit that their crossing sets, and below it again.
func (v *Voyage) watchLag(ctx context.Context) error {
	list, err := v.Store.Lags(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		c := &list[i].Crossing
		limit, lag := c.Settings.LagLimit, list[i].LagSeconds+max(0, list[i].Silent-5) // nobody measures while nobody follows
		over := limit > 0 && lag > limit.Seconds()
		fresh, err := v.Store.LagTold(ctx, c.ID, over)
		if err != nil {
			return err
		}
		if !fresh {
			continue
		}
		severity, text := "info", fmt.Sprintf("the lag of %s is %.1f s, below its limit again", c.Name, lag)
		if over {
			severity, text = "warning", fmt.Sprintf("the lag of %s is %.0f s, over its limit of %s", c.Name, lag, limit)
		}
		v.Say(ctx, severity, System, c.Name, "capture", "lag", "%s", text)
		v.Notify(ctx, c, journal.EventLag, text)
	}
	return nil
}
