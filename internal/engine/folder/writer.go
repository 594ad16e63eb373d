package folder

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"syscall"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
)

// filePrefix is how files of rows begin.
const filePrefix = "chunk-"

// writer lands chunks, each as a file.
type writer struct {
	d     *database
	open  *file
	whole []*file // that wait for Land, with their lines
}

// file is one that is being written.
type file struct {
	table  *tableLine
	to     encoder
	f      *os.File // has the lock that says so
	sum    hash.Hash
	size   int64
	packer io.WriteCloser // nil: nothing is packed
	fields [][]byte
	line   fileLine
}

// Write counts and hashes what goes to the disk.
func (w *file) Write(b []byte) (int, error) {
	n, err := w.f.Write(b)
	w.sum.Write(b[:n])
	w.size += int64(n)
	return n, err
}

// OpenWriter opens nothing yet.
func (d *database) OpenWriter(context.Context, string) (engine.Writer, error) {
	return &writer{d: d}, nil
}

// Session is none.
func (w *writer) Session() string { return "" }

// SupportsBinary: rows come as texts.
func (w *writer) SupportsBinary(context.Context, *domain.TablePlan) (bool, error) { return false, nil }

// Begin begins a file.
func (w *writer) Begin(ctx context.Context, p *domain.TablePlan, _ bool, over *domain.Chunk) error {
	return w.Careful(ctx, p, over)
}

// Careful begins a file.
func (w *writer) Careful(ctx context.Context, p *domain.TablePlan, over *domain.Chunk) error {
	if over != nil {
		return domain.Conflict("rows of files cannot take the place of others; let a load that is done again empty its " +
			"tables first (setting repeat)")
	}
	w.drop()
	return w.d.locked(ctx, func(k *known) error {
		t := k.table(p.Target.Name)
		if t == nil {
			return domain.Conflict("the folder %s has no table %s; restart the table", w.d.path, p.Target.Name)
		}
		if diff := differs(t, p, ""); diff != "" {
			return domain.Conflict("the table %s in the folder is unlike what the plan needs: %s; restart the table",
				p.Target.Name, diff)
		}
		form, packed, err := formOf(t.Format, t.Columns)
		if err != nil {
			return err
		}
		f, err := os.CreateTemp(filepath.Join(w.d.path, t.Folder), ".*"+part)
		if err != nil {
			return w.d.problem(err)
		}
		if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
			return w.d.problem(errors.Join(err, f.Close()))
		}
		w.open = &file{table: t, f: f, sum: sha256.New()}
		out := io.Writer(w.open)
		switch packed {
		case "gzip":
			w.open.packer = gzip.NewWriter(w.open)
			out = w.open.packer
		case "zstd":
			if w.open.packer, err = zstd.NewWriter(w.open, zstd.WithEncoderConcurrency(1)); err != nil {
				return err
			}
			out = w.open.packer
		}
		w.open.to = form.encoder(out)
		return nil
	})
}

// blockSize is how much is written at a time.
const blockSize = 64 << 10

// rows appends whole rows.
func (w *file) rows(data []byte) (err error) {
	for len(data) > 0 {
		if w.fields, data, err = pgcopy.Next(w.fields[:0], data); err != nil {
			return err
		}
		if len(w.fields) != len(w.table.Columns) {
			return fmt.Errorf("a row of %d values came for %d columns of %s", len(w.fields), len(w.table.Columns), w.table.Table)
		}
		if err = w.to.add(w.fields); err != nil {
			return err
		}
	}
	return nil
}

// Write writes whole rows.
func (w *writer) Write(_ context.Context, data []byte) error {
	if err := w.open.rows(data); err != nil || !w.open.to.full() {
		return err
	}
	return w.d.problem(w.open.to.flush())
}

// InsertRows writes rows, all or none.
func (w *writer) InsertRows(_ context.Context, rows [][]byte) error {
	before := w.open.to.waiting()
	for _, row := range rows {
		if err := w.open.rows(row); err != nil {
			w.open.to.cut(before)
			return err
		}
	}
	if !w.open.to.full() {
		return nil
	}
	return w.d.problem(w.open.to.flush())
}

