package load

import (
	"context"
	"errors"
	"time"

	"dustyferry/internal/core/share"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// A small table costs a few trips to either server, and a commit of the target and of the records,
// whatever its rows. So a lane carries many of them at once: each is a chunk of its own, with its
// epoch and its mark, but all are read in one snapshot of the source and land in one transaction
// of the target. Should one of them fail, none has landed: the others go back as if they had not
// been claimed, and the one that failed is carried alone from then on.

// firstSmall is how many small tables a lane carries at once when it does not know yet how long they
// take.
const firstSmall = 8

// together carries a small table's only chunk and those beside it.
func (r *run) together(ctx context.Context, w *lane, c *domain.Crossing, first *domain.Chunk) {
	group := make([]*domain.Chunk, 0, 1+len(first.Others))
	group = append(group, first)
	for i := range first.Others {
		group = append(group, &first.Others[i])
	}
	var failed *domain.Chunk
	err := domain.Guarded("carrying small tables", func() error {
		var m moved
		return w.holding(ctx, c, first, &m, func(ctx context.Context) (err error) {
			failed, err = w.moveAll(ctx, c, group, &m)
			return err
		})
	})
	if err == nil {
		return
	}
	w.close()
	for _, k := range group {
		cause := err
		if failed != nil && k != failed {
			cause = context.Canceled // nothing was wrong with it
		}
		r.Return(ctx, c, k, cause)
	}
}

// moveAll carries chunks of several tables in one snapshot and one transaction. Of an error it says
// which of them it is about; nil: of all.
func (l *lane) moveAll(ctx context.Context, c *domain.Crossing, group []*domain.Chunk,
	m *moved) (failed *domain.Chunk, _ error) {
	if err := l.connect(ctx, c); err != nil {
		return nil, err
	}
	m.on(l)
	tables, err := l.tablesOf(ctx, group)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	snap, err := l.reader.Begin(ctx)
	if err != nil {
		return nil, err
	}
	m.steps.Add(1)
	if err := l.afterStart(ctx, c, snap); err != nil {
		return nil, err
	}
	list := make([]domain.Landing, len(group))
	for i, k := range group {
		list[i] = domain.Landing{ID: k.ID, Epoch: k.Epoch}
	}
	l.setReadSnapshots(ctx, c, list, snap)
	for i, k := range group {
		l.table, l.seen = tables[k.TableID], 0
		cuts := watchTruncations(&l.table.Plan)
		sum, err := l.copy(ctx, c, k, m)
		if err != nil {
			return k, err
		}
		if err := l.keepCuts(ctx, k, cuts.Load()); err != nil {
			return k, err
		}
		list[i].Rows, list[i].Bytes, list[i].Hash = sum.Rows, sum.Bytes, sum.Hash
		last := i == len(group)-1
		if last {
			l.read()
			if err := l.reader.End(ctx); err != nil {
				return nil, err
			}
		}
		mark := engine.Mark{Crossing: c.UID, Chunk: k.ID, Epoch: k.Epoch, Snapshot: snap, Sum: sum}
		if last {
			err = l.writer.Land(ctx, mark)
		} else {
			err = l.writer.Next(ctx, mark)
		}
		if err != nil {
			if last && !errors.Is(err, domain.ErrTakenOver) {
				k = nil // it may be any of those that are committed with it
			}
			return k, err
		}
		m.steps.Add(1)
	}
	l.together = domain.BatchHint{Small: share.NextTables(len(group), time.Since(began))}
	return nil, l.records.LandedTogether(ctx, list, snap)
}

// tablesOf are the tables of chunks, by their numbers.
func (l *lane) tablesOf(ctx context.Context, group []*domain.Chunk) (map[int64]domain.CrossingTable, error) {
	ids := make([]int64, len(group))
	for i, k := range group {
		ids[i] = k.TableID
	}
	list, err := l.records.TablesByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	out := make(map[int64]domain.CrossingTable, len(list))
	for i := range list {
		out[list[i].ID] = list[i]
	}
	if len(out) != len(group) {
		return nil, domain.Conflict("a table is no longer part of the crossing")
	}
	return out, nil
}

// setReadSnapshots does for chunks of several tables what setReadSnapshot does for one.
func (l *lane) setReadSnapshots(ctx context.Context, c *domain.Crossing, list []domain.Landing, snap domain.Snapshot) {
	if c.Kind == domain.KindLoad {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := l.records.SetReadSnapshots(ctx, list, snap); err != nil {
		l.log.Debug("the snapshot of a read could not be noted", "error", err)
	}
}
