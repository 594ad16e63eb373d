package test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/records"
	"dustyferry/internal/secret"
	"dustyferry/internal/service"
)

// keeping is a data directory whose service brings its own control database.
func keeping(t *testing.T) service.Settings {
	t.Helper()
	dir, err := os.MkdirTemp("", "dusty-ferry-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	return service.Settings{Listen: "127.0.0.1:0", DataDir: dir, Lanes: 1, Serve: true, AllowRoot: true, Version: "test",
		Log: slog.New(slog.DiscardHandler)}
}

func startAs(t *testing.T, set service.Settings) (*service.Service, error) {
	t.Helper()
	svc, err := service.Start(t.Context(), set)
	if err == nil {
		t.Cleanup(svc.Stop)
	}
	return svc, err
}

func refusedWith(t *testing.T, err error, words ...string) {
	t.Helper()
	if err == nil {
		t.Errorf("nothing was refused; wanted a word of %q", words)
		return
	}
	for _, w := range words {
		if !strings.Contains(err.Error(), w) {
			t.Errorf("%q does not say %q", err, w)
		}
	}
}

// TestOurOwnControlDatabaseIsClosed: no port, no superuser, and a second service on the
// same directory is refused while the first goes on.
func TestOurOwnControlDatabaseIsClosed(t *testing.T) {
	set := keeping(t)
	token := ""
	set.FirstToken = func(s string) { token = s }
	svc, err := startAs(t, set)
	if err != nil {
		t.Fatal(err)
	}
	if u := svc.ControlURL(); strings.Contains(u, "127.0.0.1") || !strings.Contains(u, "host=%2F") {
		t.Errorf("the control database is at %s", u)
	}
	c, err := pgx.Connect(t.Context(), svc.ControlURL())
	if err != nil {
		t.Fatal(err)
	}
	var super bool
	if err := c.QueryRow(t.Context(), `SELECT rolsuper FROM pg_roles WHERE rolname = current_user`).Scan(
		&super); err != nil || super {
		t.Errorf("the service is a superuser of its control database: %v (%v)", super, err)
	}
	_ = c.Close(t.Context())

	second := set
	second.FirstToken = func(string) { t.Error("the second service made a token") }
	_, err = startAs(t, second)
	refusedWith(t, err, "another service", fmt.Sprint(os.Getpid()), "--data-dir")
	f := &ferry{t: t, url: svc.URL(), token: token}
	f.signIn()
	if _, err := client.Do[contract.Session](f.API.GetSessionWithResponse(t.Context())); err != nil {
		t.Errorf("the first service does not go on: %v", err)
	}
	svc.Stop()
	again, err := startAs(t, set) // the lock ends with the service
	if err != nil {
		t.Fatal(err)
	}
	again.Stop()
}

// TestKeysAreNeverMadeInSilence: workers make none, a lost or wrong key refuses to start,
// and what was sealed opens again with the right one.
func TestKeysAreNeverMadeInSilence(t *testing.T) {
	f := start(t)
	p := newPair(t)
	f.register("old", servers.source, p.source)
	key := filepath.Join(f.set.DataDir, "key")
	kept, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	worker := f.set
	worker.Serve = false
	worker.DataDir = t.TempDir()
	_, err = startAs(t, worker)
	refusedWith(t, err, "no key file", "--key-file", "copy")
	if _, err := os.Stat(filepath.Join(worker.DataDir, "key")); err == nil {
		t.Error("a worker made a key")
	}
	if _, err := secret.MakeKey(filepath.Join(worker.DataDir, "key")); err != nil {
		t.Fatal(err)
	}
	_, err = startAs(t, worker)
	refusedWith(t, err, "not the one", "fingerprint", "--key-file")
	f.svc.Stop()

	again := f.set
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	_, err = startAs(t, again)
	refusedWith(t, err, "is gone", "restore it", "--new-key")
	if _, err := os.Stat(key); err == nil {
		t.Fatal("a lost key was replaced in silence")
	}
	wrong := again
	wrong.KeyFile = filepath.Join(worker.DataDir, "key")
	_, err = startAs(t, wrong)
	refusedWith(t, err, "not the one")

	if err := os.WriteFile(key, kept, 0o600); err != nil {
		t.Fatal(err)
	}
	f.again()
	if _, err := client.Do[contract.Facts](f.API.CheckDatabaseWithResponse(t.Context(), "old")); err != nil {
		t.Errorf("with the right key again: %v", err)
	}
	f.svc.Stop()

	// The key is lost for good.
	lost := f.set
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	lost.NewKey = true
	f.set = lost
	f.again()
	_, err = client.Do[contract.Facts](f.API.CheckDatabaseWithResponse(t.Context(), "old"))
	refusedWith(t, err, "enter the password again")
	if _, err := client.Do[contract.Database](f.API.ChangeDatabaseWithResponse(t.Context(), "old",
		contract.DatabaseChange{Password: &servers.source.Password})); err != nil {
		t.Errorf("entering the password again: %v", err)
	}
	if _, err := client.Do[contract.Facts](f.API.CheckDatabaseWithResponse(t.Context(), "old")); err != nil {
		t.Errorf("with the password entered again: %v", err)
	}
}

