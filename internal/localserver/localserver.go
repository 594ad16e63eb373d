// Package localserver starts real database servers on the loopback address from
// the machine's own packages: for the demo, for tests, and for a service that
// was given no control database. A server never outlives the process that
// started it, however that process ends.
package localserver

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	mathrand "math/rand/v2"
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
	Password string            // of the user "postgres"; empty: a random one
	Durable  bool              // keep commits safe from a power failure; tests and demo need not
	// Private serves no network at all: only the operating-system user it runs as reaches
	// it, through a socket in a directory of mode 0700, as a role that is no superuser.
	Private bool
	// Programs is the directory of the server's programs; empty: the newest version that is
	// installed.
	Programs string
}

// Postgres is a running PostgreSQL server.
type Postgres struct {
	Host     string // an address, or the directory of a private server's socket
	Port     int
	User     string
	Password string
	Dir      string

	database  string // the one that a private server is for
	programs  string
	temporary bool
	process   process
	relaunch  func(context.Context) error
}

// ErrMissing says that the machine has no PostgreSQL server installed.
var ErrMissing = errors.New("no PostgreSQL server is installed on this machine; install Debian's package postgresql, " +
	"or give a control database with --control-url")

// Bin returns the path of one of the server's programs, of the newest version.
func Bin(name string) (string, error) { return binOf("*", name) }

// binOf returns the path of a program of one major version, or "*" for the newest.
func binOf(major, name string) (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/" + major + "/bin/" + name)
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	if len(found) > 0 {
		return found[0], nil
	}
	p, err := exec.LookPath(name)
	if err != nil {
		return "", ErrMissing
	}
	if major == "*" {
		return p, nil
	}
	if out, err := exec.Command(p, "--version").Output(); err == nil && strings.Contains(string(out), ") "+major+".") {
		return p, nil
	}
	return "", ErrMissing
}

// bin returns a program of the version that made the data directory: a server reads no
// other version's files.
func (p *Postgres) bin(name string) (string, error) {
	if p.programs != "" {
		return filepath.Join(p.programs, name), nil
	}
	b, err := os.ReadFile(filepath.Join(p.data(), "PG_VERSION"))
	if err != nil {
		return Bin(name)
	}
	major := strings.TrimSpace(string(b))
	path, err := binOf(major, name)
	if err != nil {
		return "", fmt.Errorf("the database in %s was made by PostgreSQL %s, and that version's program %s is not "+
			"installed; "+
			"install Debian's package postgresql-%s (a newer version cannot read these files)", p.Dir, major, name, major)
	}
	return path, nil
}

func (p *Postgres) data() string { return filepath.Join(p.Dir, "data") }

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
		return 0, 0, fmt.Errorf("a database server must not run as root and there is no user \"postgres\" to run it as; "+
			"install Debian's package postgresql: %w", err)
	}
	uid, _ = strconv.Atoi(u.Uid)
	gid, _ = strconv.Atoi(u.Gid)
	return uid, gid, nil
}

// StartPostgres starts a server and waits until it takes connections.
func StartPostgres(ctx context.Context, o Options) (*Postgres, error) {
	if _, err := Bin("initdb"); err != nil && o.Programs == "" {
		return nil, err
	}
	p := &Postgres{Host: "127.0.0.1", Port: o.Port, User: "postgres", Password: o.Password, Dir: o.Dir,
		database: "postgres", programs: o.Programs}
	if err := p.makeDir(); err != nil {
		return nil, err
	}
	if err := waitForOld(ctx, p.Dir, p.data()); err != nil {
		return nil, err
	}
	if err := p.prepare(ctx, &o); err != nil {
		return nil, err
	}
	p.relaunch = func(ctx context.Context) error {
		if err := waitForOld(ctx, p.Dir, p.data()); err != nil {
			return err
		}
		return p.launch(o)
	}
	if err := p.launch(o); err != nil {
		return nil, err
	}
	if err := p.ready(ctx); err != nil {
		p.Stop()
		return nil, err
	}
	return p, nil
}

// prepare makes the data directory when there is none, and decides how the server is
// reached.
func (p *Postgres) prepare(ctx context.Context, o *Options) error {
	if p.Password == "" && !o.Private {
		word, err := p.keptPassword()
		if err != nil {
			return err
		}
		p.Password = word
	}
	if !exists(filepath.Join(p.data(), "PG_VERSION")) {
		if err := p.initdb(ctx); err != nil {
			return err
		}
	}
	if o.Private {
		return p.makePrivate(ctx)
	}
	var err error
	if p.Port == 0 {
		p.Port, err = FreePort()
	}
	return err
}

// keptPassword returns the random password of a server that was given none.
func (p *Postgres) keptPassword() (string, error) {
	path := filepath.Join(p.Dir, "password")
	b, err := os.ReadFile(path)
	if err == nil {
		return string(b), nil
	}
	word := rand.Text()
	if err := os.WriteFile(path, []byte(word), 0o600); err != nil {
		return "", fmt.Errorf("keeping the server's password: %w", err)
	}
	return word, nil
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
	return own(p.Dir)
}

// own gives a file to the user that servers run as.
func own(path string) error {
	uid, gid, err := ids()
	if err != nil || uid < 0 {
		return err
	}
	return os.Chown(path, uid, gid)
}

func (p *Postgres) initdb(ctx context.Context) error {
	bin, err := p.bin("initdb")
	if err != nil {
		return err
	}
	args := []string{"-D", p.data(), "-U", "postgres", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync"}
	if p.Password == "" {
		args = append(args, "--auth=reject")
	} else {
		f, err := os.CreateTemp(p.Dir, "pw")
		if err != nil {
			return err
		}
		defer func() { _ = os.Remove(f.Name()) }()
		_, _ = f.WriteString(p.Password + "\n")
		_ = f.Close()
		if err := own(f.Name()); err != nil {
			return err
		}
		args = append(args, "--auth=scram-sha-256", "--pwfile="+f.Name())
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

// FreePort returns a port on loopback that nobody listens on, for a server that keeps it over
// restarts. It is below those that the kernel gives to outgoing connections, one of which
// could have it before the server does, or while the server is down.
func FreePort() (int, error) {
	var err error
	for range 200 {
		port := 10_000 + mathrand.IntN(22_000)
		var l net.Listener
		if l, err = net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port))); err == nil {
			return port, l.Close()
		}
	}
	return 0, fmt.Errorf("no port is free: %w", err)
}

func (p *Postgres) launch(o Options) error {
	bin, err := p.bin("postgres")
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
	if o.Private {
		maps.Copy(settings, p.privately())
	}
	maps.Copy(settings, o.Settings)
	args := []string{"-D", p.data()}
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
		c, err := pgx.Connect(ctx, p.URL(p.database))
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
	u := url.URL{Scheme: "postgres", User: url.UserPassword(p.User, p.Password), Path: "/" + database}
	if strings.HasPrefix(p.Host, "/") {
		u.User = url.User(p.User)
		u.RawQuery = url.Values{"host": {p.Host}, "port": {strconv.Itoa(p.Port)}}.Encode()
		return u.String()
	}
	u.Host, u.RawQuery = net.JoinHostPort(p.Host, strconv.Itoa(p.Port)), "sslmode=disable"
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
	for range 300 { // its children notice its end a moment later
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
