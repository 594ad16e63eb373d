package test

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/engine/enginetest"
)

// call makes a request as a program does that is not our client.
func (f *ferry) call(method, path string, body string, headers ...string) (*http.Response, string) {
	f.t.Helper()
	req, err := http.NewRequestWithContext(f.t.Context(), method, f.url+path, strings.NewReader(body))
	if err != nil {
		f.t.Fatal(err)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		if headers[i] == "Host" {
			req.Host = headers[i+1]
		}
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		f.t.Fatal(err)
	}
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		f.t.Fatal(err)
	}
	return res, string(text)
}

// as makes a token of a role and returns a client with it.
func (f *ferry) as(name string, role contract.Role, seeRows *bool) *ferry {
	f.t.Helper()
	t, err := client.Do[contract.Token](f.API.AddTokenWithResponse(f.t.Context(), contract.NewToken{Name: name, Role: role,
		SeeRows: seeRows}))
	if err != nil {
		f.t.Fatal(err)
	}
	other := &ferry{t: f.t, url: f.url, token: *t.Token, set: f.set}
	other.signIn()
	return other
}

// cookie signs in as a browser does.
func (f *ferry) cookie() string {
	f.t.Helper()
	res, text := f.call(http.MethodPost, "/api/session", `{"token":"`+f.token+`"}`, "Content-Type", "application/json",
		"Origin", f.url)
	if res.StatusCode != http.StatusOK || len(res.Cookies()) != 1 {
		f.t.Fatalf("signing in: %d %s", res.StatusCode, text)
	}
	return res.Cookies()[0].Name + "=" + res.Cookies()[0].Value
}

func tokens(f *ferry) int {
	f.t.Helper()
	list, err := client.Do[[]contract.Token](f.API.ListTokensWithResponse(f.t.Context()))
	if err != nil {
		f.t.Fatal(err)
	}
	return len(list)
}

