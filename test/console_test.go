package test

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// TestTheConsole takes the live cooperative from registering its databases to a
// printed certificate, in a real browser against the real service, and looks at
// every page on the way.
func TestTheConsole(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 60_000); err != nil {
		t.Fatal(err)
	}
	// The target is not empty: what is there will be lost, and that has to be said.
	exec1(t, p.targetURL(), `CREATE SCHEMA saltmarsh`)
	exec1(t, p.targetURL(), `CREATE TABLE saltmarsh.weather AS SELECT 1 AS old`)
	f := start(t)
	app := demo.StartApp(t.Context(), demo.Postgres(p.sourceURL()), 2, 5*time.Millisecond)
	defer app.Stop()
	ctx := browser(t)
	j := &journey{t: t, ctx: ctx, f: f, p: p}
	j.signIn()
	j.register()
	j.plan()
	j.review()
	j.underWay()
	j.ledger()
	j.steer()
	j.changes()
	j.reconcile(app)
	j.cutover(app)
	j.certificate()
	j.shared()
}

type journey struct {
	t   *testing.T
	ctx context.Context
	f   *ferry
	p   pair
}

// at opens a page of the console.
func (j *journey) at(path string) { j.t.Helper(); visit(j.t, j.ctx, j.f.url+path) }

// looked checks a page's accessibility and takes its picture.
func (j *journey) looked(name string) {
	j.t.Helper()
	axe(j.t, j.ctx, name)
	fits(j.t, j.ctx, name)
	shot(j.t, j.ctx, name)
}

func (j *journey) signIn() {
	t, ctx := j.t, j.ctx
	j.at("/")
	shows(t, ctx, "Access token")
	j.looked("sign-in")
	signIn(t, ctx, j.f.url, "dft_wrong")
	shows(t, ctx, "this token is not known")
	signIn(t, ctx, j.f.url, j.f.token)
	shows(t, ctx, "admin, admin", "There is no crossing yet")
	axe(t, ctx, "the empty overview")
	if c := eval[string](t, ctx, `document.cookie`); c != "" {
		t.Errorf("the session cookie can be read by scripts: %q", c)
	}
}

func (j *journey) register() {
	t, ctx := j.t, j.ctx
	follow(t, ctx, "Databases")
	shows(t, ctx, "No database is registered yet")
	for name, db := range map[string]string{"old": j.p.source, "new": j.p.target} {
		server := servers.source
		if name == "new" {
			server = servers.target
		}
		j.at("/databases")
		shows(t, ctx, "Register a database")
		if ok, why := offered(t, ctx, "Register"); ok || !strings.Contains(why, "missing") {
			t.Errorf("an empty form can be sent (%q)", why)
		}
		fill(t, ctx, "Name in Dusty Ferry", name)
		fill(t, ctx, "Port", itoa(server.Port))
		fill(t, ctx, "Database", db)
		fill(t, ctx, "User", server.User)
		fill(t, ctx, "Encryption", "disable")
		fill(t, ctx, "Password", "wrong")
		press(t, ctx, "Register")
		shows(t, ctx, "refused the sign-in")
		fill(t, ctx, "Password", server.Password)
		press(t, ctx, "Register")
		eventually(t, 20*time.Second, func() bool { return eval[string](t, ctx, `location.pathname`) == "/databases/"+name })
		shows(t, ctx, "No crossing uses it")
	}
	if text := eval[string](t, ctx, `document.documentElement.outerHTML`); strings.Contains(text,
		servers.source.Password) {
		t.Error("the page knows the password")
	}
	j.at("/databases")
	shows(t, ctx, "No crossing uses it")
	j.looked("databases")
	j.at("/databases/old")
	shows(t, ctx, "saltmarsh.scale_readings")
	press(t, ctx, "Check")
	shows(t, ctx, "As a source", "wal_level is logical", "best of five")
	j.looked("database")
}

