// Package folder has a folder of files as a database: rows land in files, one for each chunk, and a list
// says which of them count. It can be loaded from again, with the types that it was written with.
//
// In the folder are a folder for each table, with its files; manifest.jsonl, which lists the files whose rows
// count, one a line; and .dusty-ferry.jsonl, which says what the tables are and which chunks of them are
// somebody's. Both lists only grow, but for a table that is emptied. A file gets its name when all of it is on
// the disk, and counts from when its line is: who reads the folder never sees half a file.
package folder

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"dustyferry/internal/core/filekind"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Driver opens folders in certain folders.
type Driver struct {
	engine.NoLog
	Folders []string
}

// Name is the driver's name.
func (Driver) Name() string { return "folder" }

// Within is a driver that opens folders in these alone.
func (d Driver) Within(folders []string) engine.Driver {
	d.Folders = folders
	return d
}

// Look says what is at a path.
func (d Driver) Look(path string) (filekind.Kind, error) { return engine.LookWithin(d.Folders, path) }

// Recognises reports whether it opens such.
func (Driver) Recognises(k filekind.Kind) bool { return k.Name == filekind.Folder }

// Make makes a folder for rows of one that is empty, or not there.
func (d Driver) Make(_ context.Context, path string) (bool, error) {
	at, err := engine.NewFileWithin(d.Folders, path)
	if err != nil {
		return false, err
	}
	if at != "" {
		if err := os.Mkdir(at, 0o700); err != nil {
			return false, domain.Unavailable(err, "the folder %s cannot be made: %s", path, errors.Unwrap(err))
		}
	} else if at, err = engine.FolderWithin(d.Folders, path); err != nil {
		return false, err
	}
	there, err := os.ReadDir(at)
	if err != nil {
		return false, domain.Unavailable(err, "the folder %s cannot be read: %s", path, errors.Unwrap(err))
	}
	for _, f := range there {
		if f.Name() == engine.FolderList {
			return false, nil // it is one already
		}
	}
	if len(there) > 0 {
		return false, domain.Invalid("the folder %s is not empty (%s is in it); give an empty one, or one that is not there "+
			"yet", path, there[0].Name())
	}
	if err := os.WriteFile(filepath.Join(at, engine.FolderList), nil, 0o600); err != nil {
		return false, domain.Unavailable(err, "no file can be made in the folder %s: %s", path, errors.Unwrap(err))
	}
	return true, nil
}

// Open opens the folder at the endpoint's path.
func (d Driver) Open(_ context.Context, e engine.Endpoint) (engine.Database, error) {
	path, err := engine.FolderWithin(d.Folders, e.Database)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(path, engine.FolderList)); err != nil {
		return nil, domain.Invalid("%s is no folder that rows were written to by us: it has no %s", e.Database,
			engine.FolderList)
	}
	return &database{path: path, name: filepath.Base(path)}, nil
}

// database is a folder.
type database struct {
	path, name string

	mu    sync.Mutex
	known known
}

var _ interface {
	engine.Database
	engine.Reads
	engine.Lands
	engine.Defines
	engine.Compares
} = &database{}

// Close has nothing to close.
func (d *database) Close() {}

// Identity is nothing: a folder has no log.
func (d *database) Identity(context.Context) (string, error) { return "", nil }

// Origin names the folder.
func (d *database) Origin(context.Context) (string, error) { return "folder/" + d.path, nil }

// Catalog lists the tables, as they were written.
func (d *database) Catalog(ctx context.Context) (*domain.Catalog, error) {
	out := &domain.Catalog{}
	err := d.locked(ctx, func(k *known) error {
		for _, t := range k.inOrder() {
			table := domain.Table{TableName: domain.TableName{Schema: t.Schema, Name: t.Table}, RowIdentity: "none", Owned: true,
				Columns: t.Columns, Written: k.stateOf(t.Table)}
			for _, f := range k.filesOf(t.Table) {
				table.Rows += f.Rows
				table.Bytes += f.Bytes
			}
			out.Tables = append(out.Tables, table)
		}
		return nil
	})
	return out, err
}

// Plan carries a table whole: it has no key.
func (d *database) Plan(t *domain.Table) (domain.TablePlan, error) {
	return domain.TablePlan{Source: t.TableName, Target: t.TableName, Columns: t.Columns, Table: *t, KeyOrder: "none"}, nil
}

// Check says what is in the folder, and what it can do.
func (d *database) Check(ctx context.Context) (engine.Facts, error) {
	source := []domain.Entry{}
	err := d.locked(ctx, func(k *known) error {
		for _, t := range k.inOrder() {
			rows, bytes := int64(0), int64(0)
			files := k.filesOf(t.Table)
			for _, f := range files {
				rows, bytes = rows+f.Rows, bytes+f.Bytes
			}
			source = append(source, domain.Entry{Verdict: domain.OK, Topic: "rows", Subject: t.Table, Measured: fmt.Sprintf(
				"%s in %s, %s bytes, written as %s", domain.Many(rows, "row"), domain.Many(int64(len(files)), "file"),
				domain.Grouped(bytes), t.Format)})
		}
		return nil
	})
	if err != nil {
		return engine.Facts{}, err
	}
	return engine.Facts{Version: "files in a folder", Encrypted: "files on the service's machine", User: "read and write",
		AsSource: append(source, domain.Entry{Verdict: domain.Notice, Topic: "changes", Subject: d.name,
			Measured: "changes of a folder are not captured"}),
		AsTarget: []domain.Entry{d.room(), {Verdict: domain.Notice, Topic: "changes", Subject: d.name,
			Measured: "rows land in files, a file a chunk; changes cannot be applied to them",
			Remedy:   "load without following changes (--follow-changes=false)"}}}, nil
}

// room says whether a file can be made in the folder.
func (d *database) room() domain.Entry {
	e := domain.Entry{Verdict: domain.OK, Topic: "folder", Subject: d.name, Measured: "files can be made in it"}
	f, err := os.CreateTemp(d.path, ".dusty-ferry-try-")
	if err == nil {
		err = errors.Join(f.Close(), os.Remove(f.Name()))
	}
	if err != nil {
		e.Verdict, e.Measured = domain.Blocker, "no file can be made in it: "+err.Error()
		e.Remedy = "let the service's user write there"
	}
	return e
}

// tableFolder is what the folder of a table is called: its name, with what no file's name may have, or what
// would hide it, written as its bytes.
func tableFolder(table string) string {
	var b strings.Builder
	for i := range len(table) {
		switch c := table[i]; {
		case c < ' ', c == '/', c == '\\', c == '%', c == 0x7f, c == '.' && i == 0:
			fmt.Fprintf(&b, "%%%02x", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}
