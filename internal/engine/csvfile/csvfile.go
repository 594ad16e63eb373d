// Package csvfile opens files of rows as texts, with commas or other signs between them, as databases of one
// table that can be read: the second engine without a server. Such a file has no key and no log; a load reads
// it as one chunk, and a comparison as a bag of rows.
package csvfile

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/core/filekind"
	"dustyferry/internal/core/textrows"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Driver opens files in certain folders.
type Driver struct {
	engine.NoLog
	Folders []string
}

// Within is a driver that opens files in these folders.
func (Driver) Within(folders []string) engine.Driver { return Driver{Folders: folders} }

// Look says what a file is.
func (d Driver) Look(path string) (filekind.Kind, error) { return engine.LookWithin(d.Folders, path) }

// Recognises reports whether it opens files of a kind.
func (Driver) Recognises(k filekind.Kind) bool {
	return k.Name == filekind.Text || k.Name == filekind.Gzip
}

// Make makes none: such files are sources only.
func (Driver) Make(context.Context, string) (bool, error) { return false, nil }

// Name is the driver's name.
func (Driver) Name() string { return "csv" }

// Open opens the file at the endpoint's path.
func (d Driver) Open(_ context.Context, e engine.Endpoint) (engine.Database, error) {
	path, err := engine.FileWithin(d.Folders, e.Database)
	if err != nil {
		return nil, err
	}
	out := &database{path: path, name: filepath.Base(path)}
	_, err = out.dialect()
	return out, err
}

// database is a file.
type database struct {
	path, name string

	mu   sync.Mutex
	seen seen
}

// seen is what was found in the file, and in which state of it.
type seen struct {
	state   string
	dialect textrows.Dialect
	cat     *domain.Catalog
}

var _ interface {
	engine.Database
	engine.Reads
	engine.Compares
} = &database{}

// state changes with each write of the file.
func (d *database) state() (string, error) {
	s, err := os.Lstat(d.path)
	if err != nil {
		return "", domain.Unavailable(err, "the file %s cannot be read: %s", d.path, errors.Unwrap(err))
	}
	if !s.Mode().IsRegular() {
		return "", domain.Forbidden("%s is no file any more", d.path)
	}
	return fmt.Sprintf("%d bytes of %s", s.Size(), s.ModTime().UTC().Format(time.RFC3339Nano)), nil
}

// unchanged reports an error when the file is another one than the plan's.
func (d *database) unchanged(p *domain.TablePlan) error {
	now, err := d.state()
	if err != nil || p.Table.Written == "" || p.Table.Written == now {
		return err
	}
	return &engine.ServerError{Class: engine.OfStatement, Text: fmt.Sprintf("the file %s was written since "+
		"it was planned (%s "+
		"now, %s then): its rows are others. Restart the table when it is complete", d.path, now, p.Table.Written)}
}

// open opens the file, unpacked.
func (d *database) open() (io.Reader, func(), error) {
	if _, err := d.state(); err != nil {
		return nil, nil, err
	}
	f, err := os.Open(d.path)
	if err != nil {
		return nil, nil, domain.Unavailable(err, "the file %s cannot be read: %s", d.path, errors.Unwrap(err))
	}
	end := func() { _ = f.Close() }
	kind, err := engine.KindOfFile(d.path)
	if err != nil || kind.Name != filekind.Gzip {
		return f, end, err
	}
	z, err := gzip.NewReader(f)
	if err != nil {
		end()
		return nil, nil, domain.Invalid("%s cannot be unpacked: %s", d.path, err)
	}
	return z, end, nil
}

// dialect finds out how the file is written.
func (d *database) dialect() (textrows.Dialect, error) {
	r, end, err := d.open()
	if err != nil {
		return textrows.Dialect{}, err
	}
	defer end()
	head := make([]byte, 256<<10)
	n, err := io.ReadFull(r, head)
	whole := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
	if err != nil && !whole {
		return textrows.Dialect{}, domain.Unavailable(err, "the file %s cannot be read: %s", d.path, err)
	}
	out, err := textrows.Guess(head[:n], whole)
	if err != nil {
		err = fmt.Errorf("%s: %w", d.name, err)
	}
	return out, err
}

// records reads all records.
func (d *database) records(ctx context.Context, dialect textrows.Dialect,
	visit func(values []string, refused error) error) error {
	r, end, err := d.open()
	if err != nil {
		return err
	}
	defer end()
	in, err := newRecords(r, dialect)
	if err != nil {
		return err
	}
	for n := 0; ; n++ {
		if n%1000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		values, _, refused, err := in.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return domain.Unavailable(err, "the file %s cannot be read: %s", d.path, err)
		}
		if err := visit(values, refused); err != nil {
			return err
		}
	}
}

