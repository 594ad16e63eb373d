package load

import (
	"context"
	"strings"
	"sync/atomic"

	"dustyferry/internal/domain"
)

// Values that are cut to the length that a rule allows (core/typemap) leave a record:
// of a load by their rows, of the changes that follow by their number, in the journal.

// shownCuts is how many rows of a chunk are kept one by one.
const shownCuts = 20

// watchTruncations counts from now on how many values of a plan are cut.
func watchTruncations(p *domain.TablePlan) *atomic.Int64 {
	n := new(atomic.Int64)
	p.Runtime = p.Runtime.WithTruncated(func() { n.Add(1) })
	return n
}

// keepCuts keeps which rows of a chunk land with a value cut, before they do: it reads
// the chunk once more, in the snapshot that is open, as if such values were refused.
func (l *lane) keepCuts(ctx context.Context, chunk *domain.Chunk, cut int64) error {
	if cut == 0 {
		return nil
	}
	strict, dc := l.table.Plan, *chunk
	strict.Columns = append([]domain.Column{}, strict.Columns...)
	for i := range strict.Columns {
		strict.Columns[i].Cut = false
	}
	f := &badRowFinder{plan: &strict, cols: strict.CopiedColumns(), most: shownCuts + 1}
	if strict.CrossEngine {
		f.cols = strict.ComparedColumns()
	}
	rows := int64(0)
	err := l.reader.Rows(ctx, &strict, &dc, func(fields [][]byte, refused error) error {
		if refused == nil {
			return nil
		}
		if rows++; rows <= shownCuts {
			return f.keep(fields, refused)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for i := range f.bad {
		f.bad[i].Error = "cut: " + strings.TrimPrefix(f.bad[i].Error, "column "+f.bad[i].Column+": ")
	}
	if more := rows - shownCuts; more > 0 {
		f.bad = append(f.bad, domain.BadRow{Row: map[string]*string{},
			Error: "cut: values of " + domain.Many(more, "more row") + " of this chunk"})
	}
	if ok, err := l.records.KeepCut(ctx, chunk.ID, chunk.Epoch, f.bad); err != nil {
		return err
	} else if !ok {
		return domain.ErrTakenOver
	}
	return nil
}
