// Package journal records what happens, for people: lines of the journal, the reason why a
// crossing is held, and the events that webhooks ask for. It never fails its caller: what
// cannot be recorded is logged.
package journal

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"dustyferry/internal/domain"
)

// System is the actor the journal names for what the service does by itself.
const System = "dusty ferry"

// The events that webhooks are told of.
const (
	EventLoaded  = "loaded"   // every row has landed
	EventInStep  = "in step"  // below its lag: a cutover can be thought of
	EventHeld    = "held"     // waits for a person
	EventFailed  = "failed"   // a run, a comparison or a cutover did not come about
	EventLag     = "lag"      // over the limit of the crossing, or below it again
	EventLog     = "log"      // what the source keeps comes near its limit, is over it, or below it again
	EventDiffers = "differs"  // a comparison has findings
	EventCutOver = "cut over" // the target has taken over
	EventUndone  = "undone"   // a cutover was undone; the source takes writes
	EventTest    = "test"
)

// Events are all that a webhook can ask for.
var Events = []string{EventLoaded, EventInStep, EventHeld, EventFailed, EventLag, EventLog, EventDiffers, EventCutOver,
	EventUndone}

// Records are what the journal keeps its lines in.
type Records interface {
	Write(ctx context.Context, e domain.JournalEntry) error
	// Hold makes a crossing wait for a person, and reports whether it does so now.
	Hold(ctx context.Context, crossing int64, reason string) (bool, error)
	SetTrouble(ctx context.Context, crossing int64, text string) (bool, error)
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	Webhooks(ctx context.Context) ([]domain.Webhook, error)
	AddDelivery(ctx context.Context, webhook int64, event, body string) error
}

// Journal writes to the records and to the log.
type Journal struct {
	records Records
	log     *slog.Logger
}

// New returns a journal.
func New(r Records, log *slog.Logger) *Journal { return &Journal{records: r, log: log} }

// Notice is what a webhook is sent.
type Notice struct {
	Event     string    `json:"event"`
	Crossing  string    `json:"crossing,omitempty"`
	Phase     string    `json:"phase,omitempty"`
	Condition string    `json:"condition,omitempty"`
	Message   string    `json:"message"`
	At        time.Time `json:"at"`
}

// patience bounds the writing of one line: it is written also when the work it tells of was
// called off.
const patience = 5 * time.Second

// Recordf appends a line to the journal and to the log.
func (j *Journal) Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any) {
	j.Record(ctx, domain.JournalEntry{Actor: actor, Crossing: crossing, Subject: subject, Act: act, Severity: severity,
		Message: fmt.Sprintf(format, args...)})
}

// Record appends an entry to the journal, and its message to the log.
func (j *Journal) Record(ctx context.Context, e domain.JournalEntry) {
	level := map[string]slog.Level{"warning": slog.LevelWarn, "error": slog.LevelError}[e.Severity]
	j.log.Log(ctx, level, e.Message, "crossing", e.Crossing, "act", e.Act, "subject", e.Subject, "actor", e.Actor)
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	if err := j.records.Write(end, e); err != nil {
		j.log.Error("the journal could not be written", "error", err)
	}
}

// Hold makes a crossing wait for a person. One that is paused stays so, and shows the reason
// beside its pause; one that is closed waits for nothing any more.
func (j *Journal) Hold(ctx context.Context, c *domain.Crossing, subject, reason string) {
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	held, err := j.records.Hold(end, c.ID, reason)
	if err == nil && !held {
		_, err = j.records.SetTrouble(end, c.ID, reason)
	}
	if err != nil {
		j.log.Error("the crossing could not be held", "crossing", c.Name, "error", err)
	}
	j.Held(end, c, subject, reason)
}

// Held says that a crossing waits for a person.
func (j *Journal) Held(ctx context.Context, c *domain.Crossing, subject, reason string) {
	j.Recordf(ctx, "error", System, c.Name, subject, "hold", "%s", reason)
	j.Notify(ctx, c, EventHeld, reason)
}

// Troubled keeps, on the crossing itself, what keeps it from going on by itself, and says so
// once; without an error, that nothing does.
func (j *Journal) Troubled(ctx context.Context, c *domain.Crossing, doing string, err error) error {
	if ctx.Err() != nil || err == nil && c.Trouble == "" {
		return nil
	}
	text := ""
	if err != nil {
		text = fmt.Sprintf("%s: %s; it is tried again", doing, err)
	}
	fresh, kept := j.records.SetTrouble(ctx, c.ID, text)
	if kept == nil && fresh && text != "" {
		j.Recordf(ctx, "warning", System, c.Name, "", "keeper", "%s", text)
	}
	return kept
}

// Notify puts an event of a crossing on its way to every webhook that asks for it.
func (j *Journal) Notify(ctx context.Context, c *domain.Crossing, event, message string) {
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	list, err := j.records.Webhooks(end)
	if err != nil {
		j.log.Warn("webhooks could not be read", "error", err)
		return
	}
	if len(list) == 0 {
		return
	}
	n := Notice{Event: event, Crossing: c.Name, Message: message, At: time.Now().UTC()}
	if now, err := j.records.CrossingByID(end, c.ID); err == nil {
		n.Phase, n.Condition = string(now.Phase), string(now.Condition)
	}
	body, err := json.Marshal(n)
	if err != nil {
		j.log.Error("an event could not be written down", "event", event, "error", err)
		return
	}
	for _, w := range list {
		if len(w.Events) > 0 && !slices.Contains(w.Events, event) || !domain.Like(w.Crossings, c.Name) {
			continue
		}
		if err := j.records.AddDelivery(end, w.ID, event, string(body)); err != nil {
			j.log.Warn("a webhook's event could not be kept", "webhook", w.Name, "error", err)
		}
	}
}