// looked is how many records the catalog looks at to find types.
const looked = 200_000

// errEnough ends a reading that has seen enough.
var errEnough = errors.New("enough")

// schema is where the table is.
const schema = "files"

// Catalog says what the table's columns hold.
func (d *database) Catalog(ctx context.Context) (*domain.Catalog, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	state, err := d.state()
	if err != nil {
		return nil, err
	}
	if d.seen.cat != nil && d.seen.state == state {
		return d.seen.cat, nil
	}
	dialect, err := d.dialect()
	if err != nil {
		return nil, err
	}
	holds := make([]textrows.Held, len(dialect.Columns))
	rows, size := int64(0), int64(0)
	err = d.records(ctx, dialect, func(values []string, refused error) error {
		if rows++; rows > looked {
			return errEnough
		}
		if refused == nil {
			for i, v := range values {
				holds[i].Look(v)
				size += int64(len(v)) + 1
			}
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	t := domain.Table{TableName: domain.TableName{Schema: schema, Name: tableName(d.name)}, RowIdentity: "none",
		Owned: true, Rows: rows, Bytes: size, Written: state}
	if rows > looked {
		if s, err := os.Stat(d.path); err == nil && size > 0 { // packed ones have more
			t.Rows, t.Bytes = max(rows, s.Size()*looked/size), max(s.Size(), size)
		}
	}
	for i, name := range dialect.Columns {
		typ := holds[i].Type()
		t.Columns = append(t.Columns, domain.Column{Name: name, Type: typ, BaseType: typ, Wire: "portable"})
	}
	d.seen = seen{state, dialect, &domain.Catalog{Tables: []domain.Table{t}}}
	return d.seen.cat, nil
}

// tableName is a file's name without what says how it is written.
func tableName(file string) string {
	for _, end := range []string{".gz", ".csv", ".tsv", ".txt"} {
		if cut := len(file) - len(end); cut > 0 && strings.EqualFold(file[cut:], end) {
			file = file[:cut]
		}
	}
	return file
}

// Plan carries the table whole: it has no key.
func (d *database) Plan(t *domain.Table) (domain.TablePlan, error) {
	return domain.TablePlan{Source: t.TableName, Target: t.TableName, Columns: t.Columns, Table: *t, KeyOrder: "none"}, nil
}

// SurveySource says how the file was understood.
func (d *database) SurveySource(ctx context.Context, plans []domain.TablePlan, _ bool) ([]domain.Entry, error) {
	if _, err := d.Catalog(ctx); err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	var out []domain.Entry
	for i := range plans {
		out = append(out, domain.Entry{Verdict: domain.OK, Topic: "file", Subject: plans[i].Source.String(),
			Measured: d.seen.dialect.String()})
		if plans[i].Table.Rows > looked {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "values", Subject: plans[i].Source.String(),
				Measured: fmt.Sprintf("the first %s rows were looked at to find types", domain.Grouped(looked)),
				Remedy:   "see every value: a fit check (dustyferry fit)"})
		}
	}
	return out, nil
}

// Close has nothing to close.
func (d *database) Close() {}

// Identity is nothing: a file has no log.
func (d *database) Identity(context.Context) (string, error) { return "", nil }

// Origin names the file.
func (d *database) Origin(context.Context) (string, error) { return "csv/" + d.path, nil }

// Check says how the file was understood.
func (d *database) Check(ctx context.Context) (engine.Facts, error) {
	cat, err := d.Catalog(ctx)
	if err != nil {
		return engine.Facts{}, err
	}
	dialect, err := d.dialect()
	if err != nil {
		return engine.Facts{}, err
	}
	state, err := d.state()
	t := cat.Tables[0]
	return engine.Facts{Version: "rows as texts", Encrypted: "a file on the service's machine", User: "read only",
		AsSource: []domain.Entry{
			{Verdict: domain.OK, Topic: "file", Subject: d.name, Measured: dialect.String() + "; " + state},
			{Verdict: domain.OK, Topic: "rows", Subject: d.name, Measured: fmt.Sprintf("table %s, about %s", t.TableName,
				domain.Many(t.Rows, "row"))},
			{Verdict: domain.Notice, Topic: "changes", Subject: d.name, Measured: "changes of a file are not " +
				"captured, and one " +
				"that is written while it is read holds its table", Remedy: "register it when it is complete"}},
		AsTarget: []domain.Entry{{Verdict: domain.Blocker, Topic: "rows", Subject: d.name, Measured: "files " +
			"of rows are sources " +
			"only", Remedy: "choose another target"}}}, err
}
