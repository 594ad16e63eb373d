// Package sqlite opens SQLite database files, the first engine without a server: a file is read, by
// pieces, each in a read transaction of its own, and is not written but as a target, and where its changes
// are to be followed (log.go). What a column holds is not what it was declared as alone: any value can be of
// any type there, so that the catalog looks at them.
package sqlite

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	lite "modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"

	"dustyferry/internal/core/filekind"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Driver opens files in certain folders.
type Driver struct{ Folders []string }

// FormatPosition writes the number of a change.
func (Driver) FormatPosition(p domain.Position) string {
	if p.IsZero() {
		return ""
	}
	return p.String()
}

// ParsePosition reads one.
func (Driver) ParsePosition(s string) (domain.Position, error) {
	n, err := strconv.ParseUint(s, 10, 63)
	if err != nil {
		return domain.Position{}, domain.Invalid("%q is no number of a change of a file", s)
	}
	return domain.PositionAt(n), nil
}

// CheckPlace refuses what is none.
func (d Driver) CheckPlace(s string) error {
	_, err := d.ParsePosition(s)
	return err
}

// Within is a driver that opens files in these folders.
func (Driver) Within(folders []string) engine.Driver { return Driver{Folders: folders} }

// Look says what a file is.
func (d Driver) Look(path string) (filekind.Kind, error) { return engine.LookWithin(d.Folders, path) }

// Make makes a database.
func (d Driver) Make(ctx context.Context, path string) (bool, error) {
	at, err := engine.NewFileWithin(d.Folders, path)
	if err != nil || at == "" {
		return false, err
	}
	out := &database{path: at, name: filepath.Base(at), turn: make(chan struct{}, 1), views: map[*view]bool{}}
	return true, out.created(ctx)
}

// Recognises reports whether it opens files of a kind.
func (Driver) Recognises(k filekind.Kind) bool { return k.Name == filekind.SQLite && k.Packed == "" }

// Name is the driver's name.
func (Driver) Name() string { return "sqlite" }

// Open opens the file at the endpoint's path.
func (d Driver) Open(ctx context.Context, e engine.Endpoint) (engine.Database, error) {
	path, err := engine.FileWithin(d.Folders, e.Database)
	if err != nil {
		return nil, err
	}
	out := &database{path: path, name: filepath.Base(path), turn: make(chan struct{}, 1), views: map[*view]bool{}}
	c, err := out.conn(ctx)
	if err != nil {
		return nil, err
	}
	c.close()
	return out, nil
}

// database is a file.
type database struct {
	path string
	name string

	mu    sync.Mutex
	seen  seen           // the catalog, and of which state of the file it is
	turn  chan struct{}  // held by whoever writes
	views map[*view]bool // that are open
}

var _ interface {
	engine.Database
	engine.Reads
	engine.Compares
} = &database{}

func init() {
	engine.Classifies(func(err error) engine.Class {
		var e *lite.Error
		if !errors.As(err, &e) {
			return engine.Unclassed
		}
		switch e.Code() & 0xff {
		case codes.SQLITE_BUSY, codes.SQLITE_LOCKED:
			return engine.Collision
		case codes.SQLITE_CANTOPEN, codes.SQLITE_IOERR, codes.SQLITE_NOMEM:
			return engine.Gone
		case codes.SQLITE_CONSTRAINT, codes.SQLITE_MISMATCH, codes.SQLITE_TOOBIG:
			return engine.OfRows
		case codes.SQLITE_FULL, codes.SQLITE_READONLY:
			return engine.NoRoom
		case codes.SQLITE_ERROR, codes.SQLITE_NOTADB, codes.SQLITE_CORRUPT:
			return engine.OfStatement
		}
		return engine.Unclassed
	})
}

// conn is one connection to the file. What it gives is as it is stored: nothing is made of it by what a
// column was declared as.
type conn struct {
	c interface {
		driver.Conn
		driver.QueryerContext
		driver.ExecerContext
	}
}

// busy is how long a writer may keep the file to itself before a read gives up, in milliseconds.
const busy = 10_000

