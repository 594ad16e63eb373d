package test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// TestViewersWatchFromAPhone: a viewer sees everything and can change nothing,
// and is told why; a phone in portrait shows it all; an operator can pause and
// abort there.
func TestViewersWatchFromAPhone(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 20_000); err != nil {
		t.Fatal(err)
	}
	f := start(t)
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(256 << 10))}, "saltmarsh.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	f.reconcile(contract.NewReconciliationDepthHashes)
	token := func(name string, role contract.Role) string {
		tok, err := client.Do[contract.Token](f.API.AddTokenWithResponse(t.Context(), contract.AddTokenJSONRequestBody{
			Name: name, Role: role}))
		if err != nil {
			t.Fatal(err)
		}
		return *tok.Token
	}
	ctx := browser(t)
	signIn(t, ctx, f.url, token("looker", contract.RoleViewer))
	shows(t, ctx, "looker, viewer", "Viewers can watch, not steer")
	do(t, ctx, chromedp.EmulateViewport(390, 844))
	for path, wants := range map[string][]string{
		"/":                              {"spring"},
		"/databases":                     {"old", "new"},
		"/databases/old":                 {"saltmarsh.scale_readings"},
		"/crossings/new":                 {"From where to where"},
		"/crossings/spring":              {"Rows landed", "saltmarsh.scale_readings"},
		"/crossings/spring/plan":         {"its tables are fixed"},
		"/crossings/spring/plan/survey":  {"Survey"},
		"/crossings/spring/changes":      {"Last transactions applied"},
		"/crossings/spring/reconcile":    {"Number 1"},
		"/crossings/spring/reconcile/1":  {"Result per table"},
		"/crossings/spring/cutover":      {"Readiness list"},
		"/crossings/spring/certificate":  {"written when the crossing is closed"},
		"/crossings/spring/log":          {"the load begins"},
		"/journal":                       {"registered database"},
		"/workers":                       {"at work"},
		"/access":                        {"this needs admin"},
		"/settings":                      {"This browser"},
		"/crossings/spring/tables/99999": {"has no table 99999"},
	} {
		visit(t, ctx, f.url+path)
		shows(t, ctx, wants...)
		fits(t, ctx, path+" on a phone")
		axe(t, ctx, path+" on a phone")
	}
	visit(t, ctx, f.url+"/crossings/spring/cutover")
	shows(t, ctx, "Readiness list")
	for _, act := range []string{"Pause", "Close", "Rehearse", "Cut over"} {
		if ok, why := offered(t, ctx, act); ok || !strings.Contains(why, "Your role is viewer; this needs operator") {
			t.Errorf("a viewer is offered %q (%q)", act, why)
		}
	}
	// An operator, from the phone: hold, abort, pause.
	do(t, ctx, chromedp.EmulateViewport(390, 844))
	eval[bool](t, ctx, `fetch('/api/session', { method: 'DELETE' }).then(() => location.assign('/')); true`)
	shows(t, ctx, "Access token")
	signIn(t, ctx, f.url, token("hand", contract.RoleOperator))
	shows(t, ctx, "hand, operator")
	if _, err := client.Do[contract.Crossing](f.API.ChangeCrossingWithResponse(t.Context(), "spring",
		contract.Settings{HoldPoints: &[]contract.SettingsHoldPoints{contract.StopWrites}})); err != nil {
		t.Fatal(err)
	}
	visit(t, ctx, f.url+"/crossings/spring/cutover")
	press(t, ctx, "Rehearse")
	press(t, ctx, "Rehearse it")
	shows(t, ctx, "waiting for a person to go on")
	fits(t, ctx, "a held rehearsal on a phone")
	shot(t, ctx, "phone")
	press(t, ctx, "Abort and undo")
	press(t, ctx, "Abort and undo")
	shows(t, ctx, "aborted by hand")
	f.awaitPhase(contract.PhaseInStep)
	press(t, ctx, "Pause")
	press(t, ctx, "Pause it")
	shows(t, ctx, "paused by hand")
}

// TestALostStreamRecovers: when the service goes away the page says that its
// figures are old; when it is back, so are the figures, and the history was kept.
func TestALostStreamRecovers(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 20_000); err != nil {
		t.Fatal(err)
	}
	f := start(t)
	app := demo.StartApp(t.Context(), demo.Postgres(p.sourceURL()), 2, 5*time.Millisecond)
	defer app.Stop()
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(256 << 10))}, "saltmarsh.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	time.Sleep(6 * time.Second)
	ctx := browser(t)
	signIn(t, ctx, f.url, f.token)
	shows(t, ctx, "admin, admin")
	visit(t, ctx, f.url+"/crossings/spring?window=0")
	shows(t, ctx, "Changes applied", "Live")
	points := func() int {
		h, err := client.Do[contract.History](f.API.GetHistoryWithResponse(t.Context(), "spring",
			&contract.GetHistoryParams{Minutes: ptr(0), Points: ptr(2000)}))
		if err != nil {
			t.Fatal(err)
		}
		return len(h.At)
	}
	before := points()
	if before == 0 {
		t.Error("there is no history")
	}
	f.svc.Stop()
	shows(t, ctx, "Not live: figures are of")
	axe(t, ctx, "a page that is not live")
	f.again()
	eventually(t, 40*time.Second, func() bool { return !strings.Contains(shown(t, ctx), "Not live") })
	changes := func() string {
		return eval[string](t, ctx,
			`[...document.querySelectorAll('dl > div')].find(d => d.innerText.startsWith('Changes applied')).innerText`)
	}
	first := changes()
	eventually(t, 40*time.Second, func() bool { return changes() != first })
	if after := points(); after < before {
		t.Errorf("of %d points of the history %d are left after a restart", before, after)
	}
}
