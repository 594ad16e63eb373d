package voyage

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

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
var Events = []string{EventLoaded, EventInStep, EventHeld, EventFailed, EventLag, EventLog, EventDiffers, EventCutOver, EventUndone}

// notice is what a webhook is sent.
type notice struct {
	Event     string    `json:"event"`
	Crossing  string    `json:"crossing,omitempty"`
	Phase     string    `json:"phase,omitempty"`
	Condition string    `json:"condition,omitempty"`
	Message   string    `json:"message"`
	At        time.Time `json:"at"`
}

// tell puts an event of a crossing on its way to every webhook that asks for it.
func (v *Voyage) tell(ctx context.Context, c *domain.Crossing, event, message string) {
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	list, err := v.Store.Webhooks(end)
	if err != nil {
		v.Log.Warn("webhooks could not be read", "error", err)
		return
	}
	if len(list) == 0 {
		return
	}
	n := notice{Event: event, Crossing: c.Name, Message: message, At: time.Now().UTC()}
	if now, err := v.Store.CrossingByID(end, c.ID); err == nil {
		n.Phase, n.Condition = string(now.Phase), string(now.Condition)
	}
	body, err := json.Marshal(n)
	if err != nil {
		return
	}
	for _, w := range list {
		if len(w.Events.V) > 0 && !slices.Contains(w.Events.V, event) || !domain.Like(w.Crossings, c.Name) {
			continue
		}
		if err := v.Store.AddDelivery(end, w.ID, event, string(body)); err != nil {
			v.Log.Warn("a webhook's event could not be kept", "webhook", w.Name, "error", err)
		}
	}
}

// AddWebhook keeps an address to be told of events.
func (v *Voyage) AddWebhook(ctx context.Context, w records.Webhook, secret, actor string) error {
	if err := domain.ValidName(w.Name); err != nil {
		return err
	}
	u, err := url.Parse(w.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return domain.Invalid("the address %q cannot be called; write it like https://host/path", w.URL)
	}
	if len(secret) < 16 {
		return domain.Invalid("the secret has %d characters; give at least 16, as whoever knows it can pretend to be this service", len(secret))
	}
	for _, e := range w.Events.V {
		if !slices.Contains(Events, e) {
			return domain.Invalid("there is no event %q; choose from %s", e, strings.Join(Events, ", "))
		}
	}
	if w.Crossings == "" {
		w.Crossings = "*"
	}
	uid := records.NewUID()
	w.UID = &uid
	w.Secret = v.Box.Seal(secret, w.Bound())
	if err := v.Store.AddWebhook(ctx, w); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, "", w.Name, "webhook", "%s added the webhook %s to %s", actor, w.Name, u.Host)
	return nil
}

// TestWebhook sends a webhook something to see whether it arrives.
func (v *Voyage) TestWebhook(ctx context.Context, name, actor string) error {
	w, err := v.Store.Webhook(ctx, name)
	if err != nil {
		return err
	}
	body, err := json.Marshal(notice{Event: EventTest, Message: actor + " tries this webhook", At: time.Now().UTC()})
	if err != nil {
		return err
	}
	return v.Store.AddDelivery(ctx, w.ID, EventTest, string(body))
}

// keepTrying is how long a webhook is tried with the same thing. What is older when it still
// takes nothing is given up.
const keepTrying = 26 * time.Hour

// deliver sends what is due, on every process: to each webhook one thing after the other, in
// order, and to all of them side by side, so that one that is slow keeps no other waiting.
func (v *Voyage) deliver(ctx context.Context) {
	var mu sync.Mutex
	busy := map[int64]bool{}
	var sending sync.WaitGroup
	defer sending.Wait()
	every(ctx, time.Second, func() {
		due, err := v.Store.WebhooksDue(ctx)
		if err != nil {
			return
		}
		for _, id := range due {
			mu.Lock()
			taken := busy[id]
			busy[id] = true
			mu.Unlock()
			if taken {
				continue
			}
			sending.Go(func() {
				defer func() {
					mu.Lock()
					defer mu.Unlock()
					delete(busy, id)
				}()
				v.logFault(domain.Guarded("telling a webhook", func() error { v.deliverTo(ctx, id); return nil }))
			})
		}
	})
}

// deliverTo sends a webhook what waits for it, until it does not take something.
func (v *Voyage) deliverTo(ctx context.Context, id int64) {
	for ctx.Err() == nil {
		d, err := v.Store.ClaimDelivery(ctx, id)
		if err != nil || d == nil {
			return
		}
		w, err := v.Store.WebhookByID(ctx, id)
		if err != nil {
			return
		}
		answer, err := v.send(ctx, &w, d)
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		if err == nil {
			err = v.Store.Delivered(end, d, answer)
		} else {
			wait := min(5*time.Second<<min(w.Failures, 12), 4*time.Hour)
			err = cmp.Or(v.Store.NotDelivered(end, d, err.Error(), wait+rand.N(wait/4+1), keepTrying), err)
		}
		cancel()
		if err != nil { // at its next time
			return
		}
	}
}

// send posts one delivery. Its signature is the hexadecimal HMAC-SHA-256 (RFC 2104), by
// the webhook's secret, of the time in the header, a full stop, and the body.
func (v *Voyage) send(ctx context.Context, w *records.Webhook, d *records.Delivery) (string, error) {
	secret, err := v.Box.Open(w.Secret, w.Bound())
	if err != nil {
		return "", err
	}
	at := strconv.FormatInt(time.Now().Unix(), 10)
	h := hmac.New(sha256.New, []byte(secret))
	_, _ = h.Write([]byte(at + "." + d.Body))
	return post(ctx, w.URL, []byte(d.Body), map[string]string{
		"Dusty-Ferry-Event": d.Event, "Dusty-Ferry-Delivery": strconv.FormatInt(d.ID, 10), "Dusty-Ferry-Time": at, "Dusty-Ferry-Signature": hex.EncodeToString(h.Sum(nil))})
}

// refusedBy is an answer that says no, as against none.
type refusedBy struct{ status string }

func (r refusedBy) Error() string { return "it answered " + r.status }

func answered(err error) bool { return errors.As(err, new(refusedBy)) }

// post sends a JSON document and returns what was answered; anything but 2xx is an error,
// a redirection too.
func post(ctx context.Context, url string, body []byte, headers map[string]string) (string, error) {
	limit, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(limit, http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return "", domain.Invalid("the address %q cannot be called: %s", url, err)
	}
	req.Header.Set("Content-Type", "application/json")
	for name, value := range headers {
		req.Header.Set(name, value)
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(req)
	if err != nil {
		return "", err
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 1<<20))
	_ = res.Body.Close()
	if res.StatusCode/100 != 2 {
		return "", refusedBy{res.Status}
	}
	return res.Status, nil
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
		v.tell(ctx, c, EventLag, text)
	}
	return nil
}