// TestSealedPasswordsAreBoundToTheirRow: what is sealed for one address opens for no other,
// whoever writes into the control database.
func TestSealedPasswordsAreBoundToTheirRow(t *testing.T) {
	f := start(t)
	p := newPair(t)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	for _, change := range []string{
		`UPDATE databases SET host = 'localhost' WHERE name = 'old'`,
		`UPDATE databases SET port = port + 1 WHERE name = 'old'`,
		`UPDATE databases SET secret = (SELECT secret FROM databases WHERE name = 'new') WHERE name = 'old'`,
	} {
		kept := one[string](t, f.set.ControlURL, `SELECT row_to_json(d)::text FROM databases d WHERE name = 'old'`)
		exec1(t, f.set.ControlURL, change)
		_, err := client.Do[contract.Facts](f.API.CheckDatabaseWithResponse(t.Context(), "old"))
		refusedWith(t, err, "cannot be opened", "enter the password again")
		exec1(t, f.set.ControlURL, `UPDATE databases d SET host = k.host, port = k.port, secret = k.secret
  FROM json_populate_record(NULL::databases, $1) k WHERE d.id = k.id`, kept)
		if _, err := client.Do[contract.Facts](f.API.CheckDatabaseWithResponse(t.Context(), "old")); err != nil {
			t.Fatalf("as it was: %v", err)
		}
	}
}

// TestRecordsOfAnOlderProgramAreLeftAlone: neither a service nor a worker changes them
// unasked; migrating keeps a dump, and waits for the older processes to be gone.
func TestRecordsOfAnOlderProgramAreLeftAlone(t *testing.T) {
	f := start(t)
	p := newPair(t)
	f.register("old", servers.source, p.source)
	older := func() {
		f.svc.Stop()
		// As the version before left them; its secrets are not bound.
		key, err := secret.OpenBox(filepath.Join(f.set.DataDir, "key"))
		if err != nil {
			t.Fatal(err)
		}
		exec1(t, f.set.ControlURL, `DROP SCHEMA public CASCADE; CREATE SCHEMA public`)
		store, err := records.Open(t.Context(), f.set.ControlURL)
		if err != nil {
			t.Fatal(err)
		}
		defer store.Close()
		if err := store.MigrateTo(t.Context(), 15); err != nil {
			t.Fatal(err)
		}
		exec1(t, f.set.ControlURL, `INSERT INTO databases (name, engine, host, port, dbname, username, secret, tls)
  VALUES ('old', 'postgres', $1, $2, $3, $4, $5, 'disable')`,
			servers.source.Host, servers.source.Port, p.source, servers.source.User, key.Seal(servers.source.Password, ""))
		exec1(t, f.set.ControlURL, `INSERT INTO tokens (name, role, hash) VALUES ('admin', 'admin', $1)`,
			secret.HashToken(f.token))
		exec1(t, f.set.ControlURL, `INSERT INTO workers (name, host, pid, version) VALUES ('older', 'here', 1, 'before')`)
	}
	older()
	exec1(t, f.set.ControlURL, `UPDATE workers SET seen_at = now()`)
	worker := f.set
	worker.Serve = false
	for _, set := range []service.Settings{f.set, worker} {
		_, err := startAs(t, set)
		refusedWith(t, err, "version 15", "dustyferry migrate")
	}
	if v := one[int64](t, f.set.ControlURL, `SELECT max(version_id) FROM goose_db_version`); v != 15 {
		t.Fatalf("the records were changed to version %d", v)
	}
	_, err := service.Migrate(t.Context(), f.set)
	refusedWith(t, err, "still run")
	exec1(t, f.set.ControlURL, `UPDATE workers SET seen_at = now() - interval '1 minute'`)
	dump, err := service.Migrate(t.Context(), f.set)
	if err != nil {
		t.Fatal(err)
	}
	if st, err := os.Stat(dump); err != nil || st.Mode().Perm() != 0o600 {
		t.Fatalf("the dump %s: %v (%v)", dump, st, err)
	}
	restored := fmt.Sprintf("restored_%d", counter.Add(1))
	exec1(t, dbURL(servers.target, "postgres"), "CREATE DATABASE "+restored)
	if out, err := exec.Command("pg_restore", "--no-owner", "-d", dbURL(servers.target, restored),
		dump).CombinedOutput(); err != nil {
		t.Fatalf("the dump cannot be restored: %v\n%s", err, out)
	}
	if v := one[int64](t, dbURL(servers.target, restored), `SELECT max(version_id) FROM goose_db_version`); v != 15 {
		t.Errorf("the dump is of version %d", v)
	}
	if n := one[int64](t, dbURL(servers.target, restored), `SELECT count(*) FROM databases`); n != 1 {
		t.Errorf("the dump holds %d databases", n)
	}
	f.again()
	if _, err := client.Do[contract.Facts](f.API.CheckDatabaseWithResponse(t.Context(), "old")); err != nil {
		t.Errorf("the password of before: %v", err)
	}
	if dump, err := service.Migrate(t.Context(), f.set); err != nil || dump != "" {
		t.Errorf("with nothing to do: %q %v", dump, err)
	}
	older()
	exec1(t, f.set.ControlURL, `UPDATE workers SET seen_at = now() - interval '1 minute'`)
	f.set.Migrate = true // as serve does it itself
	f.again()
	if v := one[int64](t, f.set.ControlURL, `SELECT max(version_id) FROM goose_db_version`); v != records.Known() {
		t.Errorf("serve left version %d", v)
	}
}