// end has all of the file on the disk.
func (w *file) end(m engine.Mark) error {
	err := w.to.close()
	if w.packer != nil {
		err = errors.Join(err, w.packer.Close())
	}
	if err = errors.Join(err, w.f.Sync()); err != nil {
		return err
	}
	w.line = fileLine{File: filepath.Join(w.table.Folder, fmt.Sprintf("%s%09d.%s", filePrefix, m.Chunk, w.table.Format)),
		Table: w.table.Table, Rows: m.Sum.Rows, Bytes: w.size, SHA256: fmt.Sprintf("%x", w.sum.Sum(nil)),
		Crossing: m.Crossing, Chunk: m.Chunk, Epoch: m.Epoch, RowBytes: m.Sum.Bytes,
		RowHash: fmt.Sprintf("%016x", m.Sum.Hash), Snapshot: m.Snapshot.JSON()}
	return nil
}

// end ends the file that is open; it waits for Land.
func (w *writer) end(m engine.Mark) error {
	if err := w.open.end(m); err != nil {
		w.Abort()
		return w.d.problem(err)
	}
	w.whole = append(w.whole, w.open)
	w.open = nil
	return nil
}

// Next keeps the file until Land.
func (w *writer) Next(ctx context.Context, m engine.Mark) error {
	if err := w.end(m); err != nil {
		return err
	}
	err := w.d.locked(ctx, func(k *known) error { return free(k, m) })
	if err != nil {
		w.Abort()
	}
	return err
}

// free reports whether a chunk may land.
func free(k *known, m engine.Mark) error {
	at := chunk{m.Crossing, m.Chunk}
	if k.files[at] != nil || k.fences[at] > m.Epoch {
		return domain.ErrTakenOver
	}
	return nil
}

// Land gives the files their names, and lists them: from then on they count.
func (w *writer) Land(ctx context.Context, m engine.Mark) error {
	if err := w.end(m); err != nil {
		return err
	}
	defer w.Abort() // removes the names under which they were written
	return w.d.locked(ctx, func(k *known) error {
		var lines []any
		folders := map[string]bool{}
		for _, f := range w.whole {
			if err := free(k, engine.Mark{Crossing: f.line.Crossing, Chunk: f.line.Chunk, Epoch: f.line.Epoch}); err != nil {
				return err
			}
			if now := k.table(f.table.Table); now == nil || now.Format != f.table.Format || now.Folder != f.table.Folder {
				return domain.ErrTakenOver // it was made anew meanwhile
			}
			lines = append(lines, f.line)
			folders[f.table.Folder] = true
		}
		var err error
		var named []string
		for _, f := range w.whole {
			to := filepath.Join(w.d.path, f.line.File)
			err = name(f.f.Name(), to)
			if errors.Is(err, os.ErrExist) { // who wrote it may have died before it was listed
				if err = w.d.clean(); err == nil {
					err = name(f.f.Name(), to)
				}
			}
			if errors.Is(err, os.ErrExist) {
				err = domain.Conflict("%s is there already, and is none of the files that count; move it away", to)
			}
			if err != nil {
				break
			}
			named = append(named, to)
		}
		for name := range folders {
			if err == nil {
				err = syncFolder(filepath.Join(w.d.path, name))
			}
		}
		if err == nil {
			err = w.d.add(manifest, lines...)
		}
		if err != nil { // what got its name is not listed, and goes
			for _, path := range named {
				_ = os.Remove(path)
			}
			return w.d.problem(err)
		}
		return nil
	})
}

// name gives a file its name beside the one that it has: as long as it has both, nobody takes it for a file
// that counts, see [database.clean]. Where a file can have one name only, it gets another.
func name(from, to string) error {
	err := os.Link(from, to)
	if err == nil || errors.Is(err, os.ErrExist) {
		return err
	}
	return os.Rename(from, to)
}

// drop gives up the file that is being written.
func (w *writer) drop() {
	if w.open != nil {
		w.open.remove()
		w.open = nil
	}
}

func (w *file) remove() {
	if z, ok := w.packer.(*zstd.Encoder); ok {
		_ = z.Close()
	}
	_ = os.Remove(w.f.Name())
	_ = w.f.Close()
}

// Abort drops everything since Begin.
func (w *writer) Abort() {
	w.drop()
	for _, f := range w.whole {
		f.remove()
	}
	w.whole = nil
}

// Close drops what has not landed.
func (w *writer) Close() { w.Abort() }