// conn opens the file to read it.
func (d *database) conn(ctx context.Context) (*conn, error) { return d.open(ctx, "ro") }

// open opens the file: ro to read it, rw to write it too, rwc to make it.
func (d *database) open(ctx context.Context, mode string) (*conn, error) {
	// It was looked at when the database was opened, with all links followed; it may be another one now.
	switch s, err := os.Lstat(d.path); {
	case err == nil && !s.Mode().IsRegular():
		return nil, domain.Forbidden("%s is no file any more", d.path)
	case err != nil && mode != "rwc":
		return nil, domain.Unavailable(err, "the file %s cannot be read (%s); see that it is there and that the service's "+
			"user may read it", d.path, errors.Unwrap(err))
	}
	q := url.Values{"mode": {mode}, "_pragma": {fmt.Sprintf("busy_timeout(%d)", busy),
		"trusted_schema(0)"}}
	if mode == "ro" {
		q.Add("_pragma", "query_only(1)")
	} else {
		q.Add("_pragma", "synchronous(2)")
	}
	raw, err := (&lite.Driver{}).Open((&url.URL{Scheme: "file", Opaque: (&url.URL{Path: d.path}).EscapedPath(),
		RawQuery: q.Encode()}).String())
	if err != nil {
		return nil, d.explain(err)
	}
	c, ok := raw.(interface {
		driver.Conn
		driver.QueryerContext
		driver.ExecerContext
	})
	if !ok {
		return nil, errors.New("the SQLite driver gives connections of another kind")
	}
	out := &conn{c}
	// A file is only looked into now.
	if err := out.rows(ctx, "SELECT count(*) FROM sqlite_schema", func([]driver.Value) error { return nil }); err != nil {
		out.close()
		return nil, d.explain(err)
	}
	return out, nil
}

// explain says what a file's error means for people.
func (d *database) explain(err error) error {
	var e *lite.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code() & 0xff {
	case codes.SQLITE_NOTADB:
		return domain.Unavailable(err,
			"%s is no SQLite database, or is encrypted; decrypt it with the program that made it, "+
				"into a file of its own", d.path)
	case codes.SQLITE_CORRUPT:
		return domain.Unavailable(err,
			"%s is damaged (%s); mend it with '.recover' of the sqlite3 shell, into a file of its "+
				"own, and register that", d.path, e)
	case codes.SQLITE_BUSY:
		return &engine.ServerError{Text: fmt.Sprintf("another program keeps %s to itself for more than %d s", d.path,
			busy/1000), Class: engine.Collision, Err: err}
	case codes.SQLITE_CANTOPEN:
		return domain.Unavailable(err,
			"%s cannot be opened (%s); a file in WAL mode needs its folder to be writable, or its "+
				"-wal and -shm files beside it", d.path, e)
	}
	return &engine.ServerError{Text: "SQLite says: " + e.Error(), Class: engine.ClassOf(err), Err: err}
}

func (c *conn) close() { _ = c.c.Close() }

func (c *conn) exec(ctx context.Context, sql string, args ...driver.Value) error {
	_, err := c.c.ExecContext(ctx, sql, named(args))
	return err
}

