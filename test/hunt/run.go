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
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/localserver"
)

// Lane is a place where one script runs at a time: two servers and a product.
type Lane struct {
	dir            string
	binary         string
	source, target *localserver.Postgres
	product        *product
	made           int
}

// Servers are the settings that the servers of a lane differ by.
var Servers = []map[string]string{
	{},
	{"wal_writer_delay": "10s", "log_statement": "all", "client_min_messages": "debug1", "bytea_output": "escape", "DateStyle": "German, DMY",
		"IntervalStyle": "sql_standard", "extra_float_digits": "-3", "row_security": "off", "logical_decoding_work_mem": "64kB", "TimeZone": "America/St_Johns"},
	{"wal_writer_delay": "10s", "logical_decoding_work_mem": "256kB", "default_transaction_isolation": "serializable", "statement_timeout": "20s", "lock_timeout": "3s",
		"idle_in_transaction_session_timeout": "15s", "shared_buffers": "16MB"},
}

// NewLane starts the servers of a lane, whose settings are the number's, and a product of
// the binary.
func NewLane(ctx context.Context, binary string, number int) (*Lane, error) {
	dir, err := os.MkdirTemp("", "hunt-")
	if err != nil {
		return nil, err
	}
	l := &Lane{dir: dir, binary: binary}
	settings := map[string]string{"max_replication_slots": "20", "max_wal_senders": "20", "max_prepared_transactions": "20"}
	for k, v := range Servers[number%len(Servers)] {
		settings[k] = v
	}
	for _, s := range []**localserver.Postgres{&l.source, &l.target} {
		if *s, err = localserver.StartPostgres(ctx, localserver.Options{Settings: settings, Password: "salt & honey", Durable: true}); err != nil {
			l.Close()
			return nil, err
		}
	}
	if err := l.superuser(ctx, l.target, "CREATE DATABASE control TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE 'C.UTF-8' LC_CTYPE 'C.UTF-8'"); err != nil {
		l.Close()
		return nil, err
	}
	// What the records of the service stand on is not what is hunted.
	for _, set := range []string{"synchronous_commit = on", "statement_timeout = 0", "lock_timeout = 0", "default_transaction_isolation = 'read committed'",
		"idle_in_transaction_session_timeout = 0", "client_min_messages = notice", "\"DateStyle\" = 'ISO'", "\"IntervalStyle\" = 'postgres'", "\"TimeZone\" = 'UTC'"} {
		if err := l.superuser(ctx, l.target, "ALTER DATABASE control SET "+set); err != nil {
			l.Close()
			return nil, err
		}
	}
	if l.product, err = launch(ctx, binary, dir, l.target.URL("control")); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// Close ends everything the lane started.
func (l *Lane) Close() {
	if l.product != nil {
		l.product.stop()
	}
	for _, s := range []*localserver.Postgres{l.source, l.target} {
		if s != nil {
			s.Stop()
		}
	}
	_ = os.RemoveAll(l.dir)
}

func (l *Lane) superuser(ctx context.Context, s *localserver.Postgres, sql ...string) error {
	c, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(ctx) }()
	for _, q := range sql {
		if _, err := c.Exec(ctx, q); err != nil {
			return fmt.Errorf("%s: %w", q, err)
		}
	}
	return nil
}

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
	name     string
	database string
	user     string // whom the product signs in as
}

func (s side) url(user, password string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(user, password), Host: fmt.Sprintf("%s:%d", s.server.Host, s.server.Port), Path: "/" + s.database}
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
	sessions   map[string]*pgconn.PgConn
	loops      []func()
	done       int // steps
	created    bool
	identities map[string]string // replica identity of every table before
	refused    []string          // what the application was refused
	mu         sync.Mutex
	cutOver    bool
}

// Run carries a script out and judges.
func (l *Lane) Run(ctx context.Context, s *Script) (v Verdict) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	l.made++
	r := &run{Lane: l, s: s, ctx: ctx, name: fmt.Sprintf("seed_%d_%d", s.Seed, l.made), sessions: map[string]*pgconn.PgConn{}}
	id := fmt.Sprintf("%d_%d", s.Seed%1e6, l.made)
	r.source = side{l.source, "source", "src_" + id, "mover_" + id}
	r.target = side{l.target, "target", "dst_" + id, "mover_" + id}
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
		v.Notes = r.journal()
	}
	return v
}

