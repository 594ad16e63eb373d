package load

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"unicode/utf8"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
)

// A chunk whose data the target refuses is carried again carefully: its rows go in
// small batches, each behind a savepoint of the one target transaction, and a batch
// that is refused is halved until the very rows are known. They are named, or, by the
// crossing's choice, set aside while all others land.

// How loading row by row cuts a chunk.
const (
	carefulRows  = 1000
	carefulBytes = 4 << 20
	shownRows    = 5   // of those that cannot land, in a reason
	shownText    = 200 // characters of a value that is kept to be shown
)

// refusedRows says which rows of a chunk cannot land.
type refusedRows struct {
	first []domain.BadRow
	more  bool // there may be more than were looked for
	hint  string
}

func (r *refusedRows) Error() string {
	var out []string
	for _, a := range r.first[:min(len(r.first), shownRows)] {
		out = append(out, a.String())
	}
	what := domain.Many(len(r.first), "row")
	if r.more {
		what = "at least " + what
	}
	return fmt.Sprintf("%s cannot land: %s%s", what, strings.Join(out, "; "), r.hint)
}

// loadRowByRow carries a chunk that was refused. It returns refusedRows when rows cannot
// land and are not to be set aside.
func (l *lane) loadRowByRow(ctx context.Context, c *domain.Crossing, chunk *domain.Chunk, m *moved) error {
	// Somebody may have said meanwhile what becomes of such rows.
	if now, err := l.records.CrossingByID(ctx, c.ID); err == nil {
		c = &now
	}
	l.close()
	m.at.Store(nil)
	if err := l.connect(ctx, c); err != nil {
		return err
	}
	m.on(l)
	plan, dc := &l.table.Plan, *chunk
	there, cuts := plan.TargetPlan(), watchTruncations(plan)
	snap, err := l.reader.Begin(ctx)
	if err != nil {
		return err
	}
	l.setReadSnapshot(ctx, c, chunk, snap)
	if err := l.writer.Careful(ctx, &there, over(plan, &dc)); err != nil {
		return err
	}
	rejected := c.Settings.BadRows == "set aside"
	f := &badRowFinder{ctx: ctx, steps: &m.steps, w: l.writer, plan: plan, cols: plan.CopiedColumns(),
		most: c.Settings.BadRowsLimit}
	if plan.CrossEngine {
		f.cols = plan.ComparedColumns()
	}
	if !rejected {
		f.most = shownRows
	}
	err = l.reader.Rows(ctx, plan, &dc, f.take)
	if err == nil {
		err = f.flush()
	}
	switch {
	case errors.Is(err, errManyBad):
		refused := &refusedRows{first: f.bad, more: true}
		if rejected {
			refused.hint = fmt.Sprintf("; more than bad_rows_limit, %d, of the table would be set aside",
				c.Settings.BadRowsLimit)
		}
		return refused
	case err != nil:
		return err
	case len(f.bad) > 0 && !rejected:
		return &refusedRows{first: f.bad}
	}
	if err := l.keepCuts(ctx, chunk, cuts.Load()); err != nil {
		return err
	}
	if err := l.reader.End(ctx); err != nil {
		return err
	}
	// What is left behind is kept before the rest lands: whoever finds the mark after a
	// crash finds it complete.
	if ok, err := l.records.KeepRejected(ctx, chunk.ID, chunk.Epoch, f.bad, c.Settings.BadRowsLimit); err != nil {
		return err
	} else if !ok {
		return &refusedRows{first: f.bad, hint: fmt.Sprintf("; with those of other chunks more than bad_rows_limit, %d, of "+
			"the table would be set aside", c.Settings.BadRowsLimit)}
	}
	if err := l.writer.Land(ctx, engine.Mark{Crossing: c.UID, Chunk: chunk.ID, Epoch: chunk.Epoch, Snapshot: snap,
		Sum: f.sum}); err != nil {
		return err
	}
	if err := l.records.Landed(ctx, chunk.ID, chunk.Epoch, snap, f.sum); err != nil {
		return err
	}
	if len(f.bad) > 0 {
		l.journal.Recordf(ctx, "warning", journal.System, c.Name, l.table.SourceName, "set aside", "%s of %s, chunk %d, set "+
			"aside, as the target cannot take them (%s); the rest of the chunk landed. 'dustyferry crossing rejected "+
			"%s' lists them",
			domain.Many(len(f.bad), "row"), l.table.SourceName, chunk.Ordinal+1, f.bad[0].String(), c.Name)
	}
	return nil
}

