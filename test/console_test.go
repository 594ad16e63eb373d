package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"dustyferry/internal/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// browser opens headless Chromium with a profile of its own.
func browser(t *testing.T) context.Context {
	t.Helper()
	profile, err := os.MkdirTemp("", "dusty-ferry-browser-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { // its children may write for a moment after it has ended
		for range 50 {
			if os.RemoveAll(profile) == nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	})
	opts := append([]chromedp.ExecAllocatorOption{}, chromedp.DefaultExecAllocatorOptions[:]...)
	for _, f := range []string{"disable-gpu", "disable-quic", "no-first-run", "disable-background-networking", "disable-component-update", "disable-sync", "disable-dev-shm-usage"} {
		opts = append(opts, chromedp.Flag(f, true))
	}
	opts = append(opts, chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800))
	alloc, end := chromedp.NewExecAllocator(t.Context(), opts...)
	t.Cleanup(end)
	ctx, done := chromedp.NewContext(alloc)
	t.Cleanup(done)
	// The first call starts the browser, which lives as long as its context.
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatal(err)
	}
	return ctx
}

func do(t *testing.T, ctx context.Context, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	limit, cancel := context.WithTimeout(ctx, 25*time.Second)
	defer cancel()
	if err := chromedp.Do(limit, steps...); err != nil {
		body, _ := chromedp.Run(ctx, chromedp.Evaluate[string](`document.body.innerText.slice(0, 800)`))
		t.Fatalf("%v; the page shows:\n%s", err, body)
	}
}

func eval[T any](t *testing.T, ctx context.Context, js string) T {
	t.Helper()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](js))
	if err != nil {
		t.Fatalf("%s: %v", js, err)
	}
	return v
}

