package folder

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// tableLine says what a table is: of the lines of one, the last counts.
type tableLine struct {
	Table   string          `json:"table"`
	Schema  string          `json:"schema"`
	Folder  string          `json:"folder"`
	Format  string          `json:"format"` // see [formOf]
	Columns []domain.Column `json:"columns"`
}

// fenceLine says from which holder on a chunk lands.
type fenceLine struct {
	Crossing string `json:"crossing"`
	Chunk    int64  `json:"chunk"`
	Epoch    int64  `json:"epoch"`
}

// ownLine is a line of our list.
type ownLine struct {
	Table *tableLine `json:"table,omitempty"`
	Fence *fenceLine `json:"fence,omitempty"`
}

// fileLine is a line of the manifest: a file whose rows count, and the chunk that they are.
type fileLine struct {
	File     string `json:"file"` // path within the folder
	Table    string `json:"table"`
	Rows     int64  `json:"rows"`
	Bytes    int64  `json:"bytes"`
	SHA256   string `json:"sha256"` // of the file, in hexadecimal digits
	Crossing string `json:"crossing"`
	Chunk    int64  `json:"chunk"`
	Epoch    int64  `json:"epoch"`
	RowBytes int64  `json:"row_bytes"` // with RowHash, the sum of the rows
	RowHash  string `json:"row_hash"`
	Snapshot string `json:"snapshot"`
}

func (f *fileLine) mark() (*engine.Mark, error) {
	snapshot, err := domain.ParseSnapshot(f.Snapshot)
	if err != nil {
		return nil, err
	}
	m := &engine.Mark{Crossing: f.Crossing, Chunk: f.Chunk, Epoch: f.Epoch, Snapshot: snapshot,
		Sum: rowhash.Sum{Rows: f.Rows, Bytes: f.RowBytes}}
	_, err = fmt.Sscanf(f.RowHash, "%x", &m.Sum.Hash)
	return m, err
}

// Names of what is ours in a folder.
const (
	manifest = "manifest.jsonl"
	lock     = ".dusty-ferry.lock"
	part     = ".part" // how files end that are being written
)

type chunk struct {
	crossing string
	id       int64
}

// known is what both lists say, as far as they were read.
type known struct {
	tables map[string]*tableLine // by name in small letters
	fences map[chunk]int64
	files  map[chunk]*fileLine

	own, list tail
	cleaned   bool
}

// tail is how far a list was read.
type tail struct {
	at  int64
	was os.FileInfo
}

func (k *known) table(name string) *tableLine { return k.tables[strings.ToLower(name)] }

func (k *known) inOrder() []*tableLine {
	var out []*tableLine
	for _, t := range k.tables {
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b *tableLine) int { return cmp.Compare(a.Table, b.Table) })
	return out
}

// filesOf are the files of a table, in the order of their names.
func (k *known) filesOf(table string) []*fileLine {
	var out []*fileLine
	for _, f := range k.files {
		if strings.EqualFold(f.Table, table) {
			out = append(out, f)
		}
	}
	slices.SortFunc(out, func(a, b *fileLine) int { return cmp.Compare(a.File, b.File) })
	return out
}

// stateOf changes whenever files of a table do.
func (k *known) stateOf(table string) string {
	var sum rowhash.Sum
	files := k.filesOf(table)
	for _, f := range files {
		sum.AddHash(rowhash.Of([]byte(f.File+f.SHA256)), 0)
	}
	return fmt.Sprintf("%d files, %x", len(files), sum.Hash)
}