// TestPagesElsewhereCannotAct lets a page on another port of the same host act with the
// session of an admin who is signed in, in a real browser and by hand-made requests.
func TestPagesElsewhereCannotAct(t *testing.T) {
	f := start(t)
	ctx := browser(t)
	visit(t, ctx, f.url+"/")
	if n := eval[int](t, ctx, `1`); n != 1 {
		t.Fatal("no page")
	}
	signed, err := chromedp.Run(ctx, chromedp.Evaluate[int](fmt.Sprintf(
		`fetch('/api/session', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({token: %q})}).then(r => r.status)`, f.token), chromedp.EvalAwaitPromise))
	if err != nil || signed != 200 {
		t.Fatalf("signing in: %d %v", signed, err)
	}
	in, err := chromedp.Run(ctx, chromedp.Evaluate[int](`fetch('/api/tokens').then(r => r.status)`,
		chromedp.EvalAwaitPromise))
	if err != nil || in != 200 {
		t.Fatalf("our own page is not let in: %d %v", in, err)
	}
	before := tokens(f)
	body := `{"name":"thief","role":"admin"}`
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = fmt.Fprintf(w,
			`<title>elsewhere</title><form id="f" method="post" enctype="text/plain" action="%s/api/tokens"><input name='{"name":"formed","role":"admin","x":"' value='"}'></form>`, f.url)
	}))
	defer elsewhere.Close()
	visit(t, ctx, elsewhere.URL)
	for _, kind := range []string{"text/plain", "application/x-www-form-urlencoded", "application/json"} {
		_, _ = chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(
			`fetch('%s/api/tokens', {method: 'POST', mode: 'no-cors', credentials: 'include', headers: {'Content-Type': %q}, body: %q}).then(() => '', e => String(e))`, f.url, kind, body), chromedp.EvalAwaitPromise))
	}
	_, _ = chromedp.Run(ctx, chromedp.Evaluate[string](`document.getElementById('f').submit(); ''`))
	time.Sleep(time.Second)
	if n := tokens(f); n != before {
		t.Errorf("a page on another port made %d tokens", n-before)
	}

	cookie := f.cookie()
	for name, c := range map[string]struct {
		headers []string
		want    int
	}{
		"another port": {[]string{"Origin", elsewhere.URL, "Content-Type", "application/json"}, 403},
		"another port, as browsers say it": {[]string{"Sec-Fetch-Site", "same-site", "Content-Type", "application/json"},
			403},
		"another site": {[]string{"Sec-Fetch-Site", "cross-site", "Origin", f.url, "Content-Type",
			"application/json"}, 403},
		"no word of where from": {[]string{"Content-Type", "application/json"}, 403},
		"an opaque origin":      {[]string{"Origin", "null", "Content-Type", "application/json"}, 403},
		"another scheme": {[]string{"Origin", strings.Replace(f.url, "http:", "https:", 1), "Content-Type",
			"application/json"}, 403},
		"a form's body": {[]string{"Origin", f.url, "Content-Type", "text/plain"}, 415},
		"our own page": {[]string{"Origin", f.url, "Content-Type", "application/json; charset=utf-8"},
			201},
	} {
		res, text := f.call(http.MethodPost, "/api/tokens", strings.Replace(body, "thief",
			"t-"+strings.ReplaceAll(strings.ReplaceAll(name, " ", "-"), ",", ""), 1), append(c.headers, "Cookie", cookie)...)
		if res.StatusCode != c.want {
			t.Errorf("%s: %d, want %d: %s", name, res.StatusCode, c.want, text)
		}
	}
	if res, _ := f.call(http.MethodGet, "/api/tokens", "", "Cookie", cookie, "Sec-Fetch-Site",
		"cross-site"); res.StatusCode != 403 {
		t.Errorf("another site reads by the cookie: %d", res.StatusCode)
	}
	// Our address under a stranger's name, as a rebound name in a browser would ask for it.
	for _, name := range []string{"evil.example", "evil.example:80", "127.0.0.1.evil.example", "10.0.0.7"} {
		if res, text := f.call(http.MethodGet, "/", "", "Host", name); res.StatusCode != http.StatusMisdirectedRequest ||
			!strings.Contains(text, "--host-name") {
			t.Errorf("asked for as %s: %d %s", name, res.StatusCode, text)
		}
	}
	for _, name := range []string{"localhost:9999", "[::1]:7420", "127.0.0.1"} {
		if res, text := f.call(http.MethodGet, "/api/version", "", "Host", name); res.StatusCode != 200 {
			t.Errorf("asked for as %s: %d %s", name, res.StatusCode, text)
		}
	}
}

// TestBehindTLSTheCookieIsThisHostsAlone: the browser takes and sends it over TLS only,
// and names of the certificate are known.
func TestBehindTLSTheCookieIsThisHostsAlone(t *testing.T) {
	f := start(t)
	f.svc.Stop()
	dir := t.TempDir()
	cert := enginetest.Certificate(t)
	key, err := x509.MarshalPKCS8PrivateKey(cert.PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	for name, block := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: cert.Certificate[0]},
		"key.pem": {Type: "PRIVATE KEY", Bytes: key}} {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	f.svc = nil
	f.set.TLSCert, f.set.TLSKey, f.set.Listen, f.set.Hosts = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem"),
		"0.0.0.0:0", []string{"ferry.saltmarsh.example"}
	f.again()
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(f.url, "https://"))
	hc := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	sign := func(host string) *http.Response {
		req, _ := http.NewRequestWithContext(t.Context(), http.MethodPost, "https://127.0.0.1:"+port+"/api/session",
			strings.NewReader(`{"token":"`+f.token+`"}`))
		req.Host = host
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Origin", "https://"+host)
		res, err := hc.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
		return res
	}
	res := sign("ferry.saltmarsh.example")
	if res.StatusCode != 200 || len(res.Cookies()) != 1 {
		t.Fatalf("signing in over TLS: %d %v", res.StatusCode, res.Cookies())
	}
	c := res.Cookies()[0]
	if !strings.HasPrefix(c.Name, "__Host-") || !c.Secure || !c.HttpOnly || c.SameSite != http.SameSiteStrictMode ||
		c.Path != "/" || c.Domain != "" {
		t.Errorf("the cookie over TLS: %+v", c)
	}
	if res := sign("evil.example"); res.StatusCode != http.StatusMisdirectedRequest {
		t.Errorf("a stranger's name over TLS: %d", res.StatusCode)
	}
}

