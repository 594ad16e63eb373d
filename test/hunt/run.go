package hunt

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"dustyferry/internal/localserver"
)

// Verdict is what came of a script.
type Verdict struct {
	Fault string // empty: equal, or rightly told
	Told  string // what the product said when it stopped
	Notes []string
}

func (v Verdict) String() string {
	switch {
	case v.Fault != "":
		return "FAULT " + v.Fault
	case v.Told != "":
		return "told: " + v.Told
	}
	return "equal"
}

// errTold ends a script whose crossing has stopped with a word.
type errTold struct{ said string }

func (e errTold) Error() string { return e.said }

// errFault ends a script with a fault.
type errFault struct{ what string }

func (e errFault) Error() string { return e.what }

func fault(format string, args ...any) error { return errFault{fmt.Sprintf(format, args...)} }

// side is one of the two databases.
type side struct {
	server   *localserver.Postgres
	maria    *localserver.MariaDB
	name     string
	database string
	user     string // whom the product signs in as
}

func (s side) url(user, password string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(user, password), Host: fmt.Sprintf("%s:%d", s.server.Host,
		s.server.Port), Path: "/" + s.database}
	return u.String()
}

// run is one script at work.
type run struct {
	*Lane
	s          *Script
	ctx        context.Context
	name       string
	source     side
	target     side
	sessions   map[string]session
	loops      []func()
	done       int // steps
	created    bool
	identities map[string]identity          // of every table before
	added      []string                     // tables
	refused    []string                     // what the application was refused
	globals    map[string]map[string]string // variables of MariaDB servers as they were
	schemas    map[string]string            // of a PostgreSQL side's tables, where the other is MariaDB
	stopping   atomic.Bool                  // a rehearsal or a cutover may refuse writes
	mu         sync.Mutex
	cutOver    bool
	before     []string // crossings whose return paths were gone over, the first one first
}

// Run carries a script out and judges.
func (l *Lane) Run(ctx context.Context, s *Script) (v Verdict) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	l.made++
	r := &run{Lane: l, s: s, ctx: ctx, name: fmt.Sprintf("seed_%d_%d", s.Seed, l.made), sessions: map[string]session{}}
	id := fmt.Sprintf("%d_%d", s.Seed%1e6, l.made)
	r.source, r.target = l.source, l.target
	r.source.database, r.target.database = "src_"+id, "dst_"+id
	r.source.user, r.target.user = "mover_"+id, "mover_"+id
	defer r.clean()
	err := r.all()
	if err == nil {
		err = r.judge()
	}
	r.mu.Lock()
	refused := r.refused
	r.mu.Unlock()
	var f errFault
	var t errTold
	switch {
	case errors.As(err, &f):
		v.Fault = f.what
	case errors.As(err, &t):
		v.Told = t.said
		if strings.Contains(t.said, "something went wrong inside") {
			v.Fault = "no word that helps: " + t.said
		} else if !r.mayTell(t.said) {
			v.Fault = "told for nothing: " + t.said
		}
	case err != nil:
		v.Fault = "the hunt itself: " + err.Error()
	}
	if v.Fault == "" && len(refused) > 0 {
		v.Fault = "the application was refused because of us: " + refused[0]
	}
	if v.Fault != "" {
		v.Notes = append(r.journal(), r.findings()...)
	}
	return v
}

// mayTell reports whether what was said names a table that it may name by now.
func (r *run) mayTell(said string) bool {
	if r.s.Pair == "pm" && strings.Contains(said, "MariaDB has no date") { // the generator goes beyond the year 9999
		return true
	}
	if r.s.Settings["return_path"] != nil && strings.Contains(said, "the way back:") { // which not every table has
		return true
	}
	// In the role replica a source itself takes twice what a deferrable constraint would refuse.
	if strings.Contains(said, "could not create unique index") && r.s.has("DEFERRABLE") &&
		r.s.has("session_replication_role = replica; BEGIN") {
		return true
	}
	may := r.s.May(r.done)
	if strings.Contains(said, "has no table that can be carried") && len(may) > 0 { // the only one was dropped
		return true
	}
	for _, name := range may {
		if name == "*" || strings.Contains(bare(said), bare(name)) {
			return true
		}
	}
	return false
}