// TestSettingsThatLeaveADoorOpenAreRefused: half a certificate, an open address without
// one, root unasked, settings that do not exist.
func TestSettingsThatLeaveADoorOpenAreRefused(t *testing.T) {
	set := keeping(t)
	set.ControlURL = dbURL(servers.target, "postgres")
	for _, c := range []struct {
		change func(s *service.Settings)
		words  []string
	}{
		{func(s *service.Settings) { s.TLSKey = "key.pem" }, []string{"--tls-key", "--tls-cert"}},
		{func(s *service.Settings) { s.TLSCert = "cert.pem" }, []string{"--tls-key", "--tls-cert"}},
		{func(s *service.Settings) { s.Listen = "0.0.0.0:0" }, []string{"others on the network", "--tls-cert"}},
		{func(s *service.Settings) { s.Listen = ":0" }, []string{"others on the network"}},
		{func(s *service.Settings) { s.Listen = "[::]:0" }, []string{"others on the network"}},
		{func(s *service.Settings) { s.Listen = "7420" }, []string{"--listen", "127.0.0.1:7420"}},
	} {
		with := set
		c.change(&with)
		_, err := startAs(t, with)
		refusedWith(t, err, c.words...)
	}
	if os.Getuid() == 0 {
		with := set
		with.AllowRoot = false
		_, err := startAs(t, with)
		refusedWith(t, err, "root", "--allow-root")
	}
	file := filepath.Join(t.TempDir(), "settings.yaml")
	if err := os.WriteFile(file, []byte("listen: 127.0.0.1:0\nlisten-adress: 127.0.0.1:0\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(binary(t), "serve", "--config", file).CombinedOutput()
	if code := exitCode(err); code != 2 || !strings.Contains(string(out), `"listen-adress"`) {
		t.Errorf("a settings file with an unknown key: exit %d\n%s", code, out)
	}
}

func exitCode(err error) int {
	if e, ok := err.(*exec.ExitError); ok {
		return e.ExitCode()
	}
	if err != nil {
		return -1
	}
	return 0
}

// TestAHangUpEndsNoService closes the terminal that a service was started from.
func TestAHangUpEndsNoService(t *testing.T) {
	fl := startFleet(t, 1)
	for _, p := range fl.all {
		if err := p.cmd.Process.Signal(syscall.SIGHUP); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(time.Second)
	for _, p := range fl.all {
		if p.cmd.Process.Signal(syscall.Signal(0)) != nil {
			t.Errorf("%v ended", p.args)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	if _, err := client.Do[contract.Session](fl.API.GetSessionWithResponse(ctx)); err != nil {
		t.Errorf("after a hang-up: %v", err)
	}
}