// shows waits until the page's text contains what.
func shows(t *testing.T, ctx context.Context, what string) {
	t.Helper()
	end := time.Now().Add(40 * time.Second)
	text := ""
	for time.Now().Before(end) {
		if text = eval[string](t, ctx, `document.body.innerText`); strings.Contains(text, what) {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Fatalf("the page never showed %q:\n%s", what, text)
}

// axe runs the accessibility checks in the page; any violation fails.
func axe(t *testing.T, ctx context.Context, page string) {
	t.Helper()
	src, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	_ = eval[bool](t, ctx, string(src)+"; true")
	found, err := chromedp.Run(ctx, chromedp.Evaluate[string](
		`axe.run().then(r => r.violations.map(v => v.id + ': ' + v.help + ' ' + v.nodes.map(n => n.html.slice(0, 120)).join(' | ')).join('\n'))`,
		chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	if found != "" {
		t.Errorf("%s breaks accessibility rules:\n%s", page, found)
	}
}

func shot(t *testing.T, ctx context.Context, name string) {
	t.Helper()
	dir := os.Getenv("DUSTYFERRY_SCREENSHOTS")
	if dir == "" {
		return
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644); err != nil {
		t.Fatal(err)
	}
}

// press clicks the button with that text.
func press(t *testing.T, ctx context.Context, label string) {
	t.Helper()
	js := fmt.Sprintf(`(() => { const b = [...document.querySelectorAll('button')].find(b => b.innerText.trim() === %q && !b.disabled); if (b) b.click(); return !!b })()`, label)
	eventually(t, 10*time.Second, func() bool { return eval[bool](t, ctx, js) })
}

// signIn signs the browser in with a token.
func signIn(t *testing.T, ctx context.Context, url, token string) {
	t.Helper()
	do(t, ctx, chromedp.Navigate(url), chromedp.WaitVisible(chromedp.CSS("#token")), chromedp.SendKeys(chromedp.CSS("#token"), token))
	press(t, ctx, "Sign in")
}

// TestTheConsole signs in, starts a crossing, watches its numbers move, pauses
// and resumes it, in a real browser against the real service.
func TestTheConsole(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 40_000); err != nil {
		t.Fatal(err)
	}
	f := start(t)
	app := demo.StartApp(t.Context(), p.sourceURL(), 2, 5*time.Millisecond)
	defer app.Stop()
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(256 << 10)), SpeedLimit: ptr(int64(350 << 10))}, "saltmarsh.*")
	ctx := browser(t)

	do(t, ctx, chromedp.Navigate(f.url))
	shows(t, ctx, "Access token")
	axe(t, ctx, "sign-in")
	shot(t, ctx, "sign-in")
	signIn(t, ctx, f.url, "dft_wrong")
	shows(t, ctx, "this token is not known")
	signIn(t, ctx, f.url, f.token)
	shows(t, ctx, "admin, admin")
	if js := eval[string](t, ctx, `document.cookie`); js != "" {
		t.Errorf("the session cookie can be read by scripts: %q", js)
	}
	shows(t, ctx, "old to new")
	axe(t, ctx, "overview")
	do(t, ctx, chromedp.Navigate(f.url+"/crossings/spring"))
	shows(t, ctx, "draft")
	press(t, ctx, "Start")
	shows(t, ctx, "loading")
	rows := func() string {
		return eval[string](t, ctx, `document.querySelector('[data-testid=loaded]').innerText`)
	}
	first := rows()
	eventually(t, 20*time.Second, func() bool { return rows() != first })
	shows(t, ctx, "the load begins")
	time.Sleep(6 * time.Second) // some history for the charts
	axe(t, ctx, "crossing")
	shot(t, ctx, "crossing-loading")
	press(t, ctx, "Pause")
	shows(t, ctx, "paused by admin")
	if title := eval[string](t, ctx, `document.title`); !strings.Contains(title, "paused") {
		t.Errorf("the tab's title does not tell: %q", title)
	}
	press(t, ctx, "Resume")
	if _, err := client.Do[contract.Crossing](f.API.ChangeCrossingWithResponse(t.Context(), "spring", contract.Settings{SpeedLimit: ptr(int64(0))})); err != nil {
		t.Fatal(err)
	}
	shows(t, ctx, "in step")
	shows(t, ctx, "100 %")
	time.Sleep(3 * time.Second)
	do(t, ctx, emulated("dark"))
	do(t, ctx, chromedp.Navigate(f.url+"/crossings/spring"))
	shows(t, ctx, "100 %")
	time.Sleep(2 * time.Second)
	axe(t, ctx, "crossing, dark")
	shot(t, ctx, "crossing-in-step-dark")
	do(t, ctx, emulated("light"), chromedp.Navigate(f.url))
	shows(t, ctx, "in step")
	shot(t, ctx, "overview")

	tok, err := client.Do[contract.Token](f.API.AddTokenWithResponse(t.Context(), contract.AddTokenJSONRequestBody{Name: "looker", Role: contract.Viewer}))
	if err != nil {
		t.Fatal(err)
	}
	press(t, ctx, "Sign out")
	shows(t, ctx, "Access token")
	signIn(t, ctx, f.url, *tok.Token)
	shows(t, ctx, "looker, viewer")
	do(t, ctx, chromedp.Navigate(f.url+"/crossings/spring"))
	shows(t, ctx, "Viewers can watch, not steer")
	if eval[bool](t, ctx, `[...document.querySelectorAll('button')].some(b => b.innerText.trim() === 'Pause' && !b.disabled)`) {
		t.Error("a viewer is offered to pause")
	}
	// A phone in portrait: nothing may hang over the side.
	do(t, ctx, chromedp.EmulateViewport(390, 844))
	do(t, ctx, chromedp.Navigate(f.url+"/crossings/spring"))
	shows(t, ctx, "in step")
	if over := eval[float64](t, ctx, `document.documentElement.scrollWidth - document.documentElement.clientWidth`); over > 0 {
		t.Errorf("the page is %v px wider than a phone", over)
	}
	// When the service goes away, the page says that its figures are old.
	f.svc.Stop()
	shows(t, ctx, "Not live")
}

// emulated sets the colour scheme the system asks for.
func emulated(scheme string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
		return err
	})
}
