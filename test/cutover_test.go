package test

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// following brings a small crossing in step.
func following(t *testing.T) (*ferry, pair) {
	t.Helper()
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.jars (id serial PRIMARY KEY, label text); INSERT INTO public.jars (label)
  SELECT 'jar ' || g FROM generate_series(1, 300) g`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	return f, p
}

// begin starts a cutover without waiting for its end.
func (f *ferry) begin(set contract.Settings) {
	f.t.Helper()
	if _, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(f.t.Context(), "spring",
		contract.NewCutover{Confirm: ptr("spring"), Settings: &set})); err != nil {
		f.t.Fatal(err)
	}
}

func (f *ferry) steps() map[string]contract.CutoverStep {
	f.t.Helper()
	list, err := client.Do[[]contract.Cutover](f.API.ListCutoversWithResponse(f.t.Context(), "spring"))
	if err != nil || len(list) == 0 {
		f.t.Fatalf("%d cutovers (%v)", len(list), err)
	}
	out := map[string]contract.CutoverStep{}
	for _, s := range list[0].Steps {
		out[s.Name] = s
	}
	return out
}

// TestAPersonsWord: the cutover waits for somebody to say that writes have
// stopped, can be aborted while it waits, and runs the hand-over command.
func TestAPersonsWord(t *testing.T) {
	f, p := following(t)
	note := filepath.Join(t.TempDir(), "moved")
	set := contract.Settings{StopMethod: ptr(contract.SettingsStopMethod("word")),
		HandoverCommand: ptr("echo \"$DUSTYFERRY_CROSSING to $DUSTYFERRY_TARGET\" > " + note)}
	waits := func() bool { return strings.Contains(f.steps()["stop writes"].Note, "waiting for a person's word") }
	f.begin(set)
	eventually(t, 20*time.Second, waits)
	exec1(t, p.sourceURL(), `INSERT INTO public.jars (label) VALUES ('while it waits')`)
	if _, err := client.Do[struct{}](f.API.AbortCutoverWithResponse(t.Context(), "spring")); err != nil {
		t.Fatal(err)
	}
	if k := f.cutOverEnd(); k.State != "undone" || !strings.Contains(k.Error, "aborted by admin") {
		t.Errorf("%+v", k)
	}
	f.awaitPhase(contract.PhaseInStep)
	_, err := client.Do[struct{}](f.API.ConfirmCutoverWithResponse(t.Context(), "spring"))
	refused(t, err, "waits for a person's word")
	_, err = client.Do[struct{}](f.API.AbortCutoverWithResponse(t.Context(), "spring"))
	refused(t, err, "nothing to abort")
	f.begin(set)
	eventually(t, 20*time.Second, waits)
	if _, err := client.Do[struct{}](f.API.ConfirmCutoverWithResponse(t.Context(), "spring")); err != nil {
		t.Fatal(err)
	}
	if k := f.cutOverEnd(); k.State != "done" {
		f.story()
		t.Fatalf("%+v", k)
	}
	if b, err := os.ReadFile(note); err != nil || string(b) != "spring to new\n" {
		t.Errorf("the command wrote %q (%v)", b, err)
	}
	// A cutover that a person aborted is said once, and is no error.
	bad := contract.Error
	list, err := client.Do[[]contract.JournalEntry](f.API.ListJournalWithResponse(t.Context(),
		&contract.ListJournalParams{Crossing: ptr("spring"), Severity: &bad}))
	if err != nil || len(list) != 0 {
		t.Errorf("errors in the journal: %+v (%v)", list, err)
	}
	sameEverywhere(t, p, "public")
	if n := one[int64](t, p.targetURL(), `INSERT INTO public.jars (label) VALUES ('new') RETURNING id`); n != 302 {
		t.Errorf("the sequence goes on at %d", n)
	}
}

// TestReadOnlyCutover makes the whole source read-only, and leaves it so.
func TestReadOnlyCutover(t *testing.T) {
	f, p := following(t)
	if k := f.cutOver(false, contract.Settings{StopMethod: ptr(contract.SettingsStopMethod(
		"read-only"))}); k.State != "done" {
		f.story()
		t.Fatalf("%+v", k)
	}
	c := connect(t, p.sourceURL())
	if _, err := c.Exec(t.Context(), `INSERT INTO public.jars (label) VALUES ('late')`); err == nil ||
		!strings.Contains(err.Error(), "read-only") {
		t.Errorf("the source took a write: %v", err)
	}
	sameEverywhere(t, p, "public")
	if _, err := client.Do[contract.Crossing](f.API.CloseCrossingWithResponse(t.Context(), "spring",
		contract.CloseCrossingJSONRequestBody{Reopen: true, Confirm: ptr("spring")})); err != nil {
		t.Fatal(err)
	}
	f.await(30*time.Second, "closed", func(c contract.Crossing) bool {
		return c.Phase == contract.PhaseClosed && c.Progress.Work == nil
	})
	exec1(t, p.sourceURL(), `INSERT INTO public.jars (label) VALUES ('reopened')`)
}

// TestLoadOnly copies without following; it cannot be cut over to.
func TestLoadOnly(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.jars (id serial PRIMARY KEY, label text UNIQUE);
  INSERT INTO public.jars (label) SELECT 'jar ' || g FROM generate_series(1, 5000) g`)
	f := start(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new", FollowChanges: ptr(false)})); err != nil {
		t.Fatal(err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	sameEverywhere(t, p, "public")
	for what, q := range map[string]string{"a slot": `SELECT count(*) FROM pg_replication_slots
  WHERE database = current_database()`, "a publication": `SELECT count(*) FROM pg_publication`} {
		if one[int64](t, p.sourceURL(), q) != 0 {
			t.Errorf("a load left %s on the source", what)
		}
	}
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		t.Errorf("%+v", r)
	}
	_, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), "spring",
		contract.NewCutover{Confirm: ptr("spring")}))
	refused(t, err, "only loads")
}

