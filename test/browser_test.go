package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
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
	for _, f := range []string{"disable-gpu", "disable-quic", "no-first-run", "disable-background-networking",
		"disable-component-update", "disable-sync", "disable-dev-shm-usage"} {
		opts = append(opts, chromedp.Flag(f, true))
	}
	opts = append(opts, chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.UserDataDir(profile),
		chromedp.WindowSize(1280, 800))
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
	limit, cancel := context.WithTimeout(ctx, patience*25*time.Second)
	defer cancel()
	if err := chromedp.Do(limit, steps...); err != nil {
		body, _ := chromedp.Run(ctx, chromedp.Evaluate[string](`(document.body?.innerText ?? "").slice(0, 800)`))
		t.Fatalf("%v; the page shows:\n%s", err, body)
	}
}

// visit opens a page.
func visit(t *testing.T, ctx context.Context, url string) {
	t.Helper()
	do(t, ctx, chromedp.Navigate(url))
}

func eval[T any](t *testing.T, ctx context.Context, js string) T {
	t.Helper()
	limit, cancel := context.WithTimeout(ctx, patience*20*time.Second)
	defer cancel()
	v, err := chromedp.Run(limit, chromedp.Evaluate[T](js))
	if err != nil {
		t.Fatalf("%s: %v", js, err)
	}
	return v
}

// shown is the page's text with ordinary spaces.
func shown(t *testing.T, ctx context.Context) string {
	t.Helper()
	return strings.ReplaceAll(eval[string](t, ctx, `document.body?.innerText ?? ""`), "\u00a0", " ")
}

// shows waits until the page's text contains what.
func shows(t *testing.T, ctx context.Context, what ...string) {
	t.Helper()
	end := time.Now().Add(patience * 40 * time.Second)
	for _, w := range what {
		text := ""
		for {
			if text = shown(t, ctx); strings.Contains(text, w) {
				break
			}
			if time.Now().After(end) {
				t.Fatalf("the page never showed %q:\n%s", w, text)
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
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

// shot takes a picture of the page for the documentation, when asked to.
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

// find is JavaScript that finds an element by what it says: in an open dialog
// if there is one.
const find = `
const room = document.querySelector('[role=dialog]') ?? document;
const says = (el, text) => el.innerText.trim().replaceAll('\u00a0', ' ') === text || el.getAttribute('aria-label') === text;
const labelled = (text) => {
  const l = [...room.querySelectorAll('label')].find(l => (l.querySelector('span')?.innerText ?? l.innerText).trim().startsWith(text));
  return l?.querySelector('input, select, textarea') ?? (l?.htmlFor ? document.getElementById(l.htmlFor) : null) ?? [...room.querySelectorAll('input, select, textarea')].find(e => e.getAttribute('aria-label') === text);
};
const set = (el, value) => {
  const proto = ({ SELECT: HTMLSelectElement, TEXTAREA: HTMLTextAreaElement })[el.tagName]?.prototype ?? HTMLInputElement.prototype;
  Object.getOwnPropertyDescriptor(proto, 'value').set.call(el, value);
  el.dispatchEvent(new Event(el.tagName === 'SELECT' ? 'change' : 'input', { bubbles: true }));
};`

func js(text string) string {
	b, _ := json.Marshal(text)
	return string(b)
}

// press clicks the button with that text, in the open dialog if there is one.
func press(t *testing.T, ctx context.Context, label string) {
	t.Helper()
	code := fmt.Sprintf(`(() => {%s const b = [...room.querySelectorAll('button')].find(b => says(b, %s) && !b.disabled); if (b) b.click(); return !!b })()`, find, js(label))
	end := time.Now().Add(patience * 15 * time.Second)
	for !eval[bool](t, ctx, code) {
		if time.Now().After(end) {
			t.Fatalf("there is no button %q to press:\n%s", label, shown(t, ctx))
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// follow clicks the link with that text.
func follow(t *testing.T, ctx context.Context, label string) {
	t.Helper()
	code := fmt.Sprintf(`(() => {%s const a = [...room.querySelectorAll('a')].find(a => a.innerText.trim().split('\n')[0] === %s); if (a) a.click(); return !!a })()`, find, js(label))
	end := time.Now().Add(patience * 15 * time.Second)
	for !eval[bool](t, ctx, code) {
		if time.Now().After(end) {
			t.Fatalf("there is no link %q:\n%s", label, shown(t, ctx))
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// fill types into the field with that label, or chooses there.
func fill(t *testing.T, ctx context.Context, label, value string) {
	t.Helper()
	code := fmt.Sprintf(`(() => {%s const el = labelled(%s); if (el) set(el, %s); return !!el })()`, find, js(label),
		js(value))
	end := time.Now().Add(patience * 15 * time.Second)
	for !eval[bool](t, ctx, code) {
		if time.Now().After(end) {
			t.Fatalf("there is no field %q:\n%s", label, shown(t, ctx))
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// tick clicks the box with that label.
func tick(t *testing.T, ctx context.Context, label string) {
	t.Helper()
	if !eval[bool](t, ctx, fmt.Sprintf(`(() => {%s const el = labelled(%s); if (el) el.click(); return !!el })()`, find,
		js(label))) {
		t.Fatalf("there is no box %q:\n%s", label, shown(t, ctx))
	}
}

// offered reports whether the button with that text can be pressed, and what
// its hover says.
func offered(t *testing.T, ctx context.Context, label string) (bool, string) {
	t.Helper()
	v := eval[[]any](t, ctx,
		fmt.Sprintf(`(() => {%s const b = [...room.querySelectorAll('button')].find(b => says(b, %s)); return [!!b && !b.disabled, b?.title ?? ''] })()`, find, js(label)))
	ok, _ := v[0].(bool)
	why, _ := v[1].(string)
	return ok, why
}

// fits checks that nothing hangs over the side of the window.
func fits(t *testing.T, ctx context.Context, page string) {
	t.Helper()
	if over := eval[float64](t, ctx,
		`document.documentElement.scrollWidth - document.documentElement.clientWidth`); over > 0 {
		t.Errorf("%s is %v px wider than its window", page, over)
	}
}

// signIn signs the browser in with a token.
func signIn(t *testing.T, ctx context.Context, url, token string) {
	t.Helper()
	do(t, ctx, chromedp.Navigate(url), chromedp.WaitVisible(chromedp.CSS("#token")),
		chromedp.SendKeys(chromedp.CSS("#token"), token))
	press(t, ctx, "Sign in")
}

// emulated sets the colour scheme the system asks for.
func emulated(scheme string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
		return err
	})
}
