package hunt

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// patience is how long a wait may take before it counts as a standstill, on a busy machine.
const patience = 2 * time.Minute

func (r *run) path(rest string) string { return "/api/crossings/" + r.name + rest }

// operate does what an operator would.
func (r *run) operate(text string) error {
	word, rest, _ := strings.Cut(text, " ")
	switch word {
	case "create":
		return r.create()
	case "start":
		return r.ask("/start", answer{"confirm": "target"})
	case "pause":
		return r.ask("/pause", answer{"keep_capture": rest == "load"})
	case "resume":
		return r.ask("/resume", nil)
	case "restart":
		return r.ask("/restart", answer{"table": rest, "confirm": rest})
	case "add":
		r.added = append(r.added, rest)
		return r.add(rest)
	case "await":
		return r.await(rest)
	case "wait":
		d, err := time.ParseDuration(rest)
		time.Sleep(d)
		return err
	case "kill":
		r.product.kill()
		return r.product.start(r.ctx)
	case "freeze":
		r.product.freeze(1500 * time.Millisecond)
		return nil
	case "equal":
		return r.equal()
	case "reconcile":
		return r.reconcile()
	case "mend":
		return r.mend()
	case "abort":
		return r.abort(rest)
	case "rehearse":
		return r.cutover(true, "")
	case "cutover":
		return r.cutover(false, rest)
	case "turn":
		return r.turn()
	case "close":
		return r.close()
	}
	return fmt.Errorf("nothing is known of %q", text)
}

// ask asks for an act. What is refused because of the phase, as a pause of what is over, is
// no word about a table; everything else is.
func (r *run) ask(path string, body any) error {
	_, err := r.product.do(r.ctx, "POST", r.path(path), body)
	var no *refusal
	if errors.As(err, &no) && path != "/start" {
		return nil
	}
	if no != nil {
		return errTold{no.text}
	}
	return err
}

func (r *run) create() error {
	if err := r.remember(); err != nil {
		return err
	}
	for _, s := range []side{r.source, r.target} {
		if _, err := r.product.do(r.ctx, "POST", "/api/databases", answer{"name": r.name + "_" + s.name, "engine": s.engine(),
			"host": "127.0.0.1",
			"port": s.port(), "database": s.database, "user": s.user, "password": "honey", "tls": "disable"}); err != nil {
			return told(err)
		}
	}
	body := answer{"name": r.name, "source": r.name + "_source", "target": r.name + "_target", "settings": r.s.Settings}
	if r.s.Kind != "" {
		body["kind"] = r.s.Kind
		switch differs, err := r.differ(); {
		case err != nil:
			return fmt.Errorf("both sides are to be equal before capture alone begins: %w", err)
		case differs != "":
			return fmt.Errorf("both sides are to be equal before capture alone begins: %s", differs)
		}
	}
	if len(r.s.Tables) > 0 {
		var tables []string
		for _, t := range r.s.Tables {
			tables = append(tables, r.text(t))
		}
		body["tables"] = tables
	}
	if len(r.s.Where) > 0 {
		var rules []answer
		for _, t := range sortedKeys(r.s.Where) {
			rules = append(rules, answer{"tables": t, "where": r.s.Where[t]})
		}
		body["rules"], body["kind"] = rules, "load"
	}
	_, err := r.product.do(r.ctx, "POST", "/api/crossings", body)
	r.created = err == nil
	if err == nil { // who moves data looks before; what the survey tells of is told
		_, _ = r.product.do(r.ctx, "POST", r.path("/survey"), nil)
	}
	return told(err)
}

func told(err error) error {
	var no *refusal
	if errors.As(err, &no) {
		return errTold{no.text}
	}
	return err
}

// await waits for a phase. A crossing that is held has spoken.
func (r *run) await(phase string) error {
	order := []string{"loading", "catching up", "in step", "cut over", "closed"}
	rank := func(p string) int {
		for i, o := range order {
			if o == p {
				return i
			}
		}
		return -1
	}
	var c answer
	var err error
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(60 * time.Millisecond) {
		if c, err = r.product.get(r.ctx, r.path("")); err != nil {
			return err
		}
		if said := r.stopped(c); said != "" {
			return errTold{said}
		}
		if rank(str(c, "phase")) >= rank(phase) {
			return nil
		}
	}
	return fault("standstill: not %s within %s, but %s and %s: %s %s", phase, patience, str(c, "phase"),
		str(c, "condition"), str(c, "waits_for"), r.why())
}