func (j *journey) plan() {
	t, ctx := j.t, j.ctx
	j.at("/")
	follow(t, ctx, "Plan a crossing")
	shows(t, ctx, "From where to where")
	fill(t, ctx, "Name", "spring")
	fill(t, ctx, "Source", "old")
	if ok, _ := offered(t, ctx, "Make the draft and choose tables"); ok {
		t.Error("a crossing without a target can be made")
	}
	fill(t, ctx, "Target", "new")
	axe(t, ctx, "plan a crossing")
	press(t, ctx, "Make the draft and choose tables")
	shows(t, ctx, "Tables of old", "12 tables of 12 taken along")
	fill(t, ctx, "Add a pattern", "-saltmarsh.*")
	press(t, ctx, "Add")
	shows(t, ctx, "0 tables of 12 taken along")
	fill(t, ctx, "Add a pattern", "saltmarsh.h*")
	press(t, ctx, "Add")
	shows(t, ctx, "2 tables of 12 taken along") // hives and harvest lots
	eval[bool](t, ctx,
		`(() => { document.querySelector('[aria-label="Take saltmarsh.keepers"]').click(); return true })()`)
	shows(t, ctx, "3 tables of 12 taken along")
	press(t, ctx, "Remove the pattern -saltmarsh.*")
	press(t, ctx, "Remove the pattern saltmarsh.h*")
	press(t, ctx, "Remove the pattern saltmarsh.keepers")
	fill(t, ctx, "Add a pattern", "saltmarsh.*")
	press(t, ctx, "Add")
	press(t, ctx, "Save selection")
	shows(t, ctx, "12 tables of 12 taken along")
	press(t, ctx, "saltmarsh.harvest_lots")
	shows(t, ctx, "A table is made on the target", "computed by the target", "unique harvest_lots_lot_key")
	press(t, ctx, "Look at 20 rows")
	shows(t, ctx, "LOT-1", "The first 20 rows; there are more.")
	j.looked("plan")
	press(t, ctx, "saltmarsh.weather")
	shows(t, ctx, "the target's table has no such column")

	follow(t, ctx, "4. Survey")
	press(t, ctx, "Survey both sides")
	shows(t, ctx, "Blockers (1)", "unlike what the plan needs")
	exec1(t, j.p.targetURL(), `DROP TABLE saltmarsh.weather`)
	exec1(t, j.p.targetURL(), `CREATE TABLE saltmarsh."Market Stalls" ("Stall No" integer PRIMARY KEY,
  "Town" text NOT NULL, "Rent €" numeric(8,2), "on sunday" boolean NOT NULL DEFAULT false)`)
	exec1(t, j.p.targetURL(), `INSERT INTO saltmarsh."Market Stalls" VALUES (1, 'Old Fen'), (2, 'Old Quay'),
  (3, 'Old Dyke')`)
	press(t, ctx, "Survey again")
	shows(t, ctx, "it holds 3 rows")
	j.looked("survey")
}

func (j *journey) review() {
	t, ctx := j.t, j.ctx
	follow(t, ctx, "5. Review")
	shows(t, ctx, "the settings refuse to remove them")
	if ok, _ := offered(t, ctx, "Start the crossing"); ok {
		t.Error("it can be started although something blocks")
	}
	follow(t, ctx, "3. Settings")
	fill(t, ctx, "Target tables that hold rows", "empty")
	fill(t, ctx, "Chunk size", "0.26")
	fill(t, ctx, "Speed limit", "0.35")
	eval[bool](t, ctx,
		`(() => { [...document.querySelectorAll('label')].find(l => l.innerText.startsWith('stop writes')).querySelector('input').click(); return true })()`)
	axe(t, ctx, "settings of the crossing")
	press(t, ctx, "Save")
	eventually(t, 10*time.Second, func() bool {
		s := j.f.show().Settings
		return *s.SpeedLimit == 350_000 && len(*s.HoldPoints) == 1
	})
	follow(t, ctx, "5. Review")
	shows(t, ctx, "3 rows in 1 table will be removed")
	j.looked("review")
	// Without the name nothing is removed, whoever asks.
	_, err := client.Do[contract.Crossing](j.f.API.StartCrossingWithResponse(t.Context(), "spring",
		contract.StartCrossingJSONRequestBody{}))
	refused(t, err, "removes 3 rows", "giving the target's name, new")
	press(t, ctx, "Start the crossing")
	shows(t, ctx, "Type new to confirm")
	axe(t, ctx, "the question before the start")
	if ok, _ := offered(t, ctx, "Start"); ok {
		t.Error("it starts without the target's name")
	}
	fill(t, ctx, "Type", "old")
	if ok, _ := offered(t, ctx, "Start"); ok {
		t.Error("it starts with another name than the target's")
	}
	fill(t, ctx, "Type", "new")
	press(t, ctx, "Start")
	shows(t, ctx, "loading")
}

