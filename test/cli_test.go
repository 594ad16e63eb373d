package test

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"dustyferry/internal/contract"
)

// answer is what a command said.
type answer struct {
	out, err string
	code     int
}

// cli runs a command against the service.
func (f *ferry) cli(args ...string) answer {
	f.t.Helper()
	cmd := exec.CommandContext(f.t.Context(), binary(f.t), args...)
	cmd.Env = append(os.Environ(), "DUSTYFERRY_SERVICE="+f.url, "DUSTYFERRY_TOKEN="+f.token,
		"DUSTYFERRY_DATABASE_PASSWORD="+servers.source.Password)
	var out, err bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &err
	a := answer{}
	var exit *exec.ExitError
	if e := cmd.Run(); errors.As(e, &exit) {
		a.code = exit.ExitCode()
	} else if e != nil {
		f.t.Fatal(e)
	}
	a.out, a.err = out.String(), err.String()
	return a
}

// TestTheCommandLineJourney drives a crossing by commands alone.
func TestTheCommandLineJourney(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY, v text); INSERT INTO public.a
  SELECT g, 'v' || g FROM generate_series(1, 500) g; ANALYZE`)
	f := start(t)
	run := func(args ...string) answer { t.Helper(); return f.cli(args...) }
	ok := func(want string, args ...string) answer {
		t.Helper()
		a := run(args...)
		if a.code != 0 || !strings.Contains(a.out, want) {
			t.Fatalf("%v: exit %d, lacks %q\n%s%s", args, a.code, want, a.out, a.err)
		}
		return a
	}
	no := func(code int, want string, args ...string) {
		t.Helper()
		a := run(args...)
		if a.code != code || !strings.Contains(a.err, want) {
			t.Errorf("%v: exit %d, want %d; %q lacks %q", args, a.code, code, a.err, want)
		}
	}
	port := func(u string) string { u = u[strings.Index(u, "127.0.0.1:")+10:]; return u[:strings.Index(u, "/")] }
	ok("No database", "database", "list")
	ok("is registered", "database", "add", "old", "--port", port(p.sourceURL()), "--database", p.source, "--user",
		"postgres")
	ok("is registered", "database", "add", "new", "--port", port(p.targetURL()), "--database", p.target, "--user",
		"postgres")
	ok("PostgreSQL 1", "database", "check", "old")
	ok("public.a", "database", "show", "old")
	file := filepath.Join(t.TempDir(), "spring.yaml")
	if err := os.WriteFile(file, []byte("dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  target: new\n  "+
		"tables: [\"public.*\"]\n  settings: {lanes: 1, pause_budget: 45s}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	ok("is created", "crossing", "create", "--file", file)
	ok("pause_budget: 45s", "crossing", "export", "spring")
	ok("No blockers", "survey", "spring")
	no(1, "cannot be cut over", "cutover", "start", "spring", "--confirm", "spring")
	ok("in step", "crossing", "start", "spring", "--wait")
	ok("public.a", "crossing", "show", "spring")
	ok("clean", "reconcile", "spring")
	exec1(t, p.targetURL(), `UPDATE public.a SET v = 'v7 ' WHERE id = 7`)
	no(3, "differ: 1 finding", "reconcile", "spring")
	if a := ok("differing", "findings", "spring"); !strings.Contains(a.out, `"v7 "`) {
		t.Errorf("the space cannot be seen:\n%s", a.out)
	}
	ok("0 open, 1 repaired", "repair", "spring", "--confirm", "spring")
	ok("0 open, 0 repaired, 1 compared again and equal", "recheck", "spring")
	exec1(t, p.targetURL(), `UPDATE public.a SET v = 'v7 ' WHERE id = 7`)
	no(3, "1 finding still open", "recheck", "spring")
	ok("0 open, 1 repaired", "repair", "spring", "--confirm", "spring")
	ok("copied again", "journal", "--crossing", "spring", "--about", "public.a")
	no(1, "nothing to repair", "repair", "spring", "--confirm", "spring")
	ok("clean", "reconcile", "spring")
	ok("[ok]", "cutover", "ready", "spring")
	ok("write pause", "cutover", "rehearse", "spring")
	no(2, "add --confirm spring", "cutover", "start", "spring")
	no(1, "confirm it by giving the crossing's name", "cutover", "start", "spring", "--confirm", "autumn")
	ok("hand over", "cutover", "start", "spring", "--confirm", "spring")
	var c struct{ Crossing contract.Crossing }
	if err := json.Unmarshal([]byte(ok("cut over", "crossing", "show", "spring", "-o", "json").out), &c); err != nil ||
		c.Crossing.Phase != contract.PhaseCutOver {
		t.Errorf("JSON: %v %+v", err, c)
	}
	ok("name: spring", "crossing", "list", "-o", "yaml")
	ok("closed", "crossing", "close", "spring", "--wait", "--confirm", "spring")
	ok("CERTIFICATE OF THE CROSSING spring", "certificate", "spring")
	ok("admin started spring", "journal", "--crossing", "spring")
	ok("removed", "crossing", "remove", "spring", "--confirm", "spring")
	ok("dft_", "token", "add", "night", "--role", "viewer")
	ok("night", "token", "list")
	no(2, "see 'dustyferry survey --help'", "survey")
	no(2, "--output is", "crossing", "list", "-o", "xml")
	no(1, "no crossing named", "crossing", "show", "autumn")
	ok("complete", "completion", "bash")
	ok("version", "version")

	// Settings come from flags, then the environment, then the file.
	conf := filepath.Join(t.TempDir(), "conf.yaml")
	if err := os.WriteFile(conf, []byte("service: "+f.url+"\ntoken: "+f.token+"\noutput: json\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name string
		env  []string
		args []string
		want string
	}{
		{"the file", nil, nil, `"name": "new"`},
		{"the environment over the file", []string{"DUSTYFERRY_OUTPUT=yaml"}, nil, "name: new"},
		{"flags over both", []string{"DUSTYFERRY_OUTPUT=yaml"}, []string{"--output", "table"}, "ENGINE"},
	} {
		cmd := exec.CommandContext(t.Context(), binary(t), append([]string{"database", "list", "--config", conf},
			c.args...)...)
		cmd.Env = append(c.env, "HOME="+t.TempDir())
		out, err := cmd.CombinedOutput()
		if err != nil || !strings.Contains(string(out), c.want) {
			t.Errorf("%s: %v\n%s", c.name, err, out)
		}
	}
}

// TestTheDemoFromMariaDB runs what a newcomer runs, with the source that has most
// to convert.
func TestTheDemoFromMariaDB(t *testing.T) {
	out, err := exec.CommandContext(t.Context(), binary(t), "demo", "--source", "mariadb", "--unattended", "--rows",
		"20000").CombinedOutput()
	if err != nil || !strings.Contains(string(out), "no row was lost, zero findings") || !strings.Contains(string(out),
		"The application writes to old-barn now") {
		t.Fatalf("%v\n%s", err, out)
	}
	if out, err := exec.CommandContext(t.Context(), binary(t), "demo", "--source", "paper").CombinedOutput(); err == nil ||
		!strings.Contains(string(out), "choose postgres, mariadb or file") {
		t.Errorf("%v\n%s", err, out)
	}
}

// TestAPlanInTheTerminal shows one table's columns and statements.
func TestAPlanInTheTerminal(t *testing.T) {
	p := newPair(t)
	name, db := newMaria(t)
	maria(t, db, orchardSchema...)
	f := start(t)
	f.registerMaria("old", name, db, sourceRights(name)...)
	f.register("new", servers.target, p.target)
	rules := filepath.Join(t.TempDir(), "rules.yaml")
	if err := os.WriteFile(rules, []byte("- tables: '*.readings'\n  name: scale_*\n  columns:\n    warmth: {leave_out: "+
		"true}\n    weight: {type: text}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		code int
		want []string
		args []string
	}{
		{0, []string{"is created"}, []string{"crossing", "create", "spring", "--source", "old", "--target", "new"}},
		{0, []string{"has no rules"}, []string{"crossing", "rules", "spring"}},
		{0, []string{"only rows where id > 7", "See what they do"}, []string{"crossing", "rules", "spring", "--file",
			write(t, "- tables: '*.readings'\n  where: id > 7\n")}},
		{2, []string{"line 1, column 3"}, []string{"crossing", "rules", "spring", "--file", write(t, "- table: x.y\n")}},
		{2, []string{"changes nothing"}, []string{"crossing", "rules", "spring", "--file", write(t, "- tables: x.y\n")}},
		{0, []string{"column warmth is left out", "column weight as text", "name scale_*"}, []string{"crossing", "rules",
			"spring", "-f", rules}},
		{0, []string{name + ".readings becomes " + name + ".scale_readings", "left out", "planned by a rule; kept as text",
			"3 statements on the target"}, []string{"crossing", "plan", "spring", name + ".readings"}},
		{0, []string{"-- before the load\nCREATE TABLE", `CREATE INDEX "readings_by_keeper" ON "` + name +
			`"."scale_readings" ("keeper", "at")`, `FOREIGN KEY ("keeper") REFERENCES "` + name + `"."keepers" ("id")`},
			[]string{"crossing", "plan", "spring", name + ".readings", "--statements"}},
		{0, []string{`"mapping": "lossy"`}, []string{"crossing", "plan", "spring", name + ".keepers", "--output", "json"}},
		{1, []string{"has no table"}, []string{"crossing", "plan", "spring", "no.table"}},
		{0, []string{"json-schema.org", "leave_out"}, []string{"crossing", "schema"}},
	} {
		a := f.cli(c.args...)
		for _, w := range c.want {
			if a.code != c.code || !strings.Contains(a.out+a.err, w) {
				t.Errorf("%v: exit %d, want %d; lacks %q\n%s%s", c.args, a.code, c.code, w, a.out, a.err)
			}
		}
	}
}

// write makes a file with a text and returns where it is.
func write(t *testing.T, text string) string {
	t.Helper()
	f, err := os.CreateTemp(t.TempDir(), "*.yaml")
	if err == nil {
		_, err = f.WriteString(text)
	}
	if err == nil {
		err = f.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return f.Name()
}
