package csvfile

import (
	"context"
	"math/rand/v2"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/textrows"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// lines writes records of a plan in the neutral form and, where it has a target, in its form.
type lines struct {
	cols   []domain.Column
	place  []int             // of each column in a record
	conv   []typemap.Convert // nil: the neutral form
	fields [][]byte
	values []byte
	mid    []byte
	ends   []int // of each field in values
	null   []bool
}

func newLines(p *domain.TablePlan, d textrows.Dialect, cols []domain.Column, convert bool) (*lines, error) {
	l := &lines{cols: cols, fields: make([][]byte, len(cols)), ends: make([]int, len(cols)),
		null: make([]bool, len(cols))}
	at := map[string]int{}
	for i, name := range d.Columns {
		at[name] = i
	}
	there := p.TargetColumns()
	for i, c := range cols {
		place, ok := at[c.Name]
		if !ok {
			return nil, domain.Conflict("the file has no column %s any more", c.Name)
		}
		l.place = append(l.place, place)
		if convert && p.TargetSide != nil {
			l.conv = append(l.conv, typemap.Compile("csv", p.TargetSide.Engine, c, there[i], p.Runtime))
		}
	}
	return l, nil
}

// unfit is of a value that is not of its column's type.
type unfit struct {
	column string
	err    error
}

func (u *unfit) Error() string { return "column " + u.column + ": " + u.err.Error() }

// of returns a record's fields, which are good until the next. Where one cannot be written, they are its
// texts.
func (l *lines) of(values []string, refused error) ([][]byte, error) {
	ends, null := l.ends, l.null
	l.values = l.values[:0]
	for i, c := range l.cols {
		if refused != nil {
			break
		}
		var ok bool
		var err error
		if l.conv == nil {
			l.values, ok, err = textrows.Write(l.values, c.BaseType, values[l.place[i]])
		} else if l.mid, ok, err = textrows.Write(l.mid[:0], c.BaseType, values[l.place[i]]); err == nil && ok {
			l.values, ok, err = l.conv[i](l.values, l.mid)
		}
		if err != nil {
			refused = &unfit{c.Name, err}
		}
		ends[i], null[i] = len(l.values), !ok
	}
	if refused != nil {
		out := make([][]byte, len(l.cols))
		for i, place := range l.place {
			if place < len(values) {
				out[i] = []byte(values[place])
			}
		}
		return out, domain.Conflict("%s", refused)
	}
	from := 0
	for i, to := range ends {
		l.fields[i] = l.values[from:to:to]
		if null[i] {
			l.fields[i] = nil
		}
		from = to
	}
	return l.fields, nil
}

// each reads all rows of a plan. The file must be the planned one before and after.
func (d *database) each(ctx context.Context, p *domain.TablePlan, cols []domain.Column, convert bool,
	visit func(fields [][]byte, refused error) error) error {
	if err := d.unchanged(p); err != nil {
		return err
	}
	dialect, err := d.dialect()
	if err != nil {
		return err
	}
	l, err := newLines(p, dialect, cols, convert)
	if err != nil {
		return err
	}
	if err := d.records(ctx, dialect, func(values []string, refused error) error {
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
			column := cols[0].Name // of a record that cannot be taken apart
			for _, c := range cols {
				if u := "column " + c.Name + ": "; len(refused.Error()) > len(u) && refused.Error()[:len(u)] == u {
					column = c.Name
				}
			}
			s.Refused(fields, column, refused.Error())
			return nil
		}
		return visit(fields)
	})
	if err == errEnough {
		return nil
	}
	return err
}

// previewLimit is how many characters of a value are shown.
const previewLimit = 200

// Preview returns the first rows.
func (d *database) Preview(ctx context.Context, t *domain.Table, limit int) (out [][]*string, err error) {
	p, err := d.Plan(t)
	if err != nil {
		return nil, err
	}
	p.Table.Written = ""
	err = d.Scan(ctx, &p, engine.Scope{First: limit}, func(fields [][]byte) error {
		row := make([]*string, len(fields))
		for i, f := range fields {
			if f != nil {
				s := []rune(string(f))
				text := string(s[:min(len(s), previewLimit)])
				row[i] = &text
			}
		}
		out = append(out, row)
		return nil
	})
	return out, err
}

// view is the file as it is planned.
type view struct{ d *database }

// OpenView opens a view. Its place is never known: a file has no log.
func (d *database) OpenView(_ context.Context, exact bool, _ time.Duration) (engine.View, domain.Position, error) {
	if exact {
		return nil, domain.Position{}, domain.Conflict("%s has no log", d.name)
	}
	return view{d}, domain.Position{}, nil
}

func (view) Close() {}

// Count returns the number of records.
func (v view) Count(ctx context.Context, p *domain.TablePlan) (n int64, err error) {
	err = v.d.each(ctx, p, p.CopiedColumns(), false, func([][]byte, error) error { n++; return nil })
	return n, err
}

// Range reads rows as the target's texts.
func (v view) Range(ctx context.Context, p *domain.TablePlan, _, _ domain.KeyValue,
	visit func(row []byte, fields [][]byte) error) error {
	return v.d.each(ctx, p, p.ComparedColumns(), true, func(fields [][]byte, refused error) error {
		if refused != nil { // like none that the other side can have
			fields[0] = append(fields[0], " (not as planned)"...)
		}
		return visit(engine.Row(fields), fields)
	})
}

// At is for tables with a key, of which there are none.
func (v view) At(context.Context, *domain.TablePlan, []domain.KeyValue, func(row []byte, fields [][]byte) error) error {
	return domain.Conflict("a file of rows has no key")
}

// Sums returns one sum for each part.
func (v view) Sums(ctx context.Context, p *domain.TablePlan, part engine.Part,
	progress func(int64)) ([]rowhash.Sum, error) {
	return engine.SumsOf(ctx, v, p, part, progress)
}

// Rows gives key and hash of every row in the wanted parts.
func (v view) Rows(ctx context.Context, p *domain.TablePlan, part engine.Part, want []int,
	visit func([]byte, uint64)) error {
	return engine.RowsOf(ctx, v, p, part, want, visit)
}

// Fetch returns the rows that have certain hashes.
func (v view) Fetch(ctx context.Context, p *domain.TablePlan, _ engine.Part,
	keys []string) (map[string][]domain.Row, error) {
	return engine.FetchOf(ctx, v, p, keys)
}
