// Package databases knows the registered databases: how each is reached, with its password
// out of the box, and the open connections of this process.
package databases

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Records are where databases are registered.
type Records interface {
	Database(ctx context.Context, name string) (domain.Database, error)
	AddDatabase(ctx context.Context, d domain.Database) error
	ChangeDatabase(ctx context.Context, d domain.Database) error
	// Underway lists the crossings that are.
	Underway(ctx context.Context) ([]domain.Crossing, error)
	// ServerOf says on which server a crossing began, where that was kept.
	ServerOf(ctx context.Context, crossing int64) (string, error)
	// SetOtherServer keeps which server answers in its place; empty: that one does.
	SetOtherServer(ctx context.Context, crossing int64, server string) error
	CrossingsByUID(ctx context.Context) (map[string]domain.Crossing, error)
}

// Box seals passwords.
type Box interface {
	Seal(plain, bound string) []byte
	Open(sealed []byte, bound string) (string, error)
}

// Journal records what people do.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
}

// Databases opens registered databases.
type Databases struct {
	records Records
	box     Box
	journal Journal
	drivers []engine.Driver
	newUID  func() string

	mu       sync.Mutex
	open     map[int64]opened
	catalogs map[string]readCatalog // by database
	engines  map[string]string      // by database
}

type opened struct {
	db  *engine.Opened
	row domain.Database
}

// readCatalog is a catalog with when it was read.
type readCatalog struct {
	at  time.Time
	cat *domain.Catalog
}

// New returns the databases that the engines can open. newUID makes what a password is bound
// to.
func New(r Records, b Box, j Journal, drivers []engine.Driver, newUID func() string) *Databases {
	return &Databases{records: r, box: b, journal: j, drivers: drivers, newUID: newUID,
		open: map[int64]opened{}, catalogs: map[string]readCatalog{}, engines: map[string]string{}}
}

// Driver returns the engine of that name.
func (s *Databases) Driver(name string) (engine.Driver, error) {
	var names []string
	for _, d := range s.drivers {
		if d.Name() == name {
			return d, nil
		}
		names = append(names, d.Name())
	}
	return nil, domain.Invalid("there is no engine %q; choose %s", name, domain.Or(names))
}

// CheckStopMethod says whether the source can stop writes that way.
func (s *Databases) CheckStopMethod(ctx context.Context, source string, m domain.StopMethod) error {
	d, err := s.records.Database(ctx, source)
	if err != nil {
		return err
	}
	drv, err := s.Driver(d.Engine)
	if err != nil {
		return err
	}
	if can := drv.StopMethods(); !slices.Contains(can, m) {
		return domain.Invalid("the stop method %s is not there for %s; choose from %q", m, d.Engine, can)
	}
	return nil
}

// endpoint returns where a registered database is, with its password.
func (s *Databases) endpoint(d domain.Database) (engine.Endpoint, error) {
	pw, err := s.box.Open(d.Secret, d.Bound())
	if err != nil {
		return engine.Endpoint{}, domain.Unavailable(err, "database %s: %s", d.Name, err)
	}
	return engine.Endpoint{Host: d.Host, Port: d.Port, Database: d.DBName, User: d.Username, Password: pw, TLS: d.TLS}, nil
}

// Open returns the open database of that name; it stays open for this process.
func (s *Databases) Open(ctx context.Context, name string) (*engine.Opened, error) {
	row, err := s.records.Database(ctx, name)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	have, ok := s.open[row.ID]
	s.mu.Unlock()
	if ok && have.row.SameWay(row) {
		return have.db, nil
	}
	db, err := s.connect(ctx, row)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if have, ok := s.open[row.ID]; ok {
		if have.row.SameWay(row) {
			db.Close()
			return have.db, nil
		}
		go have.db.Close() // what still uses it fails, and is tried again the new way
	}
	s.open[row.ID] = opened{db, row}
	return db, nil
}

// connectLimit is how long opening a database may take.
const connectLimit = 15 * time.Second

