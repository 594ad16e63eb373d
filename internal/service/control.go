package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/domain"
	"dustyferry/internal/localserver"
	"dustyferry/internal/queue"
	"dustyferry/internal/records"
)

// openControl starts our own control database where none was given, and connects.
func (s *Service) openControl(ctx context.Context) error {
	set := &s.set
	if set.ControlURL == "" {
		if set.Worker() {
			return errors.New("a worker needs the control database of the service it helps; give it with --control-url")
		}
		var err error
		if s.lock, err = lockDir(set.DataDir); err != nil {
			return err
		}
		s.control, err = localserver.StartPostgres(ctx, localserver.Options{Dir: filepath.Join(set.DataDir, "control"),
			Durable: true, Private: true})
		if err != nil {
			return fmt.Errorf("starting our own control database: %w", err)
		}
		set.ControlURL = s.control.URL(localserver.PrivateName)
		set.Log.Info("our own control database runs", "socket", s.control.Host)
	}
	var err error
	if s.store, err = records.Open(ctx, set.ControlURL); err != nil {
		return err
	}
	super, err := s.store.Superuser(ctx)
	if err == nil && super {
		set.Log.Warn("the control database is used as a superuser; give --control-url a role that only owns its database")
	}
	return err
}

// agree makes sure that the control database's schema is this program's own. Only an
// empty one is set up unasked, by a service; what stands is changed by Migrate alone.
func (s *Service) agree(ctx context.Context) error {
	stands, err := s.store.Schema(ctx)
	if err != nil {
		return fmt.Errorf("looking at the control database's schema: %w", err)
	}
	switch {
	case stands > records.Known():
		return records.Newer(stands)
	case stands == 0 && s.set.Worker():
		return domain.Conflict("the control database is empty; start its service first ('dustyferry serve'), " +
			"which sets it up")
	case stands == 0:
		return s.migrate(ctx)
	}
	same, err := queue.UpToDate(ctx, s.store.Pool)
	if err != nil {
		return err
	}
	if stands == records.Known() && same {
		return nil
	}
	if !s.set.Migrate {
		return records.Older(stands)
	}
	return s.upgrade(ctx, stands)
}

func (s *Service) migrate(ctx context.Context) error {
	if err := s.store.Migrate(ctx); err != nil {
		return err
	}
	if err := queue.Migrate(ctx, s.store.Pool); err != nil {
		return fmt.Errorf("bringing the job queue's schema up to date: %w", err)
	}
	return nil
}

// upgrade changes the records of an older program, once none of its processes runs, and
// after a dump.
func (s *Service) upgrade(ctx context.Context, stands int64) error {
	live, err := s.store.Live(ctx)
	if err != nil {
		return fmt.Errorf("looking for processes of the older program: %w", err)
	}
	if len(live) > 0 {
		return domain.Conflict("processes of the older program still run: %s; stop them first (one that was killed counts "+
			"as running for 12 seconds)", strings.Join(live, ", "))
	}
	dump, err := s.dump(ctx, stands)
	if err != nil {
		return err
	}
	s.set.Log.Info("the control database was dumped before it is changed", "file", dump, "from", stands, "to",
		records.Known())
	if err := s.migrate(ctx); err != nil {
		return fmt.Errorf("%w; the dump of before is %s (pg_restore reads it)", err, dump)
	}
	s.dumped = dump
	return nil
}

// dump writes the whole control database into a file that only this user reads.
func (s *Service) dump(ctx context.Context, stands int64) (string, error) {
	conf, err := pgx.ParseConfig(s.set.ControlURL)
	if err != nil {
		return "", errors.New("the control database's address cannot be read")
	}
	dir := filepath.Join(s.set.DataDir, "dumps")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", fmt.Errorf("making the directory of dumps: %w", err)
	}
	file := filepath.Join(dir, fmt.Sprintf("control-v%d-%s.dump", stands, time.Now().UTC().Format("20060102T150405")))
	out, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", fmt.Errorf("writing the dump: %w", err)
	}
	program, err := localserver.Bin("pg_dump")
	if err != nil {
		return "", fmt.Errorf("the control database is dumped before it is changed, and pg_dump is not installed; install " +
			"Debian's package postgresql-client")
	}
	cmd := exec.CommandContext(ctx, program, "--format=custom", "--no-password")
	tls := "disable"
	if conf.TLSConfig != nil {
		tls = "require"
	}
	// In the environment: arguments are seen by every user of the machine.
	cmd.Env = append(os.Environ(), "PGHOST="+conf.Host, "PGPORT="+strconv.Itoa(int(conf.Port)), "PGUSER="+conf.User,
		"PGPASSWORD="+conf.Password, "PGDATABASE="+conf.Database, "PGSSLMODE="+tls)
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = out, &said
	if err := errors.Join(cmd.Run(), out.Sync(), out.Close()); err != nil {
		_ = os.Remove(file)
		return "", fmt.Errorf("dumping the control database before it is changed: %w: %s", err,
			strings.TrimSpace(said.String()))
	}
	return file, nil
}

// Migrate brings the control database of an older program up to date, after a dump, and
// returns the dump's path; "" when there was nothing to do.
func Migrate(ctx context.Context, set Settings) (string, error) {
	set.Serve, set.Migrate = true, true
	s := &Service{set: set, failed: make(chan error, 1)}
	defer s.Stop()
	if err := makeDataDir(set.DataDir); err != nil {
		return "", err
	}
	if err := s.openControl(ctx); err != nil {
		return "", err
	}
	err := s.agree(ctx)
	return s.dumped, err
}