// stopped is what a crossing says that has stopped.
func (r *run) stopped(c answer) string {
	if k := str(c, "condition"); k == "held" || k == "failed" {
		return k + ": " + str(c, "reason")
	}
	if tables, _ := r.product.list(r.ctx, r.path("/tasks")); len(tables) > 0 && str(tables[0], "state") == "failed" &&
		str(tables[0], "kind") != "cutover" && str(c, "phase") != "in step" {
		return "the task " + str(tables[0], "kind") + " failed: " + str(tables[0], "error")
	}
	return ""
}

// why is what is under way, and the newest line of the journal.
func (r *run) why() string {
	var out string
	tasks, _ := r.product.list(r.ctx, r.path("/tasks"))
	for _, t := range tasks {
		if s := str(t, "state"); s == "running" || s == "waiting" {
			out += fmt.Sprintf("; task %s %s on %s: %s", str(t, "kind"), s, str(t, "worker"), str(t, "note"))
		}
	}
	if j := r.journal(); len(j) > 0 {
		out += "; " + j[len(j)-1]
	}
	return out
}

// equal waits until both sides are equal by plain SQL, while nobody writes any more.
func (r *run) equal() error {
	r.quiet()
	var differs string
	var still time.Time // since when it has believed to be done
	for end := time.Now().Add(patience); ; time.Sleep(200 * time.Millisecond) {
		c, err := r.product.get(r.ctx, r.path(""))
		if err != nil {
			return err
		}
		if said := r.stopped(c); said != "" {
			return errTold{said}
		}
		if differs, err = r.differ(); err != nil {
			return err
		}
		if differs == "" {
			return nil
		}
		p, _ := c["progress"].(answer)
		lag, _ := p["lag_seconds"].(float64)
		bytes, _ := p["lag_bytes"].(float64)
		done := str(c, "phase") == "in step" && lag < 3 && bytes == 0 && p["lag_age_seconds"] == nil
		switch {
		case !done:
			still = time.Time{}
		case still.IsZero():
			still = time.Now()
		}
		if time.Now().After(end) || done && time.Since(still) > believed {
			return r.silent(fmt.Sprintf("%s, lag %.1f s and %.0f bytes", differs, lag, bytes), c)
		}
	}
}

// believed is for how long a crossing may take itself for done while it is not: it looks at
// its tables every few seconds.
const believed = 8 * time.Second

// silent is a difference that nobody told of, unless the readiness list does.
func (r *run) silent(differs string, c answer) error {
	if said := r.unready() + r.surveyed(); said != "" && r.mayTell(said) {
		return errTold{said}
	}
	return fault("%s, and it is %s and %s; %s%s", differs, str(c, "phase"), str(c, "condition"), str(c, "waits_for"),
		r.why())
}

// surveyed is what the last survey says that is no plain yes.
func (r *run) surveyed() string {
	list, _ := r.product.list(r.ctx, r.path("/survey"))
	var out string
	for _, e := range list {
		if v := str(e, "verdict"); v != "ok" && v != "fine" {
			out += "; " + str(e, "subject") + ": " + str(e, "measured")
		}
	}
	return out
}

// unready is what the readiness list says that is no plain yes.
func (r *run) unready() string {
	list, _ := r.product.list(r.ctx, r.path("/readiness"))
	var out []string
	for _, e := range list {
		if v := str(e, "verdict"); v != "ok" && v != "fine" {
			out = append(out, str(e, "subject")+": "+str(e, "measured"))
		}
	}
	return strings.Join(out, "; ")
}

// reconcile compares, and holds the answer against plain SQL when nobody writes.
func (r *run) reconcile() error {
	v, err := r.product.do(r.ctx, "POST", r.path("/reconciliations"), answer{"depth": "hashes"})
	if err != nil {
		var no *refusal
		if errors.As(err, &no) {
			return nil
		}
		return err
	}
	a, _ := v.(answer)
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if a, err = r.product.get(r.ctx, r.path(fmt.Sprintf("/reconciliations/%v", a["id"]))); err != nil {
			return err
		}
		switch str(a, "state") {
		case "waiting", "running":
			continue
		case "clean":
			if len(r.loops) > 0 || len(r.sessions) > 0 {
				return nil
			}
			differs, err := r.differ()
			if err == nil && differs != "" {
				return fault("compared clean, but %s", differs)
			}
			return err
		case "differing":
			differs, err := r.differ()
			if err != nil {
				return err
			}
			if differs == "" && len(r.loops) == 0 {
				return fault("%v findings, but both sides are equal", a["findings"])
			}
			return errTold{fmt.Sprintf("compared: %v findings in %s; %s", a["findings"], r.found(a["id"]), differs)}
		default:
			return errTold{"the comparison failed: " + str(a, "error")}
		}
	}
	return fault("standstill: a comparison did not end within %s%s", patience, r.why())
}