// connect opens a database with what is written in its record.
func (s *Databases) connect(ctx context.Context, row domain.Database) (*engine.Opened, error) {
	d, err := s.Driver(row.Engine)
	if err != nil {
		return nil, err
	}
	e, err := s.endpoint(row)
	if err != nil {
		return nil, err
	}
	limit, cancel := context.WithTimeout(ctx, connectLimit)
	defer cancel()
	return engine.Open(limit, d, e)
}

// Forget closes a database that is no longer registered.
func (s *Databases) Forget(id int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.engines)
	clear(s.catalogs)
	if o, ok := s.open[id]; ok {
		go o.db.Close()
		delete(s.open, id)
	}
}

// Close closes all that are open.
func (s *Databases) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.open {
		o.db.Close()
	}
	clear(s.open)
}

// OpenPair opens a crossing's source and target.
func (s *Databases) OpenPair(ctx context.Context, c *domain.Crossing) (src, dst *engine.Opened, err error) {
	if src, err = s.Open(ctx, c.Source); err != nil {
		return nil, nil, fmt.Errorf("source: %w", err)
	}
	if dst, err = s.Open(ctx, c.Target); err != nil {
		return nil, nil, fmt.Errorf("target: %w", err)
	}
	return src, dst, nil
}

// Position writes a position in a database's log for people; empty: it is not known.
func (s *Databases) Position(ctx context.Context, database string, p domain.Position) string {
	if p.IsZero() {
		return ""
	}
	s.mu.Lock()
	name, ok := s.engines[database]
	s.mu.Unlock()
	if !ok {
		d, err := s.records.Database(ctx, database)
		if err != nil {
			return ""
		}
		name = d.Engine
		s.mu.Lock()
		s.engines[database] = name
		s.mu.Unlock()
	}
	drv, err := s.Driver(name)
	if err != nil {
		return ""
	}
	return drv.FormatPosition(p)
}

// catalogKept is how long browsing may see an old catalog; surveys and starts always read it
// anew.
const catalogKept = 30 * time.Second

// Catalog returns a database's catalog for browsing, read lately, or now if it is to be fresh.
func (s *Databases) Catalog(ctx context.Context, database string, fresh bool) (*domain.Catalog, error) {
	kept := catalogKept
	if fresh {
		kept = 0
	}
	return s.CatalogOf(ctx, database, kept)
}

// CatalogOf returns a database's catalog that is not older than kept.
func (s *Databases) CatalogOf(ctx context.Context, database string, kept time.Duration) (*domain.Catalog, error) {
	s.mu.Lock()
	have, ok := s.catalogs[database]
	s.mu.Unlock()
	if ok && time.Since(have.at) < kept {
		return have.cat, nil
	}
	db, err := s.Open(ctx, database)
	if err != nil {
		return nil, err
	}
	cat, err := db.Catalog(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.catalogs[database] = readCatalog{time.Now(), cat}
	return cat, nil
}

// SameSource returns an error when another server answers at the source's address
// than the one that the crossing began with.
func (s *Databases) SameSource(ctx context.Context, c *domain.Crossing, src *engine.Opened) error {
	now, err := src.Identity(ctx)
	if err != nil || now == "" {
		return err
	}
	was, err := s.records.ServerOf(ctx, c.ID)
	if err != nil || was == "" {
		return err
	}
	other := now
	if was == now {
		other = ""
	}
	if c.OtherServer != other { // seldom: no lane that opens writes for nothing
		if err := s.records.SetOtherServer(ctx, c.ID, other); err != nil {
			return err
		}
		c.OtherServer = other
	}
	if was == now {
		return nil
	}
	return domain.Conflict("another server answers for %s now (%s; it was %s): the places of its log mean something "+
		"else. Point the address back; or, if it is a promoted replica of the first one and the load is complete, go on "+
		"from it with 'dustyferry crossing failover %s'; or restart the crossing to load from this one", c.Source, now, was,
		c.Name)
}
