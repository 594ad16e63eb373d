package rowfile

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/textrows"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// lines writes records of a plan as fields.
type lines struct {
	*engine.FieldWriter
	cols  []domain.Column
	place []int // of each column in a record
}

func newLines(engineName string, p *domain.TablePlan, as layout, cols []domain.Column, convert bool) (*lines, error) {
	l := &lines{FieldWriter: engine.NewFieldWriter(engineName, p, cols, convert), cols: cols}
	for _, c := range cols {
		place := slices.Index(as.columns(), c.Name)
		if place < 0 {
			return nil, domain.Conflict("the file has no column %s any more", c.Name)
		}
		l.place = append(l.place, place)
	}
	return l, nil
}

// of returns a record's fields, which are good until the next. Where one cannot be written, they are its
// texts.
func (l *lines) of(values []textrows.Value, refused error) ([][]byte, error) {
	if refused == nil {
		fields, err := l.Row(func(dst []byte, i int) ([]byte, bool, error) {
			c, v := l.cols[i], values[l.place[i]]
			out, ok, err := textrows.Write(dst, c.BaseType, v)
			if err != nil {
				err = &engine.Unfit{Column: c.Name, Why: err.Error()}
			}
			return out, ok, err
		})
		if err == nil {
			return fields, nil
		}
		refused = err
	}
	out := make([][]byte, len(l.cols))
	for i, place := range l.place {
		if place < len(values) {
			out[i] = []byte(values[place].Text)
		}
	}
	return out, refused
}

// each reads all rows of a plan. The file must be the planned one before and after.
func (d *database) each(ctx context.Context, p *domain.TablePlan, cols []domain.Column, convert bool,
	visit func(fields [][]byte, refused error) error) error {
	if err := d.unchanged(p); err != nil {
		return err
	}
	var as layout
	if d.form.as != nil {
		as = d.form.as(p)
	}
	var l *lines
	if err := d.records(ctx, p.Source.Name, as, func(as layout, values []textrows.Value, refused error) (err error) {
		if l == nil {
			if l, err = newLines(d.form.name, p, as, cols, convert); err != nil {
				return err
			}
		}
		return visit(l.of(values, refused))
	}); err != nil {
		return err
	}
	return d.unchanged(p)
}

// reader reads the file, which has no snapshots: it must stay as it is.
type reader struct{ d *database }

// OpenReader opens nothing yet.
func (d *database) OpenReader(context.Context) (engine.Reader, error) { return reader{d}, nil }

func (reader) Begin(context.Context) (domain.Snapshot, error) {
	return domain.Snapshot{Log: domain.PositionAt(1)}, nil
}
func (reader) End(context.Context) error             { return nil }
func (reader) Close()                                {}
func (reader) Session() string                       { return "" }
func (reader) SupportsBinary(*domain.TablePlan) bool { return false }

// Copy hands on all rows.
func (r reader) Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, _ bool,
	sink func([]byte) error) (rowhash.Sum, error) {
	return engine.CopyRows(func(take func([][]byte, error) error) error { return r.Rows(ctx, p, c, take) }, sink)
}

// Rows hands on all rows one by one.
func (r reader) Rows(ctx context.Context, p *domain.TablePlan, _ *domain.Chunk,
	take func([][]byte, error) error) error {
	return r.d.each(ctx, p, p.CopiedColumns(), true, take)
}

// Sample returns none: the table is not cut.
func (d *database) Sample(context.Context, *domain.TablePlan, int) ([]domain.KeyValue, error) {
	return nil, nil
}

// Greatest returns nothing: the file is always read whole.
func (d *database) Greatest(context.Context, *domain.TablePlan, string) (string, error) {
	return "", nil
}

// Scan reads rows to look at them.
func (d *database) Scan(ctx context.Context, p *domain.TablePlan, s engine.Scope, visit func([][]byte) error) error {
	n := 0
	cols := p.CopiedColumns()
	err := d.each(ctx, p, cols, false, func(fields [][]byte, refused error) error {
		if n++; s.First > 0 && n > s.First {
			return errEnough
		}
		if s.Share > 0 && s.Share < 1 && rand.Float64() >= s.Share {
			return nil
		}
		if refused != nil && s.Refused != nil {
			s.Refused(fields, cols[engine.ColumnOf(refused, cols)].Name, refused.Error())
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
	p.Table.Written = ""
	err = d.Scan(ctx, &p, engine.Scope{First: limit}, func(fields [][]byte) error {
		out = append(out, engine.PreviewRow(fields))
		return nil
	})
	return out, err
}

// view is the file as it is planned.
type view struct {
	engine.TextView
	d *database
}

// OpenView opens a view. Its place is never known: a file has no log.
func (d *database) OpenView(_ context.Context, exact bool, _ time.Duration) (engine.View, domain.Position, error) {
	if exact {
		return nil, domain.Position{}, domain.Conflict("%s has no log", d.name)
	}
	return view{engine.TextView{Texts: bag{d}}, d}, domain.Position{}, nil
}

func (view) Close() {}

// Count returns the number of records.
func (v view) Count(ctx context.Context, p *domain.TablePlan) (n int64, err error) {
	err = v.d.each(ctx, p, p.CopiedColumns(), false, func([][]byte, error) error { n++; return nil })
	return n, err
}

// bag are the file's rows, in the order in which they stand.
type bag struct{ d *database }

// Range reads all rows as the target's texts.
func (b bag) Range(ctx context.Context, p *domain.TablePlan, _, _ domain.KeyValue,
	visit func(row []byte, fields [][]byte) error) error {
	cols := p.ComparedColumns()
	return b.d.each(ctx, p, cols, true, func(fields [][]byte, refused error) error {
		fields = engine.Unlike(fields, refused, cols)
		return visit(engine.Row(fields), fields)
	})
}

// At is for tables with a key, of which there are none.
func (bag) At(context.Context, *domain.TablePlan, []domain.KeyValue, func(row []byte, fields [][]byte) error) error {
	return domain.Conflict("a file of rows has no key")
}