// TestTooMuchIsRefusedAndHoldsUpNobody: large and slow requests, a caller who opens many
// streams, and one who guesses tokens.
func TestTooMuchIsRefusedAndHoldsUpNobody(t *testing.T) {
	f := start(t)
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY)`)
	f.cross(p, contract.Settings{}, "public.*")

	// Who says nothing, or never ends what is being said, is not waited for.
	slow := make(chan string, 2)
	for _, said := range []string{"POST /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: " +
		"application/json\r\nContent-Length: 1000\r\n\r\n{",
		"GET /api/crossings HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 9000\r\n\r\n"} {
		go func() {
			began := time.Now()
			conn, err := net.Dial("tcp", strings.TrimPrefix(f.url, "http://"))
			if err != nil {
				slow <- err.Error()
				return
			}
			defer func() { _ = conn.Close() }()
			_, _ = conn.Write([]byte(said))
			_ = conn.SetReadDeadline(time.Now().Add(50 * time.Second))
			if _, err := io.Copy(io.Discard, conn); errors.Is(err, os.ErrDeadlineExceeded) {
				slow <- fmt.Sprintf("held for %s: %q", time.Since(began), said)
				return
			}
			slow <- ""
		}()
	}

	large := `{"name":"` + strings.Repeat("x", 5<<20) + `"}`
	if res, text := f.call(http.MethodPost, "/api/crossings", large, "Authorization", "Bearer "+f.token, "Content-Type",
		"application/json"); res.StatusCode != 413 || !strings.Contains(text, "KiB") {
		t.Errorf("a body of 5 MB: %d %.200s", res.StatusCode, text)
	}
	if res, _ := f.call(http.MethodPost, "/api/manifests", strings.Repeat("#", 5<<20), "Authorization", "Bearer "+f.token,
		"Content-Type", "text/plain"); res.StatusCode != 413 {
		t.Errorf("a manifest of 5 MB: %d", res.StatusCode)
	}
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b]\n"
	if res, text := f.call(http.MethodPost, "/api/manifests", bomb, "Authorization", "Bearer "+f.token, "Content-Type",
		"text/plain"); res.StatusCode != 400 || !strings.Contains(text, "line 1") {
		t.Errorf("a manifest with aliases: %d %s", res.StatusCode, text)
	}
	if res, text := f.call(http.MethodPut, "/api/crossings/spring/schedule", `{"cron":"TZ=0"}`, "Authorization",
		"Bearer "+f.token, "Content-Type", "application/json"); res.StatusCode != 400 || !strings.Contains(text, "cron") {
		t.Errorf("a schedule that made the parser panic: %d %s", res.StatusCode, text)
	}

	// Forty streams of one viewer, each with topics of its own.
	viewer, ann := f.as("wren", contract.RoleViewer, nil), f.as("ann", contract.RoleOperator, nil)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var refusedStreams, opened atomic.Int64
	var wg sync.WaitGroup
	for i := range 40 {
		topics := []string{"/api/journal?limit=200"}
		for n := range 23 {
			if i >= 34 {
				topics = append(topics, fmt.Sprintf("/api/journal?limit=200&search=x%d", i*24+n))
			}
		}
		wg.Go(func() {
			err := viewer.Events(ctx, "", topics, func(client.Event) error { opened.Add(1); return nil })
			var p *client.Problem
			if errors.As(err, &p) && p.Status == http.StatusTooManyRequests {
				refusedStreams.Add(1)
			}
		})
	}
	beats := make(chan time.Time, 1000)
	go func() {
		_ = ann.Events(ctx, "", []string{"/api/crossings/spring"}, func(e client.Event) error {
			if e.Kind == "beat" {
				beats <- time.Now()
			}
			return nil
		})
	}()
	last := time.Now()
	for range 6 {
		select {
		case at := <-beats:
			if d := at.Sub(last); d > patience*4*time.Second {
				t.Errorf("beside many streams of another, a stream was silent for %s", d)
			}
			last = at
		case <-time.After(patience * 15 * time.Second):
			t.Fatal("beside many streams of another, a stream fell silent")
		}
	}
	if refusedStreams.Load() < 16 || opened.Load() == 0 {
		t.Errorf("of forty streams %d were refused", refusedStreams.Load())
	}
	res, text := f.call(http.MethodGet, "/api/events?"+url.Values{"topic": {"/api/journal"}}.Encode(), "", "Authorization",
		"Bearer "+viewer.token)
	if res.StatusCode != http.StatusTooManyRequests || res.Header.Get("Retry-After") == "" ||
		!strings.Contains(text, "streams") {
		t.Errorf("one more stream: %d, %v %s", res.StatusCode, res.Header, text)
	}
	cancel()
	wg.Wait()

	// Who guesses tokens is slowed down, and the journal tells of it once, not each time.
	var answers = map[int]int{}
	for range 60 {
		res, _ := f.call(http.MethodGet, "/api/crossings", "", "Authorization", "Bearer dft_guessed")
		answers[res.StatusCode]++
	}
	if answers[401] == 0 || answers[429] == 0 {
		t.Errorf("sixty guesses were answered %v", answers)
	}
	list, err := client.Do[[]contract.JournalEntry](f.API.ListJournalWithResponse(t.Context(),
		&contract.ListJournalParams{Search: ptr("unknown token")}))
	if err != nil || len(list) == 0 || len(list) > 2 || !strings.Contains(list[0].Message, "127.0.0.1") {
		t.Errorf("the journal tells of guesses: %+v (%v)", list, err)
	}
	if _, err := client.Do[contract.Session](f.API.GetSessionWithResponse(t.Context())); err != nil {
		t.Errorf("a known token beside guesses: %v", err)
	}
	for range 2 {
		if why := <-slow; why != "" {
			t.Error(why)
		}
	}
}

// TestRowsAreSeenByThoseWhoMay: viewers see no row of the databases by any call or topic,
// unless they were granted it; every look is in the journal with its person.
func TestRowsAreSeenByThoseWhoMay(t *testing.T) {
	f := start(t)
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.keepers (email text PRIMARY KEY, name text); INSERT INTO public.keepers
  SELECT 'wren' || g || '@saltmarsh.example', 'Wren ' || g FROM generate_series(1, 50) g; ANALYZE`)
	f.cross(p, contract.Settings{}, "public.*")
	if _, err := client.Do[contract.Crossing](f.API.ChangeCrossingWithResponse(t.Context(), "spring",
		contract.Settings{HandoverCommand: ptr("notify --password sesame")})); err != nil {
		t.Fatal(err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.targetURL(), `UPDATE public.keepers SET name = 'Someone' WHERE email = 'wren7@saltmarsh.example'`)
	r := f.reconcile(contract.NewReconciliationDepthHashes)
	if r.Findings != 1 {
		t.Fatalf("%d findings", r.Findings)
	}
	findings := fmt.Sprintf("/api/crossings/spring/reconciliations/%d/findings", r.Id)
	calls := []string{"/api/databases/old/rows?table=public.keepers", "/api/crossings/spring/preview?table=public.keepers",
		findings, "/api/crossings/spring/rejected-rows"}
	viewer, granted, blind := f.as("wren", contract.RoleViewer, nil), f.as("tomasz", contract.RoleViewer, ptr(true)),
		f.as("rurik", contract.RoleOperator, ptr(false))
	for _, who := range []*ferry{viewer, blind} {
		for _, path := range calls {
			res, text := who.call(http.MethodGet, path, "", "Authorization", "Bearer "+who.token)
			if res.StatusCode != 403 || strings.Contains(text, "saltmarsh.example") || strings.Contains(text, "Wren") {
				t.Errorf("%s: %d %s", path, res.StatusCode, text)
			}
		}
		for _, topic := range []string{findings, "/api/crossings/spring/rejected-rows"} {
			err := who.Events(t.Context(), "", []string{topic}, func(client.Event) error { return errors.New("it was told") })
			if err == nil || !strings.Contains(err.Error(), "may not see") {
				t.Errorf("topic %s: %v", topic, err)
			}
		}
	}
	// A topic whose path is another to the router.
	for _, topic := range []string{"/api/crossings/spring%2Fpreview?table=public.keepers",
		"/api/crossings/spring%2fmanifest", "/api/crossings/spring/tables/%2e%2e/preview?table=public.keepers",
		"/api/crossings/spring;/preview"} {
		err := f.Events(t.Context(), "", []string{topic}, func(client.Event) error { return errors.New("it was told") })
		if err == nil || !strings.Contains(err.Error(), "is no topic") {
			t.Errorf("topic %s: %v", topic, err)
		}
	}
	for _, path := range append(calls, "/api/session") {
		if res, text := granted.call(http.MethodGet, path, "", "Authorization",
			"Bearer "+granted.token); res.StatusCode != 200 {
			t.Errorf("granted, and refused %s: %d %s", path, res.StatusCode, text)
		}
	}
	stop := errors.New("enough")
	if err := granted.Events(t.Context(), "", []string{findings}, func(e client.Event) error {
		if e.Kind == "answer" && bytes.Contains(e.Data, []byte("wren7@")) {
			return stop
		}
		return nil
	}); !errors.Is(err, stop) {
		t.Errorf("the findings by the stream: %v", err)
	}
	looks, err := client.Do[[]contract.JournalEntry](f.API.ListJournalWithResponse(t.Context(),
		&contract.ListJournalParams{Act: ptr("look"), Actor: ptr("tomasz")}))
	if err != nil {
		t.Fatal(err)
	}
	told := ""
	for _, e := range looks {
		told += e.Message + "\n"
	}
	for _, want := range []string{"first rows of public.keepers in old", "as they will arrive",
		fmt.Sprintf("findings of comparison %d", r.Id), "rejected rows", "as they change"} {
		if !strings.Contains(told, want) {
			t.Errorf("the journal does not tell of %q:\n%s", want, told)
		}
	}
	refusals, err := client.Do[[]contract.JournalEntry](f.API.ListJournalWithResponse(t.Context(),
		&contract.ListJournalParams{Act: ptr("refused"), Actor: ptr("wren")}))
	if err != nil || len(refusals) < 3 {
		t.Errorf("%d refusals of wren in the journal (%v)", len(refusals), err)
	}

	// Keys in chunks' bounds are values too, and a command may hold a password.
	tables, err := client.Do[contract.TablePage](viewer.API.ListTablesWithResponse(t.Context(), "spring",
		&contract.ListTablesParams{}))
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{fmt.Sprintf("/api/crossings/spring/tables/%d/chunks", tables.Tables[0].Id),
		"/api/crossings/spring/manifest", "/api/crossings/spring", "/api/crossings", "/api/defaults",
		"/api/journal?limit=1000", "/api/journal/export?format=csv", "/api/journal/export?format=jsonl"} {
		res, text := viewer.call(http.MethodGet, path, "", "Authorization", "Bearer "+viewer.token)
		if res.StatusCode != 200 || strings.Contains(text, "sesame") || strings.Contains(text, "@saltmarsh.example") {
			t.Errorf("%s tells a viewer: %d %s", path, res.StatusCode, text)
		}
	}
	var detail []contract.JournalEntry
	_, text := f.call(http.MethodGet, "/api/journal?search=handover_command", "", "Authorization", "Bearer "+f.token)
	if err := json.Unmarshal([]byte(text), &detail); err != nil || len(detail) != 1 || detail[0].Detail == nil ||
		!strings.Contains(*detail[0].Detail, "none → notify --password sesame") || strings.Contains(detail[0].Message,
		"sesame") {
		t.Errorf("what an admin reads of it: %s", text)
	}
}
