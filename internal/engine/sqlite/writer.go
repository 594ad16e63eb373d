package sqlite

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
)

// lander lands chunks: the file's one writer from Begin to Land.
type lander struct {
	d      *database
	c      *conn // nil: no transaction is open
	end    func()
	plan   *domain.TablePlan
	cols   []domain.Column
	kinds  []string
	insert driver.Stmt
	values []driver.NamedValue
	fields [][]byte
}

// OpenWriter opens nothing yet: the file's turn is taken with the transaction.
func (d *database) OpenWriter(context.Context, string) (engine.Writer, error) {
	return &lander{d: d}, nil
}

func (w *lander) Session() string { return "" }

// SupportsBinary: rows come as texts.
func (w *lander) SupportsBinary(context.Context, *domain.TablePlan) (bool, error) { return false, nil }

// Begin opens the transaction, or goes on in it.
func (w *lander) Begin(ctx context.Context, p *domain.TablePlan, _ bool, over *domain.Chunk) error {
	return w.Careful(ctx, p, over)
}

// Careful opens the transaction, or goes on in it.
func (w *lander) Careful(ctx context.Context, p *domain.TablePlan, over *domain.Chunk) error {
	if w.c == nil {
		c, end, err := w.d.writing(ctx)
		if err != nil {
			return err
		}
		if err := c.exec(ctx, "BEGIN IMMEDIATE"); err != nil {
			end()
			return w.d.explain(err)
		}
		w.c, w.end = c, end
	}
	w.done()
	w.plan, w.cols, w.kinds = p, nil, nil
	var names, places []string
	for _, c := range p.Columns {
		if c.Generated {
			continue
		}
		w.cols, w.kinds = append(w.cols, c), append(w.kinds, kindOf(c))
		names, places = append(names, quote(c.Name)), append(places, "?")
	}
	w.values = make([]driver.NamedValue, len(w.cols))
	for i := range w.values {
		w.values[i].Ordinal = i + 1
	}
	var err error
	if w.insert, err = w.c.c.Prepare(fmt.Sprintf("INSERT OR ABORT INTO %s (%s) VALUES (%s)", quote(p.Target.Name),
		strings.Join(names, ", "), strings.Join(places, ", "))); err != nil {
		return w.d.explain(err)
	}
	if over == nil {
		return nil
	}
	all := *p
	all.Where, all.Source = "", p.Target
	where, args := between(&all, over.Lower, over.Upper)
	return w.d.explain(w.c.exec(ctx, "DELETE FROM "+quote(p.Target.Name)+where, args...))
}

// Write inserts whole rows.
func (w *lander) Write(ctx context.Context, data []byte) (err error) {
	for len(data) > 0 {
		if w.fields, data, err = pgcopy.Next(w.fields[:0], data); err != nil {
			return err
		}
		if len(w.fields) != len(w.cols) {
			return fmt.Errorf("a row of %d values came for %d columns of %s", len(w.fields), len(w.cols), w.plan.Target)
		}
		for i, f := range w.fields {
			if w.values[i].Value, err = stored(w.cols[i], w.kinds[i], f); err != nil {
				return err
			}
		}
		r, err := w.insert.(driver.StmtExecContext).ExecContext(ctx, w.values)
		if err != nil {
			return w.d.explain(err)
		}
		if n, err := r.RowsAffected(); err != nil || n != 1 {
			return fmt.Errorf("a row was written to %s, and %d are there of it (%w)", w.plan.Target.Name, n,
				errors.Join(err, errors.New("something in the file drops or doubles rows")))
		}
	}
	return nil
}

// InsertRows inserts rows, all or none.
func (w *lander) InsertRows(ctx context.Context, rows [][]byte) error {
	if err := w.c.exec(ctx, "SAVEPOINT rows_put"); err != nil {
		return w.d.explain(err)
	}
	for _, row := range rows {
		if err := w.Write(ctx, row); err != nil {
			if lost := w.c.exec(ctx, "ROLLBACK TO rows_put"); lost != nil {
				return w.d.explain(lost)
			}
			return err
		}
	}
	return w.d.explain(w.c.exec(ctx, "RELEASE rows_put"))
}

// mark notes the chunk in the open transaction.
func (w *lander) mark(ctx context.Context, m engine.Mark) error {
	if err := w.c.exec(ctx, "INSERT INTO "+ours+
		" (crossing, chunk, epoch, landed) VALUES (?, ?, ?, 0) ON CONFLICT DO NOTHING",
		m.Crossing, m.Chunk, m.Epoch); err != nil {
		return w.d.explain(err)
	}
	n, err := w.c.changes(ctx, "UPDATE "+ours+
		" SET epoch = ?, landed = 1, snapshot = ?, rows = ?, bytes = ?, hash = ?, at = "+
		"CURRENT_TIMESTAMP WHERE crossing = ? AND chunk = ? AND NOT landed AND epoch <= ?", m.Epoch, m.Snapshot.JSON(),
		m.Sum.Rows, m.Sum.Bytes, int64(m.Sum.Hash), m.Crossing, m.Chunk, m.Epoch)
	if err == nil && n == 0 {
		return domain.ErrTakenOver
	}
	return w.d.explain(err)
}

// Next keeps the chunk in the transaction, which stays open.
func (w *lander) Next(ctx context.Context, m engine.Mark) error {
	err := w.mark(ctx, m)
	if err != nil {
		w.Abort()
	}
	return err
}

// Land commits the rows and their marks together.
func (w *lander) Land(ctx context.Context, m engine.Mark) error {
	err := w.mark(ctx, m)
	if err == nil {
		w.done()
		err = w.d.explain(w.c.exec(ctx, "COMMIT"))
	}
	if err != nil {
		w.Abort()
		return err
	}
	w.release()
	return nil
}

func (w *lander) done() {
	if w.insert != nil {
		_ = w.insert.Close()
		w.insert = nil
	}
}

func (w *lander) release() {
	w.end()
	w.c, w.end = nil, nil
}

// Abort drops everything since Begin.
func (w *lander) Abort() {
	if w.c == nil {
		return
	}
	w.done()
	_ = w.c.exec(context.Background(), "ROLLBACK")
	w.release()
}

// Close gives the file's turn back.
func (w *lander) Close() { w.Abort() }
