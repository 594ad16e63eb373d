package prepare

import (
	"context"
	"fmt"
	"slices"

	"dustyferry/internal/core/chunkplan"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// Cut plans a table's chunks and keeps them.
func (pr *Preparer) Cut(ctx context.Context, c *domain.Crossing, t *domain.CrossingTable) (int, error) {
	cut, err := pr.cut(ctx, c, t)
	if err != nil {
		return 0, err
	}
	return len(cut.Chunks), pr.records.SaveChunks(ctx, cut)
}

// cut plans a table's chunks. One that is loaded in place is cut only where a range of keys
// is the same on both sides, and where no other unique value can move from one to another.
func (pr *Preparer) cut(ctx context.Context, c *domain.Crossing, t *domain.CrossingTable) (domain.CutTable, error) {
	none := domain.CutTable{}
	p := &t.Plan
	n := 1
	if p.Splittable() && (!p.ReplaceRange || keyorder.Alike(p) && !follow.Replaces(p)) {
		n = chunkplan.Count(p.Table.Bytes, planning.ChunkAim(c.Settings))
	}
	var bounds []domain.KeyValue
	if n > 1 && p.ReadByDisk() {
		src, err := pr.databases.Open(ctx, c.Source)
		if err != nil {
			return none, err
		}
		orders, err := src.DiskOrders(ctx, []*domain.TablePlan{p})
		if err != nil {
			return none, fmt.Errorf("asking how %s lies on the disk: %w", p.Source, err)
		}
		o, able := orders[p.Source]
		if !able {
			return none, domain.Conflict("%s can no longer be read in the order of the disk; set read_order to key and "+
				"start again", p.Source)
		}
		return domain.CutTable{Table: t, Chunks: chunkplan.Pages(o, n)}, nil
	}
	if n > 1 {
		src, err := pr.databases.Open(ctx, c.Source)
		if err != nil {
			return none, err
		}
		sample, err := src.Sample(ctx, p, min(n*200, 100_000))
		if err != nil {
			return none, fmt.Errorf("finding chunk bounds of %s: %w", p.Source, err)
		}
		bounds = chunkplan.Bounds(sample, n)
	}
	if p.Watermark != "" {
		// Noted before the first row is read: what is written while they are is past it.
		src, err := pr.databases.Open(ctx, c.Source)
		if err != nil {
			return none, err
		}
		mark, err := src.Greatest(ctx, p, p.Watermark)
		if err == nil {
			err = pr.records.SetWatermark(ctx, t.ID, mark)
		}
		if err != nil {
			return none, fmt.Errorf("reading the watermark of %s: %w", p.Source, err)
		}
	}
	return domain.CutTable{Table: t, Chunks: chunkplan.Chunks(bounds)}, nil
}

// InTheWay is what has to go for a load in place: foreign keys, where they would act.
func InTheWay(ctx context.Context, dst *engine.Opened, deferred []engine.Object) []engine.Object {
	quiet := dst.AppliesQuietly(ctx)
	return slices.DeleteFunc(deferred, func(o engine.Object) bool { return quiet || o.Kind != "foreign" })
}
