// Package rowfile opens files of rows as databases that can be read: the second engine without a server. Rows
// are texts with commas or other signs between them, objects of JSON, one a line, columns of a Parquet file,
// or sheets of a workbook, each a table; several files with rows alike are one table too. Such a table has no
// key and no log; a load reads it as one chunk, and a comparison as a bag of rows.
package rowfile

import (
	"context"
	"crypto/sha256"
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
	form    form
}

// form is how rows stand in files of one kind.
type form struct {
	name, rows string // of the engine, and what a check says of it
	kind       string // see [filekind.Kind]
	// tables are those of a file; nil: it is one, and several files can be, named as they are.
	tables func(path string) ([]string, error)
	// understand finds out how a table of a file is written.
	understand func(path, table string) (layout, error)
	// as is how files of a plan are written, where that needs no look; nil: it does.
	as func(p *domain.TablePlan) layout
}

// layout is how one table of a file is written.
type layout interface {
	fmt.Stringer
	columns() []string
	// open reads the table from its beginning on; end frees what that takes.
	open(path string) (in records, end func(), err error)
}

// declared is a layout whose file says of what types its columns are; their values are [textrows.Exact].
type declared interface {
	types() []domain.Column
	rows() int64
}

// records are those of a table.
type records interface {
	// next returns the next record, io.EOF at the end. One that cannot be taken apart, or has other values than
	// the layout, comes with the reason, and the next one after it. Values are good until the next.
	next() (values []textrows.Value, refused, err error)
}

// Texts is the driver of files of texts with signs between them.
func Texts() Driver {
	return Driver{form: form{name: "csv", rows: "rows as texts", kind: filekind.Text,
		understand: func(path, _ string) (layout, error) {
			head, whole, err := headOf(path)
			if err != nil {
				return nil, err
			}
			d, err := textrows.Guess(head, whole)
			return texts{d}, err
		}}}
}

// JSONLines is the driver of files of objects, one a line.
func JSONLines() Driver {
	return Driver{form: form{name: "jsonl", rows: "rows as objects of JSON", kind: filekind.Lines,
		understand: func(string, string) (layout, error) { return objects{}, nil },
		as: func(p *domain.TablePlan) layout {
			var names []string
			for _, c := range p.Table.Columns {
				names = append(names, c.Name)
			}
			return objects{JSONLines: textrows.JSONLines{Names: names}}
		}}}
}

// Within is a driver that opens files in these folders.
func (d Driver) Within(folders []string) engine.Driver {
	d.Folders = folders
	return d
}

// Look says what a file is.
func (d Driver) Look(path string) (filekind.Kind, error) { return engine.LookWithin(d.Folders, path) }

// Recognises reports whether it opens files of a kind.
func (d Driver) Recognises(k filekind.Kind) bool {
	return k.Name == d.form.kind && (k.Packed == "" || !k.Whole())
}

// Make makes none: such files are sources only.
func (Driver) Make(context.Context, string) (bool, error) { return false, nil }

// Name is the driver's name.
func (d Driver) Name() string { return d.form.name }

// Open opens the files at the endpoint's path.
func (d Driver) Open(_ context.Context, e engine.Endpoint) (engine.Database, error) {
	out := &database{folders: d.Folders, path: e.Database, name: filepath.Base(e.Database), form: d.form}
	files, err := out.files()
	if err != nil {
		return nil, err
	}
	tables, err := out.tables()
	if err != nil {
		return nil, err
	}
	_, err = out.understand(files[0], tables[0])
	return out, err
}

// database is a file, or several.
type database struct {
	folders    []string
	path, name string
	form       form

	mu   sync.Mutex
	seen seen
}

// seen is what was found in the files, and in which state of them.
type seen struct {
	state   string
	layouts map[string]layout // by table
	cat     *domain.Catalog
}

var _ interface {
	engine.Database
	engine.Reads
	engine.Compares
} = &database{}

// files are those that the path names now.
func (d *database) files() ([]string, error) { return engine.FilesWithin(d.folders, d.path) }

// state changes with each write of a file.
func (d *database) state() (string, error) {
	files, err := d.files()
	if err != nil {
		return "", err
	}
	var size int64
	var last time.Time
	all := sha256.New()
	for _, path := range files {
		s, err := os.Lstat(path)
		if err != nil {
			return "", domain.Unavailable(err, "the file %s cannot be read: %s", path, errors.Unwrap(err))
		}
		if !s.Mode().IsRegular() {
			return "", domain.Forbidden("%s is no file any more", path)
		}
		size += s.Size()
		if s.ModTime().After(last) {
			last = s.ModTime()
		}
		_, _ = fmt.Fprintln(all, path, s.Size(), s.ModTime().UnixNano())
	}
	out := fmt.Sprintf("%d bytes of %s", size, last.UTC().Format(time.RFC3339Nano))
	if len(files) > 1 {
		out = fmt.Sprintf("%d files, %s, together %x", len(files), out, all.Sum(nil)[:4])
	}
	return out, nil
}

// unchanged reports an error when the files are others than the plan's.
func (d *database) unchanged(p *domain.TablePlan) error {
	now, err := d.state()
	if err != nil || p.Table.Written == "" || p.Table.Written == now {
		return err
	}
	return &engine.ServerError{Class: engine.OfStatement, Text: fmt.Sprintf("the file %s was written since "+
		"it was planned (%s "+
		"now, %s then): its rows are others. Restart the table when it is complete", d.path, now, p.Table.Written)}
}