func (j *journey) underWay() {
	t, ctx := j.t, j.ctx
	follow(t, ctx, "Under way")
	read := func(id string) string {
		return eval[string](t, ctx, `document.querySelector('[data-testid=`+id+`]')?.innerText ?? ''`)
	}
	first := read("loaded")
	eventually(t, 20*time.Second, func() bool {
		return read("loaded") != first && strings.Contains(read("speed"), "kB/s")
	})
	shows(t, ctx, "lanes at work")
	time.Sleep(7 * time.Second) // some history for the charts
	// The page answers without scrolling.
	if over := eval[float64](t, ctx, `document.documentElement.scrollHeight - window.innerHeight`); over > 0 {
		t.Errorf("the page of a crossing under way is %v px higher than 800", over)
	}
	if title := eval[string](t, ctx, `document.title`); !strings.HasPrefix(title, "spring: loading") ||
		!strings.Contains(title, "%") {
		t.Errorf("the tab's title does not tell: %q", title)
	}
	j.looked("under-way")
	// A chart says exact values under the arrow keys, and zooms by its address.
	eval[bool](t, ctx,
		`(() => { const c = document.querySelector('figure [role=img]'); c.focus(); for (let i = 0; i < 2; i++) c.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowLeft', bubbles: true })); return true })()`)
	shows(t, ctx, "at ")
	fill(t, ctx, "Window", "5")
	shows(t, ctx, "last 5 minutes")
	if q := eval[string](t, ctx, `location.search`); !strings.Contains(q, "window=5") {
		t.Errorf("the window is not in the address: %q", q)
	}
}

func (j *journey) ledger() {
	t, ctx := j.t, j.ctx
	follow(t, ctx, "saltmarsh.scale_readings")
	shows(t, ctx, "Chunk ledger", "Choose a cell")
	eventually(t, 20*time.Second, func() bool {
		return eval[bool](t, ctx, `document.querySelector('canvas[role=application]') !== null`)
	})
	eval[bool](t, ctx,
		`(() => { const c = document.querySelector('canvas[role=application]'); c.focus(); for (const key of ['Home', 'ArrowRight']) c.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true })); return true })()`)
	shows(t, ctx, "to below", "log position")
	if q := eval[string](t, ctx, `location.search`); !strings.Contains(q, "chunk=") {
		t.Errorf("the chunk is not in the address: %q", q)
	}
	j.looked("chunk-ledger")
}

func (j *journey) steer() {
	t, ctx := j.t, j.ctx
	press(t, ctx, "Pause")
	shows(t, ctx, "handed back within seconds")
	axe(t, ctx, "the question before pausing")
	press(t, ctx, "Pause it")
	shows(t, ctx, "paused by admin")
	if title := eval[string](t, ctx, `document.title`); !strings.Contains(title, "scale_readings") {
		t.Errorf("title %q", title)
	}
	press(t, ctx, "Resume")
	j.at("/crossings/spring")
	shows(t, ctx, "Apply now")
	fill(t, ctx, "Lanes", "4")
	fill(t, ctx, "Limit", "0")
	press(t, ctx, "Apply now")
	eventually(t, 10*time.Second, func() bool { s := j.f.show().Settings; return *s.SpeedLimit == 0 && *s.Lanes == 4 })
	shows(t, ctx, "in step", "100 %")
}

func (j *journey) changes() {
	t, ctx := j.t, j.ctx
	follow(t, ctx, "Changes")
	shows(t, ctx, "Last transactions applied", "0/", "ins")
	j.looked("changes")
}

