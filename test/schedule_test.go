package test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// listener is a webhook's receiver. It refuses the first message of each kind.
type listener struct {
	*httptest.Server
	mu     sync.Mutex
	events []string // as they were accepted
	bad    []string
	seen   map[string]int
}

func listen(t *testing.T, secret string) *listener {
	l := &listener{seen: map[string]int{}}
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		h := hmac.New(sha256.New, []byte(secret))
		_, _ = h.Write([]byte(r.Header.Get("webhook-id") + "." + r.Header.Get("webhook-timestamp") + "." + string(body)))
		var n struct{ Event, Crossing, Message string }
		l.mu.Lock()
		defer l.mu.Unlock()
		if err := json.Unmarshal(body, &n); err != nil || n.Message == "" || n.Event == "" ||
			"v1,"+base64.StdEncoding.EncodeToString(h.Sum(nil)) != r.Header.Get("webhook-signature") {
			l.bad = append(l.bad, string(body))
		}
		if l.seen[n.Event]++; l.seen[n.Event] == 1 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		l.events = append(l.events, n.Event)
	}))
	t.Cleanup(l.Close)
	return l
}

func (l *listener) heard(event string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, e := range l.events {
		if e == event {
			return true
		}
	}
	return false
}

// TestASchedule lets a load start at a time and then repeat by a cron expression, with a
// listener that is told of it; runs that overlap or were missed are accounted for.
func TestASchedule(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.lots (id integer PRIMARY KEY, jars integer); INSERT INTO public.lots
  SELECT g, g FROM generate_series(1, 3000) g; ANALYZE`)
	f := start(t)
	const secret = "kelp and heather honey"
	hook := listen(t, secret)
	t.Setenv("DUSTYFERRY_WEBHOOK_SECRET", "short")
	if a := f.cli("webhook", "add", "pager", "--url", hook.URL); a.code == 0 || !strings.Contains(a.err, "at least 16") {
		t.Errorf("%+v", a)
	}
	t.Setenv("DUSTYFERRY_WEBHOOK_SECRET", secret)
	if a := f.cli("webhook", "add", "pager", "--url", hook.URL, "--event", "in step,failed,held", "--crossings",
		"spr*"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.cross(p, contract.Settings{}, "public.*")
	for _, wrong := range []struct {
		args []string
		want string
	}{
		{[]string{"--cron", "0 2 * * *", "--confirm", "new"}, "only crossings that do not follow changes"},
		{[]string{"--at", "yesterday"}, "write it like"},
		{[]string{"--at", "2020-01-01 02:00"}, "is over"},
		{nil, "give either the time"},
	} {
		if a := f.cli(append([]string{"schedule", "set", "spring"}, wrong.args...)...); a.code == 0 ||
			!strings.Contains(a.err, wrong.want) {
			t.Errorf("%v: %+v", wrong.args, a)
		}
	}
	if a := f.cli("crossing", "remove", "spring", "--confirm", "spring"); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("crossing", "create", "spring", "--follow-changes=false", "--source", "old", "--target", "new",
		"--table", "public.*"); a.code != 0 {
		t.Fatal(a.err)
	}
	if a := f.cli("schedule", "set", "spring", "--at", time.Now().Add(2*time.Second).UTC().Format(
		time.RFC3339)); a.code != 0 {
		t.Fatal(a.err)
	}
	f.awaitPhase(contract.PhaseInStep)
	sameEverywhere(t, p, "public")

	exec1(t, p.sourceURL(), `INSERT INTO public.lots SELECT g, g FROM generate_series(3001, 4500) g`)
	if a := f.cli("schedule", "set", "spring", "--cron", "0 2 * * *", "--zone", "Europe/Amsterdam"); a.code == 0 ||
		!strings.Contains(a.err, "confirm") {
		t.Errorf("tables would be emptied without a word: %+v", a)
	}
	if a := f.cli("schedule", "set", "spring", "--cron", "0 2 * * *", "--zone", "Europe/Amsterdam", "--confirm",
		"new"); a.code != 0 {
		t.Fatal(a.err)
	}
	due := func(ago string) {
		exec1(t, f.set.ControlURL, `UPDATE schedules SET next_at = now() - $1::interval`, ago)
	}
	runs := func() []contract.Run {
		t.Helper()
		list, err := client.Do[[]contract.Run](f.API.ListRunsWithResponse(t.Context(), "spring"))
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	await := func(n int, state contract.RunState) contract.Run {
		t.Helper()
		for end := time.Now().Add(patience * 40 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			if list := runs(); len(list) == n && list[0].State == state {
				return list[0]
			}
		}
		f.story()
		t.Fatalf("not %d runs, the last %s: %+v", n, state, runs())
		return contract.Run{}
	}
	due("1 second")
	if r := await(2, contract.RunStateDone); r.Rows != 4500 || r.By != "its schedule" {
		t.Errorf("the second run: %+v", r)
	}
	sameEverywhere(t, p, "public")

	// One that is due while the last has not ended is skipped, and so, by choice, is one
	// that was due when nobody looked.
	free := holdTable(t, p.targetURL(), `LOCK TABLE public.lots IN ACCESS SHARE MODE`) // the table cannot be emptied
	due("3 days")
	await(3, contract.RunStateRunning)
	due("1 second")
	for end := time.Now().Add(patience * 20 * time.Second); (len(runs()) < 4 || runs()[0].State == contract.RunStateDue) &&
		time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
	}
	if r := runs()[0]; r.State != contract.RunStateSkipped || !strings.Contains(r.Note, "has not ended") {
		t.Errorf("beside another: %+v", r)
	}
	free()
	await(4, contract.RunStateSkipped)
	eventually(t, time.Minute, func() bool { return runs()[1].State == contract.RunStateDone })
	f.awaitPhase(contract.PhaseInStep)
	if a := f.cli("schedule", "set", "spring", "--cron", "0 2 * * *", "--missed", "skip", "--confirm",
		"new"); a.code != 0 {
		t.Fatal(a.err)
	}
	due("50 hours")
	if r := await(5, contract.RunStateSkipped); !strings.Contains(r.Note, "when no service ran") {
		t.Errorf("missed: %+v", r)
	}
	a := f.cli("runs", "spring")
	t.Log(a.out)
	if a.code != 0 || !strings.Contains(a.out, "+1") {
		t.Errorf("%+v", a)
	}
	for end := time.Now().Add(patience * 20 * time.Second); !hook.heard("in step") &&
		time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
	}
	hook.mu.Lock()
	defer hook.mu.Unlock()
	if len(hook.bad) > 0 {
		t.Errorf("not signed or not right: %v", hook.bad)
	}
	if len(hook.events) == 0 || hook.seen["loaded"] > 0 {
		t.Errorf("heard %v, seen %v", hook.events, hook.seen)
	}
	t.Log(f.cli("webhook", "log", "pager").out, f.cli("webhook", "list").out, f.cli("schedule", "show", "spring").out)
}