// open opens a file, unpacked.
func open(path string) (io.Reader, func(), error) {
	kind, err := engine.KindOfFile(path)
	if err != nil {
		return nil, nil, err
	}
	if kind.Name == filekind.Gzip || kind.Name == filekind.Zstd {
		return nil, nil, domain.Invalid("%s cannot be unpacked: %s", path, kind.Advice)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, domain.Unavailable(err, "the file %s cannot be read: %s", path, errors.Unwrap(err))
	}
	r, end, err := engine.Unpacked(f, kind.Packed)
	if err != nil {
		_ = f.Close()
		return nil, nil, domain.Invalid("%s cannot be unpacked: %s", path, err)
	}
	return r, func() {
		end()
		_ = f.Close()
	}, nil
}

// headOf is the beginning of a file, unpacked, or all of it.
func headOf(path string) (head []byte, whole bool, err error) {
	r, end, err := open(path)
	if err != nil {
		return nil, false, err
	}
	defer end()
	head = make([]byte, 256<<10)
	n, err := io.ReadFull(r, head)
	whole = errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
	if err != nil && !whole {
		return nil, false, domain.Unavailable(err, "the file %s cannot be read: %s", path, err)
	}
	return head[:n], whole, nil
}

// understand finds out how a table of a file is written.
func (d *database) understand(path, table string) (layout, error) {
	out, err := d.form.understand(path, table)
	if err != nil {
		err = fmt.Errorf("%s: %w", filepath.Base(path), err)
	}
	return out, err
}

// tables are those of the files.
func (d *database) tables() ([]string, error) {
	files, err := d.files()
	if err != nil {
		return nil, err
	}
	if d.form.tables == nil {
		return []string{tableName(d.path)}, nil
	}
	if len(files) > 1 {
		return nil, domain.Invalid("%s names %d files, and each of them has tables of its own; register them one by one",
			d.path, len(files))
	}
	out, err := d.form.tables(files[0])
	if err != nil {
		err = fmt.Errorf("%s: %w", d.name, err)
	}
	return out, err
}

// records reads all records of a table. as is how its files are written, nil where that is to be found out of
// each; they must have the same columns.
func (d *database) records(ctx context.Context, table string, as layout,
	visit func(l layout, values []textrows.Value, refused error) error) error {
	files, err := d.files()
	if err != nil {
		return err
	}
	var first layout
	for _, path := range files {
		l := as
		if l == nil {
			if l, err = d.understand(path, table); err != nil {
				return err
			}
		}
		if first == nil {
			first = l
		}
		if err := alike(path, l, files[0], first); err != nil {
			return err
		}
		if err := recordsOf(ctx, path, l, len(files) > 1, visit); err != nil {
			return err
		}
	}
	return nil
}

// alike refuses files of one table that have other columns.
func alike(path string, l layout, firstPath string, first layout) error {
	if a, b := columnsOf(l), columnsOf(first); a != b {
		return domain.Conflict("%s has the columns %s, and %s has %s: files of one table have the same", filepath.Base(path),
			a, filepath.Base(firstPath), b)
	}
	return nil
}

// columnsOf lists a layout's columns, with their types where it knows them.
func columnsOf(l layout) string {
	out := strings.Join(l.columns(), ", ")
	if t, ok := l.(declared); ok {
		out = ""
		for _, c := range t.types() {
			out += ", " + c.Name + " " + c.Type
		}
		out = strings.TrimPrefix(out, ", ")
	}
	return out
}

func recordsOf(ctx context.Context, path string, l layout, several bool,
	visit func(l layout, values []textrows.Value, refused error) error) error {
	in, end, err := l.open(path)
	if err != nil {
		return err
	}
	defer end()
	for n := 0; ; n++ {
		if n%1000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		values, refused, err := in.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return domain.Unavailable(err, "the file %s cannot be read: %s", path, err)
		}
		if refused != nil && several {
			refused = domain.Conflict("%s, %s", filepath.Base(path), refused)
		}
		if err := visit(l, values, refused); err != nil {
			return err
		}
	}
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
			Measured: d.seen.layouts[plans[i].Source.Name].String()})
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
func (d *database) Origin(context.Context) (string, error) { return d.form.name + "/" + d.path, nil }

// Check says how the file was understood.
func (d *database) Check(ctx context.Context) (engine.Facts, error) {
	cat, err := d.Catalog(ctx)
	if err != nil {
		return engine.Facts{}, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	source := []domain.Entry{{Verdict: domain.OK, Topic: "file", Subject: d.name, Measured: d.seen.state}}
	for _, t := range cat.Tables {
		source = append(source, domain.Entry{Verdict: domain.OK, Topic: "rows", Subject: t.TableName.String(),
			Measured: fmt.Sprintf("%s; about %s", d.seen.layouts[t.Name], domain.Many(t.Rows, "row"))})
	}
	return engine.Facts{Version: d.form.rows, Encrypted: "a file on the service's machine", User: "read only",
		AsSource: append(source,
			domain.Entry{Verdict: domain.Notice, Topic: "changes", Subject: d.name, Measured: "changes of a file are not " +
				"captured, and " +
				"one that is written while it is read holds its table", Remedy: "register it when it is complete"}),
		AsTarget: []domain.Entry{{Verdict: domain.Blocker, Topic: "rows", Subject: d.name,
			Measured: "files of rows are sources only", Remedy: "choose another target"}}}, nil
}