func (j *journey) reconcile(app *demo.App) {
	t, ctx := j.t, j.ctx
	app.Stop() // what is damaged here stays as it is
	settle(t, j.f)
	exec1(t, j.p.targetURL(), `
SET session_replication_role = replica;
UPDATE saltmarsh.harvest_lots SET lot = 'LOT-7 ' WHERE lot = 'LOT-7';
UPDATE saltmarsh.keepers SET name = upper(name) WHERE id = 5;
DELETE FROM saltmarsh.lot_sources WHERE lot_id = 3;
INSERT INTO saltmarsh."Market Stalls" VALUES (900, 'Nowhere')`)
	follow(t, ctx, "Reconcile")
	shows(t, ctx, "Number 1", "clean") // settling has counted
	press(t, ctx, "Compare now")
	shows(t, ctx, "differing", "Findings", "5 open")
	shows(t, ctx, "LOT-7·") // the space that makes the difference can be seen
	if marked := eval[float64](t, ctx, `document.querySelectorAll('mark').length`); marked < 4 {
		t.Errorf("%v places are marked", marked)
	}
	fill(t, ctx, "Table", "saltmarsh.harvest_lots")
	eventually(t, 40*time.Second, func() bool {
		return eval[float64](t, ctx, `document.querySelectorAll('li[id^=finding]').length`) == 1
	})
	press(t, ctx, "Show all 8 columns")
	shows(t, ctx, "Only what differs")
	eval[bool](t, ctx, `(() => { document.querySelector('li[id^=finding]').scrollIntoView(); return true })()`)
	j.looked("findings")

	press(t, ctx, "Repair")
	shows(t, ctx, "it is overwritten")
	fill(t, ctx, "Type spring to confirm", "spring")
	press(t, ctx, "Copy this row again")
	shows(t, ctx, "4 open, 1 repaired")
	press(t, ctx, "Compare again")
	shows(t, ctx, "compared again: equal")
	fill(t, ctx, "Table", "")
	press(t, ctx, "Repair all open")
	shows(t, ctx, "4 rows of new are made what old has")
	fill(t, ctx, "Type spring to confirm", "spring")
	press(t, ctx, "Copy these rows again")
	shows(t, ctx, "0 open, 4 repaired")
	press(t, ctx, "Compare these rows again")
	shows(t, ctx, "0 open, 0 repaired, 5 compared again and equal")
}

func (j *journey) cutover(app *demo.App) {
	t, ctx := j.t, j.ctx
	j.f.must("crossing", "set", "spring", "--return-path", "open")
	follow(t, ctx, "Cutover")
	shows(t, ctx, "compared again after a repair and are equal", "not been rehearsed")
	press(t, ctx, "Rehearse")
	press(t, ctx, "Rehearse it")
	shows(t, ctx, "waiting for a person to go on")
	// Held before writes stop: the source still takes them, and a person may abort.
	exec1(t, j.p.sourceURL(), `UPDATE saltmarsh.keepers SET name = name WHERE id = 1`)
	press(t, ctx, "Abort and undo")
	shows(t, ctx, "takes writes again within seconds")
	press(t, ctx, "Abort and undo")
	shows(t, ctx, "aborted by admin", "undone")
	eventually(t, 20*time.Second, func() bool { ok, _ := offered(t, ctx, "Rehearse"); return ok })
	press(t, ctx, "Rehearse")
	press(t, ctx, "Rehearse it")
	shows(t, ctx, "waiting for a person to go on")
	press(t, ctx, "Go on")
	shows(t, ctx, "Let it go on?")
	press(t, ctx, "Go on")
	shows(t, ctx, "writes paused")
	eventually(t, 30*time.Second, func() bool { ok, _ := offered(t, ctx, "Cut over"); return ok })
	press(t, ctx, "Cut over")
	shows(t, ctx, "Type spring to confirm", "The rehearsal paused writes for")
	fill(t, ctx, "Type", "spring")
	press(t, ctx, "Cut over")
	shows(t, ctx, "waiting for a person to go on")
	press(t, ctx, "Go on")
	press(t, ctx, "Go on")
	shows(t, ctx, "cut over", "release")
	j.f.awaitPhase(contract.PhaseCutOver)
	shows(t, ctx, "Return path of spring", "in charge: takes writes", "closed to everybody else", "as rehearsed")
	j.looked("cutover")
	follow(t, ctx, "the cutover of spring-back")
	shows(t, ctx, "spring-back", "Go back to old")
	j.at("/crossings/spring/cutover")
	shows(t, ctx, "cut over, return open")
	sameEverywhere(t, j.p, "saltmarsh")
}

