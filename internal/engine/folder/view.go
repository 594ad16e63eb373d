package folder

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"time"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// reading are the files of a table as they were at one moment: none of them changes any more.
type reading struct {
	d     *database
	table *tableLine
	files []fileLine
	whole bool // each file must have the very bytes that were written
}

// opened are a table's files now.
func (d *database) opened(ctx context.Context, name string) (*reading, error) {
	out := &reading{d: d}
	err := d.locked(ctx, func(k *known) error {
		t := k.table(name)
		if t == nil {
			return domain.NotFound("the folder %s has no table %s", d.path, name)
		}
		out.table = t
		for _, f := range k.filesOf(name) {
			out.files = append(out.files, *f)
		}
		return nil
	})
	return out, err
}

// each gives the rows, as the named columns of them.
func (r *reading) each(ctx context.Context, cols []domain.Column, visit func(fields [][]byte) error) error {
	var place []int
	for _, c := range cols {
		i := slices.IndexFunc(r.table.Columns, func(t domain.Column) bool { return t.Name == c.Name })
		if i < 0 {
			return domain.Conflict("the table %s in the folder has no column %s", r.table.Table, c.Name)
		}
		place = append(place, i)
	}
	out := make([][]byte, len(cols))
	for _, f := range r.files {
		n := int64(0)
		err := r.file(ctx, f, func(fields [][]byte) error {
			n++
			for i, p := range place {
				out[i] = fields[p]
			}
			return visit(out)
		})
		if err != nil {
			return err
		}
		if n != f.Rows {
			return domain.Conflict("%s in the folder %s has %s, and its list says %d: it is not as it was written; restart "+
				"the table", f.File, r.d.path, domain.Many(n, "row"), f.Rows)
		}
	}
	return nil
}

// file gives the rows of one.
func (r *reading) file(ctx context.Context, f fileLine, visit func(fields [][]byte) error) error {
	form, packed, err := formOf(r.table.Format, r.table.Columns)
	if err != nil {
		return err
	}
	in, err := os.Open(filepath.Join(r.d.path, f.File))
	if err != nil {
		return domain.Conflict("%s, which the list of the folder %s names, cannot be read (%s); restart the table", f.File,
			r.d.path, errors.Unwrap(err))
	}
	defer func() { _ = in.Close() }()
	damaged := func(err error) error {
		return domain.Conflict("%s in the folder %s is not as it was written (%s); restart the table", f.File, r.d.path, err)
	}
	if r.whole {
		sum := sha256.New()
		if _, err := io.Copy(sum, in); err != nil {
			return damaged(err)
		}
		if fmt.Sprintf("%x", sum.Sum(nil)) != f.SHA256 {
			return damaged(errors.New("its bytes are others, by their SHA-256"))
		}
		if _, err := in.Seek(0, io.SeekStart); err != nil {
			return damaged(err)
		}
	}
	rows, end, err := form.rows(in, packed)
	if err != nil {
		return damaged(err)
	}
	defer end()
	for n := 0; ; n++ {
		if n%1000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		fields, err := rows.next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return damaged(err)
		}
		if err := visit(fields); err != nil {
			return err
		}
	}
}

// view is the folder as it was when each of its tables was first looked at.
type view struct {
	engine.TextView
	t *texts
}

// texts are the rows of a view.
type texts struct {
	d    *database
	seen map[string]*reading
}

// OpenView opens a view. Its place is never known: a folder has no log.
func (d *database) OpenView(_ context.Context, exact bool, _ time.Duration) (engine.View, domain.Position, error) {
	if exact {
		return nil, domain.Position{}, domain.Conflict("%s has no log", d.name)
	}
	t := &texts{d: d, seen: map[string]*reading{}}
	return view{engine.TextView{Texts: t}, t}, domain.Position{}, nil
}

func (view) Close() {}

// Unordered: rows lie in the files in which they landed.
func (view) Unordered() {}

// Fetch reads all rows once for those at keys.
func (v view) Fetch(ctx context.Context, p *domain.TablePlan, _ engine.Part, keys []string) (map[string][]domain.Row,
	error) {
	out, want := map[string][]domain.Row{}, map[string]bool{}
	for _, k := range keys {
		want[k] = true
	}
	key := p.KeyIndexes(p.ComparedColumns())
	var buf []byte
	return out, v.t.Range(ctx, p, nil, nil, func(row []byte, fields [][]byte) error {
		if buf = narrow.AppendKey(buf[:0], row, fields, key); want[string(buf)] {
			out[string(buf)] = append(out[string(buf)], engine.TextRow(fields))
		}
		return nil
	})
}

// Count counts the rows that are in the files.
func (v view) Count(ctx context.Context, p *domain.TablePlan) (n int64, err error) {
	return n, v.t.each(ctx, p, nil, func([][]byte) error { n++; return nil })
}

func (t *texts) each(ctx context.Context, p *domain.TablePlan, cols []domain.Column,
	visit func(fields [][]byte) error) error {
	r := t.seen[p.Source.Name]
	if r == nil {
		var err error
		if r, err = t.d.opened(ctx, p.Source.Name); err != nil {
			return err
		}
		t.seen[p.Source.Name] = r
	}
	w := engine.NewFieldWriter("folder", p, cols, true)
	return r.each(ctx, cols, func(fields [][]byte) error {
		out, err := asTarget(w, fields)
		if err != nil {
			out = engine.Unlike(slices.Clone(fields), err, cols)
		}
		return visit(out)
	})
}

