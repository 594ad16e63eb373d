package localserver

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// MariaDB is a running MariaDB server. Its user "root" may sign in from the
// loopback address with the password.
type MariaDB struct {
	Host     string
	Port     int
	User     string
	Password string
	Dir      string

	process  process
	relaunch func() error
}

// ErrNoMariaDB says that the machine has no MariaDB server installed.
var ErrNoMariaDB = errors.New("no MariaDB server is installed on this machine; install Debian's package mariadb-server")

// StartMariaDB starts a server in a new temporary directory, with a binary log
// of whole rows, and waits until it takes connections.
func StartMariaDB(ctx context.Context, o Options) (*MariaDB, error) {
	server, err := exec.LookPath("mariadbd")
	if err != nil {
		if server = "/usr/sbin/mariadbd"; !exists(server) {
			return nil, ErrNoMariaDB
		}
	}
	install, err := exec.LookPath("mariadb-install-db")
	if err != nil {
		return nil, ErrNoMariaDB
	}
	m := &MariaDB{Host: "127.0.0.1", Port: o.Port, User: "root", Password: o.Password}
	if m.Password == "" {
		m.Password = rand.Text()
	}
	if m.Dir, err = os.MkdirTemp("", "dusty-ferry-"); err != nil {
		return nil, fmt.Errorf("making a data directory: %w", err)
	}
	uid, gid, err := ids()
	if err == nil && uid >= 0 {
		err = os.Chown(m.Dir, uid, gid)
	}
	if err == nil && m.Port == 0 {
		m.Port, err = FreePort()
	}
	if err != nil {
		return nil, err
	}
	data := filepath.Join(m.Dir, "data")
	cmd := exec.CommandContext(ctx, install, "--no-defaults", "--datadir="+data, "--tmpdir="+m.Dir,
		"--auth-root-authentication-method=normal", "--skip-test-db")
	if err := asUser(cmd); err != nil {
		return nil, err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		_ = os.RemoveAll(m.Dir)
		return nil, fmt.Errorf("mariadb-install-db failed: %w: %s", err, bytes.TrimSpace(out))
	}
	m.relaunch = func() error { return m.launch(server, data, o) }
	if err := m.first(ctx, server, data, o); err != nil {
		m.Stop()
		return nil, err
	}
	return m, nil
}

// first starts the new server with the password of its user, which is set before it takes
// any connection.
func (m *MariaDB) first(ctx context.Context, server, data string, o Options) error {
	word := strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(m.Password)
	file := filepath.Join(m.Dir, "first.sql")
	text := "CREATE OR REPLACE USER 'root'@'127.0.0.1' IDENTIFIED BY '" + word + "';\n" +
		"GRANT ALL PRIVILEGES ON *.* TO 'root'@'127.0.0.1' WITH GRANT OPTION;\n" +
		"DROP USER IF EXISTS 'root'@'localhost', ''@'localhost', 'root'@'::1';\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return fmt.Errorf("writing the server's password: %w", err)
	}
	defer func() { _ = os.Remove(file) }()
	if err := own(file); err != nil {
		return err
	}
	o.Settings = maps.Clone(o.Settings)
	if o.Settings == nil {
		o.Settings = map[string]string{}
	}
	o.Settings["init-file"] = file
	if err := m.launch(server, data, o); err != nil {
		return err
	}
	return m.ready(ctx)
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

func (m *MariaDB) launch(server, data string, o Options) error {
	settings := map[string]string{
		// Of its own: a server that starts removes what others keep in the common one.
		"tmpdir": m.Dir, "datadir": data, "bind-address": "127.0.0.1", "port": strconv.Itoa(m.Port),
		"socket":   filepath.Join(m.Dir, "socket"),
		"pid-file": filepath.Join(m.Dir, "pid"), "log-bin": "saltmarsh", "server-id": strconv.Itoa(m.Port),
		"binlog-format":           "ROW",
		"innodb-buffer-pool-size": "128M", "max-connections": "200", "character-set-server": "utf8mb4",
		"collation-server":  "utf8mb4_general_ci",
		"default-time-zone": "+00:00", "skip-name-resolve": "ON",
	}
	if !o.Durable {
		settings["innodb-flush-log-at-trx-commit"], settings["sync-binlog"] = "0", "0"
	}
	for k, v := range o.Settings {
		settings[k] = v
	}
	args := []string{"--no-defaults"}
	for k, v := range settings {
		args = append(args, "--"+k+"="+v)
	}
	log, err := os.OpenFile(filepath.Join(m.Dir, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = log.Close() }()
	cmd := exec.Command(server, args...)
	if err := asUser(cmd); err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr = log, log
	return m.process.start(cmd, syscall.SIGTERM, m.Dir, true)
}

// ready waits until the server takes connections.
func (m *MariaDB) ready(ctx context.Context) error {
	db, err := sql.Open("mysql", m.DSN(""))
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	for try := 0; ; try++ {
		select {
		case <-m.process.exited:
			return fmt.Errorf("the server stopped at once:\n%s", lastLines(m.Dir))
		case <-ctx.Done():
			return ctx.Err()
		default:
		}
		if err = db.PingContext(ctx); err == nil {
			return nil
		}
		if try > 400 {
			return fmt.Errorf("the server does not take connections: %w\n%s", err, lastLines(m.Dir))
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// DSN is the driver's name for one of the server's databases.
func (m *MariaDB) DSN(database string) string {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.DBName = m.User, m.Password, "tcp", fmt.Sprintf("%s:%d", m.Host, m.Port), database
	c.Params = map[string]string{"time_zone": "'+00:00'"}
	c.MultiStatements = true
	c.Logger = &mysql.NopLogger{}
	return c.FormatDSN()
}

// Crash kills the server at once, as a power cut would, and starts it again with
// the same files and port; it returns when the server takes connections.
func (m *MariaDB) Crash(ctx context.Context) error {
	m.process.crash()
	if err := m.relaunch(); err != nil {
		return err
	}
	return m.ready(ctx)
}

// Stop ends the server and removes its directory.
func (m *MariaDB) Stop() {
	if m == nil {
		return
	}
	m.process.stop()
}

// Up reports whether the server takes connections.
func (m *MariaDB) Up(ctx context.Context) bool {
	db, err := sql.Open("mysql", m.DSN(""))
	if err != nil {
		return false
	}
	defer func() { _ = db.Close() }()
	return db.PingContext(ctx) == nil
}