var errManyBad = errors.New("enough rows that cannot land are known")

// badRowFinder puts rows batch by batch and keeps those that are refused.
type badRowFinder struct {
	ctx   context.Context
	steps *atomic.Int64 // grows with every sign of life
	w     engine.Writer
	plan  *domain.TablePlan
	cols  []domain.Column
	most  int
	batch [][]byte
	size  int
	sum   rowhash.Sum
	bad   []domain.BadRow
}

func (f *badRowFinder) take(fields [][]byte, refused error) error {
	if refused != nil {
		return f.keep(fields, refused)
	}
	row := engine.Row(fields)
	f.batch, f.size = append(f.batch, row), f.size+len(row)
	if len(f.batch) < carefulRows && f.size < carefulBytes {
		return nil
	}
	return f.flush()
}

func (f *badRowFinder) flush() error {
	err := f.put(f.batch)
	f.batch, f.size = f.batch[:0], 0
	return err
}

// put writes rows, halving them where they are refused.
func (f *badRowFinder) put(rows [][]byte) error {
	if len(rows) == 0 {
		return nil
	}
	f.steps.Add(1)
	err := f.w.InsertRows(f.ctx, rows)
	f.steps.Add(1)
	switch {
	case err == nil:
		for _, r := range rows {
			f.sum.Add(r)
		}
		return nil
	case !engine.RowsRefused(err):
		return err
	case len(rows) == 1:
		fields, broken := engine.Fields(rows[0])
		if broken != nil {
			return broken
		}
		return f.keep(fields, err)
	}
	if err := f.put(rows[:len(rows)/2]); err != nil {
		return err
	}
	return f.put(rows[len(rows)/2:])
}

// keep notes a row that cannot land, with as much of it as is to be shown.
func (f *badRowFinder) keep(fields [][]byte, why error) error {
	a := domain.BadRow{Error: saidOf(why), Row: map[string]*string{}}
	text := func(i int) *string {
		switch {
		case i >= len(fields) || fields[i] == nil:
			return nil
		case f.cols[i].Mask != "":
			masked := "masked"
			return &masked
		}
		s := strings.ToValidUTF8(strings.ReplaceAll(string(fields[i]), "\x00", "\ufffd"), "\ufffd")
		if utf8.RuneCountInString(s) > shownText {
			s = string([]rune(s)[:shownText]) + "…"
		}
		return &s
	}
	for i, c := range f.cols {
		a.Row[c.Name] = text(i)
	}
	for _, i := range f.plan.KeyIndexes(f.cols) {
		v := ""
		if s := text(i); s != nil {
			v = *s
		}
		a.Key = append(a.Key, v)
	}
	a.Column = columnIn(a.Error, f.plan)
	f.bad = append(f.bad, a)
	if len(f.bad) > f.most {
		return errManyBad
	}
	return nil
}

// saidOf is what the server said of one row, without where that was.
func saidOf(err error) string {
	text := err.Error()
	if _, after, ok := strings.Cut(text, " said: "); ok {
		text = after
	}
	text, _, _ = strings.Cut(text, "; nothing of the chunk was kept")
	text, _, _ = strings.Cut(text, ", Failing row contains")
	return text
}

// columnIn finds the column that an error names, by its name on either side.
func columnIn(text string, p *domain.TablePlan) string {
	there := p.TargetColumns()
	for i, c := range p.CopiedColumns() {
		for _, name := range []string{c.Name, there[i].Name} {
			for _, form := range []string{"column %s:", "column \"%s\"", "column '%s'", "column `%s`", ".`%s`", "column %s "} {
				if strings.Contains(text+" ", fmt.Sprintf(form, name)) {
					return c.Name
				}
			}
		}
	}
	return ""
}