// locked gives f what the lists say now, and has them for itself meanwhile. f may keep nothing of them.
func (d *database) locked(ctx context.Context, f func(k *known) error) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	l, err := os.OpenFile(filepath.Join(d.path, lock), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return d.problem(err)
	}
	defer func() { _ = l.Close() }() // and lets go of it
	for {
		err := syscall.Flock(int(l.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			break
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) && !errors.Is(err, syscall.EINTR) {
			return d.problem(err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
	k := &d.known
	if err := d.read(engine.FolderList, &k.own, k.readOwn); err != nil {
		return err
	}
	if err := d.read(manifest, &k.list, k.readFile); err != nil {
		return err
	}
	if !k.cleaned {
		if err := d.clean(); err != nil {
			return err
		}
		k.cleaned = true
	}
	return f(k)
}

func (k *known) readOwn(line []byte) error {
	if line == nil {
		k.tables, k.fences = map[string]*tableLine{}, map[chunk]int64{}
		return nil
	}
	var l ownLine
	if err := json.Unmarshal(line, &l); err != nil {
		return err
	}
	if l.Table != nil {
		k.tables[strings.ToLower(l.Table.Table)] = l.Table
	}
	if l.Fence != nil {
		at := chunk{l.Fence.Crossing, l.Fence.Chunk}
		k.fences[at] = max(k.fences[at], l.Fence.Epoch)
	}
	return nil
}

func (k *known) readFile(line []byte) error {
	if line == nil {
		k.files = map[chunk]*fileLine{}
		return nil
	}
	var l fileLine
	if err := json.Unmarshal(line, &l); err != nil {
		return err
	}
	k.files[chunk{l.Crossing, l.Chunk}] = &l
	return nil
}

// read reads what was added to a list; take is given nil where it is another list than before. What its writer
// did not end, as it died, is cut off.
func (d *database) read(name string, t *tail, take func(line []byte) error) error {
	f, err := os.OpenFile(filepath.Join(d.path, name), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return d.problem(err)
	}
	defer func() { _ = f.Close() }()
	now, err := f.Stat()
	if err != nil {
		return d.problem(err)
	}
	if t.was == nil || !os.SameFile(t.was, now) || now.Size() < t.at {
		t.at = 0
		if err := take(nil); err != nil {
			return err
		}
	}
	t.was = now
	if now.Size() == t.at {
		return nil
	}
	text := make([]byte, now.Size()-t.at)
	if _, err := f.ReadAt(text, t.at); err != nil && !errors.Is(err, io.EOF) {
		return d.problem(err)
	}
	for len(text) > 0 {
		end := bytes.IndexByte(text, '\n')
		if end < 0 {
			return d.problem(f.Truncate(t.at))
		}
		if err := take(text[:end]); err != nil {
			return domain.Conflict("%s in the folder %s cannot be understood behind byte %d (%s): it was written by "+
				"somebody else, or by a later version", name, d.path, t.at, err)
		}
		t.at += int64(end) + 1
		text = text[end+1:]
	}
	return nil
}

// add adds lines to a list, durably, and all of them or, as far as others see, none.
func (d *database) add(name string, lines ...any) error {
	var text []byte
	for _, l := range lines {
		b, err := json.Marshal(l)
		if err != nil {
			return err
		}
		text = append(append(text, b...), '\n')
	}
	f, err := os.OpenFile(filepath.Join(d.path, name), os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return d.problem(err)
	}
	before, err := f.Stat()
	if err == nil {
		_, err = f.Write(text)
	}
	if err == nil {
		err = f.Sync()
	}
	if err != nil && before != nil {
		_ = f.Truncate(before.Size())
	}
	return d.problem(errors.Join(err, f.Close()))
}

// rewrite writes the manifest anew without some files, and removes these.
func (d *database) rewrite(k *known, gone func(f *fileLine) bool) error {
	var stay, go_ []*fileLine
	for _, f := range k.files {
		if gone(f) {
			go_ = append(go_, f)
		} else {
			stay = append(stay, f)
		}
	}
	if len(go_) == 0 {
		return nil
	}
	slices.SortFunc(stay, func(a, b *fileLine) int { return cmp.Compare(a.File, b.File) })
	var text []byte
	for _, f := range stay {
		b, err := json.Marshal(f)
		if err != nil {
			return err
		}
		text = append(append(text, b...), '\n')
	}
	fresh := filepath.Join(d.path, "."+manifest+part)
	f, err := os.OpenFile(fresh, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return d.problem(err)
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(fresh, filepath.Join(d.path, manifest))
	}
	if err == nil {
		err = syncFolder(d.path)
	}
	if err != nil {
		return d.problem(err)
	}
	for _, f := range go_ {
		if err := os.Remove(filepath.Join(d.path, f.File)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return d.problem(err)
		}
	}
	return d.read(manifest, &k.list, k.readFile)
}

// clean removes files that somebody left who died: those that are being written by nobody, and those of them
// that have got their name and are not listed. Other files that are not listed are somebody else's, and stay.
func (d *database) clean() error {
	k := &d.known
	listed := map[string]bool{}
	for _, f := range k.files {
		listed[f.File] = true
	}
	for _, t := range k.tables {
		there, err := os.ReadDir(filepath.Join(d.path, t.Folder))
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return d.problem(err)
		}
		var left []string // the named ones first: it is by the others that they are known
		var dead []os.FileInfo
		for _, f := range there {
			path := filepath.Join(d.path, t.Folder, f.Name())
			if !strings.HasPrefix(f.Name(), ".") || !strings.HasSuffix(f.Name(), part) || !abandoned(path) {
				continue
			}
			if s, err := os.Stat(path); err == nil {
				dead = append(dead, s)
			}
			left = append(left, path)
		}
		for _, f := range there {
			name := filepath.Join(t.Folder, f.Name())
			s, err := os.Stat(filepath.Join(d.path, name))
			if err == nil && !strings.HasPrefix(f.Name(), ".") && !listed[name] &&
				slices.ContainsFunc(dead, func(o os.FileInfo) bool { return os.SameFile(o, s) }) {
				left = slices.Insert(left, 0, filepath.Join(d.path, name))
			}
		}
		for _, path := range left {
			if err := os.Remove(path); err != nil {
				return d.problem(err)
			}
		}
	}
	return nil
}

// abandoned reports whether nobody is writing a file: who does holds a lock of it.
func abandoned(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer func() { _ = f.Close() }()
	return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil
}

func syncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// problem says of an error of the machine what it is about.
func (d *database) problem(err error) error {
	var told *domain.Problem
	var server *engine.ServerError
	if err == nil || errors.As(err, &told) || errors.As(err, &server) {
		return err // it is said already
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, syscall.EROFS) {
		return &engine.ServerError{Class: engine.NoRoom, Text: fmt.Sprintf("the folder %s takes no more: %s; make room there",
			d.path, err)}
	}
	return domain.Unavailable(err, "the folder %s cannot be used: %s", d.path, err)
}