func (j *journey) certificate() {
	t, ctx := j.t, j.ctx
	follow(t, ctx, "Certificate")
	shows(t, ctx, "written when the crossing is closed")
	press(t, ctx, "Close")
	fill(t, ctx, "Type", "spring")
	shows(t, ctx, "Its return path, spring-back, goes on")
	press(t, ctx, "Close it")
	shows(t, ctx, "Certificate of the crossing spring", "Decided by admin", "saltmarsh.Market Stalls")
	j.looked("certificate")
	var pdf []byte
	err := chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		r, err := chromedp.Call(ctx, page.PrintToPDF, page.PrintToPDFParams{})
		pdf = r.Data
		return err
	}))
	if err != nil || !bytes.HasPrefix(pdf, []byte("%PDF")) {
		t.Errorf("it cannot be printed: %d bytes (%v)", len(pdf), err)
	}
	if n := bytes.Count(pdf, []byte("/Type /Page\n")) + bytes.Count(pdf, []byte("/Type /Page ")); n > 3 {
		t.Errorf("the certificate takes %d pages", n)
	}
	text, err := client.Do[string](j.f.API.GetCertificateWithResponse(t.Context(), "spring",
		&contract.GetCertificateParams{Format: ptr("text")}))
	if err != nil || !strings.Contains(text, "CERTIFICATE OF THE CROSSING spring") {
		t.Errorf("the file is %q (%v)", text, err)
	}
}

// shared looks at the pages that belong to no crossing.
func (j *journey) shared() {
	t, ctx := j.t, j.ctx
	j.at("/journal")
	shows(t, ctx, "admin started spring", "looked at the first rows of saltmarsh.harvest_lots",
		"asked to copy the rows of 4 findings")
	fill(t, ctx, "Severity", "warning")
	eventually(t, 10*time.Second, func() bool { return !strings.Contains(shown(t, ctx), "admin started spring") })
	shows(t, ctx, "asked to abort")
	j.looked("journal")
	j.at("/crossings/spring/log?about=saltmarsh.keepers")
	shows(t, ctx, "copied again (reconciliation")
	axe(t, ctx, "log")
	j.at("/workers")
	shows(t, ctx, "at work")
	j.looked("workers")
	j.at("/access")
	fill(t, ctx, "Name", "night-watch")
	fill(t, ctx, "Role", "viewer")
	j.looked("access") // before: a token belongs in no picture
	press(t, ctx, "Make it")
	shows(t, ctx, "Keep it now", "night-watch")
	axe(t, ctx, "a token that was made")
	j.at("/settings")
	shows(t, ctx, "Defaults for new crossings", "PostgreSQL")
	j.looked("settings")
	paper := func() string { return eval[string](t, ctx, `getComputedStyle(document.body).backgroundColor`) }
	light := paper()
	do(t, ctx, emulated("dark"))
	dark := paper()
	fill(t, ctx, "Colours", "light")
	if light == dark || paper() != light {
		t.Errorf("by the system %s and %s, light by choice %s", light, dark, paper())
	}
	do(t, ctx, emulated("light"))
	fill(t, ctx, "Colours", "dark")
	eventually(t, 5*time.Second, func() bool { return paper() == dark })
	if theme := eval[string](t, ctx, `document.documentElement.dataset.theme ?? ''`); theme != "dark" {
		t.Errorf("the theme is %q", theme)
	}
	fill(t, ctx, "Times", "utc")
	shows(t, ctx, " UTC")
	fill(t, ctx, "Lanes", "3")
	press(t, ctx, "Save")
	eventually(t, 10*time.Second, func() bool {
		s, err := client.Do[contract.Settings](j.f.API.GetDefaultsWithResponse(t.Context()))
		return err == nil && *s.Lanes == 3
	})
	axe(t, ctx, "settings, dark")
	j.at("/crossings/spring")
	shows(t, ctx, "closed")
	time.Sleep(time.Second)
	j.looked("under-way-dark")
	j.at("/nowhere")
	shows(t, ctx, "There is no such page")
	j.at("/crossings/nobody")
	shows(t, ctx, "there is no crossing named nobody")
	// Back and forward go where one was.
	j.at("/")
	follow(t, ctx, "spring")
	shows(t, ctx, "Rows landed")
	eval[bool](t, ctx, `(() => { history.back(); return true })()`)
	shows(t, ctx, "Plan a crossing")
	j.looked("overview")
}