// changes runs a statement and returns how many rows it changed.
func (c *conn) changes(ctx context.Context, sql string, args ...driver.Value) (int64, error) {
	r, err := c.c.ExecContext(ctx, sql, named(args))
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

func named(args []driver.Value) []driver.NamedValue {
	out := make([]driver.NamedValue, len(args))
	for i, a := range args {
		out[i] = driver.NamedValue{Ordinal: i + 1, Value: a}
	}
	return out
}

// rows runs a query and hands on each row; its values are good until the next.
func (c *conn) rows(ctx context.Context, sql string, visit func(row []driver.Value) error, args ...driver.Value) error {
	r, err := c.c.QueryContext(ctx, sql, named(args))
	if err != nil {
		return err
	}
	defer func() { _ = r.Close() }()
	row := make([]driver.Value, len(r.Columns()))
	for {
		switch err := r.Next(row); {
		case errors.Is(err, io.EOF):
			return ctx.Err()
		case err != nil:
			return err
		}
		if err := visit(row); err != nil {
			return err
		}
	}
}

// Close has nothing to close: connections are opened for what they are needed.
func (d *database) Close() {}

// Identity is nothing: a file has no log whose places could be taken for another's.
func (d *database) Identity(context.Context) (string, error) { return "", nil }

// Origin names the file.
func (d *database) Origin(context.Context) (string, error) { return "sqlite/" + d.path, nil }

// checked is how many pages a file may have that is checked while somebody waits.
const checked = 100_000

// Check says what the file is.
func (d *database) Check(ctx context.Context) (engine.Facts, error) {
	c, err := d.conn(ctx)
	if err != nil {
		return engine.Facts{}, err
	}
	defer c.close()
	ask := func(sql string) string {
		out := ""
		if e := c.rows(ctx, sql, func(r []driver.Value) error { out = fmt.Sprint(r[0]); return nil }); e != nil &&
			err == nil {
			err = e
		}
		return out
	}
	f := engine.Facts{Version: "SQLite " + ask("SELECT sqlite_version()"), Encrypted: "a file on the service's machine",
		User: "nobody: a file has no users"}
	mode, pages, size := ask("PRAGMA journal_mode"), ask("PRAGMA page_count"), ask("PRAGMA page_size")
	whole := ""
	if n, _ := strconv.ParseInt(pages, 10, 64); n <= checked {
		whole = ask("PRAGMA quick_check(1)")
	}
	if err != nil {
		return f, d.explain(err)
	}
	ok := func(topic, format string, args ...any) domain.Entry {
		return domain.Entry{Verdict: domain.OK, Topic: topic, Subject: d.name, Measured: fmt.Sprintf(format, args...)}
	}
	f.AsSource = []domain.Entry{ok("file", "%s pages of %s bytes, journal mode %s; as a source it is "+
		"opened read-only, unless changes are followed", pages, size, mode)}
	switch whole {
	case "ok":
		f.AsSource = append(f.AsSource, ok("integrity", "SQLite's quick check finds nothing"))
	case "":
		f.AsSource = append(f.AsSource, domain.Entry{Verdict: domain.Notice, Topic: "integrity", Subject: d.name,
			Measured: "the file is too large to be checked while somebody waits",
			Remedy:   "run 'PRAGMA quick_check' in the sqlite3 shell"})
	default:
		f.AsSource = append(f.AsSource, domain.Entry{Verdict: domain.Blocker, Topic: "integrity", Subject: d.name,
			Measured: "SQLite's quick check says: " + whole,
			Remedy:   "mend it with '.recover' of the sqlite3 shell, into a file of its own, and register that"})
	}
	changes := domain.Entry{Verdict: domain.OK, Topic: "changes", Subject: d.name,
		Measured: "a crossing that follows changes has them recorded by triggers that it makes in the file"}
	if mode != "wal" {
		changes.Verdict, changes.Measured = domain.Notice, "changes are not followed in the journal mode "+mode+": what is "+
			"written after a chunk was read is not on the target"
		changes.Remedy = "PRAGMA journal_mode = WAL; or load without changes, while nothing writes or again (crossing " +
			"refresh)"
	}
	f.AsSource = append(f.AsSource, changes)
	f.AsTarget = []domain.Entry{ok("file",
		"it takes rows by one writer at a time, each chunk with its mark in one transaction")}
	if w, err := d.open(ctx, "rw"); err != nil {
		f.AsTarget[0] = domain.Entry{Verdict: domain.Blocker, Topic: "file", Subject: d.name,
			Measured: "it cannot be written: " +
				d.explain(err).Error(), Remedy: "let the service's user write it and its folder"}
	} else {
		if err := errors.Join(w.exec(ctx, "BEGIN IMMEDIATE"), w.exec(ctx, "ROLLBACK")); err != nil {
			f.AsTarget[0] = domain.Entry{Verdict: domain.Blocker, Topic: "file", Subject: d.name, Measured: "it cannot be " +
				"written: " + d.explain(err).Error(), Remedy: "let the service's user write it and its folder"}
		}
		w.close()
	}
	return f, nil
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