// bare is a text without the marks around names, which may be doubled or escaped.
func bare(s string) string { return strings.NewReplacer(`"`, "", `\`, "").Replace(s) }

func (r *run) journal() []string {
	list, _ := r.product.list(r.ctx, "/api/journal?crossing="+escape(r.name)+"&limit=40")
	var out []string
	for i := len(list) - 1; i >= 0; i-- {
		out = append(out, str(list[i], "at")+" "+str(list[i], "message"))
	}
	return out
}

// findings are the first of the last comparison that has any.
func (r *run) findings() []string {
	list, _ := r.product.list(r.ctx, r.path("/reconciliations"))
	for _, c := range list {
		if n, _ := c["findings"].(float64); n > 0 {
			page, _ := r.product.get(r.ctx, r.path(fmt.Sprintf("/reconciliations/%v/findings?limit=3", c["id"])))
			return []string{fmt.Sprintf("findings of %v: %.1500v", c["id"], page)}
		}
	}
	return nil
}

// prepare makes the databases and the roles.
func (r *run) prepare() error {
	for _, x := range []struct {
		side side
		how  string
	}{{r.source, r.s.Source}, {r.target, r.s.Target}} {
		if x.side.maria != nil {
			if err := r.prepareMaria(x.side, x.how); err != nil {
				return err
			}
			continue
		}
		if err := r.superuser(r.ctx, x.side.server, "CREATE DATABASE "+x.side.database+" TEMPLATE template0 "+x.how,
			"CREATE ROLE "+x.side.user+" LOGIN SUPERUSER PASSWORD 'honey'"); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) all() error {
	if err := r.prepare(); err != nil {
		return err
	}
	for i, st := range r.s.Steps {
		r.done = i + 1
		if err := r.step(st); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) step(st Step) error {
	switch st.Do {
	case Set:
		c, err := r.session(st.On)
		if err != nil {
			return err
		}
		if err := c.exec(r.ctx, r.text(st.Text)); err != nil && !ownAffair(err) {
			return fmt.Errorf("%w in %s", err, short(st.Text))
		}
	case SQL:
		if st.On == "target careless" && r.cutOver { // the target is in charge now
			return nil
		}
		c, err := r.session(st.On)
		if err == nil {
			if err = c.exec(r.ctx, r.text(st.Text)); err != nil {
				_ = c.exec(r.ctx, "ROLLBACK")
			}
		}
		r.heed(st.Text, err)
	case Loop:
		r.loop(st)
	case Quiet:
		r.quiet()
	case Server:
		return r.befall(st)
	case Ferry:
		return r.operate(r.text(st.Text))
	}
	return nil
}

// ownAffair reports whether a server refuses what the generator thought of, for a reason that
// it does not foresee: the step then has not happened.
func ownAffair(err error) bool {
	for _, sign := range []string{"exceeds btree", "Not allowed for system-versioned",
		"may reference only permanent tables", "cannot add relation"} {
		if strings.Contains(err.Error(), sign) {
			return true
		}
	}
	return false
}

// text puts the names of this run into a statement.
func (r *run) text(sql string) string {
	return strings.NewReplacer("{source}", r.source.database, "{target}", r.target.database, "{mover}",
		r.source.user).Replace(sql)
}

// heed keeps what the application was refused because of the product. Errors of its own, as
// of a statement whose forerunner the shrinking left out, are its own affair.
func (r *run) heed(sql string, err error) {
	if err == nil {
		return
	}
	said := err.Error()
	for _, sign := range []string{"replica identity", "publication", "dusty_ferry", "read-only"} {
		if strings.Contains(said, sign) && !r.cutOver && !r.stopping.Load() {
			r.mu.Lock()
			r.refused = append(r.refused, fmt.Sprintf("%s: %s", short(sql), said))
			r.mu.Unlock()
		}
	}
}

func short(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if len(s) > 160 {
		s = s[:160] + "…"
	}
	return s
}

// session returns the named session, anew when it was cut.
func (r *run) session(on string) (session, error) {
	if c := r.sessions[on]; c != nil && !c.gone() {
		return c, nil
	}
	c, err := r.connect(on)
	if err == nil {
		r.sessions[on] = c
	}
	return c, err
}

func (r *run) loop(st Step) {
	ctx, cancel := context.WithCancel(r.ctx)
	var done sync.WaitGroup
	done.Go(func() {
		var c session
		for n := 0; ctx.Err() == nil; n++ {
			var err error
			if c == nil || c.gone() {
				if c, err = r.connect(st.On); err != nil {
					time.Sleep(100 * time.Millisecond)
					continue
				}
			}
			err = c.exec(ctx, strings.ReplaceAll(r.text(st.Text), "{n}", fmt.Sprint(n)))
			if ctx.Err() == nil {
				r.heed(st.Text, err)
			}
			if err != nil {
				_ = c.exec(ctx, "ROLLBACK")
			}
			time.Sleep(20 * time.Millisecond)
		}
		if c != nil {
			c.close(context.Background())
		}
	})
	r.loops = append(r.loops, func() { cancel(); done.Wait() })
}

// quiet ends what the application does.
func (r *run) quiet() {
	for _, stop := range r.loops {
		stop()
	}
	r.loops = nil
	for k, c := range r.sessions {
		c.close(r.ctx)
		delete(r.sessions, k)
	}
	if r.source.maria != nil {
		r.quietMaria()
		return
	}
	c, err := r.open(r.source)
	if err != nil {
		return
	}
	defer func() { _ = c.Close(r.ctx) }()
	list, _ := r.strings1(c, "SELECT gid FROM pg_prepared_xacts WHERE database = current_database()")
	for _, gid := range list {
		_, _ = c.Exec(r.ctx, "COMMIT PREPARED '"+gid+"'")
	}
}

func (r *run) befall(st Step) error {
	s := r.source
	if st.On == "target" {
		s = r.target
	}
	if s.maria != nil {
		return r.befallMaria(s, st.Text)
	}
	switch st.Text {
	case "crash":
		return s.server.Crash(r.ctx, 100*time.Millisecond)
	case "cut":
		return r.superuser(r.ctx, s.server, fmt.Sprintf("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE "+
			"datname = '%s' AND usename = '%s'", s.database, s.user))
	}
	return fmt.Errorf("nothing is known of %q", st.Text)
}

// clean removes what the run made, as far as it can, for the sake of the next one.
func (r *run) clean() {
	r.quiet()
	for r.created {
		if c, err := r.product.get(context.Background(), r.path("")); err == nil && str(c, "return_by") != "" {
			r.end(str(c, "return_by"))
		}
		r.end(r.name)
		if !r.turned() {
			break
		}
		r.name, r.before = r.before[len(r.before)-1], r.before[:len(r.before)-1]
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for _, s := range []side{r.source, r.target} {
		if s.maria != nil {
			r.cleanMaria(s)
			continue
		}
		_ = r.superuser(ctx, s.server, fmt.Sprintf("DO $$ BEGIN PERFORM pg_terminate_backend(active_pid) FROM "+
			"pg_replication_slots WHERE database = '%[1]s' AND active; "+
			"PERFORM pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '%[1]s'; END $$", s.database))
		for range 20 {
			if r.superuser(ctx, s.server, fmt.Sprintf("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots "+
				"WHERE database = '%s'", s.database)) == nil {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		if err := r.superuser(ctx, s.server, "DROP DATABASE IF EXISTS "+s.database+" WITH (FORCE)"); err == nil {
			_ = r.superuser(ctx, s.server, "DROP ROLE IF EXISTS "+s.user)
		}
	}
}

// end closes a crossing and removes it.
func (r *run) end(name string) {
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	for _, end := range []struct {
		path string
		body any
	}{{"/pause", answer{"keep_capture": false}}, {"/close", answer{"reopen": true, "confirm": name}}} {
		_, _, _ = r.product.call(ctx, "POST", "/api/crossings/"+name+end.path, end.body)
	}
	for end := time.Now().Add(4 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		_, b, err := r.product.call(ctx, "GET", "/api/crossings/"+name, nil)
		if err == nil && strings.Contains(string(b), `"phase":"closed"`) {
			break
		}
	}
	_, _, _ = r.product.call(ctx, "DELETE", "/api/crossings/"+name, nil)
}

// Save writes a script beside the others that were found.
func Save(dir string, s *Script, v Verdict) (string, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	name := filepath.Join(dir, fmt.Sprintf("%d.txt", s.Seed))
	f, err := os.Create(name)
	if err != nil {
		return "", err
	}
	defer func() { _ = f.Close() }()
	s.Write(f)
	fmt.Fprintf(f, "\nquiet | verdict\n# %s\n", strings.ReplaceAll(v.String(), "\n", "\n# "))
	return name, nil
}