// found names the tables that a comparison's findings are of.
func (r *run) found(comparison any) string {
	page, _ := r.product.get(r.ctx, r.path(fmt.Sprintf("/reconciliations/%v/findings?limit=200", comparison)))
	list, _ := page["findings"].([]any)
	var out []string
	for _, x := range list {
		if f, is := x.(answer); is && !slices.Contains(out, str(f, "table")) {
			out = append(out, str(f, "table"))
		}
	}
	return strings.Join(out, ", ")
}

// cutover carries one out; what befalls it is a strike, or empty.
func (r *run) cutover(rehearsal bool, befalls string) error {
	if r.cutOver { // what was to be aborted was faster
		return nil
	}
	r.stopping.Store(true)
	defer r.stopping.Store(false)
	if !rehearsal {
		r.quiet()
	}
	body := answer{"rehearsal": rehearsal, "confirm": r.name}
	_, err := r.product.do(r.ctx, "POST", r.path("/cutovers"), body)
	// an older build knows no confirmation
	if no := (*refusal)(nil); errors.As(err, &no) && strings.Contains(no.text, "confirm") {
		delete(body, "confirm")
		_, err = r.product.do(r.ctx, "POST", r.path("/cutovers"), body)
	}
	// What will pass by itself an operator waits for, longest for a server that is too busy to answer.
	for began := time.Now(); err != nil && !rehearsal; time.Sleep(500 * time.Millisecond) {
		no := (*refusal)(nil)
		if !errors.As(err, &no) || r.mayTell(no.text) || time.Since(began) > patience/2 &&
			(time.Since(began) > 2*patience || !strings.Contains(no.text, "did not answer in time")) {
			break
		}
		// What a rehearsal found that was undone, as an application wrote in spite of read-only, is
		// compared again: both sides were found equal since.
		if strings.Contains(no.text, "findings open") || strings.Contains(no.text, "a comparison by counts found") {
			if err := r.reconcile(); err != nil {
				return err
			}
		}
		_, err = r.product.do(r.ctx, "POST", r.path("/cutovers"), body)
	}
	if err != nil {
		if rehearsal {
			return nil
		}
		if no := (*refusal)(nil); errors.As(err, &no) {
			return errTold{no.text + " " + r.unready()}
		}
		return err
	}
	if err := r.strike(befalls); err != nil {
		return err
	}
	again := 2 // what was undone is tried again: something may have come in between
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		list, err := r.product.list(r.ctx, r.path("/cutovers"))
		if err != nil {
			return err
		}
		if len(list) == 0 || list[0]["ended_at"] == nil {
			continue
		}
		switch state := str(list[0], "state"); {
		case rehearsal:
			return nil
		case state == "done":
			r.cutOver = true
			return r.afterwards()
		case again > 0 && !r.mayTell(str(list[0], "error")):
			again--
			if _, err := r.product.do(r.ctx, "POST", r.path("/cutovers"), body); err != nil {
				if no := (*refusal)(nil); !errors.As(err, &no) || r.mayTell(no.text) {
					return told(err)
				}
				again++ // not ready at this moment
				time.Sleep(500 * time.Millisecond)
			}
		default:
			return errTold{"the cutover was " + state + ": " + str(list[0], "error")}
		}
	}
	return fault("standstill: a cutover did not end within %s%s", patience, r.why())
}

// close ends the crossing; nothing of ours may stay.
func (r *run) close() error {
	for r.turned() { // the newest first: each is the way back of the one before
		if err := r.closeOne(); err != nil {
			return err
		}
		r.name, r.before = r.before[len(r.before)-1], r.before[:len(r.before)-1]
	}
	if err := r.closeOne(); err != nil {
		return err
	}
	return r.leftBehind()
}

func (r *run) closeOne() error {
	if c, err := r.product.get(r.ctx, r.path("")); err == nil && str(c, "return_by") != "" {
		was := r.name
		r.name = str(c, "return_by")
		if err := r.closeOne(); err != nil {
			return err
		}
		r.name = was
	}
	if _, err := r.product.do(r.ctx, "POST", r.path("/close"), answer{"reopen": true, "confirm": r.name}); err != nil {
		return told(err)
	}
	if err := r.await("closed"); err != nil {
		return err
	}
	// The phase comes first, so that nothing begins any more; then what was made is removed.
	for end := time.Now().Add(patience); ; time.Sleep(200 * time.Millisecond) {
		tasks, err := r.product.list(r.ctx, r.path("/tasks"))
		if err != nil {
			return err
		}
		switch {
		case len(tasks) == 0 || str(tasks[0], "state") == "done":
			return nil
		case str(tasks[0], "state") == "failed":
			return fault("closing failed: %s", str(tasks[0], "error"))
		case time.Now().After(end):
			return fault("standstill: closing did not end within %s%s", patience, r.why())
		}
	}
}