// mayTell reports whether what was said names a table that it may name by now.
func (r *run) mayTell(said string) bool {
	for _, name := range r.s.May(r.done) {
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

// prepare makes the databases and the roles.
func (r *run) prepare() error {
	for _, x := range []struct {
		side side
		how  string
	}{{r.source, r.s.Source}, {r.target, r.s.Target}} {
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
		if _, err := c.Exec(r.ctx, r.text(st.Text)).ReadAll(); err != nil {
			return fmt.Errorf("%w in %s", err, short(st.Text))
		}
	case SQL:
		c, err := r.session(st.On)
		if err == nil {
			if _, err = c.Exec(r.ctx, r.text(st.Text)).ReadAll(); err != nil {
				_, _ = c.Exec(r.ctx, "ROLLBACK").ReadAll()
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
		return r.operate(st.Text)
	}
	return nil
}

// text puts the names of this run into a statement.
func (r *run) text(sql string) string {
	return strings.NewReplacer("{source}", r.source.database, "{target}", r.target.database, "{mover}", r.source.user).Replace(sql)
}

// heed keeps what the application was refused because of the product. Errors of its own, as
// of a statement whose forerunner the shrinking left out, are its own affair.
func (r *run) heed(sql string, err error) {
	if err == nil {
		return
	}
	said := err.Error()
	for _, sign := range []string{"replica identity", "publication", "dusty_ferry", "read-only"} {
		if strings.Contains(said, sign) && !r.cutOver {
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
func (r *run) session(on string) (*pgconn.PgConn, error) {
	if c := r.sessions[on]; c != nil && !c.IsClosed() {
		return c, nil
	}
	c, err := r.connect(on)
	if err == nil {
		r.sessions[on] = c
	}
	return c, err
}

func (r *run) connect(on string) (*pgconn.PgConn, error) {
	s := r.source
	if strings.HasPrefix(on, "target") {
		s = r.target
	}
	c, err := pgconn.Connect(r.ctx, s.url(s.server.User, s.server.Password))
	if err != nil {
		return nil, err
	}
	// Our own sessions are pinned: the application's are tested by what they do.
	_, err = c.Exec(r.ctx, "SET client_min_messages = error; SET statement_timeout = '20s'; SET lock_timeout = '4s'; SET DateStyle = ISO; SET IntervalStyle = postgres;"+
		"SET default_transaction_read_only = off; SET default_transaction_isolation = 'read committed'; SET idle_in_transaction_session_timeout = 0; SET search_path = public").ReadAll()
	return c, err
}

func (r *run) loop(st Step) {
	ctx, cancel := context.WithCancel(r.ctx)
	var done sync.WaitGroup
	done.Go(func() {
		var c *pgconn.PgConn
		for n := 0; ctx.Err() == nil; n++ {
			var err error
			if c == nil || c.IsClosed() {
				if c, err = r.connect(st.On); err != nil {
					time.Sleep(100 * time.Millisecond)
					continue
				}
			}
			_, err = c.Exec(ctx, strings.ReplaceAll(r.text(st.Text), "{n}", fmt.Sprint(n))).ReadAll()
			if ctx.Err() == nil {
				r.heed(st.Text, err)
			}
			if err != nil {
				_, _ = c.Exec(ctx, "ROLLBACK").ReadAll()
			}
			time.Sleep(20 * time.Millisecond)
		}
		if c != nil {
			_ = c.Close(context.Background())
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
		_ = c.Close(r.ctx)
		delete(r.sessions, k)
	}
	c, err := r.connect("source")
	if err != nil {
		return
	}
	defer func() { _ = c.Close(r.ctx) }()
	res := c.ExecParams(r.ctx, "SELECT gid FROM pg_prepared_xacts WHERE database = current_database()", nil, nil, nil, nil).Read()
	for _, row := range res.Rows {
		_, _ = c.Exec(r.ctx, "COMMIT PREPARED '"+string(row[0])+"'").ReadAll()
	}
}

func (r *run) befall(st Step) error {
	s := r.source
	if st.On == "target" {
		s = r.target
	}
	switch st.Text {
	case "crash":
		return s.server.Crash(r.ctx, 100*time.Millisecond)
	case "cut":
		return r.superuser(r.ctx, s.server, fmt.Sprintf("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '%s' AND usename = '%s'", s.database, s.user))
	}
	return fmt.Errorf("nothing is known of %q", st.Text)
}

// clean removes what the run made, as far as it can, for the sake of the next one.
func (r *run) clean() {
	r.quiet()
	if r.created {
		ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
		defer cancel()
		for _, end := range []struct {
			path string
			body any
		}{{"/pause", answer{"keep_capture": false}}, {"/close", answer{"reopen": true, "confirm": r.name}}} {
			_, _, _ = r.product.call(ctx, "POST", "/api/crossings/"+r.name+end.path, end.body)
		}
		for end := time.Now().Add(4 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			_, b, err := r.product.call(ctx, "GET", "/api/crossings/"+r.name, nil)
			if err == nil && strings.Contains(string(b), `"phase":"closed"`) {
				break
			}
		}
		_, _, _ = r.product.call(ctx, "DELETE", "/api/crossings/"+r.name, nil)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for _, s := range []side{r.source, r.target} {
		_ = r.superuser(ctx, s.server, fmt.Sprintf("DO $$ BEGIN PERFORM pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE database = '%[1]s' AND active; "+
			"PERFORM pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '%[1]s'; END $$", s.database))
		for range 20 {
			if r.superuser(ctx, s.server, fmt.Sprintf("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE database = '%s'", s.database)) == nil {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		if err := r.superuser(ctx, s.server, "DROP DATABASE IF EXISTS "+s.database+" WITH (FORCE)"); err == nil {
			_ = r.superuser(ctx, s.server, "DROP ROLE IF EXISTS "+s.user)
		}
	}
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
