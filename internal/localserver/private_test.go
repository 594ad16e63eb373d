package localserver_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/localserver"
)

// folder is a directory that the servers' user may pass through.
func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "dusty-ferry-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	return dir
}

func private(t *testing.T, dir string) *localserver.Postgres {
	t.Helper()
	p, err := localserver.StartPostgres(t.Context(), localserver.Options{Dir: dir, Private: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Stop)
	return p
}

func TestNobodyElseReachesAPrivateServer(t *testing.T) {
	for name, dir := range map[string]string{"short": folder(t), "too long for a socket": filepath.Join(folder(t),
		strings.Repeat("deep/", 18), "control")} {
		t.Run(name, func(t *testing.T) {
			if err := os.MkdirAll(dir, 0o711); err != nil {
				t.Fatal(err)
			}
			p := private(t, dir)
			c, err := pgx.Connect(t.Context(), p.URL(localserver.PrivateName))
			if err != nil {
				t.Fatal(err)
			}
			defer func() { _ = c.Close(t.Context()) }()
			var super bool
			var listens string
			if err := c.QueryRow(t.Context(), `SELECT rolsuper OR rolcreaterole OR rolreplication,
  current_setting('listen_addresses') FROM pg_roles WHERE rolname = current_user`).Scan(&super, &listens); err != nil {
				t.Fatal(err)
			}
			if super || listens != "" {
				t.Errorf("the role may do everything (%v), or the server listens on %q", super, listens)
			}
			if _, err := c.Exec(t.Context(), `COPY (SELECT 1) TO PROGRAM 'true'`); err == nil {
				t.Error("the role runs programs")
			}
			if _, err := c.Exec(t.Context(), `CREATE TABLE ours (id integer)`); err != nil {
				t.Errorf("the role cannot use its own database: %v", err)
			}
			// The superuser is let in by nobody, ourselves included.
			admin := *p
			admin.User = "postgres"
			if _, err := pgx.Connect(t.Context(), admin.URL("postgres")); err == nil || !strings.Contains(err.Error(),
				"pg_hba.conf") {
				t.Errorf("the superuser got in: %v", err)
			}
			st, err := os.Stat(p.Host)
			if err != nil || st.Mode().Perm() != 0o700 {
				t.Errorf("the socket's directory: %v (%v)", st.Mode(), err)
			}
			if os.Getuid() != 0 {
				return
			}
			// Another user of this machine.
			cmd := exec.Command("psql", p.URL(localserver.PrivateName), "-c", "SELECT 1")
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
			if out, err := cmd.CombinedOutput(); err == nil || !strings.Contains(string(out), "Permission denied") {
				t.Errorf("another user got in: %v\n%s", err, out)
			}
		})
	}
}

// TestRecordsOfBeforeAreTakenOver begins with a directory as it was made before: anyone on
// the machine may sign in as the superuser, who owns the records.
func TestRecordsOfBeforeAreTakenOver(t *testing.T) {
	dir := folder(t)
	p, err := localserver.StartPostgres(t.Context(), localserver.Options{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	c, err := pgx.Connect(t.Context(), p.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Exec(t.Context(), `
CREATE TYPE mood AS ENUM ('calm');
CREATE DOMAIN short AS text CHECK (length(value) < 9);
CREATE TABLE goose_db_version (id integer GENERATED ALWAYS AS IDENTITY, version_id bigint);
CREATE TABLE kept (id bigserial PRIMARY KEY, how mood, what short);
CREATE VIEW seen AS SELECT * FROM kept;
CREATE FUNCTION one() RETURNS integer LANGUAGE sql AS 'SELECT 1';
INSERT INTO kept (how) VALUES ('calm')`); err != nil {
		t.Fatal(err)
	}
	_ = c.Close(t.Context())
	p.Stop()
	for range 2 { // and again, as nothing is to be done then
		p = private(t, dir)
		if c, err = pgx.Connect(t.Context(), p.URL(localserver.PrivateName)); err != nil {
			t.Fatal(err)
		}
		if _, err := c.Exec(t.Context(), `
ALTER TYPE mood ADD VALUE IF NOT EXISTS 'stung';
ALTER DOMAIN short SET DEFAULT 'x';
ALTER TABLE kept ADD COLUMN IF NOT EXISTS more integer;
INSERT INTO kept (how) VALUES ('calm');
CREATE OR REPLACE VIEW seen AS SELECT id, how, what, 1 AS n FROM kept;
CREATE OR REPLACE FUNCTION one() RETURNS integer LANGUAGE sql AS 'SELECT 2';
CREATE TABLE IF NOT EXISTS new (id integer)`); err != nil {
			t.Fatal(err)
		}
		_ = c.Close(t.Context())
		p.Stop()
	}
}

// TestAStaleProcessFileHarmsNobody leaves a file that names a process of somebody else's,
// which was given the number of a server that is gone.
func TestAStaleProcessFileHarmsNobody(t *testing.T) {
	dir := folder(t)
	p := private(t, dir)
	was := p.PID()
	p.Stop()
	stranger := exec.Command("sleep", "60")
	if os.Getuid() == 0 { // the user of the servers, as the server looks at its own file
		stranger = exec.Command("runuser", "-u", "postgres", "--", "sleep", "60")
	}
	if err := stranger.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- stranger.Wait() }()
	defer func() { _ = stranger.Process.Kill() }()
	stale := filepath.Join(dir, "data", "postmaster.pid")
	text := fmt.Sprintf("%d\n%s\n1700000000\n5432\n%s\n\n  5432001    123456\nready\n", stranger.Process.Pid,
		filepath.Join(dir, "data"), p.Host)
	if err := os.WriteFile(stale, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if os.Getuid() == 0 {
		if out, err := exec.Command("chown", "postgres", stale).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	// Our own note of the process names the same number, with another start.
	note, err := os.ReadFile(filepath.Join(dir, "process.json"))
	if err != nil {
		t.Fatal(err)
	}
	forged := strings.Replace(string(note), strconv.Itoa(was), strconv.Itoa(stranger.Process.Pid), 1)
	if err := os.WriteFile(filepath.Join(dir, "process.json"), []byte(forged), 0o600); err != nil {
		t.Fatal(err)
	}
	p = private(t, dir)
	if p.PID() == stranger.Process.Pid {
		t.Fatal("the stranger is taken for the server")
	}
	select {
	case err := <-ended:
		t.Fatalf("the stranger's process was ended: %v", err)
	default:
	}
}

// TestAServerThatSomebodyElseStartedIsLeftAlone starts one by hand in our directory.
func TestAServerThatSomebodyElseStartedIsLeftAlone(t *testing.T) {
	dir := folder(t)
	private(t, dir).Stop()
	if err := os.Remove(filepath.Join(dir, "process.json")); err != nil {
		t.Fatal(err)
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := ln.Addr().(*net.TCPAddr).Port
	_ = ln.Close()
	bin, err := localserver.Bin("postgres")
	if err != nil {
		t.Fatal(err)
	}
	args := []string{bin, "-D", filepath.Join(dir, "data"), "-c", "unix_socket_directories=", "-c",
		"listen_addresses=127.0.0.1", "-p", strconv.Itoa(port)}
	if os.Getuid() == 0 {
		args = append([]string{"setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"}, args...)
	}
	hand := exec.Command(args[0], args[1:]...)
	if err := hand.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- hand.Wait() }()
	defer func() { _ = hand.Process.Signal(syscall.SIGINT); <-ended }()
	for {
		if c, err := net.Dial("tcp", ln.Addr().String()); err == nil {
			_ = c.Close()
			break
		}
		select {
		case err := <-ended:
			t.Fatalf("the server by hand did not start: %v", err)
		default:
		}
	}
	_, err = localserver.StartPostgres(t.Context(), localserver.Options{Dir: dir, Private: true})
	if err == nil || !strings.Contains(err.Error(), "was not started by Dusty Ferry") || !strings.Contains(err.Error(),
		strconv.Itoa(hand.Process.Pid)) {
		t.Errorf("a server of somebody else's: %v", err)
	}
	if syscall.Kill(hand.Process.Pid, 0) != nil {
		t.Error("it was ended")
	}
}

// TestADataDirectoryKeepsItsVersion: another version's server cannot read its files.
func TestADataDirectoryKeepsItsVersion(t *testing.T) {
	dir := folder(t)
	private(t, dir).Stop()
	version := filepath.Join(dir, "data", "PG_VERSION")
	if err := os.WriteFile(version, []byte("9\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	_, err := localserver.StartPostgres(t.Context(), localserver.Options{Dir: dir, Private: true})
	if err == nil || !strings.Contains(err.Error(), "PostgreSQL 9") || !strings.Contains(err.Error(), "postgresql-9") {
		t.Errorf("files of a version that is not installed: %v", err)
	}
}