// asTarget has a row in the form of the plan's target.
func asTarget(w *engine.FieldWriter, fields [][]byte) ([][]byte, error) {
	return w.Row(func(dst []byte, i int) ([]byte, bool, error) { return append(dst, fields[i]...), fields[i] != nil, nil })
}

// Range reads all rows: files are in no order of a key.
func (t *texts) Range(ctx context.Context, p *domain.TablePlan, lower, upper domain.KeyValue,
	visit func(row []byte, fields [][]byte) error) error {
	if lower != nil || upper != nil {
		return domain.Conflict("rows in files cannot be read by ranges of their key")
	}
	return t.each(ctx, p, p.ComparedColumns(), func(fields [][]byte) error { return visit(engine.Row(fields), fields) })
}

// At is not asked for: a view fetches by itself.
func (t *texts) At(context.Context, *domain.TablePlan, []domain.KeyValue,
	func(row []byte, fields [][]byte) error) error {
	return domain.Conflict("rows in files have no places")
}

// reader reads tables whole; the files that are listed at its beginning.
type reader struct{ d *database }

// OpenReader opens nothing yet.
func (d *database) OpenReader(context.Context) (engine.Reader, error) { return reader{d}, nil }

// Begin has nothing to begin: files do not change.
func (reader) Begin(context.Context) (domain.Snapshot, error) {
	return domain.Snapshot{Log: domain.PositionAt(1)}, nil
}

// End has nothing to end.
func (reader) End(context.Context) error { return nil }

// Close has nothing to close.
func (reader) Close() {}

// Session is none.
func (reader) Session() string { return "" }

// SupportsBinary: rows are read as texts.
func (reader) SupportsBinary(*domain.TablePlan) bool { return false }

// Copy hands on all rows.
func (r reader) Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, _ bool,
	sink func([]byte) error) (rowhash.Sum, error) {
	return engine.CopyRows(func(take func([][]byte, error) error) error { return r.Rows(ctx, p, c, take) }, sink)
}

// Rows hands on all rows one by one.
func (r reader) Rows(ctx context.Context, p *domain.TablePlan, _ *domain.Chunk,
	take func([][]byte, error) error) error {
	cols := p.CopiedColumns()
	return r.d.planned(ctx, p, cols, func(w *engine.FieldWriter, fields [][]byte) error {
		out, refused := asTarget(w, fields)
		if refused != nil {
			out = fields
		}
		return take(out, refused)
	})
}

// planned reads the table of a plan, which must be as it was planned.
func (d *database) planned(ctx context.Context, p *domain.TablePlan, cols []domain.Column,
	visit func(w *engine.FieldWriter, fields [][]byte) error) error {
	r, err := d.opened(ctx, p.Source.Name)
	if err != nil {
		return err
	}
	if err := d.locked(ctx, func(k *known) error {
		if now := k.stateOf(p.Source.Name); p.Table.Written != "" && p.Table.Written != now {
			return &engine.ServerError{Class: engine.OfStatement, Text: "the files of " + p.Source.Name + " are others than " +
				"when they were planned (" + now + "; then " + p.Table.Written + "): restart the table"}
		}
		return nil
	}); err != nil {
		return err
	}
	r.whole = true
	w := engine.NewFieldWriter("folder", p, cols, true)
	return r.each(ctx, cols, func(fields [][]byte) error { return visit(w, fields) })
}

// SurveySource says how the tables are written.
func (d *database) SurveySource(ctx context.Context, plans []domain.TablePlan, _ bool) (out []domain.Entry, _ error) {
	return out, d.locked(ctx, func(k *known) error {
		for i := range plans {
			if t := k.table(plans[i].Source.Name); t != nil {
				out = append(out, domain.Entry{Verdict: domain.OK, Topic: "files", Subject: plans[i].Source.String(),
					Measured: domain.Many(int64(len(k.filesOf(t.Table))), "file") + " written as " + t.Format})
			}
		}
		return nil
	})
}

// Sample returns none: a table is not cut.
func (d *database) Sample(context.Context, *domain.TablePlan, int) ([]domain.KeyValue, error) {
	return nil, nil
}

// Greatest returns nothing: a table is always read whole.
func (d *database) Greatest(context.Context, *domain.TablePlan, string) (string, error) {
	return "", nil
}

// errEnough ends a reading that has seen enough.
var errEnough = errors.New("enough")

// Scan reads rows to look at them.
func (d *database) Scan(ctx context.Context, p *domain.TablePlan, s engine.Scope, visit func([][]byte) error) error {
	r, err := d.opened(ctx, p.Source.Name)
	if err != nil {
		return err
	}
	n := 0
	err = r.each(ctx, p.CopiedColumns(), func(fields [][]byte) error {
		if n++; s.First > 0 && n > s.First {
			return errEnough
		}
		if s.Share > 0 && s.Share < 1 && rand.Float64() >= s.Share {
			return nil
		}
		return visit(fields)
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// Preview returns the first rows.
func (d *database) Preview(ctx context.Context, t *domain.Table, limit int) (out [][]*string, err error) {
	p, err := d.Plan(t)
	if err != nil {
		return nil, err
	}
	return out, d.Scan(ctx, &p, engine.Scope{First: limit}, func(fields [][]byte) error {
		out = append(out, engine.PreviewRow(fields))
		return nil
	})
}