// TestTheHTTPFace: health and metrics without sign-in, the console's page for
// its own addresses, problems for others, and a cookie that scripts cannot read.
func TestTheHTTPFace(t *testing.T) {
	f := start(t)
	get := func(path string) *http.Response {
		t.Helper()
		res, err := http.Get(f.url + path)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = res.Body.Close() })
		return res
	}
	for path, want := range map[string]struct {
		status int
		kind   string
	}{
		"/healthz": {200, "text/plain"}, "/readyz": {200, "text/plain"}, "/metrics": {200, "text/plain"},
		"/api/version":      {200, "application/json"},
		"/api/openapi.yaml": {200, "application/yaml"}, "/": {200, "text/html"}, "/crossings/spring": {200, "text/html"},
		"/api/nothing": {404, "application/problem+json"}, "/assets/nothing.js": {404, "text/plain"}, "/api/crossings": {401,
			"application/problem+json"},
	} {
		res := get(path)
		if res.StatusCode != want.status || !strings.HasPrefix(res.Header.Get("Content-Type"), want.kind) {
			t.Errorf("%s: %d %s, want %d %s", path, res.StatusCode, res.Header.Get("Content-Type"), want.status, want.kind)
		}
		if !strings.Contains(res.Header.Get("Content-Security-Policy"), "default-src 'self'") {
			t.Errorf("%s has no content security policy", path)
		}
	}
	sign, err := http.NewRequestWithContext(t.Context(), http.MethodPost, f.url+"/api/session",
		strings.NewReader(`{"token":"`+f.token+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	sign.Header.Set("Content-Type", "application/json")
	sign.Header.Set("Origin", f.url) // as a browser says from which page it comes
	res, err := http.DefaultClient.Do(sign)
	if err != nil {
		t.Fatal(err)
	}
	_ = res.Body.Close()
	cookies := res.Cookies()
	if len(cookies) != 1 || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode {
		t.Fatalf("%s: %v", res.Status, cookies)
	}
	req, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, f.url+"/api/crossings", nil)
	req.AddCookie(cookies[0])
	if res, err := http.DefaultClient.Do(req); err != nil || res.StatusCode != 200 {
		t.Errorf("the cookie does not sign in: %v", err)
	}
	big, err := http.Post(f.url+"/api/session", "application/json", strings.NewReader(`{"token":"`+strings.Repeat("x",
		5<<20)+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	_ = big.Body.Close()
	if big.StatusCode != 400 && big.StatusCode != 413 {
		t.Errorf("a request of 5 MB was answered with %d", big.StatusCode)
	}
}
