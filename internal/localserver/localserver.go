// Package localserver starts real database servers on the loopback address from
// the machine's own packages: for the demo, for tests, and for a service that
// was given no control database. A server never outlives the process that
// started it, however that process ends.
package localserver

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Options say how a server is to be started.
type Options struct {
	Dir      string            // data directory; empty: a new temporary one, removed on Stop
	Port     int               // 0: a free one
	Settings map[string]string // server settings over the defaults
	Password string            // of the user "postgres"; empty: anyone on this machine may sign in
	Durable  bool              // keep commits safe from a power failure; tests and demo need not
}

// Postgres is a running PostgreSQL server.
type Postgres struct {
	Host     string
	Port     int
	User     string
	Password string
	Dir      string

	temporary bool
	process   process
	relaunch  func(context.Context) error
}

// ErrMissing says that the machine has no PostgreSQL server installed.
var ErrMissing = errors.New("no PostgreSQL server is installed on this machine; install Debian's package postgresql, or give a control database with --control-url")

// Bin returns the path of one of the server's programs.
func Bin(name string) (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	if len(found) > 0 {
		return found[0], nil
	}
	if p, err := exec.LookPath(name); err == nil {
		return p, nil
	}
	return "", ErrMissing
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// asUser makes a command run as the unprivileged database user when we are
// root, which the server refuses to run as.
func asUser(cmd *exec.Cmd) error {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Dir = "/"
	cmd.Env = append(os.Environ(), "LC_ALL=C", "TZ=UTC")
	uid, gid, err := ids()
	if err != nil || uid < 0 {
		return err
	}
	cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return nil
}

func ids() (uid, gid int, err error) {
	if os.Getuid() != 0 {
		return -1, -1, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return 0, 0, fmt.Errorf("a database server must not run as root and there is no user \"postgres\" to run it as; install Debian's package postgresql: %w", err)
	}
	uid, _ = strconv.Atoi(u.Uid)
	gid, _ = strconv.Atoi(u.Gid)
	return uid, gid, nil
}

// StartPostgres starts a server and waits until it takes connections.
func StartPostgres(ctx context.Context, o Options) (*Postgres, error) {
	if _, err := Bin("initdb"); err != nil {
		return nil, err
	}
	p := &Postgres{Host: "127.0.0.1", Port: o.Port, User: "postgres", Password: o.Password, Dir: o.Dir}
	if err := p.makeDir(); err != nil {
		return nil, err
	}
	data := filepath.Join(p.Dir, "data")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err != nil {
		if err := p.initdb(ctx, data); err != nil {
			return nil, err
		}
	}
	if err := waitForOld(ctx, data); err != nil {
		return nil, err
	}
	if p.Port == 0 {
		port, err := freePort()
		if err != nil {
			return nil, err
		}
		p.Port = port
	}
	p.relaunch = func(ctx context.Context) error {
		if err := waitForOld(ctx, data); err != nil {
			return err
		}
		return p.launch(data, o)
	}
	if err := p.launch(data, o); err != nil {
		return nil, err
	}
	if err := p.ready(ctx); err != nil {
		p.Stop()
		return nil, err
	}
	return p, nil
}

func (p *Postgres) makeDir() error {
	if p.Dir == "" {
		dir, err := os.MkdirTemp("", "dusty-ferry-")
		if err != nil {
			return fmt.Errorf("making a data directory: %w", err)
		}
		p.Dir, p.temporary = dir, true
	}
	if err := os.MkdirAll(p.Dir, 0o711); err != nil {
		return fmt.Errorf("making the data directory: %w", err)
	}
	uid, gid, err := ids()
	if err != nil || uid < 0 {
		return err
	}
	return os.Chown(p.Dir, uid, gid)
}

func (p *Postgres) initdb(ctx context.Context, data string) error {
	bin, err := Bin("initdb")
	if err != nil {
		return err
	}
	args := []string{"-D", data, "-U", "postgres", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync", "--auth=trust"}
	if p.Password != "" {
		f, err := os.CreateTemp(p.Dir, "pw")
		if err != nil {
			return err
		}
		defer func() { _ = os.Remove(f.Name()) }()
		_, _ = f.WriteString(p.Password + "\n")
		_ = f.Chmod(0o600)
		_ = f.Close()
		if uid, gid, err := ids(); err == nil && uid >= 0 {
			_ = os.Chown(f.Name(), uid, gid)
		}
		args = append(args[:len(args)-1], "--auth=scram-sha-256", "--pwfile="+f.Name())
	}
	cmd := exec.CommandContext(ctx, bin, args...)
	if err := asUser(cmd); err != nil {
		return err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb failed: %w: %s", err, bytes.TrimSpace(out))
	}
	return nil
}

// waitForOld lets a server of a process that was killed finish its shutdown.
func waitForOld(ctx context.Context, data string) error {
	for try := 0; ; try++ {
		b, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
		if err != nil {
			return nil
		}
		line, _, _ := strings.Cut(string(b), "\n")
		pid, err := strconv.Atoi(line)
		if err != nil || pid <= 0 || syscall.Kill(pid, 0) != nil {
			return nil
		}
		if try == 20 {
			_ = syscall.Kill(pid, syscall.SIGINT)
		}
		if try == 150 {
			return fmt.Errorf("the server in %s (process %d) is still running; stop it first", data, pid)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (p *Postgres) launch(data string, o Options) error {
	bin, err := Bin("postgres")
	if err != nil {
		return err
	}
	settings := map[string]string{
		"listen_addresses":        "127.0.0.1",
		"port":                    strconv.Itoa(p.Port),
		"unix_socket_directories": "",
		"max_connections":         "200",
		"wal_level":               "logical",
		"max_replication_slots":   "20",
		"max_wal_senders":         "20",
		"shared_buffers":          "128MB",
		"max_wal_size":            "2GB",
		"log_timezone":            "UTC",
		"timezone":                "UTC",
	}
	if !o.Durable {
		settings["fsync"] = "off"
		settings["full_page_writes"] = "off"
	}
	for k, v := range o.Settings {
		settings[k] = v
	}
	args := []string{"-D", data}
	for k, v := range settings {
		args = append(args, "-c", k+"="+v)
	}
	log, err := os.OpenFile(filepath.Join(p.Dir, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = log.Close() }()
	cmd := exec.Command(bin, args...)
	if err := asUser(cmd); err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr = log, log
	return p.process.start(cmd, syscall.SIGINT, p.Dir, p.temporary)
}

func (p *Postgres) ready(ctx context.Context) error {
	for try := 0; ; try++ {
		select {
		case <-p.process.exited:
			return fmt.Errorf("the server stopped at once:\n%s", lastLines(p.Dir))
		case <-ctx.Done():
			return ctx.Err()
		default:
		}
		c, err := pgx.Connect(ctx, p.URL("postgres"))
		if err == nil {
			return c.Close(ctx)
		}
		if try > 300 {
			return fmt.Errorf("the server does not take connections: %w\n%s", err, lastLines(p.Dir))
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// URL returns a connection address for one of its databases.
func (p *Postgres) URL(database string) string {
	u := url.URL{Scheme: "postgres", User: url.User(p.User), Host: net.JoinHostPort(p.Host, strconv.Itoa(p.Port)), Path: "/" + database, RawQuery: "sslmode=disable"}
	if p.Password != "" {
		u.User = url.UserPassword(p.User, p.Password)
	}
	return u.String()
}

// Crash kills the server at once, as a power cut would, and starts it again with the
// same files and port after a while; it returns when the server takes connections.
func (p *Postgres) Crash(ctx context.Context, away time.Duration) error {
	p.process.crash()
	select {
	case <-time.After(away):
	case <-ctx.Done():
		return ctx.Err()
	}
	var err error
	for range 20 { // its children notice its end a moment later
		if err = p.relaunch(ctx); err == nil {
			if err = p.ready(ctx); err == nil {
				return nil
			}
		}
		time.Sleep(200 * time.Millisecond)
	}
	return err
}

// LimitFiles lets sessions that begin from now on write no file beyond a size, as if
// the disk were full there; 0 lifts the limit again.
func (p *Postgres) LimitFiles(ctx context.Context, bytes int64) error {
	limit := "unlimited"
	if bytes > 0 {
		limit = strconv.FormatInt(bytes, 10)
	}
	cmd := exec.CommandContext(ctx, "prlimit", "--pid", strconv.Itoa(p.PID()), "--fsize="+limit+":")
	if err := asUser(cmd); err != nil {
		return err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("limiting the server's files: %w: %s", err, out)
	}
	return nil
}

// PID returns the server's process.
func (p *Postgres) PID() int { return p.process.cmd.Process.Pid }

// Exited is closed when the server has ended.
func (p *Postgres) Exited() <-chan struct{} { return p.process.exited }

// Stop ends the server at once but cleanly, and removes a temporary directory.
func (p *Postgres) Stop() {
	if p == nil {
		return
	}
	p.process.stop()
}
