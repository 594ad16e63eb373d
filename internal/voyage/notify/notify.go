// Package notify sends webhooks what they asked for: signed, in order, and again until they
// take it.
package notify

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/outgoing"
)

// Records are where webhooks, and what is on its way to them, are kept.
type Records interface {
	AddWebhook(ctx context.Context, w domain.Webhook) error
	Webhook(ctx context.Context, name string) (domain.Webhook, error)
	WebhookByID(ctx context.Context, id int64) (domain.Webhook, error)
	AddDelivery(ctx context.Context, webhook int64, event, body string) error
	// WebhooksDue lists those to which something is to be sent now.
	WebhooksDue(ctx context.Context) ([]int64, error)
	// ClaimDelivery takes the oldest that waits; nil: none, or somebody else sends.
	ClaimDelivery(ctx context.Context, webhook int64) (*domain.Delivery, error)
	Delivered(ctx context.Context, d *domain.Delivery, answer string) error
	// NotDelivered has it tried again after wait; what is older than old is given up.
	NotDelivered(ctx context.Context, d *domain.Delivery, answer string, wait, old time.Duration) error
}

// Box seals secrets.
type Box interface {
	Seal(plain, bound string) []byte
	Open(sealed []byte, bound string) (string, error)
}

// Journal records what people do.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
}

// Notifier sends to webhooks.
type Notifier struct {
	records Records
	box     Box
	journal Journal
	fault   func(error) bool // logs a fault
}

// New returns a notifier. fault is given what went wrong in a sending.
func New(r Records, b Box, j Journal, fault func(error) bool) *Notifier {
	return &Notifier{records: r, box: b, journal: j, fault: fault}
}

// AddWebhook keeps an address to be told of events. uid is what its secret is bound to.
func (n *Notifier) AddWebhook(ctx context.Context, w domain.Webhook, uid, secret, actor string) error {
	if err := domain.ValidName(w.Name); err != nil {
		return err
	}
	u, err := url.Parse(w.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return domain.Invalid("the address %q cannot be called; write it like https://host/path", w.URL)
	}
	if len(secret) < 16 {
		return domain.Invalid("the secret has %d characters; give at least 16, as whoever knows it can pretend to be "+
			"this service", len(secret))
	}
	if _, err := Sign(secret, "", "", nil); err != nil {
		return err
	}
	for _, e := range w.Events {
		if !slices.Contains(journal.Events, e) {
			return domain.Invalid("there is no event %q; choose from %s", e, strings.Join(journal.Events, ", "))
		}
	}
	if w.Crossings == "" {
		w.Crossings = "*"
	}
	w.UID = &uid
	w.Secret = n.box.Seal(secret, w.Bound())
	if err := n.records.AddWebhook(ctx, w); err != nil {
		return err
	}
	n.journal.Recordf(ctx, "info", actor, "", w.Name, "webhook", "%s added the webhook %s to %s", actor, w.Name, u.Host)
	return nil
}

// TestWebhook sends a webhook something to see whether it arrives.
func (n *Notifier) TestWebhook(ctx context.Context, name, actor string) error {
	w, err := n.records.Webhook(ctx, name)
	if err != nil {
		return err
	}
	body, err := json.Marshal(journal.Notice{Event: journal.EventTest, Message: actor + " tries this webhook",
		At: time.Now().UTC()})
	if err != nil {
		return err
	}
	return n.records.AddDelivery(ctx, w.ID, journal.EventTest, string(body))
}

// keepTrying is how long a webhook is tried with the same thing. What is older when it still
// takes nothing is given up.
const keepTrying = 26 * time.Hour

// Deliver sends what is due until the context ends, on every process: to each webhook one
// thing after the other, in order, and to all of them side by side, so that a slow one keeps
// no other waiting. tick says when to look.
func (n *Notifier) Deliver(ctx context.Context, tick <-chan time.Time) {
	var mu sync.Mutex
	busy := map[int64]bool{}
	var sending sync.WaitGroup
	defer sending.Wait()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick:
		}
		due, err := n.records.WebhooksDue(ctx)
		if err != nil {
			continue
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
				n.fault(domain.Guarded("telling a webhook", func() error { n.deliverTo(ctx, id); return nil }))
			})
		}
	}
}

// deliverTo sends a webhook what waits for it, until it does not take something.
func (n *Notifier) deliverTo(ctx context.Context, id int64) {
	for ctx.Err() == nil {
		d, err := n.records.ClaimDelivery(ctx, id)
		if err != nil || d == nil {
			return
		}
		w, err := n.records.WebhookByID(ctx, id)
		if err != nil {
			return
		}
		answer, err := n.send(ctx, &w, d)
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		if err == nil {
			err = n.records.Delivered(end, d, answer)
		} else {
			wait := backOff(w.Failures)
			err = cmp.Or(n.records.NotDelivered(end, d, err.Error(), wait+rand.N(wait/4+1), keepTrying), err)
		}
		cancel()
		if err != nil { // at its next time
			return
		}
	}
}

// backOff is how long a webhook is left alone that did not take so many things in a row.
func backOff(failures int) time.Duration { return min(5*time.Second<<min(failures, 12), 4*time.Hour) }

// send posts one delivery, by the headers that many receivers know: its id, the same at every
// try; the time, seconds since 1970; and the version of the signature with the signature.
func (n *Notifier) send(ctx context.Context, w *domain.Webhook, d *domain.Delivery) (string, error) {
	secret, err := n.box.Open(w.Secret, w.Bound())
	if err != nil {
		return "", err
	}
	id, at := fmt.Sprintf("dusty-%d", d.ID), strconv.FormatInt(time.Now().Unix(), 10)
	signature, err := Sign(secret, id, at, []byte(d.Body))
	if err != nil {
		return "", err
	}
	return outgoing.Post(ctx, w.URL, []byte(d.Body), map[string]string{"Webhook-Id": id, "Webhook-Timestamp": at,
		"Webhook-Signature": signature})
}

// encodedSecret begins a secret that is the base64 of its bytes; any other is its own bytes.
const encodedSecret = "whsec_"

// Sign returns the signature of a message, "v1," and the base64 of the HMAC-SHA-256 (RFC 2104)
// of id, time and body with full stops between them.
func Sign(secret, id, at string, body []byte) (string, error) {
	key := []byte(secret)
	if encoded, ok := strings.CutPrefix(secret, encodedSecret); ok {
		var err error
		if key, err = base64.StdEncoding.DecodeString(encoded); err != nil {
			return "", domain.Invalid("what follows %s in a webhook's secret must be base64", encodedSecret)
		}
	}
	h := hmac.New(sha256.New, key)
	_, _ = h.Write([]byte(id + "." + at + "."))
	_, _ = h.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(h.Sum(nil)), nil
}
