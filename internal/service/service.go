// Package service puts a process together: the records, the queue, the voyage
// and, for serve, the HTTP interface. One start and one stop.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"github.com/google/uuid"

	"dustyferry/internal/api"
	"dustyferry/internal/engine"
	"dustyferry/internal/localserver"
	"dustyferry/internal/queue"
	"dustyferry/internal/records"
	"dustyferry/internal/secret"
	"dustyferry/internal/voyage"
)

// Settings are a process's settings.
type Settings struct {
	Listen     string        // host:port of the HTTP interface
	Hosts      []string      // further names under which people reach the HTTP interface
	DataDir    string        // where the key file and our own control database live
	ControlURL string        // empty: our own
	KeyFile    string        // empty: <DataDir>/key
	NewKey     bool          // make another key in place of one that is lost
	Migrate    bool          // bring the control database of an older program up to date
	AllowRoot  bool          // run as root, which commands of a hand-over then do too
	Lanes      int           // lanes this process carries at once
	StuckAfter time.Duration // for how long nothing may move; 0: StuckAfter
	Labels     []string      // what this process is good for; crossings can ask for a label
	Files      []string      // folders whose files may be opened as databases
	Serve      bool          // with the HTTP interface; otherwise a worker only
	TLSCert    string
	TLSKey     string
	Version    string
	Build      string
	Log        *slog.Logger
	Engines    []engine.Driver // of databases; nil: Engines
	// FirstToken is told the first admin token, when there was none.
	FirstToken func(token string)
}

// StuckAfter is for how long nothing may move where nobody says otherwise.
const StuckAfter = voyage.StuckAfter

// Worker reports whether this process only helps a service.
func (s *Settings) Worker() bool { return !s.Serve }

// Service is a running process.
type Service struct {
	set     Settings
	lock    *os.File // of the data directory
	dumped  string   // the dump of before the records were changed
	control *localserver.Postgres
	store   *records.Store
	voyage  *voyage.Voyage
	http    *http.Server
	ln      net.Listener
	end     context.CancelFunc
	failed  chan error
}

// DefaultDataDir is where a process keeps its things when nobody says where.
func DefaultDataDir() string {
	if os.Getuid() == 0 {
		return "/var/lib/dustyferry"
	}
	if d := os.Getenv("XDG_DATA_HOME"); d != "" {
		return filepath.Join(d, "dustyferry")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		home = os.TempDir()
	}
	return filepath.Join(home, ".local", "share", "dustyferry")
}

// Start starts the process and returns when it is ready.
func Start(ctx context.Context, set Settings) (*Service, error) {
	easeCollector()
	if set.StuckAfter <= 0 {
		set.StuckAfter = StuckAfter
	}
	if set.Engines == nil {
		set.Engines = Engines
	}
	s := &Service{set: set, failed: make(chan error, 1)}
	if err := s.start(ctx); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

func (s *Service) start(ctx context.Context) error {
	set := &s.set
	if set.KeyFile == "" {
		set.KeyFile = filepath.Join(set.DataDir, "key")
	}
	if err := set.check(); err != nil {
		return err
	}
	if err := makeDataDir(set.DataDir); err != nil {
		return err
	}
	if err := s.openControl(ctx); err != nil {
		return err
	}
	if err := s.agree(ctx); err != nil {
		return err
	}
	box, err := s.openKey(ctx)
	if err != nil {
		return err
	}
	s.store.JournalKey = box.Derive(journalKey)
	host, _ := os.Hostname()
	name := fmt.Sprintf("%s-%d-%s", host, os.Getpid(), uuid.NewString()[:4])
	if err := voyage.ValidLabels(set.Labels); err != nil {
		return err
	}
	q, err := queue.New(s.store.Pool, queue.Config{Name: name, Labels: set.Labels, Lanes: set.Lanes, Tasks: 8,
		Log: set.Log})
	if err != nil {
		return err
	}
	s.voyage = voyage.New(voyage.Config{Store: s.store, Queue: q, Box: box, Log: set.Log, Worker: name,
		Labels: set.Labels, Lanes: set.Lanes, StuckAfter: set.StuckAfter, Version: set.Version, Outdated: s.failed},
		within(set.Engines, set.Files))
	s.store.Reveal = s.voyage.Planning.Reveal
	if err := s.voyage.Start(ctx); err != nil {
		return err
	}
	if !set.Serve {
		return nil
	}
	token, hash := secret.NewToken()
	first, err := s.store.FirstToken(ctx, "admin", "admin", hash)
	if err != nil {
		return err
	}
	if first && set.FirstToken != nil {
		set.FirstToken(token)
	}
	return s.listen()
}

func (s *Service) listen() error {
	known, err := s.set.knownHosts()
	if err != nil {
		return err
	}
	ln, err := net.Listen("tcp", s.set.Listen)
	if err != nil {
		return fmt.Errorf("listening on %s: %w; choose another address with --listen", s.set.Listen, err)
	}
	s.ln = ln
	ctx, end := context.WithCancel(context.Background())
	s.end = end
	srv := &api.Server{Store: s.store, Voyage: s.voyage, Log: s.set.Log, Version: s.set.Version, Build: s.set.Build,
		Listen: ln.Addr().String(), KnownHost: known}
	handler, err := srv.Handler(ctx)
	if err != nil {
		return err
	}
	s.http = &http.Server{
		Handler:           handler,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		BaseContext:       func(net.Listener) context.Context { return ctx },
		ErrorLog:          slog.NewLogLogger(s.set.Log.Handler(), slog.LevelDebug),
	}
	go func() {
		var err error
		if s.set.TLSCert != "" {
			err = s.http.ServeTLS(ln, s.set.TLSCert, s.set.TLSKey)
		} else {
			err = s.http.Serve(ln)
		}
		if !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	}()
	return nil
}

// URL is the address of the HTTP interface.
func (s *Service) URL() string {
	scheme := "http"
	if s.set.TLSCert != "" {
		scheme = "https"
	}
	return scheme + "://" + s.ln.Addr().String()
}

// ControlURL is the address of the control database.
func (s *Service) ControlURL() string { return s.set.ControlURL }

// Failed tells when the process cannot go on.
func (s *Service) Failed() <-chan error {
	if s.control != nil {
		go func() {
			<-s.control.Exited()
			select {
			case s.failed <- errors.New("our own control database has stopped"):
			default:
			}
		}()
	}
	return s.failed
}

// Stop ends everything, in the order in which it depends on each other.
func (s *Service) Stop() {
	if s.end != nil {
		s.end()
	}
	if s.http != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		_ = s.http.Shutdown(ctx)
		cancel()
	}
	if s.voyage != nil {
		s.voyage.Stop()
	}
	if s.store != nil {
		s.store.Close()
	}
	s.control.Stop()
	if s.lock != nil {
		_ = s.lock.Close()
	}
}

// easeCollector lets the heap grow further between two collections than is usual:
// it holds a few megabytes, and what passing rows leave behind would be collected
// hundreds of times a second. Beyond heapEase the collector is eager again. Whoever
// sets GOGC keeps it.
func easeCollector() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(400)
		debug.SetMemoryLimit(heapEase)
	}
}

const heapEase = 512 << 20
