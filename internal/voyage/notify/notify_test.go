package notify

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/internal/domain"
)

// box seals by writing what it is bound to beside the secret.
type box struct{}

func (box) Seal(plain, bound string) []byte { return []byte(bound + "|" + plain) }
func (box) Open(sealed []byte, bound string) (string, error) {
	plain, ok := strings.CutPrefix(string(sealed), bound+"|")
	if !ok {
		return "", errors.New("the secret was sealed for another place")
	}
	return plain, nil
}

type lines struct {
	mu   sync.Mutex
	said []string
}

func (l *lines) Recordf(_ context.Context, _, _, _, _, act, format string, args ...any) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.said = append(l.said, act+": "+fmt.Sprintf(format, args...))
}

// outbox is webhooks and what is on its way to them, in memory.
type outbox struct {
	mu    sync.Mutex
	hooks []domain.Webhook
	queue []domain.Delivery
	done  []string
	waits []time.Duration
	moved chan struct{}
}

func (o *outbox) AddWebhook(_ context.Context, w domain.Webhook) error {
	w.ID = int64(len(o.hooks) + 1)
	o.hooks = append(o.hooks, w)
	return nil
}

func (o *outbox) Webhook(_ context.Context, name string) (domain.Webhook, error) {
	for _, w := range o.hooks {
		if w.Name == name {
			return w, nil
		}
	}
	return domain.Webhook{}, domain.NotFound("no %s", name)
}

func (o *outbox) WebhookByID(_ context.Context, id int64) (domain.Webhook, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.hooks[id-1], nil
}

func (o *outbox) AddDelivery(_ context.Context, webhook int64, event, body string) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.queue = append(o.queue, domain.Delivery{ID: int64(len(o.queue) + 1), WebhookID: webhook, Event: event, Body: body})
	return nil
}

func (o *outbox) WebhooksDue(context.Context) ([]int64, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	var out []int64
	for _, d := range o.queue {
		out = append(out, d.WebhookID)
	}
	return out, nil
}

func (o *outbox) ClaimDelivery(_ context.Context, webhook int64) (*domain.Delivery, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, d := range o.queue {
		if d.WebhookID == webhook {
			return &d, nil
		}
	}
	return nil, nil
}

func (o *outbox) Delivered(_ context.Context, d *domain.Delivery, answer string) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.queue = o.queue[1:]
	o.done = append(o.done, fmt.Sprintf("%s %s", d.Event, answer))
	o.moved <- struct{}{}
	return nil
}

func (o *outbox) NotDelivered(_ context.Context, _ *domain.Delivery, answer string, wait, old time.Duration) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.hooks[0].Failures++
	o.waits = append(o.waits, wait)
	o.done = append(o.done, "not: "+answer)
	o.moved <- struct{}{}
	return nil
}

func opened(t *testing.T, url string) (*Notifier, *outbox, *lines) {
	t.Helper()
	o, l := &outbox{moved: make(chan struct{}, 100)}, &lines{}
	n := New(o, box{}, l, func(err error) bool {
		if err != nil {
			t.Errorf("a fault: %v", err)
		}
		return err != nil
	})
	if err := n.AddWebhook(t.Context(), domain.Webhook{Name: "ops", URL: url}, "uid", "a long enough secret",
		"ann"); err != nil {
		t.Fatal(err)
	}
	return n, o, l
}

func TestWhatAWebhookMayBe(t *testing.T) {
	n, o, l := opened(t, "https://hooks.example/x")
	if w := o.hooks[0]; w.Crossings != "*" || strings.Contains(string(w.Secret), "|") == false || len(l.said) != 1 ||
		strings.Contains(l.said[0], "secret") {
		t.Errorf("kept %+v, said %q", w, l.said)
	}
	for word, w := range map[string]domain.Webhook{
		"name":     {Name: "a b", URL: "https://x"},
		"address":  {Name: "a", URL: "ftp://x"},
		"no event": {Name: "a", URL: "https://x", Events: []string{"rain"}},
	} {
		if err := n.AddWebhook(t.Context(), w, "uid", "a long enough secret", "ann"); err == nil ||
			!strings.Contains(err.Error(), word) {
			t.Errorf("%s: %v", word, err)
		}
	}
	if err := n.AddWebhook(t.Context(), domain.Webhook{Name: "a", URL: "https://x"}, "uid", "short", "ann"); err == nil {
		t.Error("a short secret was taken")
	}
}

// TestSignedInOrderAndAgain: what is not taken is tried again later, and nothing overtakes it.
func TestSignedInOrderAndAgain(t *testing.T) {
	var mu sync.Mutex
	var took []string
	refuse := true
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		b, _ := io.ReadAll(r.Body)
		h := hmac.New(sha256.New, []byte("a long enough secret"))
		_, _ = h.Write([]byte(r.Header.Get("webhook-id") + "." + r.Header.Get("webhook-timestamp") + "." + string(b)))
		if "v1,"+base64.StdEncoding.EncodeToString(h.Sum(nil)) != r.Header.Get("webhook-signature") {
			t.Errorf("the signature of %s is wrong", b)
		}
		if refuse {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		took = append(took, r.Header.Get("webhook-id"))
	}))
	defer srv.Close()
	n, o, _ := opened(t, srv.URL)
	if err := n.TestWebhook(t.Context(), "ops", "ann"); err != nil {
		t.Fatal(err)
	}
	if err := n.TestWebhook(t.Context(), "none", "ann"); err == nil {
		t.Error("a webhook that is not there was tested")
	}
	_ = o.AddDelivery(t.Context(), 1, "held", "{}")
	ctx, cancel := context.WithCancel(t.Context())
	tick, ended := make(chan time.Time), make(chan struct{})
	go func() { n.Deliver(ctx, tick); close(ended) }()
	tick <- time.Now()
	<-o.moved
	mu.Lock()
	refuse = false
	mu.Unlock()
	for range 2 { // until both have gone: a round may find the webhook busy
		for waiting := true; waiting; {
			select {
			case tick <- time.Now():
				time.Sleep(time.Millisecond)
			case <-o.moved:
				waiting = false
			}
		}
	}
	cancel()
	<-ended
	mu.Lock()
	defer mu.Unlock()
	if strings.Join(took, ", ") != "dusty-1, dusty-2" {
		t.Errorf("it took %q", took)
	}
	if len(o.waits) == 0 || o.waits[0] < 5*time.Second || o.waits[0] > 7*time.Second ||
		!strings.Contains(o.done[0], "503") {
		t.Errorf("after a no it waits %v: %q", o.waits, o.done)
	}
}

func TestHowLongAWebhookIsLeftAlone(t *testing.T) {
	for failures, want := range map[int]time.Duration{0: 5 * time.Second, 1: 10 * time.Second, 6: 320 * time.Second,
		12: 4 * time.Hour, 4000: 4 * time.Hour} {
		if got := backOff(failures); got != want {
			t.Errorf("after %d failures: %s, want %s", failures, got, want)
		}
	}
}

// TestASignatureThatOthersCanMake holds the form against a message signed by other means:
// printf 'dusty-1.1700000000.{}' | openssl dgst -sha256 -hmac salt -binary | base64
func TestASignatureThatOthersCanMake(t *testing.T) {
	const want = "v1,ABiKCjyDon4QMwgjWXULkuUY2XhgxEoQ+e3V4hmS9dk="
	for _, secret := range []string{"salt", "whsec_c2FsdA=="} {
		if got, err := Sign(secret, "dusty-1", "1700000000", []byte("{}")); err != nil || got != want {
			t.Errorf("%s: %s, %v", secret, got, err)
		}
	}
	if _, err := Sign("whsec_no base64", "", "", nil); err == nil {
		t.Error("a secret that cannot be read was taken")
	}
}

// TestASecretOfAnotherPlaceSendsNothing: whoever can write to the records may not have a
// secret used for another address.
func TestASecretOfAnotherPlaceSendsNothing(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("something was sent") }))
	defer srv.Close()
	n, o, _ := opened(t, "http://127.0.0.1:1/hook")
	o.hooks[0].URL = srv.URL
	_ = o.AddDelivery(t.Context(), 1, "held", "{}")
	n.deliverTo(t.Context(), 1)
	if len(o.done) != 1 || !strings.Contains(o.done[0], "another place") {
		t.Errorf("%q", o.done)
	}
}
